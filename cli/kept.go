package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/sheet"
)

// keptSheets are the sheets that the service keeps, for people who do not keep them elsewhere.
func (a *app) keptSheets(cmd *cobra.Command) {
	cmd.AddCommand(a.listSheets(), a.showSheet(), a.saveSheet(), a.followSheet(), a.lookAtSheet(), a.unfollowSheet(),
		a.deleteSheet())
}

func (a *app) listSheets() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "The sheets that the service keeps, with the last build of each", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			rows, err := c.Sheets(ctx)
			if err != nil {
				return err
			}
			return list(a, rows, "The service keeps no sheet yet. Have it keep one with: pane sheet save NAME FILE",
				column[client.Sheet]{"Sheet", func(s client.Sheet) string { return s.Name }},
				column[client.Sheet]{"Image", func(s client.Sheet) string { return cmp.Or(s.Image, "-") }},
				column[client.Sheet]{"Steps", func(s client.Sheet) string { return fmt.Sprint(s.Steps) }},
				column[client.Sheet]{"Wrong in", func(s client.Sheet) string {
					if s.Problems == 0 {
						return "-"
					}
					return many(s.Problems, "place")
				}},
				column[client.Sheet]{"Last build", func(s client.Sheet) string {
					if s.Build == 0 {
						return "-"
					}
					return strings.TrimSpace(fmt.Sprintf("%d, %s %s", s.Build, coloured(s.BuildState), s.BuildVersion))
				}},
				column[client.Sheet]{"Commit", func(s client.Sheet) string {
					switch {
					case s.Repository == nil:
						return "-"
					case s.Repository.Why != "":
						return cmp.Or(short(s.Commit), "none") + ", cannot be looked at"
					}
					return cmp.Or(short(s.Commit), "none yet")
				}},
				column[client.Sheet]{"Revision", func(s client.Sheet) string { return fmt.Sprint(s.Revision) }},
				column[client.Sheet]{"Changed", func(s client.Sheet) string { return when(&s.ChangedAt) }},
				column[client.Sheet]{"By", func(s client.Sheet) string { return s.ChangedBy }})
		}),
	}
}

func (a *app) showSheet() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "A sheet that the service keeps, as it is written down", Args: named,
		ValidArgsFunction: a.complete(sheetNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			s, err := c.Sheet(ctx, args[0])
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(s)
			}
			if s.Repository != nil {
				fmt.Fprintln(a.err, inRepository(s.Sheet))
			}
			for _, line := range wrongWith(s) {
				fmt.Fprintln(a.err, line)
			}
			return write(a.out, []byte(s.Text))
		}),
	}
}

// wrongWith lists what keeps a build of a sheet from being started.
func wrongWith(s client.WholeSheet) (lines []string) {
	for _, w := range s.Wrong {
		lines = append(lines, fmt.Sprintf("%s:%d:%d: %s", s.Name, w.Line, w.Column, w.Text))
	}
	return append(lines, s.Missing...)
}

func (a *app) saveSheet() *cobra.Command {
	var revision int
	cmd := &cobra.Command{
		Use: "save NAME FILE", Short: "Have the service keep a sheet with the files that it names", Args: named,
		ValidArgsFunction: a.complete(sheetNames),
		Long: "Have the service keep a sheet, right or not, with the files that it names beside it. One that the " +
			"service has\nalready is changed if nobody else has changed it since you looked: --revision says what " +
			"you saw, as list and\nshow say it. Builds of it are started by its name: pane build start --kept NAME.",
		Example: "  pane sheet save counter-desk counter-desk.yaml --revision 3",
	}
	cmd.Flags().IntVar(&revision, "revision", 0, "that the sheet had when you looked at it; 0 for a new one")
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		in, err := a.handInAny(ctx, c, args[1])
		if err != nil {
			return err
		}
		s, err := c.SaveSheet(ctx, args[0], revision, client.SheetText{Text: in.text, Files: in.files})
		if err != nil {
			return err
		}
		if a.structured() {
			return a.object(s)
		}
		a.say("%s is kept, as revision %d.", s.Name, s.Revision)
		if wrong := wrongWith(s); len(wrong) > 0 {
			a.say("It is wrong in %s, and no build of it can be started:\n%s", many(len(wrong), "place"),
				strings.Join(wrong, "\n"))
		}
		return nil
	})
	return cmd
}

func (a *app) deleteSheet() *cobra.Command {
	return &cobra.Command{
		Use: "delete NAME", Short: "Have the service forget a sheet; its builds stay", Args: named,
		ValidArgsFunction: a.complete(sheetNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			s, err := c.Sheet(ctx, args[0])
			if err != nil {
				return err
			}
			if err := a.confirmed(ctx, func(ctx context.Context) error {
				return c.DeleteSheet(ctx, s.Name,
					s.Revision)
			},
				"Delete sheet %s, changed by %s on %s? The service has the only copy.", s.Name, s.ChangedBy,
				when(&s.ChangedAt)); err != nil {
				return err
			}
			a.say("Sheet %s is forgotten.", s.Name)
			return nil
		}),
	}
}

// handInAny reads a sheet that may be wrong, and sends what it names beside it as far as that is there.
func (a *app) handInAny(ctx context.Context, c *client.Client, file string) (in handedIn, err error) {
	text, err := a.readFile(file)
	if err != nil {
		return in, err
	}
	in.text = string(text)
	checked, err := c.CheckSheet(ctx, client.SheetText{Text: in.text})
	if err != nil {
		return in, err
	}
	var sources []sheet.Source
	for _, n := range checked.Names {
		sources = append(sources, sheet.Source(n))
	}
	in.files, err = a.sendBeside(ctx, c, file, sources, true)
	return in, err
}
