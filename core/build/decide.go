package build

import (
	"fmt"
	"strings"
	"time"

	"nimblepane/core/sheet"
)

// discardAgain is how long a machine is left that could not be discarded.
const discardAgain = time.Minute

// Decide says what is to be done for a build.
func Decide(p Plan, s Snapshot, now time.Time) Decision {
	if s.State.Ended() {
		return clearUp(s.State, s, now)
	}
	if !s.State.Captures() && s.Capture.State == Unasked {
		if s.Cancel != "" {
			return end(Cancelled, s.Cancel, s, now)
		}
		if limit := s.StartedAt.Add(p.TimeLimit); !s.StartedAt.IsZero() && !now.Before(limit) {
			return end(Failed, fmt.Sprintf("its time limit of %s is over, while it was %s",
				sheet.Span(p.TimeLimit), s.State), s, now)
		}
	}
	switch d := goOn(p, s, now); {
	case d.State.Ended():
		return end(d.State, d.Why, s, now)
	default:
		return d
	}
}

// goOn says what comes next of a build that goes on.
func goOn(p Plan, s Snapshot, now time.Time) Decision {
	failed := func(what, why string) Decision { return Decision{State: Failed, Why: what + ": " + why} }
	if p.Brings && s.Machine.State == Unasked {
		switch s.Base.State {
		case Unasked:
			return Decision{State: Preparing, Actions: []Action{{Kind: BringBase}}}
		case UnderWay:
			return Decision{State: Preparing, Why: s.Base.Why}
		case TaskFailed:
			return failed("its base cannot be used", s.Base.Why)
		}
	}
	switch s.Machine.State {
	case Unasked:
		return Decision{State: Preparing, Actions: []Action{{Kind: MakeMachine}}}
	case UnderWay:
		return Decision{State: Preparing}
	case TaskFailed:
		return failed("its machine could not be made", s.Machine.Why)
	}
	if s.BackTo != "" {
		switch s.Back.State {
		case Unasked:
			return Decision{State: Working, Actions: []Action{{Kind: GoBack}}}
		case UnderWay:
			return Decision{State: Working}
		case TaskFailed:
			return failed("its machine could not go back to checkpoint "+s.BackTo, s.Back.Why)
		}
	}
	for i, step := range p.Steps {
		tries, before := s.tries(i)
		if d, done := decideStep(i, step, tries, before, now); !done {
			return d
		}
	}
	switch s.Check.State {
	case Unasked:
		return Decision{State: Checking, Actions: []Action{{Kind: CheckMachine}}}
	case UnderWay:
		return Decision{State: Checking}
	case TaskFailed:
		return failed("the seal checks could not be made", s.Check.Why)
	}
	if len(s.Blocking) > 0 {
		return failed("the machine is not fit to be sealed", strings.Join(s.Blocking, "; "))
	}
	switch s.Seal.State {
	case Unasked:
		return Decision{State: Sealing, Actions: []Action{{Kind: SealMachine}}}
	case UnderWay:
		return Decision{State: Sealing}
	case TaskFailed:
		return failed("the machine could not be sealed", s.Seal.Why)
	}
	switch s.Capture.State {
	case Unasked:
		return Decision{State: Capturing, Actions: []Action{{Kind: CaptureMachine}}}
	case UnderWay:
		return Decision{State: Capturing}
	case TaskFailed:
		return failed("the machine could not be captured", s.Capture.Why)
	}
	d := Decision{State: Delivering, Actions: discard(s, now)}
	if p.Prove {
		// Deliveries go on meanwhile.
		switch s.Proof.State {
		case Unasked:
			d.State, d.Actions = Proving, append(d.Actions, Action{Kind: ProveVersion})
			return d
		case UnderWay:
			d.State = Proving
			return d
		case TaskFailed:
			return failed("the version is made, and its first start failed", s.Proof.Why)
		}
	}
	switch s.Delivery.State {
	case UnderWay:
		return d
	case TaskFailed:
		return failed("the version is made, and not all of its copies are", s.Delivery.Why)
	}
	if p.Stage {
		switch s.Staged.State {
		case Unasked:
			d.Actions = append(d.Actions, Action{Kind: StageVersion})
			return d
		case TaskFailed:
			return failed("the version is made, and could not be staged", s.Staged.Why)
		}
	}
	return Decision{State: Ready}
}

// decideStep says what comes next of a step, and whether it is done. Before these
// tries others were made that do not count.
func decideStep(i int, step sheet.Step, tries []Task, before int, now time.Time) (d Decision, done bool) {
	try := Decision{State: Working, Actions: []Action{{Kind: DoStep, Step: i, Attempt: before + len(tries) + 1}}}
	switch {
	case step.Skipped, step.Proof:
		return Decision{}, true
	case len(tries) == 0:
		return try, false
	}
	last := tries[len(tries)-1]
	switch {
	case last.State == Done || last.State == TaskFailed && step.OnFailure.Do == sheet.GoOn:
		return Decision{}, true
	case last.State == UnderWay:
		return Decision{State: Working}, false
	case step.OnFailure.Do == sheet.Again && len(tries) <= step.OnFailure.Times:
		if now.Before(last.EndedAt.Add(time.Duration(step.OnFailure.Pause))) {
			return Decision{State: Working, Why: fmt.Sprintf("step %d, %s, failed and is tried again: %s", i+1,
				step.Name, last.Why)}, false
		}
		return try, false
	}
	return Decision{State: Failed, Why: fmt.Sprintf("step %d, %s, failed: %s", i+1, step.Name, last.Why)}, false
}

// end ends a build, and begins to clear up behind it.
func end(to State, why string, s Snapshot, now time.Time) Decision {
	d := clearUp(to, s, now)
	d.Why = why
	return d
}

// clearUp sees that nothing is left of a build that ended but its version and its record.
func clearUp(state State, s Snapshot, now time.Time) Decision {
	d := Decision{State: state}
	switch {
	case s.Held(state, now):
	case s.Machine.State == Unasked || len(s.Discards) > 0 && s.Discards[len(s.Discards)-1].State == Done:
		d.Actions = []Action{{Kind: Settle}}
	default:
		d.Actions = discard(s, now)
	}
	return d
}

// discard discards the machine, unless that is done or under way. While the
// machine is being made or captured there is nothing yet that could be.
func discard(s Snapshot, now time.Time) []Action {
	if s.Machine.State == UnderWay || s.Back.State == UnderWay || s.Capture.State == UnderWay {
		return nil
	}
	n := len(s.Discards)
	if n > 0 {
		last := s.Discards[n-1]
		if last.State != TaskFailed || now.Before(last.EndedAt.Add(discardAgain)) {
			return nil
		}
	}
	return []Action{{Kind: DiscardMachine, Attempt: n + 1}}
}
