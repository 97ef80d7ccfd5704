package engine

import (
	"context"
	"errors"
	"sync/atomic"

	"nimblepane/store"
)

// ServiceActor is whose name stands in the trail for what the service does by itself.
const ServiceActor = "service"

// dryRun is the state of a dry run.
type dryRun struct {
	reached *atomic.Bool
	inspect func(*store.Tx) error // nil for none
}

type dryRunKey struct{}

// errDryRun takes a change back that was only tried.
var errDryRun = errors.New("dry run")

// WithDryRun returns a context in which changes are made and rolled back.
func WithDryRun(ctx context.Context) context.Context {
	return context.WithValue(ctx, dryRunKey{}, dryRun{reached: &atomic.Bool{}})
}

// WithInspectedDryRun returns a context of a dry run in which a function reads
// the result of each change before it is rolled back.
func WithInspectedDryRun(ctx context.Context, inspect func(*store.Tx) error) context.Context {
	r, _ := ctx.Value(dryRunKey{}).(dryRun)
	if r.reached == nil {
		r.reached = &atomic.Bool{}
	}
	r.inspect = inspect
	return context.WithValue(ctx, dryRunKey{}, r)
}

// DryRun reports whether the context is that of a dry run, and whether a change was made in it and rolled back.
func DryRun(ctx context.Context) (dry, reached bool) {
	r, dry := ctx.Value(dryRunKey{}).(dryRun)
	return dry, dry && r.reached.Load()
}

// Change makes a change in the name of an account, at the time of the engine's
// clock. In a dry run the change is made and rolled back.
func (e *Engine) Change(ctx context.Context, actor string, fn func(*store.Tx) error) error {
	r, dry := ctx.Value(dryRunKey{}).(dryRun)
	if !dry {
		return e.Store.Change(ctx, actor, e.Clock.Now(), fn)
	}
	err := e.Store.Change(ctx, actor, e.Clock.Now(), func(tx *store.Tx) error {
		if err := fn(tx); err != nil {
			return err
		}
		if r.inspect != nil {
			if err := r.inspect(tx); err != nil {
				return err
			}
		}
		return errDryRun
	})
	if errors.Is(err, errDryRun) {
		r.reached.Store(true)
		return nil
	}
	return err
}
