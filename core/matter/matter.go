// Package matter names what can wait for a person: the kinds of what Today tells.
package matter

// Kind of a matter.
type Kind string

const (
	Site      Kind = "site"        // a site does not answer
	Rollover  Kind = "rollover"    // a rollover is open
	Build     Kind = "build"       // a build goes on, or failed
	Machine   Kind = "machine"     // a build machine runs for long, or will be discarded
	Proof     Kind = "proof"       // a version is tried out on a machine, or one is kept for a person
	Faulty    Kind = "faulty"      // hosts are faulty
	Drained   Kind = "drained"     // hosts were drained by hand, and not returned
	Drift     Kind = "drift"       // hosts run another version than they should
	Trial     Kind = "trial"       // a trial waits for sign-offs
	Cleared   Kind = "cleared"     // a version could go live
	Copy      Kind = "copy"        // a copy did not arrive
	EndOfLife Kind = "end-of-life" // a version in use reaches its end-of-life
	Flaw      Kind = "flaw"        // a version in use has serious known flaws
	Readiness Kind = "readiness"   // an image could not be rolled back
	Crash     Kind = "crash"       // a background task crashed repeatedly and is set aside
)

// Kinds are all of them.
func Kinds() []Kind {
	return []Kind{
		Site, Rollover, Build, Machine, Proof, Faulty, Drained, Drift, Trial, Cleared, Copy, EndOfLife, Flaw,
		Readiness, Crash,
	}
}
