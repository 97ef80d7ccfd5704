package cli

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/compare"
	"nimblepane/core/flaw"
)

// flaws are the commands about lists of known flaws.
func (a *app) flaws() *cobra.Command {
	cmd := &cobra.Command{Use: "flaw", Short: "Lists of known flaws, which versions are held against"}
	cmd.AddCommand(&cobra.Command{
		Use: "load NAME PATH", Short: "Load a list of known flaws, in place of the one that has the name", Args: named,
		Long: "Load a list of known flaws in the OSV format, in place of the one that has the name. PATH is a folder " +
			"or a zip\nwith files *.json, or one file that is a record or an array of them. A list with anything " +
			"wrong in it is refused,\nand nothing of it is taken. Nothing is fetched from anywhere: have a job load " +
			"a new one as often as you like.",
		Example: "  pane flaw load debian /var/lib/flaws/debian.zip",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			list, err := packed(args[1])
			if err != nil {
				return err
			}
			l, err := c.LoadFlaws(ctx, args[0], list)
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(l)
			}
			a.say("Flaw list %s is loaded, with %s.", l.Name, english.Plural(l.Records, "record", ""))
			return nil
		}),
	}, &cobra.Command{
		Use: "list", Short: "The lists of known flaws that were loaded", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			lists, err := c.FlawLists(ctx)
			if err != nil {
				return err
			}
			return list(a, lists, "No list of known flaws was loaded: load one with pane flaw load.",
				column[client.FlawList]{"List", func(l client.FlawList) string { return l.Name }},
				column[client.FlawList]{"Records", func(l client.FlawList) string { return fmt.Sprint(l.Records) }},
				column[client.FlawList]{"Loaded", func(l client.FlawList) string {
					return l.LoadedAt.UTC().Format(
						time.DateTime)
				}},
				column[client.FlawList]{"By", func(l client.FlawList) string { return l.LoadedBy }})
		}),
	}, &cobra.Command{
		Use: "delete NAME", Short: "Forget a list of known flaws, with what it said", Args: named,
		ValidArgsFunction: a.complete(flawListNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if err := a.confirmed(ctx, func(ctx context.Context) error { return c.DeleteFlaws(ctx, args[0]) },
				"Delete flaw list %s? What only it knows of versions is not known then.", args[0]); err != nil {
				return err
			}
			a.say("Flaw list %s is deleted.", args[0])
			return nil
		}),
	})
	return cmd
}

func flawListNames(ctx context.Context, c *client.Client, _ []string) (names []string, err error) {
	lists, err := c.FlawLists(ctx)
	for _, l := range lists {
		names = append(names, l.Name)
	}
	return names, err
}

// packed reads a list: a file as it is, a folder as a zip of its records.
func packed(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		if info.Size() > flaw.MostOfList {
			return nil, fmt.Errorf("%s has %s: a list has at most %s", path, inBytes(info.Size()), inBytes(
				flaw.MostOfList))
		}
		return os.ReadFile(path)
	}
	var out bytes.Buffer
	archive := zip.NewWriter(&out)
	root := os.DirFS(path)
	err = fs.WalkDir(root, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || filepath.Ext(name) != ".json" {
			return err
		}
		content, err := fs.ReadFile(root, name)
		if err != nil {
			return err
		}
		w, err := archive.Create(name)
		if err == nil {
			_, err = w.Write(content)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	if err := archive.Close(); err != nil {
		return nil, err
	}
	if out.Len() > flaw.MostOfList {
		return nil, fmt.Errorf("%s has %s, packed: a list has at most %s", path, inBytes(int64(out.Len())),
			inBytes(flaw.MostOfList))
	}
	return out.Bytes(), nil
}

func (a *app) versionFlaws() *cobra.Command {
	var serious bool
	cmd := &cobra.Command{
		Use: "flaws IMAGE NUMBER", Short: "The known flaws of what is in a version, the worst first", Args: named,
		ValidArgsFunction: a.complete(imageNames, versionNumbers),
	}
	cmd.Flags().BoolVar(&serious, "serious", false, "only those that are high or critical")
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		v, err := c.VersionFlaws(ctx, args[0], args[1])
		if err != nil {
			return err
		}
		none := "No known vulnerabilities were found in the software that was checked."
		if serious {
			none = "No serious vulnerabilities were found in the software that was checked."
			if n := len(v.Items); n > 0 {
				none = fmt.Sprintf("No serious vulnerabilities: %s less severe.", english.Plural(n, "is", "are"))
			}
			v.Items = flaw.Serious(v.Items)
		}
		if a.structured() && a.output != "csv" {
			return a.object(v)
		}
		if v.Unknown != "" {
			return &badOutcome{fmt.Sprintf("which flaws %s %s has is not known: %s", v.Image, v.Number, v.Unknown)}
		}
		if err := a.foundFlaws(v.Items, none); err != nil {
			return err
		}
		a.notChecked(v.NotChecked)
		return nil
	})
	return cmd
}

// notChecked says which software no list covers.
func (a *app) notChecked(gaps []flaw.Gap) {
	if len(gaps) == 0 {
		return
	}
	a.say("\n%s", text.Bold.Sprint("Not checked, because no list covers it"))
	for _, g := range gaps {
		a.say("%s: %s, such as %s", g.Ecosystem, english.Plural(g.Software, "piece", ""), strings.Join(g.Such, ", "))
	}
}

// acceptUnchecked accepts what no list covers.
func (a *app) acceptUnchecked() *cobra.Command {
	var in client.AcceptUnchecked
	cmd := &cobra.Command{
		Use: "accept-unchecked IMAGE ECOSYSTEM --reason WHY", Args: named,
		Short: "Accept that software of an ecosystem is not checked for known vulnerabilities",
		Long: "Accept that software of an ecosystem is not checked for known vulnerabilities in the versions of an\n" +
			"image. ECOSYSTEM is as `pane version flaws` names it. Where the image asks for no-serious-flaws, software\n" +
			"that no list covers keeps a version from clearance until it is accepted, or a list of it is loaded.",
		Example:           "  pane image accept-unchecked counter-desk flatpak --reason 'updated by its vendor'",
		ValidArgsFunction: a.complete(imageNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			in.Ecosystem = args[1]
			if err := c.AcceptUnchecked(ctx, args[0], in); err != nil {
				return err
			}
			if in.Withdraw {
				a.say("%s is not accepted any longer.", args[1])
			} else {
				a.say("%s is accepted in %s without a check.", args[1], args[0])
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&in.Reason, "reason", "", "why")
	cmd.Flags().BoolVar(&in.Withdraw, "withdraw", false, "do not accept it any longer")
	return cmd
}

func (a *app) foundFlaws(found []flaw.Found, none string) error {
	return list(a, found, none,
		column[flaw.Found]{"Severity", func(f flaw.Found) string { return severityColour(f) }},
		column[flaw.Found]{"Flaw", func(f flaw.Found) string { return f.ID }},
		column[flaw.Found]{"In", func(f flaw.Found) string { return f.Package + " " + f.Version }},
		column[flaw.Found]{"Mended in", func(f flaw.Found) string { return cmp.Or(f.Fixed, "-") }},
		column[flaw.Found]{"What", func(f flaw.Found) string {
			if f.Perhaps != "" {
				return strings.TrimSpace(f.Summary + " (perhaps: " + f.Perhaps + ")")
			}
			return cmp.Or(f.Summary, "-")
		}})
}

// severityColour is a second sign beside the word.
func severityColour(f flaw.Found) string {
	word := string(f.Severity)
	if f.Score > 0 {
		word = fmt.Sprintf("%s %.1f", word, f.Score)
	}
	switch f.Severity {
	case flaw.Critical, flaw.High:
		return text.FgRed.Sprint(word)
	case flaw.Medium:
		return text.FgHiYellow.Sprint(word)
	case flaw.Low, flaw.Unknown:
	}
	return word
}

// comparedFlaws says which known flaws a version mends, and which it brings.
func (a *app) comparedFlaws(f compare.Flaws) error {
	if f.Unknown != "" {
		a.say("\nKnown flaws are not compared: %s.", f.Unknown)
		return nil
	}
	for _, part := range []struct {
		title string
		list  []flaw.Found
	}{{"Known flaws that it mends", f.Mends}, {"Known flaws that it brings", f.Brings}} {
		if len(part.list) == 0 {
			continue
		}
		a.say("\n%s", text.Bold.Sprintf("%s (%d)", part.title, len(part.list)))
		if err := a.foundFlaws(part.list, ""); err != nil {
			return err
		}
	}
	a.notChecked(f.NotChecked)
	if f.Same > 0 {
		a.say("\n%s both have.", english.Plural(f.Same, "known flaw", ""))
	}
	return nil
}
