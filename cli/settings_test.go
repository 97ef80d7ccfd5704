package cli_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/cli"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

func TestSettingsOfAPersonBecomeThoseOfNewPeople(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	ctx, c := t.Context(), s.As(role.Operator)
	s.MadeMachine("bm-new")
	for path, text := range map[string]string{".config/fares.conf": "zoom = 2\n", "letter.txt": "dear\n"} {
		require.NoError(t, c.PutOnBuildMachine(ctx, "north-quay", "bm-new", "/home/ida/"+path, []byte(text)))
	}
	defaults := func(more ...string) (string, int) {
		return pane(t, s, role.Operator, append([]string{
			"build-machine", "defaults", "north-quay", "bm-new",
		}, more...)...)
	}
	out, code := defaults("ida")
	require.Zero(t, code, out)
	require.Contains(t, out, "wrote 9 bytes to /etc/skel/.config/fares.conf")
	require.NotContains(t, out, "letter")
	out, code = defaults("kim")
	require.Equal(t, cli.ExitBad, code)
	require.Contains(t, out, "there is no account kim on this machine")
	out, code = defaults("ida", "../x")
	require.Equal(t, cli.ExitUsage, code)
	require.Contains(t, out, `"../x": write a path in a home`)
	out, code = defaults("ida", ".config/fares.conf")
	require.Zero(t, code, out)
	text, err := c.MachineSheet(ctx, "north-quay", "bm-new")
	require.NoError(t, err)
	require.Contains(t, string(text), "name: Settings of ida\n")
	require.Contains(t, string(text), "person: ida\n")
}
