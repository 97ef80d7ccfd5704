package cli_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/cli"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

func TestNoMessageOfALibraryReachesAUser(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	for want, args := range map[string][]string{
		"--branch and --tag cannot be given together": {
			"sheet", "follow", "desk", "https://git.ferries.example/d.git", "--file", "d.yaml", "--branch", "a",
			"--tag", "b",
		},
		"give --reason":                           {"rollback", "counter-desk", "2026.11.1"},
		"there is no option --poll":               {"host", "list", "--poll", "x"},
		"there is no option -z":                   {"host", "list", "-z"},
		"the option --pool needs a value":         {"host", "list", "--pool"},
		"the option -o needs a value":             {"host", "list", "-o"},
		`--wide "maybe": write true or false`:     {"host", "list", "--wide=maybe"},
		`--limit "many": write a whole number`:    {"trail", "list", "--limit", "many"},
		"there is no file /nonexistent/desk.yaml": {"sheet", "check", "/nonexistent/desk.yaml"},
		"/ is a folder":                           {"sheet", "check", "/"},
		`"ferries:7700" is no address of a service: write http:// or https:// with a host`: {
			"--url", "ferries:7700", "host", "list",
		},
	} {
		out, code := pane(t, s, role.Viewer, args...)
		require.Equal(t, cli.ExitUsage, code, "%s: %s", args, out)
		require.Contains(t, out, want)
	}
}
