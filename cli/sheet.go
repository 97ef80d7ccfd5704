package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"nimblepane/core/sheet"
)

func (a *app) sheet() *cobra.Command {
	cmd := &cobra.Command{
		Use: "sheet", Short: "Build sheets: files that say how a version is made",
		Long: "Build sheets are YAML files that say how a version is made: from which base, by which steps, and what " +
			"is\nmade of it. They are read here and need no service; - as the file is the standard input.",
	}
	explain := &cobra.Command{
		Use: "explain FILE", Short: "Say in plain sentences what a build of a sheet does, in order", Args: named,
	}
	set := setFlag(explain)
	explain.RunE = func(_ *cobra.Command, args []string) error {
		s, _, err := a.readSheet(args[0])
		if err != nil {
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
				s, _, err := a.readSheet(args[0])
				if err != nil {
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
		explain)
	return cmd
}

// readSheet reads a sheet from a file, and its text. What is wrong with it is told with the file's name.
func (a *app) readSheet(file string) (s sheet.Sheet, text string, err error) {
	read := func() ([]byte, error) { return os.ReadFile(file) }
	if file == "-" {
		read = func() ([]byte, error) { return io.ReadAll(io.LimitReader(a.in, sheet.MostBytes+1)) }
	}
	b, err := read()
	if err != nil {
		return s, "", usage("the sheet cannot be read: %s", err)
	}
	s, err = sheet.Parse(b)
	var wrong sheet.Problems
	if errors.As(err, &wrong) {
		lines := make([]string, len(wrong))
		for i, p := range wrong {
			lines[i] = fmt.Sprintf("%s:%d:%d: %s", file, p.Line, p.Column, p.Text)
		}
		return s, "", usage("%s is wrong in %s:\n%s", file, many(len(wrong), "place"), strings.Join(lines, "\n"))
	}
	return s, string(b), err
}
