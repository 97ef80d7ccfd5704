package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/build"
)

func (a *app) build() *cobra.Command {
	cmd := &cobra.Command{
		Use: "build", Short: "Builds: versions that are made by build sheets",
		Long: "Builds make versions by build sheets, without anybody at hand: a machine is made, the steps are done " +
			"on it,\nit is checked, sealed, captured and discarded, and the version's copies are delivered.",
	}
	cmd.AddCommand(a.startBuild(), a.listBuilds(), a.showBuild(), a.watchBuild(), a.buildLog(),
		a.cancelBuild())
	return cmd
}

func (a *app) startBuild() *cobra.Command {
	var follow bool
	cmd := &cobra.Command{
		Use: "start FILE", Short: "Begin a build of a sheet", Args: named,
		Long: "Begin a build of a sheet. With --follow it is watched until it ends: exit code 0 when the version is " +
			"ready,\n7 when the build failed or was cancelled.",
		Example: "  pane build start counter-desk.yaml --follow",
	}
	cmd.Flags().BoolVar(&follow, "follow", false, "follow it on the screen until it ends")
	set := setFlag(cmd)
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		_, text, err := a.readSheet(args[0])
		if err != nil {
			return err
		}
		b, err := c.StartBuild(ctx, client.StartBuild{Sheet: text, Values: *set})
		if err != nil {
			return err
		}
		if follow {
			return a.follow(ctx, c, b.ID)
		}
		if a.structured() {
			return a.object(b)
		}
		a.say("Build %d makes a version of %s from %s at %s, in %s.", b.ID, b.Image, b.Base, b.Site,
			many(b.Total, "step"))
		if text := expected(b); text != "" {
			a.say("It is ready %s.", text)
		}
		if text := warning(b); text != "" {
			a.say("Warning: %s.", text)
		}
		a.say("Watch it with: pane build watch %d", b.ID)
		return nil
	})
	return cmd
}

func (a *app) listBuilds() *cobra.Command {
	var image, state string
	var limit int
	cmd := &cobra.Command{
		Use: "list", Short: "Builds, newest first", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			rows, err := c.Builds(ctx, image, build.State(state), limit)
			if err != nil {
				return err
			}
			return list(a, rows, "There is no build like that. Begin one with: pane build start FILE",
				column[client.Build]{"Build", func(b client.Build) string { return fmt.Sprint(b.ID) }},
				column[client.Build]{"Image", func(b client.Build) string { return b.Image }},
				column[client.Build]{"Version", func(b client.Build) string { return cmp.Or(b.Version, "-") }},
				column[client.Build]{"State", func(b client.Build) string { return coloured(b.State) }},
				column[client.Build]{"Steps", func(b client.Build) string {
					return fmt.Sprintf("%d of %d", b.Done, b.Total)
				}},
				column[client.Build]{"From", func(b client.Build) string { return b.Base }},
				column[client.Build]{"Site", func(b client.Build) string { return b.Site }},
				column[client.Build]{"Started", func(b client.Build) string { return when(&b.StartedAt) }},
				column[client.Build]{"Ended", func(b client.Build) string { return when(b.EndedAt) }},
				column[client.Build]{"By", func(b client.Build) string { return b.StartedBy }})
		}),
	}
	f := cmd.Flags()
	f.StringVar(&image, "image", "", "only of this image")
	f.StringVar(&state, "state", "", "only in this state")
	f.IntVar(&limit, "limit", 50, "at most so many")
	_ = cmd.RegisterFlagCompletionFunc("image", a.complete(imageNames))
	_ = cmd.RegisterFlagCompletionFunc("state", cobra.FixedCompletions(completions(build.States()),
		cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func (a *app) showBuild() *cobra.Command {
	return &cobra.Command{
		Use: "show NUMBER", Short: "One build with its steps", Args: named, ValidArgsFunction: a.complete(buildIDs),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			id, err := parseID(args[0], "build")
			if err != nil {
				return err
			}
			b, err := c.Build(ctx, id)
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(b)
			}
			var found []string
			for _, f := range b.Findings {
				found = append(found, f.String())
			}
			if b.Checked && len(found) == 0 {
				found = []string{"found nothing"}
			}
			machine := b.Machine + " at " + b.Site
			if b.Settled {
				machine += ", discarded"
			}
			a.facts(fact{"Build", fmt.Sprint(b.ID)}, fact{"Image", b.Image}, fact{"From", b.Base},
				fact{"Version", b.Version}, fact{"State", coloured(b.State)}, fact{"Why", b.Why},
				fact{"Is ready", expected(b)}, fact{"Warning", warning(b)},
				fact{"Parameters", strings.Join(valuesOf(b), "\n")},
				fact{"Machine", machine}, fact{"Seal checks", strings.Join(found, "\n")},
				fact{"Started", when(&b.StartedAt) + " by " + b.StartedBy}, fact{"Ended", when(b.EndedAt)})
			a.say("")
			err = list(a, b.Steps, "It has no steps.",
				column[client.BuildStep]{"Step", func(s client.BuildStep) string { return s.Name }},
				column[client.BuildStep]{"Does", func(s client.BuildStep) string { return string(s.Kind) }},
				column[client.BuildStep]{"State", func(s client.BuildStep) string { return coloured(s.State) }},
				column[client.BuildStep]{"Tries", func(s client.BuildStep) string { return fmt.Sprint(s.Attempts) }},
				column[client.BuildStep]{"Took", took},
				column[client.BuildStep]{"Last time", func(s client.BuildStep) string {
					if s.Last == 0 {
						return "-"
					}
					return (time.Duration(s.Last) * time.Second).String()
				}},
				column[client.BuildStep]{"Why", func(s client.BuildStep) string { return s.Why }})
			for _, s := range b.Steps {
				if s.State == build.StepFailed && s.Output != "" {
					a.say("\nLast lines of %s (all of it: pane build log %d):\n%s", s.Name, b.ID,
						strings.TrimRight(s.Output, "\n"))
				}
			}
			return err
		}),
	}
}

// expected says when a build will be ready, as far as earlier ones tell.
func expected(b client.WholeBuild) string {
	e := b.Expected
	if e == nil || e.ReadyAt == nil {
		return ""
	}
	return fmt.Sprintf("about %s, at worst %s, as %s before it", when(e.ReadyAt), when(e.ReadyBy),
		many(e.Builds, "build"))
}

// warning says what may become of a build, by what earlier ones took.
func warning(b client.WholeBuild) string {
	if b.Expected == nil {
		return ""
	}
	return b.Expected.Tight
}

// took is how long a step took, from its first try to the end of its last.
func took(s client.BuildStep) string {
	if s.BeganAt == nil || s.EndedAt == nil {
		return "-"
	}
	return s.EndedAt.Sub(*s.BeganAt).Round(time.Second).String()
}

func (a *app) watchBuild() *cobra.Command {
	return &cobra.Command{
		Use: "watch NUMBER", Short: "Watch a build until it ends", Args: named, ValidArgsFunction: a.complete(buildIDs),
		Long: "Watch a build until it ends. Exit code 0: its version is ready; 7: it failed or was cancelled.",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			id, err := parseID(args[0], "build")
			if err != nil {
				return err
			}
			return a.follow(ctx, c, id)
		}),
	}
}

// follow tells of a build whenever something of it changes, until it ends.
func (a *app) follow(ctx context.Context, c *client.Client, id int64) error {
	for last := ""; ; {
		b, err := patiently(ctx, a, func() (client.WholeBuild, error) { return c.Build(ctx, id) })
		if err != nil {
			return err
		}
		if line := standing(b); line != last {
			last = line
			a.say("%s", line)
		}
		if b.State.Ended() {
			if a.structured() {
				if err := a.object(b); err != nil {
					return err
				}
			}
			if b.State == build.Ready {
				return nil
			}
			return &badOutcome{fmt.Sprintf("build %d is %s: %s\nLook at it with: pane build show %d", b.ID, b.State,
				b.Why, b.ID)}
		}
		if err := sleep(ctx, 400*time.Millisecond); err != nil {
			return err
		}
	}
}

// patiently asks until there is an answer: a service that is away may be on its way back, and a watcher waits for it.
func patiently[T any](ctx context.Context, a *app, ask func() (T, error)) (T, error) {
	for away := false; ; away = true {
		answer, err := ask()
		if ExitCode(err) != ExitNoAnswer && !client.IsStatus(err, 503) {
			return answer, err
		}
		if !away {
			a.say("The service does not answer; waiting for it.")
		}
		if err := sleep(ctx, 500*time.Millisecond); err != nil {
			return answer, err
		}
	}
}

// logAtOnce is how many lines of a log are asked for at once.
const logAtOnce = 5000

func (a *app) buildLog() *cobra.Command {
	var q client.LogQuery
	var follow bool
	cmd := &cobra.Command{
		Use: "log NUMBER", Short: "What the steps of a build have written, line by line", Args: named,
		ValidArgsFunction: a.complete(buildIDs),
		Long: "What the steps of a build have written: when the service read it, by which step, and what. With " +
			"--follow it\ngoes on until the build ends.",
		Example: "  pane build log 12 --follow\n  pane build log 12 --find error --step 3",
	}
	f := cmd.Flags()
	f.BoolVar(&follow, "follow", false, "go on until the build ends")
	f.StringVar(&q.Find, "find", "", "only lines that have this text, in capitals or not")
	f.IntVar(&q.Step, "step", 0, "only lines of this step, counted from 1")
	f.Int64Var(&q.From, "from", 0, "number of the line to begin with, counted from 0")
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		id, err := parseID(args[0], "build")
		if err != nil {
			return err
		}
		asRows := a.structured() || a.output == "csv"
		if follow && asRows {
			return usage("--follow writes as a text: leave --output out")
		}
		q.Limit = logAtOnce
		var all []client.LogLine
		for last := 0; ; {
			log, err := patiently(ctx, a, func() (client.BuildLog, error) { return c.BuildLog(ctx, id, q) })
			if err != nil {
				return err
			}
			q.From = log.Next
			for _, l := range log.Lines {
				if asRows {
					all = append(all, l)
					continue
				}
				if l.Step != last {
					last = l.Step
					fmt.Fprintf(a.out, "-- step %d\n", l.Step)
				}
				fmt.Fprintf(a.out, "%s  %s\n", l.At.Format(time.TimeOnly), l.Text)
			}
			switch {
			case q.From < log.Total:
				continue
			case follow && !log.Complete:
				if err := sleep(ctx, time.Second); err != nil {
					return err
				}
				continue
			case asRows:
				return list(a, all, "",
					column[client.LogLine]{"Number", func(l client.LogLine) string { return fmt.Sprint(l.Number) }},
					column[client.LogLine]{"At", func(l client.LogLine) string { return l.At.Format(time.RFC3339) }},
					column[client.LogLine]{"Step", func(l client.LogLine) string { return fmt.Sprint(l.Step) }},
					column[client.LogLine]{"Attempt", func(l client.LogLine) string { return fmt.Sprint(l.Attempt) }},
					column[client.LogLine]{"Text", func(l client.LogLine) string { return l.Text }})
			}
			return nil
		}
	})
	return cmd
}

// standing says in a line how a build stands.
func standing(b client.WholeBuild) string {
	line := fmt.Sprintf("build %d of %s: %s", b.ID, b.Image, b.State)
	switch b.State {
	case build.Working:
		for i, s := range b.Steps {
			if s.State == build.StepGoesOn || s.State == build.StepFailed {
				line += fmt.Sprintf(", step %d of %d: %s", i+1, b.Total, s.Name)
			}
		}
	case build.Capturing, build.Delivering, build.Ready:
		line += ", version " + b.Version
	}
	if b.State.Ended() {
		return line // what follows says why
	}
	return strings.TrimSuffix(line+"; "+b.Why, "; ")
}

func (a *app) cancelBuild() *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use: "cancel NUMBER", Short: "End a build before its capture, and discard its machine", Args: named,
		ValidArgsFunction: a.complete(buildIDs),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			id, err := parseID(args[0], "build")
			if err != nil {
				return err
			}
			if err := a.ask("Cancel build %d? What was done on its machine is lost.", id); err != nil {
				return err
			}
			b, err := c.CancelBuild(ctx, id, reason)
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(b)
			}
			a.say("Build %d is being cancelled, and its machine discarded.", b.ID)
			return nil
		}),
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	return cmd
}

// valuesOf lists the values of a build's parameters.
func valuesOf(b client.WholeBuild) (lines []string) {
	for _, name := range slices.Sorted(maps.Keys(b.Values)) {
		lines = append(lines, name+" = "+b.Values[name])
	}
	return lines
}

// setFlag adds the option that gives parameters their values.
func setFlag(cmd *cobra.Command) *map[string]string {
	values := map[string]string{}
	cmd.Flags().Var(setting(values), "set", "NAME=VALUE of a parameter, may be given several times")
	return &values
}

// setting reads NAME=VALUE. What stands behind the first = is the value, to the letter.
type setting map[string]string

func (s setting) String() string { return "" }

func (s setting) Type() string { return "NAME=VALUE" }

func (s setting) Set(text string) error {
	name, value, ok := strings.Cut(text, "=")
	if !ok || name == "" {
		return fmt.Errorf("%q: write the parameter's name, = and its value", text)
	}
	if _, twice := s[name]; twice {
		return fmt.Errorf("parameter %s is given twice", name)
	}
	s[name] = value
	return nil
}
