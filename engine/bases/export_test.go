package bases

import (
	"io/fs"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// HavePatience says how long an address may send nothing.
func (bs *Bases) HavePatience(d time.Duration) { bs.patience.Store(int64(d)) }

// HaveRoom limits the growth of the folder of bases to size bytes. Other files on the file system do not count.
func (bs *Bases) HaveRoom(t *testing.T, size int64) {
	t.Helper()
	used := func() (sum int64) {
		_ = filepath.WalkDir(bs.engine.Bases, func(_ string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() {
				return nil // a file that was deleted meanwhile
			}
			if info, err := entry.Info(); err == nil {
				sum += info.Sys().(*syscall.Stat_t).Blocks * 512 // bytes (stat(2))
			}
			return nil
		})
		return sum
	}
	before := used()
	free := func() (int64, error) { return size - (used() - before), nil }
	bs.measure.Store(&free)
}
