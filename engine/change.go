package engine

import (
	"context"
	"errors"
	"sync/atomic"

	"nimblepane/store"
)

// ServiceActor is whose name stands in the trail for what the service does by itself.
const ServiceActor = "service"

// rehearsal is the state of a dry run.
type rehearsal struct {
	reached *atomic.Bool
	inspect func(*store.Tx) error // nil for none
}

type rehearsalKey struct{}

// errRehearsed takes a change back that was only tried.
var errRehearsed = errors.New("rehearsed")

// Rehearsing returns a context in which changes are made and taken back.
func Rehearsing(ctx context.Context) context.Context {
	return context.WithValue(ctx, rehearsalKey{}, rehearsal{reached: &atomic.Bool{}})
}

// Inspecting returns a context of a rehearsal in which a function reads the
// result of each change before it is taken back.
func Inspecting(ctx context.Context, inspect func(*store.Tx) error) context.Context {
	r, _ := ctx.Value(rehearsalKey{}).(rehearsal)
	if r.reached == nil {
		r.reached = &atomic.Bool{}
	}
	r.inspect = inspect
	return context.WithValue(ctx, rehearsalKey{}, r)
}

// Rehearsed says whether the context is that of a rehearsal, and whether a change was made in it and taken back.
func Rehearsed(ctx context.Context) (rehearsing, reached bool) {
	r, rehearsing := ctx.Value(rehearsalKey{}).(rehearsal)
	return rehearsing, rehearsing && r.reached.Load()
}

// Change makes a change in somebody's name at the product's time. In a
// rehearsal it is made and taken back.
func (e *Engine) Change(ctx context.Context, actor string, fn func(*store.Tx) error) error {
	r, rehearsing := ctx.Value(rehearsalKey{}).(rehearsal)
	if !rehearsing {
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
		return errRehearsed
	})
	if errors.Is(err, errRehearsed) {
		r.reached.Store(true)
		return nil
	}
	return err
}
