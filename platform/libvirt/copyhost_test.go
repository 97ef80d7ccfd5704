package libvirt

import (
	"os"
	"path/filepath"
	"testing"

	libvirt "github.com/digitalocean/go-libvirt"
	"github.com/stretchr/testify/require"

	"nimblepane/platform"
)

func TestAHostsDiskIsCopiedWholeAndTheHostCanBeMadeAnew(t *testing.T) {
	t.Parallel()
	hv := server(t)
	s := small(t, hv)
	digest := captureOf(t, s, hv, "desk")
	rebuilt(t, s, "1", "h-1", "desk", digest)
	of := platform.HostCopy{Host: "h-1", Spec: platform.BuildSpec{
		Name: "bm-copy", MachineClass: "standard", Host: "h-1", Base: "host h-1",
	}}
	begin := func(key string, c platform.HostCopy) error {
		return s.Start(t.Context(), key, platform.CopyHost.Of(c))
	}
	smaller, elsewhere := of, of
	smaller.Spec.Size.Disk = 32 << 20
	refusal(t, begin("smaller", smaller), "a disk is not made smaller")
	elsewhere.Spec.Name = "h-1"
	refusal(t, begin("over itself", elsewhere), "there is a machine named h-1")
	huge := of
	huge.Spec.Size.Disk = 1 << 60
	refusal(t, begin("huge", huge), "of storage left")

	// Nobody is there to shut it down in order: it is off.
	domain(t, s, "h-1", powerOff)
	of.Spec.Size.Disk = 96 << 20
	require.NoError(t, begin("copy", of))
	p := ended(t, s, "copy")
	require.Equal(t, platform.Succeeded, p.State, p.Why)
	domain(t, s, "h-1", func(l *libvirt.Libvirt, d libvirt.Domain) error {
		starts, err := l.DomainGetAutostart(d)
		require.Zero(t, starts, "it does not come up by itself")
		return err
	})
	file, err := os.Stat(filepath.Join(hv.Pool, "bm-copy"+ownEnding))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), file.Mode(), "the machine writes it")
	h := s.hypervisors[0]
	require.NoError(t, h.connected(t.Context(), func(l *libvirt.Libvirt) error {
		v, err := h.volume(l, "bm-copy"+ownEnding)
		require.NoError(t, err)
		is, err := describe(l, v)
		require.NoError(t, err)
		require.EqualValues(t, 96<<20, is.Capacity.Value)
		require.True(t, is.Backing == nil || is.Backing.Path == "", "nothing of the host is below it")
		return nil
	}))
	rebuilt(t, s, "2", "h-1", "desk", digest)
	list, err := s.BuildMachines(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, platform.MachineOff, list[0].State)
	require.NoError(t, s.Discard(t.Context(), "bm-copy"))
	require.NotContains(t, files(t, hv.Pool), filepath.Base("bm-copy"+ownEnding))
}
