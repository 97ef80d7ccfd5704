package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/proof"
)

// finishing is what somebody decides who makes a version of a build machine.
type finishing struct {
	image, endOfLife string
	then             string // keep, discard, or the name of a checkpoint
	client.Capture
}

// What becomes of a build machine afterwards, beside going back to a checkpoint.
const (
	thenKeep    = "keep"
	thenDiscard = "discard"
)

// finish makes a version of a build machine in one guided act.
func (a *app) finish(here func(context.Context, *client.Client, []string) ([]string, error)) *cobra.Command {
	in := finishing{}
	cmd := &cobra.Command{
		Use: "finish SITE MACHINE", Short: "Make a version of a build machine, step by step", Args: named,
		ValidArgsFunction: a.complete(here, here),
		Long: "Make a version of a build machine, step by step: the seal checks are made, what can be repaired is " +
			"repaired if\nyou agree, what blocks is passed over for a reason or keeps it from being sealed; then the " +
			"version gets its\nnumber, notes and end-of-life, it is sealed and captured, and its copies are " +
			"delivered. What becomes of the\nmachine afterwards is asked once. With --yes nothing is asked, and the " +
			"options below say what differs from\nwhat is usual.",
		Example: "  pane build-machine finish north-quay bm-december",
	}
	f := cmd.Flags()
	f.StringVar(&in.image, "image", "", "image that it is a version of (default: that of its base)")
	f.StringVar(&in.Number, "number", "", "number of the version (default: the next one)")
	f.StringVar(&in.Notes, "notes", "", "what is new in it (default: what was noted on the machine)")
	f.StringVar(&in.endOfLife, "end-of-life", "", "until when it may be used, such as 2027-05-31")
	f.StringSliceVar(&in.Tags, "tag", nil, "tag, may be given several times")
	f.StringToStringVar(&in.Waive, "waive", nil, "pass over what a seal check finds, as CHECK=REASON, may be given "+
		"several times")
	f.BoolVar(&in.Prove, "prove", true, "prove its first start, on a machine that is thrown away")
	f.StringVar(&in.then, "then", thenKeep, "what becomes of the machine: keep, discard, or the name of a checkpoint")
	_ = cmd.RegisterFlagCompletionFunc("image", a.complete(imageNames))
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		m, err := c.BuildMachine(ctx, args[0], args[1])
		if err != nil {
			return err
		}
		in.Site, in.BuildMachine = m.Site, m.Name
		img, err := imageOf(ctx, c, m, in.image)
		if err != nil {
			return err
		}
		if err := a.fit(ctx, c, &in); err != nil {
			return err
		}
		if err := a.described(cmd, m, img, &in); err != nil {
			return err
		}
		return a.finished(ctx, c, img, in)
	})
	return cmd
}

// imageOf is the image that a machine is made into a version of: one that is named, that of its base, or the only one
// of its class.
func imageOf(ctx context.Context, c *client.Client, m client.BuildMachine, name string) (client.Image, error) {
	images, err := c.Images(ctx)
	if err != nil {
		return client.Image{}, err
	}
	base, _, _ := strings.Cut(m.Base, " ")
	var fit []client.Image
	for _, i := range images {
		switch {
		case name == i.Name, name == "" && base == i.Name:
			return i, nil
		case i.MachineClass == m.MachineClass:
			fit = append(fit, i)
		}
	}
	if name == "" && len(fit) == 1 {
		return fit[0], nil
	}
	names := make([]string, len(images))
	for i, img := range images {
		names[i] = img.Name
	}
	return client.Image{}, usage("say with --image what it is a version of: %s", strings.Join(names, ", "))
}

// fit makes the seal checks, repairs what can be, and asks for a reason to pass over what blocks still.
func (a *app) fit(ctx context.Context, c *client.Client, in *finishing) error {
	found, err := a.checked(ctx, c, in.Site, in.BuildMachine)
	if err != nil {
		return err
	}
	repaired := false
	for _, f := range found.Findings {
		if _, waived := in.Waive[f.Check]; f.Repair == "" || waived {
			continue
		}
		if err := a.repair(ctx, c, in.Site, in.BuildMachine, f, &repaired); err != nil {
			return err
		}
	}
	if repaired {
		if found, err = a.checked(ctx, c, in.Site, in.BuildMachine); err != nil {
			return err
		}
	}
	if a.output == "table" {
		if err := a.findings(found); err != nil {
			return err
		}
	}
	in.Waive = maps.Clone(in.Waive)
	if in.Waive == nil {
		in.Waive = map[string]string{}
	}
	for _, f := range found.Findings {
		if _, waived := in.Waive[f.Check]; waived || !f.Blocking() {
			continue
		}
		reason := a.prompt(fmt.Sprintf("%s blocks: %s. Why is it passed over? Nothing to stop here.", f.Check,
			f.Evidence), "")
		if reason == "" {
			return &badOutcome{fmt.Sprintf("%s is not fit to be sealed: %s: %s; %s", in.BuildMachine, f.Check,
				f.Evidence, f.Remedy)}
		}
		in.Waive[f.Check] = reason
	}
	return nil
}

// described asks for what was not said by options.
func (a *app) described(cmd *cobra.Command, m client.BuildMachine, img client.Image, in *finishing) (err error) {
	ask := func(flag, question, usual string, value *string) {
		if !cmd.Flags().Changed(flag) {
			*value = a.prompt(question, usual)
		}
	}
	ask("number", "Number of the version?", img.NextNumber, &in.Number)
	noted := make([]string, len(m.Notes))
	for i, n := range m.Notes {
		noted[i] = n.Text
	}
	ask("notes", "What is new in it?", strings.Join(noted, "; "), &in.Notes)
	ask("end-of-life", "Until when may it be used?", "", &in.endOfLife)
	choices := []string{thenKeep, thenDiscard}
	for _, c := range m.Checkpoints {
		choices = append(choices, c.Name)
	}
	ask("then", "What becomes of the machine afterwards: "+strings.Join(choices, ", ")+"?", thenKeep, &in.then)
	if !slices.Contains(choices, in.then) {
		return usage("%q is none of what can become of the machine: %s", in.then, strings.Join(choices, ", "))
	}
	switch in.then {
	case thenKeep:
	case thenDiscard:
		in.Discard = true
	default:
		in.BackTo = in.then
	}
	in.EndOfLife, err = parseDay(in.endOfLife)
	return err
}

// finished captures the machine and waits until its version is there.
func (a *app) finished(ctx context.Context, c *client.Client, img client.Image, in finishing) error {
	becomes := map[string]string{thenKeep: "is kept", thenDiscard: "is discarded"}[in.then]
	if becomes == "" {
		becomes = fmt.Sprintf("goes back to %q, and what was done on it since is lost", in.then)
	}
	var v client.Version
	err := a.confirmed(ctx, func(ctx context.Context) (err error) {
		v, err = c.Capture(ctx, img.Name, in.Capture)
		return err
	}, "Make %s %s of %s, which %s then?", img.Name, in.Number, in.BuildMachine, becomes)
	if err != nil {
		return err
	}
	if v, err = a.awaitCapture(ctx, c, v); err != nil {
		return err
	}
	if in.Prove {
		rows, err := c.Proofs(ctx, v.Image, v.Number, 1)
		if err != nil {
			return err
		}
		for _, p := range rows {
			if err := a.awaitProof(ctx, c, client.WholeProof{Proof: p},
				func(s proof.State) bool { return s.Ended() }); err != nil {
				return err
			}
		}
	}
	a.say("%s %s is there. Next: pane stage %s %s", v.Image, v.Number, v.Image, v.Number)
	if a.output != "table" {
		return a.showVersion(ctx, c, v)
	}
	return nil
}
