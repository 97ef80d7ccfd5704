// Package role knows what people may do: each role has the rights of those before it.
package role

import "slices"

// Role is what an account, or a token, may do at most.
type Role string

const (
	Viewer        Role = "viewer"        // sees everything but accounts
	Operator      Role = "operator"      // makes versions, tries them, rolls pools over
	Approver      Role = "approver"      // puts versions live, and takes them back
	Administrator Role = "administrator" // overrules, loads the estate, manages accounts
)

// Roles are all of them, the least first.
func Roles() []Role { return []Role{Viewer, Operator, Approver, Administrator} }

// Has says whether the role has the rights of another. What is no role has none, and needs none.
func (r Role) Has(other Role) bool {
	return slices.Index(Roles(), r) >= slices.Index(Roles(), other)
}
