// Package act names the acts that can be previewed.
package act

// Name of an act.
type Name string

const (
	Stage    Name = "stage"    // point pilot at a version
	Activate Name = "activate" // point live at it
	Rollback Name = "rollback" // point live back
	Retire   Name = "retire"   // delete a version's copies
	Pin      Name = "pin"      // make a pool run one version
	Roll     Name = "roll"     // roll pools over
)

// Names are all of them.
func Names() []Name { return []Name{Stage, Activate, Rollback, Retire, Pin, Roll} }
