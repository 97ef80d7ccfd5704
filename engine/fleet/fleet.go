// Package fleet looks after pools and their hosts: what the estate file says
// of them, what their agents report, who is signed in, and what people do to a
// single host or pool. Rollovers, which move many, are a package of their own.
package fleet

import (
	"cmp"
	"context"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/act"
	"nimblepane/core/rollover"
	"nimblepane/engine"
	"nimblepane/store"
)

// Fleet is the acts on pools, hosts and sessions. It is safe for concurrent use.
type Fleet struct {
	engine *engine.Engine
	ingest *ingest
	// interval is how long agents wait between heartbeats, of product time.
	interval time.Duration
	// Listening is since when this process could hear agents.
	Listening time.Time
}

const (
	// usualInterval is that of heartbeats, of product time, for which the limits of rollovers are made.
	usualInterval = 30 * time.Second
	// beatAtLeast is the shortest interval, of the real clock.
	beatAtLeast = 500 * time.Millisecond
)

// New adds pools and hosts to the engine. Agents wait for the interval between
// heartbeats, 30 s if it is 0.
func New(e *engine.Engine, interval time.Duration) *Fleet {
	fl := &Fleet{engine: e, interval: cmp.Or(interval, usualInterval), Listening: e.Clock.Now()}
	fl.ingest = newIngest(fl)
	e.Add(engine.Subject{
		Loops: []func(context.Context){
			fl.ingest.run,
			func(ctx context.Context) {
				e.Repeat(ctx, inspectEvery, "machines could not be looked at", fl.inspectFaulty)
			},
		},
		Sweeps:   map[string]func(*store.Tx) error{"hosts": fl.sweep},
		Matters:  []func(*gorm.DB, time.Time, func(engine.Matter)) error{outOfServiceMatters, driftMatters},
		Previews: map[act.Name]engine.Previewer{act.Pin: fl.previewPin},
	})
	return fl
}

// BeatInterval is how long agents wait between heartbeats, in real time.
func (fl *Fleet) BeatInterval() time.Duration {
	return max(beatAtLeast, time.Duration(float64(fl.interval)/fl.engine.Clock.Rate()))
}

// Limits are the default ones, stretched as far as the heartbeats are: with a
// fast clock more of the product's time passes between two of them.
func (fl *Fleet) Limits() rollover.Limits {
	stretch := max(1, float64(fl.BeatInterval())*fl.engine.Clock.Rate()/float64(usualInterval))
	by := func(d time.Duration) time.Duration { return time.Duration(float64(d) * stretch) }
	l := rollover.DefaultLimits
	return rollover.Limits{
		Silent: by(l.Silent), Confirm: by(l.Confirm), SignOff: by(l.SignOff), Rebuild: by(l.Rebuild),
		Check: by(l.Check),
	}
}
