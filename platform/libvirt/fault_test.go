package libvirt

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"
	"github.com/stretchr/testify/require"

	"nimblepane/core/estate"
	"nimblepane/platform"
	"nimblepane/platform/depot"
	"nimblepane/platform/journal"
	"nimblepane/platform/libvirt/locald"
)

// small is a site whose machines need next to nothing and are started paused.
func small(t testing.TB, servers ...*locald.Server) *Site {
	t.Helper()
	e := locald.Site("real-quay", servers...)
	e.MachineClasses["standard"] = estate.MachineClass{
		Cores: 1, Memory: "64MiB", Firmware: "bios", Network: "user",
		Display: "none", Room: "1MiB",
	}
	s := site(t, e)
	s.paused = true
	return s
}

// captureOf puts a disk with some content where a capture would, and returns its digest.
func captureOf(t testing.TB, s *Site, hv *locald.Server, name string) string {
	t.Helper()
	emptyDisk(t, hv, name+diskEnding, "8M")
	h := s.hypervisors[0]
	require.NoError(t, h.connected(t.Context(), func(l *libvirt.Libvirt) error {
		p, err := h.pool(l)
		require.NoError(t, err)
		return h.refresh(l, p)
	}))
	digest, err := h.digest(t.Context(), name, nil)
	require.NoError(t, err)
	require.NoError(t, h.connected(t.Context(), func(l *libvirt.Libvirt) error {
		return h.complete(l, name, note{Digest: digest, MachineClass: "standard"})
	}))
	return digest
}

func ended(t testing.TB, s *Site, key string) (p platform.Progress) {
	t.Helper()
	require.Eventually(t, func() bool {
		var err error
		p, err = s.Ask(t.Context(), key)
		require.NoError(t, err)
		return p.State != platform.UnderWay
	}, 8*time.Minute, 10*time.Millisecond, "%s does not end", key)
	return p
}

func rebuildOf(host, copyName, digest string) platform.Operation {
	return platform.RebuildHost.Of(platform.Rebuild{
		Host: host, Copies: []string{copyName}, Digest: digest,
		MachineClass: "standard", Seats: 4, Seed: platform.Seed{Service: "http://10.0.2.2:9", Token: "t-" + host},
	})
}

func rebuilt(t testing.TB, s *Site, key, host, copyName, digest string) {
	t.Helper()
	require.NoError(t, s.Start(t.Context(), key, rebuildOf(host, copyName, digest)))
	p := ended(t, s, key)
	require.Equal(t, platform.Succeeded, p.State, p.Why)
}

// domain changes a machine behind the platform's back.
func domain(t testing.TB, s *Site, name string, fn func(*libvirt.Libvirt, libvirt.Domain) error) {
	t.Helper()
	require.NoError(t, s.hypervisors[0].connected(t.Context(), func(l *libvirt.Libvirt) error {
		d, err := l.DomainLookupByName(name)
		require.NoError(t, err)
		return fn(l, d)
	}))
}

func refusal(t testing.TB, err error, want string) {
	t.Helper()
	var r *platform.Refusal
	require.ErrorAs(t, err, &r)
	require.Contains(t, r.Why, want)
}

func files(t testing.TB, dir string) (names []string) {
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

func descriptors(t testing.TB, pid string) int {
	return len(files(t, "/proc/"+pid+"/fd"))
}

// TestFiftyMachines are made and rebuilt in batches; nothing of it may be left
// over that grows with their number.
func TestFiftyMachines(t *testing.T) {
	hv := server(t)
	s := small(t, hv)
	digest := captureOf(t, s, hv, "desk")
	rebuilt(t, s, "first", "h-01", "desk", digest)
	goroutines, mine, theirs := runtime.NumGoroutine(), descriptors(t, "self"), descriptors(t, fmt.Sprint(hv.PID()))
	const machines, batch = 50, 10
	for round := range 2 {
		for b := 0; b < machines; b += batch {
			var all sync.WaitGroup
			for n := b + 1; n <= b+batch; n++ {
				all.Go(func() {
					rebuilt(t, s, fmt.Sprintf("round %d h-%02d", round, n), fmt.Sprintf("h-%02d", n), "desk", digest)
				})
			}
			all.Wait()
		}
	}
	nodes, err := s.Nodes(t.Context())
	require.NoError(t, err)
	require.Equal(t, machines, nodes[0].Machines)
	require.Len(t, files(t, hv.Pool), 2+2*machines, "a disk, its note, and for each machine its own disk and its seed")
	require.Eventually(t, func() bool { return runtime.NumGoroutine() <= goroutines+5 }, 10*time.Second,
		20*time.Millisecond, "goroutines are left")
	require.LessOrEqual(t, descriptors(t, "self"), mine+3, "connections are left")
	// libvirtd itself keeps some open for each machine that runs.
	for n := 1; n <= machines; n++ {
		require.NoError(t, s.hypervisors[0].connected(t.Context(),
			func(l *libvirt.Libvirt) error { return s.hypervisors[0].erase(l, fmt.Sprintf("h-%02d", n)) }))
	}
	require.Len(t, files(t, hv.Pool), 2)
	require.Eventually(t, func() bool { return descriptors(t, fmt.Sprint(hv.PID())) <= theirs+3 }, 10*time.Second,
		20*time.Millisecond)
}

func TestAMachineThatIsNotOursIsLeftAlone(t *testing.T) {
	t.Parallel()
	hv := server(t)
	s := small(t, hv)
	digest := captureOf(t, s, hv, "desk")
	h := s.hypervisors[0]
	theirs := `<domain type='qemu'><name>h-1</name><memory unit='MiB'>64</memory><os><type>hvm</type></os></domain>`
	require.NoError(t, h.connected(t.Context(), func(l *libvirt.Libvirt) error {
		_, err := l.DomainDefineXMLFlags(theirs, 0)
		return err
	}))
	before, err := exec.Command("virsh", "-c", hv.URI, "dumpxml", "h-1").Output()
	require.NoError(t, err)
	refusal(t, s.Start(t.Context(), "k", rebuildOf("h-1", "desk", digest)), "did not make")
	refusal(t, s.PowerOn(t.Context(), "h-1"), "left alone")
	refusal(t, s.Discard(t.Context(), "h-1"), "left alone")
	refusal(t, s.Create(t.Context(), platform.BuildSpec{
		Name: "h-1", MachineClass: "standard", BaseDisk: "desk.qcow2",
		Base: "x",
	}), "already")
	m, err := s.Machine(t.Context(), "h-1")
	require.NoError(t, err)
	require.Contains(t, m.Why, "did not make")
	after, err := exec.Command("virsh", "-c", hv.URI, "dumpxml", "h-1").Output()
	require.NoError(t, err)
	require.Equal(t, string(before), string(after))

	// Another site of ours on the same hypervisor is no less foreign.
	other := locald.Site("other-quay", hv)
	rebuilt(t, s, "mine", "h-2", "desk", digest)
	refusal(t, site(t, other).PowerOn(t.Context(), "h-2"), "left alone")
}

func TestLibvirtdIsRestarted(t *testing.T) {
	t.Parallel()
	hv := server(t)
	s := small(t, hv)
	digest := captureOf(t, s, hv, "desk")
	rebuilt(t, s, "before", "h-1", "desk", digest)
	require.NoError(t, s.operations.Start(t.Context(), "during", rebuildOf("h-2", "desk", digest)))
	hv.Kill()
	_, err := s.Machine(t.Context(), "h-1")
	require.ErrorContains(t, err, "hypervisor hv-1 does not answer")
	var r *platform.Refusal
	require.False(t, errors.As(err, &r), "it may pass")
	nodes, err := s.Nodes(t.Context())
	require.NoError(t, err)
	require.Contains(t, nodes[0].Unreachable, "does not answer")
	require.NoError(t, hv.Run(t.Context()))
	require.Equal(t, platform.Succeeded, ended(t, s, "during").State)
	m, err := s.Machine(t.Context(), "h-1")
	require.NoError(t, err)
	require.Equal(t, platform.MachinePaused, m.State, "machines outlive libvirtd")
	rebuilt(t, s, "after", "h-1", "desk", digest)
}

func TestWhatHappensToMachinesIsSeenAndMended(t *testing.T) {
	t.Parallel()
	hv := server(t)
	s := small(t, hv)
	digest := captureOf(t, s, hv, "desk")
	ctx := t.Context()
	m, err := s.Machine(ctx, "h-1")
	require.NoError(t, err)
	require.Equal(t, platform.MachineGone, m.State)
	refusal(t, s.PowerOn(ctx, "h-1"), "rebuild it")

	rebuilt(t, s, "1", "h-1", "desk", digest)
	m, err = s.Machine(ctx, "h-1")
	require.NoError(t, err)
	require.Equal(t, []string{filepath.Join(hv.Pool, "h-1.own.qcow2"), filepath.Join(hv.Pool, "desk.qcow2")}, m.Disks)
	require.Equal(t, platform.MachinePaused, m.State)
	require.NoError(t, s.PowerOn(ctx, "h-1"))
	m, err = s.Machine(ctx, "h-1")
	require.NoError(t, err)
	require.Equal(t, platform.MachineRunning, m.State)
	require.Empty(t, m.Why)

	// Killed by somebody: it can be started.
	domain(t, s, "h-1", func(l *libvirt.Libvirt, d libvirt.Domain) error { return l.DomainDestroyFlags(d, 0) })
	m, err = s.Machine(ctx, "h-1")
	require.NoError(t, err)
	require.Equal(t, platform.MachineOff, m.State)
	require.NoError(t, s.PowerOn(ctx, "h-1"))

	// Its own disk is lost: that is said, and a rebuild mends it.
	domain(t, s, "h-1", func(l *libvirt.Libvirt, d libvirt.Domain) error { return l.DomainDestroyFlags(d, 0) })
	require.NoError(t, os.Remove(filepath.Join(hv.Pool, "h-1.own.qcow2")))
	m, err = s.Machine(ctx, "h-1")
	require.NoError(t, err)
	require.Contains(t, m.Why, "h-1.own.qcow2 is not there any more")
	refusal(t, s.PowerOn(ctx, "h-1"), "h-1.own.qcow2")
	rebuilt(t, s, "2", "h-1", "desk", digest)

	// Deleted by somebody: a rebuild makes it anew.
	domain(t, s, "h-1", func(l *libvirt.Libvirt, d libvirt.Domain) error {
		return errors.Join(l.DomainDestroyFlags(d, 0), l.DomainUndefineFlags(d, 0))
	})
	m, err = s.Machine(ctx, "h-1")
	require.NoError(t, err)
	require.Contains(t, m.Why, "somebody deleted it")
	rebuilt(t, s, "3", "h-1", "desk", digest)

	// Done again under its key, it leaves the machine alone.
	fresh := small(t, hv)
	pid := func() string {
		text, err := os.ReadFile(filepath.Join(hv.Dir, "run/libvirt/qemu/run/h-1.pid"))
		require.NoError(t, err)
		return string(text)
	}
	before := pid()
	rebuilt(t, fresh, "3", "h-1", "desk", digest)
	require.Equal(t, before, pid(), "a service that lost its memory rebuilt it a second time")
}

func TestACopyIsNeverWritten(t *testing.T) {
	t.Parallel()
	hv := server(t)
	s := small(t, hv)
	digest := captureOf(t, s, hv, "desk")
	rebuilt(t, s, "1", "h-1", "desk", digest)
	domain(t, s, "h-1", func(l *libvirt.Libvirt, d libvirt.Domain) error { return l.DomainResume(d) })
	write := func() (string, error) {
		out, err := exec.Command("qemu-io", "-c", "write -P 9 0 1M",
			filepath.Join(hv.Pool, "desk.qcow2")).CombinedOutput()
		return string(out), err
	}
	out, err := write()
	require.Error(t, err, "a copy was written while a host runs on it: %s", out)
	now, err := s.hypervisors[0].digest(t.Context(), "desk", nil)
	require.NoError(t, err)
	require.Equal(t, digest, now)

	domain(t, s, "h-1", func(l *libvirt.Libvirt, d libvirt.Domain) error { return l.DomainDestroyFlags(d, 0) })
	out, err = write()
	require.NoError(t, err, out)
	require.NoError(t, s.Start(t.Context(), "2", rebuildOf("h-1", "desk", digest)))
	p := ended(t, s, "2")
	require.Equal(t, platform.Failed, p.State)
	require.Contains(t, p.Why, "desk on hv-1 was changed")
	m, err := s.Machine(t.Context(), "h-1")
	require.NoError(t, err)
	require.Equal(t, platform.MachineOff, m.State, "nothing was done to the host")

	// Touched, but with the same content: it is read again and found good.
	other := captureOf(t, s, hv, "other")
	later := time.Now().Add(time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(hv.Pool, "other.qcow2"), later, later))
	rebuilt(t, s, "3", "h-1", "other", other)
}

func TestACopyInUseStays(t *testing.T) {
	t.Parallel()
	hv := server(t)
	s := small(t, hv)
	rebuilt(t, s, "1", "h-1", "desk", captureOf(t, s, hv, "desk"))
	require.NoError(t, s.Start(t.Context(), "delete", platform.DeleteCopy.Of(platform.Named{Name: "desk"})))
	p := ended(t, s, "delete")
	require.Equal(t, platform.Failed, p.State)
	require.Contains(t, p.Why, "machine h-1 on hv-1 is made on disk desk")
	require.FileExists(t, filepath.Join(hv.Pool, "desk.qcow2"))
}

// TestNotesAreReadWhole reads one often: now and then libvirt ends a stream
// before anything has come.
func TestNotesAreReadWhole(t *testing.T) {
	t.Parallel()
	hv := server(t)
	s := small(t, hv)
	digest := captureOf(t, s, hv, "desk")
	require.NoError(t, s.hypervisors[0].connected(t.Context(), func(l *libvirt.Libvirt) error {
		for range 2000 {
			n, err := s.hypervisors[0].noteOf(l, "desk")
			require.NoError(t, err)
			require.Equal(t, digest, n.Digest)
		}
		return nil
	}))
}

// counted is a site that counts what deliveries read of its disks, and can break off.
type counted struct {
	*Site
	mu      sync.Mutex
	offsets []int64
	breakAt int64 // bytes after which the first transfer breaks; 0: never
}

func (c *counted) OpenDisk(ctx context.Context, disk string, offset int64) (io.ReadCloser, int64, error) {
	r, n, err := c.Site.OpenDisk(ctx, disk, offset)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.offsets = append(c.offsets, offset)
	// The start looks whether the disk is there; the transfer opens it to read it.
	if len(c.offsets) == 2 && c.breakAt > 0 && err == nil {
		return &broken{r, c.breakAt}, n, nil
	}
	return r, n, err
}

type broken struct {
	io.ReadCloser
	left int64
}

func (b *broken) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, errors.New("the line was cut")
	}
	n, err := b.ReadCloser.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}

// DepotWith says that there is none: the disk goes as a whole.
func (c *counted) DepotWith(context.Context, string) (depot.Depot, error) { return nil, nil }

func TestABrokenDeliveryGoesOnWhereItStopped(t *testing.T) {
	t.Parallel()
	from, to := server(t), server(t)
	source := &counted{Site: small(t, from), breakAt: 5<<20 + 12345}
	digest := captureOf(t, source.Site, from, "desk")
	e := locald.Site("far-quay", to)
	target, err := open(e, platform.Environment{
		Journal: journal.NewMemory(), Log: slog.New(slog.DiscardHandler),
		Allowance: func(context.Context, string) (int64, error) { return 64 << 20, nil },
		Peer: func(_ context.Context, name string) (platform.Platform, error) {
			require.Equal(t, "real-quay", name)
			return source, nil
		},
	})
	require.NoError(t, err)
	t.Cleanup(target.Close)
	require.NoError(t, target.Start(t.Context(), "k",
		platform.DeliverCopy.Of(platform.Deliver{
			Source: "real-quay", Disk: "desk", Digest: digest, Copy: "desk-copy-1",
			MachineClass: "standard",
		})))
	p := ended(t, target, "k")
	require.Equal(t, platform.Succeeded, p.State, p.Why)
	// How much of what was sent had come to the disk when the line was cut is libvirt's to say.
	again := source.offsets[len(source.offsets)-1]
	require.Positive(t, again, "it began anew: %v", source.offsets)
	require.LessOrEqual(t, again, int64(5<<20))
	require.Zero(t, again%transferBlock, "it begins again at a whole block")
	same(t, from, to, "desk", "desk-copy-1")

	// One that was changed, and was found to be, is sent anew.
	file := filepath.Join(to.Pool, "desk-copy-1.qcow2")
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	content[len(content)/2] ^= 1
	require.NoError(t, os.Chmod(file, 0o600))
	require.NoError(t, os.WriteFile(file, content, 0o600))
	reading := platform.Reading{Copy: "desk-copy-1", Digest: digest, Rate: 1 << 30}
	require.NoError(t, target.Start(t.Context(), "r", platform.ReadCopy.Of(reading)))
	out, err := platform.ReadCopy.Outcome(ended(t, target, "r"))
	require.NoError(t, err)
	require.Contains(t, out.Wrong, "it was changed")
	require.NoError(t, target.Start(t.Context(), "k2", platform.DeliverCopy.Of(platform.Deliver{
		Source: "real-quay", Disk: "desk", Digest: digest, Copy: "desk-copy-1", MachineClass: "standard",
	})))
	p = ended(t, target, "k2")
	require.Equal(t, platform.Succeeded, p.State, p.Why)
	same(t, from, to, "desk", "desk-copy-1")
}

func TestCopiesGoToEveryHypervisorAndHostsWhereThereIsRoom(t *testing.T) {
	t.Parallel()
	one, two := server(t), server(t)
	s := small(t, one, two)
	digest := captureOf(t, s, one, "desk")
	require.NoError(t, s.Start(t.Context(), "d", platform.DeliverCopy.Of(platform.Deliver{
		Source: "real-quay",
		Disk:   "desk", Digest: digest, Copy: "c", MachineClass: "standard",
	})))
	require.Equal(t, platform.Succeeded, ended(t, s, "d").State)
	for _, hv := range []*locald.Server{one, two} {
		require.FileExists(t, filepath.Join(hv.Pool, "c.qcow2"))
	}
	on := map[string]bool{}
	for n := 1; n <= 2; n++ {
		host := fmt.Sprintf("h-%d", n)
		rebuilt(t, s, host, host, "c", digest)
		m, err := s.Machine(t.Context(), host)
		require.NoError(t, err)
		on[m.Node] = true
	}
	require.Len(t, on, 2, "the second host goes where there is more room")
	two.Kill()
	err := s.Start(t.Context(), "unsure", rebuildOf("h-9", "c", digest))
	require.ErrorContains(t, err, "hv-2 does not answer", "the host might be there")
}

func TestWhatDoesNotFitIsSaidBefore(t *testing.T) {
	t.Parallel()
	hv := server(t)
	e := locald.Site("real-quay", hv)
	for name, c := range map[string]estate.MachineClass{
		"thirsty": {Cores: 1, Memory: "900GiB"}, "wide": {Cores: 500, Memory: "64MiB"},
		"fat": {Cores: 1, Memory: "64MiB", Room: "900TiB"}, "third": {Cores: 1, Memory: "64MiB"},
	} {
		c.Firmware, c.Network, c.Display = "bios", "user", "none"
		if c.Room == "" {
			c.Room = "1MiB"
		}
		e.MachineClasses[name] = c
	}
	s := site(t, e)
	hosts := []string{"h-1", "h-2"}
	refusal(t, s.CheckRoom(t.Context(), hosts, "thirsty"), "of memory left, and a machine needs 900 GiB")
	refusal(t, s.CheckRoom(t.Context(), hosts, "wide"), "cores, and a machine needs 500")
	refusal(t, s.CheckRoom(t.Context(), hosts, "fat"), "of storage left")
	refusal(t, s.CheckRoom(t.Context(), hosts, "unheard-of"), "does not say what machines of class")
	require.NoError(t, s.CheckRoom(t.Context(), hosts, "third"))
	nodes, err := s.Nodes(t.Context())
	require.NoError(t, err)
	k := s.classes["third"]
	k.memory = nodes[0].Memory*2/3 + 1
	s.classes["third"] = k
	refusal(t, s.CheckRoom(t.Context(), hosts, "third"), "has room for 1 of the 2 machines that are missing")
}

func TestAFullStorageIsSaid(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("a storage that is full is a small file system, which only root can mount")
	}
	hv := server(t)
	s := small(t, hv)
	digest := captureOf(t, s, hv, "desk")
	pool := filepath.Join(hv.Dir, "tiny")
	require.NoError(t, os.Mkdir(pool, 0o755))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=4m", "tmpfs", pool).CombinedOutput(); err != nil {
		t.Skipf("no file system can be mounted here: %s", out)
	}
	t.Cleanup(func() { require.NoError(t, exec.Command("umount", pool).Run()) })
	require.NoError(t, hv.Own(pool))
	require.NoError(t, s.hypervisors[0].connected(t.Context(), func(l *libvirt.Libvirt) error {
		p, err := l.StoragePoolCreateXML(fmt.Sprintf(
			"<pool type='dir'><name>tiny</name><target><path>%s</path></target></pool>", pool), 0)
		require.NoError(t, err)
		t.Cleanup(func() {
			_ = s.hypervisors[0].connected(context.Background(),
				func(l *libvirt.Libvirt) error { return l.StoragePoolDestroy(p) })
		})
		return nil
	}))
	e := locald.Site("tiny-quay", hv)
	e.Hypervisors[0].Storage = "tiny"
	target, err := open(e, platform.Environment{
		Journal: journal.NewMemory(), Log: slog.New(slog.DiscardHandler),
		Peer: func(context.Context, string) (platform.Platform, error) { return s, nil },
	})
	require.NoError(t, err)
	t.Cleanup(target.Close)
	require.NoError(t, target.Start(t.Context(), "k",
		platform.DeliverCopy.Of(platform.Deliver{
			Source: "real-quay", Disk: "desk", Digest: digest, Copy: "c",
			MachineClass: "standard",
		})))
	p := ended(t, target, "k")
	require.Equal(t, platform.Failed, p.State)
	require.Contains(t, p.Why, "there is no room for copy c in "+pool)
}

func TestAGuestThatNeverStartsIsExplained(t *testing.T) {
	t.Parallel()
	hv := server(t)
	s := site(t, locald.Site("real-quay", hv))
	s.limits = limits{start: 3 * time.Second, shutdown: 3 * time.Second, seal: 3 * time.Second}
	emptyDisk(t, hv, "blank.qcow2", "1M")
	ctx := t.Context()
	refusal(t, s.Create(ctx, platform.BuildSpec{Name: "bm", MachineClass: "standard", BaseDisk: "none.qcow2"}),
		"there are: blank.qcow2")
	spec := platform.BuildSpec{Name: "bm", MachineClass: "standard", BaseDisk: "blank.qcow2", Base: "disk blank.qcow2"}
	require.NoError(t, s.Create(ctx, spec))
	require.NoError(t, s.Create(ctx, spec), "asked twice, it is there")
	_, err := s.Exec(ctx, "bm", platform.Command{Path: "/bin/true"})
	refusal(t, err, "is off: start it first")
	require.NoError(t, s.PowerOnBuild(ctx, "bm"))
	_, err = s.Exec(ctx, "bm", platform.Command{Path: "/bin/true"})
	refusal(t, err, "qemu-guest-agent")
	refusal(t, s.PowerOffBuild(ctx, "bm"), "did not shut down")
	domain(t, s, "bm", func(l *libvirt.Libvirt, d libvirt.Domain) error { return l.DomainDestroyFlags(d, 0) })

	capture := platform.CaptureMachine.Of(platform.Capture{
		BuildMachine: "bm", Disk: "d", Stamp: "desk d",
		MachineClass: "standard",
	})
	require.NoError(t, s.Start(ctx, "k", capture))
	p := ended(t, s, "k")
	require.Equal(t, platform.Failed, p.State)
	require.Contains(t, p.Why, "guest agent of bm-sealing did not answer")
	list, err := s.BuildMachines(ctx)
	require.NoError(t, err)
	require.Equal(t, platform.MachineOff, list[0].State, "the build machine is free again")
	require.Equal(t, []string{"blank.qcow2", "bm.own.qcow2"}, files(t, hv.Pool), "nothing of the capture is left")
	require.NoError(t, s.Discard(ctx, "bm"))
	require.NoError(t, s.Discard(ctx, "bm"), "what is not there is discarded")
	require.Equal(t, []string{"blank.qcow2"}, files(t, hv.Pool))
}

func TestKindsOfMachines(t *testing.T) {
	t.Parallel()
	hv := server(t)
	e := locald.Site("real-quay", hv)
	e.MachineClasses["standard"] = estate.MachineClass{
		Cores: 2, Memory: "96MiB", Firmware: "uefi", Network: "user",
		Display: "vnc", Room: "1MiB",
	}
	e.Accelerator = "probe"
	s := site(t, e)
	s.paused = true
	rebuilt(t, s, "1", "h-1", "desk", captureOf(t, s, hv, "desk"))
	m, err := s.Machine(t.Context(), "h-1")
	require.NoError(t, err)
	socket, on, _ := strings.Cut(strings.TrimPrefix(m.Display, "vnc socket "), " on ")
	require.Equal(t, "hv-1", on)
	at, err := os.Stat(socket)
	require.NoError(t, err, "where the display is reached")
	require.Equal(t, fs.ModeSocket, at.Mode().Type())
	folder, err := os.Stat(filepath.Dir(socket))
	require.NoError(t, err)
	require.Zero(t, folder.Mode().Perm()&0o007, "other accounts must not reach it")
	require.Equal(t, 2, m.Cores)
	require.EqualValues(t, 96<<20, m.Memory)
	require.True(t, strings.HasPrefix(m.Network, "user, 52:54:00:"), m.Network)
	nodes, err := s.Nodes(t.Context())
	require.NoError(t, err)
	require.Contains(t, []string{"kvm", "tcg"}, nodes[0].Acceleration, "the probe found out")
	require.Equal(t, 1, nodes[0].Machines, "nothing of the probe is left")
}

func TestTheLastMemoryIsGivenToOneOfTwo(t *testing.T) {
	t.Parallel()
	hv := server(t)
	s := small(t, hv)
	digest := captureOf(t, s, hv, "desk-1")
	nodes, err := s.Nodes(t.Context())
	require.NoError(t, err)
	k := s.classes["standard"]
	k.memory = (nodes[0].Memory-nodes[0].MemoryUsed)*2/3 + 1
	s.classes["standard"] = k
	for _, host := range []string{"h-1", "h-2", "h-3"} {
		require.NoError(t, s.Start(t.Context(), "rebuild-"+host, rebuildOf(host, "desk-1", digest)))
	}
	states := map[platform.State]int{}
	for _, host := range []string{"h-1", "h-2", "h-3"} {
		p := ended(t, s, "rebuild-"+host)
		states[p.State]++
		if p.State == platform.Failed {
			require.Contains(t, p.Why, "there is no room for "+host)
		}
	}
	require.Equal(t, map[platform.State]int{platform.Succeeded: 1, platform.Failed: 2}, states)
}

func TestABaseDiskThatCouldNeverBeCapturedIsRefused(t *testing.T) {
	t.Parallel()
	hv := server(t)
	s := small(t, hv)
	emptyDisk(t, hv, "plain.qcow2", "8M")
	locked := filepath.Join(t.TempDir(), "locked.qcow2")
	out, err := exec.Command("qemu-img", "create", "-q", "--object", "secret,id=s,data=tide", "-f", "qcow2", "-o",
		"encrypt.format=luks,encrypt.key-secret=s,encrypt.iter-time=10", locked, "64M").CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, hv.Add(locked, "locked.qcow2"))
	made := func(name, disk, class string) platform.Progress {
		op := platform.MakeMachine.Of(platform.BuildSpec{
			Name: name, MachineClass: class, BaseDisk: disk, Base: "disk " + disk,
		})
		require.NoError(t, s.Start(t.Context(), "make "+name, op))
		return ended(t, s, "make "+name)
	}
	p := made("bm-1", "locked.qcow2", "standard")
	require.Equal(t, platform.Failed, p.State)
	require.Contains(t, p.Why, "locked.qcow2 on hv-1 is encrypted: a version could not be made of it")
	require.Contains(t, made("bm-2", "none.qcow2", "standard").Why, "there is no base disk")
	require.Contains(t, made("bm-3", "plain.qcow2", "unheard-of").Why, "does not say what machines of class")
	nodes, err := s.Nodes(t.Context())
	require.NoError(t, err)
	k := s.classes["standard"]
	k.room = nodes[0].StorageFree * 2 / 3
	s.classes["standard"] = k
	require.Contains(t, made("bm-4", "plain.qcow2", "standard").Why, "with a version made of it, may come to take")
	list, err := s.BuildMachines(t.Context())
	require.NoError(t, err)
	require.Empty(t, list)
}

func TestABuildMachineHasTheSizeThatIsAskedFor(t *testing.T) {
	t.Parallel()
	hv := server(t)
	s := small(t, hv)
	emptyDisk(t, hv, "plain.qcow2", "8M")
	made := func(name string, size platform.Size) error {
		return s.createBuild(t.Context(), platform.BuildSpec{
			Name: name, MachineClass: "standard", BaseDisk: "plain.qcow2", Base: "disk plain.qcow2", Size: size,
		})
	}
	require.ErrorContains(t, made("bm-1", platform.Size{Disk: 32 << 20}),
		"plain.qcow2 has 64 MiB, and a machine made on it cannot have a disk of 32 MiB: a disk is not made smaller")
	require.ErrorContains(t, made("bm-2", platform.Size{Cores: 200}), "cores, and a machine needs 200")
	require.ErrorContains(t, made("bm-3", platform.Size{Memory: 1 << 50}), "a machine needs 1")
	require.ErrorContains(t, made("bm-4", platform.Size{Disk: 1 << 50}), "may come to take")
	require.NoError(t, made("bm-5", platform.Size{Cores: 2, Memory: 192 << 20, Disk: 96 << 20}))
	h := s.hypervisors[0]
	require.NoError(t, h.connected(t.Context(), func(l *libvirt.Libvirt) error {
		m, err := h.machine(l, "bm-5")
		require.NoError(t, err)
		_, memory, _, cores, _, err := l.DomainGetInfo(m.domain)
		require.NoError(t, err)
		require.EqualValues(t, 192<<10, memory)
		require.EqualValues(t, 2, cores)
		v, err := h.volume(l, "bm-5"+ownEnding)
		require.NoError(t, err)
		d, err := describe(l, v)
		require.EqualValues(t, 96<<20, d.Capacity.Value)
		return err
	}))
}
