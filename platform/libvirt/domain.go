package libvirt

import (
	"context"
	"crypto/sha256"
	"encoding/xml"
	"fmt"
	"strings"

	libvirt "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"
)

// namespace of our tag in a domain's metadata.
const namespace = "urn:nimblepane:machine:1"

// Kinds of machines.
const (
	kindHost    = "host"
	kindBuild   = "build"
	kindSealing = "sealing"
	kindProbe   = "probe"
)

// tag is what says that a domain is ours, and what it is.
type tag struct {
	XMLName xml.Name `xml:"urn:nimblepane:machine:1 machine"`
	Site    string   `xml:"site,attr"`
	Kind    string   `xml:"kind,attr"`
	Key     string   `xml:"key,attr,omitempty"` // of the operation that made it
	Class   string   `xml:"class,attr,omitempty"`
	Base    string   `xml:"base,attr,omitempty"` // how people call what it is made from
	Disk    string   `xml:"disk,attr,omitempty"` // the disk below its own
	Host    string   `xml:"host,attr,omitempty"` // whose disk was copied for it
	// Sealed holds what was done to seal it, once it was: a sealed machine is not started again.
	Sealed []string `xml:"sealed"`
	Stamp  string   `xml:"stamp,attr,omitempty"` // the version that it was sealed as
	// Checkpoints are those that it can go back to, in the order in which they were made.
	Checkpoints []checkpoint `xml:"checkpoint"`
}

// domainXML is libvirt's domain description, as far as it is used here.
type domainXML struct {
	XMLName  xml.Name `xml:"domain"`
	Type     string   `xml:"type,attr"`
	Name     string   `xml:"name"`
	UUID     string   `xml:"uuid,omitempty"`
	Title    string   `xml:"title,omitempty"`
	Metadata struct {
		Tag *tag `xml:"urn:nimblepane:machine:1 machine"`
	} `xml:"metadata"`
	Memory   bytesXML `xml:"memory"`
	VCPU     int      `xml:"vcpu"`
	OS       osXML    `xml:"os"`
	Features struct {
		ACPI struct{} `xml:"acpi"`
	} `xml:"features"`
	CPU      *cpuXML `xml:"cpu"`
	OnReboot string  `xml:"on_reboot,omitempty"`
	OnCrash  string  `xml:"on_crash,omitempty"`
	Devices  struct {
		Disks      []diskXML     `xml:"disk"`
		Interfaces []netXML      `xml:"interface"`
		Channels   []channelXML  `xml:"channel"`
		Serials    []serialXML   `xml:"serial"`
		Graphics   []graphicsXML `xml:"graphics"`
		Video      *modelXML     `xml:"video"`
		RNG        *rngXML       `xml:"rng"`
		Balloon    *balloonXML   `xml:"memballoon"`
	} `xml:"devices"`
}

type osXML struct {
	Firmware string   `xml:"firmware,attr,omitempty"`
	Type     osType   `xml:"type"`
	Details  *fwXML   `xml:"firmware"`
	Boot     *bootXML `xml:"boot"`
}

type osType struct {
	Arch    string `xml:"arch,attr,omitempty"`
	Machine string `xml:"machine,attr,omitempty"`
	Value   string `xml:",chardata"`
}

type fwXML struct {
	Features []fwFeature `xml:"feature"`
}

type fwFeature struct {
	Enabled string `xml:"enabled,attr"`
	Name    string `xml:"name,attr"`
}

type bootXML struct {
	Dev string `xml:"dev,attr"`
}

type cpuXML struct {
	Mode string `xml:"mode,attr"`
}

type diskXML struct {
	Type   string `xml:"type,attr"`
	Device string `xml:"device,attr"`
	Driver struct {
		Name    string `xml:"name,attr"`
		Type    string `xml:"type,attr"`
		Discard string `xml:"discard,attr,omitempty"`
		Zeroes  string `xml:"detect_zeroes,attr,omitempty"`
	} `xml:"driver"`
	Source struct {
		File string `xml:"file,attr"`
	} `xml:"source"`
	Target struct {
		Dev string `xml:"dev,attr"`
		Bus string `xml:"bus,attr"`
	} `xml:"target"`
	ReadOnly *struct{} `xml:"readonly"`
}

type netXML struct {
	Type string `xml:"type,attr"`
	MAC  struct {
		Address string `xml:"address,attr"`
	} `xml:"mac"`
	Source *netSource `xml:"source"`
	Model  attrType   `xml:"model"`
}

type netSource struct {
	Network string `xml:"network,attr,omitempty"`
	Bridge  string `xml:"bridge,attr,omitempty"`
}

type attrType struct {
	Type string `xml:"type,attr"`
}

type channelXML struct {
	Type   string `xml:"type,attr"`
	Target struct {
		Type string `xml:"type,attr"`
		Name string `xml:"name,attr"`
	} `xml:"target"`
}

type serialXML struct {
	Type string `xml:"type,attr"`
}

type graphicsXML struct {
	Type   string      `xml:"type,attr"`
	Port   int         `xml:"port,attr,omitempty"` // of machines of an earlier release, which listened on loopback
	Listen *listensXML `xml:"listen"`
}

// listensXML is where a display is reached.
type listensXML struct {
	Type   string `xml:"type,attr"`
	Socket string `xml:"socket,attr,omitempty"` // chosen by libvirt
}

type modelXML struct {
	Model attrType `xml:"model"`
}

type rngXML struct {
	Model   string `xml:"model,attr"`
	Backend struct {
		Model string `xml:"model,attr"`
		Value string `xml:",chardata"`
	} `xml:"backend"`
}

type balloonXML struct {
	Model string `xml:"model,attr"`
}

// domain describes a machine of a class. Its identity comes from site and name
// alone, so that a rebuilt host is the same machine to the network.
func (s *Site) domain(name string, t tag, k class, accelerator string, disks ...diskXML) domainXML {
	t.Site = s.name
	d := domainXML{
		Type: map[string]string{"kvm": "kvm", "tcg": "qemu"}[accelerator], Name: name,
		UUID:  uuid.NewSHA1(uuid.NameSpaceURL, []byte(namespace+"/"+s.name+"/"+name)).String(),
		Title: "Nimble Pane: " + t.Kind + " " + name + " of " + s.name, Memory: bytesXML{"b", k.memory}, VCPU: k.Cores,
		OS:       osXML{Type: osType{Arch: "x86_64", Machine: "q35", Value: "hvm"}, Boot: &bootXML{"hd"}},
		OnReboot: "restart", OnCrash: "restart",
	}
	d.Metadata.Tag = &t
	if k.Firmware == "uefi" {
		d.OS.Firmware, d.OS.Details = "efi", &fwXML{[]fwFeature{{"no", "secure-boot"}}}
	}
	if accelerator == "kvm" {
		d.CPU = &cpuXML{"host-model"}
	}
	d.Devices.Disks = disks
	sum := sha256.Sum256([]byte(s.name + "/" + name))
	n := netXML{Type: "user", Model: attrType{"virtio"}}
	n.MAC.Address = fmt.Sprintf("52:54:00:%02x:%02x:%02x", sum[0], sum[1], sum[2])
	switch kind, to, _ := strings.Cut(k.Network, ":"); kind {
	case "network":
		n.Type, n.Source = "network", &netSource{Network: to}
	case "bridge":
		n.Type, n.Source = "bridge", &netSource{Bridge: to}
	}
	d.Devices.Interfaces = []netXML{n}
	c := channelXML{Type: "unix"}
	c.Target.Type, c.Target.Name = "virtio", "org.qemu.guest_agent.0"
	d.Devices.Channels = []channelXML{c}
	d.Devices.Serials = []serialXML{{"pty"}}
	if k.Display != "none" {
		// A display has no password of its own. Its socket belongs to who runs the hypervisor; a port of the
		// loopback interface would be open to everybody on that computer.
		d.Devices.Graphics = []graphicsXML{{Type: k.Display, Listen: &listensXML{Type: "socket"}}}
		d.Devices.Video = &modelXML{attrType{"virtio"}}
	} else {
		d.Devices.Video = &modelXML{attrType{"none"}}
	}
	d.Devices.RNG = &rngXML{Model: "virtio"}
	d.Devices.RNG.Backend.Model, d.Devices.RNG.Backend.Value = "random", "/dev/urandom"
	d.Devices.Balloon = &balloonXML{"none"}
	return d
}

// hardDisk is a machine's own disk. What the machine frees, the storage gets back.
func hardDisk(path string) diskXML {
	d := diskXML{Type: "file", Device: "disk"}
	d.Driver.Name, d.Driver.Type, d.Driver.Discard, d.Driver.Zeroes = "qemu", "qcow2", "unmap", "unmap"
	d.Source.File, d.Target.Dev, d.Target.Bus = path, "vda", "virtio"
	return d
}

// seedDisk is no CD: small kernels for virtual machines have no driver for those.
func seedDisk(path string) diskXML {
	d := diskXML{Type: "file", Device: "disk", ReadOnly: &struct{}{}}
	d.Driver.Name, d.Driver.Type = "qemu", "raw"
	d.Source.File, d.Target.Dev, d.Target.Bus = path, "vdb", "virtio"
	return d
}

// machine is a domain that is there.
type machine struct {
	name   string
	site   string
	domain libvirt.Domain
	tag    *tag // nil: not ours
	xml    domainXML
	state  libvirt.DomainState
}

func (m machine) active() bool {
	switch m.state {
	case libvirt.DomainRunning, libvirt.DomainBlocked, libvirt.DomainPaused, libvirt.DomainShutdown,
		libvirt.DomainPmsuspended:
		return true
	}
	return false
}

// display is the address of a running machine's display, "" if it has none.
func (m machine) display(h *hypervisor) string {
	for _, g := range m.xml.Devices.Graphics {
		if m.active() && g.Listen != nil && g.Listen.Socket != "" {
			return fmt.Sprintf("%s socket %s on %s", g.Type, g.Listen.Socket, h.name)
		}
		if m.active() && g.Port > 0 {
			return fmt.Sprintf("%s://127.0.0.1:%d on %s", g.Type, g.Port, h.name)
		}
	}
	return ""
}

// ours says whether we made it, for this site, as one of the kinds.
func (m machine) ours(kinds ...string) bool {
	if m.tag == nil || m.tag.Site != m.site {
		return false
	}
	for _, k := range kinds {
		if m.tag.Kind == k {
			return true
		}
	}
	return len(kinds) == 0
}

// machine looks a domain up by name; notFound is true of the error if there is none.
func (h *hypervisor) machine(l *libvirt.Libvirt, name string) (machine, error) {
	d, err := l.DomainLookupByName(name)
	if err != nil {
		return machine{}, err
	}
	return h.read(l, d)
}

func (h *hypervisor) read(l *libvirt.Libvirt, d libvirt.Domain) (m machine, err error) {
	m = machine{name: d.Name, site: h.site, domain: d}
	text, err := l.DomainGetXMLDesc(d, 0)
	if err != nil {
		return m, err
	}
	if err := xml.Unmarshal([]byte(text), &m.xml); err != nil {
		return m, fmt.Errorf("description of %s: %w", d.Name, err)
	}
	m.tag = m.xml.Metadata.Tag
	state, _, err := l.DomainGetState(d, 0)
	m.state = libvirt.DomainState(state)
	return m, err
}

// machines lists all domains of a hypervisor.
func (h *hypervisor) machines(l *libvirt.Libvirt) (list []machine, err error) {
	domains, _, err := l.ConnectListAllDomains(1, 0)
	if err != nil {
		return nil, err
	}
	for _, d := range domains {
		m, err := h.read(l, d)
		if notFound(err) {
			continue // it went away meanwhile
		}
		if err != nil {
			return nil, err
		}
		list = append(list, m)
	}
	return list, nil
}

// found is a machine and where it is; without a machine, where it is to be made.
type found struct {
	hypervisor *hypervisor
	machine    machine
}

// find looks for a machine on all hypervisors. It is an error if one of them
// does not answer and the others do not have it: that one might.
func (s *Site) find(ctx context.Context, name string) (f found, ok bool, err error) {
	var unknown error
	for _, h := range s.hypervisors {
		err := h.connected(ctx, func(l *libvirt.Libvirt) (err error) {
			f.machine, err = h.machine(l, name)
			return err
		})
		if err == nil {
			f.hypervisor = h
			return f, true, nil
		}
		if !notFound(err) {
			unknown = err
		}
	}
	return found{}, false, unknown
}

// define writes a domain down, in place of one with its name.
func (h *hypervisor) define(l *libvirt.Libvirt, d domainXML) (libvirt.Domain, error) {
	return l.DomainDefineXMLFlags(marshal(d), 0)
}

// erase ends a machine and deletes it with its own disks.
func (h *hypervisor) erase(l *libvirt.Libvirt, name string) error {
	d, err := l.DomainLookupByName(name)
	if err == nil {
		if err := powerOff(l, d); err != nil {
			return err
		}
		// While the machine is there it says that it may have more disks.
		if err := h.dropCheckpoints(l, d); err != nil {
			return err
		}
		err = l.DomainUndefineFlags(d, libvirt.DomainUndefineNvram|
			libvirt.DomainUndefineManagedSave|libvirt.DomainUndefineSnapshotsMetadata)
	}
	if err != nil && !notFound(err) {
		return err
	}
	for _, ending := range []string{ownEnding, seedEnding, listEnding} {
		if err := h.remove(l, name+ending); err != nil {
			return err
		}
	}
	return nil
}

// powerOff pulls the plug; a machine that is off is left alone.
func powerOff(l *libvirt.Libvirt, d libvirt.Domain) error {
	err := l.DomainDestroyFlags(d, 0)
	if err != nil {
		if state, _, serr := l.DomainGetState(d, 0); serr == nil &&
			libvirt.DomainState(state) == libvirt.DomainShutoff {
			return nil
		}
		if notFound(err) {
			return nil
		}
	}
	return err
}
