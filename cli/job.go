package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/rollover"
)

// job returns the acts that are the job itself.
func (a *app) job() []*cobra.Command {
	cmds := []*cobra.Command{a.capture("capture"), a.stage(), a.activate(), a.rollback()}
	for _, c := range cmds {
		c.GroupID = "job"
	}
	return cmds
}

func parseDay(s string) (*time.Time, error) {
	if s == "" {
		return nil, nil
	}
	t, err := time.Parse(time.DateOnly, s)
	if err != nil {
		return nil, usage("%q is not a day: write it as 2027-05-31", s)
	}
	return &t, nil
}

func (a *app) capture(use string) *cobra.Command {
	var in client.Capture
	var eol string
	var wait bool
	cmd := &cobra.Command{
		Use: use + " IMAGE --from BUILD-MACHINE", Short: "Capture a new version from a build machine", Args: named,
		Long: "Make the seal checks on a build machine, shut it down, seal it and capture its disk as a new version. " +
			"A machine\nthat is kept can be worked on and captured again: what is sealed is a clone of it. Nothing " +
			"points to the\nnew version: stage it to try it.",
		Example: "  pane capture counter-desk --from bm-counter --notes 'November fixes' --end-of-life " +
			"2027-05-31 --wait",
		ValidArgsFunction: a.complete(imageNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) (err error) {
			if in.EndOfLife, err = parseDay(eol); err != nil {
				return err
			}
			if err := a.checkBefore(ctx, c, in); err != nil {
				return err
			}
			v, err := c.Capture(ctx, args[0], in)
			if err != nil {
				return err
			}
			a.say("Capturing %s %s from %s.", v.Image, v.Number, v.Source)
			if wait {
				if v, err = a.awaitCapture(ctx, c, v); err != nil {
					return err
				}
				a.say("%s %s is sealed and its copies are delivered. Next: pane stage %s %s", v.Image, v.Number,
					v.Image, v.Number)
			} else {
				a.say("Follow it with: pane version show %s %s", v.Image, v.Number)
			}
			if a.output != "table" {
				return a.showVersion(ctx, c, v)
			}
			return nil
		}),
	}
	f := cmd.Flags()
	f.StringVar(&in.BuildMachine, "from", "", "build machine to capture")
	f.StringVar(&in.Site, "site", "", "site of the build machine, if several have one of the name")
	f.StringVar(&in.Number, "number", "", "number of the version (default: the next one)")
	f.StringVar(&in.Notes, "notes", "", "what is new in it")
	f.StringVar(&eol, "end-of-life", "", "until when it may be used, such as 2027-05-31")
	f.StringSliceVar(&in.Tags, "tag", nil, "tag, may be given several times")
	f.BoolVar(&in.Discard, "discard", false, "delete the build machine afterwards")
	f.StringToStringVar(&in.Waive, "waive", nil, "pass over what a seal check finds, as CHECK=REASON, may be given "+
		"several times")
	f.BoolVar(&in.Prove, "prove", false, "prove its first start, on a machine that is thrown away")
	f.StringVar(&in.Unchecked, "unchecked", "", "capture it without seal checks, for this reason")
	f.BoolVar(&wait, "wait", false, "wait until it is sealed and delivered")
	_ = cmd.MarkFlagRequired("from")
	_ = cmd.RegisterFlagCompletionFunc("from", func(cmd *cobra.Command, _ []string, _ string) ([]string,
		cobra.ShellCompDirective,
	) {
		var out []string
		if c, err := a.client(); err == nil {
			if sites, err := c.Sites(cmd.Context()); err == nil {
				for _, s := range sites {
					for _, m := range s.BuildMachines {
						out = append(out, m.Name+"\t"+m.Changes)
					}
				}
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	})
	return cmd
}

// awaitCapture waits until a version is sealed and all its copies are there, or one of that failed.
func (a *app) awaitCapture(ctx context.Context, c *client.Client, v client.Version) (client.Version, error) {
	p := a.newProgress()
	defer p.end()
	for {
		var err error
		if v, err = c.Version(ctx, v.Image, v.Number); err != nil {
			return v, err
		}
		present, percent := 0, 0
		for _, x := range v.Copies {
			percent += x.Progress
			switch x.State {
			case image.CopyPresent, image.CopyLeaving:
				present++
			case image.CopyFailed:
				return v, &badOutcome{fmt.Sprintf("a copy of %s %s could not be delivered to %s: %s", v.Image, v.Number,
					x.Site, x.Failure)}
			}
		}
		switch {
		case v.State == image.Failed:
			return v, &badOutcome{fmt.Sprintf("%s %s could not be captured: %s", v.Image, v.Number, v.Failure)}
		case v.State == image.Capturing:
			p.show("capturing: %d%%", v.Progress)
		case present == len(v.Copies):
			return v, nil
		default:
			p.show("delivering: %d of %d copies there, %d%%", present, len(v.Copies), percent/len(v.Copies))
		}
		if err := sleep(ctx, 300*time.Millisecond); err != nil {
			return v, err
		}
	}
}

func sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

func (a *app) stage() *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use: "stage IMAGE NUMBER", Short: "Point pilot at a version: the pilot pools take it, production does not " +
			"change", Args: named,
		ValidArgsFunction: a.complete(imageNames, versionNumbers),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if already, err := a.alreadyNames(ctx, c, args[0], image.Pilot, args[1]); already || err != nil {
				return err
			}
			leaves, err := a.preview(ctx, c, false, client.PreviewRequest{
				Act: "stage", Image: args[0],
				Number: args[1],
			}, "Stage %s %s?", args[0], args[1])
			if err != nil {
				return err
			}
			v, err := c.Stage(ctx, args[0], args[1], client.Staging{Reason: reason, Leaves: leaves})
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.showVersion(ctx, c, v)
			}
			a.say("Pilot of %s names %s. Production has not moved.", v.Image, v.Number)
			return a.whatFollows(ctx, c, v.Image, "pilot")
		}),
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	return cmd
}

// alreadyNames says that a track names a version already, if it does.
func (a *app) alreadyNames(ctx context.Context, c *client.Client, name, track, number string) (bool, error) {
	img, err := c.Image(ctx, name)
	if err != nil || trackOf(img, track) != number {
		return false, err
	}
	v, err := c.Version(ctx, name, number)
	if err == nil && a.output != "table" {
		return true, a.showVersion(ctx, c, v)
	}
	a.say("%s of %s already names %s.", strings.ToUpper(track[:1])+track[1:], name, number)
	return true, err
}

// whatFollows says which pools drift now.
func (a *app) whatFollows(ctx context.Context, c *client.Client, image, track string) error {
	pools, err := c.Pools(ctx)
	if err != nil {
		return err
	}
	var drifting []string
	for _, p := range pools {
		if p.Image == image && p.Track == track && p.Drifting > 0 {
			a.say("Pool %s: %s.", p.Name, drift(p))
			drifting = append(drifting, "--pool "+p.Name)
		}
	}
	if len(drifting) > 0 {
		a.say("Next: pane rollover start %s", strings.Join(drifting, " "))
	}
	return nil
}

// trackOf returns what a track of the image names.
func trackOf(img client.Image, name string) string {
	for _, t := range img.Tracks {
		if t.Name == name {
			return t.Version
		}
	}
	return ""
}

func (a *app) activate() *cobra.Command {
	var in client.Activation
	cmd := &cobra.Command{
		Use: "activate IMAGE NUMBER", Short: "Point live at a version that has clearance", Args: named,
		Long: "Point live at a version that has clearance. The version in use before is kept as the " +
			"fallback, unless\n--let-go is given. No host changes by it: roll the pools over afterwards.",
		ValidArgsFunction: a.complete(imageNames, versionNumbers),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			trial := func(err error) error {
				if errors.Is(err, problem.NotCleared) {
					return fmt.Errorf("%w\nSee the rules with: pane trial show %s %s", err, args[0], args[1])
				}
				return err
			}
			if already, err := a.alreadyNames(ctx, c, args[0], image.Live, args[1]); already || err != nil {
				return err
			}
			var err error
			in.Leaves, err = a.preview(ctx, c, true, client.PreviewRequest{
				Act: "activate", Image: args[0],
				Number: args[1], LetGo: in.LetGo, Overrule: in.Overrule, Redirect: in.Redirect,
			}, "Activate %s %s?", args[0], args[1])
			if err != nil {
				return trial(err)
			}
			v, err := c.Activate(ctx, args[0], args[1], in)
			if err != nil {
				return trial(err)
			}
			if a.output != "table" {
				return a.showVersion(ctx, c, v)
			}
			a.say("Live of %s names %s.", v.Image, v.Number)
			return a.whatFollows(ctx, c, v.Image, "live")
		}),
	}
	f := cmd.Flags()
	f.StringVar(&in.Reason, "reason", "", "why")
	f.BoolVar(&in.LetGo, "let-go", false, "do not keep the version in use before as the fallback")
	f.BoolVar(&in.Overrule, "overrule", false, "activate without clearance (administrators, with --reason)")
	f.BoolVar(&in.Redirect, "redirect-rollovers", false, "have open rollovers to another version take their hosts "+
		"to this one")
	return cmd
}

func (a *app) rollback() *cobra.Command {
	var in client.Rollback
	var readOptions func() error
	cmd := &cobra.Command{
		Use: "rollback IMAGE NUMBER --reason WHY", Short: "Roll an image back from a version: point live at an " +
			"earlier " +
			"one, block the version, and take the hosts back", Args: named,
		Long: "Roll an image back from the version that live names. Live points to the fallback, or to --to; the\n" +
			"version is blocked (undo: pane version unblock); and the hosts that run it go back: rollovers that " +
			"take\n" +
			"hosts elsewhere are stopped, and each pool with hosts on the version gets a rollover with the options\n" +
			"given here. Their defaults are urgent: 25% of the hosts at once, and people are signed off 5 minutes " +
			"after\n" +
			"a warning. Hosts that run the earlier version already stay as they are. Running the command again does\n" +
			"nothing.",
		ValidArgsFunction: a.complete(imageNames, versionNumbers),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			img, err := c.Image(ctx, args[0])
			if err != nil {
				return err
			}
			if err := readOptions(); err != nil {
				return err
			}
			in.Leaves = args[1]
			if trackOf(img, "live") == in.Leaves { // else it is done already, or refused with the reason
				if _, err := a.preview(ctx, c, true, client.PreviewRequest{
					Act: "rollback", Image: args[0], Number: in.To,
					KeepUsable: in.KeepUsable, TrackOnly: in.TrackOnly, Options: in.Options,
				}, "Roll %s back from %s to %s?", img.Name, in.Leaves,
					cmp.Or(in.To, img.Fallback, "its fallback")); err != nil {
					return err
				}
			}
			r, err := c.Rollback(ctx, args[0], in)
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(r)
			}
			if r.Already {
				a.say("%s is already rolled back from %s to %s.", img.Name, r.From, r.To)
				for _, id := range r.Rollovers {
					a.say("Rollover %d takes hosts back. Watch it with: pane rollover watch %d", id, id)
				}
				return nil
			}
			a.say("%s of %s %s %s again.", strings.Join(r.Tracks, " and "), img.Name,
				english.PluralWord(len(r.Tracks), "names", "name"), r.To)
			if !in.KeepUsable {
				a.say("%s is barred: %s", r.From, in.Reason)
			}
			for _, id := range r.Rollovers {
				a.say("Rollover %d takes hosts back. Watch it with: pane rollover watch %d", id, id)
			}
			return nil
		}),
	}
	f := cmd.Flags()
	f.StringVar(&in.To, "to", "", "earlier version to go back to (default: the fallback)")
	f.StringVar(&in.Reason, "reason", "", "why; it stands on the barred version")
	f.BoolVar(&in.KeepUsable, "keep-usable", false, "do not bar the version that is rolled back")
	f.BoolVar(&in.TrackOnly, "track-only", false, "start no rollover")
	readOptions = a.optionFlags(cmd, &in.Options, rollover.UrgentOptions)
	_ = cmd.MarkFlagRequired("reason")
	_ = cmd.RegisterFlagCompletionFunc("to", func(cmd *cobra.Command, args []string, s string) ([]string,
		cobra.ShellCompDirective,
	) {
		if len(args) == 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return a.complete(imageNames, versionNumbers)(cmd, args[:1], s)
	})
	return cmd
}

// progress is a line that moves on a terminal, and nothing elsewhere but what changed.
type progress struct {
	app   *app
	last  string
	stage string  // what it was about, without the numbers
	live  *screen // nil where nothing moves
}

func (a *app) newProgress() *progress {
	p := &progress{app: a}
	if isTerminal(a.out) {
		p.live = &screen{out: a.out}
	}
	return p
}

// show shows how far something is. Where nothing moves, a line for each stage is enough.
func (p *progress) show(format string, args ...any) {
	line := fmt.Sprintf(format, args...)
	if p.app.output != "table" || line == p.last {
		return
	}
	if p.live != nil {
		p.live.draw([]string{line})
	} else if stage, _, _ := strings.Cut(line, ":"); stage != p.stage {
		p.stage = stage
		fmt.Fprintf(p.app.out, "%s ...\n", stage)
	}
	p.last = line
}

func (p *progress) end() {
	if p.live != nil {
		p.live.clear()
	}
}
