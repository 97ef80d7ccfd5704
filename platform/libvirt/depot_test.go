package libvirt

import (
	"bytes"
	"context"
	"crypto/x509"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"
	"github.com/stretchr/testify/require"

	"nimblepane/platform"
	"nimblepane/platform/depot"
	"nimblepane/platform/journal"
	"nimblepane/platform/libvirt/locald"
)

// captured puts a qcow2 with what is on the guest's disk where a capture would, and returns its digest.
func captured(t *testing.T, s *Site, hv *locald.Server, name string, content []byte) string {
	t.Helper()
	raw := filepath.Join(t.TempDir(), "raw")
	require.NoError(t, os.WriteFile(raw, content, 0o600))
	file := filepath.Join(hv.Pool, name+diskEnding)
	out, err := exec.CommandContext(t.Context(), "qemu-img", "convert", "-O", "qcow2", raw, file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, hv.Own(file))
	h := s.hypervisors[0]
	digest, err := h.mapped(t.Context(), name, func(int) {})
	require.NoError(t, err)
	require.FileExists(t, filepath.Join(hv.Pool, name+depot.MapEnding))
	require.NoError(t, h.connected(t.Context(), func(l *libvirt.Libvirt) error {
		p, err := h.pool(l)
		require.NoError(t, err)
		require.NoError(t, h.refresh(l, p))
		return h.complete(l, name, note{Digest: digest, MachineClass: "standard"})
	}))
	return digest
}

// farFrom is a site that gets its disks from another one.
func farFrom(t *testing.T, source platform.Platform, servers ...*locald.Server) *Site {
	t.Helper()
	s, err := open(locald.Site("far-quay", servers...), platform.Environment{
		Journal: journal.NewMemory(), Log: slog.New(slog.DiscardHandler),
		Peer: func(_ context.Context, name string) (platform.Platform, error) {
			require.Equal(t, "real-quay", name)
			return source, nil
		},
	})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// versions are what is on a guest's disk, and on that of its next version: a megabyte more, before the rest.
func versions() (first, second []byte) {
	r := rand.NewChaCha8([32]byte{1})
	first = make([]byte, 32<<20)
	_, _ = r.Read(first[8<<20 : 24<<20])
	second = bytes.Clone(first)
	_, _ = r.Read(second[2<<20 : 3<<20])
	return first, second
}

func same(t *testing.T, from, to *locald.Server, disk, copyName string) {
	t.Helper()
	a, err := os.ReadFile(filepath.Join(from.Pool, disk+diskEnding))
	require.NoError(t, err)
	b, err := os.ReadFile(filepath.Join(to.Pool, copyName+diskEnding))
	require.NoError(t, err)
	require.True(t, bytes.Equal(a, b))
}

func TestAVersionTravelsAsWhatChanged(t *testing.T) {
	t.Parallel()
	near, one, two := server(t), server(t), server(t)
	source := small(t, near)
	first, second := versions()
	old, updated := captured(t, source, near, "desk-1", first), captured(t, source, near, "desk-2", second)
	far := farFrom(t, source, one, two)
	deliver := func(key string, d platform.Deliver) platform.Transfer {
		t.Helper()
		d.Source, d.MachineClass = "real-quay", "standard"
		require.NoError(t, far.Start(t.Context(), key, platform.DeliverCopy.Of(d)))
		p := ended(t, far, key)
		require.Equal(t, platform.Succeeded, p.State, p.Why)
		for _, hv := range []*locald.Server{one, two} {
			same(t, near, hv, d.Disk, d.Copy)
			require.FileExists(t, filepath.Join(hv.Pool, d.Copy+depot.MapEnding))
			require.NoFileExists(t, filepath.Join(hv.Pool, d.Copy+depot.PartEnding))
		}
		return *p.Transfer
	}
	begun := platform.Deliver{Disk: "desk-1", Digest: old, Copy: "desk-1-copy-1"}
	first1 := deliver("first", begun)
	require.Greater(t, first1.Lacking, int64(16<<20))
	next := deliver("second", platform.Deliver{
		Disk: "desk-2", Digest: updated, Copy: "desk-2-copy-1", Beside: []string{"gone", "desk-1-copy-1"},
	})
	require.Less(t, next.Lacking, int64(2<<20), "what stands elsewhere in the file is found")
	require.Less(t, next.Line, int64(2<<20))

	// The second copy comes from the site itself, although where the first came from is gone.
	require.NoError(t, os.Remove(filepath.Join(near.Pool, "desk-2.note")))
	require.NoError(t, os.Rename(filepath.Join(near.Pool, "desk-2.qcow2"), filepath.Join(near.Pool, "kept.qcow2")))
	again := platform.Deliver{
		Source: "real-quay", Disk: "desk-2", Digest: updated, Copy: "desk-2-copy-2", MachineClass: "standard",
		Same: []string{"desk-2-copy-1"},
	}
	require.NoError(t, far.Start(t.Context(), "third", platform.DeliverCopy.Of(again)))
	p := ended(t, far, "third")
	require.Equal(t, platform.Succeeded, p.State, p.Why)
	require.Zero(t, p.Transfer.Line)
	same(t, near, one, "kept", "desk-2-copy-2")

	// Hosts are cloned from what was put together, and nothing is left of what is deleted.
	rebuilt(t, paused(far), "h", "h-1", "desk-2-copy-2", updated)
	for _, c := range []string{"desk-1-copy-1", "desk-2-copy-1"} {
		require.NoError(t, far.Start(t.Context(), "delete "+c, platform.DeleteCopy.Of(platform.Named{Name: c})))
		require.Equal(t, platform.Succeeded, ended(t, far, "delete "+c).State)
		for _, hv := range []*locald.Server{one, two} {
			left, err := filepath.Glob(filepath.Join(hv.Pool, c+"*"))
			require.NoError(t, err)
			require.Empty(t, left)
		}
	}
}

func paused(s *Site) *Site {
	s.paused = true
	return s
}

func TestACopyThatWasChangedUnderneathIsMadeAnew(t *testing.T) {
	t.Parallel()
	near, there := server(t), server(t)
	source := small(t, near)
	first, _ := versions()
	digest := captured(t, source, near, "desk", first)
	far := farFrom(t, source, there)
	of := platform.DeliverCopy.Of(platform.Deliver{
		Source: "real-quay", Disk: "desk", Digest: digest, Copy: "c", MachineClass: "standard", Beside: []string{"old"},
	})
	require.NoError(t, far.Start(t.Context(), "1", of))
	require.Equal(t, platform.Succeeded, ended(t, far, "1").State)
	file := filepath.Join(there.Pool, "c.qcow2")
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("not what it was"), 9<<20)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, far.Start(t.Context(), "2", of))
	p := ended(t, far, "2")
	require.Equal(t, platform.Succeeded, p.State, p.Why)
	same(t, near, there, "desk", "c")

	// One whose note was lost is read, and taken.
	require.NoError(t, os.Remove(filepath.Join(there.Pool, "c.note")))
	again := farFrom(t, source, there)
	require.NoError(t, again.Start(t.Context(), "3", of))
	p = ended(t, again, "3")
	require.Equal(t, platform.Succeeded, p.State, p.Why)
	require.Zero(t, p.Transfer.Line)
}

// TestAHypervisorElsewhereHasADepotOfItsOwn has pane-agent's part of a delivery go over HTTPS.
func TestAHypervisorElsewhereHasADepotOfItsOwn(t *testing.T) {
	t.Parallel()
	near, there := server(t), server(t)
	source := small(t, near)
	first, _ := versions()
	digest := captured(t, source, near, "desk", first)
	ca := &authority{T: t, dir: t.TempDir()}
	ca.issue("ca", 1, x509.ExtKeyUsageAny)
	ca.issue("server", 2, x509.ExtKeyUsageServerAuth)
	ca.issue("client", 3, x509.ExtKeyUsageClientAuth)
	local, err := depot.OpenLocal(there.Pool, 0o644)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	served := make(chan error, 1)
	go func() {
		served <- depot.Serve(ctx, l, local, depot.Certificates{Folder: ca.dir}, nil, slog.New(slog.DiscardHandler))
	}()
	far := farFrom(t, source, there)
	h := far.hypervisors[0]
	q := h.address.Query()
	q.Set("pkipath", ca.dir)
	h.address.RawQuery, h.depotAt = q.Encode(), "https://"+l.Addr().String()
	nodes, err := far.Nodes(t.Context())
	require.NoError(t, err)
	require.Equal(t, "by blocks, depot "+h.depotAt, nodes[0].Delivery)
	of := platform.DeliverCopy.Of(platform.Deliver{
		Source: "real-quay", Disk: "desk", Digest: digest, Copy: "c", MachineClass: "standard",
	})
	require.NoError(t, far.Start(t.Context(), "k", of))
	p := ended(t, far, "k")
	require.Equal(t, platform.Succeeded, p.State, p.Why)
	require.Greater(t, p.Transfer.Line, int64(16<<20))
	same(t, near, there, "desk", "c")
	stop()
	require.NoError(t, <-served)

	// Without its depot it is waited for, and without certificates that is said.
	require.NoError(t, far.Start(t.Context(), "late", platform.DeliverCopy.Of(platform.Deliver{
		Source: "real-quay", Disk: "desk", Digest: digest, Copy: "late", MachineClass: "standard",
	})))
	require.Eventually(t, func() bool {
		p, err = far.Ask(t.Context(), "late")
		return err == nil && p.Why != ""
	}, time.Minute, 10*time.Millisecond)
	require.Equal(t, platform.UnderWay, p.State)
	require.Contains(t, p.Why, "depot https://127.0.0.1")
	bare := farFrom(t, source, there)
	bare.hypervisors[0].depotAt = h.depotAt
	q.Set("pkipath", t.TempDir())
	bare.hypervisors[0].address.RawQuery = q.Encode()
	require.NoError(t, bare.Start(t.Context(), "k", of))
	p = ended(t, bare, "k")
	require.Equal(t, platform.Succeeded, p.State, "it is there")
	require.NoError(t, os.Remove(filepath.Join(there.Pool, "c.qcow2")))
	require.NoError(t, bare.Start(t.Context(), "again", of))
	p = ended(t, bare, "again")
	require.Equal(t, platform.Failed, p.State)
	require.Contains(t, p.Why, "the authority's certificate")
}

// TestASourceThatIsAwayIsWaitedFor has nobody think that it is the site itself which does not answer.
func TestASourceThatIsAwayIsWaitedFor(t *testing.T) {
	t.Parallel()
	near, there := server(t), server(t)
	source := small(t, near)
	first, _ := versions()
	digest := captured(t, source, near, "desk", first)
	far := farFrom(t, source, there)
	of := platform.DeliverCopy.Of(platform.Deliver{
		Source: "real-quay", Disk: "desk", Digest: digest, Copy: "c", MachineClass: "standard",
	})
	near.Kill()
	var busy *platform.Busy
	require.ErrorAs(t, far.Start(t.Context(), "k", of), &busy)
	require.Contains(t, busy.Why, "where it comes from does not answer: hypervisor hv-1")
	require.NoError(t, near.Run(t.Context()))
	require.Eventually(t, func() bool { return far.Start(t.Context(), "k", of) == nil }, time.Minute,
		10*time.Millisecond)
	p := ended(t, far, "k")
	require.Equal(t, platform.Succeeded, p.State, p.Why)
	same(t, near, there, "desk", "c")
}

// TestACopyIsReadAgainWhateverItsFileSays has content change under a file that looks as it did.
func TestACopyIsReadAgainWhateverItsFileSays(t *testing.T) {
	t.Parallel()
	near, one, two := server(t), server(t), server(t)
	source := small(t, near)
	first, _ := versions()
	digest := captured(t, source, near, "desk", first)
	far := farFrom(t, source, one, two)
	of := platform.DeliverCopy.Of(platform.Deliver{
		Source: "real-quay", Disk: "desk", Digest: digest, Copy: "c", MachineClass: "standard",
	})
	deliver := func(key string) {
		t.Helper()
		require.NoError(t, far.Start(t.Context(), key, of))
		p := ended(t, far, key)
		require.Equal(t, platform.Succeeded, p.State, p.Why)
	}
	read := func(key string) string {
		t.Helper()
		reading := platform.Reading{Copy: "c", Digest: digest, Rate: 1 << 30}
		require.NoError(t, far.Start(t.Context(), key, platform.ReadCopy.Of(reading)))
		p := ended(t, far, key)
		require.Equal(t, platform.Succeeded, p.State, p.Why)
		out, err := platform.ReadCopy.Outcome(p)
		require.NoError(t, err)
		return out.Wrong
	}
	deliver("1")
	require.Empty(t, read("a"))
	h := far.hypervisors[1]
	got, err := h.digestInPieces(t.Context(), platform.Reading{Copy: "c", Rate: 1 << 30}, nil)
	require.NoError(t, err)
	require.Equal(t, digest, got, "as where there is no depot")

	file := filepath.Join(two.Pool, "c.qcow2")
	info, err := os.Stat(file)
	require.NoError(t, err)
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	content[len(content)/2] ^= 1
	require.NoError(t, os.Chmod(file, 0o644))
	require.NoError(t, os.WriteFile(file, content, 0o600))
	require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
	otherProcess := farFrom(t, source, one, two).hypervisors[1]
	for _, process := range []*hypervisor{h, otherProcess} {
		require.NoError(t, process.intact(t.Context(), "c", digest, nil), "its note does not show it")
	}
	wrong := read("b")
	require.Error(t, otherProcess.intact(t.Context(), "c", digest, nil), "what one process has found holds for all")
	require.Contains(t, wrong, "it was changed: its content has digest sha256:")
	require.Contains(t, wrong, "(on "+h.name+")")
	var refusal *platform.Refusal
	_, err = h.anyCopy(t.Context(), []string{"c"}, "standard")
	require.ErrorAs(t, err, &refusal, "nothing is made from it there")
	deliver("2")
	same(t, near, two, "desk", "c")
	require.Empty(t, read("c"))

	// One that is gone is said, and so is a hypervisor that does not answer: that says nothing of the copy.
	require.NoError(t, os.Remove(file))
	require.Contains(t, read("d"), "c")
	two.Kill()
	reading := platform.Reading{Copy: "c", Digest: digest, Rate: 1 << 30}
	require.NoError(t, far.Start(t.Context(), "e", platform.ReadCopy.Of(reading)))
	require.Eventually(t, func() bool {
		p, err := far.Ask(t.Context(), "e")
		return err == nil && p.Why != ""
	}, time.Minute, 10*time.Millisecond)
	p, err := far.Ask(t.Context(), "e")
	require.NoError(t, err)
	require.NotEqual(t, platform.Succeeded, p.State)
}
