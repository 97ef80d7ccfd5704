package builds

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/build"
	"nimblepane/core/image"
	"nimblepane/core/machine"
	"nimblepane/core/problem"
	"nimblepane/core/proof"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/engine/bases"
	"nimblepane/engine/proofs"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// tick asks what is to be done for a build and does it.
func (bs *Builds) tick(ctx context.Context, id int64) error {
	return bs.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) error {
		b, err := store.LockBuild(tx.DB, id)
		if err != nil || b.Settled {
			return err
		}
		s, err := snapshot(tx.DB, b)
		if err != nil {
			return err
		}
		plan := build.Plan{
			Steps: b.Plan.V.Steps, TimeLimit: time.Duration(b.Plan.V.TimeLimit), Stage: b.Plan.V.Version.Stage,
			Prove: b.Plan.V.Version.Proves(), Brings: b.FromBaseID != nil,
		}
		d := build.Decide(plan, s, tx.Now)
		if d.State.Ended() && b.State.Ended() {
			d.Why = b.Why
		}
		done := 0
		for i, step := range plan.Steps {
			var last build.Task
			if tries := s.Steps[i]; len(tries) > b.Before.V.Of(i) {
				last = tries[len(tries)-1]
			}
			if stands := build.StepStateOf(step, last, b.State); stands == build.StepDone || stands == build.StepNoted {
				done++
			}
		}
		if len(d.Actions) == 0 && d.State == b.State && d.Why == b.Why && done == b.Done {
			return nil
		}
		b.Done = done
		return bs.carryOut(tx, b, s, d)
	})
}

// snapshot is what is known of a build.
func snapshot(db *gorm.DB, b store.Build) (s build.Snapshot, err error) {
	works, err := store.BuildWorks(db, b.ID)
	if err != nil {
		return s, err
	}
	s = build.Snapshot{
		State: b.State, StartedAt: b.StartedAt, Cancel: b.Cancel, Hold: time.Duration(b.HoldSeconds) * time.Second,
		Before: b.Before.V.Tries,
	}
	if b.WentOnAt != nil {
		s.StartedAt = *b.WentOnAt // what it took before is not counted
	}
	if b.HeldUntil != nil {
		s.HeldUntil = *b.HeldUntil
	}
	if b.FromBaseID != nil {
		w, err := wantedBy(db, b)
		if err != nil {
			return s, err
		}
		if s.Base, err = bases.Brought(db, *b.FromBaseID, b.SiteID, b.StartedAt, w); err != nil {
			return s, err
		}
	}
	one := func(kind store.WorkKind, after int) build.Task {
		w, ok := find(works, kind, after)
		if !ok {
			return build.Task{}
		}
		return w.Task()
	}
	s.Machine, s.Seal = one(store.WorkMakeMachine, 0), one(store.WorkSealMachine, b.Before.V.Seals)
	s.BackTo, s.Back = b.Before.V.BackTo, one(store.WorkRevertMachine, b.Before.V.Reverts)
	s.Steps = make([][]build.Task, len(b.Plan.V.Steps))
	for _, w := range works {
		switch w.Kind {
		case store.WorkDoStep:
			var in ofStep
			if err := json.Unmarshal(w.Input, &in); err != nil {
				return s, fmt.Errorf("read the input of work %s: %w", w.Key, err)
			}
			if in.Step >= len(s.Steps) {
				continue // the sheet that it went on with has fewer
			}
			t, _ := stepTask(b.Plan.V.Steps[in.Step], w)
			s.Steps[in.Step] = append(s.Steps[in.Step], t)
			s.Kept = s.Kept || t.State == build.Done && b.Plan.V.Steps[in.Step].Checkpoint != nil
		case store.WorkDiscardMachine:
			s.Discards = append(s.Discards, w.Task())
		}
	}
	s.Check, s.Blocking = inspection(b, works)
	if b.VersionID != nil {
		if err := captured(db, b, &s); err != nil {
			return s, err
		}
	}
	switch {
	case b.StagingFailed != "":
		s.Staged = build.Task{State: build.TaskFailed, Why: b.StagingFailed}
	case b.StagedAt != nil:
		s.Staged = build.Task{State: build.Done, EndedAt: *b.StagedAt}
	}
	return s, nil
}

// captured adds how the build's version stands.
func captured(db *gorm.DB, b store.Build, s *build.Snapshot) error {
	v, err := store.VersionByID(db, *b.VersionID)
	if err != nil {
		return err
	}
	switch v.State {
	case image.Capturing:
		s.Capture = build.Task{State: build.UnderWay}
		return nil
	case image.Failed:
		s.Capture = build.Task{State: build.TaskFailed, Why: v.Failure}
		return nil
	}
	s.Capture, s.Delivery = build.Task{State: build.Done}, build.Task{State: build.Done}
	if s.Proof, err = proved(db, b); err != nil {
		return err
	}
	copies, err := store.Copies(db, v.ID)
	if err != nil {
		return err
	}
	var failed []string
	for _, c := range copies {
		switch c.State {
		case image.CopyDelivering:
			s.Delivery = build.Task{State: build.UnderWay}
			return nil
		case image.CopyFailed:
			failed = append(failed, c.Failure)
		}
	}
	if len(failed) > 0 {
		s.Delivery = build.Task{State: build.TaskFailed, Why: strings.Join(slices.Compact(failed), "; ")}
	}
	return nil
}

// proved is how the proof of the build's version stands.
func proved(db *gorm.DB, b store.Build) (t build.Task, err error) {
	p, err := store.ProofOfBuild(db, b.ID)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return t, nil
	case p.State == proof.Passed:
		t.State = build.Done
	case p.State.Ended():
		t = build.Task{State: build.TaskFailed, Why: p.Why}
	default:
		t.State = build.UnderWay
	}
	return t, err
}

// stepTask is how a try of a step stands, and what it came to.
func stepTask(step sheet.Step, w store.Work) (t build.Task, done platform.StepDone) {
	t = w.Task()
	if t.State != build.Done {
		return t, done
	}
	if err := json.Unmarshal(w.Output, &done); err != nil {
		return build.Task{State: build.TaskFailed, Why: err.Error(), EndedAt: t.EndedAt}, done
	}
	if why := stepFailure(step, done); why != "" {
		t.State, t.Why = build.TaskFailed, why
	}
	return t, done
}

// stepFailure says why a step that came to its end failed, "" if it did not.
func stepFailure(step sheet.Step, done platform.StepDone) string {
	if step.Accepts(done.ExitCode) {
		return ""
	}
	lines := strings.Split(strings.TrimSpace(done.Output), "\n")
	return strings.TrimSuffix(fmt.Sprintf("exit code %d, and last it wrote: %s", done.ExitCode, lines[len(lines)-1]),
		", and last it wrote: ")
}

// carryOut carries out a decision about a build.
func (bs *Builds) carryOut(tx *store.Tx, b store.Build, s build.Snapshot, d build.Decision) error {
	record := func(verb, reason string, detail map[string]any) {
		tx.Record(store.Entry{
			Verb: "build." + verb, Subject: b.Name(), Scope: b.Name(), Reason: reason, Detail: detail,
		})
	}
	for _, a := range d.Actions {
		switch a.Kind {
		case build.BringBase:
			record("bring-base", "", map[string]any{"base": b.Plan.V.Base.String()})
			if err := bs.bases.BringIn(tx, *b.FromBaseID, b.SiteID); err != nil {
				return err
			}
		case build.MakeMachine:
			record(string(store.WorkMakeMachine), "", map[string]any{"machine": b.Machine()})
			if err := bs.makeFor(tx, b, &d); err != nil {
				return err
			}
		case build.GoBack:
			to := b.Before.V.BackTo
			record(string(store.WorkRevertMachine), "", map[string]any{"checkpoint": to})
			m, err := store.LockMachineOfBuild(tx.DB, b.ID)
			if err != nil {
				return err
			}
			m.Become(machine.Reverting, tx.Now)
			if err := errors.Join(tx.Save(&m).Error, tx.Ask(bs.reverts.Of(b.SiteID, m.Subject(),
				b.Before.V.Reverts+1, ofCheckpoint{Machine: m.ID, Name: to}))); err != nil {
				return err
			}
		case build.DoStep:
			record("step", "", map[string]any{"step": b.Plan.V.Steps[a.Step].Name, "attempt": a.Attempt})
			if err := tx.Ask(bs.steps.Of(b.SiteID, store.StepSubject(b.ID, a.Step), a.Attempt,
				ofStep{b.ID, a.Step})); err != nil {
				return err
			}
		case build.CheckMachine:
			record(string(store.WorkInspectMachine), "", nil)
			m, err := store.LockMachineOfBuild(tx.DB, b.ID)
			if err != nil {
				return err
			}
			in, err := bs.expected(tx.DB, m)
			if err != nil {
				return err
			}
			if err := tx.Ask(bs.inspections.Of(b.SiteID, m.Subject(), b.Before.V.Inspections+1, in)); err != nil {
				return err
			}
		case build.SealMachine:
			if err := number(tx, &b); err != nil {
				return err
			}
			record(string(store.WorkSealMachine), "", map[string]any{"number": b.Number})
			m, err := store.LockMachineOfBuild(tx.DB, b.ID)
			if err != nil {
				return err
			}
			if err := tx.Ask(bs.sealings.Of(b.SiteID, m.Subject(), b.Before.V.Seals+1,
				ofMachine{m.ID})); err != nil {
				return err
			}
		case build.CaptureMachine:
			if err := bs.capture(tx, &b, &d); err != nil {
				return err
			}
		case build.ProveVersion:
			if err := proofs.BeginIn(tx, b.StartedBy, &store.Proof{
				VersionID: *b.VersionID, SiteID: b.SiteID, BuildID: &b.ID,
				Proofs: store.JSON[[]sheet.Step]{V: b.Plan.V.Proofs()},
			}); err != nil {
				return err
			}
		case build.StageVersion:
			if err := bs.stage(tx, &b); err != nil {
				return err
			}
		case build.DiscardMachine:
			record(string(store.WorkDiscardMachine), "", map[string]any{"attempt": a.Attempt})
			m, err := store.LockMachineOfBuild(tx.DB, b.ID)
			if err != nil {
				return err
			}
			m.Become(machine.Discarding, tx.Now)
			if err := errors.Join(tx.Save(&m).Error, tx.Ask(bs.discards.Of(b.SiteID, m.Subject(), a.Attempt,
				ofMachine{m.ID}))); err != nil {
				return err
			}
		case build.Settle:
			b.Settled = true
		}
	}
	if d.State.Ended() && !b.State.Ended() {
		b.EndedAt = &tx.Now
		record(string(d.State), d.Why, nil)
		if s.Held(d.State, tx.Now) {
			until := tx.Now.Add(s.Hold)
			b.HeldUntil = &until
		}
	}
	b.State, b.Why = d.State, d.Why
	tx.Emit("build", b.Name(), nil)
	return tx.Save(&b).Error
}

// makeFor begins to make the build's machine. What is refused fails the build.
func (bs *Builds) makeFor(tx *store.Tx, b store.Build, d *build.Decision) error {
	img, err := store.ImageByID(tx.DB, b.ImageID)
	if err != nil {
		return err
	}
	err = bs.makeIn(tx, &store.Machine{
		SiteID: b.SiteID, Name: b.Machine(), BuildID: &b.ID, BaseID: b.BaseID,
		BaseDisk: cmp.Or(b.Plan.V.Base.Disk, b.Plan.V.Base.Named, b.Release.V.Name()), FromBaseID: b.FromBaseID,
		Cores: b.Plan.V.Machine.Cores, Memory: int64(b.Plan.V.Machine.Memory), Disk: int64(b.Plan.V.Machine.Disk),
		MachineClass: img.MachineClass, Purpose: fmt.Sprintf("%s of %s", b.Name(), img.Name), Owner: b.StartedBy,
	}, nil)
	var refused *problem.Problem
	if errors.As(err, &refused) {
		*d = build.Decision{State: build.Failed, Why: "its machine could not be made: " + refused.Error()}
		return nil
	}
	return err
}

// number gives the build's version its number, unless it has one: what is sealed says which version it is.
func number(tx *store.Tx, b *store.Build) error {
	if b.Number != "" {
		return nil
	}
	img, err := store.ImageByID(tx.DB, b.ImageID)
	if err != nil {
		return err
	}
	b.Number, err = versions.NumberIn(tx, img.Name, "")
	return err
}

// capture begins the capture. What is refused fails the build.
func (bs *Builds) capture(tx *store.Tx, b *store.Build, d *build.Decision) error {
	s := b.Plan.V
	img, err := store.ImageByID(tx.DB, b.ImageID)
	if err != nil {
		return err
	}
	site, err := store.SiteByID(tx.DB, b.SiteID)
	if err != nil {
		return err
	}
	works, err := store.BuildWorks(tx.DB, b.ID)
	if err != nil {
		return err
	}
	m, err := store.MachineOfBuild(tx.DB, b.ID)
	if err != nil {
		return err
	}
	v, err := bs.versions.CaptureIn(tx, b.StartedBy, versions.CaptureRequest{
		Image: img.Name, Site: site.Name, BuildMachine: b.Machine(), Number: b.Number,
		Notes: strings.TrimSpace(s.Version.NotesWith(b.Commits.V) + "\n" + m.Noted()),
		Tags:  s.Version.Tags, EndOfLife: s.Version.EndOfLifeFrom(tx.Now), Findings: findings(*b, works),
		Applications: s.Applications, Delivery: s.Delivery,
	})
	var refused *problem.Problem
	if errors.As(err, &refused) {
		*d = build.Decision{State: build.Failed, Why: "the machine could not be captured: " + refused.Error()}
		return nil
	}
	b.VersionID = &v.ID
	return err
}

// stage points pilot at the build's version, or notes why that is refused.
func (bs *Builds) stage(tx *store.Tx, b *store.Build) error {
	img, v, err := versions.Of(tx.DB, *b.VersionID)
	if err != nil {
		return err
	}
	err = bs.versions.StageIn(tx, img.Name, v.Number)
	var refused *problem.Problem
	if errors.As(err, &refused) {
		b.StagingFailed = refused.Error()
		return nil
	}
	b.StagedAt = &tx.Now
	if err != nil || !img.RollPilot {
		return err
	}
	b.Rolled, err = bs.rollovers.RollPilotIn(tx, img, fmt.Sprintf("%s has staged %s", b.Name(), v.Number))
	tx.Record(store.Entry{Verb: "build.roll-pilot", Subject: b.Name(), Scope: b.Name(), Reason: b.Rolled})
	return err
}
