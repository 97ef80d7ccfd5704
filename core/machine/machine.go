// Package machine says how build machines stand, what they cost, and what
// becomes of those that were left.
//
// A build machine costs money while it runs. One that belongs to a build never
// outlives it; one that a person made by hand is theirs to discard, and is
// discarded for them when nobody has touched it for long.
package machine

import (
	"fmt"
	"math/big"
	"regexp"
	"time"
)

// State is how a build machine stands.
type State string

const (
	Waiting    State = "waiting" // for the host that it is made from to be empty
	Copying    State = "copying" // that host's disk
	Making     State = "making"
	Starting   State = "starting"
	Running    State = "running"
	Stopping   State = "stopping"
	Off        State = "off"
	Sealed     State = "sealed" // and off: it is never started but from a checkpoint
	Discarding State = "discarding"

	Checkpointing State = "checkpointing" // down, and up again if it was
	Reverting     State = "going back"    // to a checkpoint
	Repairing     State = "repairing"     // what a seal check found
	Trying        State = "trying"        // a step of a sheet
	Gone          State = "gone"
)

// States are all of them.
func States() []State {
	return []State{
		Waiting, Copying, Making, Starting, Running, Stopping, Off, Sealed, Discarding, Checkpointing, Reverting,
		Repairing, Trying, Gone,
	}
}

// Changing says whether something is being done to the machine.
func (s State) Changing() bool {
	switch s {
	case Copying, Making, Starting, Stopping, Discarding, Checkpointing, Reverting, Repairing, Trying:
		return true
	}
	return false
}

// Policy is what an estate allows build machines.
type Policy struct {
	Longest time.Duration // how long one may run before it is named on Today
	Left    time.Duration // how long one that was made by hand is kept though nobody touches it
}

// Known is what is known of a machine.
type Known struct {
	State     State
	OfBuild   bool       // it belongs to a build, which sees to its end
	TouchedAt time.Time  // somebody did something to it, or noted that it is needed
	StartedAt *time.Time // since when it runs; nil while it is off
	Notices   int        // given to its owner since it was touched
	NoticedAt time.Time  // the last of them; zero if there was none
}

// Notices are how many its owner is given before a machine is discarded.
const Notices = 2

// NoticeTime is how long before its end, and before the next of them, a notice
// is given: an eighth of the time for which the machine is kept.
func (p Policy) NoticeTime() time.Duration { return p.Left / 8 }

// Decision is what is to be done about a machine.
type Decision struct {
	Notice  bool      // its owner is told that it will be discarded
	Discard bool      // its time is over
	At      time.Time // when it is, unless somebody touches it; zero if never
	TooLong bool      // it has run for longer than one may
}

// Decide says what is to be done about a machine that nobody may need any more.
// A machine is discarded when its time is over and its owner had both notices,
// each the notice time before what follows: if they came late, because the
// service was down, so does the end.
func Decide(p Policy, k Known, now time.Time) (d Decision) {
	if k.State == Gone || k.State == Discarding {
		return d
	}
	d.TooLong = k.StartedAt != nil && now.Sub(*k.StartedAt) > p.Longest
	if k.OfBuild {
		return d
	}
	notice, more := p.NoticeTime(), time.Duration(Notices-min(k.Notices, Notices))
	// When the next thing is to be done: in time for what is to follow, and a notice time after what was before.
	next := later(k.TouchedAt.Add(p.Left-more*notice), k.NoticedAt.Add(notice))
	d.At = later(next, now).Add(more * notice)
	if now.Before(next) || k.State.Changing() {
		return d
	}
	d.Notice, d.Discard = more > 0, more == 0
	return d
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// Rate is what an hour of a machine costs, in the estate's currency: decimal
// digits, with a point and up to four behind it, such as "0.12".
type Rate string

var rateForm = regexp.MustCompile(`^(0|[1-9][0-9]{0,5})(\.[0-9]{1,4})?$`)

// Check returns an error if that is no rate.
func (r Rate) Check() error {
	if !rateForm.MatchString(string(r)) {
		return fmt.Errorf("%q is no price: write it in quotes with a point, such as \"0.12\"", string(r))
	}
	return nil
}

// Cost is what a machine has cost that ran for that long, with two digits
// behind the point, rounded half up; "" without a rate.
func (r Rate) Cost(ran time.Duration) string {
	price, ok := new(big.Rat).SetString(string(r))
	if !ok {
		return ""
	}
	hours := big.NewRat(int64(ran/time.Second), int64(time.Hour/time.Second))
	return price.Mul(price, hours).FloatString(2)
}
