package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"
	"gorm.io/gorm"

	"nimblepane/core/delivery"
	"nimblepane/platform"
	"nimblepane/store"
)

var worksEnded = promauto.NewCounterVec(prometheus.CounterOpts{
	Name: "nimblepane_works_total",
	Help: "Works of platforms that ended, by kind and outcome.",
}, []string{"kind", "outcome"})

// Work is a kind of work, as its owner registers it: what is asked of the
// platform, and what follows. In is what the kind's works are kept with, Asked
// and Out are what the platform's operation takes and comes to.
type Work[In, Asked, Out any] struct {
	Kind      store.WorkKind
	Operation platform.Kind[Asked, Out]
	// Ask says what is asked of the platform. It is called for every attempt to
	// begin the operation, of which the platform takes one on. A *platform.Refusal says that there is nothing to ask.
	Ask func(ctx context.Context, db *gorm.DB, w store.Work, in In) (Asked, error)
	// Follow, if given, looks at what goes on, whenever the platform was asked how it stands. The work has not
	// ended before it returns nil. It may change what is kept of how it stands.
	Follow func(ctx context.Context, site store.Site, w store.Work, in In, p *platform.Progress) error
	// Progressed, if given, writes down how far the work is, in per cent.
	Progressed func(tx *store.Tx, in In, percent int) error
	// Ended writes down what follows from the end. It may turn a success into a failure.
	Ended func(tx *store.Tx, in In, end *Ending[Out]) error
}

// Ending is how a work ended.
type Ending[Out any] struct {
	Work    store.Work
	Output  Out    // what it came to, if it succeeded
	Failure string // why it failed, "" if it succeeded
}

// Of is an attempt of the kind at a subject, which is to be asked for.
func (k Work[In, Asked, Out]) Of(site int64, subject string, attempt int, in In) store.Work {
	input, _ := json.Marshal(in) // plain values of our own: cannot fail
	return store.Work{Kind: k.Kind, Subject: subject, Attempt: attempt, SiteID: site, Input: input}
}

// workKind is a Work whose types are forgotten.
type workKind struct {
	operation  func(ctx context.Context, db *gorm.DB, w store.Work) (platform.Operation, error)
	follow     func(ctx context.Context, site store.Site, w store.Work, p *platform.Progress) error
	progressed func(tx *store.Tx, w store.Work, percent int) error
	ended      func(tx *store.Tx, w store.Work, p platform.Progress) (failure string, err error)
}

// AddWork registers a kind of work.
func AddWork[In, Asked, Out any](e *Engine, k Work[In, Asked, Out]) {
	input := func(w store.Work) (in In, err error) {
		if err := json.Unmarshal(w.Input, &in); err != nil {
			return in, fmt.Errorf("read the input of work %s: %w", w.Key, err)
		}
		return in, nil
	}
	e.works[k.Kind] = workKind{
		operation: func(ctx context.Context, db *gorm.DB, w store.Work) (op platform.Operation, err error) {
			in, err := input(w)
			if err != nil {
				return op, err
			}
			asked, err := k.Ask(ctx, db, w, in)
			if err != nil {
				return op, fmt.Errorf("say what work %s is: %w", w.Key, err)
			}
			if c, is := any(asked).(platform.Clone); is && c.Source() != "" {
				why, err := store.NotCloned(db, c.Source())
				if err != nil {
					return op, err
				}
				if why != "" {
					return op, &notCloned{why}
				}
			}
			return k.Operation.Of(asked), nil
		},
		follow: func(ctx context.Context, site store.Site, w store.Work, p *platform.Progress) error {
			in, err := input(w)
			if err != nil || k.Follow == nil {
				return err
			}
			return k.Follow(ctx, site, w, in, p)
		},
		progressed: func(tx *store.Tx, w store.Work, percent int) error {
			in, err := input(w)
			if err != nil || k.Progressed == nil {
				return err
			}
			return k.Progressed(tx, in, percent)
		},
		ended: func(tx *store.Tx, w store.Work, p platform.Progress) (failure string, err error) {
			in, err := input(w)
			if err != nil {
				return "", err
			}
			end := Ending[Out]{Work: w}
			if p.State == platform.Failed {
				end.Failure = cmp.Or(p.Why, "it failed, and its site does not say why")
			} else if end.Output, err = k.Operation.Outcome(p); err != nil {
				end.Failure = err.Error()
			}
			if err := k.Ended(tx, in, &end); err != nil {
				return "", fmt.Errorf("write down the end of work %s: %w", w.Key, err)
			}
			return end.Failure, nil
		},
	}
}

// notCloned is why a machine is not made: its version was blocked or retired since it was asked for.
type notCloned struct{ why string }

func (n *notCloned) Error() string { return n.why }

// kindOf returns the kind of a work.
func (e *Engine) kindOf(w store.Work) (workKind, error) {
	k, known := e.works[w.Kind]
	if !known {
		return k, fmt.Errorf("work %s is of kind %q, which this service does not do", w.Key, w.Kind)
	}
	return k, nil
}

// work starts the work of the key on its platform if that was not done, and
// writes down how it stands.
func (e *Engine) work(ctx context.Context, key string) error {
	db := e.Store.DB.WithContext(ctx)
	w, err := store.WorkByKey(db, key)
	if err != nil || !w.Open() {
		return err
	}
	kind, err := e.kindOf(w)
	if err != nil {
		return err
	}
	site, err := store.SiteByID(db, w.SiteID)
	if err != nil {
		return err
	}
	if w.State == store.WorkAsked {
		op, err := kind.operation(ctx, db, w)
		var refusal *platform.Refusal
		var busy *platform.Busy
		var blocked *notCloned
		if err != nil && !errors.As(err, &refusal) && !errors.As(err, &busy) && !errors.As(err, &blocked) {
			return err
		}
		if blocked != nil {
			// Only the answer of an earlier start can have been lost: then the machine is being made.
			err = e.AskTo(ctx, site, func(ctx context.Context, p platform.Platform) error {
				_, err := p.Ask(ctx, w.Key)
				return err
			})
			if errors.Is(err, platform.ErrUnknown) {
				return e.WorkEnded(ctx, w.Key, platform.Progress{State: platform.Failed, Why: blocked.why})
			}
		} else if err == nil {
			err = e.AskTo(ctx, site, func(ctx context.Context, p platform.Platform) error {
				return p.Start(ctx, w.Key, op)
			})
		}
		if errors.As(err, &refusal) {
			return e.WorkEnded(ctx, w.Key, platform.Progress{State: platform.Failed, Why: refusal.Why})
		}
		if err != nil {
			return e.workWaits(ctx, w, site, err)
		}
		if err := store.WorkBegan(db, w.Key); err != nil {
			return fmt.Errorf("write down that work %s began: %w", w.Key, err)
		}
	}
	progress, err := Ask(ctx, e, site, func(ctx context.Context, p platform.Platform) (platform.Progress,
		error,
	) {
		return p.Ask(ctx, w.Key)
	})
	if errors.Is(err, platform.ErrUnknown) {
		// The platform lost its memory. Under the same key it is safe to ask again.
		return store.WorkLost(db, w.Key)
	}
	if err != nil {
		return e.workWaits(ctx, w, site, err)
	}
	if err := e.siteAnswers(ctx, site); err != nil {
		return err
	}
	if err := kind.follow(ctx, site, w, &progress); err != nil {
		return e.workWaits(ctx, w, site, err)
	}
	if progress.State != platform.UnderWay {
		return e.WorkEnded(ctx, w.Key, progress)
	}
	if progress.Why != w.Why {
		// What it waits for, such as a hypervisor that does not answer.
		if err := store.WorkWaits(db, w.Key, progress.Why); err != nil {
			return fmt.Errorf("write down what work %s waits for: %w", w.Key, err)
		}
	}
	same := progress.Percent/progressStep == w.Progress/progressStep
	w.Progress = progress.Percent
	if t := progress.Transfer; t != nil && (w.Pace == nil || !same || e.Clock.Now().Sub(w.Pace.V.At) >= transferStep) {
		same = false
		paced(&w, *t, e.Clock.Now())
	}
	if same {
		return nil
	}
	return e.Change(ctx, ServiceActor, func(tx *store.Tx) error {
		return errors.Join(tx.WorkProgressed(w), kind.progressed(tx, w, w.Progress))
	})
}

// paced notes how a delivery stands, and how fast it goes.
func paced(w *store.Work, t platform.Transfer, now time.Time) {
	var before delivery.Pace
	if w.Pace != nil {
		before = w.Pace.V
	}
	w.Transfer = &store.JSON[platform.Transfer]{V: t}
	w.Pace = &store.JSON[delivery.Pace]{V: before.Seen(now, t.Line)}
}

const (
	// askAgain is how long a work that does not get on is left alone, in real time.
	askAgain = 2 * time.Second
	// progressStep is how much a work has to get on to be told of, in per cent.
	progressStep = 5
	// transferStep is how often is told how a delivery stands, by the service's clock.
	transferStep = 5 * time.Second
)

// workWaits notes why a work does not get on. If that is because its site does
// not answer, the site is left alone for a while.
func (e *Engine) workWaits(ctx context.Context, w store.Work, site store.Site, why error) error {
	if ctx.Err() != nil {
		return nil // it was given up here, which says nothing of the site; it is due again
	}
	var text string
	var busy *platform.Busy
	if errors.As(why, &busy) {
		text = busy.Why
	} else {
		text = fmt.Sprintf("%s does not answer, it is asked again: %s", site.Name, why)
		if err := e.siteIsSilent(ctx, site, why); err != nil {
			return err
		}
	}
	return store.WorkIsLater(e.Store.DB.WithContext(ctx), w.Key, text, askAgain)
}

// WorkEnded writes down how an operation of a platform ended, and what follows
// from it, once.
func (e *Engine) WorkEnded(ctx context.Context, key string, p platform.Progress) error {
	var w store.Work
	err := e.Change(ctx, ServiceActor, func(tx *store.Tx) error {
		var err error
		if w, err = store.LockWork(tx.DB, key); err != nil || !w.Open() {
			return err
		}
		kind, err := e.kindOf(w)
		if err != nil {
			return err
		}
		failure, err := kind.ended(tx, w, p)
		if err != nil {
			return err
		}
		if p.Transfer != nil {
			paced(&w, *p.Transfer, tx.Now)
		}
		w.State, w.Why, w.EndedAt, w.Progress, w.Output = store.WorkSucceeded, "", &tx.Now, 100, p.Output
		if failure != "" {
			w.State, w.Why, w.Progress, w.Output = store.WorkFailed, failure, p.Percent, nil
		}
		return tx.Save(&w).Error
	})
	if err == nil {
		worksEnded.WithLabelValues(string(w.Kind), string(w.State)).Inc()
	}
	return err
}

// DeleteAgain repeats a failed deletion, with delays of up to an hour of the database's clock, so that unused disks
// do not
// fill the storage.
func DeleteAgain[In any](tx *store.Tx, failed store.Work,
	of func(site int64, subject string, attempt int, in In) store.Work, in In,
) error {
	next := []store.Work{of(failed.SiteID, failed.Subject, failed.Attempt+1, in)}
	if err := tx.Ask(next...); err != nil {
		return err
	}
	return store.WorkIsLater(tx.DB, next[0].Key, "", min(time.Hour, 5*time.Second<<min(failed.Attempt-1, 10)))
}
