package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/sheet"
)

// byHand adds what somebody does who prepares a version by hand.
func (a *app) byHand(cmd *cobra.Command, here func(context.Context, *client.Client, []string) ([]string, error)) {
	cmd.AddCommand(&cobra.Command{
		Use: "note SITE MACHINE TEXT", Short: "Write down what you did on a build machine, for its version's notes",
		Args: named, ValidArgsFunction: a.complete(here, here),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			return a.note(ctx, c, args[0], args[1], args[2])
		}),
	})
	var step string
	try := &cobra.Command{
		Use:   "try SITE MACHINE FILE --step NAME",
		Short: "Do one step of a sheet on a build machine, and wait for its end", Args: named,
		ValidArgsFunction: a.complete(here, here),
		Long: "Do one step of a sheet on a build machine, and wait for its end. What went well in this way can be " +
			"written out\nas a sheet: pane build-machine sheet. Exit code 0 says that the step went well.",
		Example: "  pane build-machine try north-quay bm-december counter-desk.yaml --step 'Ticket printer'",
	}
	try.Flags().StringVar(&step, "step", "", "name of the step")
	_ = try.MarkFlagRequired("step")
	set := setFlag(try)
	try.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		in, err := a.handIn(ctx, c, args[2])
		if err != nil {
			return err
		}
		return a.tryStep(ctx, c, args[0], args[1], client.TryStep{
			Sheet: in.text, Step: step, Values: *set, Files: in.files,
		})
	})
	cmd.AddCommand(a.takeOver(here), a.openOnMachine(here), try, &cobra.Command{
		Use: "tries SITE MACHINE", Short: "The steps that were tried on a build machine", Args: named,
		ValidArgsFunction: a.complete(here, here),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			tries, err := c.MachineTries(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			return list(a, tries, "No step was tried on it yet. Try one with: pane build-machine try",
				column[client.MachineTry]{"Step", func(t client.MachineTry) string { return t.Step }},
				column[client.MachineTry]{"Does", func(t client.MachineTry) string { return string(t.Kind) }},
				column[client.MachineTry]{"State", func(t client.MachineTry) string { return coloured(t.State) }},
				column[client.MachineTry]{"At", func(t client.MachineTry) string { return when(&t.AskedAt) }},
				column[client.MachineTry]{"Why", func(t client.MachineTry) string { return t.Why }})
		}),
	}, &cobra.Command{
		Use: "sheet SITE MACHINE FILE", Short: "Write out as a sheet what was tried on a build machine and went well",
		Args: named, ValidArgsFunction: a.complete(here, here),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			text, err := c.MachineSheet(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			if args[2] == "-" {
				return write(a.out, text)
			}
			if err := os.WriteFile(args[2], text, 0o600); err != nil {
				return err
			}
			a.say("%s is written. See what a build of it does with: pane sheet explain %s", args[2], args[2])
			return nil
		}),
	})
}

// takeOver makes what somebody has set on a machine what new people find.
func (a *app) takeOver(here func(context.Context, *client.Client, []string) ([]string, error)) *cobra.Command {
	return &cobra.Command{
		Use:   "defaults SITE MACHINE PERSON [PATH...]",
		Short: "Make the settings of a person on a build machine those of new people", Args: named,
		ValidArgsFunction: a.complete(here, here),
		Long: "Make the settings of a person on a build machine those of new people: of the files and folders that " +
			"are named, by\ntheir paths in the person's home, or else of all that begins with a dot there. Keys, " +
			"passwords, histories and\ncaches stay where they are. It is a step that was tried: pane build-machine " +
			"sheet writes it out.",
		Example: "  pane build-machine defaults north-quay bm-december ida .config/fare-desk",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			text, step, err := settingsOf(args[0], args[2], args[3:])
			if err != nil {
				return err
			}
			return a.tryStep(ctx, c, args[0], args[1], client.TryStep{Sheet: text, Step: step})
		}),
	}
}

// settingsOf is a sheet with a step that takes the settings of a person over.
func settingsOf(site, person string, paths []string) (text, step string, err error) {
	step = "Settings of " + person
	written, err := yaml.Marshal(map[string]any{
		"image": "any", "base": map[string]string{"track": "live"}, "machine": map[string]string{"site": site},
		"steps": []any{yaml.MapSlice{
			{Key: "name", Value: step},
			{Key: "settings", Value: map[string]any{"person": person, "paths": paths}},
		}},
	})
	if err != nil {
		return "", "", err
	}
	_, err = sheet.Parse(written)
	var wrong sheet.Problems
	if errors.As(err, &wrong) {
		return "", "", usage("%s", wrong[0].Text)
	}
	return string(written), step, err
}

// openOnMachine opens applications as people would.
func (a *app) openOnMachine(here func(context.Context, *client.Client, []string) ([]string, error)) *cobra.Command {
	var pictures string
	cmd := &cobra.Command{
		Use: "open SITE MACHINE [FILE]", Short: "Open applications on a build machine, and see whether they come up",
		Args: named, ValidArgsFunction: a.complete(here, here),
		Long: "Open applications on a build machine, one after the other, as a person who is made for it and taken " +
			"away again,\nand see whether they come up: those of a sheet, or without one those of the version that " +
			"the machine is made\nfrom. Exit code 0: all came up.",
		Example: "  pane build-machine open north-quay bm-december counter-desk.yaml --pictures /tmp/pictures",
	}
	cmd.Flags().StringVar(&pictures, "pictures", "", "folder to write a picture of each application to, as it looked")
	set := setFlag(cmd)
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		in := client.OpenApplications{Values: *set}
		if len(args) > 2 {
			of, err := a.handIn(ctx, c, args[2])
			if err != nil {
				return err
			}
			in.Sheet, in.Files = of.text, of.files
		}
		o, err := c.OpenOnBuildMachine(ctx, args[0], args[1], in)
		p := a.newProgress()
		defer p.end()
		for err == nil && o.State == build.UnderWay {
			p.show("opening applications on %s: %s", args[1], o.Why)
			if err = sleep(ctx, 300*time.Millisecond); err == nil {
				o, err = c.MachineOpening(ctx, args[0], args[1])
			}
		}
		p.end()
		if err != nil {
			return err
		}
		return a.showOpening(ctx, c, args[0], args[1], o, pictures)
	})
	return cmd
}

// showOpening shows what became of applications, and writes the pictures of them to a folder.
func (a *app) showOpening(ctx context.Context, c *client.Client, site, machine string, o client.MachineOpening,
	pictures string,
) error {
	if o.State == build.TaskFailed {
		return &badOutcome{fmt.Sprintf("the applications could not be opened on %s: %s", machine, o.Why)}
	}
	if a.structured() {
		if err := a.object(o); err != nil {
			return err
		}
	} else if err := a.showResults(o.Results); err != nil {
		return err
	}
	var broken []string
	for i, r := range o.Results {
		if r.Why != "" {
			broken = append(broken, r.Name)
		}
		if !r.Picture || pictures == "" {
			continue
		}
		png, err := c.OpeningPicture(ctx, site, machine, r.Name)
		if err != nil {
			return err
		}
		if err := os.MkdirAll(pictures, 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(pictures, fmt.Sprintf("%02d.png", i+1)), png, 0o600); err != nil {
			return err
		}
	}
	if len(broken) > 0 {
		return &badOutcome{"did not come up: " + strings.Join(broken, ", ")}
	}
	return nil
}

func (a *app) note(ctx context.Context, c *client.Client, site, machine, text string) error {
	m, err := c.NoteOnBuildMachine(ctx, site, machine, text)
	if err != nil {
		return err
	}
	if a.structured() {
		return a.object(m)
	}
	a.say("Noted on %s; it has %s.", m.Name, many(len(m.Notes), "note"))
	return nil
}

// tryStep has a step done, waits for its end and shows what it wrote.
func (a *app) tryStep(ctx context.Context, c *client.Client, site, machine string, in client.TryStep) error {
	if _, err := c.TryStepOnBuildMachine(ctx, site, machine, in); err != nil {
		return err
	}
	p := a.newProgress()
	last := client.MachineTry{State: build.UnderWay}
	for last.State == build.UnderWay {
		p.show("%s: %s", in.Step, last.Why)
		tries, err := c.MachineTries(ctx, site, machine)
		if err == nil && len(tries) == 0 {
			err = errors.New("the service does not know of the try any more")
		}
		if err == nil {
			last = tries[len(tries)-1]
			err = sleep(ctx, 300*time.Millisecond)
		}
		if err != nil {
			p.end()
			return err
		}
	}
	p.end()
	if a.structured() {
		if err := a.object(last); err != nil {
			return err
		}
	} else if out := strings.TrimRight(last.Output, "\n"); out != "" {
		a.say("%s", out)
	}
	if last.State == build.TaskFailed {
		return &badOutcome{fmt.Sprintf("step %q: %s", in.Step, last.Why)}
	}
	a.say("Step %q went well.", in.Step)
	return nil
}

// noteOnBuild is note of a build's machine.
func (a *app) noteOnBuild() *cobra.Command {
	return &cobra.Command{
		Use: "note NUMBER TEXT", Short: "Write down something about a build; its version has it in its notes",
		Args: named, ValidArgsFunction: a.complete(buildIDs),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			id, err := parseID(args[0], "build")
			if err != nil {
				return err
			}
			b, err := c.Build(ctx, id)
			if err != nil {
				return err
			}
			return a.note(ctx, c, b.Site, b.Machine, args[1])
		}),
	}
}
