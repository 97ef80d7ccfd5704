package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/seal"
)

const (
	checkLong = "Look from inside whether the machine is fit to be sealed. What blocks has to be mended or waived " +
		"before a\nversion is made of it, what warns is kept with the version. Exit code 0 says that nothing blocks."
	repairUsage = "offer to repair what can be repaired safely, after saying what will be done"
)

// checkMachine makes the seal checks on a machine, shows what they found, and offers to repair what can be.
func (a *app) checkMachine(ctx context.Context, c *client.Client, site, machine string, repair bool) error {
	found, err := a.checked(ctx, c, site, machine)
	if err != nil {
		return err
	}
	if repair {
		repaired := false
		for _, f := range found.Findings {
			if f.Repair == "" || f.Waived != "" {
				continue
			}
			if err := a.repair(ctx, c, site, machine, f, &repaired); err != nil {
				return err
			}
		}
		if repaired {
			if found, err = a.checked(ctx, c, site, machine); err != nil {
				return err
			}
		}
	}
	if err := a.findings(found); err != nil {
		return err
	}
	if n := blocking(found); n > 0 {
		return &badOutcome{fmt.Sprintf("%s is not fit to be sealed: %s %s", machine, many(n, "finding"),
			english.PluralWord(n, "blocks", "block"))}
	}
	return nil
}

// repair repairs one finding, if whoever is asked agrees. Each repair is held against a check that was made after the
// one before it.
func (a *app) repair(ctx context.Context, c *client.Client, site, machine string, f client.SealFinding,
	repaired *bool,
) error {
	if err := a.ask("%s: %s. Repair it? That will %s.", f.Check, f.Evidence, f.Repair); err != nil {
		a.say("%s is left as it is.", f.Check)
		return nil
	}
	if *repaired {
		now, err := a.checked(ctx, c, site, machine)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(now.Findings, func(o client.SealFinding) bool { return o.Check == f.Check }) {
			return nil
		}
	}
	m, err := c.RepairBuildMachine(ctx, site, machine, f.Check)
	for err == nil && m.State.Changing() {
		if err = sleep(ctx, 300*time.Millisecond); err == nil {
			m, err = c.BuildMachine(ctx, site, machine)
		}
	}
	if err == nil && m.Why != "" {
		err = &badOutcome{m.Why}
	}
	*repaired = true
	return err
}

// checked has the seal checks made and waits for what they find.
func (a *app) checked(ctx context.Context, c *client.Client, site, machine string) (found client.MachineCheck,
	err error,
) {
	p := a.newProgress()
	defer p.end()
	found, err = c.CheckBuildMachine(ctx, site, machine)
	for err == nil && found.State == build.UnderWay {
		p.show("checking %s: %s", machine, found.Why)
		if err = sleep(ctx, 300*time.Millisecond); err == nil {
			found, err = c.MachineCheck(ctx, site, machine)
		}
	}
	if err == nil && found.State == build.TaskFailed {
		err = &badOutcome{fmt.Sprintf("the seal checks could not be made on %s: %s", machine, found.Why)}
	}
	return found, err
}

// findings shows what seal checks found.
func (a *app) findings(found client.MachineCheck) error {
	if a.output != "table" && a.structured() {
		return a.object(found)
	}
	if len(found.Findings) == 0 {
		a.say("The seal checks found nothing.")
		return nil
	}
	return list(a, found.Findings, "",
		column[client.SealFinding]{"Check", func(f client.SealFinding) string { return f.Check }},
		column[client.SealFinding]{"It", func(f client.SealFinding) string {
			if f.Waived != "" {
				return "is waived"
			}
			return coloured(f.Severity)
		}},
		column[client.SealFinding]{"Found", func(f client.SealFinding) string { return f.Evidence }},
		column[client.SealFinding]{"What to do", func(f client.SealFinding) string {
			switch {
			case f.Waived != "":
				return "passed over: " + f.Waived
			case f.Repair != "":
				return f.Remedy + " (--repair will " + f.Repair + ")"
			}
			return f.Remedy
		}})
}

func blocking(found client.MachineCheck) (n int) {
	for _, f := range found.Findings {
		if f.Blocking() {
			n++
		}
	}
	return n
}

func (a *app) checkBuild() *cobra.Command {
	var repair bool
	cmd := &cobra.Command{
		Use: "check NUMBER", Short: "Make the seal checks on the machine of a build now, and show what they find",
		Args: named, ValidArgsFunction: a.complete(buildIDs), Long: checkLong,
		RunE: a.onBuild(func(ctx context.Context, c *client.Client, id int64) error {
			b, err := c.Build(ctx, id)
			if err != nil {
				return err
			}
			return a.checkMachine(ctx, c, b.Site, b.Machine, repair)
		}),
	}
	cmd.Flags().BoolVar(&repair, "repair", false, repairUsage+"; of a build whose machine is held")
	return cmd
}

// checkBefore makes the seal checks on a machine that a version is to be captured from, unless they were made since it
// was last worked on. What blocks and is not waived is shown, and ends the capture before it begins.
func (a *app) checkBefore(ctx context.Context, c *client.Client, in client.Capture) error {
	machines, err := c.BuildMachines(ctx, in.Site, "", false, 200)
	if err != nil || in.Unchecked != "" {
		return err
	}
	i := slices.IndexFunc(machines, func(m client.BuildMachine) bool { return m.Name == in.BuildMachine })
	if i < 0 || machines[i].Build != 0 {
		return nil // the service says what is to be said
	}
	m := machines[i]
	found, err := c.MachineCheck(ctx, m.Site, m.Name)
	if err != nil {
		return err
	}
	if found.Stale || found.State != build.Done {
		if found, err = a.checked(ctx, c, m.Site, m.Name); err != nil {
			return err
		}
	}
	for i := range found.Findings {
		found.Findings[i].Waived = in.Waive[found.Findings[i].Check]
	}
	if err := a.findings(found); err != nil {
		return err
	}
	if blocking(found) > 0 {
		return &badOutcome{fmt.Sprintf("%s is not fit to be sealed: mend what blocks (pane build-machine check %s %s "+
			"--repair), or waive it (--waive %s=REASON)", m.Name, m.Site, m.Name, seal.SecretsLeft)}
	}
	return nil
}
