package engine

import (
	"context"
	"errors"

	"nimblepane/store"
)

// ServiceActor is whose name stands in the trail for what the service does by itself.
const ServiceActor = "service"

type rehearsal struct{}

// errRehearsed takes a change back that was only tried.
var errRehearsed = errors.New("rehearsed")

// Rehearsing returns a context in which changes are made and taken back.
func Rehearsing(ctx context.Context) context.Context {
	return context.WithValue(ctx, rehearsal{}, true)
}

// Change makes a change in somebody's name at the product's time. In a
// rehearsal it is made and taken back.
func (e *Engine) Change(ctx context.Context, actor string, fn func(*store.Tx) error) error {
	if ctx.Value(rehearsal{}) == nil {
		return e.Store.Change(ctx, actor, e.Clock.Now(), fn)
	}
	err := e.Store.Change(ctx, actor, e.Clock.Now(), func(tx *store.Tx) error {
		if err := fn(tx); err != nil {
			return err
		}
		return errRehearsed
	})
	if errors.Is(err, errRehearsed) {
		return nil
	}
	return err
}
