package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/compare"
	"nimblepane/core/software"
)

// software are the commands about software, in whichever version it is.
func (a *app) software() *cobra.Command {
	cmd := &cobra.Command{Use: "software", Short: "Software, in whichever version it is"}
	var q client.SoftwareQuestion
	var hosts bool
	find := &cobra.Command{
		Use: "find NAME", Short: "Which versions, pools and hosts have a piece of software", Args: named,
		Long: "Which versions have a piece of software, and which pools and hosts run them. NAME is that of the " +
			"software or of the\n" +
			"source it was built from, with * for any text. With --below it is who still has a version of it before " +
			"that one:\n" +
			"versions are ordered by the rules of what installed it, and what no rule can order is named too.",
		Example: "  pane software find openssl --below 3.0.15-1\n  pane software find 'fare-*' --hosts",
	}
	f := find.Flags()
	f.StringVar(&q.Below, "below", "", "versions of it before this one")
	originFlag(find, &q.Origin)
	f.BoolVar(&q.All, "all", false, "also versions that nothing names and no host runs")
	f.BoolVar(&hosts, "hosts", false, "name the hosts")
	find.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		q.Name = args[0]
		holders, err := c.WhoHas(ctx, q)
		if err != nil {
			return err
		}
		type row = client.SoftwareHolder
		return list(a, holders, nobodyHas(q),
			column[row]{"Version", func(h row) string { return h.Image + " " + h.Number }},
			column[row]{"Has", func(h row) string { return has(h) }},
			column[row]{"Named by", func(h row) string {
				by := slices.Clone(h.Tracks)
				for _, p := range h.Pinned {
					by = append(by, "pin of "+p)
				}
				return cmp.Or(strings.Join(by, ", "), "-")
			}},
			column[row]{"Runs on", func(h row) string { return runsOn(h, hosts) }},
			column[row]{"Not ordered", func(h row) string { return cmp.Or(strings.Join(h.Unordered, "; "), "-") }})
	})
	cmd.AddCommand(find)
	return cmd
}

func originFlag(cmd *cobra.Command, into *software.Origin) {
	var names []string
	for _, o := range software.Origins() {
		names = append(names, string(o))
	}
	cmd.Flags().StringVar((*string)(into), "origin", "", "what installed it: "+strings.Join(names, ", "))
	_ = cmd.RegisterFlagCompletionFunc("origin", cobra.FixedCompletions(names, cobra.ShellCompDirectiveNoFileComp))
}

func nobodyHas(q client.SoftwareQuestion) string {
	what := q.Name
	if q.Below != "" {
		what += " below " + q.Below
	}
	if q.All {
		return fmt.Sprintf("No version has %s in it.", what)
	}
	return fmt.Sprintf("No version in use has %s in it. Look at the others with --all.", what)
}

// has names what a version has of what was asked for, each once.
func has(h client.SoftwareHolder) string {
	var labels []string
	for _, e := range h.Has {
		if l := e.Label(); !slices.Contains(labels, l) {
			labels = append(labels, l)
		}
	}
	return strings.Join(labels, ", ")
}

func runsOn(h client.SoftwareHolder, hosts bool) string {
	var pools []string
	for _, p := range h.Pools {
		if hosts {
			pools = append(pools, p.Pool+": "+strings.Join(p.Hosts, " "))
		} else {
			pools = append(pools, fmt.Sprintf("%s (%s)", p.Pool, many(len(p.Hosts), "host")))
		}
	}
	return cmp.Or(strings.Join(pools, ", "), "-")
}

func (a *app) versionSoftware() *cobra.Command {
	var s client.SoftwareSearch
	var document string
	cmd := &cobra.Command{
		Use: "software IMAGE NUMBER", Short: "What is in a version", Args: named,
		Long: "What is in a version, as it was listed before its machine was sealed. With --document the whole list " +
			"is written to a\n" +
			"file as CycloneDX 1.6, which other tools read.",
		ValidArgsFunction: a.complete(imageNames, versionNumbers),
	}
	cmd.Flags().StringVar(&s.Text, "search", "", "in names, versions, sources and summaries")
	cmd.Flags().StringVar(&document, "document", "", "file to write the CycloneDX document to, - to print it")
	originFlag(cmd, &s.Origin)
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		if document != "" {
			content, err := c.SoftwareDocument(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			return a.keep(document, content)
		}
		l, err := c.AllSoftware(ctx, args[0], args[1], s)
		if err != nil {
			return err
		}
		if a.structured() {
			return a.object(l)
		}
		if err := list(a, l.Items, "Nothing in it is like that.",
			column[software.Entry]{"Name", func(e software.Entry) string { return e.Name }},
			column[software.Entry]{"Version", func(e software.Entry) string { return e.Version }},
			column[software.Entry]{"Origin", func(e software.Entry) string { return string(e.Origin) }},
			column[software.Entry]{"Source", func(e software.Entry) string {
				return strings.TrimSpace(e.Source + " " + e.SourceVersion)
			}},
			column[software.Entry]{"Licence", func(e software.Entry) string { return e.Licence }},
			column[software.Entry]{"Summary", func(e software.Entry) string {
				return cmp.Or(e.Summary,
					e.Path)
			}}); err != nil {
			return err
		}
		a.say("\n%d of %s, listed by %s on %s.", len(l.Items), english.Plural(l.Entries, "piece of software",
			"pieces of software"), l.TakenBy,
			when(&l.TakenAt))
		return nil
	})
	return cmd
}

// keep writes a document to a file, or prints it.
func (a *app) keep(file string, content []byte) error {
	if file == "-" {
		return write(a.out, content)
	}
	if err := os.WriteFile(file, content, 0o644); err != nil {
		return err
	}
	a.say("Wrote %s (%s).", file, size(int64(len(content))))
	return nil
}

func (a *app) versionFacts() *cobra.Command {
	return &cobra.Command{
		Use: "facts IMAGE NUMBER", Short: "The system in a version: kernel, services, ports, accounts and more",
		Args: named, ValidArgsFunction: a.complete(imageNames, versionNumbers),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			f, err := c.Facts(ctx, args[0], args[1])
			if err != nil || a.structured() {
				if err == nil {
					err = a.object(f)
				}
				return err
			}
			var agents, folders, ports, signs []string
			for _, g := range f.Agents {
				agents = append(agents, strings.TrimSpace(g.Name+" "+g.Version))
			}
			for _, d := range f.Disk.Folders {
				folders = append(folders, fmt.Sprintf("%10s  %s", size(d.Size), d.Path))
			}
			for _, p := range f.Ports {
				ports = append(ports, p.String())
			}
			for _, acc := range f.Accounts {
				if acc.Signs {
					signs = append(signs, acc.Name)
				}
			}
			disk := ""
			if f.Disk.Used > 0 {
				disk = size(f.Disk.Used)
				if f.Disk.Size > 0 {
					disk += " of " + size(f.Disk.Size)
				}
			}
			lines := []fact{
				{"System", f.System},
				{"Edition", f.Edition},
				{"Kernel", f.Kernel},
				{"Architecture", f.Arch},
				{"Time zone", f.TimeZone},
				{"Language", f.Language},
				{"Agents", strings.Join(agents, "\n")},
				{"Disk in use", disk},
				{"Largest folders", strings.Join(folders, "\n")},
				{"Start by themselves", strings.Join(f.Services, "\n")},
				{"Listened on", strings.Join(ports, "\n")},
				{"Accounts", fmt.Sprint(len(f.Accounts))},
				{"Can sign in", strings.Join(signs, ", ")},
			}
			if a.output == "csv" {
				return list(a, lines, "", column[fact]{"Fact", func(l fact) string { return l.name }},
					column[fact]{"Value", func(l fact) string { return l.value }})
			}
			a.facts(lines...)
			return nil
		}),
	}
}

func (a *app) bringSoftware() *cobra.Command {
	return &cobra.Command{
		Use:   "bring-list IMAGE NUMBER FILE",
		Short: "Give a version that has no software list one that was made elsewhere",
		Args:  named, ValidArgsFunction: a.complete(imageNames, versionNumbers),
		Long: "Give a version that has no software list one that was made elsewhere, as CycloneDX 1.2 to 1.6 in " +
			"JSON. A version that\n" +
			"has one keeps it.",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			document, err := os.ReadFile(args[2])
			if err != nil {
				return err
			}
			// Before it is sent: most mistakes are seen here as well.
			if _, _, err := software.Read(document); err != nil {
				return usage("%s cannot be taken: %s", args[2], err)
			}
			v, err := c.BringSoftware(ctx, args[0], args[1], document)
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(v)
			}
			a.say("%s %s has a software list now, of %s.", v.Image, v.Number, english.Plural(v.Software, "entry",
				"entries"))
			return nil
		}),
	}
}

// fewOfTheRest is how many lines of the rest a comparison shows if it is not asked for all.
const fewOfTheRest = 12

func (a *app) compareVersion() *cobra.Command {
	var whole bool
	var document string
	cmd := &cobra.Command{
		Use: "compare IMAGE NUMBER [OTHER]", Short: "How a version differs from the one in use, or from another",
		Args: named, ValidArgsFunction: a.complete(imageNames, versionNumbers, versionNumbers),
		Long: "How a version differs from OTHER, or from the one that live names: in its software, the applications " +
			"first, then what\n" +
			"people will notice, security fixes and the rest; in its system, its build, its steps and its seal " +
			"checks. With\n" +
			"--document it is written as Markdown, for a change ticket.",
	}
	cmd.Flags().BoolVar(&whole, "all", false, "every line of the rest")
	cmd.Flags().StringVar(&document, "document", "", "file to write it to as Markdown, - to print it")
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		other := ""
		if len(args) > 2 {
			other = args[2]
		}
		if document != "" {
			content, err := c.CompareMarkdown(ctx, args[0], other, args[1])
			if err != nil {
				return err
			}
			return a.keep(document, content)
		}
		d, err := c.Compare(ctx, args[0], other, args[1])
		if err != nil {
			return err
		}
		if a.structured() {
			return a.object(d)
		}
		return a.comparison(d, whole)
	})
	return cmd
}

func (a *app) comparison(d compare.Comparison, whole bool) error {
	changes := []column[software.Change]{
		{"What", func(c software.Change) string { return changeColour(c.What) }},
		{"Software", software.Change.Label},
		{"Before", func(c software.Change) string { return cmp.Or(c.Before, "-") }},
		{"After", func(c software.Change) string { return cmp.Or(c.After, "-") }},
		{"Note", func(c software.Change) string {
			note := c.Why
			if c.Security && c.Group != software.SecurityFixes {
				note = "security fix"
			}
			return cmp.Or(note, "-")
		}},
	}
	if a.output == "csv" {
		return list(a, d.Changes, "", append([]column[software.Change]{
			{"Group", func(c software.Change) string { return string(c.Group) }},
		}, changes...)...)
	}
	pair := func(before, after string) string {
		if before == "" && after == "" {
			return ""
		}
		return cmp.Or(before, "-") + " -> " + cmp.Or(after, "-")
	}
	a.facts(fact{"Compared", d.Image + " " + d.From.Number + " -> " + d.To.Number},
		fact{"Standing", pair(strings.Join(d.From.Standing, ", "), strings.Join(d.To.Standing, ", "))},
		fact{"Size", pair(size(d.From.SizeBytes), size(d.To.SizeBytes))},
		fact{"Build took", pair(compare.Took(d.From.BuildSeconds), compare.Took(d.To.BuildSeconds))},
		fact{"First start took", pair(compare.Took(d.From.FirstStart), compare.Took(d.To.FirstStart))})
	a.say("\n%s", d.Summary())
	for _, g := range software.Groups() {
		var of []software.Change
		n := 0
		for _, c := range d.Changes {
			if c.Group == g {
				of, n = append(of, c), n+c.Size()
			}
		}
		if len(of) == 0 {
			continue
		}
		a.say("\n%s", text.Bold.Sprintf("%s (%d)", compare.Title(g), n))
		left := 0
		if g == software.TheRest && !whole && len(of) > fewOfTheRest {
			of, left = of[:fewOfTheRest], len(of)-fewOfTheRest
		}
		if err := list(a, of, "", changes...); err != nil {
			return err
		}
		if left > 0 {
			a.say("... and %s more: see them with --all.", many(left, "line"))
		}
	}
	if err := a.comparedFlaws(d.Flaws); err != nil {
		return err
	}
	for _, part := range []struct {
		title string
		lines []compare.Line
	}{{"The system", d.Facts}, {"The build", d.Settings}, {"Steps", d.Steps}, {"Seal checks", d.Checks}} {
		if len(part.lines) == 0 {
			continue
		}
		a.say("\n%s", text.Bold.Sprint(part.title))
		if err := list(a, part.lines, "",
			column[compare.Line]{"What", func(l compare.Line) string { return l.What }},
			column[compare.Line]{"Before", func(l compare.Line) string { return cmp.Or(l.Before, "-") }},
			column[compare.Line]{"After", func(l compare.Line) string { return cmp.Or(l.After, "-") }}); err != nil {
			return err
		}
	}
	return nil
}

// changeColour is a second sign beside the word.
func changeColour(w software.What) string {
	switch w {
	case software.Removed, software.Downgraded:
		return text.FgRed.Sprint(w)
	case software.Changed:
		return text.FgHiYellow.Sprint(w)
	case software.Added:
		return text.FgCyan.Sprint(w)
	}
	return string(w)
}
