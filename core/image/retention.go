package image

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
)

// Retention is an image's rule for which of its versions are kept: those that
// one of its parts names, and whatever somebody needs. The others are retired:
// their copies are deleted and their record is kept. The zero value keeps all.
type Retention struct {
	Keep   int      `yaml:"keep,omitempty" json:"keep"`          // the newest so many of those that can be used
	Days   int      `yaml:"days,omitempty" json:"days"`          // what was sealed less than so many days ago
	Tagged []string `yaml:"tagged,omitempty,flow" json:"tagged"` // what has one of these tags
}

// On says that the rule has anything retired.
func (r Retention) On() bool { return r.Keep > 0 || r.Days > 0 || len(r.Tagged) > 0 }

// Same says that two rules are one.
func (r Retention) Same(o Retention) bool {
	return r.Keep == o.Keep && r.Days == o.Days && slices.Equal(r.Tagged, o.Tagged)
}

// The most that a rule may say.
const (
	mostKept   = 1000
	mostDays   = 3650
	mostTagged = 20
)

// Check returns what is wrong with the rule, each by the name of its part, joined.
func (r Retention) Check() error {
	var wrong []error
	bad := func(format string, args ...any) { wrong = append(wrong, fmt.Errorf(format, args...)) }
	switch {
	case r.Keep < 0 || r.Keep > mostKept:
		bad("keep: %d versions: use 1 to %d, or leave the whole rule out", r.Keep, mostKept)
	case r.On() && r.Keep == 0:
		bad("keep: say how many of the newest versions are kept, 1 at least")
	}
	if r.Days < 0 || r.Days > mostDays {
		bad("days: %d days: use 0 to %d", r.Days, mostDays)
	}
	if len(r.Tagged) > mostTagged {
		bad("tagged: %d tags: use at most %d", len(r.Tagged), mostTagged)
	}
	for i, t := range r.Tagged {
		switch {
		case t == "" || strings.TrimSpace(t) != t || strings.Contains(t, ","):
			bad("tagged: %q is no tag: write each by itself, without spaces around it and commas in it", t)
		case slices.Contains(r.Tagged[:i], t):
			bad("tagged: %q is there twice", t)
		}
	}
	return errors.Join(wrong...)
}

// String says the rule: "the newest 3, what is younger than 60 days, what is tagged release".
func (r Retention) String() string {
	if !r.On() {
		return "everything"
	}
	parts := []string{fmt.Sprintf("the newest %d", r.Keep)}
	if r.Days > 0 {
		parts = append(parts, "what is younger than "+english.Plural(r.Days, "day", ""))
	}
	if len(r.Tagged) > 0 {
		parts = append(parts, "what is tagged "+english.WordSeries(r.Tagged, "or"))
	}
	return strings.Join(parts, ", ")
}

// Candidate is a sealed version that a rule judges.
type Candidate struct {
	Number string
	Sealed time.Time
	Barred bool
	Tags   []string
}

// Judge returns why the rule keeps each of an image's sealed versions, by their
// numbers; nothing for those that it does not keep. Who needs them is not its
// affair: ask that of Use.
func (r Retention) Judge(scheme Scheme, all []Candidate, now time.Time) map[string][]string {
	kept := make(map[string][]string, len(all))
	if !r.On() {
		for _, c := range all {
			kept[c.Number] = []string{"no rule has it retired"}
		}
		return kept
	}
	newest := slices.Clone(all)
	slices.SortFunc(newest, func(a, b Candidate) int { return scheme.Compare(b.Number, a.Number) })
	usable := 0
	for _, c := range newest {
		why := func(format string, args ...any) {
			kept[c.Number] = append(kept[c.Number], fmt.Sprintf(format, args...))
		}
		if !c.Barred { // nobody goes back to one
			if usable++; usable <= r.Keep {
				why("it is among the newest %d", r.Keep)
			}
		}
		if r.Days > 0 && now.Sub(c.Sealed) < time.Duration(r.Days)*24*time.Hour {
			why("it is younger than %s", english.Plural(r.Days, "day", ""))
		}
		for _, t := range r.Tagged {
			if slices.Contains(c.Tags, t) {
				why("it is tagged %s", t)
			}
		}
	}
	return kept
}
