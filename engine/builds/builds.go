// Package builds has versions made by build sheets, and makes build machines on
// the platforms that can, for people who prepare a version by hand.
//
// A build is decided by core/build: here its records are turned into what is
// known of it, and what is decided is asked of its site, as works. What its
// steps came to is in the works' outputs and nowhere else.
package builds

import (
	"context"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/seal"
	"nimblepane/engine"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// Builds are the acts on builds and build machines. They are safe for concurrent use.
type Builds struct {
	engine   *engine.Engine
	versions *versions.Versions

	makings     engine.Work[ofBuild, platform.BuildSpec, platform.Nothing]
	steps       engine.Work[ofStep, platform.StepOrder, platform.StepDone]
	inspections engine.Work[ofBuild, platform.Named, seal.Facts]
	sealings    engine.Work[ofBuild, platform.Seal, platform.Sealed]
	discards    engine.Work[ofBuild, platform.Named, platform.Nothing]
}

// The inputs of works.
type (
	ofBuild struct {
		Build int64 `json:"build"`
	}
	ofStep struct {
		Build int64 `json:"build"`
		Step  int   `json:"step"` // its index
	}
)

// New adds builds to the engine.
func New(e *engine.Engine, vs *versions.Versions) *Builds {
	bs := &Builds{engine: e, versions: vs}
	bs.makings = engine.Work[ofBuild, platform.BuildSpec, platform.Nothing]{
		Kind: store.WorkMakeMachine, Operation: platform.MakeMachine, Ask: askMaking, Ended: ended[platform.Nothing],
	}
	bs.steps = engine.Work[ofStep, platform.StepOrder, platform.StepDone]{
		Kind: store.WorkDoStep, Operation: platform.DoStep, Ask: askStep, Ended: stepEnded,
	}
	bs.inspections = engine.Work[ofBuild, platform.Named, seal.Facts]{
		Kind: store.WorkInspectMachine, Operation: platform.InspectMachine, Ask: askMachine, Ended: ended[seal.Facts],
	}
	bs.sealings = engine.Work[ofBuild, platform.Seal, platform.Sealed]{
		Kind: store.WorkSealMachine, Operation: platform.SealMachine, Ask: askSealing, Ended: ended[platform.Sealed],
	}
	bs.discards = engine.Work[ofBuild, platform.Named, platform.Nothing]{
		Kind: store.WorkDiscardMachine, Operation: platform.DiscardMachine, Ask: askMachine,
		Ended: ended[platform.Nothing],
	}
	engine.AddWork(e, bs.makings)
	engine.AddWork(e, bs.steps)
	engine.AddWork(e, bs.inspections)
	engine.AddWork(e, bs.sealings)
	engine.AddWork(e, bs.discards)
	e.Add(engine.Subject{
		Ticks:   map[store.Ticking]func(context.Context, int64) error{store.BuildTicks: bs.tick},
		Matters: []func(*gorm.DB, time.Time, func(engine.Matter)) error{matters},
	})
	return bs
}
