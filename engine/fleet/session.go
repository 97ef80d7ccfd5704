package fleet

import (
	"context"
	"fmt"
	"strings"

	"nimblepane/agent"
	"nimblepane/core/problem"
	"nimblepane/store"
)

// Tell shows a text to sessions: one of a host, all of a host, or all of a pool.
func (fl *Fleet) Tell(ctx context.Context, actor string, f store.SessionFilter, key, text string) (int, error) {
	if strings.TrimSpace(text) == "" {
		return 0, problem.InvalidRequest.Errorf("the message is empty: give a text")
	}
	return fl.order(ctx, actor, f, key, store.Order{Kind: agent.ShowText, Text: text}, "session.tell", text)
}

// SignOffSession ends one session. It is a person's act, at their word; rollovers warn first.
func (fl *Fleet) SignOffSession(ctx context.Context, actor, host, key, reason string) error {
	_, err := fl.order(ctx, actor, store.SessionFilter{Host: host}, key, store.Order{Kind: agent.EndSession},
		"session.sign-off", reason)
	return err
}

func (fl *Fleet) order(ctx context.Context, actor string, f store.SessionFilter, key string, o store.Order, verb,
	reason string,
) (n int, err error) {
	err = fl.engine.Change(ctx, actor, func(tx *store.Tx) error {
		n = 0
		rows, err := store.SessionRows(tx.DB, f)
		if err != nil {
			return err
		}
		people := map[string][]string{}
		for _, s := range rows {
			if key != "" && s.Key != key {
				continue
			}
			one := o
			one.HostID, one.SessionKey, one.CreatedAt = s.HostID, s.Key, tx.Now
			if err := tx.Create(&one).Error; err != nil {
				return err
			}
			people[s.Host] = append(people[s.Host], s.Person)
			n++
		}
		if n == 0 && key != "" {
			return fmt.Errorf("session %q on host %q: %w", key, f.Host, store.ErrNotFound)
		}
		for host, names := range people {
			tx.Record(store.Entry{
				Verb: verb, Subject: "host " + host, Reason: reason,
				Detail: map[string]any{"people": names},
			})
		}
		return nil
	})
	return n, err
}
