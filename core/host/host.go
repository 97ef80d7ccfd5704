// Package host knows the states of a host, and which of them can follow which.
//
// A host is off until a rollover gives it a machine. It is emptied of people
// before its disk is made anew, starts from the new disk, has its checks, and
// serves. Whatever goes wrong leaves it faulty, which it is until somebody
// rebuilds it or its agent is heard again. Wherever a host's state is written,
// it is written by this table; the database refuses every other change.
package host

import "slices"

// State of a host, whether a rollover has it in hand or not.
type State string

const (
	Off        State = "off"        // it has no machine yet
	Emptied    State = "emptied"    // nobody is on it, and nobody can come
	Rebuilding State = "rebuilding" // it is given a new disk: it has no machine meanwhile
	Starting   State = "starting"   // its machine starts, and its agent has not spoken yet
	Checking   State = "checking"   // its agent checks whether people can work on it
	Serving    State = "serving"    // it takes sessions
	Draining   State = "draining"   // no new sessions; those there go on
	Faulty     State = "faulty"
)

// States are all of them, in the order of a host's life.
func States() []State {
	return []State{Off, Emptied, Rebuilding, Starting, Checking, Serving, Draining, Faulty}
}

// next are the states that can follow each.
var next = map[State][]State{
	Off:        {Emptied},
	Emptied:    {Rebuilding, Draining, Serving, Faulty, Off},
	Rebuilding: {Starting, Faulty},
	Starting:   {Checking, Faulty},
	Checking:   {Serving, Faulty},
	Serving:    {Draining, Faulty},
	Draining:   {Emptied, Serving, Faulty},
	Faulty:     {Emptied, Serving, Draining},
}

// CanBecome says whether the other state can follow this one. Each can stay as it is.
func (s State) CanBecome(other State) bool {
	return s == other || slices.Contains(next[s], other)
}
