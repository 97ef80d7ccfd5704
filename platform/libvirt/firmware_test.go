package libvirt

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/platform"
)

// partitioned is the beginning of a disk with a partition table: one for UEFI has an EFI system partition in it.
func partitioned(uefi bool) []byte {
	disk := make([]byte, 1<<20)
	disk[510], disk[511], disk[446+4] = 0x55, 0xaa, 0x83
	if uefi {
		disk[446+4] = 0xef
	} else {
		disk[0] = 0xeb
	}
	return disk
}

func TestADiskThatItsClassWouldNotStartIsRefused(t *testing.T) {
	t.Parallel()
	hv := server(t)
	s := small(t, hv)
	add := func(name string, content []byte) {
		raw, packed := filepath.Join(t.TempDir(), "raw"), filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(raw, content, 0o600))
		out, err := exec.CommandContext(t.Context(), "qemu-img", "convert", "-c", "-O", "qcow2", raw,
			packed).CombinedOutput()
		require.NoError(t, err, "%s", out)
		require.NoError(t, hv.Add(packed, name))
	}
	add("uefi.qcow2", partitioned(true))
	add("bios.qcow2", partitioned(false))
	refused := func(disk, firmware string) string {
		k := s.classes["standard"]
		k.Firmware = firmware
		s.classes["standard"] = k
		err := s.Create(t.Context(), platform.BuildSpec{
			Name: "bm-" + disk[:4] + firmware, MachineClass: "standard", BaseDisk: disk, Base: "disk " + disk,
		})
		if err == nil {
			return ""
		}
		return err.Error()
	}
	require.Contains(t, refused("uefi.qcow2", "bios"), "uefi.qcow2 on hv-1 has no boot loader for BIOS")
	require.Contains(t, refused("bios.qcow2", "uefi"), "bios.qcow2 on hv-1 has no EFI system partition")
	require.Empty(t, refused("bios.qcow2", "bios"))
}
