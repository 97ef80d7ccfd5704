// Package proof decides how a version's first start is proved.
//
// A disk that was sealed can still fail when it is first started. So a machine
// is made of the version as a host of a pool would be, is watched until its
// agent speaks, tries what people will use on it, and is thrown away. A person
// may also want one to look at: that is made alike, tries nothing, and goes when
// its time is over.
//
// Like builds, proofs are decided by one pure function, which looks at what is
// known now and may be asked at any time, twice, or after a crash.
package proof

import (
	"fmt"
	"strings"
	"time"

	"nimblepane/core/build"
	"nimblepane/core/sheet"
)

// State of a proof.
type State string

const (
	Waiting  State = "waiting"  // for a copy of the version at its site
	Making   State = "making"   // its machine
	Starting State = "starting" // for the first time
	Trying   State = "trying"   // the machine's checks, applications and proofs
	Kept     State = "kept"     // for the person who wanted to look at it
	Passed   State = "passed"
	Failed   State = "failed"
	Over     State = "over" // nobody wants it any more
)

// States are all of them.
func States() []State { return []State{Waiting, Making, Starting, Trying, Kept, Passed, Failed, Over} }

// Ended says that nothing more is done than to clear up.
func (s State) Ended() bool { return s == Passed || s == Failed || s == Over }

// Limits are how long things may take.
type Limits struct {
	FirstStart time.Duration // until the agent speaks, since the machine was made
	Checks     time.Duration // until the machine's checks have ended, since the agent spoke
}

// UsualLimits are those of real machines.
var UsualLimits = Limits{FirstStart: 20 * time.Minute, Checks: 15 * time.Minute}

// discardAgain is how long a machine is left that could not be discarded.
const discardAgain = time.Minute

// Snapshot is all that is known of a proof.
type Snapshot struct {
	State    State // as it was recorded
	Limits   Limits
	Stamp    string
	Until    time.Time  // it is kept for a person until then; zero if it is none of those
	LetGo    string     // why nobody wants it any more, "" if somebody does
	Version  build.Task // whether it is sealed
	Copy     build.Task // of the version, at the site
	Machine  build.Task
	SpokeAt  time.Time // the agent, first; zero if it did not
	Says     string    // the stamp that it reported
	Checks   build.Task
	Tried    build.Task
	Results  []Result // of what was tried
	Discards []build.Task
}

// Result is what became of one thing that was tried.
type Result struct {
	Name    string  `json:"name"`
	Kind    string  `json:"kind"`              // "application" or "proof"
	Why     string  `json:"why,omitempty"`     // it failed; "" if it did not
	Seconds float64 `json:"seconds"`           // that it took
	Output  string  `json:"output,omitempty"`  // last lines
	Picture []byte  `json:"picture,omitempty"` // of what it opened, as PNG; none if there is no display for it
}

// What a result is of.
const (
	OfApplication = "application"
	OfProof       = "proof"
)

// ActionKind is what is to be done.
type ActionKind string

const (
	DeliverCopy    ActionKind = "deliver copy"
	MakeMachine    ActionKind = "make machine"
	Try            ActionKind = "try"
	DiscardMachine ActionKind = "discard machine"
	Settle         ActionKind = "settle" // there is nothing left to be done
)

// Action is something that is to be done now.
type Action struct {
	Kind    ActionKind
	Attempt int // at a discard, from 1
}

// Decision is what is to be done for a proof, and the state that it is in then.
type Decision struct {
	State   State
	Why     string
	Actions []Action
}

// Decide says what is to be done for a proof.
func Decide(s Snapshot, now time.Time) Decision {
	d := goOn(s, now)
	if s.State.Ended() {
		d = Decision{State: s.State}
	}
	if d.State.Ended() {
		d.Actions = clearUp(s, now)
	}
	return d
}

func goOn(s Snapshot, now time.Time) Decision {
	failed := func(format string, args ...any) Decision {
		return Decision{State: Failed, Why: fmt.Sprintf(format, args...)}
	}
	switch {
	case s.LetGo != "":
		return Decision{State: Over, Why: s.LetGo}
	case !s.Until.IsZero() && !now.Before(s.Until):
		return Decision{State: Over, Why: "its time is over"}
	}
	switch s.Machine.State {
	case build.Unasked:
		return begin(s)
	case build.UnderWay:
		return Decision{State: Making}
	case build.TaskFailed:
		return failed("its machine could not be made: %s", s.Machine.Why)
	}
	if s.SpokeAt.IsZero() {
		if now.Before(s.Machine.EndedAt.Add(s.Limits.FirstStart)) {
			return Decision{State: Starting}
		}
		return failed("its agent did not speak within %s of its first start", sheet.Span(s.Limits.FirstStart))
	}
	switch {
	case s.Says != s.Stamp:
		return failed("its agent says that it runs %q, and not %q", s.Says, s.Stamp)
	case !s.Until.IsZero():
		return Decision{State: Kept}
	}
	switch s.Checks.State {
	case build.TaskFailed:
		return failed("the machine's checks failed: %s", s.Checks.Why)
	case build.Unasked, build.UnderWay:
		if now.Before(s.SpokeAt.Add(s.Limits.Checks)) {
			return Decision{State: Trying}
		}
		return failed("the machine's checks did not end within %s", sheet.Span(s.Limits.Checks))
	}
	switch s.Tried.State {
	case build.Unasked:
		return Decision{State: Trying, Actions: []Action{{Kind: Try}}}
	case build.UnderWay:
		return Decision{State: Trying}
	case build.TaskFailed:
		return failed("what is on it could not be tried: %s", s.Tried.Why)
	}
	var broken []string
	for _, r := range s.Results {
		if r.Why != "" {
			broken = append(broken, r.Name+": "+r.Why)
		}
	}
	if len(broken) > 0 {
		return failed("%s", strings.Join(broken, "; "))
	}
	return Decision{State: Passed}
}

// begin makes the machine once there is something to make it from.
func begin(s Snapshot) Decision {
	switch {
	case s.Version.State == build.TaskFailed:
		return Decision{State: Failed, Why: "the version was not made: " + s.Version.Why}
	case s.Version.State != build.Done:
		return Decision{State: Waiting}
	}
	switch s.Copy.State {
	case build.Unasked:
		return Decision{State: Waiting, Actions: []Action{{Kind: DeliverCopy}}}
	case build.UnderWay:
		return Decision{State: Waiting}
	case build.TaskFailed:
		return Decision{State: Failed, Why: "it has no copy at the site to start it from: " + s.Copy.Why}
	}
	return Decision{State: Making, Actions: []Action{{Kind: MakeMachine}}}
}

// clearUp sees that no machine is left.
func clearUp(s Snapshot, now time.Time) []Action {
	n := len(s.Discards)
	switch {
	case s.Machine.State == build.Unasked || n > 0 && s.Discards[n-1].State == build.Done:
		return []Action{{Kind: Settle}}
	case s.Machine.State == build.UnderWay || s.Tried.State == build.UnderWay:
		return nil // there is nothing yet that could be discarded, or something is done on it
	case n > 0 && (s.Discards[n-1].State != build.TaskFailed || now.Before(s.Discards[n-1].EndedAt.Add(discardAgain))):
		return nil
	}
	return []Action{{Kind: DiscardMachine, Attempt: n + 1}}
}
