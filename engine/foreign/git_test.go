package foreign

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/format/packfile"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/storage/memory"
	"github.com/stretchr/testify/require"

	"nimblepane/internal/fuzzlimit"
	"nimblepane/sandbox"
)

// repository is one of objects that a test makes.
type repository struct {
	*memory.Storage
	t testing.TB
}

func newRepository(t testing.TB) repository { return repository{memory.NewStorage(), t} }

func (r repository) blob(text string) plumbing.Hash {
	o := r.NewEncodedObject()
	o.SetType(plumbing.BlobObject)
	w, err := o.Writer()
	require.NoError(r.t, err)
	_, err = w.Write([]byte(text))
	require.NoError(r.t, err)
	require.NoError(r.t, w.Close())
	hash, err := r.SetEncodedObject(o)
	require.NoError(r.t, err)
	return hash
}

// raw keeps an object as it is, right or not.
func (r repository) raw(kind plumbing.ObjectType, content string) plumbing.Hash {
	o := r.NewEncodedObject()
	o.SetType(kind)
	w, err := o.Writer()
	require.NoError(r.t, err)
	_, err = w.Write([]byte(content))
	require.NoError(r.t, err)
	hash, err := r.SetEncodedObject(o)
	require.NoError(r.t, err)
	return hash
}

func (r repository) tree(entries ...object.TreeEntry) plumbing.Hash {
	var text strings.Builder
	for _, e := range entries {
		fmt.Fprintf(&text, "%o %s\x00%s", uint32(e.Mode), e.Name, e.Hash[:])
	}
	return r.raw(plumbing.TreeObject, text.String())
}

func (r repository) commit(tree plumbing.Hash, subject string, parents ...plumbing.Hash) plumbing.Hash {
	text := "tree " + tree.String() + "\n"
	for _, p := range parents {
		text += "parent " + p.String() + "\n"
	}
	return r.raw(plumbing.CommitObject, text+"author Ida Strand <ida@ferries.example> 1764000000 +0000\n"+
		"committer Ida Strand <ida@ferries.example> 1764000000 +0000\n\n"+subject+"\n")
}

// pack is a file with all objects, and an empty folder.
func (r repository) pack() (file, into string) {
	file, into = filepath.Join(r.t.TempDir(), "pack"), r.t.TempDir()
	f, err := os.Create(file)
	require.NoError(r.t, err)
	var all []plumbing.Hash
	for h := range r.Objects {
		all = append(all, h)
	}
	_, err = packfile.NewEncoder(f, r.Storage, false).Encode(all, 0)
	require.NoError(r.t, err)
	require.NoError(r.t, f.Close())
	return file, into
}

func entry(name string, mode filemode.FileMode, hash plumbing.Hash) object.TreeEntry {
	return object.TreeEntry{Name: name, Mode: mode, Hash: hash}
}

func TestAFolderOfACommitIsWritten(t *testing.T) {
	t.Parallel()
	r := newRepository(t)
	desk := r.tree(entry("bin", filemode.Dir, r.tree(entry("tally.sh", filemode.Executable, r.blob("#!/bin/sh\n")))),
		entry("desk.yaml", filemode.Regular, r.blob("image: desk\n")), entry("link", filemode.Symlink,
			r.blob("/etc/shadow")),
		entry("other", filemode.Submodule, plumbing.NewHash("7777777777777777777777777777777777777777")))
	first := r.commit(r.tree(entry("desk", filemode.Dir, desk)), "Desk")
	second := r.commit(r.tree(entry("README", filemode.Regular, r.blob("x")), entry("desk", filemode.Dir, desk)),
		"Read me", first)
	file, into := r.pack()
	c, err := GitTree(t.Context(), file, second.String(), "desk", into)
	require.NoError(t, err)
	require.Equal(t, Commit{second.String(), "Ida Strand", "Read me"}, c)
	text, err := os.ReadFile(filepath.Join(into, "tree/desk.yaml"))
	require.NoError(t, err)
	require.Equal(t, "image: desk\n", string(text))
	info, err := os.Stat(filepath.Join(into, "tree/bin/tally.sh"))
	require.NoError(t, err)
	require.NotZero(t, info.Mode()&0o100)
	require.NoFileExists(t, filepath.Join(into, "tree/README"))
	target, err := os.Readlink(filepath.Join(into, "tree/link"))
	require.NoError(t, err)
	require.Equal(t, "/etc/shadow", target, "a reader that keeps to the folder refuses it")

	list, err := GitHistory(t.Context(), file, second.String(), "desk", t.TempDir(), 10)
	require.NoError(t, err)
	require.Equal(t, []Commit{{first.String(), "Ida Strand", "Desk"}}, list, "the second changed nothing of it")
	for want, args := range map[string][]string{
		"has no folder boat":      {second.String(), "boat"},
		"has no commit 777777777": {"7777777777777777777777777777777777777777", ""},
	} {
		_, err := GitTree(t.Context(), file, args[0], args[1], t.TempDir())
		require.ErrorContains(t, err, want)
		require.True(t, sandbox.Final(err))
	}
}

func TestACommitThatDescribesTooMuchIsRefusedBeforeItIsWritten(t *testing.T) {
	t.Parallel()
	for want, make := range map[string]func(r repository) plumbing.Hash{
		"has more than 20000 files": func(r repository) plumbing.Hash {
			// Ten folders of ten folders of ... of one and the same file.
			at := r.blob("x")
			mode := filemode.Regular
			for range 8 {
				var all []object.TreeEntry
				for n := range 10 {
					all = append(all, entry(fmt.Sprint(n), mode, at))
				}
				at, mode = r.tree(all...), filemode.Dir
			}
			return at
		},
		"more than 64 deep": func(r repository) plumbing.Hash {
			at := r.tree(entry("x", filemode.Regular, r.blob("x")))
			for range 100 {
				at = r.tree(entry("d", filemode.Dir, at))
			}
			return at
		},
		"cannot be called so": func(r repository) plumbing.Hash {
			return r.tree(entry("..", filemode.Dir, r.tree(entry("x", filemode.Regular, r.blob("x")))))
		},
		"a name of more than 1000 bytes": func(r repository) plumbing.Hash {
			return r.tree(entry(strings.Repeat("x", 2000), filemode.Regular, r.blob("x")))
		},
	} {
		r := newRepository(t)
		tip := r.commit(make(r), "x")
		file, into := r.pack()
		_, err := GitTree(t.Context(), file, tip.String(), "", into)
		require.ErrorContains(t, err, want)
		require.NoDirExists(t, filepath.Join(into, "tree"))
	}
}

func TestAPackThatIsNoneIsRefused(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "pack")
	require.NoError(t, os.WriteFile(file, []byte("PACK\x00\x00\x00\x02\x00\x01\x00\x00and no more"), 0o600))
	_, err := GitTree(t.Context(), file, "7777777777777777777777777777777777777777", "", t.TempDir())
	require.Error(t, err)
	require.True(t, sandbox.Final(err), "%v", err)
}

func FuzzPack(f *testing.F) {
	r := newRepository(f)
	tip := r.commit(r.tree(entry("desk", filemode.Dir, r.tree(entry("x", filemode.Regular, r.blob("x"))))), "x")
	file, _ := r.pack()
	content, err := os.ReadFile(file)
	require.NoError(f, err)
	f.Add(content, 20)
	f.Fuzz(func(t *testing.T, pack []byte, at int) {
		defer fuzzlimit.Check(t)()
		if at >= 0 && at < len(pack) {
			pack[at] ^= 0x55
		}
		objects := memory.NewStorage()
		commit, err := unpack(objects, bytes.NewReader(pack), tip.String())
		if err != nil {
			return
		}
		if hash, err := folderOf(objects, commit, "desk"); err == nil {
			w := treeWriter{objects: objects, commit: commit.Hash}
			_ = w.walk(hash, ".", 0, w.count)
		}
	})
}

// FuzzTree makes trees of what the fuzzer comes up with. Each entry takes four
// bytes: the tree that it is in, its mode, its name, and the object that it is.
// An object can be that of a later tree, which no repository has, or the same
// for many entries.
func FuzzTree(f *testing.F) {
	f.Add([]byte{0, 0, 0, 0, 1, 1, 1, 0, 2, 1, 2, 1})
	f.Add(bytes.Repeat([]byte{0, 1, 1, 0, 1, 1, 1, 0, 2, 1, 2, 1}, 20))
	names := []string{"a", "b", "c", "desk.yaml", "..", ".", "", "a/b", "../x", "x\xff", strings.Repeat("n", 300)}
	modes := []filemode.FileMode{
		filemode.Regular, filemode.Dir, filemode.Symlink, filemode.Executable, filemode.Submodule, 0o7777777,
	}
	f.Fuzz(func(t *testing.T, entries []byte) {
		defer fuzzlimit.Check(t)()
		r := newRepository(t)
		all := []plumbing.Hash{r.blob("x"), plumbing.NewHash("7777777777777777777777777777777777777777")}
		for len(entries) >= 4 {
			var tree []object.TreeEntry
			for in := entries[0]; len(entries) >= 4 && entries[0] == in; entries = entries[4:] {
				tree = append(tree, entry(names[int(entries[2])%len(names)], modes[int(entries[1])%len(modes)],
					all[int(entries[3])%len(all)]))
			}
			all = append(all, r.tree(tree...))
		}
		objects, tip := r.Storage, r.commit(all[len(all)-1], "x")
		w := treeWriter{objects: objects, commit: tip}
		if w.walk(all[len(all)-1], ".", 0, w.count) != nil {
			return
		}
		root, err := os.OpenRoot(t.TempDir())
		require.NoError(t, err)
		defer root.Close()
		require.NoError(t, root.Mkdir(TreeFolder, 0o755))
		w.root = root
		_ = w.walk(all[len(all)-1], ".", 0, w.write)
		require.LessOrEqual(t, w.entries, mostFiles)
	})
}
