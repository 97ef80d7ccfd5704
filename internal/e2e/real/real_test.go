// Package real tells the story on real machines, as people start it.
package real

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheStoryOnRealMachines is make real in short: a pool of two, without the
// pilot pool and the rollback. The story ends with a look at what it left.
func TestTheStoryOnRealMachines(t *testing.T) {
	guest := os.Getenv("NIMBLEPANE_GUEST")
	if guest == "" {
		t.Skip("NIMBLEPANE_GUEST names no guest disk: make test-real builds one and sets it")
	}
	root, err := filepath.Abs("../../..")
	require.NoError(t, err)
	state := t.TempDir()
	out, err := exec.Command(filepath.Join(root, "bin", "demo"), "real", "--short", "--hosts", "2", "--guest", guest,
		"--bin", filepath.Join(root, "bin"), "--state", state).CombinedOutput()
	t.Logf("%s", out)
	require.NoError(t, err)
	require.Contains(t, string(out), "The story went as told")
	require.Contains(t, string(out), "Nothing is left behind")
	require.NoDirExists(t, filepath.Join(state, "real"))
}
