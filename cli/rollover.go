package cli

import (
	"cmp"
	"context"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/estate"
	"nimblepane/core/rollover"
)

func (a *app) rollover() *cobra.Command {
	cmd := &cobra.Command{Use: "rollover", Short: "Rollovers: hosts move to the version they should run, batch by " +
		"batch"}
	cmd.AddCommand(a.startRollover(), a.listRollovers(), a.showRollover(), a.watchRollover(),
		a.rolloverAct("pause", "Take no further host and end no session; finish the hosts whose disk is gone", false),
		a.rolloverAct("resume", "Go on; failures so far no longer count against the budget", false),
		a.rolloverAct("stop", "End early: put drained hosts back, finish those whose disk is gone", false),
		a.rolloverAct("reverse", "Stop it, and take the hosts that it has done or has in flight back", true))
	return cmd
}

func (a *app) startRollover() *cobra.Command {
	var in client.StartRollovers
	var follow bool
	cmd := &cobra.Command{
		Use: "start --pool POOL", Short: "Start a rollover of one or several pools", Args: named,
		Example: "  pane rollover start --pool ticket-counters --batch 20% --floor 10% --log-off warn --grace 15m " +
			"--follow",
	}
	f := cmd.Flags()
	f.StringSliceVar(&in.Pools, "pool", nil, "pool to roll over, may be given several times")
	readOptions := a.optionFlags(cmd, &in.Options, rollover.DefaultOptions)
	f.StringVar(&in.Reason, "reason", "", "why")
	f.BoolVar(&follow, "follow", false, "follow it on the screen until it ends")
	_ = cmd.MarkFlagRequired("pool")
	_ = cmd.RegisterFlagCompletionFunc("pool", a.complete(poolNames))
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, _ []string) error {
		if err := readOptions(); err != nil {
			return err
		}
		if _, err := a.preview(ctx, c, true, client.PreviewRequest{Act: "roll", Pools: in.Pools, Options: in.Options},
			"Roll over %s?", strings.Join(in.Pools, ", ")); err != nil {
			return err
		}
		rows, left, err := c.StartRollovers(ctx, in)
		if err != nil {
			return err
		}
		for _, r := range rows {
			a.say("Rollover %d takes %s of %s to %s %s: batches of %d, floor of %s, log-off policy %s.", r.ID,
				many(r.Total, "host"), r.Pool, r.Image, r.Version, r.BatchSize, many(r.FloorSeats, "seat"),
				r.Options.LogOff)
		}
		var not []string
		for _, l := range left {
			not = append(not, fmt.Sprintf("pool %s: %s", l.Pool, l.Why))
		}
		if a.structured() {
			err = a.object(rows)
		} else if follow && len(rows) == 1 {
			err = a.watch(ctx, c, rows[0].ID, "")
		} else {
			for _, r := range rows {
				a.say("Watch it with: pane rollover watch %d", r.ID)
			}
		}
		if err == nil && len(not) > 0 {
			err = &notDone{not}
		}
		return err
	})
	return cmd
}

// optionFlags adds the flags of a rollover's options. The returned function parses the failure budget and the earliest
// start; call it when the command runs.
func (a *app) optionFlags(cmd *cobra.Command, o *client.Options, defaults rollover.Options) (read func() error) {
	var earliest string
	var budget int
	f := cmd.Flags()
	f.StringVar(&o.Batch, "batch", "", fmt.Sprintf("hosts of a batch: 5, or 10%% of the pool (default %s)",
		defaults.Batch))
	f.StringVar(&o.Floor, "floor", "", fmt.Sprintf("seats that stay free and in service: 20, or 10%% of the pool "+
		"(default %s)", defaults.Floor))
	f.StringVar((*string)(&o.LogOff), "log-off", "", fmt.Sprintf("wait for people to leave, or warn them and end the "+
		"session after the grace period (default %s)", defaults.LogOff))
	f.StringVar(&o.Grace, "grace", "", fmt.Sprintf("from the delivered warning to the sign-off (default %s)",
		estate.Span(defaults.Grace)))
	f.StringVar(&o.LastNotice, "last-notice", "", fmt.Sprintf("how long before the end the last notice is given "+
		"(default %s)", estate.Span(defaults.LastNotice)))
	f.StringVar(&o.FirstText, "first-text", "", "what people are told first; {minutes} stands for the grace period")
	f.StringVar(&o.LastText, "last-text", "", "what people are told last; {minutes} stands for what is left")
	f.StringVar(&o.Deadline, "deadline", "", "how long a host may drain under wait before warn applies")
	f.IntVar(&o.Stagger, "stagger", 0, "hosts started per minute at most (default: the site's own limit)")
	f.StringVar(&o.Observe, "observe", "", "how long the last batch is observed before the next one is taken")
	f.IntVar(&budget, "failure-budget", 0, fmt.Sprintf("hosts that may fail before the rollover pauses (default %d)",
		defaults.Budget))
	f.StringVar(&earliest, "earliest-start", "", "not before this time, such as 2026-11-23T20:00:00Z")
	_ = cmd.RegisterFlagCompletionFunc("log-off",
		cobra.FixedCompletions(completions([]rollover.LogOff{rollover.Wait, rollover.Warn}),
			cobra.ShellCompDirectiveNoFileComp))
	return func() error {
		if f.Changed("failure-budget") {
			o.FailureBudget = &budget
		}
		if earliest == "" {
			return nil
		}
		t, err := time.Parse(time.RFC3339, earliest)
		if err != nil {
			return usage("--earliest-start %q: write it as 2026-11-23T20:00:00Z", earliest)
		}
		o.EarliestStart = &t
		return nil
	}
}

// progressOf says for how many hosts a rollover has ended, and how many of the others stay as they were.
func progressOf(r client.Rollover) string {
	line := fmt.Sprintf("%d of %d", r.Phases[rollover.Done]+r.Phases[rollover.Failed], r.Total)
	if left := r.Phases[rollover.Left]; left > 0 {
		line += fmt.Sprintf(", %d left", left)
	}
	return line
}

func (a *app) listRollovers() *cobra.Command {
	var pool, state string
	var open bool
	var limit int
	cmd := &cobra.Command{
		Use: "list", Short: "Rollovers, newest first", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			rows, err := c.Rollovers(ctx, pool, rollover.State(state), open, limit)
			if err != nil {
				return err
			}
			return list(a, rows, "There is no rollover like that.",
				column[client.Rollover]{"Rollover", func(r client.Rollover) string { return fmt.Sprint(r.ID) }},
				column[client.Rollover]{"Pool", func(r client.Rollover) string { return r.Pool }},
				column[client.Rollover]{"To", func(r client.Rollover) string { return r.Image + " " + r.Version }},
				column[client.Rollover]{"State", func(r client.Rollover) string { return coloured(r.State) }},
				column[client.Rollover]{"Done", progressOf},
				column[client.Rollover]{"Failed", func(r client.Rollover) string {
					return fmt.Sprint(r.Phases[rollover.Failed])
				}},
				column[client.Rollover]{"Started", func(r client.Rollover) string { return when(r.StartedAt) }},
				column[client.Rollover]{"Ended", func(r client.Rollover) string { return when(r.EndedAt) }},
				column[client.Rollover]{"By", func(r client.Rollover) string { return r.CreatedBy }})
		}),
	}
	f := cmd.Flags()
	f.StringVar(&pool, "pool", "", "only of this pool")
	f.StringVar(&state, "state", "", "only in this state")
	f.BoolVar(&open, "open", false, "only those with something in flight or to come")
	f.IntVar(&limit, "limit", 50, "at most so many")
	return cmd
}

func parseID(s, what string) (int64, error) {
	id, err := strconv.ParseInt(s, 10, 64)
	if err != nil || id < 1 {
		return 0, usage("%q is not the number of a %s", s, what)
	}
	return id, nil
}

func (a *app) showRollover() *cobra.Command {
	return &cobra.Command{
		Use: "show NUMBER", Short: "One rollover with its hosts", Args: named,
		ValidArgsFunction: a.complete(rolloverIDs),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			id, err := parseID(args[0], "rollover")
			if err != nil {
				return err
			}
			r, err := c.Rollover(ctx, id)
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(r)
			}
			hosts, err := c.RolloverHosts(ctx, id)
			if err != nil {
				return err
			}
			if a.output == "table" {
				reverses := ""
				if r.Reverses != 0 {
					reverses = fmt.Sprintf("rollover %d", r.Reverses)
				}
				a.facts(fact{"Rollover", fmt.Sprint(r.ID)}, fact{"Pool", r.Pool}, fact{"To", r.Image + " " + r.Version},
					fact{"State", coloured(r.State)}, fact{"Paused because", r.PausedWhy},
					fact{"Stopped because", r.StoppedWhy}, fact{"Reverses", reverses},
					fact{"Reason", r.Reason},
					fact{"Hosts", fmt.Sprintf("%d: %s", r.Total, counts(r.Phases))},
					fact{"Waits for", strings.Join(r.Holds, "\n")},
					fact{"Options", fmt.Sprintf("batches of %d, floor of %s, log-off policy %s, grace %s, failure "+
						"budget %d", r.BatchSize, many(r.FloorSeats, "seat"), r.Options.LogOff, r.Options.Grace,
						*r.Options.FailureBudget)},
					fact{"Planned", when(&r.CreatedAt) + " by " + r.CreatedBy}, fact{"Started", when(r.StartedAt)},
					fact{"Ended", when(r.EndedAt)})
				a.say("")
			}
			return list(a, hosts, "It has no hosts.",
				column[client.RolloverHost]{"Host", func(h client.RolloverHost) string { return h.Host }},
				column[client.RolloverHost]{"Batch", func(h client.RolloverHost) string {
					if h.Batch == 0 {
						return "-"
					}
					return fmt.Sprint(h.Batch)
				}},
				column[client.RolloverHost]{"Phase", func(h client.RolloverHost) string { return coloured(h.Phase) }},
				column[client.RolloverHost]{"Since", func(h client.RolloverHost) string { return when(&h.Since) }},
				column[client.RolloverHost]{"From", func(h client.RolloverHost) string { return cmp.Or(h.From, "-") }},
				column[client.RolloverHost]{"Runs", func(h client.RolloverHost) string {
					return cmp.Or(h.Version,
						"-")
				}},
				column[client.RolloverHost]{"Sessions", func(h client.RolloverHost) string {
					return fmt.Sprint(h.Sessions)
				}},
				column[client.RolloverHost]{"Why", func(h client.RolloverHost) string { return h.Why }})
		}),
	}
}

func (a *app) rolloverAct(verb, short string, needsReason bool) *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use: verb + " NUMBER", Short: short, Args: named, ValidArgsFunction: a.complete(rolloverIDs),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			id, err := parseID(args[0], "rollover")
			if err != nil {
				return err
			}
			before, err := c.Rollover(ctx, id)
			if err != nil {
				return err
			}
			done := map[string]rollover.State{
				"pause": rollover.Paused, "resume": rollover.Running,
				"stop": rollover.Stopped,
			}
			if before.State == done[verb] {
				if a.structured() {
					return a.object(before)
				}
				a.say("Rollover %d of %s is already %s.", before.ID, before.Pool, before.State)
				return nil
			}
			var r client.Rollover
			act := func(ctx context.Context) (err error) {
				r, err = c.ChangeRollover(ctx, id, verb, reason)
				return err
			}
			if verb == "stop" || verb == "reverse" {
				err = a.confirmed(ctx, act, "%s rollover %d?", strings.ToUpper(verb[:1])+verb[1:], id)
			} else {
				err = act(ctx)
			}
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(r)
			}
			if verb == "reverse" {
				a.say("Rollover %d takes %s of %s back to %s. Watch it with: pane rollover watch %d", r.ID,
					many(r.Phases[rollover.Queued], "host"), r.Pool, r.Version, r.ID)
			} else {
				a.say("Rollover %d of %s is %s; hosts done: %s.", r.ID, r.Pool, r.State, progressOf(r))
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

func (a *app) watchRollover() *cobra.Command {
	var until string
	cmd := &cobra.Command{
		Use: "watch NUMBER", Short: "Watch a rollover until it ends or pauses", Args: named,
		ValidArgsFunction: a.complete(rolloverIDs),
		Long: "Watch a rollover until it ends or pauses. Exit code 0: it finished; 7: it paused, was stopped, " +
			"or\nfinished with failed hosts. With --until batch=N it ends as soon as batch N is there, with exit " +
			"code 0.",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			id, err := parseID(args[0], "rollover")
			if err != nil {
				return err
			}
			return a.watch(ctx, c, id, until)
		}),
	}
	cmd.Flags().StringVar(&until, "until", "", "end early: batch=N or done=N")
	return cmd
}

// The sign of each phase in the drawn panes; the colour says it once more.
var phaseSigns = map[rollover.Phase]string{
	rollover.Queued: "·", rollover.Draining: "v", rollover.Warned: "!", rollover.Emptied: "o",
	rollover.Rebuilding: "*", rollover.Checking: "?", rollover.Done: "#", rollover.Failed: "X", rollover.Left: "-",
}

func (a *app) watch(ctx context.Context, c *client.Client, id int64, until string) error {
	what, number, _ := strings.Cut(until, "=")
	goal, err := strconv.Atoi(cmp.Or(number, "0"))
	if err != nil || until != "" && what != "batch" && what != "done" {
		return usage("--until %q: write batch=N or done=N", until)
	}
	last := ""
	live := &screen{out: a.out}
	defer live.keep()
	for {
		r, err := c.Rollover(ctx, id)
		if err != nil {
			// The service may be on its way back: a watcher waits for it.
			if ExitCode(err) != ExitNoAnswer && !client.IsStatus(err, 503) {
				return err
			}
			if last != "away" {
				last = "away"
				live.keep()
				a.say("The service does not answer; waiting for it.")
			}
			if err := sleep(ctx, 500*time.Millisecond); err != nil {
				return err
			}
			continue
		}
		ended := r.Settled || r.State == rollover.Paused
		reached := what == "batch" && r.Batch >= goal || what == "done" && r.Phases[rollover.Done] >= goal
		switch {
		case a.output != "table":
		case isTerminal(a.out):
			hosts, err := c.RolloverHosts(ctx, id)
			if err != nil {
				return err
			}
			live.draw(drawing(r, hosts))
		default:
			if line := summary(r); line != last {
				last = line
				a.say("%s", line)
			}
		}
		if ended || reached {
			if a.structured() {
				if err := a.object(r); err != nil {
					return err
				}
			}
			if reached && !ended {
				return nil
			}
			return outcome(r)
		}
		if err := sleep(ctx, 400*time.Millisecond); err != nil {
			return err
		}
	}
}

func summary(r client.Rollover) string {
	line := fmt.Sprintf("rollover %d %s, batch %d: %s", r.ID, r.State, r.Batch, counts(r.Phases))
	if r.PausedWhy != "" {
		line += "; " + r.PausedWhy
	} else if len(r.Holds) > 0 {
		line += "; " + r.Holds[0]
	}
	return line
}

func outcome(r client.Rollover) error {
	failed := r.Phases[rollover.Failed]
	switch {
	case r.State == rollover.Finished && failed == 0:
		return nil
	case r.State == rollover.Finished:
		return &badOutcome{fmt.Sprintf("rollover %d finished, and %s failed: pane rollover show %d", r.ID,
			many(failed, "host"), r.ID)}
	case r.State == rollover.Paused:
		return &badOutcome{fmt.Sprintf("rollover %d is paused: %s\nLook at it, then go on with: pane rollover "+
			"resume %d", r.ID, cmp.Or(r.PausedWhy, "by hand"), r.ID)}
	}
	return &badOutcome{fmt.Sprintf("rollover %d was %s", r.ID, r.State)}
}

// drawing draws a rollover: a line a batch, a sign a host.
func drawing(r client.Rollover, hosts []client.RolloverHost) []string {
	lines := []string{
		text.Bold.Sprintf("Rollover %d", r.ID) + fmt.Sprintf(" of %s to %s %s: %s, hosts done: %s", r.Pool, r.Image,
			r.Version, coloured(r.State), progressOf(r)),
	}
	batches := map[int][]client.RolloverHost{}
	for _, h := range hosts {
		batches[h.Batch] = append(batches[h.Batch], h)
	}
	var order []int
	for b := range batches {
		order = append(order, b)
	}
	sort.Slice(order, func(i, j int) bool {
		return order[j] == 0 && order[i] != 0 || order[i] != 0 &&
			order[i] < order[j]
	})
	for _, b := range order {
		name := fmt.Sprintf("batch %d", b)
		if b == 0 {
			name = "not taken yet"
		}
		var signs strings.Builder
		for _, h := range batches[b] {
			sign := phaseSigns[h.Phase]
			if c, ok := stateColours[string(h.Phase)]; ok {
				sign = c.Sprint(sign)
			}
			signs.WriteString(sign + " ")
		}
		lines = append(lines, fmt.Sprintf("  %-13s %s", name, signs.String()))
	}
	lines = append(lines, "  "+counts(r.Phases))
	for _, h := range r.Holds {
		lines = append(lines, "  waits: "+h)
	}
	if r.PausedWhy != "" {
		lines = append(lines, "  "+text.FgHiYellow.Sprint("paused: "+r.PausedWhy))
	}
	return append(lines, text.Faint.Sprint("  · queued  v draining  ! warned  o emptied  * rebuilding  ? checking  "+
		"# done  X failed  - left"))
}
