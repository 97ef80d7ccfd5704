// Package clearance computes whether a version may go live.
//
// A version has clearance when it meets every rule that is here. Nothing of
// it is stored: it is computed from what is known at the moment of asking, so
// that a host that fails after the testers said yes takes the clearance away.
// Each rule answers met or not met, and why in words for the person who asks.
package clearance

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"nimblepane/core/flaw"
	"nimblepane/core/image"
	"nimblepane/core/proof"
)

// Settings are the thresholds of an image.
type Settings struct {
	Testers int           // testers who must have said yes
	Soak    time.Duration // how long it must have been on pilot
	Copies  int           // copies that each site with a live-following pool must have
	// What is asked of the software, beside the version that live names; nothing if not set.
	KeepApplications bool
	NoDowngrades     bool
	NoSeriousFlaws   bool
	// Independent: the approval of a tester does not count for a version that the same person has made.
	Independent bool
}

// Facts are what the rules look at.
type Facts struct {
	State      image.State // the version's
	Barred     string      // why it is barred, "" if it is not
	EndOfLife  time.Time
	PilotSince time.Time // since when the track pilot has named it, zero if it does not
	Verdicts   []Verdict // the latest of each tester
	Makers     []string  // who built or captured it, or worked on its machine
	PilotPools []PilotPool
	Sites      []SiteCopies // sites that have a pool following live
	Proof      proof.State  // of its first start; "" if that was not proved
	ProofWhy   string       // it failed
	Software   Software     // held against the version that live names, if that is asked for
	Flaws      Flaws        // likewise
}

// Software is how a version's software differs from that of the version that live names.
type Software struct {
	With       string            // that version, "" if live names none, or this one
	Unknown    string            // why it is not known how they differ, "" if it is
	Missing    []string          // applications that are not there any more
	Downgraded []Downgrade       // software that is older
	Waived     map[string]string // why a downgrade is passed over, by the software's name
}

// Flaws are the serious known flaws of a version that the one that live names does not have.
type Flaws struct {
	With    string   // that version, "" if live names none, or this one
	Unknown string   // why it is not known which there are, "" if it is
	Brought []string // each with what is known of it
	// NotChecked is the software that no list covers, by its ecosystem; Accepted says why it is accepted.
	NotChecked []flaw.Gap
	Accepted   map[string]string
}

// Downgrade is a piece of software that is older than in the version that live names.
type Downgrade struct{ Name, Before, After string }

// Verdict is what one tester said of the version.
type Verdict struct {
	Tester  string
	Yes     bool
	Comment string
}

// PilotPool is a pool that follows the pilot track.
type PilotPool struct {
	Name    string
	Hosts   int
	Running int      // hosts that run the version and serve
	Missing []string // hosts that do not, each with the reason in brackets
}

// SiteCopies counts the version's copies at one site.
type SiteCopies struct {
	Site    string
	Present int
}

// Answer is what one rule says.
type Answer struct {
	// Rule is a short name: "usable", "first-start", "applications", "downgrades", "flaws", "copies", "pilot-hosts",
	// "soak" or "testers".
	Rule string
	Met  bool
	Why  string
}

// Evaluate answers every rule, in the order in which a person would go about meeting them.
func Evaluate(s Settings, f Facts, now time.Time) []Answer {
	answers := []Answer{usable(f, now), firstStart(f)}
	if s.KeepApplications {
		answers = append(answers, applications(f.Software))
	}
	if s.NoDowngrades {
		answers = append(answers, downgrades(f.Software))
	}
	if s.NoSeriousFlaws {
		answers = append(answers, flaws(f.Flaws))
	}
	return append(answers, copies(s, f), pilotHosts(f), soak(s, f, now), testers(s, f))
}

// compared answers a rule about software if there is nothing to compare, or that cannot be done.
func (s Software) compared(rule string) (a Answer, answered bool) {
	switch {
	case s.With == "":
		return Answer{rule, true, "live names no other version to compare with"}, true
	case s.Unknown != "":
		return Answer{rule, false, fmt.Sprintf("it cannot be held against %s: %s", s.With, s.Unknown)}, true
	}
	return Answer{Rule: rule}, false
}

func applications(s Software) Answer {
	a, answered := s.compared("applications")
	switch {
	case answered:
	case len(s.Missing) > 0:
		a.Why = fmt.Sprintf("%s has %s, which it lacks", s.With, english.WordSeries(s.Missing, "and"))
	default:
		a.Met, a.Why = true, fmt.Sprintf("it has all applications that %s has", s.With)
	}
	return a
}

func flaws(f Flaws) Answer {
	const rule, shown = "flaws", 5
	switch {
	case f.With == "":
		return Answer{rule, true, "live names no other version to compare with"}
	case f.Unknown != "":
		return Answer{rule, false, fmt.Sprintf("its known flaws cannot be held against those of %s: %s", f.With,
			f.Unknown)}
	}
	var unmet []string
	if n := len(f.Brought); n > 0 {
		list := strings.Join(f.Brought[:min(n, shown)], ", ")
		if n > shown {
			list += fmt.Sprintf(" and %d more", n-shown)
		}
		unmet = append(unmet, fmt.Sprintf("it has serious known flaws that %s does not have: %s", f.With, list))
	}
	if not := f.uncovered(); not != "" {
		unmet = append(unmet, not)
	}
	if len(unmet) > 0 {
		return Answer{rule, false, strings.Join(unmet, "; ")}
	}
	why := fmt.Sprintf("it has no serious known flaw that %s does not have", f.With)
	for _, g := range f.NotChecked {
		why += fmt.Sprintf("; %s is not checked, which is accepted: %s", g.Ecosystem, f.Accepted[g.Ecosystem])
	}
	return Answer{rule, true, why}
}

// uncovered says which software is not checked and not accepted, "" if none is.
func (f Flaws) uncovered() string {
	var parts []string
	for _, g := range f.NotChecked {
		if f.Accepted[g.Ecosystem] == "" {
			parts = append(parts, fmt.Sprintf("%s (%s, such as %s)", g.Ecosystem, english.Plural(g.Software,
				"piece", ""),
				strings.Join(g.Such, ", ")))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "not checked for known vulnerabilities, because no list covers it: " + strings.Join(parts, "; ") +
		". Load a list of it, or have an approver accept it (pane image accept-unchecked)"
}

func downgrades(s Software) Answer {
	a, answered := s.compared("downgrades")
	if answered {
		return a
	}
	var older, passed []string
	for _, d := range s.Downgraded {
		text := fmt.Sprintf("%s (%s, and %s before)", d.Name, d.After, d.Before)
		if why := s.Waived[d.Name]; why != "" {
			passed = append(passed, d.Name+" is older, passed over: "+why)
		} else {
			older = append(older, text)
		}
	}
	const shown = 5
	switch {
	case len(older) > shown:
		a.Why = fmt.Sprintf("older than in %s: %s and %d more", s.With, strings.Join(older[:shown], ", "),
			len(older)-shown)
	case len(older) > 0:
		a.Why = fmt.Sprintf("older than in %s: %s", s.With, strings.Join(older, ", "))
	default:
		a.Met, a.Why = true, strings.Join(append([]string{"nothing else is older than in " + s.With}, passed...), "; ")
		if len(passed) == 0 {
			a.Why = "nothing is older than in " + s.With
		}
	}
	return a
}

// Unmet returns the answers that are not met.
func Unmet(answers []Answer) []Answer {
	var out []Answer
	for _, a := range answers {
		if !a.Met {
			out = append(out, a)
		}
	}
	return out
}

func usable(f Facts, now time.Time) Answer {
	a := Answer{Rule: "usable"}
	switch {
	case f.Barred != "":
		a.Why = "it is barred: " + f.Barred
	case f.State != image.Sealed:
		a.Why = fmt.Sprintf("it is %s; only a sealed version can go live", f.State)
	case !f.EndOfLife.IsZero() && !now.Before(f.EndOfLife):
		a.Why = "it reached its end-of-life on " + f.EndOfLife.Format(time.DateOnly)
	default:
		a.Met, a.Why = true, "it is sealed and not barred"
	}
	return a
}

func firstStart(f Facts) Answer {
	switch {
	case f.Proof == "" || f.Proof == proof.Over:
		return Answer{"first-start", true, "its first start was not proved apart from its hosts"}
	case f.Proof == proof.Passed:
		return Answer{"first-start", true, "it was started once, and all that was tried came up"}
	case f.Proof == proof.Failed:
		return Answer{"first-start", false, "its first start failed: " + f.ProofWhy}
	}
	return Answer{"first-start", false, "its first start is being proved"}
}

func copies(s Settings, f Facts) Answer {
	a := Answer{Rule: "copies", Met: true}
	var lacking, all []string
	for _, c := range f.Sites {
		all = append(all, fmt.Sprintf("%s has %d", c.Site, c.Present))
		if c.Present < s.Copies {
			lacking = append(lacking, fmt.Sprintf("%s has %d of %d", c.Site, c.Present, s.Copies))
		}
	}
	switch {
	case len(lacking) > 0:
		a.Met, a.Why = false, "copies are missing: "+strings.Join(lacking, ", ")
	case len(all) == 0:
		a.Why = "no pool follows live, so no site needs a copy"
	default:
		a.Why = "every site has its copies: " + strings.Join(all, ", ")
	}
	return a
}

func pilotHosts(f Facts) Answer {
	a := Answer{Rule: "pilot-hosts"}
	hosts, running := 0, 0
	var missing []string
	for _, p := range f.PilotPools {
		hosts += p.Hosts
		running += p.Running
		missing = append(missing, p.Missing...)
	}
	switch {
	case len(f.PilotPools) == 0:
		a.Why = "no pool follows pilot, so nobody has tried it"
	case hosts == 0:
		a.Why = "the pools that follow pilot have no hosts"
	case running < hosts:
		const shown = 4
		list := strings.Join(missing[:min(len(missing), shown)], ", ")
		if len(missing) > shown {
			list += fmt.Sprintf(" and %d more", len(missing)-shown)
		}
		a.Why = fmt.Sprintf("%d of %d pilot hosts run it and serve; not %s", running, hosts, list)
	default:
		a.Met, a.Why = true, fmt.Sprintf("all %d pilot hosts run it and serve", hosts)
	}
	return a
}

func soak(s Settings, f Facts, now time.Time) Answer {
	a := Answer{Rule: "soak"}
	if f.PilotSince.IsZero() {
		a.Why = "pilot does not name it: stage it first"
		return a
	}
	on := now.Sub(f.PilotSince).Truncate(time.Minute)
	if now.Sub(f.PilotSince) < s.Soak {
		a.Why = fmt.Sprintf("on pilot for %s of %s; met at %s", Span(on), Span(s.Soak),
			f.PilotSince.Add(s.Soak).UTC().Format("2006-01-02 15:04 MST"))
		return a
	}
	a.Met, a.Why = true, fmt.Sprintf("on pilot for %s; %s are asked for", Span(on), Span(s.Soak))
	return a
}

func testers(s Settings, f Facts) Answer {
	a := Answer{Rule: "testers"}
	var yes, no, own []string
	for _, v := range f.Verdicts {
		if v.Yes && s.Independent && slices.Contains(f.Makers, v.Tester) {
			own = append(own, v.Tester)
		} else if v.Yes {
			yes = append(yes, v.Tester)
		} else if v.Comment != "" {
			no = append(no, fmt.Sprintf("%s (%s)", v.Tester, v.Comment))
		} else {
			no = append(no, v.Tester)
		}
	}
	said := fmt.Sprintf("%d of %s said yes", len(yes), english.Plural(s.Testers, "tester", ""))
	if len(yes) > 0 {
		said += ": " + strings.Join(yes, ", ")
	}
	if len(own) > 0 {
		said += "; that of " + english.WordSeries(own, "and") + " does not count: the same person made the version"
	}
	switch {
	case len(no) > 0:
		a.Why = "no from " + strings.Join(no, ", ") + "; " + said
	case len(yes) < s.Testers:
		a.Why = said
	default:
		a.Met, a.Why = true, said
	}
	return a
}

// Span writes a duration as people read it: "2 d 4 h", "35 min", "20 s".
func Span(d time.Duration) string {
	const day = 24 * time.Hour
	days, hours, minutes := d/day, d%day/time.Hour, d%time.Hour/time.Minute
	switch {
	case days > 0 && hours > 0:
		return fmt.Sprintf("%d d %d h", days, hours)
	case days > 0:
		return fmt.Sprintf("%d d", days)
	case hours > 0 && minutes > 0:
		return fmt.Sprintf("%d h %d min", hours, minutes)
	case hours > 0:
		return fmt.Sprintf("%d h", hours)
	case minutes > 0:
		return fmt.Sprintf("%d min", minutes)
	}
	return fmt.Sprintf("%d s", d/time.Second)
}
