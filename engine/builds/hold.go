package builds

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"nimblepane/core/build"
	"nimblepane/core/problem"
	"nimblepane/core/sheet"
	"nimblepane/store"
)

// LongestHold is for how long a build's machine can be held at most.
const LongestHold = 7 * 24 * time.Hour

// checkHold refuses what is no time to hold a machine for.
func checkHold(hold time.Duration) error {
	if hold < 0 || hold > LongestHold || hold%time.Second != 0 {
		return problem.InvalidRequest.Errorf("a build machine is held for at most %s, in whole seconds",
			sheet.Span(LongestHold))
	}
	return nil
}

// Hold has the machine of a build be held for a time from now, if the build has failed, or else for so long after it
// fails.
func (bs *Builds) Hold(ctx context.Context, actor string, id int64, hold time.Duration) error {
	if err := checkHold(hold); err != nil {
		return err
	}
	return bs.change(ctx, actor, id, func(tx *store.Tx, b *store.Build) error {
		until := ""
		switch {
		case b.Held(tx.Now):
			at := tx.Now.Add(hold)
			b.HeldUntil, until = &at, minute(at)
		case b.State.Ended() || b.State.Captures():
			return problem.WrongState.Errorf("%s is %s: it has no build machine to hold", b.Name(), b.State)
		}
		b.HoldSeconds = int64(hold / time.Second)
		tx.Record(store.Entry{
			Verb: "build.hold", Subject: b.Name(), Scope: b.Name(),
			Detail: map[string]any{"hold": sheet.Span(hold).String(), "until": until},
		})
		return nil
	})
}

// Release discards the machine of a build that failed and is held.
func (bs *Builds) Release(ctx context.Context, actor string, id int64) error {
	return bs.change(ctx, actor, id, func(tx *store.Tx, b *store.Build) error {
		if !b.Held(tx.Now) {
			return problem.WrongState.Errorf("%s holds no build machine", b.Name())
		}
		b.HeldUntil = &tx.Now
		tx.Record(store.Entry{Verb: "build.release", Subject: b.Name(), Scope: b.Name()})
		return nil
	})
}

// GoOn has a build that failed, and whose machine is held, go on from the step that failed, or from the seal checks.
// With a text it goes on with that sheet. If a step that was done already is another one in it, or if the machine was
// half sealed, the machine goes back to the last checkpoint before that first.
func (bs *Builds) GoOn(ctx context.Context, actor string, id int64, o Order) error {
	return bs.change(ctx, actor, id, func(tx *store.Tx, b *store.Build) error {
		if !b.Held(tx.Now) {
			return problem.WrongState.Errorf("%s is %s and holds no build machine: start a new build with --hold",
				b.Name(), b.State)
		}
		works, err := store.BuildWorks(tx.DB, b.ID)
		if err != nil {
			return err
		}
		for _, w := range works {
			if w.Open() {
				return problem.Busy.Errorf("task %s is still running at the site although %s has failed: wait until "+
					"it ends",
					w.Kind, b.Name())
			}
		}
		steps, from := StepsOf(*b, works), 0
		for from < len(steps) && build.StepStateOf(b.Plan.V.Steps[from], steps[from].Task, b.State).Settled() {
			from++
		}
		// As many steps stay as they are. What is half sealed is good for nothing.
		old, stays := b.Plan.V.Steps, from
		_, back := find(works, store.WorkSealMachine, b.Before.V.Seals)
		back = back || notReverted(*b, works)
		if o.Text != "" {
			if stays, err = bs.mended(tx, b, from, o); err != nil {
				return err
			}
		}
		before := store.Before{}
		if back || stays < from {
			done := from
			if from, before.BackTo = lastKept(old[:stays], steps); before.BackTo == "" {
				return goesNotBack(b, old[:done], stays)
			}
		}
		before.Tries = make([]int, len(b.Plan.V.Steps))
		for _, w := range works {
			switch w.Kind {
			case store.WorkInspectMachine:
				before.Inspections = max(before.Inspections, w.Attempt)
			case store.WorkSealMachine:
				before.Seals = max(before.Seals, w.Attempt)
			case store.WorkRevertMachine:
				before.Reverts = max(before.Reverts, w.Attempt)
			case store.WorkDoStep:
				var in ofStep
				if err := json.Unmarshal(w.Input, &in); err != nil {
					return fmt.Errorf("read the input of work %s: %w", w.Key, err)
				}
				if in.Step >= from && in.Step < len(before.Tries) {
					before.Tries[in.Step] = max(before.Tries[in.Step], w.Attempt)
				}
			}
		}
		b.State, b.Why, b.EndedAt, b.HeldUntil = build.Working, "", nil, nil
		b.WentOnAt, b.Before = &tx.Now, store.JSON[store.Before]{V: before}
		detail := map[string]any{"mended": o.Text != "", "from": "the seal checks"}
		if from < len(b.Plan.V.Steps) {
			detail["from"] = b.Plan.V.Steps[from].Name
		}
		if before.BackTo != "" {
			detail["back_to"] = before.BackTo
		}
		tx.Record(store.Entry{Verb: "build.go-on", Subject: b.Name(), Scope: b.Name(), Detail: detail})
		return nil
	})
}

// notReverted says whether the build had to revert its machine when it was continued last, and did not.
func notReverted(b store.Build, works []store.Work) bool {
	w, asked := find(works, store.WorkRevertMachine, b.Before.V.Reverts)
	return b.Before.V.BackTo != "" && (!asked || w.State != store.WorkSucceeded)
}

// lastKept returns the last checkpoint that was made by the steps, and from which step on a build goes on that goes
// back to it.
func lastKept(steps []sheet.Step, stand []Step) (from int, name string) {
	for i, step := range slices.Backward(steps) {
		if step.Checkpoint != nil && stand[i].State == build.Done {
			return i + 1, step.Name
		}
	}
	return 0, ""
}

// goesNotBack refuses that a build goes on whose machine has no checkpoint to go back to. Of the steps that are done,
// so many stay as they are.
func goesNotBack(b *store.Build, done []sheet.Step, stays int) error {
	if stays == len(done) {
		return problem.WrongState.Errorf("the build machine of %s is half sealed and has no snapshot to revert to: "+
			"start a new build whose last step makes a snapshot", b.Name())
	}
	return problem.SheetChanged.Errorf("step %d, %s, is done and differs in this sheet, and no snapshot was made "+
		"before it: start a new build", stays+1, done[stays].Name)
}

// mended gives a build another sheet, and returns how many of the steps that are done are as they were in it.
func (bs *Builds) mended(tx *store.Tx, b *store.Build, done int, o Order) (alike int, err error) {
	old := b.Plan.V
	if o.Values == nil { // those that it had, as far as the sheet still has the parameters
		o.Values = map[string]string{}
		s, _ := sheet.Parse([]byte(o.Text)) // what is wrong with it is told below
		for name := range s.Parameters {
			if value, had := old.Values[name]; had {
				o.Values[name] = value
			}
		}
	}
	if o.Files == nil {
		o.Files = b.Files.V
	}
	if o.Commit == "" {
		o.Commit, o.Commits = b.Commit, b.Commits.V
	}
	next, err := bs.planned(tx, o, b.Number)
	if err != nil {
		return 0, err
	}
	plan := next.Plan.V
	for _, part := range []struct {
		what    string
		is, was any
	}{
		{"image", plan.Image, old.Image},
		{"base", plan.Base, old.Base},
		{"machine", plan.Machine, old.Machine},
		{"version's number", plan.Version.Number, old.Version.Number},
	} {
		if !same(part.is, part.was) {
			return 0, problem.SheetChanged.Errorf("the %s differs in this sheet: start a new build", part.what)
		}
	}
	for alike < done && alike < len(plan.Steps) {
		// Proofs were not done on this machine: they may change.
		was, is := old.Steps[alike], plan.Steps[alike]
		if !same(is, was) && (!is.Proof || !was.Proof) {
			break
		}
		alike++
	}
	b.Sheet, b.Plan, b.Files = o.Text, next.Plan, next.Files
	b.Commit, b.Commits = next.Commit, next.Commits
	return alike, nil
}

// same says whether two values are kept alike.
func same(a, b any) bool {
	left, _ := json.Marshal(a) // plain values of our own: cannot fail
	right, _ := json.Marshal(b)
	return bytes.Equal(left, right)
}

// change changes a build, which is then looked at.
func (bs *Builds) change(ctx context.Context, actor string, id int64, fn func(*store.Tx, *store.Build) error) error {
	return bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		b, err := store.LockBuild(tx.DB, id)
		if err != nil {
			return err
		}
		if err := fn(tx, &b); err != nil {
			return err
		}
		tx.Emit("build", b.Name(), nil)
		if err := errors.Join(tx.Save(&b).Error, tx.BuildNow(b.ID)); err != nil {
			return fmt.Errorf("change %s: %w", b.Name(), err)
		}
		return nil
	})
}
