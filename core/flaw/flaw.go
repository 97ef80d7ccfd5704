// Package flaw knows which known flaws are in a version's software, by lists
// that are written elsewhere in the OSV format (https://ossf.github.io/osv-schema/).
//
// A record says which versions of which packages have a flaw. Packages are of an
// ecosystem, which a version's software has by what installed it: those of a
// distribution by its source packages, Python's and npm's by theirs. Versions
// are ordered by the rules of what installed them; where no rule can order two,
// the flaw is said to be perhaps there, and never left out.
//
// One flaw often has several records, of different people, that name each other.
// They are counted as one.
package flaw

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	cvss2 "github.com/pandatix/go-cvss/20"
	cvss30 "github.com/pandatix/go-cvss/30"
	cvss31 "github.com/pandatix/go-cvss/31"
	cvss40 "github.com/pandatix/go-cvss/40"

	"nimblepane/core/strict"
)

// Severity is how bad a flaw is, in the words of CVSS.
type Severity string

// The severities. Unknown is of a record that does not say.
const (
	Unknown  Severity = "unknown"
	Low      Severity = "low"
	Medium   Severity = "medium"
	High     Severity = "high"
	Critical Severity = "critical"
)

// Severities are all of them, from the least.
func Severities() []Severity { return []Severity{Unknown, Low, Medium, High, Critical} }

// Serious says whether a flaw is one that must not wait: high or critical.
func (s Severity) Serious() bool { return s == High || s == Critical }

// Record is what is known of a flaw.
type Record struct {
	ID        string     `json:"id"`
	Aliases   []string   `json:"aliases,omitempty"`  // records of the same flaw
	Upstream  []string   `json:"upstream,omitempty"` // records of the flaws that this one is about, of those who made the software
	Summary   string     `json:"summary,omitempty"`
	Severity  Severity   `json:"severity"`
	Score     float64    `json:"score,omitempty"` // of CVSS, from 0 to 10; 0 if it is not given
	Modified  time.Time  `json:"modified"`
	Published *time.Time `json:"published,omitempty"`
	Withdrawn *time.Time `json:"withdrawn,omitempty"` // it was none
	Links     []string   `json:"links,omitempty"`
	Affected  []Affected `json:"affected,omitempty"`
}

// Affected are versions of a package that have the flaw.
type Affected struct {
	Ecosystem string   `json:"ecosystem"` // such as Debian:12, PyPI or npm
	Name      string   `json:"name"`
	Versions  []string `json:"versions,omitempty"` // each by itself
	Ranges    []Range  `json:"ranges,omitempty"`
}

// Range is versions between events, which are in no order.
type Range struct {
	Events []Event `json:"events"`
}

// Event is where a flaw begins or ends. One of the fields is set.
type Event struct {
	Introduced   string `json:"introduced,omitempty"` // "0": before all versions
	Fixed        string `json:"fixed,omitempty"`
	LastAffected string `json:"last_affected,omitempty"`
	Limit        string `json:"limit,omitempty"` // nothing from here on counts
}

// What a record may have at most.
const (
	MostOfRecord = 4 << 20 // bytes
	mostText     = 500     // characters of a summary that are kept
	mostLinks    = 20
	mostAffected = 10_000
	mostVersions = 50_000 // and events
	mostName     = 300    // characters
)

// Parse reads a record of OSV. What it does not say is left out; what it says
// wrongly is an error with where and what would be right.
func Parse(text []byte) (r Record, err error) {
	if len(text) > MostOfRecord {
		return r, fmt.Errorf("it has %d bytes: a record has at most %d", len(text), MostOfRecord)
	}
	var in struct {
		ID         string                 `json:"id"`
		Modified   string                 `json:"modified"`
		Published  string                 `json:"published"`
		Withdrawn  string                 `json:"withdrawn"`
		Aliases    []string               `json:"aliases"`
		Upstream   []string               `json:"upstream"`
		Summary    string                 `json:"summary"`
		Details    string                 `json:"details"`
		Severity   []severity             `json:"severity"`
		References []struct{ URL string } `json:"references"`
		Affected   []struct {
			Package struct {
				Ecosystem string `json:"ecosystem"`
				Name      string `json:"name"`
			} `json:"package"`
			Severity []severity `json:"severity"`
			Ranges   []struct {
				Type   string  `json:"type"`
				Events []Event `json:"events"`
			} `json:"ranges"`
			Versions []string `json:"versions"`
		} `json:"affected"`
		Database struct {
			Severity any `json:"severity"`
		} `json:"database_specific"`
	}
	if err := json.Unmarshal(text, &in); err != nil {
		return r, fmt.Errorf("it is no record of OSV: %w", strict.JSON(err))
	}
	switch {
	case in.ID == "":
		return r, fmt.Errorf("id is missing: each record of OSV has one")
	case !name(in.ID):
		return r, fmt.Errorf("id %q: it has to be one word of at most %d characters", in.ID, mostName)
	case len(in.Affected) > mostAffected:
		return r, fmt.Errorf("%s: it has %d affected packages, and at most %d are read", in.ID, len(in.Affected),
			mostAffected)
	}
	r = Record{ID: in.ID, Summary: cut(cmp.Or(in.Summary, in.Details))}
	if r.Modified, err = date(in.ID, "modified", in.Modified); err != nil {
		return r, err
	}
	for _, d := range []struct {
		key, text string
		into      **time.Time
	}{{"published", in.Published, &r.Published}, {"withdrawn", in.Withdrawn, &r.Withdrawn}} {
		if d.text == "" {
			continue
		}
		at, err := date(in.ID, d.key, d.text)
		if err != nil {
			return r, err
		}
		*d.into = &at
	}
	for _, ids := range []struct{ from, into *[]string }{{&in.Aliases, &r.Aliases}, {&in.Upstream, &r.Upstream}} {
		for _, id := range *ids.from {
			if name(id) && id != r.ID {
				*ids.into = append(*ids.into, id)
			}
		}
	}
	for _, l := range in.References {
		if strings.HasPrefix(l.URL, "https://") && len(l.URL) < 500 && len(r.Links) < mostLinks {
			r.Links = append(r.Links, l.URL)
		}
	}
	scores, versions := in.Severity, 0
	for i, a := range in.Affected {
		at := fmt.Sprintf("%s: affected[%d]", in.ID, i)
		for _, g := range a.Ranges {
			versions += len(g.Events)
		}
		if versions += len(a.Versions); versions > mostVersions {
			return r, fmt.Errorf("%s: it names more than %d versions", in.ID, mostVersions)
		}
		scores = append(scores, a.Severity...)
		if a.Package.Name == "" && a.Package.Ecosystem == "" {
			continue // it is of code in a repository
		}
		if a.Package.Name == "" || a.Package.Ecosystem == "" || len(a.Package.Name) > mostName {
			return r, fmt.Errorf("%s: package has ecosystem %q and name %q: it needs both", at, a.Package.Ecosystem,
				a.Package.Name)
		}
		out := Affected{Ecosystem: a.Package.Ecosystem, Name: a.Package.Name, Versions: a.Versions}
		for j, g := range a.Ranges {
			switch g.Type {
			case "ECOSYSTEM", "SEMVER":
			case "GIT":
				continue
			default:
				return r, fmt.Errorf("%s.ranges[%d]: type %q is not known: OSV has ECOSYSTEM, SEMVER and GIT", at, j,
					g.Type)
			}
			for k, e := range g.Events {
				if !e.one() {
					return r, fmt.Errorf("%s.ranges[%d].events[%d]: an event has one of introduced, fixed, "+
						"last_affected and limit",
						at, j, k)
				}
			}
			out.Ranges = append(out.Ranges, Range{g.Events})
		}
		r.Affected = append(r.Affected, out)
	}
	r.Severity, r.Score = worst(scores)
	if word, ok := in.Database.Severity.(string); ok && r.Severity == Unknown {
		r.Severity = byWord(word)
	}
	return r, nil
}

type severity struct {
	Type  string `json:"type"`
	Score string `json:"score"`
}

// worst is the worst of several severities.
func worst(list []severity) (Severity, float64) {
	score, word := 0.0, Unknown
	for _, s := range list {
		if n, ok := s.score(); ok {
			score = max(score, n)
			word = worse(word, Of(n))
		} else if !strings.HasPrefix(s.Type, "CVSS") {
			word = worse(word, byWord(s.Score))
		}
	}
	return word, score
}

func worse(a, b Severity) Severity {
	if slices.Index(Severities(), b) > slices.Index(Severities(), a) {
		return b
	}
	return a
}

// score is the base score of a vector of CVSS.
func (s severity) score() (float64, bool) {
	switch {
	case strings.HasPrefix(s.Score, "CVSS:4.0/"):
		if v, err := cvss40.ParseVector(s.Score); err == nil {
			return v.Score(), true
		}
	case strings.HasPrefix(s.Score, "CVSS:3.1/"):
		if v, err := cvss31.ParseVector(s.Score); err == nil {
			return v.BaseScore(), true
		}
	case strings.HasPrefix(s.Score, "CVSS:3.0/"):
		if v, err := cvss30.ParseVector(s.Score); err == nil {
			return v.BaseScore(), true
		}
	case s.Type == "CVSS_V2":
		if v, err := cvss2.ParseVector(s.Score); err == nil {
			return v.BaseScore(), true
		}
	}
	return 0, false
}

// Of is the severity of a score, as CVSS rates them.
func Of(score float64) Severity {
	switch {
	case score >= 9:
		return Critical
	case score >= 7:
		return High
	case score >= 4:
		return Medium
	case score > 0:
		return Low
	}
	return Unknown
}

// byWord is a severity that somebody gave a word for.
func byWord(word string) Severity {
	switch strings.ToLower(word) {
	case "critical":
		return Critical
	case "high", "important":
		return High
	case "medium", "moderate":
		return Medium
	case "low", "negligible", "minor":
		return Low
	}
	return Unknown
}

func (e Event) one() bool {
	n := 0
	for _, f := range []string{e.Introduced, e.Fixed, e.LastAffected, e.Limit} {
		if f != "" {
			n++
		}
	}
	return n == 1
}

func date(id, key, text string) (time.Time, error) {
	at, err := time.Parse(time.RFC3339, text)
	if err != nil || at.Year() < 1970 || at.Year() > 2200 {
		return at, fmt.Errorf("%s: %s %q is no date: write one such as 2026-11-28T09:00:00Z", id, key, text)
	}
	return at.UTC(), nil
}

func name(s string) bool {
	return s != "" && len(s) <= mostName && utf8.ValidString(s) && !strings.ContainsFunc(s, func(r rune) bool {
		return r <= ' ' || r == 0x7f || r > 0x7e
	})
}

// cut is the first line of a text, as far as it is kept.
func cut(text string) string {
	text, _, _ = strings.Cut(strings.TrimSpace(text), "\n")
	if utf8.RuneCountInString(text) > mostText {
		text = string([]rune(text)[:mostText]) + "…"
	}
	return text
}
