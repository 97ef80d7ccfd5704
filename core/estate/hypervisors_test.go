package estate

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const metal = `sites:
  - name: dry-dock
    platform: libvirt
    hypervisors:
      - {name: hv-1, address: "qemu:///system", storage: nimblepane}
      - {name: hv-2, address: "qemu+ssh://panes@hv-2.example.org/system", storage: nimblepane}
    machine-classes:
      standard: {cores: 2, memory: 4GiB}
      graphics: {cores: 8, memory: 16GB, firmware: uefi, network: "bridge:br0", display: spice, room: 20GiB}
images:
  - {name: quay-desk, machine-class: standard}
pools:
  - {name: offices, site: dry-dock, image: quay-desk, track: live, hosts: 3, host-prefix: do, seats-per-host: 4, machine-class: standard}
`

func TestMachineSettingsGetItsDefaults(t *testing.T) {
	t.Parallel()
	f, err := Parse([]byte(metal))
	require.NoError(t, err)
	m := f.Sites[0].MachineSettings
	require.Equal(t, "probe", m.Accelerator)
	require.Equal(t, MachineClass{
		Cores: 2, Memory: "4GiB", Firmware: "bios", Network: "user", Display: "none",
		Room: "2GiB",
	}, m.MachineClasses["standard"])
	require.Equal(t, MachineClass{
		Cores: 8, Memory: "16GB", Firmware: "uefi", Network: "bridge:br0", Display: "spice",
		Room: "20GiB",
	}, m.MachineClasses["graphics"])
	n, err := Bytes("4GiB")
	require.NoError(t, err)
	require.EqualValues(t, 4<<30, n)
	for _, bad := range []string{"", "much", "0", "-1GiB", "4 bananas"} {
		_, err := Bytes(bad)
		require.ErrorContains(t, err, "is no size", bad)
	}
}

func TestProblemsOfMachineSettingsAreSaidWithTheirLines(t *testing.T) {
	t.Parallel()
	_, err := Parse([]byte(`sites:
  - name: dry-dock
    platform: libvirt
    address: http://127.0.0.1:7720
    hypervisors:
      - {name: hv-1, address: "vnc://there", storage: nimblepane}
      - {name: hv-1, address: "qemu:///system", storage: /var/lib}
    accelerator: steam
    service-address: nowhere
    delivery-rate: fast
    machine-classes:
      standard: {cores: 0, memory: 1MiB, firmware: coreboot, network: carrier-pigeon, display: cinema, room: none}
  - name: empty-dock
    platform: libvirt
  - {name: north-quay, platform: practice, address: "http://127.0.0.1:7720"}
images:
  - {name: quay-desk, machine-class: graphics}
pools:
  - {name: a, site: dry-dock, image: quay-desk, track: live, hosts: 3, host-prefix: a, seats-per-host: 4, machine-class: graphics}
  - {name: b, site: north-quay, image: quay-desk, track: live, hosts: 3, host-prefix: b, seats-per-host: 4, machine-class: graphics}
`))
	var p Problems
	require.ErrorAs(t, err, &p)
	for text, line := range map[string]int{
		"each hypervisor has an address": 4, `address "vnc://there"`: 6, "hypervisor hv-1 is there twice": 7,
		`storage "/var/lib"`:  7,
		`accelerator "steam"`: 8, `service address "nowhere"`: 9, `"fast" is no size`: 10, "0 cores": 12,
		"memory of 1MiB": 12, `firmware "coreboot"`: 12,
		`network "carrier-pigeon"`: 12, `display "cinema"`: 12, `"none" is no size`: 12,
		"name at least one of its hypervisors": 13, "describe at least one": 13,
		`what machines of class "graphics" are like; it has standard`: 19, "a disk runs on one platform only": 20,
	} {
		found := false
		for _, x := range p {
			if strings.Contains(x.Text, text) {
				require.InDelta(t, line, x.Line, 0, x.Text)
				found = true
				break
			}
		}
		require.True(t, found, "%q is not among:\n%s", text, err)
	}
}

func TestWhatIsNoSizeIsNothing(t *testing.T) {
	t.Parallel()
	n, err := Bytes("4GiB")
	require.NoError(t, err)
	require.EqualValues(t, 4<<30, n)
	n, err = Bytes("lots")
	require.ErrorContains(t, err, `"lots" is no size`)
	require.Zero(t, n)
}

func TestAMachineClassThatHasNoNameIsLookedAtNoFurther(t *testing.T) {
	t.Parallel()
	_, err := Parse([]byte(strings.Replace(metal, "graphics: {cores: 8", "Graphics: {cores: 0", 1)))
	var ps Problems
	require.ErrorAs(t, err, &ps)
	require.NotContains(t, ps.Error(), "0 cores")
	require.Contains(t, ps.Error(), `machine class "Graphics" cannot be a name`)
}
