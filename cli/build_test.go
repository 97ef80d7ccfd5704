package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

func TestABuildThatIsStartedAgainWithTheSameKeyIsTheSame(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	file := filepath.Join(t.TempDir(), "counter-desk.yaml")
	const text = "image: counter-desk\nbase: {disk: vendor.qcow2}\n" +
		"machine: {site: north-quay}\nsteps: [{name: restart, restart: {}}]\n"
	start := func(text string, more ...string) (b client.WholeBuild, out string, code int) {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		out, code = pane(t, s, role.Operator, append([]string{"build", "start", file, "-o", "json"}, more...)...)
		if code == 0 {
			require.NoError(t, json.Unmarshal([]byte(out), &b))
		}
		return b, out, code
	}
	first, out, code := start(text, "--idempotency-key", "job 12")
	require.Zero(t, code, out)
	again, out, code := start(text, "--idempotency-key", "job 12")
	require.Zero(t, code, out)
	require.Equal(t, first.ID, again.ID)
	other, out, code := start(text, "--idempotency-key", "job 13")
	require.Zero(t, code, out)
	require.NotEqual(t, first.ID, other.ID)
	_, out, code = start(strings.Replace(text, "restart,", "again,", 1), "--idempotency-key", "job 12")
	require.NotZero(t, code)
	require.Contains(t, out, "the Idempotency-Key was used for another request")
}
