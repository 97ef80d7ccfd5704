// Package rollover decides how hosts move from the version that they run to
// the version that they should run.
//
// A rollover takes the hosts of a pool batch by batch. A host that is taken
// gets no new sessions (it drains); its people leave by themselves, or are
// told and after a grace period signed off; when its agent confirms that
// nobody is left, its disk is made anew from a copy of the version; when its
// checks pass it is put back. All the while enough seats stay free for the
// people who arrive, and no site is asked to clone or start more hosts at once
// than it can.
//
// Everything is decided by one pure function, Decide. It looks at what is
// known now (the Plan and the Snapshot) and answers with Actions. It keeps
// nothing in mind: it may be asked at any time, twice, or after a crash, and a
// host for which nothing is to be done simply gets no action. Whoever calls it
// carries out the actions, records the phase that an action puts its host
// into (Action.Phase), and asks again.
package rollover

import (
	"time"

	"nimblepane/core/host"
)

// State of a rollover.
type State string

const (
	Planned  State = "planned" // it was not decided about yet
	Waiting  State = "waiting" // for its time, or for another to end
	Running  State = "running"
	Paused   State = "paused"
	Finished State = "finished"
	// Stopped is ended early. Hosts whose disk was gone already are still
	// finished, so a stopped rollover is asked about until Decide answers Settle.
	Stopped State = "stopped"
)

// States are all that a rollover can be in.
func States() []State { return []State{Planned, Waiting, Running, Paused, Finished, Stopped} }

// Phase of a host within a rollover.
type Phase string

const (
	Outside    Phase = ""       // in the pool, but not part of the rollover
	Queued     Phase = "queued" // not taken yet
	Draining   Phase = "draining"
	Warned     Phase = "warned" // its people were told that their session will be ended
	Emptied    Phase = "emptied"
	Rebuilding Phase = "rebuilding" // its old disk is gone
	Checking   Phase = "checking"
	Done       Phase = "done"
	Failed     Phase = "failed"
	Left       Phase = "left" // deliberately not touched, with the reason
)

// Phases are all that a host of a rollover can be in.
func Phases() []Phase {
	return []Phase{Queued, Draining, Warned, Emptied, Rebuilding, Checking, Done, Failed, Left}
}

// Settled says that the rollover will do nothing more to the host.
func (p Phase) Settled() bool { return p == Done || p == Failed || p == Left }

// InFlight says that the host is taken and not settled.
func (p Phase) InFlight() bool {
	switch p {
	case Draining, Warned, Emptied, Rebuilding, Checking:
		return true
	}
	return false
}

// LogOff says what becomes of people on a draining host.
type LogOff string

const (
	// Wait for them to leave.
	Wait LogOff = "wait"
	// Warn them, and end the session when the grace period is over.
	Warn LogOff = "warn"
)

// Plan is what a rollover was told to do. Sizes are in hosts and seats: shares
// in per cent are resolved when the rollover is planned.
type Plan struct {
	State  State
	Target int64 // the version that the hosts should run
	// Forced rebuilds hosts that run the target already: someone asked for these hosts by name.
	Forced bool

	BatchSize     int           // hosts, at least 1
	Floor         int           // seats free and in service that the rollover leaves, whatever it does
	LogOff        LogOff        //
	Grace         time.Duration // from the delivered warning to the sign-off
	LastNotice    time.Duration // how long before the end of the grace the last notice is given, 0 for none
	Deadline      time.Duration // how long a host may drain under Wait before Warn applies to it, 0 for no deadline
	Observe       time.Duration `json:"Watch"` // between batches, to see how the last one does
	Budget        int           // hosts that may fail before the rollover pauses
	Excused       int           // failures that a person has seen and resumed after
	EarliestStart time.Time
	ResumedAt     time.Time // warnings given before it no longer count: the pause made them untrue
	Limits        Limits
}

// Limits are the times after which something that should have happened counts as failed.
type Limits struct {
	Silent  time.Duration // since the last heartbeat
	Confirm time.Duration // from a drain order to an agent that speaks but does not confirm it
	SignOff time.Duration // from the first sign-off of a session to its end
	Rebuild time.Duration // from the rebuild order to the end of cloning
	Check   time.Duration // from the end of cloning to passed checks
}

// DefaultLimits suit machines that clone in minutes.
var DefaultLimits = Limits{
	Silent:  3 * time.Minute,
	Confirm: 10 * time.Minute,
	SignOff: 10 * time.Minute,
	Rebuild: 2 * time.Hour,
	Check:   30 * time.Minute,
}

// Snapshot is all that is known of the pool and its site.
type Snapshot struct {
	Hosts []Host // every host of the pool
	Site  Site
	// Listening is since when agents could be heard: their silence before it was the service's own.
	Listening time.Time
	// HeldBy names what has to end before this rollover may begin: a stopped
	// rollover of the pool that still finishes hosts; "" if nothing.
	HeldBy string
}

// Site is what the host's site can take on.
type Site struct {
	Name string
	// ClonesLeft is how many more hosts may be cloned from the target there
	// now: what its copies allow, less the clones under way for any purpose.
	ClonesLeft int
	// StartsLeft is how many more hosts may be started now: the site's stagger
	// limit per minute, less the starts of the last minute.
	StartsLeft int
	// NoCopy explains why nothing can be cloned at all, "" if it can.
	NoCopy string
}

// Host is one host of the pool, as far as it is known.
type Host struct {
	ID      int64
	Name    string
	State   host.State
	Version int64 // the version that its disk was made from, 0 if it has none
	Seats   int

	Phase Phase
	Batch int       // from 1; 0 while queued
	Since time.Time // since when it is in Phase

	// Seen is the time of the agent's last heartbeat; zero if this machine never spoke.
	Seen time.Time
	// Confirmed says that the last heartbeat confirms the present drain order.
	Confirmed bool
	Sessions  []Session // as of the last heartbeat

	// Machine says that it has a machine whose disk was made whole. A host
	// without one is never in service.
	Machine bool
	// Unserved says that the machine has been told to refuse everybody ever
	// since its disk was made.
	Unserved bool
	// Vouched is when a person gave their word that nobody is on it, zero if
	// nobody did. The word counts for one rollover, and only until the agent
	// speaks for itself.
	Vouched time.Time
	// DrainedBy names the person who drained it by hand, "" if nobody did.
	DrainedBy string

	// Rebuild is how the making of its new disk stands, in this rollover.
	Rebuild Task
	// Stamp is the version that the new machine says it runs, 0 while it has not spoken.
	Stamp  int64
	Checks Task
}

// Joins says whether a rollover to the target has something to do for the host:
// all but those with a disk of the target that serve, or that a person drained.
func (h Host) Joins(target int64) bool {
	return h.Version != target || h.State != host.Serving && h.DrainedBy == ""
}

// Task is something asked of a platform or an agent.
type Task struct {
	State TaskState
	Why   string // when failed
}

// TaskState is how a Task stands.
type TaskState string

const (
	Unknown   TaskState = "" // not asked for, or no answer yet
	UnderWay  TaskState = "under way"
	Succeeded TaskState = "succeeded"
	Broken    TaskState = "failed"
)

// Session is one person signed in on a host.
type Session struct {
	Key    string // unique on its host
	Person string

	Warned   time.Time // when the first notice was delivered, zero if it was not
	Asked    time.Time // when the first notice was ordered
	Reminded time.Time // when the last notice was ordered
	// SignOffFirst and SignOffLast are when the sign-off was first and last ordered.
	SignOffFirst, SignOffLast time.Time
}

// ActionKind is what an Action does.
type ActionKind string

const (
	Postpone  ActionKind = "postpone" // the rollover waits for its time
	Start     ActionKind = "start"    // the rollover begins
	DrainHost ActionKind = "drain"    // no new sessions on the host
	WarnHost  ActionKind = "warn"     // first notice to the sessions
	Remind    ActionKind = "remind"   // last notice to the sessions
	SignOff   ActionKind = "sign off" // end the sessions
	EmptyHost ActionKind = "empty"    // nobody is left on the host
	Refill    ActionKind = "refill"   // an emptied host has sessions again: it drains on
	Rebuild   ActionKind = "rebuild"  // throw the disk away and make a new one of the target
	BootHost  ActionKind = "boot"     // the new disk is there, and the machine starts from it
	CheckHost ActionKind = "check"    // its agent speaks: it checks whether people can work on it
	Return    ActionKind = "return"   // back to service on the target: done
	Release   ActionKind = "release"  // let go of it with what it has (Rest); it is settled as left
	Fail      ActionKind = "fail"     // settle as failed, and let go of it with what it has (Rest)
	Leave     ActionKind = "leave"    // settle as left
	Pause     ActionKind = "pause"    // the rollover pauses
	Finish    ActionKind = "finish"   // all hosts are settled
	Settle    ActionKind = "settle"   // a stopped rollover has nothing left in flight
)

// Action is one thing to be done.
type Action struct {
	Kind     ActionKind
	Host     int64    // 0 if it concerns the rollover as a whole
	Sessions []string // keys, for WarnHost, Remind and SignOff
	Batch    int      // the batch that the host is taken in, for DrainHost and EmptyHost
	Why      string
	// Rest is the state in which Release and Fail leave the host: serving only
	// if it has a machine that people can work on.
	Rest host.State
}

// HostState returns the state that the action puts its host into, and false if it leaves the state alone.
func (a Action) HostState() (host.State, bool) {
	switch a.Kind {
	case DrainHost, Refill:
		return host.Draining, true
	case EmptyHost:
		return host.Emptied, true
	case Rebuild:
		return host.Rebuilding, true
	case BootHost:
		return host.Starting, true
	case CheckHost:
		return host.Checking, true
	case Return:
		return host.Serving, true
	case Release, Fail:
		return a.Rest, true
	}
	return "", false
}

// Phase returns the phase that the action puts its host into, and false if it leaves the phase alone.
func (a Action) Phase() (Phase, bool) {
	switch a.Kind {
	case DrainHost, Refill:
		return Draining, true
	case WarnHost:
		return Warned, true
	case EmptyHost:
		return Emptied, true
	case Rebuild:
		return Rebuilding, true
	case BootHost:
		return Checking, true
	case Return:
		return Done, true
	case Fail:
		return Failed, true
	case Leave, Release:
		return Left, true
	}
	return "", false
}

// Decision is what Decide answers.
type Decision struct {
	Actions []Action
	// Holds says in words what the rollover waits for, if it does.
	Holds []string
}
