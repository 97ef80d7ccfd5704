package pack

import (
	"archive/tar"
	"bytes"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"nimblepane/internal/fuzzlimit"
)

func packed(t *testing.T, of fs.FS) []byte {
	var b bytes.Buffer
	require.NoError(t, Folder(of, &b))
	return b.Bytes()
}

func TestAFolderIsOneStreamWhereverItIsPacked(t *testing.T) {
	t.Parallel()
	of := fstest.MapFS{
		"fares.conf":      {Data: []byte("zones = 3\n"), Mode: 0o644},
		"bin/count":       {Data: []byte("#!/bin/sh\n"), Mode: 0o755},
		"bin/tally":       {Data: []byte("count"), Mode: fs.ModeSymlink | 0o777},
		"empty":           {Mode: fs.ModeDir | 0o700},
		"with\nline feed": {Data: []byte("x")},
	}
	first := packed(t, of)
	require.NoError(t, Check(bytes.NewReader(first)))
	of["fares.conf"].ModTime = of["fares.conf"].ModTime.AddDate(1, 0, 0)
	require.Equal(t, first, packed(t, of), "times are not part of it")

	found := map[string]tar.Header{}
	for r := tar.NewReader(bytes.NewReader(first)); ; {
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		found[h.Name] = *h
	}
	require.Len(t, found, 6)
	require.EqualValues(t, 0o755, found["bin/count"].Mode)
	require.Equal(t, "count", found["bin/tally"].Linkname)
	require.Contains(t, found, "empty/")
}

func TestWhatLeadsOutOfAFolderIsNotPacked(t *testing.T) {
	t.Parallel()
	for target, wrong := range map[string]string{
		"/etc/shadow": "outside the folder", "../../x": "outside the folder", "..": "outside the folder",
	} {
		of := fstest.MapFS{"a/link": {Data: []byte(target), Mode: fs.ModeSymlink}}
		if target == ".." {
			of = fstest.MapFS{"link": of["a/link"]}
		}
		require.ErrorContains(t, Folder(of, io.Discard), wrong, target)
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f"), nil, 0))
	require.NoError(t, os.Symlink("../"+filepath.Base(dir)+"/f", filepath.Join(dir, "l")))
	require.ErrorContains(t, Folder(os.DirFS(dir), io.Discard), "outside the folder")
}

func TestAnArchiveUnpacksIntoItsFolderAndNowhereElse(t *testing.T) {
	t.Parallel()
	archive := func(entries ...tar.Header) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, h := range entries {
			require.NoError(t, w.WriteHeader(&h))
		}
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	file := func(name string) tar.Header { return tar.Header{Typeflag: tar.TypeReg, Name: name} }
	link := func(name, to string) tar.Header {
		return tar.Header{Typeflag: tar.TypeSymlink, Name: name, Linkname: to}
	}
	for name, bad := range map[string]struct {
		archive []byte
		wrong   string
	}{
		"above":           {archive(file("../x")), `"../x" in it would be unpacked outside its folder`},
		"above, hidden":   {archive(file("a/../../x")), "outside its folder"},
		"absolute":        {archive(file("/etc/passwd")), "outside its folder"},
		"nothing":         {archive(file("")), "outside its folder"},
		"the folder":      {archive(link(".", "etc")), "outside its folder"},
		"link out":        {archive(link("l", "/etc")), `the link "l" in it points to "/etc", outside its folder`},
		"link above":      {archive(link("a/l", "../../etc")), "outside its folder"},
		"through a link":  {archive(link("l", "a"), file("l/x")), `"l/x" in it would be unpacked through the link "l"`},
		"over a link":     {archive(link("l", "a"), file("l")), "through the link"},
		"deep below one":  {archive(link("l", "a"), file("l/b/c/d")), "through the link"},
		"hard link":       {archive(tar.Header{Typeflag: tar.TypeLink, Name: "h", Linkname: "x"}), "is no file"},
		"device":          {archive(tar.Header{Typeflag: tar.TypeChar, Name: "null"}), "is no file, folder or link"},
		"no archive":      {[]byte(strings.Repeat("no archive ", 100)), "it is no tar archive of a folder"},
		"cut off":         {archive(file("a"), file("b"))[:700], "it is no tar archive"},
		"windows' slash":  {archive(file(`..\x`)), "outside its folder"},
		"links in a loop": {archive(link("a", "b"), link("b", "a"), file("a/x")), "through the link"},
	} {
		require.ErrorContains(t, Check(bytes.NewReader(bad.archive)), bad.wrong, name)
	}
	require.NoError(t, Check(bytes.NewReader(archive(
		tar.Header{Typeflag: tar.TypeDir, Name: "./"}, file("./..a"), link("l", "..a"), link("d/l", "../l")))))
}

func FuzzWhatIsCheckedUnpacksWithin(f *testing.F) {
	f.Add(packed(&testing.T{}, fstest.MapFS{
		"a/b": {Data: []byte("x")}, "l": {Data: []byte("a"), Mode: fs.ModeSymlink},
	}))
	f.Fuzz(func(t *testing.T, archive []byte) {
		defer fuzzlimit.Check(t)()
		if Check(bytes.NewReader(archive)) != nil {
			return
		}
		for r := tar.NewReader(bytes.NewReader(archive)); ; {
			h, err := r.Next()
			if err != nil {
				return
			}
			require.True(t, filepath.IsLocal(h.Name), h.Name)
		}
	})
}
