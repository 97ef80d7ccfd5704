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
func packed(t testing.TB, content []byte, format string, options ...string) string {
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
	found, err := disk.Detect(bytes.NewReader(content), int64(len(content)))
	return found.Format, err
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

// patched is a VMDK with its description replaced, and its capacity if that is not negative.
func patched(t *testing.T, vmdk []byte, capacity int64, description string) []byte {
	t.Helper()
	content := bytes.Clone(vmdk)
	le := binary.LittleEndian
	at, length := le.Uint64(content[28:])*512, le.Uint64(content[36:])*512
	require.Less(t, uint64(len(description)), length)
	clear(content[at : at+length])
	copy(content[at:], description)
	if capacity >= 0 {
		le.PutUint64(content[12:], uint64(capacity))
	}
	return content
}

func TestAVMDKThatAConverterWouldReadOtherwiseIsRefused(t *testing.T) {
	t.Parallel()
	vmdk, err := os.ReadFile(packed(t, random(t), "vmdk"))
	require.NoError(t, err)
	const right = "# Disk " +
		"DescriptorFile\nversion=1\nCID=7a7a7a7a\nparentCID=ffffffff\ncreateType=\"monolithicSparse\"\n" +
		"\n# Extent description\nRW 16384 SPARSE \"chart.vmdk\"\n\n#DDB\nddb.adapterType = \"ide\"\n"
	detect := func(content []byte) error {
		_, err := disk.Detect(bytes.NewReader(content), int64(len(content)))
		return err
	}
	require.NoError(t, detect(patched(t, vmdk, -1, right)))
	for name, c := range map[string]struct {
		capacity int64
		text     string
		why      string
	}{
		"capacity 0": {0, right, "makes no sense"},
		"a type in a comment, and the service's file as the disk": {
			0, "# createType: vmfs\"\n" + strings.ReplaceAll(right, `SPARSE "chart.vmdk"`, `VMFS "/etc/shadow"`),
			"makes no sense",
		},
		"a type in a comment": {-1, "# createType: vmfs\"\n" + right, "a line that is not read here"},
		"two types":           {-1, right + "createType=\"vmfs\"\n", "createType twice"},
		"two types on a line": {-1, strings.Replace(right, "createType=", "xcreateType=\"vmfs\" createType=",
			1), "a line that"},
		"a prefixed type": {-1, "xcreateType=\"vmfs\"\n" + right, "a field that is not read here"},
		"no type": {
			-1, strings.Replace(right, "createType=\"monolithicSparse\"\n", "", 1),
			"more than one file",
		},
		"another file":     {-1, strings.Replace(right, `SPARSE "chart.vmdk"`, `FLAT "/etc/shadow" 0`, 1), "another file"},
		"a file elsewhere": {-1, strings.Replace(right, `chart.vmdk`, `../chart.vmdk`, 1), "another file"},
		"two extents": {
			-1, strings.Replace(right, "\n#DDB", "RW 16384 SPARSE \"b.vmdk\"\n", 1),
			"more than one file",
		},
		"another size": {-1, strings.Replace(right, "16384", "8", 1), "names a disk of 8 sectors"},
		"a parent":     {-1, right + "parentFileNameHint=\"/etc/shadow\"\n", "made on another disk"},
		"a parent at an address": {
			-1, right + "parentFileNameHint=\"nbd:127.0.0.1:10809\"\n",
			"made on another disk",
		},
		"a prefixed parent":        {-1, "xparentCID=00000001\n" + right, "a field that is not read here"},
		"another parent":           {-1, strings.Replace(right, "ffffffff", "00000001", 1), "made on another disk"},
		"two parents":              {-1, right + "parentCID=00000001\n", "parentCID twice"},
		"a line behind a return":   {-1, right + "CID2=1\rparentFileNameHint=\"x\"\n", "a line that is not read here"},
		"text behind the end":      {-1, right + "\x00parentFileNameHint=\"x\"", "behind the end"},
		"text that is not a field": {-1, right + "chart\n", "a line that is not read here"},
	} {
		require.ErrorContains(t, detect(patched(t, vmdk, c.capacity, c.text)), c.why, name)
	}

	// A stream has its directory at its end, with the header once more.
	stream := patched(t, vmdk, -1, strings.Replace(right, "monolithicSparse", "streamOptimized", 1))
	stream = append(append(stream, stream[:512]...), make([]byte, 512)...)
	binary.LittleEndian.PutUint64(stream[56:], 1<<64-1)
	require.NoError(t, detect(stream))
	binary.LittleEndian.PutUint64(stream[len(stream)-1024+12:], 0)
	require.ErrorContains(t, detect(stream), "contradicts")
}

func TestAVHDWithTwoFootersIsRefused(t *testing.T) {
	t.Parallel()
	for options, at := range map[string]int{"subformat=dynamic": 60, "subformat=fixed": 0} {
		vhd, err := os.ReadFile(packed(t, random(t), "vpc", "-o", options))
		require.NoError(t, err)
		if at == 0 {
			copy(vhd, "conectix")
		} else {
			vhd[at+3] = 2
		}
		_, err = disk.Detect(bytes.NewReader(vhd), int64(len(vhd)))
		require.Error(t, err, options)
	}
}

// qcow2 is a file of 5 clusters of 64 KiB with one table for 2^29 bytes: its header, the first table, the second one
// and data.
func qcow2(patch func(b []byte)) []byte {
	be, b := binary.BigEndian, make([]byte, 5<<16)
	copy(b, "QFI\xfb")
	be.PutUint32(b[4:], 3)
	be.PutUint32(b[20:], 16)
	be.PutUint64(b[24:], 1<<29)
	be.PutUint32(b[36:], 8) // entries of the first table
	be.PutUint64(b[40:], 1<<16)
	be.PutUint32(b[100:], 104)
	be.PutUint64(b[1<<16:], 1<<63|2<<16)
	be.PutUint64(b[2<<16:], 1<<63|3<<16)
	patch(b)
	return b
}

func TestAQCOW2ThatIsMadeToHarmIsRefused(t *testing.T) {
	t.Parallel()
	be := binary.BigEndian
	for name, c := range map[string]struct {
		patch func([]byte)
		why   string
	}{
		"nothing wrong":         {func([]byte) {}, ""},
		"a size that overflows": {func(b []byte) { be.PutUint64(b[24:], 1<<63-1) }, "makes no sense"},
		"a negative size":       {func(b []byte) { be.PutUint64(b[24:], 1<<63) }, "makes no sense"},
		"an unknown feature":    {func(b []byte) { be.PutUint64(b[72:], 1<<20) }, "incompatible features 0x100000"},
		"a corrupt one":         {func(b []byte) { be.PutUint64(b[72:], 2) }, "incompatible features 0x2"},
		"an unknown compression": {func(b []byte) {
			be.PutUint64(b[72:], 8)
			be.PutUint32(b[100:], 112)
			b[104] = 2
		}, "makes no sense"},
		"tables that share a block": {func(b []byte) {
			be.PutUint64(b[24:], 1<<30)
			be.PutUint64(b[1<<16+8:], 1<<63|2<<16)
		}, "share a table"},
		"clusters that share a place": {func(b []byte) {
			for n := range 8192 {
				be.PutUint64(b[2<<16+8*n:], 1<<63|3<<16)
			}
		}, "share a place"},
		"a table beyond all numbers": {func(b []byte) { be.PutUint64(b[40:], 1<<63-1) }, "cut off"},
	} {
		content := qcow2(c.patch)
		found, err := disk.Detect(bytes.NewReader(content), int64(len(content)))
		if c.why != "" {
			require.ErrorContains(t, err, c.why, name)
			continue
		}
		require.NoError(t, err)
		require.Equal(t, disk.File{Format: disk.QCOW2, Unpacked: 1 << 16}, found)
	}
}

func TestHowMuchAFileUnpacksToIsKnownBefore(t *testing.T) {
	t.Parallel()
	content := random(t)
	for _, c := range [][]string{
		{"qcow2"},
		{"qcow2", "-c"},
		{"raw"},
		{"vpc"},
		{"vpc", "-o", "subformat=fixed"},
		{"vhdx"},
		{"vmdk"},
		{"vmdk", "-o", "subformat=streamOptimized"},
	} {
		file, err := os.ReadFile(packed(t, content, c[0], c[1:]...))
		require.NoError(t, err)
		found, err := disk.Detect(bytes.NewReader(file), int64(len(file)))
		require.NoError(t, err)
		made, err := os.Stat(packed(t, content, "qcow2"))
		require.NoError(t, err)
		require.GreaterOrEqual(t, found.Unpacked, made.Size()-1<<20, "%v", c)
		require.LessOrEqual(t, found.Unpacked, int64(len(content))+1<<20, "%v", c)
	}
}
