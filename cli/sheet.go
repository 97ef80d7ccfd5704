package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/sheet"
)

func (a *app) sheet() *cobra.Command {
	cmd := &cobra.Command{
		Use: "sheet", Short: "Build sheets: files that say how a version is made",
		Long: "Build sheets are YAML files that say how a version is made: from which base, by which steps, and what " +
			"is\nmade of it. They are read here and need no service; - as the file is the standard input. The " +
			"service can keep\nsheets, too: list, show, save and delete are about these.",
	}
	library := ""
	cmd.PersistentFlags().StringVar(&library, "library", "", "folder of your own ready steps, a file NAME.yaml of "+
		"each, beside those that ship")
	ready := func() (sheet.Library, error) {
		if library == "" {
			return nil, nil
		}
		own, err := sheet.ReadLibrary(os.DirFS(library))
		if err != nil {
			return nil, usage("--library %s: %s", library, err)
		}
		return own, nil
	}
	explain := &cobra.Command{
		Use: "explain FILE", Short: "Say in plain sentences what a build of a sheet does, in order", Args: named,
	}
	set := setFlag(explain)
	explain.RunE = func(_ *cobra.Command, args []string) error {
		own, err := ready()
		if err != nil {
			return err
		}
		s, _, err := a.readSheet(args[0], own)
		if err != nil {
			return err
		}
		if s, err = whole(args[0], s); err != nil {
			return err
		}
		if s, err = s.With(*set); err != nil {
			return usage("%s\nGive parameters values with --set NAME=VALUE", err)
		}
		if a.structured() {
			return a.object(s.Explain())
		}
		_, err = fmt.Fprintln(a.out, strings.Join(s.Explain(), "\n"))
		return err
	}
	cmd.AddCommand(
		&cobra.Command{
			Use: "new", Short: "Print a commented sheet to start from", Args: named,
			RunE: func(*cobra.Command, []string) error {
				_, err := a.out.Write(sheet.New())
				return err
			},
		},
		&cobra.Command{
			Use: "check FILE", Short: "Say all that is wrong with a sheet, with line and column", Args: named,
			RunE: func(_ *cobra.Command, args []string) error {
				own, err := ready()
				if err != nil {
					return err
				}
				s, _, err := a.readSheet(args[0], own)
				if err != nil {
					return err
				}
				if s, err = whole(args[0], s); err != nil {
					return err
				}
				if a.structured() {
					return a.object(s)
				}
				a.say("%s is right: it makes a version of %s in %s.", args[0], s.Image, many(len(s.Steps), "step"))
				return nil
			},
		},
		&cobra.Command{
			Use: "schema", Short: "Print the JSON Schema of sheets, for editors", Args: named,
			Long: "Print the JSON Schema of sheets. An editor that has it completes keys, says what they are for " +
				"and marks\nwhat there is not; check finds what it cannot.",
			RunE: func(*cobra.Command, []string) error {
				_, err := a.out.Write(sheet.Schema())
				return err
			},
		},
		explain, a.readySteps(ready))
	a.keptSheets(cmd)
	return cmd
}

// readSheet reads a sheet from a file, and its text. What is wrong with it is told with the file's name.
func (a *app) readSheet(file string, own ...sheet.Library) (s sheet.Sheet, text string, err error) {
	b, err := a.readFile(file)
	if err != nil {
		return s, "", err
	}
	s, err = sheet.Parse(b, own...)
	var wrong sheet.Problems
	if errors.As(err, &wrong) {
		return s, "", wrongIn(file, wrong)
	}
	return s, string(b), err
}

// readFile returns what is in the file of a sheet.
func (a *app) readFile(file string) ([]byte, error) {
	read := func() ([]byte, error) { return os.ReadFile(file) }
	if file == "-" {
		read = func() ([]byte, error) { return io.ReadAll(io.LimitReader(a.in, sheet.MostBytes+1)) }
	}
	text, err := read()
	if err != nil {
		return nil, usage("the sheet cannot be read: %s", err)
	}
	return text, nil
}

// wrongIn tells what is wrong with a sheet, as compilers do.
func wrongIn(file string, wrong sheet.Problems) error {
	lines := make([]string, len(wrong))
	for i, p := range wrong {
		lines[i] = fmt.Sprintf("%s:%d:%d: %s", file, p.Line, p.Column, p.Text)
	}
	return usage("%s is wrong in %s:\n%s", file, many(len(wrong), "place"), strings.Join(lines, "\n"))
}

// beside opens the folder that a sheet is in. What it names is found there and nowhere else.
func beside(file string) (*os.Root, error) {
	if file == "-" {
		return os.OpenRoot(".")
	}
	return os.OpenRoot(filepath.Dir(file))
}

// whole returns a sheet with what it names beside it.
func whole(file string, s sheet.Sheet) (sheet.Sheet, error) {
	sources := s.Sources()
	if len(sources) == 0 {
		return s, nil
	}
	folder, err := beside(file)
	if err != nil {
		return s, err
	}
	defer folder.Close()
	contents, unfit := client.ReadSheetFiles(folder.FS(), sources)
	if len(unfit) > 0 {
		return s, wrongIn(file, s.Wrong(unfit))
	}
	paths := map[string]string{}
	for path, content := range contents {
		paths[content.SHA256] = path
	}
	s, err = s.WithFiles(contents, func(c sheet.Content) ([]byte, error) { return folder.ReadFile(paths[c.SHA256]) })
	if err != nil {
		return s, usage("%s: %s", file, err)
	}
	return s, nil
}

// handedIn is a sheet as the service is given it: its text, the digests of the files that it names, and its commit.
type handedIn struct {
	text  string
	files map[string]string
	client.CommitOf
}

// handIn reads a sheet that may use the ready steps which the service has, and sends what it names beside it.
func (a *app) handIn(ctx context.Context, c *client.Client, file string) (in handedIn, err error) {
	s, text, err := a.readSheetFor(ctx, c, file)
	if err != nil {
		return in, err
	}
	in.text = text
	if in.CommitOf, err = a.commitOf(ctx, c, s, file); err != nil {
		return in, err
	}
	in.files, err = a.sendBeside(ctx, c, file, s.Sources(), false)
	return in, err
}

// sendBeside sends what a sheet names in the folder that it is in. What is not there is an error, or left out.
func (a *app) sendBeside(ctx context.Context, c *client.Client, file string, sources []sheet.Source, leave bool,
) (map[string]string, error) {
	if len(sources) == 0 {
		return nil, nil
	}
	folder, err := beside(file)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	if leave {
		_, wrong := client.ReadSheetFiles(folder.FS(), sources)
		sources = slices.DeleteFunc(sources, func(s sheet.Source) bool { return wrong[s] != nil })
	}
	p := a.newProgress()
	defer p.end()
	return c.SendSheetFiles(ctx, folder.FS(), sources, func(s sheet.Source, sent, size int64) {
		p.show("sending the %s: %d %%", s, 100*sent/max(size, 1))
	})
}

// readSheetFor is readSheet of a sheet that may use the ready steps which the service has.
func (a *app) readSheetFor(ctx context.Context, c *client.Client, file string) (s sheet.Sheet, text string, err error) {
	steps, err := c.ReadySteps(ctx)
	if err != nil {
		return s, "", err
	}
	own := sheet.Library{}
	for _, step := range steps {
		if !step.Own {
			continue
		}
		if own[step.Name], err = sheet.ParseReady(step.Name, []byte(step.Text)); err != nil {
			return s, "", fmt.Errorf("the service's ready step %s cannot be read here: %w", step.Name, err)
		}
	}
	return a.readSheet(file, own)
}

// readySteps lists and shows what sheets can have done without writing it down.
func (a *app) readySteps(ready func() (sheet.Library, error)) *cobra.Command {
	cmd := &cobra.Command{
		Use: "steps", Short: "Ready steps, which sheets use by their name",
		Long: "Ready steps are written once and used by many sheets, each a readable file of its own: a step of a " +
			"sheet says\nready: {step: proxy, with: {address: ...}}. Some ship with the product; --library names a " +
			"folder of your own.",
	}
	find := func() (all, own sheet.Library, err error) {
		own, err = ready()
		return sheet.Shipped().And(own), own, err
	}
	cmd.AddCommand(&cobra.Command{
		Use: "list", Short: "The ready steps that there are", Args: named,
		RunE: func(*cobra.Command, []string) error {
			all, own, err := find()
			if err != nil {
				return err
			}
			rows := make([]sheet.Ready, 0, len(all))
			for _, name := range all.Names() {
				rows = append(rows, all[name])
			}
			return list(a, rows, "",
				column[sheet.Ready]{"Ready step", func(r sheet.Ready) string { return r.Name }},
				column[sheet.Ready]{"It", func(r sheet.Ready) string { return r.About }},
				column[sheet.Ready]{"Wants", func(r sheet.Ready) string { return strings.Join(r.Wants(), ", ") }},
				column[sheet.Ready]{"From", func(r sheet.Ready) string {
					if _, is := own[r.Name]; is {
						return "your own"
					}
					return "shipped"
				}})
		},
	}, &cobra.Command{
		Use: "show NAME", Short: "A ready step, as it is written down", Args: named,
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			all, _, _ := find()
			return all.Names(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			all, _, err := find()
			if err != nil {
				return err
			}
			r, known := all[args[0]]
			if !known {
				return usage("there is no ready step %q: use %s", args[0], strings.Join(all.Names(), ", "))
			}
			if a.structured() {
				return a.object(r)
			}
			return write(a.out, []byte(r.Text))
		},
	})
	return cmd
}
