package image

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// The two tracks that every image has: the first and the last of its tracks.
const (
	Pilot = "pilot"
	Live  = "live"
)

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// CheckName returns nil if name can name a site, image, track or pool: lower
// case letters, digits and single dashes, a letter first, at most 40.
func CheckName(name string) error {
	if len(name) > 40 || !nameForm.MatchString(name) {
		return fmt.Errorf("%q cannot be a name: use lower-case letters, digits and single dashes, beginning with a "+
			"letter, at most 40", name)
	}
	return nil
}

// CheckTracks returns nil if the names are the tracks of an image in order.
func CheckTracks(names []string) error {
	if len(names) < 2 || names[0] != Pilot || names[len(names)-1] != Live {
		return fmt.Errorf("tracks [%s] must begin with %q and end with %q", strings.Join(names, ", "), Pilot, Live)
	}
	for i, n := range names {
		if err := CheckName(n); err != nil {
			return err
		}
		if slices.Contains(names[:i], n) {
			return fmt.Errorf("track %q is named twice", n)
		}
	}
	return nil
}

// MoveKind says which act moved a track.
type MoveKind string

const (
	// Advance points the track at a new version: staging, activating.
	Advance MoveKind = "advance"
	// Return points the track back at a version that it named before: rolling back.
	Return MoveKind = "return"
)

// Move is one entry of a track's history, oldest first in every list.
type Move struct {
	Kind    MoveKind
	Version int64
	// LetGo says that what the track named before is not kept as the fallback.
	LetGo bool
}

// Standing replays a track's history and returns what it names now and what
// it would fall back to, each 0 if there is none. Advancing keeps the version
// before as the fallback; returning drops everything that came after the
// version returned to, so that the fallback of a rolled-back image is the
// version before that, and never the one that was rolled back.
func Standing(history []Move) (current, fallback int64) {
	line := Line(history)
	if n := len(line); n > 0 {
		current = line[n-1]
		if n > 1 {
			fallback = line[n-2]
		}
	}
	return current, fallback
}

// Line replays a track's history and returns the versions that it can return
// to, oldest first, and the version that it names as the last of them.
func Line(history []Move) (line []int64) {
	for _, m := range history {
		if m.Kind == Return {
			if i := slices.Index(line, m.Version); i >= 0 {
				line = line[:i+1]
			}
		}
		if m.LetGo {
			line = nil
		}
		// A version that is further down the line moves to the top.
		line = slices.DeleteFunc(line, func(v int64) bool { return v == m.Version })
		line = append(line, m.Version)
	}
	return line
}

// Use lists who needs a version. Its zero value is a version that nobody needs.
type Use struct {
	Sealed   bool
	Tracks   []string // tracks that name it
	Fallback bool     // it is what the image would fall back to
	Pools    []string // pools pinned to it
	Hosts    []string // hosts that run it, or that are being made from it
	Rollover string   // a rollover under way that takes hosts to it, "" if none
	Sheets   []string // kept sheets that begin with it by its number
	Doing    []string // what else goes on with it, such as "build 7 begins with it"
}

// WhyKeep returns the reasons why the version cannot be retired, none if it can.
func (u Use) WhyKeep() []string {
	var why []string
	if !u.Sealed {
		why = append(why, "only a sealed version can be retired")
	}
	for _, t := range u.Tracks {
		why = append(why, fmt.Sprintf("track %s names it", t))
	}
	if u.Fallback {
		why = append(why, "it is the fallback of its image")
	}
	for _, p := range u.Pools {
		why = append(why, fmt.Sprintf("pool %s is pinned to it", p))
	}
	if n := len(u.Hosts); n > 0 {
		const shown = 5
		list := strings.Join(u.Hosts[:min(n, shown)], ", ")
		if n > shown {
			list += fmt.Sprintf(" and %d more", n-shown)
		}
		why = append(why, fmt.Sprintf("%d of the hosts run it: %s", n, list))
	}
	if u.Rollover != "" {
		why = append(why, u.Rollover+" takes hosts to it")
	}
	for _, s := range u.Sheets {
		why = append(why, fmt.Sprintf("sheet %s begins with it", s))
	}
	return append(why, u.Doing...)
}
