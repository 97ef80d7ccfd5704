package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/image"
)

func (a *app) imageRetention() *cobra.Command {
	var rule image.Retention
	var off, dry bool
	cmd := &cobra.Command{
		Use: "retention IMAGE", Short: "Which versions of an image are kept, and which are retired by its rule",
		Args: named, ValidArgsFunction: a.complete(imageNames),
		Long: "Which versions of an image are kept, and which are retired by its rule. With --keep and the like that " +
			"becomes\nthe image's rule, after it was shown what it would have retired: their copies are deleted, and " +
			"their records kept.\nWhatever the rule says, a version stays that a track, a pool, a host or a rollover " +
			"names, that is the\nfallback, or that something is going on with.",
		Example: "  pane image retention counter-desk\n" +
			"  pane image retention counter-desk --keep 4 --days 90 --tagged release --dry-run\n" +
			"  pane image retention counter-desk --off",
	}
	f := cmd.Flags()
	f.IntVar(&rule.Keep, "keep", 0, "keep the newest so many that can be used")
	f.IntVar(&rule.Days, "days", 0, "keep what is younger than so many days, too")
	f.StringSliceVar(&rule.Tagged, "tagged", nil, "keep what has one of these tags, too")
	f.BoolVar(&off, "off", false, "keep everything from now on")
	f.BoolVar(&dry, "dry-run", false, "only show what the rule would have retired")
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		given := f.Changed("keep") || f.Changed("days") || f.Changed("tagged")
		switch {
		case f.Changed("days") && rule.Days < 1:
			return usage("--days %d: use 1 or more days, or leave it out", rule.Days)
		case off && given:
			return usage("--off keeps everything: give no other rule with it")
		case given && rule.Keep == 0:
			return usage("say how many of the newest versions are kept: --keep, 1 at least")
		case !given && !off:
			p, err := c.Retention(ctx, args[0])
			if err != nil {
				return err
			}
			return a.retention(args[0], p)
		}
		p := client.RetentionPlan{}
		if given {
			var err error
			if p, err = c.TryRetention(ctx, args[0], rule); err != nil {
				return err
			}
			if dry || !a.structured() {
				if err := a.retention(args[0], p); err != nil || dry {
					return err
				}
			}
		} else if dry {
			a.say("Everything of %s would be kept.", args[0])
			return nil
		}
		question := fmt.Sprintf("Keep everything of %s?", args[0])
		if n := len(p.Retires); n > 0 {
			question = fmt.Sprintf("Retire %s of %s now, and go on by this rule?", english.Plural(n, "version", ""),
				args[0])
		} else if given {
			question = fmt.Sprintf("Go on by this rule for %s?", args[0])
		}
		var now client.RetentionPlan
		err := a.confirmed(ctx, func(ctx context.Context) (err error) {
			now, err = c.SetRetention(ctx, args[0], client.RetentionChange{
				Keep: rule.Keep, Days: rule.Days, Tagged: rule.Tagged, Retires: p.Retires,
			})
			return err
		}, "%s", question)
		if err != nil {
			return err
		}
		if a.structured() {
			return a.object(now)
		}
		a.say("%s keeps %s.", args[0], now.Says)
		return nil
	})
	return cmd
}

func (a *app) retention(imageName string, p client.RetentionPlan) error {
	if a.structured() {
		return a.object(p)
	}
	n := len(p.Retires)
	keeps, are := "keeps", english.PluralWord(n, "is", "are")
	if !p.Set {
		keeps, are = "would keep", "would be"
	}
	a.say("%s %s %s.", imageName, keeps, p.Says)
	spare := 0
	for _, v := range p.Versions {
		spare += v.Spare
	}
	if n > 0 || spare > 0 {
		text := english.Plural(n, "version", "") + " " + are + " retired"
		if spare > 0 {
			text += fmt.Sprintf(", and %s too many deleted", english.Plural(spare, "copy", "copies"))
		}
		a.say("%s, which gives back %s.", text, inBytes(p.Frees))
	}
	a.say("")
	return list(a, p.Versions, "There is no sealed version.",
		column[client.KeptVersion]{"Version", func(v client.KeptVersion) string { return v.Number }},
		column[client.KeptVersion]{"Becomes", func(v client.KeptVersion) string {
			if v.Spare > 0 {
				return coloured("kept") + ", " + english.Plural(v.Spare, "copy", "copies") + " fewer"
			}
			return coloured(map[bool]string{true: "retired", false: "kept"}[v.Goes])
		}},
		column[client.KeptVersion]{"Takes", func(v client.KeptVersion) string { return inBytes(v.Bytes) }},
		column[client.KeptVersion]{"At", func(v client.KeptVersion) string { return strings.Join(v.Sites, ", ") }},
		column[client.KeptVersion]{"Why it is kept", func(v client.KeptVersion) string {
			return strings.Join(v.Why, "; ")
		}})
}

func (a *app) imageReadiness() *cobra.Command {
	return &cobra.Command{
		Use: "readiness IMAGE", Short: "Whether an image could be rolled back now, and how long that would take",
		Args: named, ValidArgsFunction: a.complete(imageNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Readiness(ctx, args[0])
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(r)
			}
			a.say("%s", r.Says)
			if len(r.Pools) == 0 && a.output != "csv" {
				return nil
			}
			a.say("")
			return list(a, r.Pools, "",
				column[client.PoolReadiness]{"Pool", func(p client.PoolReadiness) string { return p.Pool }},
				column[client.PoolReadiness]{"Site", func(p client.PoolReadiness) string { return p.Site }},
				column[client.PoolReadiness]{"Ready", func(p client.PoolReadiness) string { return yesNo(p.Ready) }},
				column[client.PoolReadiness]{
					"Hosts",
					func(p client.PoolReadiness) string { return fmt.Sprint(p.Hosts) },
				},
				column[client.PoolReadiness]{"Takes", func(p client.PoolReadiness) string { return p.Takes }},
				column[client.PoolReadiness]{
					"Copies read",
					func(p client.PoolReadiness) string { return when(p.ReadAt) },
				},
				column[client.PoolReadiness]{"Remarks", func(p client.PoolReadiness) string {
					remarks := append(append([]string{}, p.Why...), p.But...)
					if p.People != "" {
						remarks = append(remarks, p.People)
					}
					return strings.Join(remarks, "; ")
				}})
		}),
	}
}

// plans says how many copies of a version each site gets, and why.
func plans(i client.Image) string {
	var out []string
	for _, p := range i.CopyPlans {
		out = append(out, fmt.Sprintf("%d at %s: %s", p.Copies, p.Site, p.Why))
	}
	return strings.Join(out, "\n")
}
