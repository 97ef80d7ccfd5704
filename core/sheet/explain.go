package sheet

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/dustin/go-humanize/english"
)

// Explain says in plain sentences what a build of the sheet does, in order:
// what it begins with, a sentence for each step, and how it ends.
func (s Sheet) Explain() []string {
	lines := []string{fmt.Sprintf("A build machine%s is made at %s from %s of image %s. The whole may take %s.",
		s.Machine.size(), s.Machine.Site, s.Base, s.Image, s.TimeLimit)}
	if len(s.Values) > 0 {
		values := make([]string, 0, len(s.Values))
		for _, name := range slices.Sorted(maps.Keys(s.Values)) {
			values = append(values, fmt.Sprintf("%s is %q", name, s.Values[name]))
		}
		lines = append(lines, "Of its parameters, "+english.WordSeries(values, "and")+".")
	}
	for i, step := range s.Steps {
		lines = append(lines, fmt.Sprintf("%d. %s: %s", i+1, step.Name, step.Explain()))
	}
	end := "Then the seal checks are made, the machine is sealed and captured as "
	if s.Version.Number == "" {
		end += "the image's next version"
	} else {
		end += "version " + s.Version.Number
	}
	if s.Version.Proves() {
		end += ", its first start is proved on a machine that is thrown away"
	}
	end += s.Delivery.explain()
	if s.Version.Stage {
		end += ", it is staged"
	}
	end += ", and the machine is discarded."
	lines = append(lines, end)
	for _, a := range s.Applications {
		lines = append(lines, fmt.Sprintf("People open %s by %s: within %s it has to be so that %s.", a.Name,
			strings.Join(append([]string{a.Command}, a.Arguments...), " "), a.Within, a.Opens))
	}
	if len(s.Checks.Block) > 0 {
		lines = append(lines, "What "+english.WordSeries(s.Checks.Block, "and")+
			" find keeps the machine from being sealed, too.")
	}
	for _, check := range slices.Sorted(maps.Keys(s.Checks.Waive)) {
		lines = append(lines, fmt.Sprintf("What the seal check %s finds is passed over: %s.", check,
			strings.TrimSuffix(s.Checks.Waive[check], ".")))
	}
	switch {
	case strings.HasPrefix(s.Version.EndOfLife, "in "):
		lines = append(lines, "The version may be used until "+strings.TrimPrefix(s.Version.EndOfLife, "in ")+
			" after it was made.")
	case s.Version.EndOfLife != "":
		lines = append(lines, "The version may be used until "+s.Version.EndOfLife+".")
	}
	return lines
}

func (d Delivery) explain() string {
	what := ", its copies are"
	if d.Copies > 0 {
		what = fmt.Sprintf(", %s of it %s", english.Plural(d.Copies, "copy", "copies"),
			english.PluralWord(d.Copies, "is", "are"))
	}
	what += " delivered"
	if len(d.Sites) > 0 {
		what += " to " + english.WordSeries(d.Sites, "and")
	} else if d.Copies > 0 {
		what += " to each site"
	}
	return what
}

func (m Machine) size() string {
	var has []string
	if m.Cores > 0 {
		has = append(has, english.Plural(m.Cores, "core", ""))
	}
	if m.Memory > 0 {
		has = append(has, m.Memory.String()+" of memory")
	}
	if m.Disk > 0 {
		has = append(has, "a disk of "+m.Disk.String())
	}
	if len(has) == 0 {
		return ""
	}
	return " with " + english.WordSeries(has, "and")
}

// feed is the name of the feed that it is a release of, "" if it is of none.
func (b Base) feed() string {
	if b.Vendor == nil {
		return ""
	}
	return b.Vendor.Feed
}

func (b Base) String() string {
	switch {
	case b.Track != "":
		return "the version that track " + b.Track + " names"
	case b.Version != "":
		return "version " + b.Version
	case b.Named != "":
		return "base " + b.Named
	case b.Vendor != nil && b.Vendor.Serial == "":
		return fmt.Sprintf("the newest of %s in feed %s", b.Vendor.Want(), b.Vendor.Feed)
	case b.Vendor != nil:
		return fmt.Sprintf("%s in feed %s", b.Vendor.Want(), b.Vendor.Feed)
	}
	return "the base disk " + b.Disk
}

// Explain says in words what the step does.
func (s Step) Explain() string {
	if s.Skipped {
		return fmt.Sprintf("left out, because %s.", s.LeftOut())
	}
	what := ""
	switch {
	case s.Script != nil:
		first, _, _ := strings.Cut(s.Script.Text, "\n")
		if what = "a script"; s.Script.File != "" {
			what = "the script " + s.Script.File
		}
		if s.Proof {
			what = "once the version is made, on the machine that proves its first start, " + what
		}
		if first != "" {
			what += fmt.Sprintf(" of %s is run by %s", english.Plural(strings.Count(strings.TrimSpace(s.Script.Text),
				"\n"), "line", ""), strings.TrimSpace(strings.TrimPrefix(first, "#!")))
		} else {
			what += " is run"
		}
		if len(s.Script.Arguments) > 0 {
			what += " with the arguments " + strings.Join(s.Script.Arguments, ", ")
		}
		if s.Script.As != "" {
			what += " as " + s.Script.As
		}
		if len(s.Script.Secrets) > 0 {
			names := slices.Compact(slices.Sorted(maps.Values(s.Script.Secrets)))
			what += " with " + english.PluralWord(len(names), "the secret ", "the secrets ") +
				english.WordSeries(names, "and")
		}
		if !slices.Equal(s.ExitCodes, []int{0}) {
			codes := make([]string, len(s.ExitCodes))
			for i, c := range s.ExitCodes {
				codes[i] = fmt.Sprint(c)
			}
			what += ", which may exit with " + english.WordSeries(codes, "or")
		}
	case s.Put != nil:
		what = s.Put.explain()
	case s.Fetch != nil:
		what = fmt.Sprintf("%s, with the digest %.12s..., is fetched to %s, for %s, with mode %s", s.Fetch.From,
			s.Fetch.SHA256, s.Fetch.To, s.Fetch.Owner, s.Fetch.Mode)
	case s.Update != nil:
		what = "all updates are"
		if s.Update.Only == SecurityUpdates {
			what = "security updates are"
		}
		what += fmt.Sprintf(" applied, up to %d times until none is pending", MostRounds)
		if *s.Update.Restart {
			what += ", with a restart where one is needed"
		}
	case s.Locale != nil:
		what = s.Locale.explain()
	case s.Settings != nil:
		what = s.Settings.explain()
	case s.Install != nil:
		what = packages(s.Install.Packages) + " installed"
	case s.Remove != nil:
		what = s.Remove.explain()
	case s.Ready != nil: // before With has put in its place what it comes to
		what = "what the ready step " + s.Ready.Step + " says is done"
	case s.Checkpoint != nil:
		what = "the machine goes down, what it is is kept as a checkpoint, and it comes up"
	case s.Restart != nil:
		return fmt.Sprintf("the machine is restarted, and has to be back within %s. %s", s.Restart.Within,
			s.OnFailure.explain())
	}
	if s.Proof {
		return fmt.Sprintf("%s, within %s. If it fails, so has the first start.", what, s.TimeLimit)
	}
	return fmt.Sprintf("%s, within %s. %s", what, s.TimeLimit, s.OnFailure.explain())
}

func (p Put) explain() string {
	what := "a file of " + english.Plural(len(p.Text), "byte", "")
	if s := (Step{Put: &p}).source(); s.Path != "" {
		what = "the " + s.String()
	}
	if p.Content != nil {
		what += fmt.Sprintf(", of %s with the digest %.12s...,", english.Plural(int(p.Content.Size), "byte", ""),
			p.Content.SHA256)
	}
	if p.Folder != "" {
		return fmt.Sprintf("all that is in %s is written to %s, for %s", what, p.To, p.Owner)
	}
	return fmt.Sprintf("%s is written to %s, for %s, with mode %s", what, p.To, p.Owner, p.Mode)
}

func (l Locale) explain() string {
	var set []string
	for _, given := range []struct{ what, value string }{
		{"the time zone", l.TimeZone}, {"the language", l.Language}, {"the keyboard", l.Keyboard},
	} {
		if given.value != "" {
			set = append(set, given.what+" becomes "+given.value)
		}
	}
	return english.WordSeries(set, "and")
}

func (s Settings) explain() string {
	var found []string
	if len(s.Home) > 0 {
		found = append(found, english.WordSeries(slices.Sorted(maps.Keys(s.Home)), "and")+" in their homes")
	}
	if len(s.Environment) > 0 {
		found = append(found, english.WordSeries(slices.Sorted(maps.Keys(s.Environment)), "and")+
			" set in their sessions")
	}
	if s.Person != "" {
		of := "all settings"
		if len(s.Paths) > 0 {
			of = english.WordSeries(s.Paths, "and")
		}
		found = append(found, of+" as "+s.Person+" has them")
	}
	return "new people find " + english.WordSeries(found, "and")
}

func (r Removal) explain() string {
	var gone []string
	if len(r.Packages) > 0 {
		gone = append(gone, packages(r.Packages)+" removed")
	}
	if n := len(r.Files); n > 0 {
		gone = append(gone, english.WordSeries(r.Files, "and")+" "+english.PluralWord(n, "is", "are")+" deleted")
	}
	return strings.Join(gone, ", ")
}

func packages(names []string) string {
	if len(names) == 1 {
		return "the package " + names[0] + " is"
	}
	return "the packages " + english.WordSeries(names, "and") + " are"
}

func (f OnFailure) explain() string {
	switch f.Do {
	case GoOn:
		return "If it fails, that is noted and the build goes on."
	case Again:
		return fmt.Sprintf("If it fails, it is tried again up to %s, %s later each time; then the build fails.",
			english.Plural(f.Times, "time", ""), f.Pause)
	}
	return "If it fails, the build fails."
}
