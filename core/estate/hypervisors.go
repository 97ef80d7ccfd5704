package estate

import (
	"cmp"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"nimblepane/core/image"
)

// MachineSettings is what a site's machines run on, for platforms with machines of
// their own. Sizes are written with a unit, such as 4GiB.
type MachineSettings struct {
	Hypervisors []Hypervisor `yaml:"hypervisors,omitempty" json:"hypervisors,omitempty"`
	// ServiceAddress is where the site's machines find the service, if that is
	// not where everybody finds it.
	ServiceAddress string                  `yaml:"service-address,omitempty" json:"service_address,omitempty"`
	Accelerator    string                  `yaml:"accelerator,omitempty" json:"accelerator,omitempty"` // probe if not given
	MachineClasses map[string]MachineClass `yaml:"machine-classes,omitempty" json:"machine_classes,omitempty"`
}

// Hypervisor is one computer that machines run on.
type Hypervisor struct {
	Name    string `yaml:"name" json:"name"`
	Address string `yaml:"address" json:"address"` // a libvirt connection URI
	Storage string `yaml:"storage" json:"storage"` // name of a storage pool that is Nimble Pane's alone
	// Depot is where its depot listens, for a hypervisor that is not the service's own computer.
	Depot string `yaml:"depot,omitempty" json:"depot,omitempty"`
}

// MachineClass says what machines of a class are like.
type MachineClass struct {
	Cores    int    `yaml:"cores" json:"cores"`
	Memory   string `yaml:"memory" json:"memory"`
	Firmware string `yaml:"firmware,omitempty" json:"firmware,omitempty"` // bios if not given
	Network  string `yaml:"network,omitempty" json:"network,omitempty"`   // user if not given
	Display  string `yaml:"display,omitempty" json:"display,omitempty"`   // none if not given
	// Room is how much of the site's storage a machine's own disk may come to take; 2GiB if not given.
	Room string `yaml:"room,omitempty" json:"room,omitempty"`
	// Disk is the largest that one of its machines may have; any if not given.
	Disk string `yaml:"disk,omitempty" json:"disk,omitempty"`
}

// transports of libvirt that hypervisors are reached by, with QEMU's driver.
var transports = []string{"qemu", "qemu+unix", "qemu+tls", "qemu+ssh"}

// Words of machine settings.
var (
	Accelerators = []string{"probe", "kvm", "tcg"}
	Firmwares    = []string{"bios", "uefi"}
	Displays     = []string{"none", "vnc", "spice"}
)

// Bytes reads a size such as 512MiB.
func Bytes(size string) (int64, error) {
	n, err := humanize.ParseBytes(size)
	if err != nil || n == 0 || n > 1<<60 {
		return 0, fmt.Errorf("%q is no size: write a number with a unit, such as 4GiB", size)
	}
	return int64(n), nil
}

// machineSettings checks what a site with machines of its own runs them on.
func (c *checker) machineSettings(at string, s *Site) {
	m := &s.MachineSettings
	if s.Address != "" {
		c.at(at+".address", "site %s: on platform %s each hypervisor has an address, and the site has none", s.Name,
			s.Platform)
	}
	if len(m.Hypervisors) == 0 {
		c.at(at, "site %s: name at least one of its hypervisors, such as {name: hv-1, address: \"qemu:///system\", "+
			"storage: nimblepane}", s.Name)
	}
	seen := map[string]bool{}
	for i, h := range m.Hypervisors {
		hat := fmt.Sprintf("%s.hypervisors[%d]", at, i)
		c.name(hat+".name", "hypervisor", h.Name, seen)
		if u, err := url.Parse(h.Address); err != nil || !slices.Contains(transports, u.Scheme) ||
			u.Path != "/system" && u.Path != "/session" {
			c.at(hat+".address", "hypervisor %s: address %q: write a libvirt URI of QEMU's driver, such as "+
				"qemu:///system, qemu+tls://host/system or qemu+ssh://user@host/system", h.Name, h.Address)
		}
		if u, err := url.Parse(h.Depot); h.Depot != "" && (err != nil || u.Scheme != "https" || u.Host == "" ||
			strings.Trim(u.Path, "/") != "") {
			c.at(hat+".depot", "hypervisor %s: depot %q: write where its pane-agent depot listens, such as "+
				"https://hv-1.example.org:16520", h.Name, h.Depot)
		}
		if h.Storage == "" || strings.ContainsAny(h.Storage, "/\n") {
			c.at(hat+".storage", "hypervisor %s: storage %q: write the name of its storage pool", h.Name, h.Storage)
		}
	}
	m.Accelerator = cmp.Or(m.Accelerator, "probe")
	c.oneOf(at+".accelerator", "site "+s.Name+": accelerator", m.Accelerator, Accelerators)
	if u, err := url.Parse(m.ServiceAddress); m.ServiceAddress != "" &&
		(err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https") {
		c.at(at+".service-address", "site %s: service address %q: write where its machines find the service, such "+
			"as https://desks.example.org", s.Name, m.ServiceAddress)
	}
	if len(m.MachineClasses) == 0 {
		c.at(at, "site %s: describe at least one of its machine classes, such as machine-classes: {standard: "+
			"{cores: 2, memory: 4GiB}}", s.Name)
	}
	for _, name := range slices.Sorted(maps.Keys(m.MachineClasses)) {
		k := m.MachineClasses[name]
		kat := at + ".machine-classes." + name
		if err := image.CheckName(name); err != nil {
			c.at(at+".machine-classes", "site %s: machine class %s", s.Name, err)
			continue
		}
		if k.Cores < 1 || k.Cores > 512 {
			c.at(kat+".cores", "machine class %s: %d cores: use 1 to 512", name, k.Cores)
		}
		if n, err := Bytes(k.Memory); err != nil {
			c.at(kat+".memory", "machine class %s: memory: %s", name, err)
		} else if n < 64<<20 {
			c.at(kat+".memory", "machine class %s: memory of %s: use 64MiB or more", name, k.Memory)
		}
		k.Firmware, k.Network, k.Display, k.Room = cmp.Or(k.Firmware, "bios"), cmp.Or(k.Network, "user"),
			cmp.Or(k.Display, "none"),
			cmp.Or(k.Room, "2GiB")
		c.oneOf(kat+".firmware", "machine class "+name+": firmware", k.Firmware, Firmwares)
		c.oneOf(kat+".display", "machine class "+name+": display", k.Display, Displays)
		if kind, rest, named := strings.Cut(k.Network, ":"); k.Network != "user" &&
			(!named || rest == "" || kind != "network" && kind != "bridge") {
			c.at(kat+".network", "machine class %s: network %q: use user, network:NAME or bridge:NAME", name, k.Network)
		}
		if k.Disk != "" {
			if _, err := Bytes(k.Disk); err != nil {
				c.at(kat+".disk", "machine class %s: disk: %s", name, err)
			}
		}
		if _, err := Bytes(k.Room); err != nil {
			c.at(kat+".room", "machine class %s: room: %s", name, err)
		}
		m.MachineClasses[name] = k
	}
}

func (c *checker) oneOf(at, what, word string, words []string) {
	if !slices.Contains(words, word) {
		c.at(at, "%s %q is not known: use %s", what, word, strings.Join(words, " or "))
	}
}
