package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/act"
	"nimblepane/store"
)

// Subject is what a package adds to the running service. Whatever it has no
// use for is left out.
type Subject struct {
	// Ticks are called for the rows of a table until they are settled: at most
	// one at a time for a row, over all processes.
	Ticks map[store.TickTable]func(ctx context.Context, id int64) error
	// Sweeps put right what nobody acts on, once a second in one of the
	// processes. Each is a change of its own, by its name.
	Sweeps map[string]func(tx *store.Tx) error
	// Loops go on in every process until the context ends.
	Loops []func(ctx context.Context)
	// Matters add to Today what waits for a person.
	Matters []func(db *gorm.DB, now time.Time, add func(Matter)) error
	// Previews say what acts would do, by the name of the act.
	Previews map[act.Name]Previewer
}

// Add adds a subject. All are added before the engine runs.
func (e *Engine) Add(s Subject) { e.subjects = append(e.subjects, s) }

// Tick has the row of a table looked at.
func (e *Engine) Tick(ctx context.Context, table store.TickTable, id int64) error {
	for _, s := range e.subjects {
		if tick, ok := s.Ticks[table]; ok {
			return tick(ctx, id)
		}
	}
	return fmt.Errorf("nobody looks at rows of %s", table)
}

// Sweep does every sweep once, unless another process is at it.
func (e *Engine) Sweep(ctx context.Context) error {
	var errs []error
	for _, s := range e.subjects {
		for name, sweep := range s.Sweeps {
			err := e.Change(ctx, ServiceActor, func(tx *store.Tx) error {
				if mine, err := tx.TrySweep(name); err != nil || !mine {
					return err
				}
				return sweep(tx)
			})
			if err != nil {
				errs = append(errs, fmt.Errorf("%s: %w", name, err))
			}
		}
	}
	return errors.Join(errs...)
}

// How long what is over is kept.
const (
	eventsKept  = 10_000         // events: more than a watcher is told of who lost the connection
	repliesKept = 24 * time.Hour // of the real clock
	// Works are asked about until they end, which no operation outlives by days.
	operationsKept = 30 * 24 * time.Hour
)

// itself is what the runtime adds: sites that do not answer, and records that are kept for a while only.
func (e *Engine) itself() Subject {
	return Subject{
		Matters: []func(*gorm.DB, time.Time, func(Matter)) error{siteMatters, crashMatters},
		Sweeps: map[string]func(*store.Tx) error{
			"records": func(tx *store.Tx) error {
				return errors.Join(store.ReportTries(tx), store.PruneEvents(tx, eventsKept),
					store.PruneOperations(tx, operationsKept), store.PruneReplies(tx, time.Now().Add(-repliesKept)))
			},
		},
	}
}
