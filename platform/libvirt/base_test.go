package libvirt

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/platform"
)

// shelf is a folder of disks that the service keeps.
type shelf string

func (s shelf) OpenDisk(_ context.Context, disk string, offset int64) (io.ReadCloser, int64, error) {
	f, err := os.Open(filepath.Join(string(s), disk))
	if err != nil {
		return nil, 0, &platform.Refusal{Why: "the service does not have the disk " + disk}
	}
	info, err := f.Stat()
	if err == nil {
		_, err = f.Seek(offset, io.SeekStart)
	}
	return f, info.Size(), err
}

func TestABaseOfTheServiceBecomesAMachineOfAnyClassThatItsFirmwareStarts(t *testing.T) {
	t.Parallel()
	s, folder := small(t, server(t)), t.TempDir()
	s.bases = shelf(folder)
	raw := filepath.Join(folder, "raw")
	require.NoError(t, os.WriteFile(raw, partitioned(false), 0o600))
	out, err := exec.CommandContext(t.Context(), "qemu-img", "convert", "-O", "qcow2", raw,
		filepath.Join(folder, "base-harbour")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	content, err := os.ReadFile(filepath.Join(folder, "base-harbour"))
	require.NoError(t, err)
	sum := sha256.Sum256(content)
	deliver := platform.Deliver{
		Source: platform.OfService, Disk: "base-harbour", Digest: "sha256:" + hex.EncodeToString(sum[:]),
		Copy: "base-harbour",
	}
	require.NoError(t, s.Start(t.Context(), "bring", platform.DeliverCopy.Of(deliver)))
	p := ended(t, s, "bring")
	require.Equal(t, platform.Succeeded, p.State, p.Why)
	none := deliver
	none.Disk = "base-none"
	require.ErrorContains(t, s.Start(t.Context(), "bring none", platform.DeliverCopy.Of(none)),
		"does not have the disk")

	of := platform.BuildSpec{
		Name: "bm-harbour", MachineClass: "standard", Copies: []string{"base-harbour"}, Digest: deliver.Digest,
		Base: "base harbour-13",
	}
	require.NoError(t, s.Create(t.Context(), of))
	list, err := s.BuildMachines(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, "base harbour-13", list[0].Base)

	k := s.classes["standard"]
	k.Firmware = "uefi"
	s.classes["modern"] = k
	of.Name, of.MachineClass = "bm-modern", "modern"
	require.ErrorContains(t, s.Create(t.Context(), of), "has no EFI system partition")
	giveUp := platform.DeleteCopy.Of(platform.Named{Name: "base-harbour"})
	require.NoError(t, s.Start(t.Context(), "give up", giveUp))
	require.Contains(t, ended(t, s, "give up").Why, "machine bm-harbour")
	require.NoError(t, s.Discard(t.Context(), "bm-harbour"))
	require.NoError(t, s.Start(t.Context(), "give up again", giveUp))
	require.Equal(t, platform.Succeeded, ended(t, s, "give up again").State)
}
