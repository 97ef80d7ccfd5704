package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"sort"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/act"
	"nimblepane/core/image"
)

func (a *app) today() *cobra.Command {
	return &cobra.Command{
		Use: "today", Short: "What needs you now", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			matters, err := c.Today(ctx)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return list(a, matters, "",
					column[client.Matter]{"kind", func(m client.Matter) string { return string(m.Kind) }},
					column[client.Matter]{"urgent", func(m client.Matter) string { return yesNo(m.Urgent) }},
					column[client.Matter]{"title", func(m client.Matter) string { return m.Title }},
					column[client.Matter]{"detail", func(m client.Matter) string { return m.Detail }},
					column[client.Matter]{"command", func(m client.Matter) string { return m.Command }})
			}
			if err := a.clockLine(ctx, c); err != nil {
				return err
			}
			if len(matters) == 0 {
				a.say("Nothing needs you now.")
			}
			for _, m := range matters {
				mark := "- "
				if m.Urgent {
					mark = text.FgRed.Sprint("! ")
				}
				a.say("%s%s", mark, text.Bold.Sprint(m.Title))
				if m.Detail != "" {
					a.say("  %s", m.Detail)
				}
				if m.Command != "" {
					a.say("  %s", text.Faint.Sprint(m.Command))
				}
			}
			return nil
		}),
	}
}

// clockLine says what time it is at the service, if that is not the real one.
func (a *app) clockLine(ctx context.Context, c *client.Client) error {
	s, err := c.Status(ctx)
	if err == nil && s.Practice {
		a.say("%s", text.FgMagenta.Sprintf("Practice clock: %s UTC, %g times as fast as the real one.",
			s.Now.Format("Mon 2006-01-02 15:04"), s.Rate))
	}
	return err
}

func (a *app) estate() *cobra.Command {
	cmd := &cobra.Command{Use: "estate", Short: "The estate as a file: sites, images, pools"}
	var dry bool
	load := &cobra.Command{
		Use: "load FILE", Short: "Bring the estate to what a file says", Args: named,
		Long: "Bring sites, images and pools to what a file says (- for standard input). The whole file is " +
			"checked\nfirst, and all that is wrong with it is said at once, with line numbers. Loading it twice " +
			"changes nothing.",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			var b []byte
			var err error
			if args[0] == "-" {
				b, err = io.ReadAll(a.in)
			} else {
				b, err = os.ReadFile(args[0])
			}
			if err != nil {
				return err
			}
			r, err := c.LoadEstate(ctx, b, dry)
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(r)
			}
			for _, l := range r.Changes {
				a.say("%s", l)
			}
			switch {
			case len(r.Changes) == 0:
				a.say("The estate is as the file says: nothing changed.")
			case dry:
				a.say("%s would be made.", many(len(r.Changes), "change"))
			default:
				a.say("%s made.", english.Plural(len(r.Changes), "change was", "changes were"))
			}
			return nil
		}),
	}
	load.Flags().BoolVar(&dry, "dry-run", false, "only say what would change")
	cmd.AddCommand(load, &cobra.Command{
		Use: "show", Short: "Print the estate as a file that can be loaded", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			b, err := c.Estate(ctx)
			if err != nil {
				return err
			}
			if a.output == "json" {
				if b, err = yaml.YAMLToJSON(b); err != nil {
					return err
				}
				return a.object(json.RawMessage(b))
			}
			return write(a.out, b)
		}),
	})
	return cmd
}

func (a *app) site() *cobra.Command {
	cmd := &cobra.Command{Use: "site", Short: "Sites and their build machines"}
	cmd.AddCommand(&cobra.Command{
		Use: "list", Short: "All sites", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			sites, err := c.Sites(ctx)
			if err != nil {
				return err
			}
			return list(a, sites, "There is no site yet: load an estate file.",
				column[client.Site]{"Site", func(s client.Site) string { return s.Name }},
				column[client.Site]{"Title", func(s client.Site) string { return s.Title }},
				column[client.Site]{"Platform", func(s client.Site) string { return s.Platform }},
				column[client.Site]{"Pools", func(s client.Site) string { return fmt.Sprint(s.Pools) }},
				column[client.Site]{"Hosts", func(s client.Site) string { return fmt.Sprint(s.Hosts) }},
				column[client.Site]{"Starts per minute", func(s client.Site) string {
					return fmt.Sprint(s.StartsPerMinute)
				}},
				column[client.Site]{"Clones per copy", func(s client.Site) string {
					return fmt.Sprint(s.ClonesPerCopy)
				}},
				column[client.Site]{"Answers", func(s client.Site) string { return yesNo(s.Unreachable == "") }})
		}),
	}, &cobra.Command{
		Use: "show SITE", Short: "One site with its build machines", Args: named,
		ValidArgsFunction: a.complete(siteNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			s, err := c.Site(ctx, args[0])
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(s)
			}
			a.facts(fact{"Site", s.Name}, fact{"Title", s.Title}, fact{"Platform", s.Platform},
				fact{"Address", s.Address},
				fact{"Stagger", fmt.Sprintf("%s per minute", many(s.StartsPerMinute, "start"))},
				fact{"Clones", fmt.Sprintf("%d at once from one copy", s.ClonesPerCopy)},
				fact{"Deliveries", toSite(s.Deliveries)},
				fact{"Pools", fmt.Sprint(s.Pools)}, fact{"Hosts", fmt.Sprint(s.Hosts)},
				fact{"Unreachable", s.Unreachable})
			a.say("")
			if len(s.Hypervisors) > 0 && a.output == "table" {
				if err := a.hypervisors(s.Hypervisors); err != nil {
					return err
				}
				a.say("")
			}
			return list(a, s.BuildMachines, "No build machine is here.",
				column[client.MachineAtSite]{"Build machine", func(m client.MachineAtSite) string { return m.Name }},
				column[client.MachineAtSite]{"Class", func(m client.MachineAtSite) string { return m.MachineClass }},
				column[client.MachineAtSite]{"State", func(m client.MachineAtSite) string { return coloured(m.State) }},
				column[client.MachineAtSite]{"Base", func(m client.MachineAtSite) string { return m.Base }},
				column[client.MachineAtSite]{"Changes", func(m client.MachineAtSite) string { return m.Changes }})
		}),
	})
	return cmd
}

func (a *app) image() *cobra.Command {
	cmd := &cobra.Command{Use: "image", Short: "Golden images and their tracks"}
	tracks := func(i client.Image) string {
		var out []string
		for _, t := range i.Tracks {
			out = append(out, t.Name+" "+cmp.Or(t.Version, "-"))
		}
		return strings.Join(out, ", ")
	}
	cmd.AddCommand(&cobra.Command{
		Use: "list", Short: "All images", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			images, err := c.Images(ctx)
			if err != nil {
				return err
			}
			return list(a, images, "There is no image yet: load an estate file.",
				column[client.Image]{"Image", func(i client.Image) string { return i.Name }},
				column[client.Image]{"Title", func(i client.Image) string { return i.Title }},
				column[client.Image]{"Class", func(i client.Image) string { return i.MachineClass }},
				column[client.Image]{"Tracks", tracks},
				column[client.Image]{"Fallback", func(i client.Image) string { return cmp.Or(i.Fallback, "-") }},
				column[client.Image]{"Versions", func(i client.Image) string { return fmt.Sprint(i.Versions) }})
		}),
	}, &cobra.Command{
		Use: "show IMAGE", Short: "One image with its versions", Args: named, ValidArgsFunction: a.complete(imageNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			i, err := c.Image(ctx, args[0])
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(i)
			}
			back, err := c.Readiness(ctx, i.Name)
			if err != nil {
				return err
			}
			a.facts(fact{"Image", i.Name}, fact{"Title", i.Title}, fact{"Machine class", i.MachineClass},
				fact{"Tracks", tracks(i)}, fact{"Fallback", i.Fallback}, fact{"Rollback", back.Says},
				fact{"Clearance", asked(i)}, fact{"Copies", plans(i)}, fact{"Kept", i.Retention},
				fact{"Next number", i.NextNumber})
			a.say("")
			versions, err := c.Versions(ctx, i.Name)
			if err != nil {
				return err
			}
			return a.versions(versions)
		}),
	}, a.imageRetention(), a.imageReadiness(), a.acceptUnchecked(), &cobra.Command{
		Use: "history IMAGE", Short: "What the tracks of an image pointed to, newest first", Args: named,
		ValidArgsFunction: a.complete(imageNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			moves, err := c.Moves(ctx, args[0])
			if err != nil {
				return err
			}
			return list(a, moves, "No track of it has named a version yet.",
				column[client.TrackMove]{"At", func(m client.TrackMove) string { return when(&m.At) }},
				column[client.TrackMove]{"Track", func(m client.TrackMove) string { return m.Track }},
				column[client.TrackMove]{"Move", func(m client.TrackMove) string { return string(m.Kind) }},
				column[client.TrackMove]{"Version", func(m client.TrackMove) string { return m.Version }},
				column[client.TrackMove]{"By", func(m client.TrackMove) string { return m.Actor }},
				column[client.TrackMove]{"Reason", func(m client.TrackMove) string { return m.Reason }})
		}),
	})
	return cmd
}

func (a *app) versions(versions []client.Version) error {
	return list(a, versions, "There is no version yet: capture one.",
		column[client.Version]{"Version", func(v client.Version) string { return v.Number }},
		column[client.Version]{"State", func(v client.Version) string { return coloured(versionState(v)) }},
		column[client.Version]{"Standing", func(v client.Version) string { return strings.Join(v.Standing, ", ") }},
		column[client.Version]{"Hosts", func(v client.Version) string { return fmt.Sprint(v.Hosts) }},
		column[client.Version]{"Copies", copies},
		column[client.Version]{"End of life", func(v client.Version) string { return day(v.EndOfLife) }},
		column[client.Version]{"Captured", func(v client.Version) string {
			return day(&v.CreatedAt) + " by " +
				v.CapturedBy
		}},
		column[client.Version]{"Notes", func(v client.Version) string { return cmp.Or(v.Barred, v.Failure, v.Notes) }})
}

func versionState(v client.Version) string {
	switch {
	case v.Barred != "":
		return barred
	case v.State == image.Capturing:
		return fmt.Sprintf("capturing %d%%", v.Progress)
	}
	return string(v.State)
}

// copies counts them by site: "north-quay 2, south-quay 1 of 2".
func copies(v client.Version) string {
	present, total := map[string]int{}, map[string]int{}
	for _, c := range v.Copies {
		if c.State == image.CopyLeaving {
			continue
		}
		total[c.Site]++
		if c.State == image.CopyPresent {
			present[c.Site]++
		}
	}
	var out []string
	for site, n := range total {
		if present[site] == n {
			out = append(out, fmt.Sprintf("%s %d", site, n))
		} else {
			out = append(out, fmt.Sprintf("%s %d of %d", site, present[site], n))
		}
	}
	sort.Strings(out)
	return strings.Join(out, ", ")
}

func (a *app) showVersion(ctx context.Context, c *client.Client, v client.Version) error {
	if a.output == "csv" {
		return a.versions([]client.Version{v})
	}
	return a.object(v)
}

func (a *app) version() *cobra.Command {
	cmd := &cobra.Command{Use: "version", Short: "Versions of images"}
	cmd.AddCommand(&cobra.Command{
		Use: "list IMAGE", Short: "The versions of an image, newest first", Args: named,
		ValidArgsFunction: a.complete(imageNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			versions, err := c.Versions(ctx, args[0])
			if err != nil {
				return err
			}
			return a.versions(versions)
		}),
	}, &cobra.Command{
		Use: "show IMAGE NUMBER", Short: "One version", Args: named,
		ValidArgsFunction: a.complete(imageNames, versionNumbers),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			v, err := c.Version(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.showVersion(ctx, c, v)
			}
			barred := ""
			if v.Barred != "" {
				barred = fmt.Sprintf("by %s on %s: %s", v.BarredBy, day(v.BarredAt), v.Barred)
			}
			var found []string
			for _, f := range v.Findings {
				found = append(found, f.String())
			}
			a.facts(fact{"Version", v.Image + " " + v.Number}, fact{"State", coloured(versionState(v))},
				fact{"Standing", strings.Join(v.Standing, ", ")}, fact{"Barred", barred},
				fact{"Failure", v.Failure}, fact{"Hosts", fmt.Sprint(v.Hosts)}, fact{"Copies", copies(v)},
				fact{"Source", v.Source}, fact{"Build", madeBy(v)}, fact{"Made from", v.Base},
				fact{"Commit", v.Commit}, fact{"Notes", v.Notes}, fact{"Tags", strings.Join(v.Tags, ", ")},
				fact{"End of life", day(v.EndOfLife)}, fact{"Captured", when(&v.CreatedAt) + " by " + v.CapturedBy},
				fact{"Software", listed(v)}, fact{"Sealed", when(v.SealedAt)}, fact{"Size", compacted(v)},
				fact{"Digest", v.Digest},
				fact{"Sealing", strings.Join(v.Sealing, "\n")}, fact{"Seal checks", strings.Join(found, "\n")})
			return nil
		}),
	}, &cobra.Command{
		Use: "deliver IMAGE NUMBER", Short: "Deliver copies again that failed to arrive or are lacking", Args: named,
		ValidArgsFunction: a.complete(imageNames, versionNumbers),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			d, err := c.Deliver(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			a.say("%s of %s %s %s on the way.", english.Plural(d.Copies, "copy", "copies"), args[0], args[1],
				english.PluralWord(d.Copies, "is", "are"))
			if a.structured() {
				return a.object(d)
			}
			return nil
		}),
	}, a.capture("capture"), a.editVersion(), a.versionAct("unblock", "Make a blocked version usable again", true,
		(*client.Client).Unblock), a.versionAct("bar", "Mark a version as never to be used again", true,
		(*client.Client).Bar),
		a.versionAct("retire", "Delete a version's copies and keep its record", false, (*client.Client).Retire))
	cmd.AddCommand(a.proveVersion(), a.tryVersion(), a.versionSoftware(), a.versionFacts(), a.versionFlaws(),
		a.bringSoftware(),
		a.compareVersion(), a.versionProvenance(), a.verifyVersion(), a.signingKeys())
	return cmd
}

// listed says what is known of what is in a version.
func listed(v client.Version) string {
	if v.Software > 0 {
		return english.Plural(v.Software, "entry", "entries")
	}
	if v.Unlisted != "" {
		return "not listed: " + v.Unlisted
	}
	return ""
}

// compacted says how large a version is, and how large it was before.
func compacted(v client.Version) string {
	if v.SizeBefore == 0 {
		return size(v.SizeBytes)
	}
	return fmt.Sprintf("%s, compacted from %s", size(v.SizeBytes), size(v.SizeBefore))
}

func (a *app) editVersion() *cobra.Command {
	var notes, eol string
	var tags []string
	cmd := &cobra.Command{
		Use: "edit IMAGE NUMBER", Short: "Change notes, tags or end-of-life of a version", Args: named,
		ValidArgsFunction: a.complete(imageNames, versionNumbers),
	}
	f := cmd.Flags()
	f.StringVar(&notes, "notes", "", "what is new in it")
	f.StringVar(&eol, "end-of-life", "", "until when it may be used, such as 2027-05-31; none to take it away")
	f.StringSliceVar(&tags, "tag", nil, "tag, may be given several times; replaces those there are")
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) (err error) {
		var in client.VersionEdit
		if f.Changed("notes") {
			in.Notes = &notes
		}
		if f.Changed("tag") {
			in.Tags = &tags
		}
		if eol == "none" {
			in.ClearEndOfLife = true
		} else if in.EndOfLife, err = parseDay(eol); err != nil {
			return err
		}
		if !f.Changed("notes") && !f.Changed("tag") && eol == "" {
			return usage("there is nothing to change: give --notes, --tag or --end-of-life")
		}
		v, err := c.Version(ctx, args[0], args[1])
		if err != nil {
			return err
		}
		if v, err = c.EditVersion(ctx, args[0], args[1], v.Revision, in); err != nil {
			return err
		}
		var changed []string
		for _, flag := range []string{"notes", "tag", "end-of-life"} {
			if f.Changed(flag) {
				changed = append(changed, flag)
			}
		}
		a.say("%s %s was changed: %s.", v.Image, v.Number, english.WordSeries(changed, "and"))
		if a.output != "table" {
			return a.showVersion(ctx, c, v)
		}
		return nil
	})
	return cmd
}

// outcomes say what an act made of a version.
var outcomes = map[string]string{
	"bar": "is blocked.", "unblock": "is no longer blocked.", "retire": "is retired: its copies are deleted.",
}

func (a *app) versionAct(verb, short string, needsReason bool,
	call func(*client.Client, context.Context, string, string, string) (client.Version, error),
) *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use: verb + " IMAGE NUMBER", Short: short, Args: named,
		ValidArgsFunction: a.complete(imageNames, versionNumbers),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			question := strings.ToUpper(verb[:1]) + verb[1:] + " %s %s?"
			var v client.Version
			do := func(ctx context.Context) (err error) {
				v, err = call(c, ctx, args[0], args[1], reason)
				return err
			}
			var err error
			if verb == "retire" {
				if _, err = a.preview(ctx, c, true, client.PreviewRequest{
					Act: act.Retire, Image: args[0],
					Number: args[1],
				}, "This cannot be undone. "+question, args[0], args[1]); err == nil {
					err = do(ctx)
				}
			} else {
				err = a.confirmed(ctx, do, question, args[0], args[1])
			}
			if err != nil {
				return err
			}
			a.say("%s %s "+outcomes[verb], v.Image, v.Number)
			if a.output != "table" {
				return a.showVersion(ctx, c, v)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	if needsReason {
		_ = cmd.MarkFlagRequired("reason")
	}
	return cmd
}

func (a *app) trial() *cobra.Command {
	cmd := &cobra.Command{Use: "trial", Short: "Trials of versions: clearance and sign-offs"}
	show := func(ctx context.Context, t client.Trial) error {
		if a.structured() {
			return a.object(t)
		}
		if a.output == "table" {
			a.say("%s %s %s.\n", t.Image, t.Number, map[bool]string{
				true:  "has clearance",
				false: "has no clearance",
			}[t.Cleared])
		}
		if err := list(a, t.Rules, "",
			column[client.Rule]{"Rule", func(r client.Rule) string { return r.Rule }},
			column[client.Rule]{"Outcome", func(r client.Rule) string {
				return coloured(map[bool]string{true: met, false: notMet}[r.Met])
			}},
			column[client.Rule]{"Why", func(r client.Rule) string { return r.Why }}); err != nil || a.output == "csv" {
			return err
		}
		a.say("")
		return list(a, t.SignOffs, "No tester has said anything yet.",
			column[client.SignOff]{"Tester", func(s client.SignOff) string { return s.Tester }},
			column[client.SignOff]{"Says", func(s client.SignOff) string { return yesNo(s.Yes) }},
			column[client.SignOff]{"At", func(s client.SignOff) string { return when(&s.At) }},
			column[client.SignOff]{"Comment", func(s client.SignOff) string { return s.Comment }})
	}
	var yes, no bool
	var comment string
	sign := &cobra.Command{
		Use: "sign IMAGE NUMBER --pass|--fail", Short: "Say yes or no to a version on trial; your last word counts",
		Args: named, ValidArgsFunction: a.complete(imageNames, versionNumbers),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if yes == no {
				return usage("say --pass or --fail")
			}
			t, err := c.Sign(ctx, args[0], args[1], client.Sign{Yes: yes, Comment: comment})
			if err != nil {
				return err
			}
			return show(ctx, t)
		}),
	}
	sign.Flags().BoolVar(&yes, "pass", false, "it works: yes")
	sign.Flags().BoolVar(&no, "fail", false, "it does not: no, with a --comment")
	sign.Flags().StringVar(&comment, "comment", "", "what you saw")
	var waiver client.Waiver
	waive := &cobra.Command{
		Use: "waive IMAGE NUMBER SOFTWARE", Short: "Pass over that a piece of software is older than in the " +
			"version in use",
		Args: named, ValidArgsFunction: a.complete(imageNames, versionNumbers),
		Long: "Pass over that a piece of software is older than in the version in use, where the image asks that " +
			"none is (no-downgrades\n" +
			"in the estate file). It takes the role approver, and the reason stands with the version.",
	}
	waive.Flags().StringVar(&waiver.Reason, "reason", "", "why it is passed over")
	waive.Flags().BoolVar(&waiver.Withdraw, "withdraw", false, "take an earlier one back")
	waive.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		waiver.Software = args[2]
		t, err := c.Waive(ctx, args[0], args[1], waiver)
		if err != nil {
			return err
		}
		return show(ctx, t)
	})
	cmd.AddCommand(sign, waive, &cobra.Command{
		Use: "show IMAGE NUMBER", Short: "Clearance rule by rule, and what testers said", Args: named,
		ValidArgsFunction: a.complete(imageNames, versionNumbers),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			t, err := c.Trial(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			if err := show(ctx, t); err != nil || t.Cleared {
				return err
			}
			return &badOutcome{fmt.Sprintf("%s %s has no clearance", t.Image, t.Number)}
		}),
	})
	return cmd
}

// asked says what clearance asks of an image's versions.
func asked(i client.Image) string {
	text := fmt.Sprintf("%s, %s on pilot, %s per site", english.Plural(i.Testers, "tester says yes", "testers say yes"),
		i.Soak, english.Plural(i.Copies, "copy", "copies"))
	if i.KeepApplications {
		text += ", no application missing"
	}
	if i.NoDowngrades {
		text += ", no software older"
	}
	if i.NoSeriousFlaws {
		text += ", no new serious flaw"
		for _, name := range slices.Sorted(maps.Keys(i.Accepted)) {
			text += fmt.Sprintf("; %s is not checked: %s", name, i.Accepted[name])
		}
	}
	if i.Independent {
		text += ", testers who did not make the version"
	}
	return text
}

// madeBy is the number of the build that made a version, "" if none did.
func madeBy(v client.Version) string {
	if v.Build == 0 {
		return ""
	}
	return fmt.Sprint(v.Build)
}
