package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"nimblepane/client"
)

func (a *app) hypervisors(nodes []client.Hypervisor) error {
	of := func(n client.Hypervisor, text string) string {
		if n.Unreachable != "" {
			return ""
		}
		return text
	}
	return list(a, nodes, "",
		column[client.Hypervisor]{"Hypervisor", func(n client.Hypervisor) string { return n.Name }},
		column[client.Hypervisor]{"Runs", func(n client.Hypervisor) string {
			return of(n,
				n.Software+", "+n.Acceleration)
		}},
		column[client.Hypervisor]{"Cores used", func(n client.Hypervisor) string {
			return of(n,
				fmt.Sprintf("%d of %d", n.CoresUsed, n.Cores))
		}},
		column[client.Hypervisor]{"Memory used", func(n client.Hypervisor) string {
			return of(n, cmp.Or(size(n.MemoryUsed), "none")+" of "+size(n.Memory))
		}},
		column[client.Hypervisor]{"Storage free", func(n client.Hypervisor) string {
			return of(n, cmp.Or(size(n.StorageFree), "none")+" of "+size(n.Storage))
		}},
		column[client.Hypervisor]{"Machines", func(n client.Hypervisor) string {
			if n.Others == 0 {
				return of(n, fmt.Sprint(n.Machines))
			}
			return of(n, fmt.Sprintf("%d, and %d not ours", n.Machines, n.Others))
		}},
		column[client.Hypervisor]{"Answers", func(n client.Hypervisor) string { return cmp.Or(n.Unreachable, "yes") }})
}

// machine are the facts of a host's machine.
func machine(m *client.Machine) []fact {
	if m == nil {
		return nil
	}
	state := string(m.State)
	if m.Node != "" {
		state += " on " + m.Node
	}
	has := ""
	if m.Cores > 0 {
		has = fmt.Sprintf("%s, %s of memory", many(m.Cores, "core"), size(m.Memory))
	}
	return []fact{
		{"Machine", strings.TrimSpace(m.Name + " " + state)},
		{"Wrong with it", m.Why},
		{"Has", has},
		{"Network", m.Network},
		{"Display", m.Display},
		{"Disk", strings.Join(m.Disks, "\nmade on ")},
	}
}

func (a *app) buildMachine() *cobra.Command {
	cmd := &cobra.Command{
		Use: "build-machine", Short: "Machines that versions are made on",
		Long: "Machines that versions are made on. They are made from a version or a base disk, changed, and " +
			"captured.\nSites on the practice platform have theirs from the start.",
	}
	here := func(ctx context.Context, c *client.Client, args []string) ([]string, error) {
		if len(args) == 0 {
			return siteNames(ctx, c, nil)
		}
		s, err := c.Site(ctx, args[0])
		return names(s.BuildMachines, err, func(m client.BuildMachine) string {
			return m.Name + "	" +
				string(m.State) + ", " + m.Base
		})
	}
	shown := func(s client.Site, name, done string) error {
		if a.structured() {
			for _, m := range s.BuildMachines {
				if m.Name == name {
					return a.object(m)
				}
			}
		}
		a.say(done, name, s.Name)
		return nil
	}
	cmd.AddCommand(a.createBuildMachine(shown))
	act := func(use, short, done string, call func(*client.Client, context.Context, string, string) (client.Site,
		error),
	) {
		cmd.AddCommand(&cobra.Command{
			Use: use + " SITE MACHINE", Short: short, Args: named, ValidArgsFunction: a.complete(here, here),
			RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
				if use == "discard" {
					if err := a.ask("Discard build machine %s at %s, with all that was done on it and not captured?",
						args[1], args[0]); err != nil {
						return err
					}
				}
				s, err := call(c, ctx, args[0], args[1])
				if err != nil {
					return err
				}
				return shown(s, args[1], done)
			}),
		})
	}
	act("start", "Start a build machine", "%s at %s is starting.", (*client.Client).StartBuildMachine)
	act("stop", "Shut a build machine down and wait until it is off", "%s at %s is off.",
		(*client.Client).StopBuildMachine)
	act("discard", "Delete a build machine with what was done on it", "%s at %s is discarded.",
		(*client.Client).DiscardBuildMachine)
	cmd.AddCommand(a.runOnBuildMachine(here))
	cmd.AddCommand(&cobra.Command{
		Use: "put SITE MACHINE FILE PATH", Short: "Copy a file (- for standard input) into a build machine",
		Args: named, ValidArgsFunction: a.complete(here, here),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) (err error) {
			var content []byte
			if args[2] == "-" {
				content, err = io.ReadAll(a.in)
			} else {
				content, err = os.ReadFile(args[2])
			}
			if err != nil {
				return err
			}
			if err := c.PutOnBuildMachine(ctx, args[0], args[1], args[3], content); err != nil {
				return err
			}
			a.say("%s written to %s on %s.", english.Plural(len(content), "byte was", "bytes were"), args[3], args[1])
			return nil
		}),
	}, &cobra.Command{
		Use: "get SITE MACHINE PATH FILE", Short: "Copy a file of a build machine to here (- for standard output)",
		Args: named, ValidArgsFunction: a.complete(here, here),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			content, err := c.GetFromBuildMachine(ctx, args[0], args[1], args[2])
			if err != nil {
				return err
			}
			if args[3] == "-" {
				err = write(a.out, content)
				return err
			}
			return os.WriteFile(args[3], content, 0o600)
		}),
	})
	return cmd
}

func (a *app) createBuildMachine(shown func(client.Site, string, string) error) *cobra.Command {
	var in client.NewBuildMachine
	var site string
	create := &cobra.Command{
		Use: "create MACHINE --site SITE", Short: "Make a build machine from a version or a base disk", Args: named,
		Example: "  pane build-machine create bm-december --site south-mole --from 'counter-desk 2026.11.1'\n  pane " +
			"build-machine create bm-first --site south-mole --base-disk debian.qcow2 --class standard",
	}
	from := ""
	f := create.Flags()
	f.StringVar(&site, "site", "", "where it is made")
	f.StringVar(&from, "from", "", "version that it is made from, such as 'counter-desk 2026.11.1'")
	f.StringVar(&in.BaseDisk, "base-disk", "", "disk in the site's storage that it is made from, such as debian.qcow2")
	f.StringVar(&in.MachineClass, "class", "", "machine class, with --base-disk")
	_ = create.MarkFlagRequired("site")
	create.MarkFlagsOneRequired("from", "base-disk")
	create.MarkFlagsMutuallyExclusive("from", "base-disk")
	create.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		in.Name = args[0]
		if from != "" {
			var ok bool
			if in.Image, in.Version, ok = strings.Cut(from, " "); !ok {
				return usage("--from %q: write image and number, such as 'counter-desk 2026.11.1'", from)
			}
		}
		s, err := c.CreateBuildMachine(ctx, site, in)
		if err != nil {
			return err
		}
		return shown(s, in.Name, "%s was made at %s; it is off. Start it with: pane build-machine start "+
			site+" "+in.Name)
	})
	return create
}

func (a *app) runOnBuildMachine(here func(context.Context, *client.Client, []string) ([]string, error)) *cobra.Command {
	var in client.RunProgram
	var limit time.Duration
	var input bool
	cmd := &cobra.Command{
		Use:   "run SITE MACHINE -- PROGRAM [ARGUMENT...]",
		Short: "Run a program in a build machine and print its output", Args: named,
		ValidArgsFunction: a.complete(here, here),
		Long: "Run a program in a build machine, wait for its end and print its output. The machine has to run; " +
			"if it is\nstill starting, the program waits for it. Exit code 0 says that the program's was.",
		Example: "  pane build-machine run south-mole bm-december -- apt-get install -y tide-tables",
	}
	cmd.Flags().DurationVar(&limit, "limit", 5*time.Minute, "how long to wait for its end, at most 1h")
	cmd.Flags().BoolVar(&input, "stdin", false, "give it what is on standard input")
	cmd.Flags().StringArrayVar(&in.Env, "env", nil, "NAME=value in its environment, may be given several times")
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) (err error) {
		in.Path, in.Args, in.Seconds = args[2], args[3:], int(limit.Seconds())
		if input {
			if in.Input, err = io.ReadAll(a.in); err != nil {
				return err
			}
		}
		ended, err := c.RunOnBuildMachine(ctx, args[0], args[1], in)
		if err != nil {
			return err
		}
		if a.structured() {
			if err := a.object(ended); err != nil {
				return err
			}
		} else {
			_ = write(a.out, ended.Output)
			_ = write(a.err, ended.Errors)
		}
		if ended.ExitCode != 0 {
			return &badOutcome{fmt.Sprintf("%s ended with exit code %d", in.Path, ended.ExitCode)}
		}
		return nil
	})
	return cmd
}
