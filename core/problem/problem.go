// Package problem has the errors that a person or program can act on.
//
// Each has a type from one list, All. The API returns the type as a URI
// (RFC 9457), the client and the console switch on it, and errors.Is compares
// it: errors.Is(err, problem.Busy).
package problem

import (
	"errors"
	"fmt"
	"strings"
)

// Type is the name of a problem type, such as "name-taken". As an error it is the target of errors.Is.
type Type string

// Error returns the title of the type.
func (t Type) Error() string { return t.Entry().Title }

// Errorf returns a problem of the type.
func (t Type) Errorf(format string, args ...any) error {
	return &Problem{Type: t, Detail: fmt.Sprintf(format, args...)}
}

// Prefix begins the URI reference of a type. The rest is its name.
const Prefix = "/problems/"

// URI returns the URI reference of the type, under which the service describes it.
func (t Type) URI() string { return Prefix + string(t) }

// FromURI returns the type of a URI reference or an absolute URI.
func FromURI(uri string) (Type, bool) {
	_, name, found := strings.Cut(uri, Prefix)
	for _, e := range All {
		if found && string(e.Type) == name {
			return e.Type, true
		}
	}
	return "", false
}

// Problem is an error that a person or program can act on. An act that returns one has changed nothing.
type Problem struct {
	Type    Type
	Detail  string   // what is wrong, where, and what would be right
	Reasons []string // one per line, if several
}

func (p *Problem) Error() string {
	if len(p.Reasons) == 0 {
		return p.Detail
	}
	return p.Detail + ": " + strings.Join(p.Reasons, "; ")
}

// Is reports whether the target is the type of the problem.
func (p *Problem) Is(target error) bool {
	t, is := target.(Type)
	return is && t == p.Type
}

// Of returns the type of the problem in an error's chain, "" if there is none.
func Of(err error) Type {
	var p *Problem
	if errors.As(err, &p) {
		return p.Type
	}
	return ""
}
