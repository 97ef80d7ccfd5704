// Package rollovers moves the hosts of pools from the version that they run to
// the version that they should run. What is done when is decided by
// core/rollover; here it is asked, with what is known, and carried out.
package rollovers

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"
	"gorm.io/gorm"

	"nimblepane/core/act"
	"nimblepane/engine"
	"nimblepane/engine/fleet"
	"nimblepane/platform"
	"nimblepane/store"
)

var (
	ticksDone = promauto.NewCounter(prometheus.CounterOpts{
		Name: "nimblepane_rollover_ticks_total",
		Help: "Decisions made for rollovers.",
	})
	actionsDone = promauto.NewCounterVec(prometheus.CounterOpts{
		Name: "nimblepane_rollover_actions_total",
		Help: "Actions of rollovers carried out, by kind.",
	}, []string{"kind"})
	decisionTime = promauto.NewHistogram(prometheus.HistogramOpts{
		Name: "nimblepane_decision_seconds",
		Help: "Time that one decision took.", Buckets: prometheus.ExponentialBuckets(0.0001, 4, 8),
	})
)

// Rollovers are the acts on rollovers, and what follows from them. They are
// safe for concurrent use.
type Rollovers struct {
	engine   *engine.Engine
	fleet    *fleet.Fleet
	rebuilds engine.Work[ofHost, platform.Rebuild, platform.Made]
}

// New adds rollovers of the fleet to the engine.
func New(e *engine.Engine, f *fleet.Fleet) *Rollovers {
	rs := &Rollovers{engine: e, fleet: f}
	rs.rebuilds = engine.Work[ofHost, platform.Rebuild, platform.Made]{
		Kind: store.WorkRebuild, Operation: platform.RebuildHost, Ask: rs.askRebuild, Progressed: rebuildProgressed,
		Ended: rebuildEnded,
	}
	engine.AddWork(e, rs.rebuilds)
	e.Add(engine.Subject{
		Ticks:    map[store.TickTable]func(context.Context, int64) error{store.RolloverTicks: rs.tick},
		Matters:  []func(*gorm.DB, time.Time, func(engine.Matter)) error{matters},
		Previews: map[act.Name]engine.Previewer{act.Roll: rs.previewRoll, act.Rollback: rs.previewRollback},
	})
	return rs
}
