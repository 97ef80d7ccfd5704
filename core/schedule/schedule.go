// Package schedule decides when a build starts by itself: on dates, when
// something has changed, or on dates if something has.
//
// It is decided anew whenever it is looked at, from what is: the date that
// comes next, whether what would be built is another than what was, and whether
// the build before still goes on. So dates that were missed while nobody
// looked start one build and not one each, and a build that would begin too
// soon waits.
package schedule

import (
	"fmt"
	"time"
)

// Mode is when builds start.
type Mode string

const (
	Dates     Mode = "dates"            // on every date
	IfChanged Mode = "dates-if-changed" // on a date, if something has changed since the last version
	OnChanges Mode = "changes"          // whenever something has changed
)

// Modes are all of them.
func Modes() []Mode { return []Mode{Dates, IfChanged, OnChanges} }

// Dated says whether there is a rule that dates come by.
func (m Mode) Dated() bool { return m != OnChanges }

// Known is what is known of a schedule.
type Known struct {
	Mode   Mode
	Paused bool
	Due    time.Time // the date that comes next, or has come and was not seen to; zero if none does
	Before string    // the build that it started last, while that goes on; "" if none does
	// MadeOf says what a build would be made of now, Started what the last one
	// was made of, or would have been when the schedule was written down, and
	// Ready what the last one that became ready was, "" if there was none.
	MadeOf, Started, Ready string
}

// Decision is what is to be done about a schedule.
type Decision struct {
	Start bool
	Seen  bool   // the date is seen to, with or without a build
	Skips string // why none starts on it
	Waits string // why one does not start yet
}

// NothingChanged is why a build does not start on a date that comes only if something has changed.
const NothingChanged = "nothing has changed since its last version"

// Decide says what is to be done about a schedule.
func Decide(k Known, now time.Time) (d Decision) {
	due := k.Mode.Dated() && !k.Due.IsZero() && !now.Before(k.Due)
	switch {
	case k.Paused || k.Mode.Dated() && !due:
		return d
	case k.Mode == OnChanges && k.MadeOf == k.Started:
		return d
	case k.Before != "":
		d.Waits = k.Before + " goes on, which it started before"
		return d
	case k.Mode == IfChanged && k.MadeOf == k.Ready:
		d.Seen, d.Skips = true, NothingChanged
		return d
	}
	d.Start, d.Seen = true, due
	return d
}

// String says in words when builds start.
func (m Mode) String() string {
	switch m {
	case Dates:
		return "on every date"
	case IfChanged:
		return "on every date on which something has changed since the last version"
	case OnChanges:
		return "whenever the sheet or its base has changed"
	}
	return fmt.Sprintf("%q", string(m))
}
