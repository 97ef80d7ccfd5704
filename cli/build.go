package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/sheet"
)

func (a *app) build() *cobra.Command {
	cmd := &cobra.Command{
		Use: "build", Short: "Builds: versions that are made by build sheets",
		Long: "Builds make versions by build sheets, without anybody at hand: a machine is made, the steps are done " +
			"on it,\nit is checked, sealed, captured and discarded, and the version's copies are delivered.",
	}
	cmd.AddCommand(a.startBuild(), a.listBuilds(), a.showBuild(), a.watchBuild(), a.buildLog(),
		a.buildSizes(), a.checkBuild(), a.noteOnBuild(), a.holdBuild(), a.goOn(), a.discardBuild(), a.cancelBuild())
	return cmd
}

func (a *app) startBuild() *cobra.Command {
	var follow bool
	var hold time.Duration
	var kept, key string
	cmd := &cobra.Command{
		Use: "start [FILE]", Short: "Begin a build of a sheet", Args: named,
		Long: "Begin a build of a sheet. With --follow it is watched until it ends: exit code 0 when the version is " +
			"ready,\n7 when the build failed or was cancelled.",
		Example: "  pane build start counter-desk.yaml --follow",
	}
	cmd.Flags().BoolVar(&follow, "follow", false, "follow it on the screen until it ends")
	cmd.Flags().StringVar(&kept, "kept", "", "name of a sheet that the service keeps, instead of a file")
	_ = cmd.RegisterFlagCompletionFunc("kept", a.complete(sheetNames))
	cmd.Flags().DurationVar(&hold, "hold", 0, "for how long its machine is held if it fails, such as 2h, at most 168h")
	cmd.Flags().StringVar(&key, "idempotency-key", "", "a name for this start, such as the number of a CI job: "+
		"repeated "+
		"with the\nsame key, the command starts no second build, and shows the first")
	set := setFlag(cmd)
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		var b client.WholeBuild
		var err error
		once := ctx
		if key != "" {
			once = client.WithIdempotencyKey(ctx, key)
		}
		switch {
		case (kept == "") == (len(args) == 0):
			return usage("name the file of a sheet, or with --kept one that the service keeps (pane sheet list)")
		case kept != "":
			b, err = c.BuildSheet(once, kept, client.BuildSheet{
				Values: *set, HoldSeconds: int64(hold / time.Second),
			})
		default:
			var in handedIn
			if in, err = a.handIn(ctx, c, args[0]); err != nil {
				return err
			}
			b, err = c.StartBuild(once, client.StartBuild{
				Sheet: in.text, Values: *set, Files: in.files, CommitOf: in.CommitOf,
				HoldSeconds: int64(hold / time.Second),
			})
		}
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

// buildSizes says what builds took on machines of which size.
func (a *app) buildSizes() *cobra.Command {
	return &cobra.Command{
		Use: "sizes IMAGE", Short: "What builds of an image took, cost and used, by the size of their machines",
		Args: named, ValidArgsFunction: a.complete(imageNames),
		Long: "What the last builds of an image took, cost and used of cores and memory, by the size of their " +
			"machines, and\nwhat follows from that. A sheet gives its machine another size with machine: {cores: 8, " +
			"memory: 16GiB}.",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			rows, err := c.BuildSizes(ctx, args[0])
			if err != nil {
				return err
			}
			bytes := func(n int64) string { return humanize.IBytes(uint64(n)) }
			return list(a, rows, "No build of it has become ready yet.",
				column[client.BuildSize]{"Machine", func(s client.BuildSize) string {
					size := s.MachineClass
					if s.Cores > 0 {
						size += ", " + many(s.Cores, "core")
					}
					if s.MemoryBytes > 0 {
						size += ", " + bytes(s.MemoryBytes)
					}
					return size
				}},
				column[client.BuildSize]{"Builds", func(s client.BuildSize) string { return fmt.Sprint(s.Builds) }},
				column[client.BuildSize]{"Took", func(s client.BuildSize) string {
					return (time.Duration(s.TookSeconds) * time.Second).String()
				}},
				column[client.BuildSize]{"Cost", func(s client.BuildSize) string {
					return cmp.Or(strings.TrimSpace(s.Cost+" "+s.Currency), "-")
				}},
				column[client.BuildSize]{"Cores used", func(s client.BuildSize) string {
					if s.HasCores == 0 {
						return "-"
					}
					return fmt.Sprintf("%.1f of %d", s.UsedCores, s.HasCores)
				}},
				column[client.BuildSize]{"Memory used", func(s client.BuildSize) string {
					if s.HasMemory == 0 {
						return "-"
					}
					return bytes(s.UsedMemory) + " of " + bytes(s.HasMemory)
				}},
				column[client.BuildSize]{"Advice", func(s client.BuildSize) string {
					return strings.Join(s.Advice, "; ")
				}})
		}),
	}
}

func (a *app) showBuild() *cobra.Command {
	return &cobra.Command{
		Use: "show NUMBER", Short: "One build with its steps", Args: named, ValidArgsFunction: a.complete(buildIDs),
		RunE: a.onBuild(func(ctx context.Context, c *client.Client, id int64) error {
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
			switch {
			case b.Settled:
				machine += ", discarded"
			case b.HeldUntil != nil:
				machine += ", held until " + when(b.HeldUntil)
			}
			a.facts(fact{"Build", fmt.Sprint(b.ID)}, fact{"Image", b.Image}, fact{"From", b.Base},
				fact{"Sheet", b.SheetName},
				fact{"Commit", b.Commit},
				fact{"Version", b.Version}, fact{"Pilot", b.Rolled},
				fact{"State", coloured(b.State)}, fact{"Why", b.Why},
				fact{"Is ready", expected(b)}, fact{"Warning", warning(b)},
				fact{"Parameters", strings.Join(valuesOf(b), "\n")},
				fact{"Machine", machine}, fact{"Seal checks", strings.Join(found, "\n")},
				fact{"Started", when(&b.StartedAt) + " by " + b.StartedBy}, fact{"Schedule", b.Schedule},
				fact{"Went on", when(b.WentOnAt)}, fact{"Ended", when(b.EndedAt)})
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
		RunE: a.onBuild(func(ctx context.Context, c *client.Client, id int64) error {
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
	cmd.RunE = a.onBuild(func(ctx context.Context, c *client.Client, id int64) error {
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
			if log.Gone != "" {
				a.say("It is gone: %s.", log.Gone)
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
		n := 0 // steps on its machine, as its total counts them
		for _, s := range b.Steps {
			if s.State != build.StepSkipped && s.State != build.StepLater {
				n++
			}
			if s.State == build.StepGoesOn || s.State == build.StepFailed {
				line += fmt.Sprintf(", step %d of %d: %s", n, b.Total, s.Name)
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

func (a *app) holdBuild() *cobra.Command {
	var hold time.Duration
	cmd := &cobra.Command{
		Use: "hold NUMBER --for TIME", Short: "Hold the machine of a build that fails, so that somebody can look",
		Args: named, ValidArgsFunction: a.complete(buildIDs),
		Long: "Hold the machine of a build: from now on if it has failed and its machine is held already, and else " +
			"from when\nit fails. After that it is discarded. Look at it with: pane build-machine run SITE " +
			"build-NUMBER -- PROGRAM",
		Example: "  pane build hold 12 --for 2h",
	}
	cmd.Flags().DurationVar(&hold, "for", 0, "for how long, such as 2h, at most 168h; 0s not to hold it when it fails")
	_ = cmd.MarkFlagRequired("for")
	cmd.RunE = a.onBuild(func(ctx context.Context, c *client.Client, id int64) error {
		b, err := c.HoldBuild(ctx, id, hold)
		if err != nil {
			return err
		}
		if a.structured() {
			return a.object(b)
		}
		if b.HeldUntil != nil {
			a.say("The machine %s is held until %s.", b.Machine, when(b.HeldUntil))
		} else {
			a.say("If build %d fails, its machine is held for %s.", b.ID, sheet.Span(hold))
		}
		return nil
	})
	return cmd
}

func (a *app) discardBuild() *cobra.Command {
	return &cobra.Command{
		Use: "discard NUMBER", Short: "Discard the machine that a build holds", Args: named,
		ValidArgsFunction: a.complete(buildIDs),
		RunE: a.onBuild(func(ctx context.Context, c *client.Client, id int64) error {
			is, err := c.Build(ctx, id)
			if err != nil {
				return err
			}
			var b client.WholeBuild
			discard := func(ctx context.Context) (err error) {
				b, err = c.DiscardBuild(ctx, id)
				return err
			}
			if is.HeldUntil != nil && !is.Settled {
				err = a.confirmed(ctx, discard, "Discard the machine of build %d? All work on it is lost.", id)
			} else {
				err = discard(ctx)
			}
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(b)
			}
			a.say("The machine %s is being discarded.", b.Machine)
			return nil
		}),
	}
}

func (a *app) goOn() *cobra.Command {
	var file string
	var follow bool
	cmd := &cobra.Command{
		Use: "go-on NUMBER", Short: "Go on with a build from the step that failed", Args: named,
		ValidArgsFunction: a.complete(buildIDs),
		Long: "Go on with a build that failed and whose machine is held, from the step that failed or from the seal " +
			"checks,\nafter the machine was mended, or the sheet: steps that are done have to be as they were.",
		Example: "  pane build go-on 12 --sheet counter-desk.yaml --follow",
	}
	cmd.Flags().StringVar(&file, "sheet", "", "file with the mended sheet; as it was if left out")
	cmd.Flags().BoolVar(&follow, "follow", false, "follow it on the screen until it ends")
	set := setFlag(cmd)
	cmd.RunE = a.onBuild(func(ctx context.Context, c *client.Client, id int64) error {
		var in client.GoOn
		if len(*set) > 0 {
			in.Values = *set
			if file == "" {
				return usage("--set is for --sheet: without a sheet it goes on with the values that it had")
			}
		}
		if file != "" {
			mended, err := a.handIn(ctx, c, file)
			if err != nil {
				return err
			}
			in.Sheet, in.Files, in.CommitOf = mended.text, mended.files, mended.CommitOf
		}
		b, err := c.GoOn(ctx, id, in)
		switch {
		case err != nil:
			return err
		case follow:
			return a.follow(ctx, c, id)
		case a.structured():
			return a.object(b)
		}
		a.say("Build %d goes on. Watch it with: pane build watch %d", b.ID, b.ID)
		return nil
	})
	return cmd
}

// onBuild runs a command whose argument is a build's number.
func (a *app) onBuild(act func(ctx context.Context, c *client.Client, id int64) error,
) func(*cobra.Command, []string) error {
	return a.run(func(ctx context.Context, c *client.Client, args []string) error {
		id, err := parseID(args[0], "build")
		if err != nil {
			return err
		}
		return act(ctx, c, id)
	})
}

func (a *app) cancelBuild() *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use: "cancel NUMBER", Short: "End a build before its capture, and discard its machine", Args: named,
		ValidArgsFunction: a.complete(buildIDs),
		RunE: a.onBuild(func(ctx context.Context, c *client.Client, id int64) error {
			is, err := c.Build(ctx, id)
			if err != nil {
				return err
			}
			var b client.WholeBuild
			cancel := func(ctx context.Context) (err error) {
				b, err = c.CancelBuild(ctx, id, reason)
				return err
			}
			if !is.State.Ended() && !is.State.Captures() {
				err = a.confirmed(ctx, cancel, "Cancel build %d? All work on its machine is lost.", id)
			} else {
				err = cancel(ctx)
			}
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
