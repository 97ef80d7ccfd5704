package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/estate"
	"nimblepane/core/schedule"
)

func (a *app) schedule() *cobra.Command {
	cmd := &cobra.Command{
		Use: "schedule", Short: "When builds of kept sheets start by themselves",
		Long: "When builds of kept sheets start by themselves: on dates of a recurrence rule (RFC 5545), when the " +
			"sheet or its base\nhas changed, or on dates on which something has.",
	}
	cmd.AddCommand(a.listSchedules(), a.showSchedule(), a.addSchedule(), a.calendar())
	act := func(use, short string, reason bool, call func(context.Context, *client.Client, string, string) error,
		said string,
	) {
		var why string
		c := &cobra.Command{
			Use: use + " NAME", Short: short, Args: named, ValidArgsFunction: a.complete(scheduleNames),
			RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
				act := func(ctx context.Context) error { return call(ctx, c, args[0], why) }
				var err error
				if use == "delete" {
					err = a.confirmed(ctx, act, "Delete schedule %s?", args[0])
				} else {
					err = act(ctx)
				}
				if err != nil {
					return err
				}
				a.say("Schedule %s %s.", args[0], said)
				return nil
			}),
		}
		if reason {
			c.Flags().StringVar(&why, "reason", "", "why")
			_ = c.MarkFlagRequired("reason")
		}
		cmd.AddCommand(c)
	}
	act("pause", "Keep a schedule from starting builds", true,
		func(ctx context.Context, c *client.Client, name, why string) error {
			_, err := c.PauseSchedule(ctx, name, why)
			return err
		}, "is paused")
	act("resume", "Have a schedule start builds again, from its next date on", false,
		func(ctx context.Context, c *client.Client, name, _ string) error {
			_, err := c.ResumeSchedule(ctx, name)
			return err
		}, "starts builds again")
	act("delete", "Forget a schedule; builds that it started stay", false,
		func(ctx context.Context, c *client.Client, name, _ string) error { return c.DeleteSchedule(ctx, name) },
		"is deleted")
	return cmd
}

func scheduleNames(ctx context.Context, c *client.Client, _ []string) ([]string, error) {
	rows, err := c.Schedules(ctx)
	return names(rows, err, func(s client.Schedule) string { return s.Name + "\t" + s.Sheet })
}

func (a *app) addSchedule() *cobra.Command {
	var in client.NewSchedule
	var changed, changes bool
	cmd := &cobra.Command{
		Use: "add NAME --sheet SHEET", Short: "Have builds of a kept sheet start by themselves", Args: named,
		Long: "Have builds of a kept sheet start by themselves. The next five dates are shown before it is written " +
			"down. What it\nmisses while the service is down is started once, and not once for each date.",
		Example: "  pane schedule add monthly --sheet counter-desk --rule " +
			"'FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2;BYMINUTE=30' --zone Europe/Paris --if-changed\n" +
			"  pane schedule add crew --sheet crew-desk --on-changes",
	}
	f := cmd.Flags()
	f.StringVar(&in.Sheet, "sheet", "", "kept sheet (pane sheet list)")
	f.StringVar(&in.Rule, "rule", "", "recurrence rule of its dates (RFC 5545)")
	f.StringVar(&in.Zone, "zone", "", "time zone of its dates, such as Europe/Paris")
	f.BoolVar(&changed, "if-changed", false, "on its dates, but only if something has changed since the last version")
	f.BoolVar(&changes, "on-changes", false, "without dates: whenever the sheet or its base has changed")
	f.StringToStringVar(&in.Values, "set", nil, "NAME=VALUE of the sheet's parameters, may be given several times")
	_ = cmd.MarkFlagRequired("sheet")
	_ = cmd.RegisterFlagCompletionFunc("sheet", a.complete(sheetNames))
	cmd.MarkFlagsMutuallyExclusive("if-changed", "on-changes")
	cmd.MarkFlagsOneRequired("rule", "on-changes")
	cmd.MarkFlagsRequiredTogether("rule", "zone")
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		in.Name, in.Mode = args[0], schedule.Dates
		switch {
		case changes:
			in.Mode = schedule.OnChanges
		case changed:
			in.Mode = schedule.IfChanged
		}
		s, err := c.AddSchedule(ctx, in)
		if err != nil {
			return err
		}
		if a.structured() {
			return a.object(s)
		}
		if in.Mode.Dated() {
			dates, err := c.ScheduleDates(ctx, in)
			if err != nil {
				return err
			}
			a.say("Builds of %s start %s:\n%s", in.Sheet, in.Mode, strings.Join(onTheWall(dates, in.Zone), "\n"))
		}
		a.say("Schedule %s is written down.", s.Name)
		return nil
	})
	return cmd
}

// onTheWall writes dates as they are where they are kept, and in UTC.
func onTheWall(dates []time.Time, zone string) (lines []string) {
	place, err := time.LoadLocation(zone)
	if err != nil {
		place = time.UTC
	}
	for _, d := range dates {
		lines = append(lines, fmt.Sprintf("%s %s (%s UTC)", d.In(place).Format("Mon 2006-01-02 15:04"),
			cmp.Or(zone, "UTC"), d.UTC().Format("2006-01-02 15:04")))
	}
	return lines
}

// nextOf says when a schedule starts a build next, and what of it waits.
func nextOf(s client.Schedule) string {
	switch {
	case s.Paused != "":
		return "paused by " + s.PausedBy + ": " + s.Paused
	case s.Waits != "":
		return "waits: " + s.Waits
	case s.NextAt != nil:
		return when(s.NextAt)
	case s.Mode.Dated():
		return "never"
	}
	return "when something has changed"
}

// cameTo says what a run came to.
func cameTo(r client.ScheduleRun) string {
	if r.Build == 0 {
		return "none: " + r.Why
	}
	return strings.TrimSpace(fmt.Sprintf("build %d, %s %s", r.Build, coloured(r.State), r.Version))
}

func (a *app) listSchedules() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "The schedules that there are, with what their last runs came to", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			rows, err := c.Schedules(ctx)
			if err != nil {
				return err
			}
			return list(a, rows, "No build starts by itself. Have one do so with: pane schedule add NAME --sheet SHEET",
				column[client.Schedule]{"Schedule", func(s client.Schedule) string { return s.Name }},
				column[client.Schedule]{"Sheet", func(s client.Schedule) string { return s.Sheet }},
				column[client.Schedule]{"Builds start", func(s client.Schedule) string { return s.Mode.String() }},
				column[client.Schedule]{"Next", nextOf},
				column[client.Schedule]{"Last", func(s client.Schedule) string {
					if s.Last == nil {
						return "-"
					}
					return cameTo(*s.Last)
				}},
				column[client.Schedule]{"By", func(s client.Schedule) string { return s.Owner }})
		}),
	}
}

func (a *app) showSchedule() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "One schedule, with its next dates and what its runs came to", Args: named,
		ValidArgsFunction: a.complete(scheduleNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			s, err := c.Schedule(ctx, args[0])
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(s)
			}
			var runs, values []string
			for _, r := range s.Runs {
				runs = append(runs, when(&r.At)+"  "+cameTo(r))
			}
			for name, value := range s.Values {
				values = append(values, name+"="+value)
			}
			a.facts(fact{"Schedule", s.Name}, fact{"Sheet", s.Sheet}, fact{"Image", s.Image},
				fact{"Builds start", s.Mode.String()}, fact{"Rule", strings.TrimSpace(s.Rule + "  " + s.Zone)},
				fact{"Values", strings.Join(values, ", ")}, fact{"By", s.Owner}, fact{"Next", nextOf(s)},
				fact{"Dates", strings.Join(onTheWall(s.Dates, s.Zone), "\n")}, fact{"Runs", strings.Join(runs, "\n")})
			return nil
		}),
	}
}

func (a *app) calendar() *cobra.Command {
	days := 60
	cmd := &cobra.Command{
		Use: "calendar", Short: "What will start by itself, and how long it takes", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			rows, err := c.Calendar(ctx, days)
			if err != nil {
				return err
			}
			return list(a, rows, fmt.Sprintf("Nothing starts by itself on a date in the next %d days.", days),
				column[client.ComingBuild]{"Starts", func(b client.ComingBuild) string { return when(&b.At) }},
				column[client.ComingBuild]{"Schedule", func(b client.ComingBuild) string { return b.Schedule }},
				column[client.ComingBuild]{"Sheet", func(b client.ComingBuild) string { return b.Sheet }},
				column[client.ComingBuild]{"Image", func(b client.ComingBuild) string { return b.Image }},
				column[client.ComingBuild]{"Takes", func(b client.ComingBuild) string {
					if b.Takes == 0 {
						return "-"
					}
					return "about " + estate.Span(time.Duration(b.Takes*float64(time.Second)).Round(time.Minute))
				}},
				column[client.ComingBuild]{"Only", func(b client.ComingBuild) string {
					if b.Mode == schedule.IfChanged {
						return "if something has changed"
					}
					return "-"
				}})
		}),
	}
	cmd.Flags().IntVar(&days, "days", days, "for so many days from now on, at most 366")
	return cmd
}
