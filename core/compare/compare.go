// Package compare says how one version of an image differs from another: in
// what is in it, in how it was made, and in what it takes.
//
// It is what somebody reads who is asked to put the new one before many people.
// So it is in the order in which it matters, and says as little as tells it all.
package compare

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nimblepane/core/flaw"
	"nimblepane/core/seal"
	"nimblepane/core/sheet"
	"nimblepane/core/software"
)

// Version is one of the two that are compared.
type Version struct {
	Number       string     `json:"number"`
	Standing     []string   `json:"standing" nullable:"false" doc:"The tracks that name it, fallback, or shelved"`
	SealedAt     *time.Time `json:"sealed_at,omitempty"`
	SizeBytes    int64      `json:"size_bytes"`
	Software     int        `json:"software" doc:"Entries of its software list"`
	Base         string     `json:"base,omitempty" doc:"What its build was made from"`
	Commit       string     `json:"commit,omitempty" doc:"That its sheet was taken from"`
	Build        int64      `json:"build,omitempty" doc:"That made it; none if it was captured by hand"`
	BuildSeconds float64    `json:"build_seconds,omitempty" doc:"From its build's start until it was sealed"`
	FirstStart   float64    `json:"first_start_seconds,omitempty" doc:"Until its agent spoke, on the machine that proved it"`
}

// Side is a version with all that is compared of it.
type Side struct {
	Version
	List  software.List
	Flaws []flaw.Found // known ones of what is in it
	// Unlooked says why these are not known, if they are not.
	Unlooked string
	// NotChecked is the software that no list of flaws covers.
	NotChecked []flaw.Gap
	Plan       *sheet.Sheet // that it was built by; nil if it was captured by hand
	Checks     []seal.Finding
}

// Line is something that is not as it was. What was not there, or is no more, is empty.
type Line struct {
	What   string `json:"what"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// Count is how many pieces of software of a group changed in which way.
type Count struct {
	Group software.Group `json:"group"`
	What  software.What  `json:"what"`
	N     int            `json:"n"`
}

// Comparison is how a version differs from another.
type Comparison struct {
	Image    string            `json:"image"`
	From     Version           `json:"from"`
	To       Version           `json:"to"`
	Counts   []Count           `json:"counts" nullable:"false"`
	Changes  []software.Change `json:"changes" nullable:"false" doc:"In the order in which they are read"`
	Same     int               `json:"same" doc:"Pieces of software that are in both as they are"`
	Facts    []Line            `json:"facts" nullable:"false" doc:"Of the system"`
	Settings []Line            `json:"settings" nullable:"false" doc:"Of the builds"`
	Steps    []Line            `json:"steps" nullable:"false" doc:"Of the builds"`
	Checks   []Line            `json:"checks" nullable:"false" doc:"What the seal checks found"`
	Flaws    Flaws             `json:"flaws" doc:"Known flaws of what is in them"`
}

// Flaws are the known flaws in which two versions differ.
type Flaws struct {
	Unknown string       `json:"unknown,omitempty" doc:"Why it is not known which there are"`
	Mends   []flaw.Found `json:"mends" nullable:"false" doc:"That the new one does not have any more, the worst first"`
	Brings  []flaw.Found `json:"brings" nullable:"false" doc:"That only the new one has"`
	Same    int          `json:"same" doc:"That both have"`
	// NotChecked is of the new version.
	NotChecked []flaw.Gap `json:"not_checked" nullable:"false" doc:"Software of the new one that no list covers"`
}

func flaws(from, to Side) Flaws {
	if why := cmp.Or(from.Unlooked, to.Unlooked); why != "" {
		return Flaws{Unknown: why, Mends: []flaw.Found{}, Brings: []flaw.Found{}, NotChecked: []flaw.Gap{}}
	}
	d := flaw.Diff(from.Flaws, to.Flaws)
	return Flaws{
		Mends: d.Mends, Brings: d.Brings, Same: len(to.Flaws) - len(d.Brings),
		NotChecked: append([]flaw.Gap{}, to.NotChecked...),
	}
}

// Of compares two versions of an image.
func Of(image string, from, to Side) Comparison {
	d := software.Diff(from.List, to.List)
	from.Software, to.Software = len(from.List.Entries), len(to.List.Entries)
	c := Comparison{
		Image: image, From: from.Version, To: to.Version, Changes: d.Changes, Same: d.Same, Counts: []Count{},
		Facts: []Line{}, Settings: lines(made(from), made(to)), Steps: []Line{},
		Checks: lines(checks(from.Checks), checks(to.Checks)), Flaws: flaws(from, to),
	}
	if from.Plan != nil && to.Plan != nil { // else all would be new, and nothing of it different
		c.Settings = append(c.Settings, lines(settings(*from.Plan), settings(*to.Plan))...)
		c.Steps = lines(explained(*from.Plan), explained(*to.Plan))
	}
	for _, f := range d.Facts {
		c.Facts = append(c.Facts, Line{f.Fact, f.Before, f.After})
	}
	for _, g := range software.Groups() {
		for _, w := range software.Whats() {
			n := 0
			for _, change := range d.Changes {
				if change.Group == g && change.What == w {
					n += change.Size()
				}
			}
			if n > 0 {
				c.Counts = append(c.Counts, Count{g, w, n})
			}
		}
	}
	return c
}

// Of says how many pieces of software of a group changed in one of the ways; of all groups if it is "".
func (c Comparison) Of(group software.Group, what software.What) (n int) {
	for _, count := range c.Counts {
		if (group == "" || count.Group == group) && count.What == what {
			n += count.N
		}
	}
	return n
}

// named is a value by what it is of, in the order in which it is said.
type named struct{ what, value string }

// lines are the values that differ.
func lines(before, after []named) []Line {
	out := []Line{}
	at := func(list []named, what string) string {
		for _, n := range list {
			if n.what == what {
				return n.value
			}
		}
		return ""
	}
	for _, n := range before {
		if now := at(after, n.what); now != n.value {
			out = append(out, Line{n.what, n.value, now})
		}
	}
	for _, n := range after {
		if n.value != "" && !slices.ContainsFunc(before, func(b named) bool { return b.what == n.what }) {
			out = append(out, Line{n.what, "", n.value})
		}
	}
	return out
}

// made is how a version was made.
func made(s Side) []named {
	if s.Plan == nil {
		return []named{{"made", "captured by hand"}, {"base", s.Base}}
	}
	return []named{{"made", "by a build sheet"}, {"base", s.Base}, {"commit", s.Commit}}
}

// settings are what was set of how a version is made. Secrets have no values here.
func settings(p sheet.Sheet) []named {
	list := []named{
		{"site", p.Machine.Site},
		{"processors", either(p.Machine.Cores)},
		{"memory", either(p.Machine.Memory)},
		{"disk", either(p.Machine.Disk)},
	}
	for _, name := range slices.Sorted(maps.Keys(p.Values)) {
		list = append(list, named{"parameter " + name, p.Values[name]})
	}
	for _, check := range slices.Sorted(maps.Keys(p.Checks.Waive)) {
		list = append(list, named{"passes over " + check, p.Checks.Waive[check]})
	}
	for _, check := range p.Checks.Block {
		list = append(list, named{"blocks on " + check, "yes"})
	}
	for _, a := range p.Applications {
		list = append(list, named{
			"application " + a.Name, strings.TrimSpace(a.Command + " " + strings.Join(a.Arguments, " ")),
		})
	}
	return list
}

// either writes a setting, "" if it is left to the machine's class.
func either[T comparable](v T) string {
	var zero T
	if v == zero {
		return ""
	}
	return fmt.Sprint(v)
}

// explained are the steps of a sheet, by name.
func explained(s sheet.Sheet) (list []named) {
	for _, step := range s.Steps {
		list = append(list, named{step.Name, step.Explain() + " " + Mark(step)})
	}
	return list
}

// Mark tells a step from one that does something else in the same words: the
// beginning of a digest of all that it was told.
func Mark(step sheet.Step) string { return "[" + Digest(step)[:12] + "]" }

// Digest is the SHA-256 of all that a step was told, as JSON, in hexadecimal digits.
func Digest(step sheet.Step) string {
	text, _ := json.Marshal(step) // plain values: cannot fail
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

func checks(found []seal.Finding) (list []named) {
	for _, f := range found {
		text := string(f.Severity) + ": " + f.Evidence
		if f.Waived != "" {
			text += "; passed over: " + f.Waived
		}
		list = append(list, named{cmp.Or(f.Check, "check"), text})
	}
	return list
}
