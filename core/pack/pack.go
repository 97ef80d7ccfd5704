// Package pack writes a folder as one stream, and says whether such a stream
// unpacks into its own folder and nowhere else.
//
// The stream is a tar archive (POSIX.1-2001, "pax"). It has folders, files and
// symbolic links; their modes are kept, and neither times nor owners are, so
// that one folder is one stream with one digest wherever it was packed.
package pack

import (
	"archive/tar"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"syscall"
)

// Unfit is an error of the files themselves: nothing but another content can fix it.
type Unfit struct{ Why string }

func (e *Unfit) Error() string { return e.Why }

func unfit(format string, args ...any) error { return &Unfit{fmt.Sprintf(format, args...)} }

// MostEntries is how many files, folders and links an archive may have.
const MostEntries = 200_000

// Folder writes all that is in a folder. A link that leads out of it, and what
// is no file, folder or link, is an error.
func Folder(of fs.FS, into io.Writer) error {
	w := tar.NewWriter(into)
	err := fs.WalkDir(of, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || name == "." {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		h := tar.Header{Format: tar.FormatPAX, Name: name, Mode: int64(info.Mode().Perm())}
		switch info.Mode().Type() {
		case 0:
			h.Typeflag, h.Size = tar.TypeReg, info.Size()
		case fs.ModeDir:
			h.Typeflag, h.Name = tar.TypeDir, name+"/"
		case fs.ModeSymlink:
			if h.Linkname, err = fs.ReadLink(of, name); err != nil {
				return err
			}
			if h.Typeflag = tar.TypeSymlink; !within(name, h.Linkname) {
				return unfit("%s is a link to %s, which is outside the folder: take it out, or have it point "+
					"inside", name, h.Linkname)
			}
		default:
			return unfit("%s is no file, folder or link: take it out of the folder", name)
		}
		if err := w.WriteHeader(&h); err != nil || h.Typeflag != tar.TypeReg {
			return err
		}
		f, err := of.Open(name)
		if err != nil {
			return err
		}
		_, err = io.Copy(w, f)
		return errors.Join(err, f.Close())
	})
	return errors.Join(err, w.Close())
}

// within says whether what a link points to is in the folder that the link is packed in.
func within(link, target string) bool {
	return !path.IsAbs(target) && fs.ValidPath(path.Join(path.Dir(link), target))
}

// Check reads an archive to its end and returns what is wrong with it: a name
// or a link that leads out of the folder that it is unpacked in, an entry below
// a link, or what is no file, folder or link.
func Check(archive io.Reader) error {
	links, entries := map[string]bool{}, 0
	for r := tar.NewReader(archive); ; entries++ {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			_, err = io.Copy(io.Discard, archive) // what fills up its last block
			return err
		}
		if err != nil {
			return unfit("it is no tar archive of a folder: %s", err)
		}
		if entries == MostEntries {
			return unfit("it has more than %d files: make it several folders", MostEntries)
		}
		// Other programs begin all names with ./, the folder itself among them.
		name := strings.TrimPrefix(strings.TrimSuffix(h.Name, "/"), "./")
		if name == "." && h.Typeflag == tar.TypeDir {
			continue
		}
		if !fs.ValidPath(name) || name == "." || strings.Contains(name, "\\") {
			return unfit("%q in it would be unpacked outside its folder", h.Name)
		}
		for above := path.Dir(name); above != "."; above = path.Dir(above) {
			if links[above] {
				return unfit("%q in it would be unpacked through the link %q", h.Name, above)
			}
		}
		switch h.Typeflag {
		case tar.TypeDir, tar.TypeReg:
			if links[name] {
				return unfit("%q in it would be unpacked through the link %q", h.Name, name)
			}
		case tar.TypeSymlink:
			if !within(name, h.Linkname) {
				return unfit("the link %q in it points to %q, outside its folder", h.Name, h.Linkname)
			}
			links[name] = true
		default:
			return unfit("%q in it is no file, folder or link", h.Name)
		}
	}
}

// Scratch is where the archive of a folder is kept while it is read.
type Scratch interface {
	io.ReadWriteSeeker
	io.Closer
}

// Open calls fn with a file, or with the archive of a folder, and with its SHA-256 in hexadecimal digits and its size
// in bytes. The error says what is wrong with what is there, or not.
func Open(beside fs.FS, name string, folder bool, scratch func() (Scratch, error),
	fn func(content io.ReadSeeker, digest string, size int64) error,
) (err error) {
	info, err := fs.Stat(beside, name)
	var refused *fs.PathError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return unfit("there is nothing of that name beside the sheet")
	case errors.As(err, &refused):
		return unreadable(refused.Err)
	case err != nil:
		return err
	case info.IsDir() && !folder:
		return unfit("it is a folder: write folder: to put one")
	case !info.IsDir() && folder:
		return unfit("it is a file: write file: to put one")
	}
	var f io.ReadSeeker
	if folder {
		archive, failed := scratch()
		if failed != nil {
			return failed
		}
		defer func() { err = errors.Join(err, archive.Close()) }()
		of, err := fs.Sub(beside, name)
		if err != nil {
			return err
		}
		if err := Folder(of, archive); err != nil {
			return err
		}
		if _, err := archive.Seek(0, io.SeekStart); err != nil {
			return err
		}
		f = archive
	} else {
		file, err := beside.Open(name)
		if err != nil {
			return err
		}
		defer file.Close()
		var can bool
		if f, can = file.(io.ReadSeeker); !can {
			return unfit("it cannot be read from its beginning again")
		}
	}
	hash := sha256.New()
	size, err := io.Copy(hash, f)
	if err != nil {
		return err
	}
	return fn(f, hex.EncodeToString(hash.Sum(nil)), size)
}

// unreadable is the error of a path that cannot be followed within the sheet's folder. What the system says about the
// storage is not an error of the files.
func unreadable(err error) error {
	var errno syscall.Errno
	if errors.As(err, &errno) && !slices.Contains([]syscall.Errno{syscall.ENOTDIR, syscall.ELOOP, syscall.ENAMETOOLONG},
		errno) {
		return fmt.Errorf("it cannot be read: %w", err)
	}
	return unfit("it cannot be read from the sheet's folder: %s", err)
}
