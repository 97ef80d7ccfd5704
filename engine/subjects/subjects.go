// Package subjects puts the engine's subjects together, for the service and
// for the tests that run one.
package subjects

import (
	"time"

	"nimblepane/engine"
	"nimblepane/engine/bases"
	"nimblepane/engine/builds"
	"nimblepane/engine/deliveries"
	"nimblepane/engine/feeds"
	"nimblepane/engine/flaws"
	"nimblepane/engine/fleet"
	"nimblepane/engine/proofs"
	"nimblepane/engine/provenance"
	"nimblepane/engine/readiness"
	"nimblepane/engine/repositories"
	"nimblepane/engine/rollovers"
	"nimblepane/engine/schedules"
	"nimblepane/engine/software"
	"nimblepane/engine/versions"
)

// Subjects are what the API calls.
type Subjects struct {
	Versions  *versions.Versions
	Software  *software.Software
	Fleet     *fleet.Fleet
	Rollovers *rollovers.Rollovers
	Feeds     *feeds.Feeds
	Bases     *bases.Bases
	Builds    *builds.Builds
	Schedules *schedules.Schedules
	Proofs    *proofs.Proofs

	Deliveries   *deliveries.Deliveries
	Flaws        *flaws.Flaws
	Repositories *repositories.Repositories
}

// Add adds all subjects to the engine. Agents wait for the interval between
// heartbeats, the usual one if it is 0. What Today tells comes in this order.
func Add(e *engine.Engine, heartbeat time.Duration) *Subjects {
	f := fleet.New(e, heartbeat)
	rs, vs, fs, bs := rollovers.New(e, f), versions.New(e), feeds.New(e), bases.New(e)
	of, lists := builds.New(e, vs, f, bs, rs), software.New(e, vs)
	provenance.New(e, vs)
	vs.WhenActivated(rs.Activated)
	readiness.Add(e)
	return &Subjects{
		Fleet:     f,
		Rollovers: rs,
		Versions:  vs,
		Software:  lists,
		Feeds:     fs,
		Bases:     bs,
		Builds:    of,
		Schedules: schedules.New(e, of),
		Proofs:    proofs.New(e, vs),

		Deliveries:   deliveries.New(e),
		Flaws:        flaws.New(e),
		Repositories: repositories.New(e, of),
	}
}
