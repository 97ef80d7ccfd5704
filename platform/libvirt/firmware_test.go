package libvirt

import (
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/platform"
)

// partitioned is the beginning of a disk with a partition table.
func partitioned(loader bool, mbr byte, gpt ...[]byte) []byte {
	disk := make([]byte, 1<<20)
	disk[510], disk[511], disk[446+4] = 0x55, 0xaa, mbr
	if loader {
		disk[0] = 0xeb
	}
	if gpt != nil {
		copy(disk[512:], "EFI PART")
		binary.LittleEndian.PutUint64(disk[512+72:], 2)
		binary.LittleEndian.PutUint32(disk[512+80:], 128)
		binary.LittleEndian.PutUint32(disk[512+84:], 128)
		for n, kind := range gpt {
			copy(disk[1024+128*n:], kind)
		}
	}
	return disk
}

func TestWhatADiskIsStartedByIsInItsPartitionTable(t *testing.T) {
	t.Parallel()
	data := []byte("sixteen bytes of")
	for name, disk := range map[string]struct {
		content []byte
		by      firmwares
	}{
		"empty":             {make([]byte, 1<<20), firmwares{}},
		"BIOS":              {partitioned(true, 0x83), firmwares{true, true, false}},
		"BIOS with a GPT":   {partitioned(true, 0xee, biosBoot, data), firmwares{true, true, false}},
		"UEFI":              {partitioned(false, 0xee, data, efiSystem), firmwares{true, false, true}},
		"UEFI with an MBR":  {partitioned(false, 0xef), firmwares{true, false, true}},
		"both":              {partitioned(true, 0xee, data, biosBoot, efiSystem), firmwares{true, true, true}},
		"no loader at all":  {partitioned(false, 0x83), firmwares{true, false, false}},
		"a table elsewhere": {elsewhere(partitioned(false, 0xee, efiSystem)), firmwares{}},
	} {
		raw := filepath.Join(t.TempDir(), "disk.raw")
		require.NoError(t, os.WriteFile(raw, disk.content, 0o600))
		for _, how := range [][]string{
			nil, {"-c"}, {"-c", "-o", "compression_type=zstd"}, {"-o", "cluster_size=2M"}, {"-o", "compat=0.10"},
		} {
			packed := filepath.Join(t.TempDir(), "disk.qcow2")
			args := append(append([]string{"convert", "-O", "qcow2"}, how...), raw, packed)
			out, err := exec.CommandContext(t.Context(), "qemu-img", args...).CombinedOutput()
			require.NoError(t, err, "%s", out)
			file, err := os.Open(packed)
			require.NoError(t, err)
			first, err := firstBytes(file)
			require.NoError(t, file.Close())
			require.NoError(t, err, "%s %v", name, how)
			require.Equal(t, disk.by, startedBy(first), "%s %v", name, how)
		}
	}
	raw, err := os.Open(os.Args[0])
	require.NoError(t, err)
	defer raw.Close()
	_, err = firstBytes(raw)
	require.ErrorIs(t, err, errNotRead)
}

func elsewhere(disk []byte) []byte {
	binary.LittleEndian.PutUint64(disk[512+72:], 1<<40)
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
	add("uefi.qcow2", partitioned(false, 0xee, efiSystem))
	add("bios.qcow2", partitioned(true, 0x83))
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
