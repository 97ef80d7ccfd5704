package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/estate"
	"nimblepane/core/machine"
	"nimblepane/core/sheet"
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
func machineFacts(m *client.Machine) []fact {
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
			"captured.\nThey cost money while they run; one that nobody touches is discarded after two notices.",
	}
	here := func(ctx context.Context, c *client.Client, args []string) ([]string, error) {
		if len(args) == 0 {
			return siteNames(ctx, c, nil)
		}
		list, err := c.BuildMachines(ctx, args[0], "", false, 200)
		return names(list, err, func(m client.BuildMachine) string {
			return m.Name + "\t" + string(m.State) + ", " + m.Base
		})
	}
	cmd.AddCommand(a.listBuildMachines(), a.showBuildMachine(here), a.createBuildMachine())
	act := func(use, short string, call func(*client.Client, context.Context, string, string) (client.BuildMachine,
		error),
	) {
		cmd.AddCommand(&cobra.Command{
			Use: use + " SITE MACHINE", Short: short, Args: named, ValidArgsFunction: a.complete(here, here),
			RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
				var m client.BuildMachine
				do := func(ctx context.Context) (err error) {
					m, err = call(c, ctx, args[0], args[1])
					return err
				}
				var err error
				if use == "discard" {
					err = a.confirmed(ctx, do, "Discard build machine %s at %s, with all that was done on it and not "+
						"captured?", args[1], args[0])
				} else {
					err = do(ctx)
				}
				if err != nil {
					return err
				}
				if use == "keep" && !a.structured() {
					until := "."
					if m.DiscardAt != nil {
						until = ": it is discarded on " + when(m.DiscardAt) + " if it is not used before."
					}
					a.say("%s at %s is kept%s", m.Name, m.Site, until)
					return nil
				}
				return a.machineSettles(ctx, c, m)
			}),
		})
	}
	act("start", "Start a build machine, and wait until it runs", (*client.Client).StartBuildMachine)
	act("stop", "Shut a build machine down, and wait until it is off", (*client.Client).StopBuildMachine)
	act("keep", "Say that a build machine is needed, so that it is not discarded", (*client.Client).KeepBuildMachine)
	act("discard", "Delete a build machine with what was done on it", (*client.Client).DiscardBuildMachine)
	ofMachine := func(ctx context.Context, c *client.Client, args []string) ([]string, error) {
		m, err := c.BuildMachine(ctx, args[0], args[1])
		return names(m.Checkpoints, err, func(k client.Checkpoint) string { return k.Name + "\t" + when(&k.MadeAt) })
	}
	cmd.AddCommand(&cobra.Command{
		Use:   "checkpoint SITE MACHINE CHECKPOINT",
		Short: "Keep what a build machine is now, so that it can go back to it",
		Long: "Keep what a build machine is now, so that it can go back to it. It goes down for that, and comes up " +
			"again if it ran.",
		Args: named, ValidArgsFunction: a.complete(here, here),
		Example: "  pane build-machine checkpoint south-mole bm-december 'all is installed'",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			m, err := c.CheckpointBuildMachine(ctx, args[0], args[1], args[2])
			if err != nil {
				return err
			}
			if err := a.machineSettles(ctx, c, m); err != nil {
				return err
			}
			a.say("Checkpoint %q is made.", args[2])
			return nil
		}),
	}, &cobra.Command{
		Use: "back SITE MACHINE CHECKPOINT", Short: "Have a build machine go back to a checkpoint",
		Args: named, ValidArgsFunction: a.complete(here, here, ofMachine),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			var m client.BuildMachine
			if err := a.confirmed(ctx, func(ctx context.Context) (err error) {
				m, err = c.RevertBuildMachine(ctx, args[0], args[1], args[2])
				return err
			}, "Revert build machine %s at %s to checkpoint %q? All later changes on it are lost.",
				args[1], args[0], args[2]); err != nil {
				return err
			}
			return a.machineSettles(ctx, c, m)
		}),
	})
	a.byHand(cmd, here)
	cmd.AddCommand(a.finish(here))
	var repair bool
	check := &cobra.Command{
		Use: "check SITE MACHINE", Short: "Make the seal checks on a build machine, and show what they find",
		Args: named, ValidArgsFunction: a.complete(here, here), Long: checkLong,
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			return a.checkMachine(ctx, c, args[0], args[1], repair)
		}),
	}
	check.Flags().BoolVar(&repair, "repair", false, repairUsage)
	cmd.AddCommand(check, a.runOnBuildMachine(here))
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

// machineSettles waits until nothing is done to a build machine any more, and says how it stands.
func (a *app) machineSettles(ctx context.Context, c *client.Client, m client.BuildMachine) (err error) {
	for m.State.Changing() {
		if err := sleep(ctx, 300*time.Millisecond); err != nil {
			return err
		}
		if m, err = c.BuildMachine(ctx, m.Site, m.Name); err != nil {
			return err
		}
	}
	if a.structured() {
		err = a.object(m)
	} else if m.Why == "" {
		a.say("%s at %s %s.", m.Name, m.Site, machineIs(m.State))
	}
	if m.Why != "" {
		return errors.Join(err, &badOutcome{fmt.Sprintf("build machine %s %s: %s", m.Name, machineIs(m.State), m.Why)})
	}
	return err
}

// machineIs says a state in a sentence.
func machineIs(s machine.State) string {
	switch s {
	case machine.Running:
		return "runs"
	case machine.Gone:
		return "is discarded"
	}
	return "is " + string(s)
}

func (a *app) listBuildMachines() *cobra.Command {
	var site, owner string
	var gone bool
	var limit int
	cmd := &cobra.Command{
		Use: "list", Short: "Build machines, with what they have cost", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			rows, err := c.BuildMachines(ctx, site, owner, gone, limit)
			if err != nil {
				return err
			}
			return list(a, rows, "There is no build machine like that. Make one with: pane build-machine create",
				column[client.BuildMachine]{"Machine", func(m client.BuildMachine) string { return m.Name }},
				column[client.BuildMachine]{"Site", func(m client.BuildMachine) string { return m.Site }},
				column[client.BuildMachine]{"State", func(m client.BuildMachine) string { return coloured(m.State) }},
				column[client.BuildMachine]{"For", func(m client.BuildMachine) string {
					return cmp.Or(m.Purpose, "-")
				}},
				column[client.BuildMachine]{"From", func(m client.BuildMachine) string { return m.Base }},
				column[client.BuildMachine]{"Class", func(m client.BuildMachine) string { return m.MachineClass }},
				column[client.BuildMachine]{"By", func(m client.BuildMachine) string { return cmp.Or(m.Owner, "-") }},
				column[client.BuildMachine]{"Since", func(m client.BuildMachine) string { return when(&m.AskedAt) }},
				column[client.BuildMachine]{"Ran", ran},
				column[client.BuildMachine]{"Cost", cost})
		}),
	}
	f := cmd.Flags()
	f.StringVar(&site, "site", "", "only at this site")
	f.StringVar(&owner, "owner", "", "only those that this person asked for")
	f.BoolVar(&gone, "gone", false, "also those that are gone")
	f.IntVar(&limit, "limit", 50, "at most so many")
	_ = cmd.RegisterFlagCompletionFunc("site", a.complete(siteNames))
	return cmd
}

// ran is for how long a machine has run altogether.
func ran(m client.BuildMachine) string {
	d := time.Duration(m.RanSeconds) * time.Second
	if d > time.Minute {
		d = d.Truncate(time.Minute)
	}
	return estate.Span(d)
}

func cost(m client.BuildMachine) string {
	if m.Cost == "" {
		return "-"
	}
	return m.Cost + " " + m.Currency
}

// sized says what the machine has where that is not what its class says.
func sized(m client.BuildMachine) string {
	var has []string
	if m.Cores > 0 {
		has = append(has, many(m.Cores, "core"))
	}
	if m.MemoryBytes > 0 {
		has = append(has, sheet.Size(m.MemoryBytes).String()+" of memory")
	}
	if m.DiskBytes > 0 {
		has = append(has, "a disk of "+sheet.Size(m.DiskBytes).String())
	}
	return strings.Join(has, ", ")
}

func (a *app) showBuildMachine(here func(context.Context, *client.Client, []string) ([]string, error)) *cobra.Command {
	return &cobra.Command{
		Use: "show SITE MACHINE", Short: "One build machine", Args: named, ValidArgsFunction: a.complete(here, here),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			m, err := c.BuildMachine(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(m)
			}
			build, end := "", ""
			if m.Build != 0 {
				build = fmt.Sprint(m.Build)
			}
			if m.DiscardAt != nil {
				end = "on " + when(m.DiscardAt) + ", unless somebody touches it"
				if m.Notices > 0 {
					end += "; " + many(m.Notices, "notice") + " given"
				}
			}
			var kept []string
			for _, c := range m.Checkpoints {
				kept = append(kept, c.Name+", "+when(&c.MadeAt))
			}
			a.facts(fact{"Machine", m.Name}, fact{"Site", m.Site}, fact{"State", coloured(m.State)}, fact{"Why", m.Why},
				fact{"For", m.Purpose}, fact{"Build", build}, fact{"From", m.Base}, fact{"Class", m.MachineClass},
				fact{"Size", sized(m)},
				fact{"By", m.Owner}, fact{"Asked for", when(&m.AskedAt)}, fact{"Runs since", when(m.StartedAt)},
				fact{"Ran", ran(m)}, fact{"Cost", cost(m)}, fact{"Checkpoints", strings.Join(kept, "\n")},
				fact{"Is discarded", end}, fact{"Gone", when(m.GoneAt)})
			return nil
		}),
	}
}

func (a *app) createBuildMachine() *cobra.Command {
	var in client.NewBuildMachine
	var site string
	create := &cobra.Command{
		Use:   "create MACHINE --site SITE",
		Short: "Make a build machine from a version, a base disk or a host, and wait until it runs", Args: named,
		Long: "Make a build machine from a version, a base disk or a host, and wait until it runs.\n\nA host is " +
			"drained first. When nobody is on it any more its machine goes off and its disk is copied;\nit is out of " +
			"service then until it is rebuilt. Discard the build machine while it still waits, and the host\nis put " +
			"back to service.",
		Example: "  pane build-machine create bm-december --site south-quay --from 'counter-desk 2026.11.1'\n  pane " +
			"build-machine create bm-first --site south-quay --base-disk debian.qcow2 --class standard\n  pane " +
			"build-machine create bm-likes-it --from-host tc-007",
	}
	from := ""
	f := create.Flags()
	f.StringVar(&site, "site", "", "where it is made, if not at the site of its host")
	f.StringVar(&from, "from", "", "version that it is made from, such as 'counter-desk 2026.11.1'")
	f.StringVar(&in.BaseDisk, "base-disk", "", "disk in the site's storage that it is made from, such as debian.qcow2")
	f.StringVar(&in.Base, "base", "", "base that it is made from, by its name (pane base list)")
	f.StringVar(&in.Host, "from-host", "", "host that it is made from, which is drained and has to be rebuilt "+
		"afterwards")
	f.StringVar(&in.MachineClass, "class", "", "machine class, with --base or --base-disk")
	f.IntVar(&in.Cores, "cores", 0, "how many cores it has, if not as many as its class says")
	var memory, disk string
	f.StringVar(&memory, "memory", "", "how much memory it has, such as 8GiB, if not what its class says")
	f.StringVar(&disk, "disk", "", "how large its disk is, such as 40GiB, if not as what it is made from")
	f.StringVar(&in.Purpose, "for", "", "what it is for, in a few words")
	_ = create.RegisterFlagCompletionFunc("site", a.complete(siteNames))
	_ = create.RegisterFlagCompletionFunc("from-host", a.complete(hostNames))
	create.MarkFlagsOneRequired("site", "from-host")
	_ = create.RegisterFlagCompletionFunc("base", a.complete(baseNames))
	create.MarkFlagsOneRequired("from", "base", "base-disk", "from-host")
	create.MarkFlagsMutuallyExclusive("from", "base", "base-disk", "from-host")
	create.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		in.Name = args[0]
		for _, size := range []struct {
			flag, text string
			into       *int64
		}{{"memory", memory, &in.MemoryBytes}, {"disk", disk, &in.DiskBytes}} {
			if size.text == "" {
				continue
			}
			var err error
			if *size.into, err = estate.Bytes(size.text); err != nil {
				return usage("--%s: %s", size.flag, err)
			}
		}
		if from != "" {
			var ok bool
			if in.Image, in.Version, ok = strings.Cut(from, " "); !ok {
				return usage("--from %q: write image and number, such as 'counter-desk 2026.11.1'", from)
			}
		}
		var m client.BuildMachine
		begin := func(ctx context.Context) (err error) {
			m, err = c.CreateBuildMachine(ctx, site, in)
			return err
		}
		if in.Host != "" {
			h, err := c.Host(ctx, in.Host)
			if err != nil {
				return err
			}
			site = cmp.Or(site, h.Site)
			err = a.confirmed(ctx, begin, "Take host %s of pool %s (%s on it) out of service for build machine %s, "+
				"until "+
				"it is rebuilt?", h.Name, h.Pool, many(h.Sessions, "session"), in.Name)
			if err != nil {
				return err
			}
		} else if err := begin(ctx); err != nil {
			return err
		}
		m, err := a.waited(ctx, c, m)
		if err != nil {
			return err
		}
		return a.machineSettles(ctx, c, m)
	})
	return create
}

// waited waits until a machine is begun to be made that waits for its base, or for nobody to be on its host.
func (a *app) waited(ctx context.Context, c *client.Client, m client.BuildMachine) (client.BuildMachine, error) {
	said := ""
	for m.State == machine.Waiting {
		now := "Its base is brought to " + m.Site + "."
		if m.FromHost != "" {
			h, err := c.Host(ctx, m.FromHost)
			if err != nil {
				return m, err
			}
			now = fmt.Sprintf("Host %s is %s, with %s on it.", h.Name, h.State, many(h.Sessions, "session"))
		}
		if now != said {
			a.say("%s", now)
			said = now
		}
		if err := sleep(ctx, 300*time.Millisecond); err != nil {
			return m, err
		}
		var err error
		if m, err = c.BuildMachine(ctx, m.Site, m.Name); err != nil {
			return m, err
		}
	}
	return m, nil
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
