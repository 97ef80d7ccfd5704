package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/estate"
	"nimblepane/core/proof"
)

func (a *app) proof() *cobra.Command {
	cmd := &cobra.Command{
		Use: "proof", Short: "Machines that versions are tried out on, and that are thrown away",
		Long: "Machines that are made from a version as a host of a pool would be, and thrown away: to prove that it " +
			"starts\nand that what people use on it comes up (pane version prove, and every build), or for a person " +
			"to look at\n(pane version try).",
	}
	var of string
	var limit int
	all := &cobra.Command{
		Use: "list", Short: "Proofs, the newest first", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			image, number, ok := strings.Cut(of, " ")
			if of != "" && !ok {
				return usage("--of %q: write image and number, such as 'counter-desk 2026.11.1'", of)
			}
			rows, err := c.Proofs(ctx, image, number, limit)
			if err != nil {
				return err
			}
			return list(a, rows, "Nothing was proved yet. Begin with: pane version prove IMAGE NUMBER --site SITE",
				column[client.Proof]{"Proof", func(p client.Proof) string { return fmt.Sprint(p.ID) }},
				column[client.Proof]{"Version", func(p client.Proof) string { return p.Image + " " + p.Version }},
				column[client.Proof]{"At", func(p client.Proof) string { return p.Site }},
				column[client.Proof]{"State", func(p client.Proof) string { return coloured(p.State) }},
				column[client.Proof]{"First start", firstStart},
				column[client.Proof]{"By", func(p client.Proof) string { return p.AskedBy }},
				column[client.Proof]{"Since", func(p client.Proof) string { return when(&p.AskedAt) }},
				column[client.Proof]{"Until", func(p client.Proof) string { return cmp.Or(when(p.Until), "-") }},
				column[client.Proof]{"Why", func(p client.Proof) string { return p.Why }})
		}),
	}
	all.Flags().StringVar(&of, "of", "", "only of this version, such as 'counter-desk 2026.11.1'")
	all.Flags().IntVar(&limit, "limit", 50, "at most so many")
	show := &cobra.Command{
		Use: "show NUMBER", Short: "One proof with what was tried", Args: named,
		ValidArgsFunction: a.complete(proofIDs),
		RunE: a.onProof(func(ctx context.Context, c *client.Client, id int64, _ []string) error {
			p, err := c.Proof(ctx, id)
			if err != nil {
				return err
			}
			return a.showProof(p)
		}),
	}
	picture := &cobra.Command{
		Use:   "picture NUMBER FILE",
		Short: "Write the picture of the machine's display to a file (- for standard output)", Args: named,
		ValidArgsFunction: a.complete(proofIDs),
		RunE: a.onProof(func(ctx context.Context, c *client.Client, id int64, args []string) error {
			png, err := c.ProofPicture(ctx, id)
			if err != nil {
				return err
			}
			if args[0] == "-" {
				return write(a.out, png)
			}
			return os.WriteFile(args[0], png, 0o600)
		}),
	}
	var reason string
	letGo := &cobra.Command{
		Use: "let-go NUMBER", Short: "End a proof, and throw its machine away", Args: named,
		ValidArgsFunction: a.complete(proofIDs),
		RunE: a.onProof(func(ctx context.Context, c *client.Client, id int64, _ []string) error {
			p, err := c.LetGoOfProof(ctx, id, reason)
			if err != nil {
				return err
			}
			a.say("%s is thrown away.", p.Machine)
			return nil
		}),
	}
	letGo.Flags().StringVar(&reason, "reason", "", "why it is not needed any more")
	cmd.AddCommand(all, show, picture, letGo)
	return cmd
}

// onProof runs fn on the proof whose number is the first argument, with the others.
func (a *app) onProof(fn func(ctx context.Context, c *client.Client, id int64, args []string) error,
) func(*cobra.Command, []string) error {
	return a.run(func(ctx context.Context, c *client.Client, args []string) error {
		id, err := parseID(args[0], "proof")
		if err != nil {
			return err
		}
		return fn(ctx, c, id, args[1:])
	})
}

func proofIDs(ctx context.Context, c *client.Client, _ []string) ([]string, error) {
	rows, err := c.Proofs(ctx, "", "", 50)
	return names(rows, err, func(p client.Proof) string {
		return fmt.Sprintf("%d\t%s %s, %s", p.ID, p.Image, p.Version, p.State)
	})
}

func firstStart(p client.Proof) string {
	if p.FirstStart == 0 {
		return "-"
	}
	return estate.Span(time.Duration(p.FirstStart * float64(time.Second)).Round(time.Second))
}

// wentWell says that what was tried did.
var wentWell = map[string]string{proof.OfApplication: "came up", proof.OfProof: "went well"}

func (a *app) showProof(p client.WholeProof) error {
	if a.structured() {
		return a.object(p)
	}
	build, gone := "", ""
	if p.Build != 0 {
		build = fmt.Sprint(p.Build)
	}
	if p.Settled {
		gone = ", thrown away"
	}
	facts := []fact{
		{"Proof", fmt.Sprint(p.ID)},
		{"Version", p.Image + " " + p.Version},
		{"State", coloured(p.State)},
		{"Why", p.Why},
		{"Build", build},
		{"Machine", p.Machine + " at " + p.Site + gone},
		{"First start", firstStart(p.Proof)},
		{"Asked for", when(&p.AskedAt) + " by " + p.AskedBy},
		{"Kept until", when(p.Until)},
		{"Ended", when(p.EndedAt)},
	}
	if p.Picture {
		facts = append(facts, fact{"Picture", fmt.Sprintf("pane proof picture %d FILE", p.ID)})
	}
	a.facts(append(facts, machineFacts(p.Runs)...)...)
	if len(p.Results) == 0 {
		return nil
	}
	return a.showResults(p.Results)
}

// showResults shows what was tried on a machine.
func (a *app) showResults(results []client.ProofResult) error {
	return list(a, results, "",
		column[client.ProofResult]{"Tried", func(r client.ProofResult) string { return r.Name }},
		column[client.ProofResult]{"Kind", func(r client.ProofResult) string { return r.Kind }},
		column[client.ProofResult]{"Took", func(r client.ProofResult) string {
			return fmt.Sprintf("%.1f s", r.Seconds)
		}},
		column[client.ProofResult]{"Came to", func(r client.ProofResult) string {
			return cmp.Or(r.Why, wentWell[r.Kind])
		}})
}

// proveVersion is how a version's first start is proved by hand.
func (a *app) proveVersion() *cobra.Command {
	var site string
	var wait bool
	cmd := &cobra.Command{
		Use:   "prove IMAGE NUMBER --site SITE",
		Short: "Start a version on a machine that is thrown away, and try what is on it", Args: named,
		ValidArgsFunction: a.complete(imageNames, versionNumbers),
		Long: "Start a version once, before anybody relies on it: a machine is made of it as a host of a pool would " +
			"be, its agent\nhas to speak, its checks have to pass, and its applications have to come up. Then it is " +
			"thrown away. A first\nstart that failed takes clearance away. With --wait, exit code 0: it went well.",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Prove(ctx, args[0], args[1], site)
			if err != nil {
				return err
			}
			if !wait {
				a.say("Proving %s %s on %s. Follow it with: pane proof show %d", p.Image, p.Version, p.Machine, p.ID)
				return nil
			}
			return a.awaitProof(ctx, c, p, func(s proof.State) bool { return s.Ended() })
		}),
	}
	cmd.Flags().StringVar(&site, "site", "", "where")
	cmd.Flags().BoolVar(&wait, "wait", false, "wait until it has ended")
	_ = cmd.MarkFlagRequired("site")
	_ = cmd.RegisterFlagCompletionFunc("site", a.complete(siteNames))
	return cmd
}

// tryVersion is how somebody gets a machine of a version to look at.
func (a *app) tryVersion() *cobra.Command {
	var site string
	var keep time.Duration
	cmd := &cobra.Command{
		Use: "try IMAGE NUMBER --site SITE", Short: "Make a machine of a version to look at, which goes by itself",
		Args: named, ValidArgsFunction: a.complete(imageNames, versionNumbers),
		Example: "  pane version try counter-desk 2026.11.4 --site north-quay --for 2h",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.TryVersion(ctx, args[0], args[1], client.TryMachine{
				Site: site, Seconds: int64(keep / time.Second),
			})
			if err != nil {
				return err
			}
			return a.awaitProof(ctx, c, p, func(s proof.State) bool { return s.Ended() || s == proof.Kept })
		}),
	}
	cmd.Flags().StringVar(&site, "site", "", "where it is made")
	cmd.Flags().DurationVar(&keep, "for", 2*time.Hour, "for how long it is kept, at most 168h")
	_ = cmd.MarkFlagRequired("site")
	_ = cmd.RegisterFlagCompletionFunc("site", a.complete(siteNames))
	return cmd
}

// awaitProof waits until a proof is so, and shows it.
func (a *app) awaitProof(ctx context.Context, c *client.Client, p client.WholeProof, is func(proof.State) bool) (
	err error,
) {
	progress := a.newProgress()
	for !is(p.State) {
		progress.show("%s is %s", p.Machine, p.State)
		if err := sleep(ctx, 300*time.Millisecond); err != nil {
			progress.end()
			return err
		}
		if p, err = c.Proof(ctx, p.ID); err != nil {
			progress.end()
			return err
		}
	}
	progress.end()
	if err := a.showProof(p); err != nil {
		return err
	}
	if p.State == proof.Failed {
		return &badOutcome{fmt.Sprintf("%s %s: %s", p.Image, p.Version, p.Why)}
	}
	return nil
}
