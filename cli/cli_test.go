package cli_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"

	"nimblepane/cli"
	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

// pane runs a command as the account of a role, and returns its output and exit code.
func pane(t *testing.T, s *servicetest.Service, as role.Role, args ...string) (string, int) {
	t.Helper()
	return typed(t, "", append([]string{"--url", s.URL, "--token", s.Token(as)}, args...)...)
}

func typed(t *testing.T, input string, args ...string) (string, int) {
	t.Helper()
	var out bytes.Buffer
	cmd := cli.New("test")
	cmd.SetArgs(args)
	cmd.SetIn(strings.NewReader(input))
	cmd.SetOut(&out)
	cmd.SetErr(&out)
	code := cli.Report(cmd, cmd.ExecuteContext(context.Background()), &out)
	return out.String(), code
}

func TestAMonthsWorkAtTheCommandLine(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	one := s.Live("back-office")
	run := func(as role.Role, code int, want string, args ...string) string {
		t.Helper()
		out, got := pane(t, s, as, args...)
		require.Equal(t, code, got, out)
		require.Contains(t, out, want)
		return out
	}
	out := run(role.Operator, 0, "is sealed and its copies are delivered", "capture", "counter-desk", "--from",
		"bm-counter", "--notes", "winter timetable", "--tag", "winter", "--end-of-life", "2031-05-31", "--wait")
	two := strings.Fields(out)[2]
	run(role.Viewer, 0, "winter timetable", "version", "show", "counter-desk", two)
	run(role.Approver, cli.ExitRefused, "testers: 0 of 1", "activate", "counter-desk", two, "--yes")
	run(role.Operator, 0, "Production has not moved", "stage", "counter-desk", two)
	run(role.Operator, 0, "finished", "rollover", "start", "--pool", "ticket-pilot", "--batch", "100%", "--floor", "0",
		"--follow", "--yes")
	run(role.Operator, cli.ExitUsage, "--pass or --fail", "trial", "sign", "counter-desk", two)
	run(role.Operator, 0, "1 of 1 tester said yes: operator", "trial", "sign", "counter-desk", two, "--pass")
	run(role.Approver, 0, "4 of 4 hosts drift", "activate", "counter-desk", two, "--yes")
	run(role.Viewer, 0, "not rolled over yet", "drift", "--pool", "back-office")
	run(role.Viewer, 0, "4 of 4 hosts of back-office drift", "today")
	run(role.Operator, 0, "finished", "rollover", "start", "--pool", "back-office", "--batch", "2", "--floor", "0",
		"--follow", "--yes")
	run(role.Viewer, 0, "finished", "rollover", "list", "--pool", "back-office")
	run(role.Viewer, 0, "No host drifts.", "drift", "--pool", "back-office")
	out = run(role.Approver, 0, two+" is barred: printers", "rollback", "counter-desk", two, "--reason", "printers",
		"--yes")
	require.Contains(t, out, one+" again")
	run(role.Approver, 0, "counter-desk is already rolled back from "+two+" to "+one, "rollback", "counter-desk", two,
		"--reason", "printers", "--yes")
	run(role.Approver, cli.ExitNotFound, `version "1999.01.1" of image counter-desk`, "rollback", "counter-desk", "1999.01.1", "--reason",
		"printers", "--yes")
	run(role.Approver, 0, two+" is no longer blocked", "version", "unblock", "counter-desk", two, "--reason",
		"it was the printer", "--yes")
	run(role.Viewer, 0, "image.rollback", "trail", "list", "--actor", "approver")
	run(role.Viewer, 0, "The trail is whole.", "trail", "verify")

	file := filepath.Join(t.TempDir(), "trail.jsonl")
	run(role.Viewer, 0, "", "trail", "export", "--to-file", file)
	out, code := typed(t, "", "trail", "verify", "--file", file)
	require.Equal(t, 0, code, out)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, bytes.Replace(text, []byte("printers"), []byte("seagulls"), 1), 0o600))
	out, code = typed(t, "", "trail", "verify", "--file", file)
	require.Equal(t, cli.ExitBad, code, out)
	require.Contains(t, out, "was altered")

	last := regexp.MustCompile(`the hash of the last is ([0-9a-f]{64})`).FindStringSubmatch(out)[1]
	run(role.Viewer, 0, "came after it", "trail", "verify", "--expect", last)
	run(role.Viewer, cli.ExitUsage, "is no hash", "trail", "verify", "--expect", "x")
	run(role.Viewer, cli.ExitBad, "the end of the trail was cut off", "trail", "verify", "--expect",
		strings.Repeat("0", 64))
	filtered := filepath.Join(t.TempDir(), "filtered.jsonl")
	run(role.Viewer, 0, "", "trail", "export", "--verb", "version.activate", "--to-file", filtered)
	out, code = typed(t, "", "trail", "verify", "--file", filtered)
	require.Equal(t, cli.ExitBad, code, out)
	require.Contains(t, out, "the export is filtered, or entries were removed")
	require.NotContains(t, out, "somebody changed it")
	require.NoError(t, os.WriteFile(filtered, []byte("no export"), 0o600))
	out, _ = typed(t, "", "trail", "verify", "--file", filtered)
	require.Contains(t, out, "entry 1 cannot be read")
}

func TestOutputForPrograms(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	out, code := pane(t, s, role.Viewer, "pool", "list", "-o", "json")
	require.Zero(t, code)
	var pools []client.Pool
	require.NoError(t, json.Unmarshal([]byte(out), &pools))
	require.Len(t, pools, 4)
	out, _ = pane(t, s, role.Viewer, "pool", "show", "back-office", "-o", "yaml")
	var pool map[string]any
	require.NoError(t, yaml.Unmarshal([]byte(out), &pool))
	require.Equal(t, "back-office", pool["name"])
	out, _ = pane(t, s, role.Viewer, "host", "list", "--pool", "back-office", "-o", "csv")
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 5)
	require.Equal(t, "host", rows[0][0])
	require.Equal(t, "bo-001", rows[1][0])
	out, code = pane(t, s, role.Viewer, "pool", "list", "-o", "xml")
	require.Equal(t, cli.ExitUsage, code)
	require.Contains(t, out, "table, json, yaml or csv")
}

func TestExitCodesSayWhatSortOfFailureItIs(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	for _, tc := range []struct {
		as   role.Role
		args []string
		code int
		want string
	}{
		{role.Viewer, []string{"pool", "show", "tea-room"}, cli.ExitNotFound, `pool "tea-room": not found`},
		{role.Viewer, []string{"host", "drain", "bo-001"}, cli.ExitNotYou, "this needs operator"},
		{role.Operator, []string{"host", "drain", "bo-001"}, cli.ExitRefused, "only a serving host"},
		{
			role.Operator,
			[]string{"rollover", "start", "--pool", "back-office", "--batch", "101%"},
			cli.ExitRefused,
			"stage or activate a version first",
		},
		{role.Operator, []string{"rollover", "show", "first"}, cli.ExitUsage, "not the number of a rollover"},
		{role.Operator, []string{"rollover", "start"}, cli.ExitUsage, "pool"},
		{
			role.Operator,
			[]string{"capture", "counter-desk", "--from", "bm-counter", "--end-of-life", "May"},
			cli.ExitUsage, "2027-05-31",
		},
		{role.Viewer, []string{"fly"}, cli.ExitUsage, "unknown command"},
		{role.Viewer, []string{"estate", "load", "/no/such/file"}, cli.ExitUsage, "there is no file"},
	} {
		out, code := pane(t, s, tc.as, tc.args...)
		require.Equal(t, tc.code, code, "%v: %s", tc.args, out)
		require.Contains(t, out, tc.want)
	}
	out, code := typed(t, "", "--url", "http://127.0.0.1:1", "--token", "x", "today")
	require.Equal(t, cli.ExitNoAnswer, code, out)
}

func TestAQuestionIsAskedBeforeWhatCannotBeUndone(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	number := s.Captured("counter-desk", "bm-counter")
	args := []string{
		"--url", s.URL, "--token", s.Token(role.Approver), "version", "bar", "counter-desk", number,
		"--reason", "printers",
	}
	out, code := typed(t, "n\n", args...)
	require.Equal(t, cli.ExitRefused, code)
	require.Contains(t, out, "nothing was done")
	out, code = typed(t, "y\n", args...)
	require.Zero(t, code, out)
	require.Contains(t, out, "is blocked")
}

func TestAMalformedEstateFileIsExplainedWithLines(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	file := filepath.Join(t.TempDir(), "estate.yaml")
	require.NoError(t, os.WriteFile(file, []byte("sites:\n  - name: North\n    platform: cloud\n    address: x\n"),
		0o600))
	out, code := pane(t, s, role.Administrator, "estate", "load", file)
	require.Equal(t, cli.ExitUsage, code)
	for _, want := range []string{"has 3 problems", "line 2", "line 3", "line 4"} {
		require.Contains(t, out, want)
	}
}

func TestSigningInKeepsATokenThatOnlyTheOwnerReads(t *testing.T) {
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	file := filepath.Join(t.TempDir(), "np", "pane.yaml")
	t.Setenv("NIMBLEPANE_CONFIG", file)
	_, code := typed(t, "", "today")
	require.Equal(t, cli.ExitNotYou, code)
	out, code := typed(t, "wrong\n", "sign-in", s.URL, "--name", string(role.Operator))
	require.Equal(t, cli.ExitNotYou, code, out)
	out, code = typed(t, servicetest.Password+"\n", "sign-in", s.URL, "--name", string(role.Operator))
	require.Zero(t, code, out)
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	out, code = typed(t, "", "whoami")
	require.Zero(t, code, out)
	require.Contains(t, out, "operator")
	_, code = typed(t, "", "sign-out")
	require.Zero(t, code)
	_, code = typed(t, "", "whoami")
	require.Equal(t, cli.ExitNotYou, code)
}

func TestCompletionKnowsTheEstate(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	number := s.Captured("counter-desk", "bm-counter")
	for _, tc := range []struct {
		args []string
		want string
	}{
		{[]string{"stage", ""}, "counter-desk"},
		{[]string{"stage", "counter-desk", ""}, number},
		{[]string{"pool", "show", ""}, "back-office"},
		{[]string{"rollover", "start", "--pool", ""}, "ticket-counters"},
		{[]string{"host", "drain", ""}, "bo-001"},
		{[]string{"capture", "counter-desk", "--from", ""}, "bm-counter"},
	} {
		out, code := typed(t, "", append([]string{"__complete", "--url", s.URL, "--token", s.Token(role.Viewer)},
			tc.args...)...)
		require.Zero(t, code)
		require.Contains(t, out, tc.want, "%v", tc.args)
	}
}
