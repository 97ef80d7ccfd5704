package builds

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"time"

	"github.com/dustin/go-humanize"
	"gorm.io/gorm"

	"nimblepane/core/problem"
	"nimblepane/core/sheet"
	"nimblepane/engine/foreign"
	"nimblepane/sandbox"
	"nimblepane/store"
)

// Files that sheets name are sent before the sheets are, in pieces, and kept by their digests: what is there already is
// not sent again, and a build has the same files to its end whatever becomes of those that were sent.

// filesKept is for how long a file is kept that no build which goes on needs, in real time.
const filesKept = 7 * 24 * time.Hour

// keptPiece is how much of a file is kept at once, in bytes.
const keptPiece = 4 << 20

// Order is a sheet as it is handed in.
type Order struct {
	Name   string // of the kept sheet that it is, "" if it is of none
	Text   string
	Values map[string]string // of its parameters
	Files  map[string]string // digests of what it names beside it, by path
	// Commit is that which it was taken from, "" if that is not known, and Commits are the subject lines since the one
	// of the last build, the newest first.
	Commit  string
	Commits []string
}

// SendFile says that a file is sent next, and returns how much of it is there. One that is meant as a folder is the
// archive of one.
func (bs *Builds) SendFile(ctx context.Context, actor, digest string, size int64, folder bool) (f store.SheetFile,
	err error,
) {
	if size > sheet.MostFile {
		return f, problem.TooLarge.Errorf("the file has %s: the most is %s", humanize.IBytes(uint64(size)),
			humanize.IBytes(sheet.MostFile))
	}
	if folder { // its archive is written to a file to be checked
		room, err := bs.engine.Room()
		if err != nil {
			return f, err
		}
		if room < size {
			return f, problem.NoSpace.Errorf("the check of a folder of %s needs as much space in the folder of "+
				"bases, which has %s free: free some space there", humanize.IBytes(uint64(size)),
				humanize.IBytes(uint64(max(0, room))))
		}
	}
	err = bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		f, err = store.AddSheetFile(tx, digest, size)
		if err == nil && f.Size != size {
			err = problem.InvalidRequest.Errorf("the file %s has %d bytes, not %d", digest, f.Size, size)
		}
		return err
	})
	if err != nil {
		return f, err
	}
	return bs.verify(ctx, actor, f, folder)
}

// SendPiece adds to a file what comes next of it.
func (bs *Builds) SendPiece(ctx context.Context, actor, digest string, from int64, content []byte, folder bool) (
	f store.SheetFile, err error,
) {
	err = bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		f, err = store.LockSheetFile(tx.DB, digest, actor)
		switch {
		case err != nil:
			return err
		case f.Whole:
			return nil
		case f.Have != from:
			return problem.UploadOffset.Errorf("%d bytes of the file are stored: continue at byte %d, not at byte %d",
				f.Have,
				f.Have, from)
		case f.Have+int64(len(content)) > f.Size:
			return problem.InvalidRequest.Errorf("the file has %d bytes as announced, but the upload reaches byte %d",
				f.Size,
				f.Have+int64(len(content)))
		case len(content) == 0:
			return nil
		}
		return store.AddSheetFilePiece(tx, &f, content)
	})
	if err != nil {
		return f, err
	}
	return bs.verify(ctx, actor, f, folder)
}

// KeepFile keeps a file that a sheet names, as far as it is not here.
func (bs *Builds) KeepFile(ctx context.Context, actor string, content io.ReadSeeker, digest string, size int64,
	folder bool,
) error {
	f, err := bs.SendFile(ctx, actor, digest, size, folder)
	buffer := make([]byte, keptPiece)
	for err == nil && !f.Whole {
		if _, err := content.Seek(f.Have, io.SeekStart); err != nil {
			return err
		}
		n, rerr := io.ReadFull(content, buffer)
		if rerr != nil && !errors.Is(rerr, io.EOF) && !errors.Is(rerr, io.ErrUnexpectedEOF) {
			return rerr
		}
		if n == 0 {
			return errors.New("it has become shorter while it was read")
		}
		f, err = bs.SendPiece(ctx, actor, digest, f.Have, buffer[:n], folder)
		if errors.Is(err, problem.UploadOffset) { // another upload of the same file is running
			f, err = bs.SendFile(ctx, actor, digest, size, folder)
		}
	}
	return err
}

// verify sees whether a file is what it was said to be, once all of it is there. One that is not is forgotten.
func (bs *Builds) verify(ctx context.Context, actor string, f store.SheetFile, folder bool) (out store.SheetFile,
	failed error,
) {
	if f.Have < f.Size || f.Whole && (f.Folder || !folder) {
		return f, nil
	}
	hash := sha256.New()
	into := io.Writer(hash)
	var archive *os.File // of a folder: it is parsed in the sandbox, which reads files
	if folder {
		var err error
		if archive, err = bs.engine.Scratch(); err != nil {
			return f, err
		}
		defer func() { failed = errors.Join(failed, archive.Close(), os.Remove(archive.Name())) }()
		into = io.MultiWriter(hash, archive)
	}
	_, err := io.Copy(into, store.UploadReader(bs.engine.Store.DB.WithContext(ctx), f))
	if errors.Is(err, store.ErrNotFound) && f.Sender != "" {
		// Another request has finished the upload while it was read.
		if f, err = store.LockSheetFile(bs.engine.Store.DB.WithContext(ctx), f.Digest, ""); err == nil {
			return bs.verify(ctx, actor, f, folder)
		}
	}
	if err != nil {
		return f, err
	}
	is := hex.EncodeToString(hash.Sum(nil))
	whole := is == f.Digest
	var unfit error
	if whole && folder {
		unfit = foreign.CheckFolder(ctx, archive.Name())
		var unavailable *sandbox.Unavailable
		switch {
		case errors.As(unfit, &unavailable):
			return f, problem.NotConfigured.Errorf("%s", unavailable)
		case unfit != nil && !sandbox.Final(unfit):
			return f, unfit
		}
	}
	err = bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		if f, err = store.LockSheetFile(tx.DB, f.Digest, f.Sender); err != nil {
			return err
		}
		if !whole {
			return store.DeleteSheetFile(tx, f)
		}
		if !f.Whole {
			tx.Record(store.Entry{
				Verb: "sheet-file.send", Subject: "file " + f.Digest[:12],
				Detail: map[string]any{"digest": f.Digest, "bytes": f.Size},
			})
		}
		return store.FinishSheetFile(tx, &f, folder && unfit == nil)
	})
	switch {
	case err != nil:
		return f, err
	case !whole:
		return f, problem.DigestMismatch.Errorf("the uploaded file has digest %s, not %s: upload it again", is,
			f.Digest)
	case unfit != nil:
		return f, problem.InvalidRequest.Errorf("the uploaded archive is not a folder: %s", unfit)
	}
	return f, nil
}

// withFiles returns a sheet with what it names beside it. The error is sheet.WrongFiles if something is missing.
func withFiles(db *gorm.DB, s sheet.Sheet, named map[string]string) (sheet.Sheet, error) {
	files, err := store.SheetFiles(db, slices.Collect(maps.Values(named)))
	if err != nil {
		return s, err
	}
	contents := map[string]sheet.Content{}
	for path, digest := range named {
		if i := slices.IndexFunc(files, func(f store.SheetFile) bool { return f.Digest == digest }); i >= 0 {
			contents[path] = sheet.Content{SHA256: digest, Size: files[i].Size, Folder: files[i].Folder}
		}
	}
	return s.WithFiles(contents, func(c sheet.Content) ([]byte, error) {
		text, err := io.ReadAll(store.SheetFileReader(db, c.SHA256))
		if err != nil {
			return nil, fmt.Errorf("read a script of the sheet: %w", err)
		}
		return text, nil
	})
}
