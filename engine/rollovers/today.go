package rollovers

import (
	"fmt"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/matter"
	"nimblepane/core/rollover"
	"nimblepane/engine"
	"nimblepane/store"
)

func matters(db *gorm.DB, _ time.Time, add func(engine.Matter)) error {
	open, err := store.AllOpenRollovers(db)
	if err != nil {
		return err
	}
	for _, r := range open {
		pool, err := store.PoolByID(db, r.PoolID)
		if err != nil {
			return err
		}
		m := engine.Matter{Kind: matter.Rollover, Title: fmt.Sprintf("Rollover %d of %s is %s", r.ID, pool.Name,
			r.State), Link: fmt.Sprintf("rollovers/%d", r.ID), Command: fmt.Sprintf("pane rollover watch %d", r.ID)}
		switch {
		case r.State == rollover.Paused:
			m.Urgent, m.Detail, m.Command = true, r.PausedWhy, fmt.Sprintf("pane rollover resume %d", r.ID)
		case len(r.Holds) > 0:
			m.Detail = r.Holds[0]
		}
		add(m)
	}
	return nil
}
