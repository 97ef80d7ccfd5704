package engine

import (
	"context"
	"strconv"
	"sync"
	"time"

	"nimblepane/store"
)

// How what is outside is watched, in real time.
const (
	watchEvery = 500 * time.Millisecond
	watchLease = 10 * time.Second
	watchAgain = 5 * time.Second // after an error, at the earliest
)

// Watch returns what has the rows of a table looked at when they are due, until
// its context ends: so many at once in a process, each by itself, so that one
// that hangs keeps only its own place. See says after how long a row is looked
// at again; an error of its own is logged.
func (e *Engine) Watch(table store.PollTable, atOnce int, see func(context.Context, int64) (time.Duration, error),
) func(context.Context) {
	return func(ctx context.Context) {
		places := make(chan struct{}, atOnce)
		var seeing sync.WaitGroup
		defer seeing.Wait()
		e.Repeat(ctx, watchEvery, string(table)+" could not be seen to", func(ctx context.Context) error {
			for {
				select {
				case places <- struct{}{}:
				default:
					return nil
				}
				w, is, err := e.Store.ClaimPoll(ctx, table, watchLease)
				if err != nil || !is {
					<-places
					return err
				}
				seeing.Go(func() {
					defer func() { <-places }()
					e.seeWatched(ctx, w, see)
				})
			}
		})
	}
}

// seeWatched looks at a row, and keeps its claim meanwhile.
func (e *Engine) seeWatched(ctx context.Context, w store.PollClaim,
	see func(context.Context, int64) (time.Duration, error),
) {
	held, cancel := context.WithCancel(ctx)
	var keeping sync.WaitGroup
	keeping.Go(func() {
		tick := time.NewTicker(watchLease / 3)
		defer tick.Stop()
		for {
			select {
			case <-held.Done():
				return
			case <-tick.C:
				if mine, err := e.Store.RenewPoll(held, w, watchLease); err == nil && !mine {
					cancel()
				}
			}
		}
	})
	var wait time.Duration
	err := e.recovered(ctx, string(w.Table), strconv.FormatInt(w.ID, 10), func() (err error) {
		wait, err = see(held, w.ID)
		return err
	})
	cancel()
	keeping.Wait()
	if err != nil && ctx.Err() == nil {
		e.Log.Error(string(w.Table)+" could not be seen to", "id", w.ID, "err", err)
		wait = max(wait, watchAgain)
	}
	if err := e.Store.ReleaseWatched(context.WithoutCancel(ctx), w, wait); err != nil {
		e.Log.Error("a claim could not be released", "of", string(w.Table), "id", w.ID, "err", err)
	}
}
