package engine

import (
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize/english"
)

// Revisions are those of a record that its editor allows a change to start from.
type Revisions struct {
	Any bool // of a record that exists
	Of  []int
}

// At returns the revision that an editor saw.
func At(revision int) Revisions { return Revisions{Of: []int{revision}} }

// Allow says whether a record with the revision may be changed. Revision 0 is that of a record that does not exist.
func (r Revisions) Allow(revision int) bool {
	return r.Any && revision != 0 || slices.Contains(r.Of, revision)
}

// New says whether a record may be created.
func (r Revisions) New() bool { return r.Allow(0) }

// String names the revisions, as in "revision 3".
func (r Revisions) String() string {
	if len(r.Of) == 0 {
		return "no revision"
	}
	names := make([]string, len(r.Of))
	for i, n := range r.Of {
		names[i] = strconv.Itoa(n)
	}
	return english.PluralWord(len(names), "revision ", "revisions ") + strings.Join(names, ", ")
}
