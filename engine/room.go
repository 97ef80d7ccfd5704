package engine

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"syscall"
)

// Other programs need room beside what the service writes to its folder: a full file system stops the database, too.
// So much of it is never filled.
const (
	reserveShare = 50      // 1 in so many of the file system's bytes,
	mostReserve  = 1 << 30 // at most
)

// ErrFull is why nothing more is written to the folder of bases.
var ErrFull = errors.New("the folder of bases is full: make room there, and try again")

// Room is how many bytes may be written to the folder of bases, or to that of temporary files if there is none. It can
// be negative.
func (e *Engine) Room() (int64, error) {
	var at syscall.Statfs_t
	if err := syscall.Statfs(cmp.Or(e.Bases, os.TempDir()), &at); err != nil {
		return 0, fmt.Errorf("look at the folder of bases: %w", err)
	}
	return int64(at.Bavail)*at.Bsize - min(int64(at.Blocks)*at.Bsize/reserveShare, mostReserve), nil
}

// CheckRoom returns ErrFull if there is no room.
func (e *Engine) CheckRoom() error {
	room, err := e.Room()
	if err == nil && room < 0 {
		err = ErrFull
	}
	return err
}
