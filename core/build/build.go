// Package build decides how a version of an image is made on a build machine.
//
// A build has a machine made for it, does the steps of its sheet on it one
// after the other, has it checked for whether it is fit to be sealed, has it
// sealed and captured, discards it, and waits until the version's copies are
// where they are needed.
//
// Everything is decided by one pure function, Decide. It looks at what is known
// now (the Plan and the Snapshot) and answers with the state that the build is
// in and Actions. It keeps nothing in mind: it may be asked at any time, twice,
// or after a crash. Whoever calls it asks the site for what it answers, each
// once, and asks again.
package build

import (
	"time"

	"nimblepane/core/sheet"
)

// State of a build.
type State string

const (
	Queued     State = "queued"     // it was not decided about yet
	Preparing  State = "preparing"  // its machine is made
	Working    State = "working"    // its steps are done
	Checking   State = "checking"   // whether the machine is fit to be sealed
	Sealing    State = "sealing"    //
	Capturing  State = "capturing"  //
	Proving    State = "proving"    // that the version starts, on a machine that is thrown away
	Delivering State = "delivering" // the version's copies
	Ready      State = "ready"
	Failed     State = "failed"
	Cancelled  State = "cancelled"
)

// States are all that a build can be in.
func States() []State {
	return []State{
		Queued, Preparing, Working, Checking, Sealing, Capturing, Proving, Delivering, Ready, Failed, Cancelled,
	}
}

// Ended says that the build does nothing more than to clear up behind it.
func (s State) Ended() bool { return s == Ready || s == Failed || s == Cancelled }

// Captures says that the build is past what can be taken back: its version is there, or is being made.
func (s State) Captures() bool {
	return s == Capturing || s == Proving || s == Delivering || s == Ready
}

// Plan is what a build is to do.
type Plan struct {
	Brings    bool // a base to its site, before its machine is made of that
	Steps     []sheet.Step
	TimeLimit time.Duration // of the whole, up to the capture
	Prove     bool          // the version's first start
	Stage     bool          // the version, when its copies are there
}

// Snapshot is all that is known of a build.
type Snapshot struct {
	State     State // as it was recorded
	StartedAt time.Time
	Cancel    string   // why it is to be cancelled, "" if it is not
	Base      Task     // bringing its base to its site
	Machine   Task     // making its machine and starting it
	Steps     [][]Task // the tries of each step
	// Before is how many tries of each step were made before the build last went on, and count no more; none if it
	// did not.
	Before []int
	// Hold is for how long the machine is held if the build fails before it is sealed, and HeldUntil until when it is,
	// once the build has.
	Hold      time.Duration
	HeldUntil time.Time
	// Kept says that its machine has a checkpoint, and BackTo to which it goes back before the build goes on, if to
	// one.
	Kept     bool
	BackTo   string
	Back     Task
	Check    Task
	Blocking []string // what the seal checks found that blocks
	Seal     Task
	Capture  Task
	Proof    Task
	Delivery Task
	Staged   Task
	Discards []Task // the tries to discard its machine
}

// tries are those of a step that count, and how many were made before.
func (s Snapshot) tries(step int) (counting []Task, before int) {
	if step < len(s.Before) {
		before = s.Before[step]
	}
	return s.Steps[step][before:], before
}

// Held says whether the machine is held now, of a build in the state, and not discarded.
func (s Snapshot) Held(state State, now time.Time) bool {
	if state != Failed || s.Machine.State != Done || len(s.Discards) > 0 {
		return false
	}
	if s.Seal.State != Unasked && (s.Seal.State != TaskFailed || !s.Kept) {
		return false // what is half sealed is good for nothing, unless it can go back
	}
	if s.HeldUntil.IsZero() {
		return s.Hold > 0 && s.State != Failed // it fails now; one that failed without being held is not held later
	}
	return now.Before(s.HeldUntil)
}

// Task is something that a site is asked for.
type Task struct {
	State   TaskState
	Why     string // it failed
	EndedAt time.Time
}

// TaskState is how a task stands.
type TaskState string

const (
	Unasked    TaskState = ""
	UnderWay   TaskState = "under way"
	Done       TaskState = "done"
	TaskFailed TaskState = "failed"
)

// TaskStates are all of them.
func TaskStates() []TaskState { return []TaskState{Unasked, UnderWay, Done, TaskFailed} }

// StepState is how a step stands, as people are told.
type StepState string

const (
	StepWaits   StepState = "waiting"
	StepGoesOn  StepState = "under way"
	StepDone    StepState = "done"
	StepFailed  StepState = "failed"
	StepNoted   StepState = "noted"   // it failed, and the build went on
	StepSkipped StepState = "skipped" // it is switched off, or its condition is not met
	StepLater   StepState = "later"   // a proof, which is done on the machine of the first start
	StepDropped StepState = "dropped" // the build ended before it was done
)

// StepStates are all of them.
func StepStates() []StepState {
	return []StepState{StepWaits, StepGoesOn, StepDone, StepFailed, StepNoted, StepSkipped, StepLater, StepDropped}
}

// Settled says that the build is past the step.
func (s StepState) Settled() bool {
	return s == StepDone || s == StepNoted || s == StepSkipped || s == StepLater
}

// StepStateOf returns the state of a step from its latest task and the state of its build.
func StepStateOf(step sheet.Step, last Task, state State) StepState {
	switch {
	case step.Skipped:
		return StepSkipped
	case step.Proof:
		return StepLater
	}
	switch last.State {
	case Done:
		return StepDone
	case TaskFailed:
		if step.OnFailure.Do == sheet.GoOn {
			return StepNoted
		}
		return StepFailed
	}
	switch {
	case state.Ended():
		return StepDropped
	case last.State == UnderWay:
		return StepGoesOn
	}
	return StepWaits
}

// ActionKind is what is to be done.
type ActionKind string

const (
	BringBase      ActionKind = "bring base" // to the site
	MakeMachine    ActionKind = "make machine"
	GoBack         ActionKind = "go back" // to the checkpoint
	DoStep         ActionKind = "do step"
	CheckMachine   ActionKind = "check machine"
	SealMachine    ActionKind = "seal machine"
	CaptureMachine ActionKind = "capture machine"
	ProveVersion   ActionKind = "prove version"
	StageVersion   ActionKind = "stage version"
	DiscardMachine ActionKind = "discard machine"
	// Settle: there is nothing left to be done.
	Settle ActionKind = "settle"
)

// Action is something that is to be done now.
type Action struct {
	Kind    ActionKind
	Step    int // its index, for DoStep
	Attempt int // at a step or a discard, from 1
}

// Decision is what is to be done for a build, and the state that it is in then.
type Decision struct {
	State   State
	Why     string // it ended as it did; what it waits for
	Actions []Action
}
