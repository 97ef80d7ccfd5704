package build

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/sheet"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func step(name string, f sheet.OnFailure) sheet.Step {
	return sheet.Step{Name: name, Restart: &sheet.Restart{}, TimeLimit: sheet.Span(time.Minute), OnFailure: f}
}

var (
	stops = sheet.OnFailure{Do: sheet.Stop}
	goOnF = sheet.OnFailure{Do: sheet.GoOn}
	again = sheet.OnFailure{Do: sheet.Again, Times: 2, Pause: sheet.Span(time.Minute)}
	two   = Plan{Steps: []sheet.Step{step("Fare Desk", stops), step("Restart", again)}, TimeLimit: time.Hour}

	done     = Task{State: Done, EndedAt: noon}
	underWay = Task{State: UnderWay}
	broken   = Task{State: TaskFailed, Why: "exit code 3", EndedAt: noon}
)

func TestABuildGoesFromItsMachineToItsVersion(t *testing.T) {
	t.Parallel()
	s := Snapshot{State: Queued, StartedAt: noon, Steps: make([][]Task, 2)}
	next := func(want State, kinds ...Action) {
		t.Helper()
		d := Decide(two, s, noon)
		require.Equal(t, Decision{State: want, Actions: kinds}, d)
		s.State = want
	}
	next(Preparing, Action{Kind: MakeMachine})
	s.Machine = underWay
	next(Preparing)
	s.Machine = done
	next(Working, Action{Kind: DoStep, Step: 0, Attempt: 1})
	s.Steps[0] = []Task{underWay}
	next(Working)
	s.Steps[0] = []Task{done}
	next(Working, Action{Kind: DoStep, Step: 1, Attempt: 1})
	s.Steps[1] = []Task{done}
	next(Checking, Action{Kind: CheckMachine})
	s.Check = underWay
	next(Checking)
	s.Check = done
	next(Sealing, Action{Kind: SealMachine})
	s.Seal = underWay
	next(Sealing)
	s.Seal = done
	next(Capturing, Action{Kind: CaptureMachine})
	s.Capture = underWay
	next(Capturing)
	s.Capture, s.Delivery = done, underWay
	next(Delivering, Action{Kind: DiscardMachine, Attempt: 1})
	s.Discards = []Task{underWay}
	next(Delivering)
	s.Delivery = done
	next(Ready)
	next(Ready)
	s.Discards = []Task{done}
	next(Ready, Action{Kind: Settle})
}

func TestAVersionIsStagedOnceItsCopiesAreThere(t *testing.T) {
	t.Parallel()
	s := Snapshot{
		State: Delivering, Machine: done, Check: done, Seal: done, Capture: done, Delivery: underWay,
		Discards: []Task{done},
	}
	p := Plan{Stage: true}
	require.Equal(t, Decision{State: Delivering}, Decide(p, s, noon))
	s.Delivery = done
	require.Equal(t, Decision{State: Delivering, Actions: []Action{{Kind: StageVersion}}}, Decide(p, s, noon))
	s.Staged = broken
	require.Equal(t, Decision{
		State: Failed, Why: "the version is made, and could not be staged: exit code 3",
		Actions: []Action{{Kind: Settle}},
	}, Decide(p, s, noon))
	s.Staged = done
	require.Equal(t, Decision{State: Ready, Actions: []Action{{Kind: Settle}}}, Decide(p, s, noon))
}

func TestWhateverFailsIsSaidAndTheMachineIsDiscarded(t *testing.T) {
	t.Parallel()
	for why, s := range map[string]Snapshot{
		"its machine could not be made: exit code 3":     {Machine: broken},
		"step 1, Fare Desk, failed: exit code 3":         {Steps: [][]Task{{broken}, nil}},
		"step 2, Restart, failed: exit code 3":           {Steps: [][]Task{{done}, {broken, broken, broken}}},
		"the seal checks could not be made: exit code 3": {Check: broken},
		"the machine is not fit to be sealed: a secret; no agent": {
			Check: done, Blocking: []string{"a secret", "no agent"},
		},
		"the machine could not be sealed: exit code 3":   {Check: done, Seal: broken},
		"the machine could not be captured: exit code 3": {Check: done, Seal: done, Capture: broken},
		"the version is made, and not all of its copies are: exit code 3": {
			Check: done, Seal: done, Capture: done, Delivery: broken,
		},
		"its time limit of 1h is over, while it was working": {State: Working, StartedAt: noon.Add(-time.Hour)},
		"jonas: not this month":                              {Cancel: "jonas: not this month"},
	} {
		if s.Machine.State == Unasked {
			s.Machine = done
		}
		if s.Steps == nil {
			s.Steps = [][]Task{{done}, {done}}
		}
		want := Failed
		if s.Cancel != "" {
			want = Cancelled
		}
		d := Decide(two, s, noon)
		require.Equal(t, Decision{
			State: want, Why: why, Actions: []Action{{Kind: DiscardMachine, Attempt: 1}},
		}, d)
	}
}

func TestAFailedStepIsTriedAgainAfterItsPause(t *testing.T) {
	t.Parallel()
	s := Snapshot{State: Working, StartedAt: noon, Machine: done, Steps: [][]Task{{done}, {broken}}}
	d := Decide(two, s, noon.Add(59*time.Second))
	require.Equal(t, Decision{State: Working, Why: "step 2, Restart, failed and is tried again: exit code 3"}, d)
	d = Decide(two, s, noon.Add(time.Minute))
	require.Equal(t, Decision{State: Working, Actions: []Action{{Kind: DoStep, Step: 1, Attempt: 2}}}, d)
	s.Steps[1] = []Task{broken, broken}
	d = Decide(two, s, noon.Add(time.Minute))
	require.Equal(t, []Action{{Kind: DoStep, Step: 1, Attempt: 3}}, d.Actions)
	s.Steps[1] = []Task{broken, done}
	require.Equal(t, Checking, Decide(two, s, noon).State)

	p := Plan{Steps: []sheet.Step{step("one", goOnF)}, TimeLimit: time.Hour}
	s = Snapshot{Machine: done, Steps: [][]Task{{broken}}}
	require.Equal(t, Checking, Decide(p, s, noon).State, "it is noted, and the build goes on")
}

func TestAStepWhoseConditionIsNotMetIsPassedOver(t *testing.T) {
	t.Parallel()
	skipped := step("one", stops)
	skipped.Skipped = true
	p := Plan{Steps: []sheet.Step{skipped, step("two", stops)}, TimeLimit: time.Hour}
	s := Snapshot{State: Preparing, StartedAt: noon, Machine: done, Steps: make([][]Task, 2)}
	require.Equal(t, []Action{{Kind: DoStep, Step: 1, Attempt: 1}}, Decide(p, s, noon).Actions)
	s.Steps[1] = []Task{done}
	require.Equal(t, Checking, Decide(p, s, noon).State)
	require.Equal(t, StepSkipped, StepStateOf(skipped, Task{}, Working))
	require.Equal(t, StepSkipped, StepStateOf(skipped, Task{}, Failed))
	require.True(t, StepSkipped.Settled())
}

func TestTheMachineOfAFailedBuildIsHeldForAWhile(t *testing.T) {
	t.Parallel()
	discarding := []Action{{Kind: DiscardMachine, Attempt: 1}}
	why := "step 1, Fare Desk, failed: exit code 3"
	s := Snapshot{State: Working, StartedAt: noon, Machine: done, Steps: [][]Task{{broken}, nil}, Hold: time.Hour}
	require.Equal(t, Decision{State: Failed, Why: why}, Decide(two, s, noon))
	s.State, s.HeldUntil = Failed, noon.Add(time.Hour)
	require.Equal(t, Decision{State: Failed}, Decide(two, s, noon.Add(time.Hour-1)))
	require.Equal(t, Decision{State: Failed, Actions: discarding}, Decide(two, s, noon.Add(time.Hour)))
	s.HeldUntil = noon
	require.Equal(t, discarding, Decide(two, s, noon).Actions)
	s.Discards = []Task{underWay}
	require.False(t, s.Held(Failed, noon.Add(-time.Hour)), "it is being discarded")

	s = Snapshot{State: Working, StartedAt: noon, Machine: done, Steps: [][]Task{nil, nil}, Hold: time.Hour}
	require.Empty(t, Decide(two, s, noon.Add(2*time.Hour)).Actions, "its time limit is over")
	s.Cancel = "jonas"
	require.Equal(t, discarding, Decide(two, s, noon).Actions, "who cancels it does not want it held")
	s = Snapshot{
		State: Sealing, Machine: done, Steps: [][]Task{{done}, {done}}, Check: done, Seal: broken, Hold: time.Hour,
	}
	require.Equal(t, discarding, Decide(two, s, noon).Actions, "nobody can look at what was sealed")
	s = Snapshot{State: Failed, Machine: done, Steps: [][]Task{nil, nil}, Hold: time.Hour}
	require.Equal(t, discarding, Decide(two, s, noon).Actions, "it failed while its machine was still being made")
	s = Snapshot{State: Preparing, Machine: broken, Steps: [][]Task{nil, nil}, Hold: time.Hour}
	require.Equal(t, discarding, Decide(two, s, noon).Actions, "there is nothing to look at")
	s = Snapshot{
		State: Checking, Machine: done, Steps: [][]Task{{done}, {done}}, Check: done, Blocking: []string{"x"}, Hold: 1,
	}
	require.Empty(t, Decide(two, s, noon).Actions)
}

func TestABuildGoesOnFromTheStepThatFailed(t *testing.T) {
	t.Parallel()
	s := Snapshot{
		State: Working, StartedAt: noon, Machine: done, Steps: [][]Task{{done}, {broken, broken, broken}},
		Before: []int{0, 3},
	}
	require.Equal(t, Decision{State: Working, Actions: []Action{{Kind: DoStep, Step: 1, Attempt: 4}}},
		Decide(two, s, noon))
	s.Steps[1] = append(s.Steps[1], broken)
	require.Equal(t, []Action{{Kind: DoStep, Step: 1, Attempt: 5}}, Decide(two, s, noon.Add(time.Minute)).Actions)
	s.Steps[1] = append(s.Steps[1], broken, broken)
	require.Equal(t, Failed, Decide(two, s, noon.Add(time.Minute)).State)
	s.Steps[1][5] = done
	require.Equal(t, Checking, Decide(two, s, noon).State)
}

func TestTheTimeLimitAndACancelEndWhatIsNotCapturedYet(t *testing.T) {
	t.Parallel()
	s := Snapshot{State: Working, StartedAt: noon, Machine: done, Steps: [][]Task{{underWay}, nil}}
	require.Equal(t, Working, Decide(two, s, noon.Add(time.Hour-1)).State)
	require.Equal(t, Failed, Decide(two, s, noon.Add(time.Hour)).State)
	s.StartedAt = time.Time{}
	require.Equal(t, Working, Decide(two, s, noon).State)

	s = Snapshot{
		State: Capturing, StartedAt: noon.Add(-2 * time.Hour), Cancel: "late", Machine: done,
		Steps: [][]Task{{done}, {done}}, Check: done, Seal: done, Capture: underWay,
	}
	require.Equal(t, Decision{State: Capturing}, Decide(two, s, noon))
	s.State = Sealing // the capture was asked for, and that was not written down yet
	require.Equal(t, Decision{State: Capturing}, Decide(two, s, noon))
}

func TestAMachineIsDiscardedUntilItIsGone(t *testing.T) {
	t.Parallel()
	s := Snapshot{State: Failed, Machine: underWay}
	require.Equal(t, Decision{State: Failed}, Decide(two, s, noon), "it is still being made")
	s.Machine = broken
	require.Equal(t, []Action{{Kind: DiscardMachine, Attempt: 1}}, Decide(two, s, noon).Actions)
	s.Discards = []Task{underWay}
	require.Empty(t, Decide(two, s, noon).Actions)
	s.Discards = []Task{broken}
	require.Empty(t, Decide(two, s, noon.Add(discardAgain-1)).Actions)
	require.Equal(t, []Action{{Kind: DiscardMachine, Attempt: 2}}, Decide(two, s, noon.Add(discardAgain)).Actions)
	s.Discards = []Task{broken, done}
	require.Equal(t, []Action{{Kind: Settle}}, Decide(two, s, noon).Actions)
	require.Equal(t, []Action{{Kind: Settle}}, Decide(two, Snapshot{State: Cancelled}, noon).Actions)
}

func TestAMachineIsMadeOfABaseOnceThatIsAtItsSite(t *testing.T) {
	t.Parallel()
	p, s := two, Snapshot{State: Queued, StartedAt: noon, Steps: make([][]Task, 2)}
	p.Brings = true
	require.Equal(t, Decision{State: Preparing, Actions: []Action{{Kind: BringBase}}}, Decide(p, s, noon))
	s.Base = Task{State: UnderWay, Why: "its base is being brought to its site, 40%"}
	require.Equal(t, Decision{State: Preparing, Why: s.Base.Why}, Decide(p, s, noon))
	s.Base = broken
	d := Decide(p, s, noon)
	require.Equal(t, Failed, d.State)
	require.Equal(t, "its base cannot be used: exit code 3", d.Why)
	s.Base = done
	require.Equal(t, []Action{{Kind: MakeMachine}}, Decide(p, s, noon).Actions)
	s.Base, s.Machine = Task{}, done
	require.Equal(t, Working, Decide(p, s, noon).State, "whatever becomes of the base once the machine is there")
}

func TestStatesThatEnd(t *testing.T) {
	t.Parallel()
	for _, s := range States() {
		require.Equal(t, s == Ready || s == Failed || s == Cancelled, s.Ended(), s)
		require.Equal(t, s == Capturing || s == Proving || s == Delivering || s == Ready, s.Captures(), s)
	}
}

func TestAStepStandsAsItsLastTry(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		onFailure sheet.OnFailure
		last      Task
		state     State
		want      StepState
	}{
		{stops, Task{}, Working, StepWaits},
		{stops, Task{}, Failed, StepDropped},
		{stops, underWay, Working, StepGoesOn},
		{stops, underWay, Cancelled, StepDropped},
		{stops, done, Cancelled, StepDone},
		{stops, broken, Failed, StepFailed},
		{again, broken, Working, StepFailed},
		{goOnF, broken, Working, StepNoted},
	} {
		require.Equal(t, c.want, StepStateOf(step("one", c.onFailure), c.last, c.state), c)
		require.Contains(t, StepStates(), c.want)
		require.Equal(t, c.want == StepDone || c.want == StepNoted, c.want.Settled())
	}
}

// played is a site that does what builds ask for, and fails at will.
type played struct {
	t       *rapid.T
	plan    Plan
	s       Snapshot
	now     time.Time
	actions map[Action]int
}

// happens says whether something does that does so one time in n.
func (p *played) happens(n int, what string) bool { return rapid.IntRange(1, n).Draw(p.t, what) == 1 }

// proceed lets what is under way end at some time, one way or the other.
func (p *played) proceed(task *Task, what string) {
	if task.State != UnderWay || p.happens(2, what+" goes on") {
		return
	}
	*task = Task{State: Done, EndedAt: p.now}
	if p.happens(6, what+" fails") {
		*task = Task{State: TaskFailed, Why: what + " broke", EndedAt: p.now}
	}
}

func (p *played) do(a Action) {
	p.actions[a]++
	require.Equal(p.t, 1, p.actions[a], "%v is asked for once", a)
	switch a.Kind {
	case BringBase:
		require.True(p.t, p.plan.Brings)
		p.s.Base = underWay
	case MakeMachine:
		require.True(p.t, !p.plan.Brings || p.s.Base.State == Done, "of a base that is there")
		p.s.Machine = underWay
	case GoBack:
		require.True(p.t, p.s.Kept)
		p.s.Back = underWay
	case DoStep:
		require.Equal(p.t, Done, p.s.Machine.State)
		require.True(p.t, p.s.BackTo == "" || p.s.Back.State == Done, "it goes back first")
		require.False(p.t, p.plan.Steps[a.Step].Skipped)
		for i := range a.Step {
			if p.plan.Steps[i].Skipped {
				continue
			}
			last := p.s.Steps[i][len(p.s.Steps[i])-1]
			require.NotEqual(p.t, UnderWay, last.State, "one step after the other")
		}
		require.Len(p.t, p.s.Steps[a.Step], a.Attempt-1)
		p.s.Steps[a.Step] = append(p.s.Steps[a.Step], underWay)
	case CheckMachine:
		p.s.Check = underWay
	case SealMachine:
		require.Equal(p.t, Done, p.s.Check.State)
		require.Empty(p.t, p.s.Blocking)
		require.Equal(p.t, Unasked, p.s.Seal.State, "what was half sealed is not sealed again")
		p.s.Seal = underWay
	case CaptureMachine:
		require.Equal(p.t, Done, p.s.Seal.State, "never captured unsealed")
		require.Empty(p.t, p.s.Discards)
		p.s.Capture = underWay
	case ProveVersion:
		require.True(p.t, p.plan.Prove)
		require.Equal(p.t, Done, p.s.Capture.State)
		p.s.Proof = underWay
	case StageVersion:
		require.True(p.t, !p.plan.Prove || p.s.Proof.State == Done)
		require.Equal(p.t, Done, p.s.Delivery.State)
		p.s.Staged = Task{State: Done}
	case DiscardMachine:
		require.NotEqual(p.t, UnderWay, p.s.Machine.State)
		require.NotEqual(p.t, UnderWay, p.s.Capture.State)
		require.NotEqual(p.t, UnderWay, p.s.Back.State)
		require.True(p.t, p.s.State.Ended() || p.s.Capture.State == Done, "while it is %s", p.s.State)
		p.s.Discards = append(p.s.Discards, underWay)
	}
}

// goOn has the build go on from the step that failed.
func (p *played) goOn() {
	p.s.State, p.s.StartedAt, p.s.HeldUntil, p.s.Cancel = Working, p.now, time.Time{}, ""
	p.s.Check, p.s.Blocking = Task{}, nil
	delete(p.actions, Action{Kind: CheckMachine})
	p.s.Before = make([]int, len(p.s.Steps))
	if p.s.BackTo = ""; p.s.Seal.State != Unasked || p.s.Kept && p.happens(2, "goes back") {
		require.True(p.t, p.s.Kept)
		p.s.BackTo, p.s.Back, p.s.Seal = "all is in", Task{}, Task{}
		for _, kind := range []ActionKind{GoBack, SealMachine} {
			delete(p.actions, Action{Kind: kind})
		}
	}
	for i, tries := range p.s.Steps {
		if last := len(tries) - 1; last >= 0 && !StepStateOf(p.plan.Steps[i], tries[last], Failed).Settled() {
			p.s.Before[i] = len(tries)
		}
	}
}

func TestEveryBuildEndsAndLeavesNoMachine(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		plan := Plan{
			TimeLimit: time.Duration(rapid.IntRange(1, 120).Draw(t, "limit")) * time.Minute,
			Stage:     rapid.Bool().Draw(t, "stage"), Prove: rapid.Bool().Draw(t, "prove"),
			Brings: rapid.Bool().Draw(t, "brings a base"),
		}
		for range rapid.IntRange(0, 5).Draw(t, "steps") {
			plan.Steps = append(plan.Steps, step("one", rapid.SampledFrom([]sheet.OnFailure{
				stops, goOnF, again,
			}).Draw(t, "on failure")))
			plan.Steps[len(plan.Steps)-1].Skipped = rapid.Bool().Draw(t, "skipped")
		}
		p := &played{t: t, plan: plan, now: noon, actions: map[Action]int{}}
		p.s = Snapshot{State: Queued, StartedAt: noon, Steps: make([][]Task, len(plan.Steps))}
		p.s.Hold = time.Duration(rapid.IntRange(0, 2).Draw(t, "hold")) * time.Hour
		again := rapid.IntRange(0, 2).Draw(t, "goes on so often")
		for range 4000 {
			d := Decide(plan, p.s, p.now)
			require.Equal(t, d, Decide(plan, p.s, p.now))
			if p.s.State.Ended() {
				require.Equal(t, p.s.State, d.State, "what ended stays ended")
			}
			if d.State == Failed && p.s.State != Failed || d.State == Cancelled && p.s.State != Cancelled {
				require.NotEmpty(t, d.Why)
			}
			if d.State == Failed && p.s.State != Failed && p.s.Held(d.State, p.now) {
				p.s.HeldUntil = p.now.Add(p.s.Hold)
			}
			p.s.State = d.State
			if held := p.s.Held(d.State, p.now); held {
				require.Empty(t, d.Actions, "nothing is done while somebody looks")
				if again > 0 && p.happens(3, "goes on") {
					again--
					p.goOn()
					continue
				}
			}
			for _, a := range d.Actions {
				if a.Kind == Settle {
					require.True(t, d.State.Ended())
					if p.s.Machine.State != Unasked {
						require.Equal(t, Done, p.s.Discards[len(p.s.Discards)-1].State)
					}
					if d.State == Ready {
						require.Equal(t, Done, p.s.Capture.State)
						require.Equal(t, plan.Stage, p.s.Staged.State == Done)
						require.Equal(t, plan.Prove, p.s.Proof.State == Done)
					}
					return
				}
				p.do(a)
			}
			p.now = p.now.Add(time.Duration(rapid.IntRange(1, 180).Draw(t, "passes")) * time.Second)
			if p.happens(60, "cancelled") {
				p.s.Cancel = "not this month"
			}
			p.proceed(&p.s.Base, "bringing")
			p.proceed(&p.s.Machine, "making")
			p.proceed(&p.s.Back, "going back")
			for i := range p.s.Steps {
				for j := range p.s.Steps[i] {
					p.proceed(&p.s.Steps[i][j], "step")
				}
			}
			p.s.Kept = p.s.Kept || p.s.State == Working && p.happens(4, "keeps")
			p.proceed(&p.s.Check, "check")
			if p.s.Check.State == Done && p.s.Seal.State == Unasked && p.happens(20, "blocks") {
				p.s.Blocking = []string{"a secret"}
			}
			p.proceed(&p.s.Seal, "seal")
			p.proceed(&p.s.Capture, "capture")
			if p.s.Capture.State == Done && p.s.Delivery.State == Unasked {
				p.s.Delivery = underWay
			}
			p.proceed(&p.s.Proof, "proof")
			p.proceed(&p.s.Delivery, "delivery")
			for i := range p.s.Discards {
				p.proceed(&p.s.Discards[i], "discard")
			}
		}
		require.Fail(t, "the build does not end")
	})
}

func BenchmarkDecide(b *testing.B) {
	p, s := Plan{TimeLimit: time.Hour}, Snapshot{State: Working, StartedAt: noon, Machine: done}
	for range sheet.MostSteps {
		p.Steps = append(p.Steps, step("one", stops))
		s.Steps = append(s.Steps, []Task{done})
	}
	for b.Loop() {
		Decide(p, s, noon)
	}
}
