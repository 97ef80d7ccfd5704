package cli

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"nimblepane/client"
)

// named checks the arguments of a command against those that its usage names,
// which are in capitals before the first flag: "pin POOL NUMBER", "drain HOST...".
func named(cmd *cobra.Command, args []string) error {
	var wanted []string
	open := false
	for _, w := range strings.Fields(cmd.Use)[1:] {
		if w == "--" {
			continue // what follows belongs to another program
		}
		if strings.HasPrefix(w, "-") {
			break
		}
		if strings.HasPrefix(w, "[") {
			open = true
			continue
		}
		wanted = append(wanted, strings.TrimSuffix(w, "..."))
		open = open || strings.HasSuffix(w, "...")
	}
	switch {
	case len(args) < len(wanted):
		verb := "is"
		if len(wanted)-len(args) > 1 {
			verb = "are"
		}
		return usage("%s %s missing; write it as: %s", strings.Join(wanted[len(args):], " and "), verb,
			strings.TrimSpace(cmd.Parent().CommandPath()+" "+cmd.Use))
	case len(args) > len(wanted) && !open:
		return usage("%q is one too many; write it as: %s", args[len(wanted)],
			strings.TrimSpace(cmd.Parent().CommandPath()+" "+cmd.Use))
	}
	return nil
}

// many writes a number of things: "1 host", "3 hosts".
func many(n int, thing string) string { return english.Plural(n, thing, "") }

// drift says how many hosts of a pool run another version than they should.
func drift(p client.Pool) string {
	return fmt.Sprintf("%d of %s %s", p.Drifting, many(p.Hosts, "host"),
		english.PluralWord(p.Drifting, "drifts", "drift"))
}
