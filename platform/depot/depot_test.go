//go:build linux

package depot_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nimblepane/core/blocks"
	"nimblepane/platform"
	"nimblepane/platform/depot"
)

// noise is content that does not pack, of so many blocks, and the same for the same seed.
func noise(seed uint64, n int) []byte {
	b := make([]byte, n*blocks.Size)
	r := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)})
	_, _ = r.Read(b)
	return b
}

func digestOf(content []byte) string {
	sum := sha256.Sum256(content)
	return "sha256:" + hex.EncodeToString(sum[:])
}

// site is a depot with its folder.
type site struct {
	*depot.Local
	dir string
}

func newSite(t *testing.T) site {
	t.Helper()
	return siteIn(t, t.TempDir())
}

func siteIn(t *testing.T, dir string) site {
	t.Helper()
	l, err := depot.OpenLocal(dir, 0o444)
	require.NoError(t, err)
	return site{l, dir}
}

func (s site) file(name string) string { return filepath.Join(s.dir, name) }

// has puts a disk there, with its map.
func (s site) has(t *testing.T, disk string, content []byte) {
	t.Helper()
	require.NoError(t, os.WriteFile(s.file(disk+".qcow2"), content, 0o644))
	_, err := s.Map(t.Context(), disk, digestOf(content), func(int) {})
	require.NoError(t, err)
}

func (s site) names(t *testing.T) (names []string) {
	t.Helper()
	list, err := os.ReadDir(s.dir)
	require.NoError(t, err)
	for _, e := range list {
		names = append(names, e.Name())
	}
	return names
}

// last keeps what was reported last.
type last struct {
	mu sync.Mutex
	t  platform.Transfer
}

func (l *last) report(t platform.Transfer) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.t = t
}

// deliver brings content, which the one has as disk "new", to the other as copy "copy".
func deliver(ctx context.Context, from, to depot.Depot, content []byte, beside ...string) (platform.Transfer, error) {
	var l last
	err := depot.Delivery{
		From: from, Disk: "new", Digest: digestOf(content), To: to,
		Coming: depot.Coming{Copy: "copy", Beside: beside}, Report: l.report,
	}.Run(ctx)
	return l.t, err
}

func (s site) requireCopy(t *testing.T, content []byte) {
	t.Helper()
	got, err := os.ReadFile(s.file("copy.qcow2"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(content, got))
	info, err := os.Stat(s.file("copy.qcow2"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o444), info.Mode())
	require.NoFileExists(t, s.file("copy.part"))
	require.NoFileExists(t, s.file("copy.part.blocks"))
	m, err := s.Map(t.Context(), "copy", digestOf(content), func(int) {})
	require.NoError(t, err)
	require.Equal(t, digestOf(content), m.Digest())
}

// update is a disk and what came of it: blocks that moved, blocks that are new, blocks of zeros, a short last one.
func update() (old, updated []byte) {
	old = append(noise(1, 100), noise(2, 60)...)
	updated = append(noise(9, 3), old[50*blocks.Size:]...)
	updated = append(updated, make([]byte, 20*blocks.Size)...)
	updated = append(updated, old[:50*blocks.Size]...)
	return old, append(updated, noise(10, 1)[:1000]...)
}

const kib64 = int64(blocks.Size)

func TestASiteIsSentWhatItLacks(t *testing.T) {
	t.Parallel()
	old, updated := update()
	there, here := newSite(t), newSite(t)
	there.has(t, "old", old)
	here.has(t, "new", updated)
	got, err := deliver(t.Context(), here, there, updated, "gone", "old")
	require.NoError(t, err)
	there.requireCopy(t, updated)
	require.Equal(t, int64(len(updated)), got.Whole)
	require.Equal(t, 160*kib64, got.There)
	require.Equal(t, 3*kib64+1000, got.Lacking)
	require.Equal(t, got.Lacking, got.Sent)
	require.Less(t, got.Line, got.Lacking+1000)
	require.Equal(t, 100, got.Percent())

	// What holds nothing takes no room.
	var is unix.Stat_t
	require.NoError(t, unix.Stat(there.file("copy.qcow2"), &is))
	require.Less(t, is.Blocks*512, int64(len(updated))-10*kib64)

	// Once more, which finds it there.
	again, err := deliver(t.Context(), here, there, updated, "old")
	require.NoError(t, err)
	require.Zero(t, again.Line)
	there.requireCopy(t, updated)
}

// TestACopyFromBeforeThereWereMapsIsReadForOne sees that it gives its blocks as any other.
func TestACopyFromBeforeThereWereMapsIsReadForOne(t *testing.T) {
	t.Parallel()
	old, updated := update()
	there, here := newSite(t), newSite(t)
	here.has(t, "new", updated)
	for _, mapped := range []string{"", "half a map"} {
		there.has(t, "old", old)
		require.NoError(t, os.Remove(there.file("old.blocks")))
		if mapped != "" {
			require.NoError(t, os.WriteFile(there.file("old.blocks"), []byte(mapped), 0o600))
		}
		got, err := deliver(t.Context(), here, there, updated, "old")
		require.NoError(t, err)
		there.requireCopy(t, updated)
		require.Equal(t, 160*kib64, got.There)
		require.NoError(t, there.Remove(t.Context(), "copy"))
	}
}

func TestWhatAKilledProcessLeftInWorkIsTidiedUp(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, name := range []string{".blocks-1", ".shares-1", ".blocks-2", "copy.part"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
		if name != ".blocks-2" {
			long := time.Now().Add(-2 * time.Hour)
			require.NoError(t, os.Chtimes(filepath.Join(dir, name), long, long))
		}
	}
	require.Equal(t, []string{".blocks-2", "copy.part"}, siteIn(t, dir).names(t))
}

func TestASiteWithoutAnyVersionIsSentAll(t *testing.T) {
	t.Parallel()
	_, updated := update()
	there, here := newSite(t), newSite(t)
	require.NoError(t, os.WriteFile(here.file("new.qcow2"), updated, 0o644))
	got, err := deliver(t.Context(), here, there, updated)
	require.NoError(t, err)
	there.requireCopy(t, updated)
	require.Zero(t, got.There)
	require.Equal(t, int64(len(updated))-20*kib64, got.Sent)
	require.FileExists(t, here.file("new.blocks"), "its map was made")
}

// wrong is a depot that something happens to.
type wrong struct {
	depot.Depot
	sends func(n int, w io.Writer) io.Writer
	n     atomic.Int32
}

func (d *wrong) Send(ctx context.Context, disk, digest string, runs []blocks.Run, w io.Writer) error {
	return d.Depot.Send(ctx, disk, digest, runs, d.sends(int(d.n.Add(1)), w))
}

// cut breaks after so many bytes.
type cut struct {
	w    io.Writer
	left int
}

var errCut = errors.New("the line was cut")

func (c *cut) Write(p []byte) (int, error) {
	if c.left -= len(p); c.left < 0 {
		_, _ = c.w.Write(p[:len(p)/2])
		return 0, errCut
	}
	return c.w.Write(p)
}

func TestALineThatIsCutTenTimesDelaysADelivery(t *testing.T) {
	t.Parallel()
	content := noise(1, 400)
	there, here := newSite(t), newSite(t)
	here.has(t, "new", content)
	from := &wrong{Depot: here, sends: func(n int, w io.Writer) io.Writer {
		if n <= 10 {
			return &cut{w, 3 << 19}
		}
		return w
	}}
	got, err := deliver(t.Context(), from, there, content)
	require.NoError(t, err)
	there.requireCopy(t, content)
	require.Equal(t, int32(11), from.n.Load())
	require.Less(t, got.Line, int64(len(content))*3/2, "what had arrived was not sent again")
}

// flip changes a byte.
type flip struct {
	w  io.Writer
	at int
}

func (f *flip) Write(p []byte) (int, error) {
	p = bytes.Clone(p)
	if f.at >= 0 && f.at < len(p) {
		p[f.at] ^= 4
	}
	f.at -= len(p)
	return f.w.Write(p)
}

func TestABlockThatArrivesChangedIsSentAgain(t *testing.T) {
	t.Parallel()
	content := noise(1, 40)
	for _, at := range []int{3, 6, 9, 70_000, 2_000_000} {
		there, here := newSite(t), newSite(t)
		here.has(t, "new", content)
		from := &wrong{Depot: here, sends: func(n int, w io.Writer) io.Writer {
			if n == 1 {
				return &flip{w, at}
			}
			return w
		}}
		_, err := deliver(t.Context(), from, there, content)
		require.NoError(t, err)
		there.requireCopy(t, content)
		require.Equal(t, int32(2), from.n.Load())
	}

	// A line that always changes it is given up, and what is wrong is said.
	there, here := newSite(t), newSite(t)
	here.has(t, "new", content)
	from := &wrong{Depot: here, sends: func(_ int, w io.Writer) io.Writer { return &flip{w, 20} }}
	_, err := deliver(t.Context(), from, there, content)
	var refusal *platform.Refusal
	require.ErrorAs(t, err, &refusal)
	require.ErrorContains(t, err, "something between the sites changes what is sent")
	require.NoFileExists(t, there.file("copy.qcow2"))
}

func TestWhatWasChangedUnderneathIsNotTrusted(t *testing.T) {
	t.Parallel()
	old, updated := update()
	there, here := newSite(t), newSite(t)
	there.has(t, "old", old)
	here.has(t, "new", updated)
	f, err := os.OpenFile(there.file("old.qcow2"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{1, 2, 3}, 70*kib64)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(150*kib64))
	require.NoError(t, f.Close())
	got, err := deliver(t.Context(), here, there, updated, "old")
	require.NoError(t, err)
	there.requireCopy(t, updated)
	require.Equal(t, (3+1+10)*kib64+1000, got.Sent)

	// The same at the site that it comes from is said.
	f, err = os.OpenFile(here.file("new.qcow2"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{1, 2, 3}, 2*kib64)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, err = deliver(t.Context(), here, newSite(t), updated)
	var refusal *platform.Refusal
	require.ErrorAs(t, err, &refusal)
	require.ErrorContains(t, err, "its block 2 is not what it was")

	// And where no map stands beside it, the whole disk tells.
	require.NoError(t, os.Remove(here.file("new.blocks")))
	_, err = deliver(t.Context(), here, newSite(t), updated)
	require.ErrorAs(t, err, &refusal)
	require.ErrorContains(t, err, "disk new was changed: it has digest sha256:")
}

func TestAStorageThatIsFullIsSaidAndLeftAsItWas(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := unix.Mount("none", dir, "tmpfs", 0, "size=8m"); err != nil {
		t.Skip("needs the right to mount: ", err)
	}
	t.Cleanup(func() { require.NoError(t, unix.Unmount(dir, 0)) })
	content := noise(1, 100)
	there, here := siteIn(t, dir), newSite(t)
	here.has(t, "new", content)

	// There is less room than the copy needs, which is seen before anything is sent.
	require.NoError(t, os.WriteFile(there.file("other"), noise(2, 40), 0o644))
	got, err := deliver(t.Context(), here, there, content)
	var refusal *platform.Refusal
	require.ErrorAs(t, err, &refusal)
	require.ErrorContains(t, err, "there is no room for copy copy")
	require.Zero(t, got.Line)
	require.Equal(t, []string{"other"}, there.names(t))

	// Others fill it in the middle.
	require.NoError(t, os.Remove(there.file("other")))
	from := &wrong{Depot: here, sends: func(_ int, w io.Writer) io.Writer {
		require.NoError(t, os.WriteFile(there.file("other"), noise(2, 60), 0o644))
		return w
	}}
	_, err = deliver(t.Context(), from, there, content)
	require.ErrorAs(t, err, &refusal)
	require.ErrorContains(t, err, "is full")
	require.Equal(t, []string{"other"}, there.names(t))

	require.NoError(t, os.Remove(there.file("other")))
	_, err = deliver(t.Context(), here, there, content)
	require.NoError(t, err)
	there.requireCopy(t, content)
}

func TestBlocksThatTheStorageCanShareAreKeptOnce(t *testing.T) {
	t.Parallel()
	dir, disk := t.TempDir(), filepath.Join(t.TempDir(), "xfs")
	out, err := exec.Command("sh", "-c", "truncate -s 400M "+disk+" && mkfs.xfs -q -m reflink=1 "+disk+
		" && mount -o loop "+disk+" "+dir).CombinedOutput()
	if err != nil {
		t.Skipf("needs a file system that shares blocks: %s", out)
	}
	t.Cleanup(func() { require.NoError(t, exec.Command("umount", dir).Run()) })
	old, updated := update()
	there, here := siteIn(t, dir), newSite(t)
	there.has(t, "old", old)
	here.has(t, "new", updated)
	var before, after unix.Statfs_t
	require.NoError(t, unix.Statfs(dir, &before))
	got, err := deliver(t.Context(), here, there, updated, "old")
	require.NoError(t, err)
	there.requireCopy(t, updated)
	require.Equal(t, 160*kib64, got.Shared)
	require.NoError(t, unix.Statfs(dir, &after))
	require.Less(t, (int64(before.Bavail)-int64(after.Bavail))*before.Bsize, 20*kib64)
}

// TestMain lets the tests run a delivery in a process of its own, which they kill.
func TestMain(m *testing.M) {
	if from, to := os.Getenv("DEPOT_FROM"), os.Getenv("DEPOT_TO"); from != "" {
		f, err := depot.OpenLocal(from, 0o444)
		if err != nil {
			panic(err)
		}
		t, err := depot.OpenLocal(to, 0o444)
		if err != nil {
			panic(err)
		}
		content, err := os.ReadFile(filepath.Join(from, "new.qcow2"))
		if err != nil {
			panic(err)
		}
		// What went last may not have been written yet when the process is killed.
		slow := &wrong{Depot: f, sends: func(_ int, w io.Writer) io.Writer { return &halting{w: w, left: 6 << 20} }}
		_, err = deliver(context.Background(), slow, t, content, "old")
		panic(err)
	}
	os.Exit(m.Run())
}

// halting says so after so many bytes, and goes no further.
type halting struct {
	w    io.Writer
	left int
}

func (h *halting) Write(p []byte) (int, error) {
	if h.left -= len(p); h.left < 0 {
		_, _ = os.Stdout.WriteString("halfway\n")
		select {}
	}
	return h.w.Write(p)
}

func TestADeliveryGoesOnAfterItsProcessWasKilled(t *testing.T) {
	t.Parallel()
	old := noise(1, 100)
	content := append(noise(2, 200), old...)
	there, here := newSite(t), newSite(t)
	there.has(t, "old", old)
	here.has(t, "new", content)
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "DEPOT_FROM="+here.dir, "DEPOT_TO="+there.dir)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	halfway := make([]byte, len("halfway\n"))
	_, err = io.ReadFull(out, halfway)
	require.NoError(t, err)
	require.NoError(t, cmd.Process.Kill())
	require.Error(t, cmd.Wait())
	require.FileExists(t, there.file("copy.part"))
	require.NoFileExists(t, there.file("copy.qcow2"))

	got, err := deliver(t.Context(), here, there, content, "old")
	require.NoError(t, err)
	there.requireCopy(t, content)
	require.Less(t, got.Line, int64(len(content))-100*kib64-2<<20, "what had arrived was not sent again")
}

func TestTwoSitesDeliverToEachOther(t *testing.T) {
	t.Parallel()
	base := noise(1, 200)
	one, other := append(noise(2, 20), base...), append(bytes.Clone(base), noise(3, 20)...)
	a, b := newSite(t), newSite(t)
	a.has(t, "new", one)
	b.has(t, "new", other)
	var all sync.WaitGroup
	errs := make([]error, 2)
	all.Go(func() { _, errs[0] = deliver(t.Context(), a, b, one, "new") })
	all.Go(func() { _, errs[1] = deliver(t.Context(), b, a, other, "new") })
	all.Wait()
	require.NoError(t, errors.Join(errs...))
	b.requireCopy(t, one)
	a.requireCopy(t, other)
}

func TestOneCopyBroughtTwiceAtOnceIsWhole(t *testing.T) {
	t.Parallel()
	content := noise(1, 200)
	there, here := newSite(t), newSite(t)
	here.has(t, "new", content)
	var all sync.WaitGroup
	errs := make([]error, 3)
	for i := range errs {
		all.Go(func() { _, errs[i] = deliver(t.Context(), here, there, content) })
	}
	all.Wait()
	succeeded := 0
	for _, err := range errs {
		if err == nil {
			succeeded++
		}
	}
	require.Positive(t, succeeded)
	_, err := deliver(t.Context(), here, there, content)
	require.NoError(t, err)
	there.requireCopy(t, content)
}

func TestACopyIsRemovedWithAllThereIsOfIt(t *testing.T) {
	t.Parallel()
	content := noise(1, 4)
	s := newSite(t)
	s.has(t, "new", content)
	m, err := s.Map(t.Context(), "new", digestOf(content), func(int) {})
	require.NoError(t, err)
	_, err = s.Begin(t.Context(), depot.Coming{Copy: "copy"}, m, func(int) {})
	require.NoError(t, err)
	for _, name := range []string{"new", "copy", "gone"} {
		require.NoError(t, s.Remove(t.Context(), name))
	}
	require.Empty(t, s.names(t))
	for _, name := range []string{"", "..", "../x", "a/b", ".hidden"} {
		require.ErrorContains(t, s.Remove(t.Context(), name), "is no name of a disk")
		_, err = s.Map(t.Context(), name, "", func(int) {})
		require.ErrorContains(t, err, "is no name of a disk")
		_, err = s.Begin(t.Context(), depot.Coming{Copy: "x", Beside: []string{name}}, m, func(int) {})
		require.ErrorContains(t, err, "is no name of a disk")
	}
	_, err = s.Map(t.Context(), "gone", "", func(int) {})
	require.ErrorContains(t, err, `there is no disk "gone"`)
	_, err = depot.OpenLocal(s.file("none"), 0)
	require.ErrorContains(t, err, "cannot be read and written")
}

func TestADiskIsReadAgain(t *testing.T) {
	t.Parallel()
	content := noise(4, 40)
	at, c := newSite(t), certificates(t)
	at.has(t, "copy", content)
	far := dial(t, serve(t, at, c), c)
	want := digestOf(content)
	for name, d := range map[string]depot.Depot{"here": at, "elsewhere": far} {
		percent := 0
		got, err := d.Digest(t.Context(), "copy", 1<<30, func(p int) { percent = p })
		require.NoError(t, err, name)
		require.Equal(t, want, got, name)
		if d == depot.Depot(at) {
			require.Equal(t, 100, percent)
		}
		var refusal *platform.Refusal
		_, err = d.Digest(t.Context(), "nothing", 1<<30, func(int) {})
		require.ErrorAs(t, err, &refusal, name)
		require.ErrorContains(t, err, `there is no disk "nothing"`)
		_, err = d.Digest(t.Context(), "../copy", 1<<30, func(int) {})
		require.ErrorAs(t, err, &refusal, name)
	}
	_, err := far.Digest(t.Context(), "copy", 0, func(int) {})
	require.ErrorContains(t, err, `rate "0" is no number of bytes a second`)

	// What is changed underneath has another, and what the storage cannot read is refused with the reason.
	require.NoError(t, os.Chmod(at.file("copy.qcow2"), 0o600))
	require.NoError(t, os.WriteFile(at.file("copy.qcow2"), append(content, 1), 0o600))
	got, err := at.Digest(t.Context(), "copy", 1<<30, func(int) {})
	require.NoError(t, err)
	require.NotEqual(t, want, got)
	require.NoError(t, os.Mkdir(at.file("folder.qcow2"), 0o700))
	_, err = far.Digest(t.Context(), "folder", 1<<30, func(int) {})
	require.ErrorContains(t, err, "disk folder cannot be read: is a directory")
}

// TestADiskIsReadNoFasterThanItMay counts what is let through at the beginning, not how long it takes.
func TestADiskIsReadNoFasterThanItMay(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(t.Context())
	var into bytes.Buffer
	stop := io.MultiWriter(&into, writer(func(b []byte) (int, error) {
		cancel() // whoever has to wait now is let go
		return len(b), nil
	}))
	n, err := depot.Paced(ctx, stop, 1).Write(make([]byte, 1<<20))
	require.ErrorIs(t, err, context.Canceled)
	require.Equal(t, 32<<10, n, "as much as one piece goes at once")
	require.Equal(t, n, into.Len())
}

type writer func([]byte) (int, error)

func (w writer) Write(b []byte) (int, error) { return w(b) }

// TestACopyThatWasChangedIsMadeAnewFromWhatOfItIsRight has somebody change some blocks of a finished copy.
func TestACopyThatWasChangedIsMadeAnewFromWhatOfItIsRight(t *testing.T) {
	t.Parallel()
	content := noise(5, 60)
	from, to := newSite(t), newSite(t)
	from.has(t, "new", content)
	_, err := deliver(t.Context(), from, to, content)
	require.NoError(t, err)
	used, err := os.Open(to.file("copy.qcow2")) // as a host that runs on it has it
	require.NoError(t, err)
	defer used.Close()
	bent := bytes.Clone(content)
	for _, block := range []int64{7, 8, 41} {
		bent[block*kib64+100] ^= 1
	}
	require.NoError(t, os.Chmod(to.file("copy.qcow2"), 0o600))
	require.NoError(t, os.WriteFile(to.file("copy.qcow2"), bent, 0o600))
	for range 2 { // it is right by the second time
		got, err := deliver(t.Context(), from, to, content)
		require.NoError(t, err)
		to.requireCopy(t, content)
		require.LessOrEqual(t, got.Sent, int64(3*kib64))
		require.Equal(t, got.Lacking, got.Sent)
	}
	was, err := io.ReadAll(used)
	require.NoError(t, err)
	require.True(t, bytes.Equal(bent, was), "what hosts run on was written")

	// One that was cut short or is longer, too.
	for _, other := range [][]byte{content[:31*kib64], append(bytes.Clone(content), 1)} {
		require.NoError(t, os.Chmod(to.file("copy.qcow2"), 0o600))
		require.NoError(t, os.WriteFile(to.file("copy.qcow2"), other, 0o600))
		_, err = deliver(t.Context(), from, to, content)
		require.NoError(t, err)
		to.requireCopy(t, content)
	}
}
