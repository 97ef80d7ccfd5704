package disk_test

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/disk"
)

// partitioned is the beginning of a disk with a partition table.
func partitioned(loader bool, mbr byte, gpt ...[]byte) []byte {
	content := make([]byte, 1<<20)
	content[510], content[511], content[446+4] = 0x55, 0xaa, mbr
	if loader {
		content[0] = 0xeb
	}
	if gpt != nil {
		copy(content[512:], "EFI PART")
		binary.LittleEndian.PutUint64(content[512+72:], 2)
		binary.LittleEndian.PutUint32(content[512+80:], 128)
		binary.LittleEndian.PutUint32(content[512+84:], 128)
		for n, kind := range gpt {
			copy(content[1024+128*n:], kind)
		}
	}
	return content
}

// Types of partitions, as they stand on a disk.
var (
	efiSystem = []byte("\x28\x73\x2a\xc1\x1f\xf8\xd2\x11\xba\x4b\x00\xa0\xc9\x3e\xc9\x3b")
	biosBoot  = []byte("Hah!IdontNeedEFI")
)

func TestWhatADiskIsStartedByIsInItsPartitionTable(t *testing.T) {
	t.Parallel()
	data := []byte("sixteen bytes of")
	for name, c := range map[string]struct {
		content           []byte
		bios, uefi, known bool
	}{
		"empty":             {make([]byte, 1<<20), false, false, false},
		"BIOS":              {partitioned(true, 0x83), true, false, true},
		"BIOS with a GPT":   {partitioned(true, 0xee, biosBoot, data), true, false, true},
		"UEFI":              {partitioned(false, 0xee, data, efiSystem), false, true, true},
		"UEFI with an MBR":  {partitioned(false, 0xef), false, true, true},
		"both":              {partitioned(true, 0xee, data, biosBoot, efiSystem), true, true, true},
		"no loader at all":  {partitioned(false, 0x83), false, false, true},
		"a table elsewhere": {elsewhere(partitioned(false, 0xee, efiSystem)), false, false, false},
	} {
		raw := filepath.Join(t.TempDir(), "disk.raw")
		require.NoError(t, os.WriteFile(raw, c.content, 0o600))
		for _, how := range [][]string{
			nil, {"-c"}, {"-c", "-o", "compression_type=zstd"}, {"-o", "cluster_size=2M"}, {"-o", "compat=0.10"},
		} {
			packed := filepath.Join(t.TempDir(), "disk.qcow2")
			args := append(append([]string{"convert", "-O", "qcow2"}, how...), raw, packed)
			out, err := exec.CommandContext(t.Context(), "qemu-img", args...).CombinedOutput()
			require.NoError(t, err, "%s", out)
			file, err := os.Open(packed)
			require.NoError(t, err)
			defer file.Close()
			image, err := disk.OpenImage(file)
			require.NoError(t, err, "%s %v", name, how)
			p, err := disk.Divided(image)
			require.NoError(t, err, "%s %v", name, how)
			require.Equal(t, []bool{c.bios, c.uefi, c.known}, []bool{p.BIOS, p.UEFI, p.Known}, "%s %v", name, how)
		}
	}
	raw, err := os.Open(os.Args[0])
	require.NoError(t, err)
	defer raw.Close()
	_, err = disk.OpenImage(raw)
	require.ErrorIs(t, err, disk.ErrNotRead)
}

func elsewhere(content []byte) []byte {
	binary.LittleEndian.PutUint64(content[512+72:], 1<<40)
	return content
}

// random is a disk of 8 MiB with a partition table, of which a part is written.
func random(t *testing.T) []byte {
	t.Helper()
	content := make([]byte, 8<<20)
	source := rand.NewChaCha8([32]byte{7})
	for at := 1 << 20; at < 6<<20; at += 700_000 {
		_, _ = source.Read(content[at : at+200_000])
	}
	copy(content[2<<20:], bytes.Repeat([]byte("tide tables "), 50_000)) // what can be compressed
	copy(content, partitioned(true, 0x83)[:512])
	binary.LittleEndian.PutUint32(content[446+8:], 2048)
	binary.LittleEndian.PutUint32(content[446+12:], 14336)
	return content
}

// packed is a file of the format that holds the disk.
func packed(t *testing.T, content []byte, format string, options ...string) string {
	t.Helper()
	raw, file := filepath.Join(t.TempDir(), "raw"), filepath.Join(t.TempDir(), "disk."+format)
	require.NoError(t, os.WriteFile(raw, content, 0o600))
	args := append(append([]string{"convert", "-f", "raw", "-O", format}, options...), raw, file)
	out, err := exec.CommandContext(t.Context(), "qemu-img", args...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return file
}

func detected(t *testing.T, file string) (disk.Format, error) {
	t.Helper()
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	return disk.Detect(bytes.NewReader(content), int64(len(content)))
}

func TestAQCOW2ReadsAsTheDiskThatItHolds(t *testing.T) {
	t.Parallel()
	content := random(t)
	for _, how := range [][]string{
		nil,
		{"-c"},
		{"-c", "-o", "compression_type=zstd"},
		{"-o", "cluster_size=512"},
		{"-o", "cluster_size=2M"},
		{"-o", "compat=0.10"},
		{"-o", "preallocation=metadata"},
	} {
		file, err := os.Open(packed(t, content, "qcow2", how...))
		require.NoError(t, err)
		defer file.Close()
		image, err := disk.OpenImage(file)
		require.NoError(t, err)
		require.EqualValues(t, len(content), image.Size)
		got := make([]byte, len(content))
		for at := 0; at < len(got); at += 123_457 { // pieces that end anywhere
			end := min(len(got), at+123_457)
			n, err := image.ReadAt(got[at:end], int64(at))
			require.NoError(t, err)
			require.Equal(t, end-at, n)
		}
		require.True(t, bytes.Equal(content, got), "%v", how)
		n, err := image.ReadAt(got[:10], image.Size-4)
		require.Equal(t, 4, n)
		require.ErrorContains(t, err, "EOF")
	}
}

func TestAFormatIsFoundByWhatIsInAFile(t *testing.T) {
	t.Parallel()
	content := random(t)
	for _, c := range []struct {
		is      disk.Format
		format  string
		options []string
	}{
		{disk.QCOW2, "qcow2", nil},
		{disk.QCOW2, "qcow2", []string{"-c"}},
		{disk.Raw, "raw", nil},
		{disk.VHD, "vpc", nil},
		{disk.VHD, "vpc", []string{"-o", "subformat=fixed"}},
		{disk.VHDX, "vhdx", nil},
		{disk.VMDK, "vmdk", nil},
		{disk.VMDK, "vmdk", []string{"-o", "subformat=streamOptimized"}},
	} {
		file := packed(t, content, c.format, c.options...)
		is, err := detected(t, file)
		require.NoError(t, err, "%s %v", c.format, c.options)
		require.Equal(t, c.is, is)
		whole, err := os.ReadFile(file)
		require.NoError(t, err)
		if c.is == disk.VHDX {
			continue // whoever converts it sees that it is cut off
		}
		_, err = disk.Detect(bytes.NewReader(whole[:len(whole)/2]), int64(len(whole)/2))
		require.ErrorContains(t, err, "it is cut off", "%s %v", c.format, c.options)
	}
}

func TestWhatIsNoDiskOrNotAllOfOneIsRefused(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	image := func(name string, args ...string) string {
		t.Helper()
		cmd := exec.CommandContext(t.Context(), "qemu-img", append([]string{"create", "-q"}, args...)...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return filepath.Join(dir, name)
	}
	written := func(name, content string) string {
		t.Helper()
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
		return file
	}
	secret := written("secret.yaml", "password: tide\n"+strings.Repeat("#", 2000))
	image("below.qcow2", "-f", "qcow2", "below.qcow2", "8M")
	image("below.vmdk", "-f", "vmdk", "below.vmdk", "8M")
	for _, c := range []struct{ file, why string }{
		{secret, "it is a text, and no disk image"},
		{written("notes.vhdx", strings.Repeat("ebb and flood\n", 100)), "it is a text"},
		{written("zeros", strings.Repeat("\x00", 4<<20)), "as a raw disk it has no partition table"},
		{written("small", "QFI\xfb"), "it is cut off: it has 4 bytes"},
		{written("tiny", "\xff\xff"), "it has 2 bytes, which is no disk"},
		{written("odd", "QFI\xfb"+strings.Repeat("\xff", 1000)), "makes no sense"},
		{
			image("on-other.qcow2", "-f", "qcow2", "-b", "below.qcow2", "-F", "qcow2", "on-other.qcow2"),
			"made on another disk",
		},
		{image("on-secret.qcow2", "-f", "qcow2", "-b", secret, "-F", "raw", "on-secret.qcow2"), "made on another disk"},
		{
			image("outside.qcow2", "-f", "qcow2", "-o", "data_file=outside.raw", "outside.qcow2", "8M"),
			"whose disk is in another file",
		},
		{image("sub.qcow2", "-f", "qcow2", "-o", "extended_l2=on", "sub.qcow2", "8M"), "with subclusters"},
		{
			image("locked.qcow2", "-f", "qcow2", "--object", "secret,id=s,data=tide", "-o",
				"encrypt.format=luks,encrypt.key-secret=s,encrypt.iter-time=10", "locked.qcow2", "8M"),
			"an encrypted qcow2",
		},
		{
			image("on-other.vmdk", "-f", "vmdk", "-b", "below.vmdk", "-F", "vmdk", "on-other.vmdk"),
			"a VMDK that is made on another disk",
		},
		{
			image("flat.vmdk", "-f", "vmdk", "-o", "subformat=monolithicFlat", "flat.vmdk", "8M"),
			"only the description of a VMDK",
		},
	} {
		_, err := detected(t, c.file)
		require.ErrorContains(t, err, c.why, filepath.Base(c.file))
	}
}

func FuzzDetect(f *testing.F) {
	f.Add([]byte("QFI\xfb"), 0)
	f.Add([]byte("KDMV"), 28)
	f.Add([]byte("vhdxfile"), 192<<10)
	f.Add(partitioned(true, 0xee, efiSystem), 520)
	f.Fuzz(func(t *testing.T, content []byte, at int) {
		if at >= 0 && at < len(content) {
			content[at] ^= 0x55
		}
		_, _ = disk.Detect(bytes.NewReader(content), int64(len(content)))
		image, err := disk.OpenImage(bytes.NewReader(content))
		if err != nil {
			return
		}
		_, _ = disk.Divided(image)
	})
}
