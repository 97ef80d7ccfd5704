package libvirt

import (
	"encoding/binary"
	"errors"
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

// file answers fetches from a file in memory, and counts them and their bytes.
type file struct {
	content         []byte
	fetches, copied int64
}

func (f *file) fetch(at, length int64) ([]byte, error) {
	if at > int64(len(f.content)) {
		return nil, errors.New("that is beyond its end")
	}
	f.fetches++
	piece := f.content[at:min(at+length, int64(len(f.content)))]
	f.copied += int64(len(piece))
	return piece, nil
}

func TestThePartitionTableIsReadFromAFewPieces(t *testing.T) {
	t.Parallel()
	disk := append(partitioned(true), make([]byte, 63<<20)...)
	for i := range disk[2<<20:] { // so that there is something to fetch
		disk[2<<20+i] = byte(i * 7919 >> 8)
	}
	raw := filepath.Join(t.TempDir(), "raw")
	require.NoError(t, os.WriteFile(raw, disk, 0o600))
	for name, options := range map[string][]string{
		"plain":          nil,
		"packed":         {"-c"},
		"zstandard":      {"-c", "-o", "compression_type=zstd"},
		"small clusters": {"-o", "cluster_size=512"},
		"large clusters": {"-c", "-o", "cluster_size=2M"},
		"old":            {"-o", "compat=0.10"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			packed := filepath.Join(t.TempDir(), "packed")
			args := append([]string{"convert", "-O", "qcow2"}, options...)
			out, err := exec.CommandContext(t.Context(), "qemu-img", append(args, raw, packed)...).CombinedOutput()
			require.NoError(t, err, "%s", out)
			content, err := os.ReadFile(packed)
			require.NoError(t, err)
			f := &file{content: content}
			table, err := partitionTable(t.Context(), f.fetch)
			require.NoError(t, err)
			require.True(t, table.Known)
			require.True(t, table.UEFI)
			require.False(t, table.BIOS)
			require.Less(t, f.fetches, int64(20))
			require.Less(t, f.copied, int64(5<<20))
		})
	}
	_, err := partitionTable(t.Context(), (&file{content: disk}).fetch)
	require.ErrorContains(t, err, "it is not a qcow2 disk")
	_, err = partitionTable(t.Context(), (&file{}).fetch)
	require.ErrorContains(t, err, "it is not a qcow2 disk")
}

// TestAHostileDiskCannotHaveTheServiceFetchWithoutEnd has disk files whose
// tables are where an attacker wants them.
func TestAHostileDiskCannotHaveTheServiceFetchWithoutEnd(t *testing.T) {
	t.Parallel()
	image := func(clusterBits uint32, l1 uint64) *file {
		b := make([]byte, 40<<20)
		copy(b, "QFI\xfb")
		be := binary.BigEndian
		be.PutUint32(b[4:], 2)
		be.PutUint32(b[20:], clusterBits)
		be.PutUint64(b[24:], 1<<30)
		be.PutUint32(b[36:], 1<<20)
		be.PutUint64(b[40:], l1)
		return &file{content: b}
	}
	far := image(16, 1<<62)
	_, err := partitionTable(t.Context(), far.fetch)
	require.ErrorContains(t, err, "that is beyond its end")
	require.EqualValues(t, 1, far.fetches)

	// Each of the 34 clusters of 512 bytes that hold the table is packed data of
	// 256 KiB, which is a small cluster only after all of it was read.
	long := image(9, 1024)
	be := binary.BigEndian
	be.PutUint64(long.content[1024:], 2048)
	for i := range uint64(64) {
		be.PutUint64(long.content[2048+8*i:], 1<<62|1<<61|(1+i)<<19)
	}
	for i := 1 << 19; i+5 <= len(long.content); i += 5 { // empty stored blocks, without end
		copy(long.content[i:], []byte{0, 0, 0, 0xff, 0xff})
	}
	_, err = partitionTable(t.Context(), long.fetch)
	require.Error(t, err)
	require.LessOrEqual(t, long.copied, int64(mostFetched))
	require.LessOrEqual(t, long.fetches, int64(mostFetches))

	down := func(int64, int64) ([]byte, error) { return nil, errors.New("the link is down") }
	_, err = partitionTable(t.Context(), down)
	require.ErrorContains(t, err, "the link is down")
}
