package compare

import (
	"cmp"
	"fmt"
	"strings"
	"time"
	"unicode"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"nimblepane/core/flaw"
	"nimblepane/core/software"
)

// Titles of the groups, as they are read.
var titles = map[software.Group]string{
	software.Applications: "Applications", software.NoticedByThem: "What people will notice",
	software.SecurityFixes: "Security fixes", software.TheRest: "The rest",
}

// Title is what a group is called.
func Title(g software.Group) string { return titles[g] }

// Summary says in a sentence what changed: "2 applications updated; 1 removed, 14 updated ...".
func (c Comparison) Summary() string {
	var all []string
	for _, w := range software.Whats() {
		if n := c.Of("", w); n > 0 {
			all = append(all, fmt.Sprintf("%d %s", n, w))
		}
	}
	if len(all) == 0 {
		return fmt.Sprintf("No software differs (%d the same).", c.Same)
	}
	return fmt.Sprintf("Software: %s; %d the same.", strings.Join(all, ", "), c.Same)
}

// Markdown writes the comparison for a change ticket, as CommonMark with the
// tables that most renderers know. Whatever machines and people wrote stands
// for itself in it: no text becomes a link, a tag or a heading.
func (c Comparison) Markdown() string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	say("# %s: %s compared with %s\n", plain(c.Image), plain(c.To.Number), plain(c.From.Number))
	say("%s\n", c.Summary())
	say("| | %s | %s |\n|---|---|---|", plain(c.From.Number), plain(c.To.Number))
	row := func(what, before, after string) {
		if before != "" || after != "" {
			say("| %s | %s | %s |", plain(what), cmp.Or(plain(before), "–"), cmp.Or(plain(after), "–"))
		}
	}
	row("standing", strings.Join(c.From.Standing, ", "), strings.Join(c.To.Standing, ", "))
	row("sealed", moment(c.From.SealedAt), moment(c.To.SealedAt))
	row("size", humanize.IBytes(uint64(c.From.SizeBytes)), humanize.IBytes(uint64(c.To.SizeBytes)))
	row("software", fmt.Sprint(c.From.Software), fmt.Sprint(c.To.Software))
	row("build took", Took(c.From.BuildSeconds), Took(c.To.BuildSeconds))
	row("first start took", Took(c.From.FirstStart), Took(c.To.FirstStart))
	for _, g := range software.Groups() {
		c.group(say, g)
	}
	for _, part := range []struct {
		title string
		list  []flaw.Found
	}{{"Known flaws that it mends", c.Flaws.Mends}, {"Known flaws that it brings", c.Flaws.Brings}} {
		if len(part.list) == 0 {
			continue
		}
		say("\n## %s (%d)\n\n| | | in | mended in |\n|---|---|---|---|", part.title, len(part.list))
		for _, f := range part.list {
			say("| %s | %s %s | %s | %s |", f.Severity, plain(f.ID), plain(f.Summary), plain(f.Package+" "+f.Version),
				cmp.Or(plain(f.Fixed), "–"))
		}
	}
	if len(c.Flaws.NotChecked) > 0 {
		say("\n## Not checked for known flaws\n\n| | software | such as |\n|---|---|---|")
		for _, g := range c.Flaws.NotChecked {
			say("| %s | %d | %s |", plain(g.Ecosystem), g.Software, plain(strings.Join(g.Such, ", ")))
		}
	}
	for _, part := range []struct {
		title string
		lines []Line
	}{{"The system", c.Facts}, {"The build", c.Settings}, {"Steps", c.Steps}, {"Seal checks", c.Checks}} {
		if len(part.lines) == 0 {
			continue
		}
		say("\n## %s\n\n| | before | after |\n|---|---|---|", part.title)
		for _, l := range part.lines {
			row(l.What, l.Before, l.After)
		}
	}
	return b.String()
}

func (c Comparison) group(say func(string, ...any), g software.Group) {
	n := 0
	for _, change := range c.Changes {
		if change.Group == g {
			n += change.Size()
		}
	}
	if n == 0 {
		return
	}
	say("\n## %s (%d)\n\n| | | before | after |\n|---|---|---|---|", Title(g), n)
	for _, change := range c.Changes {
		if change.Group == g {
			say("| %s | %s | %s | %s |", change.What, plain(change.Label()), cmp.Or(plain(change.Before), "–"),
				cmp.Or(plain(change.After), "–"))
		}
	}
}

func moment(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04 UTC")
}

// Took writes how long something took, "" if that is not known.
func Took(seconds float64) string {
	if seconds <= 0 {
		return ""
	}
	d := time.Duration(seconds * float64(time.Second))
	if d >= time.Minute {
		return d.Round(time.Second).String()
	}
	return english.Plural(int(d.Round(time.Second)/time.Second), "second", "")
}

// marks are the signs that mean something within a line of Markdown, or in a
// cell of a table; at its beginning no text of others stands.
const marks = "\\`*_[]|~@"

// links are how addresses begin that renderers make links of by themselves.
var links = strings.NewReplacer("://", `\://`, "www.", `www\.`)

// plain writes a text so that it stands for itself: marks are escaped, what
// HTML would read becomes entities, and what no page should have is left out.
func plain(text string) string {
	var b strings.Builder
	for _, r := range text {
		switch {
		case r == '&':
			b.WriteString("&amp;")
		case r == '<':
			b.WriteString("&lt;")
		case unicode.IsSpace(r):
			b.WriteByte(' ')
		case unicode.IsControl(r), unicode.Is(unicode.Bidi_Control, r), r == unicode.ReplacementChar:
		case strings.ContainsRune(marks, r):
			b.WriteByte('\\')
			b.WriteRune(r)
		default:
			b.WriteRune(r)
		}
	}
	return links.Replace(b.String())
}
