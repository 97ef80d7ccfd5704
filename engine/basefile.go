package engine

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"nimblepane/platform"
	"nimblepane/platform/depot"
)

// BaseFile is the file of a disk in the folder of bases.
func (e *Engine) BaseFile(disk string) string {
	return filepath.Join(e.Bases, filepath.Base(disk)+".qcow2")
}

// ScratchPrefix is what the names of temporary files in the folder of bases begin with.
const ScratchPrefix = "looking-"

// Scratch returns a new temporary file: in the folder of bases if there is one, and not where files can be in memory.
func (e *Engine) Scratch() (*os.File, error) { return os.CreateTemp(e.Bases, ScratchPrefix) }

// ownDisks are the disks that the service keeps itself: those of bases.
type ownDisks struct{ *Engine }

// DepotWith is depot.Keeper's: the folder is one.
func (d ownDisks) DepotWith(context.Context, string) (depot.Depot, error) {
	if d.Bases == "" {
		return nil, &platform.Refusal{Why: "this service keeps no bases: start it with --bases FOLDER"}
	}
	return depot.OpenLocal(d.Bases, 0o600)
}

// OpenDisk is platform.Disks'.
func (d ownDisks) OpenDisk(_ context.Context, disk string, offset int64) (io.ReadCloser, int64, error) {
	if d.Bases == "" {
		return nil, 0, &platform.Refusal{Why: "this service keeps no bases: start it with --bases FOLDER"}
	}
	f, err := os.Open(d.BaseFile(disk))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, &platform.Refusal{Why: "the service does not have the disk " + disk + " any more"}
	}
	if err != nil {
		return nil, 0, err
	}
	info, err := f.Stat()
	if err == nil {
		_, err = f.Seek(offset, io.SeekStart)
	}
	if err != nil {
		return nil, 0, errors.Join(err, f.Close())
	}
	return f, info.Size(), nil
}
