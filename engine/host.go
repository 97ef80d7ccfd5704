package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"nimblepane/core/rollover"
	"nimblepane/store"
)

// onHost changes a host that no rollover has in hand.
func (e *Engine) onHost(ctx context.Context, actor, name string, fn func(*store.Tx, *store.Host) error) error {
	return e.change(ctx, actor, func(tx *store.Tx) error {
		h, _, _, err := store.LockHost(tx.DB, name)
		if err != nil {
			return err
		}
		if err := inHand(tx, h); err != nil {
			return err
		}
		if err := fn(tx, &h); err != nil {
			return err
		}
		return tx.Save(&h).Error
	})
}

// inHand returns a problem if a rollover has the host in hand.
func inHand(tx *store.Tx, h store.Host) error {
	m, in, err := store.InHand(tx.DB, h.ID)
	if err != nil || !in {
		return err
	}
	return conflict("host %s is %s in rollover %d: wait until that is done with it, or stop the rollover", h.Name, m.Phase, m.RolloverID)
}

// Drain gives a host no new sessions; those there go on.
func (e *Engine) Drain(ctx context.Context, actor, name, reason string) error {
	return e.onHost(ctx, actor, name, func(tx *store.Tx, h *store.Host) error {
		if h.State != rollover.HostServing {
			return conflict("host %s is %s: only a serving host can be drained", h.Name, h.State)
		}
		var err error
		if h.DrainOrder, err = tx.NextOrder(); err != nil {
			return err
		}
		h.State, h.Since, h.DrainedBy = rollover.HostDraining, tx.Now, actor
		tx.Record(store.Entry{Verb: "host.drain", Subject: "host " + h.Name, Reason: reason})
		return nil
	})
}

// Return puts a host that was drained by hand, or that is faulty and speaks, back to service.
func (e *Engine) Return(ctx context.Context, actor, name, reason string) error {
	return e.onHost(ctx, actor, name, func(tx *store.Tx, h *store.Host) error {
		switch h.State {
		case rollover.HostDraining, rollover.HostEmptied:
		case rollover.HostFaulty:
			row, err := store.HostRowNamed(tx.DB, h.Name)
			if err != nil {
				return err
			}
			if row.SeenAt == nil || tx.Now.Sub(*row.SeenAt) > e.silentAfter() {
				return conflict("host %s is faulty and its agent is silent: it comes back by itself when the agent speaks, or rebuild it", h.Name)
			}
			if !h.Machine {
				return conflict("host %s is faulty (%s), and has no machine whose disk was made whole: rebuild it", h.Name, h.Why)
			}
			if strings.TrimSpace(reason) == "" {
				return invalid("host %s is faulty (%s): returning it all the same needs a reason", h.Name, h.Why)
			}
		default:
			return conflict("host %s is %s: only a drained or faulty host can be returned", h.Name, h.State)
		}
		h.State, h.Since, h.Why, h.Silent = rollover.HostServing, tx.Now, "", false
		h.DrainedBy, h.DrainOrder, h.Unserved, h.VouchedAt, h.MachineWhy = "", 0, false, nil, ""
		tx.Record(store.Entry{Verb: "host.return", Subject: "host " + h.Name, Reason: reason})
		return nil
	})
}

// RebuildRequest asks for a new disk for one host.
type RebuildRequest struct {
	Host, Reason string
	// Vouched says that the person has made sure that nobody is on a host whose agent is silent.
	Vouched bool
}

// Rebuild gives a host a new disk of the version that its pool should run, by
// a rollover of this one host: it drains, its people leave, it is rebuilt,
// checked and put back.
func (e *Engine) Rebuild(ctx context.Context, actor string, r RebuildRequest) (row store.Rollover, err error) {
	err = e.change(ctx, actor, func(tx *store.Tx) error {
		h, pool, _, err := store.LockHost(tx.DB, r.Host)
		if err != nil {
			return err
		}
		if err := inHand(tx, h); err != nil {
			return err
		}
		if h.State == rollover.HostFaulty && h.Machine && !h.Unserved {
			if !r.Vouched {
				return conflict("host %s is faulty (%s), and only its agent could say whether somebody is on it: look for yourself, then rebuild it with your word that it is empty (--vouch-empty)", h.Name, h.Why)
			}
			if strings.TrimSpace(r.Reason) == "" {
				return invalid("vouching that a host is empty needs a reason: say how you know")
			}
			h.VouchedAt = &tx.Now
			tx.Record(store.Entry{Verb: "host.vouch", Subject: "host " + h.Name, Reason: r.Reason})
			if err := tx.Save(&h).Error; err != nil {
				return err
			}
		}
		o := rollover.DefaultOptions
		o.Batch, o.Floor, o.Budget = rollover.Share{Value: 1}, rollover.Share{}, 0
		row, err = e.startOne(tx, pool, StartRequest{Options: o, Reason: r.Reason, Hosts: []string{h.Name}})
		return err
	})
	return row, err
}

// Tell shows a text to sessions: one of a host, all of a host, or all of a pool.
func (e *Engine) Tell(ctx context.Context, actor string, f store.SessionFilter, key, text string) (int, error) {
	if strings.TrimSpace(text) == "" {
		return 0, invalid("there is nothing to tell: give a text")
	}
	return e.order(ctx, actor, f, key, store.Order{Kind: store.OrderTell, Text: text}, "session.tell", text)
}

// SignOffSession ends one session. It is a person's act, at their word; rollovers warn first.
func (e *Engine) SignOffSession(ctx context.Context, actor, host, key, reason string) error {
	_, err := e.order(ctx, actor, store.SessionFilter{Host: host}, key, store.Order{Kind: store.OrderSignOff}, "session.sign-off", reason)
	return err
}

func (e *Engine) order(ctx context.Context, actor string, f store.SessionFilter, key string, o store.Order, verb, reason string) (n int, err error) {
	err = e.change(ctx, actor, func(tx *store.Tx) error {
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
			tx.Record(store.Entry{Verb: verb, Subject: "host " + host, Reason: reason, Detail: map[string]any{"people": names}})
		}
		return nil
	})
	return n, err
}

// sweep puts right what nobody acts on: hosts that fell silent or speak again,
// hosts drained by hand that are empty by now, and records that are kept for a while only.
func (e *Engine) sweep(ctx context.Context) error {
	return e.change(ctx, serviceActor, func(tx *store.Tx) error {
		if mine, err := tx.TrySweep(); err != nil || !mine {
			return err
		}
		limit := tx.Now.Add(-e.silentAfter())
		moves := []struct {
			verb, why string
			move      func() ([]string, error)
		}{
			{"host.silent", "", func() ([]string, error) { return tx.FallSilent(limit) }},
			{"host.heard", "its agent speaks again", func() ([]string, error) { return tx.SpeakAgain(limit) }},
			{"host.empty", "", func() ([]string, error) { return tx.EmptyByHand(limit) }},
			{"host.refill", "its agent reports a session again", tx.RefillByHand},
		}
		if !e.listening.Before(limit) {
			moves = moves[1:] // nobody could be heard so far
		}
		for _, m := range moves {
			names, err := m.move()
			if err != nil {
				return fmt.Errorf("%s: %w", m.verb, err)
			}
			for _, n := range names {
				tx.Record(store.Entry{Verb: m.verb, Subject: "host " + n, Reason: m.why})
			}
		}
		if err := store.ReportTries(tx); err != nil {
			return err
		}
		if err := errors.Join(e.Store.PruneEvents(ctx, eventsKept), e.Store.PruneOperations(ctx, operationsKept), store.PruneOrders(tx, ordersKept)); err != nil {
			return err
		}
		return store.PruneReplies(tx, time.Now().Add(-repliesKept))
	})
}
