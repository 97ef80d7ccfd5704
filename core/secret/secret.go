// Package secret says where values come from that nobody may read later, and
// keeps them out of what is written down.
//
// A build sheet names a secret and where the service finds it: a variable of
// the service's environment, or a file in its folder of secrets. The value goes
// to the one step that asks for it and nowhere else. A step may still print it;
// so whatever steps write passes through Values.Hide before it is kept.
package secret

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
)

// Source is where a secret is found: one of its fields is set.
type Source struct {
	Environment string `yaml:"environment" json:"environment,omitempty"` // a variable of the service, without Prefix
	File        string `yaml:"file" json:"file,omitempty"`               // in the service's folder of secrets
}

// Prefix is what the names of the service's variables begin with that hold
// secrets. Others, such as the address of its database, are not for sheets.
const Prefix = "NIMBLEPANE_SECRET_"

// Bounds of a value, in bytes. A shorter one would be found in much that is none.
const (
	Least = 8
	Most  = 16 << 10
)

// Finder finds the value of a secret. Its error says what is missing where.
type Finder func(Source) (string, error)

// In returns a finder that looks in an environment and in a folder, which may be nil.
func In(environment func(name string) (string, bool), folder fs.FS) Finder {
	return func(s Source) (value string, err error) {
		where := "the variable " + Prefix + s.Environment
		switch {
		case s.Environment != "":
			given := false
			if value, given = environment(Prefix + s.Environment); !given {
				return "", fmt.Errorf("the service's environment has no %s: set it and start the service anew",
					Prefix+s.Environment)
			}
		case folder == nil:
			return "", fmt.Errorf("the service has no folder of secrets: start it with --secrets FOLDER")
		default:
			where = "the file " + s.File
			content, err := fs.ReadFile(folder, s.File)
			if errors.Is(err, fs.ErrNotExist) {
				return "", fmt.Errorf("the service's folder of secrets has no file %s", s.File)
			}
			if err != nil {
				return "", fmt.Errorf("the file %s in the service's folder of secrets cannot be read: %w", s.File, err)
			}
			value = strings.TrimSuffix(string(content), "\n")
		}
		if len(value) < Least || len(value) > Most || strings.ContainsRune(value, 0) {
			return "", fmt.Errorf("%s has a value of %d bytes: a secret has %d to %d, without zeros", where, len(value),
				Least, Most)
		}
		return value, nil
	}
}

// Values are the values of secrets, by their names.
type Values map[string]string

// hidden is a text that is not to be seen, and the name of the secret that it is of.
type hidden struct{ text, name string }

// hidden are all values and the lines of those that have several, the longest first.
func (v Values) hidden() (list []hidden) {
	for name, value := range v {
		for _, text := range append(strings.Split(value, "\n"), value) {
			if len(text) >= Least {
				list = append(list, hidden{text, name})
			}
		}
	}
	slices.SortFunc(list, func(a, b hidden) int {
		return cmp.Or(cmp.Compare(len(b.text), len(a.text)), cmp.Compare(a.text, b.text), cmp.Compare(a.name, b.name))
	})
	return list
}

// Hide returns the text with the name of the secret in place of each value.
func (v Values) Hide(text string) string {
	for _, h := range v.hidden() {
		text = strings.ReplaceAll(text, h.text, "[secret "+h.name+"]")
	}
	return text
}

// Longest is how many bytes the longest value has.
func (v Values) Longest() (n int) {
	for _, value := range v {
		n = max(n, len(value))
	}
	return n
}

// Cut returns where a text is cut at most at n, so that no value is cut in two: at
// n, or before or, if the text begins with it, behind a value that lies there.
func (v Values) Cut(text []byte, n int) int {
	for _, h := range v.hidden() {
		begin := max(0, n-len(h.text)+1)
		i := bytes.Index(text[begin:min(len(text), n+len(h.text)-1)], []byte(h.text))
		switch {
		case i < 0:
		case begin+i > 0:
			return v.Cut(text, begin+i)
		default:
			return len(h.text)
		}
	}
	return n
}

// Tail returns the last n bytes of a text at most, with the values hidden. A value that lies across the beginning is
// left out as a whole, for which the text has to have at least Longest bytes more.
func (v Values) Tail(text string, n int) string {
	start := max(0, len(text)-n)
	for again := start > 0; again; {
		again = false
		for _, h := range v.hidden() {
			begin := max(0, start-len(h.text)+1)
			if i := strings.Index(text[begin:min(len(text), start+len(h.text)-1)], h.text); i >= 0 {
				start, again = begin+i+len(h.text), true
			}
		}
	}
	return v.Hide(text[start:])
}
