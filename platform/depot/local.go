//go:build linux

package depot

import (
	"bufio"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"nimblepane/core/blocks"
)

// Local is a depot in a folder of this computer.
type Local struct {
	dir  string
	mode fs.FileMode // of finished copies

	mu    sync.Mutex
	last  *blocks.Map // that was read last, with the file and time it was read from
	lastF string
	lastT int64
}

// OpenLocal returns the depot in a folder, in which it can write. Its finished copies get the mode.
func OpenLocal(dir string, mode fs.FileMode) (*Local, error) {
	if err := unix.Access(dir, unix.R_OK|unix.W_OK|unix.X_OK); err != nil {
		return nil, fmt.Errorf("%s cannot be read and written: %w", dir, err)
	}
	l := &Local{dir: dir, mode: mode}
	return l, l.tidy()
}

// forgotten is how old a file has to be that something was about to be written to, to belong to nobody.
const forgotten = time.Hour

// tidy removes what was left of such files by a process that was killed.
func (l *Local) tidy() error {
	for _, pattern := range []string{mapInWork, shareInWork} {
		files, err := filepath.Glob(filepath.Join(l.dir, pattern))
		if err != nil {
			return err
		}
		for _, f := range files {
			if info, err := os.Stat(f); err == nil && time.Since(info.ModTime()) > forgotten {
				if err := removed(f); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Names of files until they are whole.
const (
	mapInWork   = ".blocks-*"
	shareInWork = ".shares-*"
)

func (l *Local) file(name, ending string) string { return filepath.Join(l.dir, name+ending) }

// checkName keeps names of disks to what is one in this folder.
func checkName(names ...string) error {
	for _, name := range names {
		if name == "" || name != filepath.Base(name) || strings.HasPrefix(name, ".") {
			return refuse("%q is no name of a disk", name)
		}
	}
	return nil
}

// Map is Depot's.
func (l *Local) Map(ctx context.Context, disk, digest string, report func(int)) (*blocks.Map, error) {
	if err := checkName(disk); err != nil {
		return nil, err
	}
	f, err := l.open(disk)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if m, err := l.mapOf(l.file(disk, MapEnding)); err == nil && m.Digest() == digest {
		return m, nil
	}
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() > blocks.Largest {
		return nil, refuse("disk %s has %s, and the largest that can be delivered %s", disk, size(info.Size()),
			size(blocks.Largest))
	}
	mapper := blocks.NewMapper(info.Size())
	if err := readAll(ctx, f, info.Size(), mapper, report); err != nil {
		return nil, err
	}
	m, err := mapper.Map()
	if err != nil {
		return nil, err
	}
	if digest != "" && m.Digest() != digest {
		return nil, refuse("disk %s was changed: it has digest %s and should have %s", disk, m.Digest(), digest)
	}
	return m, l.writeMap(l.file(disk, MapEnding), m)
}

func (l *Local) open(disk string) (*os.File, error) {
	f, err := os.Open(l.file(disk, DiskEnding))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, refuse("there is no disk %q in %s", disk, l.dir)
	}
	return f, err
}

// mapOf reads a block map, unless it is the one that was read last.
func (l *Local) mapOf(file string) (*blocks.Map, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	l.mu.Lock()
	m := l.last
	same := l.lastF == file && l.lastT == info.ModTime().UnixNano()
	l.mu.Unlock()
	if same {
		return m, nil
	}
	if m, err = blocks.Read(f); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	l.mu.Lock()
	l.last, l.lastF, l.lastT = m, file, info.ModTime().UnixNano()
	l.mu.Unlock()
	return m, nil
}

// writeMap writes a block map whole or not at all.
func (l *Local) writeMap(file string, m *blocks.Map) error {
	f, err := os.CreateTemp(l.dir, mapInWork)
	if err != nil {
		return l.full(err, "a block map")
	}
	err = m.Write(f)
	if err == nil {
		err = f.Sync()
	}
	err = errors.Join(err, f.Close())
	if err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		return errors.Join(l.full(err, "a block map"), os.Remove(f.Name()))
	}
	return nil
}

// readAll reads a file to its end into w, a piece ahead of it, and tells how far it is.
func readAll(ctx context.Context, f io.Reader, size int64, w io.Writer, report func(int)) error {
	const pieces, length = 8, 256 << 10
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	free, full := make(chan []byte, pieces), make(chan []byte, pieces)
	for range pieces {
		free <- make([]byte, length)
	}
	read := make(chan error, 1)
	go func() {
		defer close(full)
		for {
			var piece []byte
			select {
			case piece = <-free:
			case <-ctx.Done():
				read <- ctx.Err()
				return
			}
			n, err := io.ReadFull(f, piece[:length])
			full <- piece[:n] // there is room: as many pieces are about as fit
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				read <- nil
				return
			}
			if err != nil {
				read <- err
				return
			}
		}
	}()
	for done := int64(0); ; {
		piece, more := <-full
		if !more {
			return <-read
		}
		if _, err := w.Write(piece); err != nil {
			return err
		}
		done += int64(len(piece))
		report(int(100 * done / max(1, size)))
		free <- piece
	}
}

// Send is Depot's.
func (l *Local) Send(ctx context.Context, disk, digest string, runs []blocks.Run, w io.Writer) error {
	m, err := l.Map(ctx, disk, digest, func(int) {})
	if err != nil {
		return err
	}
	if !m.Within(runs) {
		return refuse("disk %s does not have the blocks that are asked for", disk)
	}
	f, err := l.open(disk)
	if err != nil {
		return err
	}
	defer f.Close()
	p := blocks.NewSender(w)
	block := make([]byte, m.Block)
	for _, r := range runs {
		for i := r.First; i < r.First+r.Count; i++ {
			if err := ctx.Err(); err != nil {
				return err
			}
			if !right(f, m, i, block) {
				return refuse("disk %s was changed: its block %d is not what it was when the disk was captured or "+
					"came; deliver the version again, to there or from another site", disk, i)
			}
			_, n := m.Extent(i)
			if err := p.Add(block[:n]); err != nil {
				return err
			}
		}
	}
	return p.Close()
}

// right reads a block of a file and says whether it is what the map says. What cannot be read is not.
func right(f io.ReaderAt, m *blocks.Map, i int, into []byte) bool {
	offset, n := m.Extent(i)
	if _, err := f.ReadAt(into[:n], offset); err != nil && !errors.Is(err, io.EOF) {
		return false
	} else if err != nil && i != len(m.Digests)-1 {
		return false
	}
	return blocks.Of(into[:n]) == m.Digests[i]
}

// Begin is Depot's.
func (l *Local) Begin(ctx context.Context, c Coming, m *blocks.Map, report func(int)) (b Begun, err error) {
	if err := checkName(append(c.Beside, c.Copy)...); err != nil {
		return b, err
	}
	if l.whole(c.Copy) {
		right, err := l.holds(ctx, c.Copy, m, report)
		if err != nil {
			return b, err
		}
		if right { // it was stopped when the copy had its name
			b.There = m.Held()
			return b, nil
		}
		// What of it is right is taken from there, and the new one takes its place in the end: hosts may run on it.
		c.Beside = append([]string{c.Copy}, c.Beside...)
	}
	part := l.file(c.Copy, PartEnding)
	f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return b, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return b, err
	}
	g := gathering{m: m, part: f, resumed: info.Size() > 0}
	defer g.close()
	if err := f.Truncate(m.File); err != nil {
		return b, l.gaveUp(c.Copy, err)
	}
	if err := l.writeMap(part+MapEnding, m); err != nil {
		return b, l.gaveUp(c.Copy, err)
	}
	if err := g.beside(ctx, l, c); err != nil {
		return b, err
	}
	if !g.shares.Load() {
		if err := l.room(c.Copy, f, m.Held()); err != nil {
			return b, err
		}
	}
	if err := g.run(ctx, report); err != nil {
		return b, l.gaveUp(c.Copy, err)
	}
	for i, lacks := range g.lacks {
		if lacks {
			b.Lacking = blocks.Add(b.Lacking, i)
		}
	}
	b.There, b.Shared = m.Held()-m.Bytes(b.Lacking), g.shared.Load()
	if g.shares.Load() { // what is shared counts as the copy's own by now
		if err := l.room(c.Copy, f, m.Held()); err != nil {
			return b, err
		}
	}
	return b, nil
}

// holds reads a disk and says whether it is what the map says.
func (l *Local) holds(ctx context.Context, disk string, m *blocks.Map, report func(int)) (bool, error) {
	f, err := l.open(disk)
	if err != nil {
		return false, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() != m.File {
		return false, err
	}
	sum := sha256.New()
	err = readAll(ctx, f, m.File, sum, report)
	var path *fs.PathError
	if errors.As(err, &path) {
		return false, nil // what cannot be read is not right
	}
	return [sha256.Size]byte(sum.Sum(nil)) == m.Whole, err
}

// whole tells whether a copy has its name.
func (l *Local) whole(copy string) bool {
	_, err := os.Stat(l.file(copy, DiskEnding))
	return err == nil
}

// room refuses a copy that the storage has no room for, which comes to hold so many bytes.
func (l *Local) room(copy string, part *os.File, held int64) error {
	var at unix.Statfs_t
	if err := unix.Fstatfs(int(part.Fd()), &at); err != nil {
		return err
	}
	var is unix.Stat_t
	if err := unix.Fstat(int(part.Fd()), &is); err != nil {
		return err
	}
	const sector = 512 // bytes of what Stat_t counts
	need, free := held-is.Blocks*sector, int64(at.Bavail)*at.Bsize
	if need <= free {
		return nil
	}
	return l.gaveUp(copy, refuse("there is no room for copy %s in %s: it needs %s more, and %s are free; retire "+
		"versions that nobody needs, or enlarge the storage", copy, l.dir, size(need), size(free)))
}

// gaveUp removes what there is of a copy if there is no room for it: it would take that from everybody else.
func (l *Local) gaveUp(copy string, err error) error {
	if err = l.full(err, "copy "+copy); isRefusal(err) {
		return errors.Join(err, l.discard(copy))
	}
	return err
}

// full explains the error of a storage that is full.
func (l *Local) full(err error, what string) error {
	if errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) {
		return refuse("the storage in %s is full, there is no room for %s: nothing of it was kept; retire "+
			"versions that nobody needs, or enlarge the storage", l.dir, what)
	}
	return err
}

// discard removes what there is of a copy that comes.
func (l *Local) discard(copy string) error {
	return removed(l.file(copy, PartEnding), l.file(copy, PartEnding+MapEnding))
}

func removed(files ...string) (err error) {
	for _, f := range files {
		if rerr := os.Remove(f); rerr != nil && !errors.Is(rerr, fs.ErrNotExist) {
			err = errors.Join(err, rerr)
		}
	}
	return err
}

// gathering is a copy that is put together from what is there, on all processors.
type gathering struct {
	m       *blocks.Map
	part    *os.File
	resumed bool
	index   *blocks.Index
	disks   []*os.File
	lacks   []bool
	shared  atomic.Int64
	shares  atomic.Bool // the storage keeps blocks once, for several disks
}

// mostBeside is in how many disks beside it a copy's blocks are looked for.
const mostBeside = 3

// beside opens the disks beside the copy. One that has no block map, as it is from before there were any, gets one; one
// that cannot be read is no reason to fail.
func (g *gathering) beside(ctx context.Context, l *Local, c Coming) error {
	g.index, g.lacks = blocks.NewIndex(g.m.Block), make([]bool, len(g.m.Digests))
	for _, name := range c.Beside {
		if len(g.disks) == mostBeside {
			break
		}
		f, err := os.Open(l.file(name, DiskEnding))
		if err != nil {
			continue
		}
		if !g.add(l.file(name, MapEnding)) {
			if _, err := l.Map(ctx, name, "", func(int) {}); err != nil || !g.add(l.file(name, MapEnding)) {
				f.Close()
				continue
			}
		}
		g.disks = append(g.disks, f)
	}
	g.index.Sort()
	if len(g.disks) > 0 {
		g.shares.Store(l.shares(g.disks[0], g.m.Block))
	}
	return ctx.Err()
}

func (g *gathering) add(file string) bool {
	f, err := os.Open(file)
	if err != nil {
		return false
	}
	defer f.Close()
	added, err := g.index.Add(bufio.NewReaderSize(f, 1<<20))
	return err == nil && added
}

// shares tells whether the storage keeps blocks once for several disks, by trying it with one.
func (l *Local) shares(disk *os.File, block int) bool {
	f, err := os.CreateTemp(l.dir, shareInWork)
	if err != nil {
		return false
	}
	defer os.Remove(f.Name())
	defer f.Close()
	return unix.IoctlFileCloneRange(int(f.Fd()), &unix.FileCloneRange{
		Src_fd: int64(disk.Fd()), Src_length: uint64(block),
	}) == nil
}

func (g *gathering) close() {
	for _, f := range g.disks {
		f.Close()
	}
}

// run looks at every block of the copy.
func (g *gathering) run(ctx context.Context, report func(int)) error {
	const chunk = 4 << 20 // bytes that one processor looks at before it takes the next
	per := max(1, chunk/g.m.Block)
	var next, done atomic.Int64
	workers, ctx := errgroup.WithContext(ctx)
	for range runtime.GOMAXPROCS(0) {
		workers.Go(func() error {
			block := make([]byte, g.m.Block)
			for {
				first := int(next.Add(int64(per))) - per
				if first >= len(g.m.Digests) {
					return nil
				}
				if err := ctx.Err(); err != nil {
					return err
				}
				for i := first; i < min(first+per, len(g.m.Digests)); i++ {
					if err := g.block(i, block); err != nil {
						return err
					}
				}
				// What was written is on its way to the storage while the next is looked at.
				from, _ := g.m.Extent(first)
				_ = unix.SyncFileRange(int(g.part.Fd()), from, int64(per)*int64(g.m.Block), unix.SYNC_FILE_RANGE_WRITE)
				report(int(100 * done.Add(int64(per)) / int64(max(1, len(g.m.Digests)))))
			}
		})
	}
	return workers.Wait()
}

// block takes one from where it is, or notes that it lacks.
func (g *gathering) block(i int, space []byte) error {
	want := g.m.Digests[i]
	if want.IsZero() && !g.resumed {
		return nil
	}
	offset, n := g.m.Extent(i)
	if g.resumed && right(g.part, g.m, i, space) {
		return nil
	}
	if want.IsZero() {
		clear(space[:n])
		_, err := g.part.WriteAt(space[:n], offset)
		return err
	}
	which, from, ok := g.index.Find(want)
	if ok {
		// What is beside it may have been changed since its map was written.
		at := int64(from) * int64(g.m.Block)
		got, err := g.disks[which].ReadAt(space[:n], at)
		ok = (err == nil || errors.Is(err, io.EOF)) && got == n && blocks.Of(space[:n]) == want
		if ok && g.share(which, at, offset, n) {
			g.shared.Add(int64(n))
			return nil
		}
	}
	if !ok {
		g.lacks[i] = true
		return nil
	}
	_, err := g.part.WriteAt(space[:n], offset)
	return err
}

// share has the storage keep a block once for both disks, where it can.
func (g *gathering) share(which int, from, to int64, n int) bool {
	if !g.shares.Load() || n != g.m.Block {
		return false
	}
	return unix.IoctlFileCloneRange(int(g.part.Fd()), &unix.FileCloneRange{
		Src_fd: int64(g.disks[which].Fd()), Src_offset: uint64(from), Src_length: uint64(n), Dest_offset: uint64(to),
	}) == nil
}

// coming opens a copy that comes, with what it will consist of.
func (l *Local) coming(copy string, runs []blocks.Run) (*os.File, *blocks.Map, error) {
	if err := checkName(copy); err != nil {
		return nil, nil, err
	}
	part := l.file(copy, PartEnding)
	m, err := l.mapOf(part + MapEnding)
	if err != nil {
		return nil, nil, fmt.Errorf("copy %s was not begun: %w", copy, err)
	}
	if !m.Within(runs) {
		return nil, nil, refuse("copy %s does not have these blocks", copy)
	}
	f, err := os.OpenFile(part, os.O_RDWR, 0)
	if err != nil {
		return nil, nil, fmt.Errorf("copy %s was not begun: %w", copy, err)
	}
	return f, m, nil
}

// Lacks is Depot's.
func (l *Local) Lacks(ctx context.Context, copy string, runs []blocks.Run) (lacking []blocks.Run, err error) {
	f, m, err := l.coming(copy, runs)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	block := make([]byte, m.Block)
	for _, r := range runs {
		for i := r.First; i < r.First+r.Count; i++ {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			if !right(f, m, i, block) {
				lacking = blocks.Add(lacking, i)
			}
		}
	}
	return lacking, nil
}

// Put is Depot's.
func (l *Local) Put(ctx context.Context, copy string, runs []blocks.Run, frames io.Reader) error {
	f, m, err := l.coming(copy, runs)
	if err != nil {
		return err
	}
	defer f.Close()
	u := blocks.NewTaker(frames, m.Block)
	defer u.Close()
	var changed Changed
	for _, r := range runs {
		for i := r.First; i < r.First+r.Count; i++ {
			offset, n := m.Extent(i)
			block, err := u.Next(n)
			if errors.Is(err, blocks.ErrBadFrame) || errors.Is(err, io.EOF) {
				return &Changed{Blocks: max(1, changed.Blocks), First: i}
			}
			if err == nil {
				err = ctx.Err()
			}
			if err != nil {
				return err
			}
			if blocks.Of(block) != m.Digests[i] {
				if changed.Blocks++; changed.Blocks == 1 {
					changed.First = i
				}
				continue
			}
			if _, err := f.WriteAt(block, offset); err != nil {
				return l.gaveUp(copy, err)
			}
		}
	}
	if changed.Blocks > 0 {
		return &changed
	}
	if _, err := u.Next(1); !errors.Is(err, io.EOF) {
		return &Changed{Blocks: 1}
	}
	return nil
}

// Finish is Depot's.
func (l *Local) Finish(ctx context.Context, copy string, report func(int)) error {
	if err := checkName(copy); err != nil {
		return err
	}
	part, named := l.file(copy, PartEnding), l.file(copy, DiskEnding)
	if _, err := os.Stat(part); err != nil && l.whole(copy) {
		m, err := l.mapOf(l.file(copy, MapEnding))
		if err != nil {
			return errors.Join(refuse("copy %s is there without a block map that can be read (%s), and was removed",
				copy,
				err), os.Remove(named))
		}
		return l.readBack(ctx, copy, named, m, report)
	}
	f, m, err := l.coming(copy, nil)
	if err != nil {
		return err
	}
	err = f.Sync()
	if err == nil {
		err = f.Chmod(l.mode)
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return l.gaveUp(copy, err)
	}
	if err := l.readBack(ctx, copy, part, m, report); err != nil {
		return err
	}
	// The name comes last: what has it is whole.
	if err := os.Rename(part+MapEnding, l.file(copy, MapEnding)); err != nil {
		return err
	}
	if err := os.Rename(part, named); err != nil {
		return err
	}
	return l.sync()
}

// readBack reads a copy, and removes it if it is not what the map says.
func (l *Local) readBack(ctx context.Context, copy, file string, m *blocks.Map, report func(int)) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	// It is to come from the storage and not from memory, as far as the system heeds that.
	_ = unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED)
	sum := sha256.New()
	if err := readAll(ctx, f, m.File, sum, report); err != nil {
		return err
	}
	if got := [sha256.Size]byte(sum.Sum(nil)); got != m.Whole {
		return errors.Join(refuse("what was put together as copy %s has digest sha256:%x, and the version has %s: the "+
			"storage in %s does not keep what is written to it; nothing of it was kept", copy, got, m.Digest(), l.dir),
			removed(file), l.discard(copy))
	}
	return nil
}

// Digest is Depot's. What cannot be read is refused: reading it again does not mend the storage.
func (l *Local) Digest(ctx context.Context, disk string, rate int64, report func(int)) (string, error) {
	if err := checkName(disk); err != nil {
		return "", err
	}
	f, err := l.open(disk)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	forget := func() { _ = unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED) }
	forget() // as when it was read back
	sum, percent := sha256.New(), 0
	err = readAll(ctx, f, info.Size(), Paced(ctx, sum, rate), func(now int) {
		if now > percent { // what others have in memory is not to make room for this
			forget()
			percent = now
		}
		report(now)
	})
	forget()
	var path *fs.PathError
	if errors.As(err, &path) {
		return "", refuse("disk %s cannot be read: %s", disk, path.Err)
	}
	return fmt.Sprintf("sha256:%x", sum.Sum(nil)), err
}

// sync has the folder's names last.
func (l *Local) sync() error {
	d, err := os.Open(l.dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// Remove is Depot's.
func (l *Local) Remove(_ context.Context, name string) error {
	if err := checkName(name); err != nil {
		return err
	}
	return errors.Join(removed(l.file(name, DiskEnding), l.file(name, MapEnding)), l.discard(name))
}

func size(n int64) string { return humanize.IBytes(uint64(max(0, n))) }
