package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"gorm.io/gorm"
)

// SheetFile is a file that build sheets name, or the upload of one. A file that is whole is known by its content. Until
// then each account has its own upload.
type SheetFile struct {
	Digest string    `gorm:"primaryKey"` // SHA-256, in hexadecimal digits
	Sender string    `gorm:"primaryKey"` // the account that uploads it, "" once it is whole
	Size   int64     // in bytes
	Have   int64     // bytes of it that are there
	Whole  bool      // all of it is there, and it has the digest
	Folder bool      // it is the archive of a folder, and unpacks into it
	UsedAt time.Time // last, in real time
}

// sheetFilePiece is a row of sheet_file_pieces.
type sheetFilePiece struct {
	Digest  string
	Sender  string
	First   int64
	Content []byte
}

func (sheetFilePiece) TableName() string { return "sheet_file_pieces" }

// AddSheetFile begins the upload of a file by the change's account, unless the file is there, and says that it is used.
// An account that says another size than before begins again.
func AddSheetFile(tx *Tx, digest string, size int64) (f SheetFile, err error) {
	used := tx.Raw("update sheet_files set used_at = now() where digest = ? and whole returning *", digest).Scan(&f)
	if used.Error != nil || used.RowsAffected > 0 {
		return f, used.Error
	}
	if err := tx.Exec("delete from sheet_files where digest = ? and sender = ? and size <> ?", digest, tx.Actor,
		size).Error; err != nil {
		return f, err
	}
	err = tx.Raw(`insert into sheet_files (digest, sender, size, used_at) values (?, ?, ?, now())
		on conflict (digest, sender) do update set used_at = now() returning *`, digest, tx.Actor, size).Scan(&f).Error
	return f, err
}

// LockSheetFile returns the file if it is whole, or else the account's upload of it, or ErrNotFound, and keeps others
// from changing it until the transaction ends.
func LockSheetFile(db *gorm.DB, digest, sender string) (SheetFile, error) {
	return first[SheetFile](db.Clauses(forChange).Order("sender"), "the file "+digest,
		"digest = ? and sender in ('', ?)", digest, sender)
}

// FinishSheetFile makes an upload that has been locked the whole file.
func FinishSheetFile(tx *Tx, f *SheetFile, folder bool) error {
	if f.Sender != "" {
		// Another account can have been faster, or finish its upload at this moment.
		if err := tx.Exec("select pg_advisory_xact_lock(?, hashtext(?))", lockSheetFile, f.Digest).Error; err != nil {
			return err
		}
		whole, err := LockSheetFile(tx.DB, f.Digest, "")
		if err == nil {
			if err := DeleteSheetFile(tx, *f); err != nil {
				return err
			}
			*f = whole
		} else if !errors.Is(err, ErrNotFound) {
			return err
		}
	}
	f.Folder = f.Folder || folder
	err := tx.Exec("update sheet_files set sender = '', whole = true, folder = ? where digest = ? and sender = ?",
		f.Folder, f.Digest, f.Sender).Error
	f.Sender, f.Whole = "", true
	return err
}

// SheetFiles returns those of the files that are there whole.
func SheetFiles(db *gorm.DB, digests []string) (files []SheetFile, err error) {
	err = db.Where("whole and digest in ?", digests).Find(&files).Error
	return files, err
}

// UseSheetFiles says that files are used, so that they are not deleted before whoever uses them has said so.
func UseSheetFiles(tx *Tx, digests []string) error {
	if len(digests) == 0 {
		return nil
	}
	return tx.Exec("update sheet_files set used_at = now() where digest in ?", digests).Error
}

// AddSheetFilePiece adds what comes next of a file that has been locked.
func AddSheetFilePiece(tx *Tx, f *SheetFile, content []byte) error {
	if err := tx.Create(&sheetFilePiece{f.Digest, f.Sender, f.Have, content}).Error; err != nil {
		return fmt.Errorf("keep a piece of the file %s: %w", f.Digest, err)
	}
	f.Have += int64(len(content))
	f.UsedAt = time.Now()
	return tx.Save(f).Error
}

// DeleteSheetFile forgets a file, or an upload.
func DeleteSheetFile(tx *Tx, f SheetFile) error {
	return tx.Exec("delete from sheet_files where digest = ? and sender = ?", f.Digest, f.Sender).Error
}

// PruneSheetFiles deletes files that were last used before the time, and that no kept sheet names and no build needs
// which goes on.
func PruneSheetFiles(tx *Tx, before time.Time) error {
	return tx.Exec(`delete from sheet_files f where used_at < ? and not exists (
		select from builds b, jsonb_each_text(b.files) named where not b.settled and named.value = f.digest) and not exists (
		select from sheets s, jsonb_each_text(s.files) named where named.value = f.digest)`,
		before).Error
}

// SheetFileContent reads a file that is whole. Reading another one is an error.
func (s *Store) SheetFileContent(ctx context.Context, digest string) io.ReadCloser {
	return io.NopCloser(SheetFileReader(s.DB.WithContext(ctx), digest))
}

// SheetFileReader is SheetFileContent as part of a transaction.
func SheetFileReader(db *gorm.DB, digest string) io.Reader {
	return UploadReader(db, SheetFile{Digest: digest})
}

// UploadReader reads an upload of which all is there.
func UploadReader(db *gorm.DB, f SheetFile) io.Reader {
	return &sheetFileReader{db: db, digest: f.Digest, sender: f.Sender}
}

type sheetFileReader struct {
	db             *gorm.DB
	digest, sender string
	at             int64 // byte that the next piece begins with
	piece          bytes.Reader
}

func (r *sheetFileReader) Read(b []byte) (int, error) {
	for r.piece.Len() == 0 {
		var next sheetFilePiece
		err := fresh(r.db).Where("digest = ? and sender = ? and first = ?", r.digest, r.sender, r.at).Take(&next).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			f, err := first[SheetFile](fresh(r.db), "the file "+r.digest, "digest = ? and sender = ?", r.digest,
				r.sender)
			if err == nil && r.at != f.Size {
				err = fmt.Errorf("of the file %s only %d of %d bytes are there: send it again", r.digest, r.at, f.Size)
			}
			if err != nil {
				return 0, err
			}
			return 0, io.EOF
		}
		if err != nil {
			return 0, fmt.Errorf("read the file %s: %w", r.digest, err)
		}
		r.at += int64(len(next.Content))
		r.piece.Reset(next.Content)
	}
	return r.piece.Read(b)
}
