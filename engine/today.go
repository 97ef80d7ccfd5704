package engine

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/matter"
	"nimblepane/store"
)

// Matter is one thing that waits for a person.
type Matter struct {
	Kind    matter.Kind
	Urgent  bool
	Title   string
	Detail  string
	Link    string // what it is about: "rollovers/3", "images/counter-desk", "pools/ticket-counters"
	Command string // how to go on by the client, "" if there is no single command
}

// Today answers what waits for a person now, the most urgent first.
func (e *Engine) Today(ctx context.Context) ([]Matter, error) {
	db := e.Store.DB.WithContext(ctx)
	now := e.Clock.Now()
	var urgent, rest []Matter
	add := func(m Matter) {
		if m.Urgent {
			urgent = append(urgent, m)
		} else {
			rest = append(rest, m)
		}
	}
	for _, s := range e.subjects {
		for _, matters := range s.Matters {
			if err := matters(db, now, add); err != nil {
				return nil, fmt.Errorf("look for what waits: %w", err)
			}
		}
	}
	return append(urgent, rest...), nil
}

func siteMatters(db *gorm.DB, _ time.Time, add func(Matter)) error {
	sites, err := store.Sites(db)
	for _, s := range sites {
		if s.Failures > 1 { // once is a moment
			add(Matter{
				Kind: matter.Site, Urgent: true, Title: fmt.Sprintf("Site %s has not answered since %s", s.Name,
					s.TroubleSince.UTC().Format("2006-01-02 15:04 MST")),
				Detail: s.Trouble, Link: "sites/" + s.Name, Command: "pane site show " + s.Name,
			})
		}
	}
	return err
}
