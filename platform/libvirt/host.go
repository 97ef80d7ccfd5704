package libvirt

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/agent/seed"
	"nimblepane/platform"
)

// rebuild throws a host's own disk away, makes it another and starts it. Done
// again under its key it leaves alone what it made.
func (s *Site) rebuild(ctx context.Context, key string, r platform.Rebuild, report func(int)) (platform.Made, error) {
	k, err := s.class(r.MachineClass)
	if err != nil {
		return platform.Made{}, err
	}
	f, there, err := s.place(ctx, r.Host, k)
	if err != nil {
		return platform.Made{}, err
	}
	h := f.hypervisor
	if there && !f.machine.ours(kindHost) {
		return platform.Made{}, notOurs(r.Host, h)
	}
	done := platform.Made{Digest: r.Digest}
	if there && f.machine.tag.Key == key && f.machine.active() {
		return done, nil
	}
	copyName, err := h.anyCopy(ctx, spread(r.Host, r.Copies), r.MachineClass)
	if err != nil {
		return platform.Made{}, err
	}
	if err := h.intact(ctx, copyName, r.Digest, report); err != nil {
		return platform.Made{}, err
	}
	accelerator, err := h.probed(ctx, s)
	if err != nil {
		return platform.Made{}, err
	}
	disk, err := seed.Disk(seed.Seed{Name: r.Host, Service: r.Seed.Service, Token: r.Seed.Token})
	if err != nil {
		return platform.Made{}, err
	}
	start := func() error { return s.startAnew(ctx, key, r, f, there, k, copyName, accelerator, disk) }
	if there {
		return done, start()
	}
	// What two machines need can be there for one of them only: they are placed and started one after the other.
	return done, s.journal.WithLock(ctx, s.name, func() error {
		now, there, err := s.place(ctx, r.Host, k)
		switch {
		case err != nil:
			return err
		case there:
			return fmt.Errorf("%s was made meanwhile", r.Host)
		case now.hypervisor != h:
			return fmt.Errorf("there is no more room on %s by now", h.name)
		}
		return start()
	})
}

// startAnew gives a host, which is or will be on a hypervisor, an own disk of the copy and starts it.
func (s *Site) startAnew(ctx context.Context, key string, r platform.Rebuild, f found, there bool, k class, copyName,
	accelerator string, disk []byte,
) error {
	h := f.hypervisor
	return h.connected(ctx, func(l *libvirt.Libvirt) error {
		if there {
			if err := powerOff(l, f.machine.domain); err != nil {
				return err
			}
		}
		own, err := h.ownDisk(l, r.Host+ownEnding, copyName+diskEnding, 0)
		if err != nil {
			return err
		}
		first, err := h.write(l, r.Host+seedEnding, disk)
		if err != nil {
			return err
		}
		d, err := h.define(l, s.domain(r.Host, tag{Kind: kindHost, Key: key, Class: r.MachineClass, Disk: copyName}, k,
			accelerator, hardDisk(own), seedDisk(first)))
		if err != nil {
			return err
		}
		return s.powerUp(l, d)
	})
}

// powerUp starts a domain, and has it started again when its hypervisor is.
func (s *Site) powerUp(l *libvirt.Libvirt, d libvirt.Domain) error {
	flags := uint32(0)
	if s.paused {
		flags = uint32(libvirt.DomainStartPaused)
	}
	if _, err := l.DomainCreateWithFlags(d, flags); err != nil {
		return err
	}
	return l.DomainSetAutostart(d, 1)
}

// spread begins a list elsewhere for each host, so that copies are cloned from alike.
func spread(host string, copies []string) []string {
	if len(copies) == 0 {
		return nil
	}
	sum := fnv.New32a()
	_, _ = sum.Write([]byte(host))
	n := int(sum.Sum32() % uint32(len(copies)))
	return slices.Concat(copies[n:], copies[:n])
}

// anyCopy returns the first of the copies that is complete here.
func (h *hypervisor) anyCopy(ctx context.Context, copies []string, machineClass string) (name string, err error) {
	err = h.connected(ctx, func(l *libvirt.Libvirt) error {
		for _, c := range copies {
			n, _, err := h.known(l, c)
			if notFound(err) {
				continue
			}
			if err != nil {
				return err
			}
			if n.MachineClass != "" && n.MachineClass != machineClass { // a base is for any
				return refuse("the disk is for machines of class %s, and this one is of class %s", n.MachineClass,
					machineClass)
			}
			name = c
			return nil
		}
		return refuse("none of the copies %s is on %s: deliver the version there again", strings.Join(copies, ", "),
			h.name)
	})
	return name, err
}

// place returns where a host is, or where there is the most room to make it.
func (s *Site) place(ctx context.Context, name string, k class) (f found, there bool, err error) {
	f, there, err = s.find(ctx, name)
	if there || err != nil {
		return f, there, err
	}
	rooms, err := s.rooms(ctx)
	if err != nil {
		return f, false, err
	}
	r, why := roomFor(rooms, k)
	if why != "" {
		return f, false, refuse("there is no room for %s: %s", name, why)
	}
	return found{hypervisor: r.hypervisor}, false, nil
}

// room is what a hypervisor still has, in cores of one machine and bytes.
type room struct {
	hypervisor      *hypervisor
	cores           int
	memory, storage int64
}

// lacks says what a machine of the class would not find, "" if it finds all.
func (r room) lacks(k class) string {
	switch {
	case k.Cores > r.cores:
		return fmt.Sprintf("%s has %d cores, and a machine needs %d", r.hypervisor.name, r.cores, k.Cores)
	case k.memory > r.memory:
		return fmt.Sprintf("%s has %s of memory left, and a machine needs %s", r.hypervisor.name, size(r.memory),
			size(k.memory))
	case k.room > r.storage:
		return fmt.Sprintf("%s has %s of storage left, and a machine's own disk may come to take %s", r.hypervisor.name,
			size(r.storage), size(k.room))
	}
	return ""
}

// roomFor returns the hypervisor with the most room among those that can have a
// machine of the class; if none can, what the roomiest of all lacks.
func roomFor(rooms []room, k class) (r room, why string) {
	fit := slices.DeleteFunc(slices.Clone(rooms), func(r room) bool { return r.lacks(k) != "" })
	if len(fit) == 0 {
		r = roomiest(rooms)
		return r, r.lacks(k)
	}
	return roomiest(fit), ""
}

// fill places so many machines one after the other, and returns how many found
// room and, if not all, what the next lacks.
func fill(rooms []room, k class, machines int) (placed int, why string) {
	rooms = slices.Clone(rooms)
	for ; placed < machines; placed++ {
		var r room
		if r, why = roomFor(rooms, k); why != "" {
			return placed, why
		}
		i := slices.IndexFunc(rooms, func(other room) bool { return other.hypervisor == r.hypervisor })
		rooms[i].memory -= k.memory
		rooms[i].storage -= k.room
	}
	return placed, ""
}

func roomiest(rooms []room) room {
	return slices.MaxFunc(rooms, func(a, b room) int {
		return cmp.Or(cmp.Compare(a.memory, b.memory), cmp.Compare(a.storage, b.storage),
			-cmp.Compare(a.hypervisor.name, b.hypervisor.name))
	})
}

// rooms asks the hypervisors that answer.
func (s *Site) rooms(ctx context.Context) (rooms []room, err error) {
	nodes, err := s.Nodes(ctx)
	if err != nil {
		return nil, err
	}
	var unreachable error
	for i, n := range nodes {
		if n.Unreachable != "" {
			unreachable = errors.New(n.Unreachable)
			continue
		}
		rooms = append(rooms, room{s.hypervisors[i], n.Cores, n.Memory - n.MemoryUsed, n.StorageFree})
	}
	if len(rooms) == 0 {
		return nil, unreachable
	}
	return rooms, nil
}

// CheckRoom places the hosts that have no machine yet, one after the other.
func (s *Site) CheckRoom(ctx context.Context, hosts []string, machineClass string) error {
	k, err := s.class(machineClass)
	if err != nil {
		return err
	}
	rooms, err := s.rooms(ctx)
	if err != nil {
		return err
	}
	have := map[string]bool{}
	for _, r := range rooms {
		err := r.hypervisor.connected(ctx, func(l *libvirt.Libvirt) error {
			list, err := r.hypervisor.machines(l)
			for _, m := range list {
				if m.ours(kindHost) {
					have[m.name] = true
				}
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	n := missing(hosts, have)
	if placed, why := fill(rooms, k, n); why != "" {
		return refuse("site %s has room for %d of the %d machines that are missing: %s", s.name, placed, n, why)
	}
	return nil
}

func missing(hosts []string, have map[string]bool) (n int) {
	for _, h := range hosts {
		if !have[h] {
			n++
		}
	}
	return n
}

// PowerOn is platform.Platform's.
func (s *Site) PowerOn(ctx context.Context, host string) error {
	f, there, err := s.find(ctx, host)
	switch {
	case err != nil:
		return err
	case !there:
		return refuse("%s has no machine: rebuild it", host)
	case !f.machine.ours(kindHost):
		return notOurs(host, f.hypervisor)
	case f.machine.state == libvirt.DomainPaused:
		return explain(f.hypervisor.connected(ctx, func(l *libvirt.Libvirt) error {
			return l.DomainResume(f.machine.domain)
		}))
	case f.machine.active():
		return nil
	}
	return explain(f.hypervisor.connected(ctx, func(l *libvirt.Libvirt) error {
		return s.powerUp(l,
			f.machine.domain)
	}))
}

// Machine is platform.Platform's.
func (s *Site) Machine(ctx context.Context, host string) (m platform.Machine, err error) {
	f, there, err := s.find(ctx, host)
	if err != nil {
		return m, err
	}
	if !there {
		return platform.Machine{
			State: platform.MachineGone, Name: host,
			Why: "its machine is on none of the site's hypervisors: it was never made, or somebody deleted it; " +
				"rebuild the host to give it one", Disks: []string{},
		}, nil
	}
	return f.details(ctx)
}

func (f found) details(ctx context.Context) (m platform.Machine, err error) {
	d := f.machine
	m = platform.Machine{
		Node: f.hypervisor.name, Name: d.name, Cores: d.xml.VCPU, Memory: d.xml.Memory.bytes(),
		Disks: []string{}, State: platform.MachineOff,
	}
	if !d.ours() {
		m.Why = "Nimble Pane did not make this machine, and leaves it alone: its name stands in the way of the host"
	}
	switch {
	case d.state == libvirt.DomainPaused:
		m.State, m.Why = platform.MachinePaused, "it was paused, by somebody or because its storage is full"
	case d.state == libvirt.DomainCrashed:
		m.Why = "it crashed"
	case d.active():
		m.State = platform.MachineRunning
	}
	m.Display = d.display(f.hypervisor)
	for _, n := range d.xml.Devices.Interfaces {
		m.Network = n.Type
		if n.Source != nil {
			m.Network += " " + n.Source.Network + n.Source.Bridge
		}
		m.Network += ", " + n.MAC.Address
	}
	if len(d.xml.Devices.Disks) == 0 {
		return m, nil
	}
	err = f.hypervisor.connected(ctx, func(l *libvirt.Libvirt) error {
		for path := d.xml.Devices.Disks[0].Source.File; path != ""; {
			m.Disks = append(m.Disks, path)
			v, err := l.StorageVolLookupByPath(path)
			var desc volumeXML
			if err == nil {
				desc, err = describe(l, v)
			}
			if err != nil {
				var answer libvirt.Error
				if !errors.As(err, &answer) {
					return err
				}
				m.Why = "its disk " + path + " is not there any more: rebuild the host"
				return nil
			}
			path = ""
			if desc.Backing != nil {
				path = desc.Backing.Path
			}
		}
		return nil
	})
	return m, err
}

// bytes is a size of a domain in bytes; libvirt writes KiB if it says nothing.
func (b bytesXML) bytes() int64 {
	switch b.Unit {
	case "b", "bytes":
		return b.Value
	}
	return b.Value << 10
}
