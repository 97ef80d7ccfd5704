package engine

import (
	"fmt"
	"strings"
)

// ProblemKind says what sort of problem it is.
type ProblemKind string

const (
	Invalid   ProblemKind = "invalid"   // what was asked for makes no sense
	Conflict  ProblemKind = "conflict"  // it makes sense, but not as things stand
	Uncleared ProblemKind = "uncleared" // the version has no clearance
	Stale     ProblemKind = "stale"     // somebody else changed it in the meantime
	Forbidden ProblemKind = "forbidden" // it takes a role that the person lacks
)

// Problem is an error that a person can act on. Nothing has changed when it is returned.
type Problem struct {
	Kind    ProblemKind
	Text    string
	Reasons []string // one a line, when there are several
}

func (p *Problem) Error() string {
	if len(p.Reasons) == 0 {
		return p.Text
	}
	return p.Text + ": " + strings.Join(p.Reasons, "; ")
}

// Invalidf is a problem with what was asked for.
func Invalidf(format string, args ...any) error {
	return &Problem{Kind: Invalid, Text: fmt.Sprintf(format, args...)}
}

// Conflictf is a problem with how things stand.
func Conflictf(format string, args ...any) error {
	return &Problem{Kind: Conflict, Text: fmt.Sprintf(format, args...)}
}
