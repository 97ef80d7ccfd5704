package bases

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
	"gorm.io/gorm"

	"nimblepane/core/base"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/store"
)

// roomEvery is how often the room is looked at while something is written.
const roomEvery = time.Second

var errNoFolder = problem.NotConfigured.Errorf("this service stores no bases: start it with --bases FOLDER")

// free is how many bytes may be written to the folder of bases. It can be negative.
func (bs *Bases) free() (int64, error) {
	if measure := bs.measure.Load(); measure != nil {
		return (*measure)()
	}
	return bs.engine.Room()
}

// roomFor refuses to write so many bytes if there is no room for them.
func (bs *Bases) roomFor(size int64) error {
	free, err := bs.free()
	switch {
	case err != nil:
		return err
	case free < 0:
		return &unfit{engine.ErrFull.Error()}
	case free < size:
		return &unfit{fmt.Sprintf("it would take %s, and the folder of bases has room for %s: make room there, and "+
			"bring the base in again", humanize.IBytes(uint64(size)), humanize.IBytes(uint64(free)))}
	}
	return nil
}

// room refuses a base for which there is no room: its file, and the disk that it is converted to, beside the bases
// that are on their way.
func (bs *Bases) room(db *gorm.DB, size int64) error {
	if bs.engine.Bases == "" {
		return errNoFolder
	}
	free, err := bs.free()
	if err != nil {
		return err
	}
	rows, err := store.Bases(db, false)
	if err != nil {
		return err
	}
	for _, b := range rows {
		if b.State == base.Receiving || b.State == base.Fetching {
			free -= max(0, 2*b.Size-b.Have)
		}
	}
	if free = max(0, free); free < 2*size {
		return problem.NoSpace.Errorf("the service's folder of bases has %s free; a file of %s and its converted "+
			"disk can take %s: free some space there", humanize.IBytes(uint64(free)),
			humanize.IBytes(uint64(size)), humanize.IBytes(uint64(2*size)))
	}
	return nil
}

// whileRoom does something that writes to the folder of bases, and ends it when the folder is full.
func (bs *Bases) whileRoom(ctx context.Context, do func(context.Context) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go func() {
		tick := time.NewTicker(roomEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				if free, err := bs.free(); err == nil && free < 0 {
					cancel(engine.ErrFull)
				}
			}
		}
	}()
	err := do(ctx)
	if err != nil && errors.Is(context.Cause(ctx), engine.ErrFull) {
		return engine.ErrFull
	}
	return err
}
