package seed_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/agent/seed"
)

func TestASeedComesBackFromItsDisk(t *testing.T) {
	t.Parallel()
	want := seed.Seed{
		Name: "tc-001", Service: "https://desks.saltmarsh.example:7700",
		Token: "a token: with #odd characters",
	}
	disk, err := seed.Disk(want)
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "seed.iso")
	require.NoError(t, os.WriteFile(path, disk, 0o600))
	got, err := seed.Read(path)
	require.NoError(t, err)
	require.Equal(t, want, got)
}

// TestOthersCanReadTheDisk has the label read by the tool that udev asks.
func TestOthersCanReadTheDisk(t *testing.T) {
	t.Parallel()
	blkid, err := exec.LookPath("/sbin/blkid")
	require.NoError(t, err)
	disk, err := seed.Disk(seed.Seed{Name: "tc-001", Service: "http://x", Token: "t"})
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "seed.iso")
	require.NoError(t, os.WriteFile(path, disk, 0o600))
	out, err := exec.Command(blkid, "-p", "-o", "export", path).Output()
	require.NoError(t, err)
	require.Contains(t, string(out), "LABEL=cidata\n")
	require.Contains(t, string(out), "TYPE=iso9660\n")
}

func TestOtherDisksAreNoSeed(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "other")
	require.NoError(t, os.WriteFile(path, make([]byte, 100_000), 0o600))
	_, err := seed.Read(path)
	require.Error(t, err)
	_, err = seed.Read(path + "-that-is-not-there")
	require.ErrorIs(t, err, fs.ErrNotExist)
}
