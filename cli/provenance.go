package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/provenance"
)

func (a *app) versionProvenance() *cobra.Command {
	var document string
	cmd := &cobra.Command{
		Use: "provenance IMAGE NUMBER", Short: "How a version was made: from what, by which steps, on whose word",
		Args: named, ValidArgsFunction: a.complete(imageNames, versionNumbers),
		Long: "How a version was made: from what, by which steps, on whose word, and what its seal checks found. " +
			"With --document it is\n" +
			"written to a file as it was signed: an in-toto statement with a SLSA provenance, in a DSSE envelope.",
	}
	cmd.Flags().StringVar(&document, "document", "", "file to write the signed envelope to, - to print it")
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		if document != "" {
			content, err := c.ProvenanceDocument(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			return a.keep(document, content)
		}
		p, err := c.Provenance(ctx, args[0], args[1])
		if err != nil {
			return err
		}
		if a.structured() {
			return a.object(p)
		}
		if a.output == "csv" {
			return list(a, p.From, "",
				column[provenance.Thing]{"Made from", func(t provenance.Thing) string { return t.Name }},
				column[provenance.Thing]{"Address", func(t provenance.Thing) string { return t.URI }},
				column[provenance.Thing]{"SHA-256", func(t provenance.Thing) string { return t.SHA256 }})
		}
		made := "captured by hand"
		switch {
		case p.BySheet && p.Manual:
			made = "by a build sheet, with manual work"
		case p.BySheet:
			made = "by a build sheet"
		}
		a.facts(append([]fact{
			{"Version", p.Image + " " + p.Number},
			{"Made", made},
			{"By", p.Builder},
			{"As", p.Run},
			{"Began", when(&p.Began)},
			{"Ended", when(&p.Ended)},
			{"Disk", p.Digest},
			{"Made from", thingLines(p.From)},
			{"Came of it", thingLines(p.Brought)},
		}, append(told(p), fact{"Signed with", p.KeyID}, fact{"Not to be trusted", strings.Join(p.Wrong, "\n")})...)...)
		return nil
	})
	return cmd
}

func thingLines(things []provenance.Thing) string {
	var lines []string
	for _, t := range things {
		line := t.Name
		if t.URI != "" {
			line += " from " + t.URI
		}
		if t.SHA256 != "" {
			line += " (sha256 " + t.SHA256[:min(12, len(t.SHA256))] + "...)"
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

// told is what was said and done, in lines. What is signed is a document, whose values may be anything.
func told(p client.Provenance) (facts []fact) {
	text := func(of map[string]any, name string) string {
		s, _ := of[name].(string)
		return s
	}
	sheet, _ := p.Told["sheet"].(map[string]any)
	facts = append(facts, fact{"Captured by", text(p.Told, "captured_by")}, fact{"Started by", text(p.Told,
		"started_by")},
		fact{"Schedule", text(p.Told, "schedule")}, fact{"Sheet", text(sheet, "name")},
		fact{"Sheet's digest", text(sheet, "sha256")}, fact{"Commit", text(sheet, "commit")})
	if values, is := p.Told["parameters"].(map[string]any); is {
		var lines []string
		for _, name := range slices.Sorted(maps.Keys(values)) {
			lines = append(lines, fmt.Sprintf("%s = %v", name, values[name]))
		}
		facts = append(facts, fact{"Parameters", strings.Join(lines, "\n")})
	}
	lines := func(name string, line func(map[string]any) string) string {
		var all []string
		rows, _ := p.Did[name].([]any)
		for _, r := range rows {
			if row, is := r.(map[string]any); is {
				all = append(all, line(row))
			}
		}
		return strings.Join(all, "\n")
	}
	return append(facts,
		fact{"Steps", lines("steps", func(s map[string]any) string {
			line := text(s, "name") + ": " + text(s, "does")
			if result := text(s, "result"); result != "" && result != "succeeded" {
				line += " (" + strings.TrimSuffix(result+": "+text(s, "failure"), ": ") + ")"
			}
			return line
		})},
		fact{"Manual work", lines("manual_work", func(w map[string]any) string {
			line := strings.Join([]string{text(w, "at"), text(w, "actor"), text(w, "act")}, " ")
			detail, _ := w["detail"].(map[string]any)
			for _, name := range slices.Sorted(maps.Keys(detail)) {
				line += fmt.Sprintf(" %s=%v", name, detail[name])
			}
			if reason := text(w, "reason"); reason != "" {
				line += ": " + reason
			}
			return line
		})},
		fact{"Seal checks", lines("seal_checks", func(f map[string]any) string {
			line := fmt.Sprintf("%s %s: %s", text(f, "check"), text(f, "severity"), text(f, "evidence"))
			if waived := text(f, "waived"); waived != "" {
				line += "; passed over: " + waived
			}
			return line
		})})
}

func (a *app) signingKeys() *cobra.Command {
	return &cobra.Command{
		Use: "keys", Short: "The public keys that versions are signed with, or were, in PEM form", Args: named,
		Long: "The public keys that versions are signed with, or were, in PEM form, the newest first. Keep them with " +
			"what you keep\nelsewhere: whoever has one can verify a version without the service.",
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			text, err := c.SigningKeys(ctx)
			if err != nil {
				return err
			}
			return write(a.out, text)
		}),
	}
}

// verdict is what a version was verified as.
type verdict struct {
	Version  string   `json:"version"`
	Trusted  bool     `json:"trusted"`
	Wrong    []string `json:"wrong"`
	KeyID    string   `json:"key_id"`
	Digest   string   `json:"digest"`
	Disk     string   `json:"disk,omitempty"` // that was held against it
	Builder  string   `json:"builder,omitempty"`
	Run      string   `json:"run,omitempty"`
	Verified string   `json:"verified_by"`
}

func (a *app) verifyVersion() *cobra.Command {
	var document, keys, disk string
	cmd := &cobra.Command{
		Use: "verify [IMAGE NUMBER]", Short: "Verify how a version was made, and that a disk is its",
		Long: "Verify that the provenance of a version was signed by the service and says what its records say. With " +
			"--document and\n" +
			"--keys it is verified here, from files, without any service. With --disk a file is read as well, and " +
			"has to be the\n" +
			"disk that the version was sealed with.\n\n" +
			"It ends with exit code 7 if something is not as it should be.",
		Example: "  pane version verify counter-desk 2026.11.3\n  pane version keys > keys.pem\n" +
			"  pane version verify --document counter-desk.intoto.json --keys keys.pem --disk desk.qcow2",
		ValidArgsFunction: a.complete(imageNames, versionNumbers),
	}
	f := cmd.Flags()
	f.StringVar(&document, "document", "", "file with the signed envelope, to verify it without a service")
	f.StringVar(&keys, "keys", "", "file with the service's public keys, in PEM form")
	f.StringVar(&disk, "disk", "", "file that has to be the version's disk")
	cmd.RunE = func(cmd *cobra.Command, args []string) (err error) {
		v := verdict{Wrong: []string{}}
		switch {
		case (document == "") != (keys == ""):
			return usage("--document and --keys belong together: without a service both are needed")
		case document != "" && len(args) > 0:
			return usage("with --document the file says which version it is about: leave out %s", strings.Join(args,
				" "))
		case document != "":
			err = v.here(document, keys)
		case len(args) != 2:
			return usage("say which version: pane version verify IMAGE NUMBER, or give --document and --keys")
		default:
			err = a.run(func(ctx context.Context, c *client.Client, args []string) error {
				p, err := c.Provenance(ctx, args[0], args[1])
				v = verdict{
					Version: p.Image + " " + p.Number, Wrong: p.Wrong, KeyID: p.KeyID, Digest: p.Digest,
					Builder: p.Builder,
					Run:     p.Run, Verified: "the service",
				}
				return err
			})(cmd, args)
		}
		if err == nil && disk != "" && v.KeyID != "" {
			err = v.holds(disk)
		}
		if err != nil {
			return err
		}
		v.Trusted = len(v.Wrong) == 0
		return a.verified(v)
	}
	return cmd
}

// here verifies a signed envelope from files.
func (v *verdict) here(document, keys string) error {
	text, err := os.ReadFile(keys)
	if err != nil {
		return err
	}
	public, err := provenance.PublicKeys(text)
	if err != nil {
		return usage("--keys %s: %s", keys, err)
	}
	envelope, err := os.ReadFile(document)
	if err != nil {
		return err
	}
	v.Version, v.Verified = document, "this computer"
	p, err := provenance.Verify(envelope, public)
	if err != nil {
		v.Wrong = append(v.Wrong, err.Error())
		return nil
	}
	v.Version, v.KeyID, v.Digest = p.Version.Name, p.KeyID, "sha256:"+p.Version.SHA256
	v.Builder, v.Run = p.Builder, p.Run
	return nil
}

// holds reads a disk, which has to have the digest.
func (v *verdict) holds(disk string) error {
	f, err := os.Open(disk)
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return err
	}
	v.Disk = disk
	if is := "sha256:" + hex.EncodeToString(sum.Sum(nil)); is != v.Digest {
		v.Wrong = append(v.Wrong, fmt.Sprintf("%s has the digest %s, and the version was sealed with %s", disk, is,
			v.Digest))
	}
	return nil
}

func (a *app) verified(v verdict) error {
	if a.structured() {
		if err := a.object(v); err != nil {
			return err
		}
	} else if v.Trusted {
		a.say("%s is what it says it is: signed with key %s, verified by %s.", Plain(v.Version), v.KeyID, v.Verified)
		a.facts(fact{"Disk", v.Digest}, fact{"Made by", Plain(v.Builder)}, fact{"As", Plain(v.Run)})
		if v.Disk != "" {
			a.say("%s is its disk.", v.Disk)
		}
	}
	if v.Trusted {
		return nil
	}
	return &badOutcome{fmt.Sprintf("%s is not to be trusted: %s", Plain(v.Version),
		Plain(strings.Join(v.Wrong, "; ")))}
}
