package disk_test

import (
	"bytes"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/disk"
	"nimblepane/internal/fuzzlimit"
)

func FuzzDetect(f *testing.F) {
	f.Add([]byte("QFI\xfb"), 0)
	f.Add([]byte("KDMV"), 28)
	f.Add([]byte("vhdxfile"), 192<<10)
	f.Add(partitioned(true, 0xee, efiSystem), 520)
	f.Fuzz(func(t *testing.T, content []byte, at int) {
		defer fuzzlimit.Check(t)()
		if at >= 0 && at < len(content) {
			content[at] ^= 0x55
		}
		readDisk(content)
	})
}

// FuzzFormats changes bytes of disk files that a converter made, at places that are not empty.
func FuzzFormats(f *testing.F) {
	var files [][]byte
	var places [][]int
	for _, c := range []struct {
		format  string
		options []string
	}{
		{"qcow2", nil},
		{"qcow2", []string{"-c", "-o", "cluster_size=512"}},
		{"qcow2", []string{"-c", "-o", "compression_type=zstd"}},
		{"vmdk", nil},
		{"vmdk", []string{"-o", "subformat=streamOptimized"}},
		{"vpc", nil},
		{"vpc", []string{"-o", "subformat=fixed"}},
		{"vhdx", []string{"-o", "block_size=1M"}},
	} {
		content, err := os.ReadFile(packed(f, partitioned(true, 0xee, efiSystem), c.format, c.options...))
		require.NoError(f, err)
		var filled []int
		for i, b := range content {
			if b != 0 || i < 1024 {
				filled = append(filled, i)
			}
		}
		f.Add(uint8(len(files)), []byte{0, 5, 1, 3, 5, 200})
		files, places = append(files, content), append(places, filled)
	}
	f.Fuzz(func(t *testing.T, which uint8, edits []byte) {
		defer fuzzlimit.Check(t)()
		n := int(which) % len(files)
		content := bytes.Clone(files[n])
		for ; len(edits) >= 3; edits = edits[3:] {
			content[places[n][(int(edits[0])<<8|int(edits[1]))%len(places[n])]] ^= edits[2]
		}
		readDisk(content)
	})
}

// readDisk does with a disk file all that this package can do.
func readDisk(content []byte) {
	_, _ = disk.Detect(bytes.NewReader(content), int64(len(content)))
	if image, err := disk.OpenImage(bytes.NewReader(content)); err == nil {
		_, _ = disk.Divided(image)
	}
}
