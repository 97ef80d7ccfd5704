package engine

import (
	"context"
	"fmt"
	"runtime/debug"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/matter"
	"nimblepane/store"
)

// A background task that panics is a defect of the service. It must neither stop the other tasks nor be repeated for
// ever: it
// is recorded, tried a few times more, and then set aside until a restart.

// recovered runs a task of the row of a table, and records its panic.
func (e *Engine) recovered(ctx context.Context, kind, key string, task func() error) (err error) {
	defer func() {
		cause := recover()
		if cause == nil {
			return
		}
		err = fmt.Errorf("%s %s: a task crashed: %v", kind, key, cause)
		e.Log.Error("a task crashed", "kind", kind, "key", key, "cause", cause, "stack", string(debug.Stack()))
		times, rerr := e.Store.AddCrash(context.WithoutCancel(ctx), kind, key, fmt.Sprint(cause))
		switch {
		case rerr != nil:
			e.Log.Error("a crash could not be recorded", "kind", kind, "key", key, "err", rerr)
		case times >= store.CrashesAllowed:
			e.Log.Error("a task is set aside until the service restarts", "kind", kind, "key", key, "crashes", times)
		}
	}()
	return task()
}

// crashMatters are the tasks that are set aside.
func crashMatters(db *gorm.DB, _ time.Time, add func(Matter)) error {
	rows, err := store.SetAside(db)
	for _, c := range rows {
		add(Matter{
			Kind: matter.Crash, Urgent: true, Title: fmt.Sprintf("A task is set aside: %s %s", c.Kind, c.Key),
			Detail: fmt.Sprintf("It crashed %d times, last at %s: %.200s. This is a defect of the service. Report "+
				"it with the "+
				"service's log. A restart of the service tries the task again.", c.Times,
				c.At.UTC().Format("2006-01-02 15:04 MST"), c.Why),
			Link: "trail",
		})
	}
	return err
}
