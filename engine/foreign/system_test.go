package foreign

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/base"
	"nimblepane/core/disk"
	"nimblepane/internal/fuzzlimit"
)

// converted is the demo's base as a qcow2 file.
func converted(t testing.TB) []byte {
	t.Helper()
	file := filepath.Join(t.TempDir(), "harbour.qcow2")
	out, err := exec.CommandContext(t.Context(), "qemu-img", "convert", "-f", "vmdk", "-O", "qcow2",
		"../../demo/saltmarsh/harbour/harbour-13-20260804.vmdk", file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	return content
}

// inMemory is a file.
type inMemory []byte

func (m inMemory) ReadAt(b []byte, at int64) (int, error) {
	clear(b)
	if at < 0 || at >= int64(len(m)) {
		return len(b), nil
	}
	copy(b, m[at:])
	return len(b), nil
}

func TestWhatIsOnADiskIsSeen(t *testing.T) {
	t.Parallel()
	facts, err := look(inMemory(converted(t)), true)
	require.NoError(t, err)
	require.Equal(t, base.Facts{
		DiskSize: 16 << 20, Firmware: []string{"bios"}, System: "linux harbour",
		Edition: "Harbour Linux 13 (Estuary), 20260804",
		Release: "13", Architecture: "x86_64", Agents: []string{"qemu-guest-agent", "cloud-init"},
	}, facts)
}

func TestADamagedFileSystemIsAsIfThereWereNone(t *testing.T) {
	t.Parallel()
	whole := converted(t)
	random := rand.New(rand.NewPCG(1, 2))
	for range 2_000 {
		content := inMemory(append([]byte{}, whole...))
		for range 1 + random.IntN(40) {
			// What says where all the rest is stands at the beginning.
			content[112+random.IntN(min(len(content)-112, 600<<10))] = byte(random.IntN(256))
		}
		_, _ = look(content, true)
	}
}

func TestSuperblocksThatAskForTooMuchAreNotBelieved(t *testing.T) {
	t.Parallel()
	image := make(inMemory, 4<<20)
	put := func(at int, value ...byte) { copy(image[1024+at:], value) }
	part := disk.Part{Number: 1, Length: int64(len(image))}
	require.False(t, plausible(image, part))
	put(56, 0x53, 0xef)
	put(4, 0, 16, 0, 0)  // 4096 blocks of 1 KiB
	put(32, 0, 32, 0, 0) // 8192 in a group
	require.True(t, plausible(image, part))
	put(32, 1, 0, 0, 0)
	require.False(t, plausible(image, part), "a group of one block")
	put(32, 0, 32, 0, 0)
	put(4, 0, 32, 0, 0)
	require.False(t, plausible(image, part), "more blocks than the part has")
}

func FuzzSystem(f *testing.F) {
	f.Add(700, byte(1), 70_000, byte(255))
	whole := converted(f)
	f.Fuzz(func(t *testing.T, a int, x byte, b int, y byte) {
		defer fuzzlimit.Check(t)()
		content := inMemory(append([]byte{}, whole...))
		for at, value := range map[int]byte{a: x, b: y} {
			if at > 112 && at < len(content) {
				content[at] ^= value
			}
		}
		_, _ = look(content, true)
	})
}
