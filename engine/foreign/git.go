package foreign

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-git/go-billy/v5/osfs"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/cache"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/format/packfile"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/storer"
	"github.com/go-git/go-git/v5/storage/filesystem"

	"nimblepane/sandbox"
)

const (
	taskTree    = "git-tree"
	taskHistory = "git-history"
)

// What a folder of a commit may have at most.
const (
	mostFiles     = 20_000
	mostDepth     = 64
	mostFileBytes = 4 << 30
	mostTreeBytes = 8 << 30
	streamedFrom  = 1 << 20 // bytes of an object that is not in memory as a whole
)

// Commit is a commit of a repository.
type Commit struct {
	Hash, Author, Subject string
}

// gitRequest names a commit and a folder in a pack.
type gitRequest struct {
	Tip    string // a commit, or a tag of one
	Folder string // "" for the whole repository
	Most   int    // commits of a history
}

// TreeFolder is where GitTree writes the files.
const TreeFolder = "tree"

// objectsFolder is where a task keeps the objects of a pack.
const objectsFolder = "objects"

// GitTree writes the files of a folder, as a commit has them, into TreeFolder of an empty folder. The pack has to
// have the commit with all of the folder.
func GitTree(ctx context.Context, pack, tip, folder, into string) (Commit, error) {
	return ask[Commit](ctx, sandbox.Job{
		Task: taskTree, Request: gitRequest{Tip: tip, Folder: folder}, Input: pack, Output: into,
		Limits: sandbox.Limits{CPU: 5 * time.Minute, Wall: 10 * time.Minute, File: mostFileBytes},
	})
}

// GitHistory returns the ancestors of a commit that changed a folder, the newest first, as far as the pack has them.
// It needs an empty folder for itself.
func GitHistory(ctx context.Context, pack, tip, folder, into string, most int) ([]Commit, error) {
	return ask[[]Commit](ctx, sandbox.Job{
		Task: taskHistory, Request: gitRequest{tip, folder, most}, Input: pack, Output: into,
		Limits: sandbox.Limits{CPU: 5 * time.Minute, Wall: 10 * time.Minute, File: mostFileBytes},
	})
}

// unpacked reads the pack, and returns the commit of the tip.
func unpacked(r gitRequest) (storer.EncodedObjectStorer, *object.Commit, error) {
	f, err := os.Open(sandbox.InputPath)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	objects := filesystem.NewStorageWithOptions(osfs.New(filepath.Join(sandbox.OutputPath, objectsFolder)),
		cache.NewObjectLRU(8*cache.MiByte), filesystem.Options{LargeObjectThreshold: streamedFrom})
	commit, err := unpack(objects, f, r.Tip)
	return objects, commit, err
}

// unpack reads a pack to a storage, and returns the commit of the tip.
func unpack(objects storer.Storer, pack io.Reader, tip string) (*object.Commit, error) {
	if err := packfile.UpdateObjectStorage(objects, pack); err != nil {
		return nil, fmt.Errorf("the pack that the repository sent is not right: %w", err)
	}
	hash := plumbing.NewHash(tip)
	for range 10 { // a tag can be of a tag
		tag, err := object.GetTag(objects, hash)
		if err != nil {
			break
		}
		hash = tag.Target
	}
	commit, err := object.GetCommit(objects, hash)
	if err != nil {
		return nil, fmt.Errorf("the repository has no commit %.12s", tip)
	}
	return commit, nil
}

func gitTree(r gitRequest) (c Commit, err error) {
	objects, commit, err := unpacked(r)
	if err != nil {
		return c, err
	}
	hash, err := folderOf(objects, commit, r.Folder)
	if err != nil {
		return c, err
	}
	if hash.IsZero() {
		return c, fmt.Errorf("commit %.12s has no folder %s", commit.Hash, r.Folder)
	}
	w := treeWriter{objects: objects, commit: commit.Hash}
	// All is counted before anything is written: few objects can describe many files.
	if err := w.walk(hash, ".", 0, w.count); err != nil {
		return c, err
	}
	root, err := os.OpenRoot(sandbox.OutputPath)
	if err != nil {
		return c, err
	}
	defer root.Close()
	w.root = root
	if err := root.Mkdir(TreeFolder, 0o755); err != nil {
		return c, err
	}
	return commitOf(commit), w.walk(hash, ".", 0, w.write)
}

func commitOf(c *object.Commit) Commit {
	subject, _, _ := strings.Cut(strings.TrimSpace(c.Message), "\n")
	return Commit{c.Hash.String(), beginningOf(c.Author.Name), beginningOf(subject)}
}

// beginningOf is a text of which 200 characters are kept.
func beginningOf(text string) string {
	runes := []rune(strings.ToValidUTF8(strings.TrimSpace(text), "?"))
	return string(runes[:min(len(runes), 200)])
}

// treeWriter writes the files of a tree.
type treeWriter struct {
	objects storer.EncodedObjectStorer
	commit  plumbing.Hash
	root    *os.Root
	entries int
	bytes   int64
}

// walk calls do for each entry of a tree, for a folder before its entries.
func (w *treeWriter) walk(tree plumbing.Hash, at string, depth int, do func(name string,
	e object.TreeEntry) error,
) error {
	if depth > mostDepth {
		return fmt.Errorf("commit %.12s has folders that are more than %d deep", w.commit, mostDepth)
	}
	t, err := object.GetTree(w.objects, tree)
	if err != nil {
		return fmt.Errorf("read folder %s of commit %.12s: %w", at, w.commit, err)
	}
	for _, e := range t.Entries {
		name := path.Join(at, e.Name)
		if e.Name == "" || e.Name == "." || e.Name == ".." || strings.ContainsAny(e.Name, "/\x00") {
			return fmt.Errorf("commit %.12s has a file that cannot be called so: %q", w.commit, name)
		}
		if err := do(name, e); err != nil {
			return err
		}
		if e.Mode == filemode.Dir {
			if err := w.walk(e.Hash, name, depth+1, do); err != nil {
				return err
			}
		}
	}
	return nil
}

// count refuses more than is taken of a commit.
func (w *treeWriter) count(name string, e object.TreeEntry) error {
	if w.entries++; w.entries > mostFiles {
		return fmt.Errorf("commit %.12s has more than %d files: say in which folder the sheet is", w.commit, mostFiles)
	}
	if len(name) > 1000 {
		return fmt.Errorf("commit %.12s has a file with a name of more than 1000 bytes", w.commit)
	}
	if e.Mode == filemode.Dir || e.Mode == filemode.Submodule {
		return nil
	}
	size, err := w.objects.EncodedObjectSize(e.Hash)
	if err != nil {
		return fmt.Errorf("read %s of commit %.12s: %w", name, w.commit, err)
	}
	if w.bytes += size; size > mostFileBytes || w.bytes > mostTreeBytes {
		return fmt.Errorf("commit %.12s has files of more than %d GiB, or one of more than %d GiB: say in which "+
			"folder the "+
			"sheet is", w.commit, int64(mostTreeBytes)>>30, int64(mostFileBytes)>>30)
	}
	return nil
}

// write writes a file, folder or link. Submodules are left out.
func (w *treeWriter) write(name string, e object.TreeEntry) error {
	at := filepath.Join(TreeFolder, name)
	switch e.Mode {
	case filemode.Dir:
		return w.root.Mkdir(at, 0o755)
	case filemode.Submodule:
		return nil
	case filemode.Symlink:
		target, err := w.content(e.Hash, 4096)
		if err != nil {
			return err
		}
		return w.root.Symlink(string(target), at)
	}
	mode := os.FileMode(0o644)
	if e.Mode == filemode.Executable {
		mode = 0o755
	}
	f, err := w.root.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	blob, err := object.GetBlob(w.objects, e.Hash)
	if err != nil {
		return errors.Join(err, f.Close())
	}
	from, err := blob.Reader()
	if err != nil {
		return errors.Join(err, f.Close())
	}
	_, err = io.Copy(f, io.LimitReader(from, blob.Size))
	return errors.Join(err, from.Close(), f.Close())
}

func (w *treeWriter) content(hash plumbing.Hash, most int64) ([]byte, error) {
	blob, err := object.GetBlob(w.objects, hash)
	if err != nil {
		return nil, err
	}
	from, err := blob.Reader()
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(from, most))
	return text, errors.Join(err, from.Close())
}

func gitHistory(r gitRequest) (commits []Commit, err error) {
	objects, head, err := unpacked(r)
	if err != nil {
		return nil, err
	}
	all := object.NewCommitIterCTime(head, nil, nil)
	defer all.Close()
	commits = []Commit{}
	for seen := 0; len(commits) < r.Most && seen < 10*r.Most; seen++ {
		c, err := all.Next()
		if err != nil {
			break // the first of all, or what is before the last that was fetched
		}
		changed, err := changes(objects, c, r.Folder)
		if err != nil {
			return nil, err
		}
		if changed {
			commits = append(commits, commitOf(c))
		}
	}
	return commits, nil
}

// changes says whether a folder is another in a commit than in each of those before it that are here.
func changes(objects storer.EncodedObjectStorer, c *object.Commit, folder string) (bool, error) {
	is, err := folderOf(objects, c, folder)
	if err != nil {
		return false, err
	}
	if len(c.ParentHashes) == 0 {
		return !is.IsZero(), nil
	}
	for _, h := range c.ParentHashes {
		before, err := object.GetCommit(objects, h)
		if err != nil {
			return false, nil // it was not fetched: nobody can say
		}
		was, err := folderOf(objects, before, folder)
		if err != nil || was == is {
			return false, err
		}
	}
	return true, nil
}

// folderOf is the tree of a folder in a commit, zero if it has none.
func folderOf(objects storer.EncodedObjectStorer, c *object.Commit, folder string) (plumbing.Hash, error) {
	if folder == "" {
		return c.TreeHash, nil
	}
	tree, err := object.GetTree(objects, c.TreeHash)
	if err != nil {
		return plumbing.ZeroHash, err
	}
	e, err := tree.FindEntry(folder)
	if err != nil || e.Mode != filemode.Dir {
		return plumbing.ZeroHash, nil
	}
	return e.Hash, nil
}
