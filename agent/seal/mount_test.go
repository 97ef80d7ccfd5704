//go:build linux

package seal_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nimblepane/agent/seal"
)

// bound binds a folder to a place below a machine's root. The test is left out where nothing can be mounted.
func bound(t *testing.T, from, at string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(at, 0o755))
	if err := unix.Mount(from, at, "", unix.MS_BIND, ""); err != nil {
		t.Skipf("nothing can be mounted here: %s", err)
	}
	t.Cleanup(func() { require.NoError(t, unix.Unmount(at, unix.MNT_DETACH)) })
}

func TestSealingDeletesNothingThatIsMounted(t *testing.T) {
	t.Parallel()
	share := used(t, map[string]string{"setup.msi": "an installer"})
	for _, folder := range []string{
		"tmp/soft", "var/tmp/deep/er/soft", "var/log/far",
		"var/cache/apt/archives/partial/x",
	} {
		root := used(t, map[string]string{"tmp/left": "x", "etc/machine-id": "7"})
		at := filepath.Join(root, folder)
		bound(t, share, at)
		info := "22 1 254:1 / / rw - ext4 /dev/vda1 rw\n25 22 254:1 /x /" + folder + " rw - ext4 /dev/vda1 rw\n"
		require.NoError(t, os.MkdirAll(filepath.Join(root, "proc/self"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, "proc/self/mountinfo"), []byte(info), 0o644))
		_, err := seal.Do(t.Context(), seal.Machine{Root: root}, "counter-desk 2026.11.1")
		require.ErrorContains(t, err, "/"+folder+" (ext4, /dev/vda1): unmount it first")
		id, err := os.ReadFile(filepath.Join(root, "etc/machine-id"))
		require.NoError(t, err)
		require.Equal(t, "7", string(id), "nothing is done to the machine")

		// Mounted after the list was read, it is found by the kernel.
		require.NoError(t, os.WriteFile(filepath.Join(root, "proc/self/mountinfo"), nil, 0o644))
		_, err = seal.Do(t.Context(), seal.Machine{Root: root}, "counter-desk 2026.11.1")
		require.ErrorContains(t, err, "something is mounted there, which sealing does not delete")
		kept, err := os.ReadFile(filepath.Join(share, "setup.msi"))
		require.NoError(t, err)
		require.Equal(t, "an installer", string(kept))
	}
}

func TestHomesOnAFileServerAreLeftAlone(t *testing.T) {
	t.Parallel()
	root := used(t, map[string]string{
		"home/wilma/.bash_history": "x", "root/.bash_history": "x",
		"proc/self/mountinfo": "22 1 254:1 / / rw - ext4 /dev/vda1 rw\n28 22 0:42 / /home rw - nfs4 quay:/home rw\n",
	})
	_, err := seal.Do(t.Context(), seal.Machine{Root: root}, "counter-desk 2026.11.1")
	require.NoError(t, err)
	require.FileExists(t, filepath.Join(root, "home/wilma/.bash_history"))
	require.NoFileExists(t, filepath.Join(root, "root/.bash_history"))
}

func TestAFolderWithLinksAndManyFilesIsRemoved(t *testing.T) {
	t.Parallel()
	outside := used(t, map[string]string{"kept": "x"})
	root := used(t, map[string]string{"tmp/a/b/c": "x"})
	for n := range 3000 {
		require.NoError(t, os.WriteFile(filepath.Join(root, "tmp/a", strings.Repeat("x", 1+n%50)+string(rune('a'+n%26))+
			strings.Repeat("y", n/50)), nil, 0o600))
	}
	require.NoError(t, os.Symlink(outside, filepath.Join(root, "tmp/a/link")))
	require.NoError(t, os.Symlink("/nowhere", filepath.Join(root, "tmp/dangling")))
	_, err := seal.Do(t.Context(), seal.Machine{Root: root}, "counter-desk 2026.11.1")
	require.NoError(t, err)
	left, err := os.ReadDir(filepath.Join(root, "tmp"))
	require.NoError(t, err)
	require.Empty(t, left)
	require.FileExists(t, filepath.Join(outside, "kept"))
}
