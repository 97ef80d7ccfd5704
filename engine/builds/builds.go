// Package builds has versions made by build sheets, and looks after build
// machines: those of builds, and those of people who prepare a version by hand.
//
// A build is decided by core/build: here its records are turned into what is
// known of it, and what is decided is asked of its site, as works. What its
// steps came to is in the works' outputs and nowhere else.
package builds

import (
	"context"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/machine"
	"nimblepane/core/seal"
	"nimblepane/engine"
	"nimblepane/engine/bases"
	"nimblepane/engine/fleet"
	"nimblepane/engine/rollovers"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// Builds are the acts on builds and build machines. They are safe for concurrent use.
type Builds struct {
	engine   *engine.Engine
	versions *versions.Versions
	fleet    *fleet.Fleet
	bases    *bases.Bases

	rollovers *rollovers.Rollovers
	reading   reading

	copies        engine.Work[ofMachine, platform.HostCopy, platform.Nothing]
	makings       engine.Work[ofMachine, platform.BuildSpec, platform.Nothing]
	starts, stops engine.Work[ofMachine, platform.Named, platform.Nothing]
	steps         engine.Work[ofStep, platform.StepOrder, platform.StepDone]
	// A build decides by inspections; checks are those that people ask for.
	inspections, checks engine.Work[versions.Inspection, platform.Inspection, seal.Facts]
	repairs             engine.Work[ofRepair, platform.StepOrder, platform.StepDone]
	tries               engine.Work[ofTry, platform.StepOrder, platform.StepDone]
	openings            engine.Work[ofOpening, platform.Tryout, platform.Tried]
	sealings            engine.Work[ofMachine, platform.Seal, platform.Sealed]
	discards            engine.Work[ofMachine, platform.Named, platform.Nothing]

	checkpoints, reverts engine.Work[ofCheckpoint, platform.Checkpoint, platform.Nothing]
}

// The inputs of works.
type (
	ofMachine struct {
		Machine int64 `json:"machine"`
	}
	ofStep struct {
		Build int64 `json:"build"`
		Step  int   `json:"step"` // its index
	}
	ofCheckpoint struct {
		Machine int64  `json:"machine"`
		Name    string `json:"name"`
		Start   bool   `json:"start,omitempty"` // the machine once it is made
	}
)

// New adds builds to the engine.
func New(e *engine.Engine, vs *versions.Versions, fl *fleet.Fleet, of *bases.Bases,
	rs *rollovers.Rollovers,
) *Builds {
	bs := &Builds{
		engine: e, versions: vs, fleet: fl, bases: of, rollovers: rs, reading: reading{last: map[string]time.Time{}},
	}
	bs.copies = engine.Work[ofMachine, platform.HostCopy, platform.Nothing]{
		Kind: store.WorkCopyHost, Operation: platform.CopyHost, Ask: askCopy, Ended: bs.copyEnded,
	}
	bs.makings = engine.Work[ofMachine, platform.BuildSpec, platform.Nothing]{
		Kind: store.WorkMakeMachine, Operation: platform.MakeMachine, Ask: askMaking,
		Ended: machineEnded[platform.Nothing](machine.Running, machine.Off),
	}
	bs.starts = engine.Work[ofMachine, platform.Named, platform.Nothing]{
		Kind: store.WorkStartMachine, Operation: platform.StartMachine, Ask: askMachine,
		Ended: machineEnded[platform.Nothing](machine.Running, machine.Off),
	}
	bs.stops = engine.Work[ofMachine, platform.Named, platform.Nothing]{
		Kind: store.WorkStopMachine, Operation: platform.StopMachine, Ask: askMachine,
		Ended: machineEnded[platform.Nothing](machine.Off, machine.Running),
	}
	bs.steps = engine.Work[ofStep, platform.StepOrder, platform.StepDone]{
		Kind: store.WorkDoStep, Operation: platform.DoStep, Ask: askStep, Follow: bs.follow,
		Ended: stepEnded,
	}
	bs.inspections = engine.Work[versions.Inspection, platform.Inspection, seal.Facts]{
		Kind: store.WorkInspectMachine, Operation: platform.InspectMachine, Ask: bs.askInspection,
		Ended: inspectionEnded,
	}
	bs.checks = bs.inspections
	bs.checks.Kind = store.WorkCheckMachine
	bs.repairs = engine.Work[ofRepair, platform.StepOrder, platform.StepDone]{
		Kind: store.WorkRepairMachine, Operation: platform.DoStep, Ask: askRepair,
		Ended: repairEnded,
	}
	bs.tries = engine.Work[ofTry, platform.StepOrder, platform.StepDone]{
		Kind: store.WorkTryStep, Operation: platform.DoStep, Ask: askTry, Ended: tryEnded,
	}
	bs.openings = engine.Work[ofOpening, platform.Tryout, platform.Tried]{
		Kind: store.WorkOpenOnMachine, Operation: platform.TryHost, Ask: askOpening, Ended: openingEnded,
	}
	bs.sealings = engine.Work[ofMachine, platform.Seal, platform.Sealed]{
		Kind: store.WorkSealMachine, Operation: platform.SealMachine, Ask: askSealing,
		Ended: machineEnded[platform.Sealed](machine.Sealed, ""),
	}
	bs.discards = engine.Work[ofMachine, platform.Named, platform.Nothing]{
		Kind: store.WorkDiscardMachine, Operation: platform.DiscardMachine, Ask: askMachine,
		Ended: machineEnded[platform.Nothing](machine.Gone, machine.Off),
	}
	bs.checkpoints = engine.Work[ofCheckpoint, platform.Checkpoint, platform.Nothing]{
		Kind: store.WorkCheckpointMachine, Operation: platform.CheckpointMachine, Ask: askCheckpoint,
		Ended: checkpointEnded,
	}
	bs.reverts = engine.Work[ofCheckpoint, platform.Checkpoint, platform.Nothing]{
		Kind: store.WorkRevertMachine, Operation: platform.RevertMachine, Ask: askCheckpoint,
		Ended: revertEnded,
	}
	vs.WhenSealed(bs.goBack)
	engine.AddWork(e, bs.copies)
	engine.AddWork(e, bs.makings)
	engine.AddWork(e, bs.starts)
	engine.AddWork(e, bs.stops)
	engine.AddWork(e, bs.steps)
	engine.AddWork(e, bs.inspections)
	engine.AddWork(e, bs.checks)
	engine.AddWork(e, bs.repairs)
	engine.AddWork(e, bs.tries)
	engine.AddWork(e, bs.openings)
	engine.AddWork(e, bs.sealings)
	engine.AddWork(e, bs.discards)
	engine.AddWork(e, bs.checkpoints)
	engine.AddWork(e, bs.reverts)
	e.Add(engine.Subject{
		Ticks: map[store.TickTable]func(context.Context, int64) error{store.BuildTicks: bs.tick},
		Sweeps: map[string]func(*store.Tx) error{
			"build machines": bs.sweepMachines,
			"sheet files":    func(tx *store.Tx) error { return store.PruneSheetFiles(tx, time.Now().Add(-filesKept)) },
		},
		Loops: []func(context.Context){func(ctx context.Context) {
			e.Repeat(ctx, observeEvery, "build machines could not be looked at", bs.Observe)
		}, func(ctx context.Context) {
			e.Repeat(ctx, followEvery, "build machines that wait could not be looked at", bs.FollowWaiting)
		}, func(ctx context.Context) {
			e.Repeat(ctx, pruneEvery, "build logs that are kept no longer could not be deleted", bs.pruneLogs)
		}},
		Matters: []func(*gorm.DB, time.Time, func(engine.Matter)) error{matters, machineMatters},
	})
	return bs
}
