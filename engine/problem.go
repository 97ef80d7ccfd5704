package engine

import (
	"fmt"
	"strings"
)

// Kind says what sort of problem it is.
type Kind string

const (
	Invalid   Kind = "invalid"   // what was asked for makes no sense
	Conflict  Kind = "conflict"  // it makes sense, but not as things stand
	Uncleared Kind = "uncleared" // the version has no clearance
	Stale     Kind = "stale"     // somebody else changed it in the meantime
	Forbidden Kind = "forbidden" // it takes a role that the person lacks
)

// Problem is an error that a person can act on. Nothing has changed when it is returned.
type Problem struct {
	Kind    Kind
	Text    string
	Reasons []string // one a line, when there are several
}

func (p *Problem) Error() string {
	if len(p.Reasons) == 0 {
		return p.Text
	}
	return p.Text + ": " + strings.Join(p.Reasons, "; ")
}

func invalid(format string, args ...any) error {
	return &Problem{Kind: Invalid, Text: fmt.Sprintf(format, args...)}
}

func conflict(format string, args ...any) error {
	return &Problem{Kind: Conflict, Text: fmt.Sprintf(format, args...)}
}
