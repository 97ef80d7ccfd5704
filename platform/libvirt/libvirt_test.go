package libvirt

import (
	"context"
	"log/slog"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/estate"
	"nimblepane/platform"
	"nimblepane/platform/journal"
	"nimblepane/platform/libvirt/locald"
	"nimblepane/platform/platformtest"
)

// server starts a libvirtd for the test, or skips the test where none can run.
func server(t testing.TB) *locald.Server {
	t.Helper()
	if err := locald.Check(); err != nil {
		t.Skip(err)
	}
	s, err := locald.Start(context.Background())
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	return s
}

// guestDisk is the disk that make guest builds.
func guestDisk(t testing.TB) string {
	t.Helper()
	path := os.Getenv("NIMBLEPANE_GUEST")
	if path == "" {
		t.Skip("NIMBLEPANE_GUEST names no guest disk: make test-real builds one and sets it")
	}
	return path
}

func site(t testing.TB, e estate.Site) *Site {
	t.Helper()
	s, err := open(e, platform.Environment{Journal: journal.NewMemory(), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// emptyDisk makes a disk with nothing on it, some MiB in size, with that much of it written.
func emptyDisk(t testing.TB, s *locald.Server, name string, written string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	for _, args := range [][]string{
		{"qemu-img", "create", "-q", "-f", "qcow2", path, "64M"},
		{"qemu-io", "-c", "write -P 7 0 " + written, path},
	} {
		out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	require.NoError(t, s.Add(path, name))
}

// TestConformance runs on real machines, with the guest that make guest builds.
func TestConformance(t *testing.T) {
	disk := guestDisk(t)
	hv := server(t)
	require.NoError(t, hv.Add(disk, "debian.qcow2"))
	s := site(t, locald.Site("real-quay", hv))
	require.NoError(t, s.Create(t.Context(), platform.BuildSpec{
		Name: "bm-desk", MachineClass: "standard",
		BaseDisk: "debian.qcow2", Base: "disk debian.qcow2",
	}))
	platformtest.Test(t, platformtest.Bench{
		Platform: s, Site: "real-quay", BuildMachine: "bm-desk", MachineClass: "standard", Patience: 4 * time.Minute,
		Base: "debian.qcow2",
		Reach: func(address string) string {
			u, err := url.Parse(address)
			require.NoError(t, err)
			_, port, err := net.SplitHostPort(u.Host)
			require.NoError(t, err)
			return strings.Replace(address, u.Host, "10.0.2.2:"+port, 1)
		},
	})
}
