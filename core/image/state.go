package image

// State of a version.
type State string

const (
	Capturing State = "capturing"
	Sealed    State = "sealed"
	Retired   State = "retired"
	Failed    State = "failed" // its capture failed
)

// States are all that a version can be in.
func States() []State { return []State{Capturing, Sealed, Retired, Failed} }

// CopyState is the state of a version's copy at a site.
type CopyState string

const (
	CopyDelivering CopyState = "delivering"
	CopyPresent    CopyState = "present"
	CopyFailed     CopyState = "failed"
	CopyLeaving    CopyState = "leaving" // it is one too many, and is being deleted: nothing is made from it any more
	CopyDeleted    CopyState = "deleted"
)

// CopyStates are all that a copy can be in.
func CopyStates() []CopyState {
	return []CopyState{CopyDelivering, CopyPresent, CopyFailed, CopyLeaving, CopyDeleted}
}
