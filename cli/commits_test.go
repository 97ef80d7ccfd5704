package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/cli"
	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

func TestNotesNameTheCommitsSinceTheLastBuild(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	c, ctx := s.As(role.Operator), t.Context()
	folder := t.TempDir()
	file := filepath.Join(folder, "desks", "counter-desk.yaml")
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
	save := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	const text = `image: counter-desk
base: {disk: vendor.qcow2}
machine: {site: north-quay}
steps: [{name: restart, restart: {}}]
version: {notes: of the month, notes-from-commits: true, prove: false}
delivery: {sites: [south-quay], copies: 3}
`
	save(text)
	git := func(args ...string) {
		t.Helper()
		out, err := exec.CommandContext(ctx, "git", append([]string{
			"-C", folder, "-c", "user.name=mira", "-c", "user.email=mira@ferries.example",
		}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	commit := func(subject string) { git("commit", "--quiet", "--allow-empty", "--message", subject, "--all") }
	out, code := pane(t, s, role.Operator, "build", "start", file)
	require.Equal(t, cli.ExitUsage, code)
	require.Contains(t, out, "is not in a git repository that has some")
	_, err := c.StartBuild(ctx, client.StartBuild{Sheet: text})
	require.ErrorContains(t, err, "start the build with pane build start, in the repository")

	git("init", "--quiet")
	git("add", ".")
	commit("Counters have a desk")
	notes := func() string {
		out, code := pane(t, s, role.Operator, "build", "start", file, "--follow")
		require.Zero(t, code, out)
		list, err := c.Builds(ctx, "", build.Ready, 1)
		require.NoError(t, err)
		require.Len(t, list[0].Commit, 40)
		v, err := c.Version(ctx, "counter-desk", list[0].Version)
		require.NoError(t, err)
		require.Len(t, v.Copies, 3)
		for _, copied := range v.Copies {
			require.Equal(t, "south-quay", copied.Site)
		}
		return v.Notes
	}
	require.Equal(t, "of the month\n- Counters have a desk", notes())
	save(text + "# tides\n")
	commit("Tides\n\nand why")
	save(text + "# fares\n")
	commit("Fares")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "elsewhere"), nil, 0o600))
	git("add", ".")
	commit("What is not of the sheet's folder")
	require.Equal(t, "of the month\n- Fares\n- Tides", notes())
	save(text)
	out, code = pane(t, s, role.Operator, "build", "start", file)
	require.Zero(t, code)
	require.Contains(t, out, "Warning: what has changed in "+filepath.Dir(file)+" since its last commit is not in the "+
		"notes")
	save(strings.Replace(text, "south-quay]", "west-quay]", 1))
	out, code = pane(t, s, role.Operator, "build", "start", file)
	require.Equal(t, cli.ExitNotFound, code)
	require.Contains(t, out, `site "west-quay": not found: there are north-quay, south-quay`)
}
