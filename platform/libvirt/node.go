package libvirt

import (
	"context"
	"fmt"
	"sync"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"
	"github.com/dustin/go-humanize"
	"github.com/google/uuid"

	"nimblepane/platform"
)

func size(n int64) string { return humanize.IBytes(uint64(max(0, n))) }

// Nodes is platform.Platform's. A hypervisor that does not answer is listed with the reason.
func (s *Site) Nodes(ctx context.Context) ([]platform.Node, error) {
	nodes := make([]platform.Node, len(s.hypervisors))
	var all sync.WaitGroup
	for i, h := range s.hypervisors {
		all.Go(func() {
			n, err := h.node(ctx)
			if err != nil {
				n = platform.Node{Unreachable: err.Error()}
			}
			n.Name, n.Address = h.name, h.address.Redacted()
			nodes[i] = n
		})
	}
	all.Wait()
	return nodes, nil
}

func (h *hypervisor) node(ctx context.Context) (n platform.Node, err error) {
	err = h.connected(ctx, func(l *libvirt.Libvirt) error {
		_, memory, cores, _, _, _, _, _, err := l.NodeGetInfo() // memory in KiB
		if err != nil {
			return err
		}
		n.Cores, n.Memory = int(cores), max(int64(memory)<<10, h.totalMemory(l))
		version, err := l.ConnectGetLibVersion()
		if err != nil {
			return err
		}
		n.Software = fmt.Sprintf("libvirt %d.%d.%d", version/1_000_000, version/1000%1000, version%1000)
		list, err := h.machines(l)
		if err != nil {
			return err
		}
		for _, m := range list {
			if m.ours() {
				n.Machines++
			} else {
				n.Others++
			}
			if m.active() {
				n.CoresUsed += m.xml.VCPU
				n.MemoryUsed += m.xml.Memory.bytes()
			}
		}
		p, err := h.pool(l)
		if err != nil {
			return err
		}
		_, capacity, _, available, err := l.StoragePoolGetInfo(p)
		if err != nil {
			return err
		}
		n.Storage, n.StorageFree = int64(capacity), int64(available)
		n.StoragePath, err = h.folder(l)
		return err
	})
	if err == nil {
		n.Delivery = h.depotText(ctx)
	}
	h.mu.Lock()
	n.Acceleration = h.accelerator
	h.mu.Unlock()
	if n.Acceleration == "" {
		n.Acceleration = h.wanted
	}
	return n, err
}

// totalMemory is what the kernel there counts, in bytes; libvirt's own figure
// leaves out what was plugged in later. 0 if it is not told.
func (h *hypervisor) totalMemory(l *libvirt.Libvirt) int64 {
	const allCells = -1
	_, n, err := l.NodeGetMemoryStats(0, allCells, 0)
	if err != nil {
		return 0
	}
	stats, _, err := l.NodeGetMemoryStats(n, allCells, 0)
	if err != nil {
		return 0
	}
	for _, s := range stats {
		if s.Field == "total" {
			return int64(s.Value) << 10
		}
	}
	return 0
}

// probeSector is a boot sector that resets the machine: it writes 0xFE to port
// 0x64 of the keyboard controller, and halts should that do nothing.
var probeSector = append(append([]byte{0xB0, 0xFE, 0xE6, 0x64, 0xF4, 0xEB, 0xFD}, make([]byte, 503)...), 0x55, 0xAA)

// probeLimit is how long a machine may take to come to its boot sector, which
// needs a second or two where KVM works.
const probeLimit = 8 * time.Second

// probed returns the accelerator that machines of this hypervisor run with.
// The offer of KVM is not believed: there are computers on which such machines
// start and then hang. So a machine whose boot sector resets it is started
// with KVM, and if that ends it, KVM works.
func (h *hypervisor) probed(ctx context.Context, s *Site) (string, error) {
	if h.wanted != "probe" {
		return h.wanted, nil
	}
	h.mu.Lock()
	known := h.accelerator
	h.mu.Unlock()
	if known != "" {
		return known, nil
	}
	works := false
	name := "nimblepane-probe-" + uuid.NewString()[:8]
	err := h.connected(ctx, func(l *libvirt.Libvirt) error {
		path, err := h.write(l, name+seedEnding, probeSector)
		if err != nil {
			return err
		}
		defer func() { _ = h.remove(l, name+seedEnding) }()
		k := class{memory: 64 << 20}
		k.Cores, k.Display, k.Network = 1, "none", "user"
		disk := hardDisk(path)
		disk.Driver.Type, disk.Driver.Discard, disk.Driver.Zeroes = "raw", "", ""
		d := s.domain(name, tag{Kind: kindProbe}, k, "kvm", disk)
		d.OnReboot = "destroy"
		domain, err := l.DomainCreateXML(marshal(d), 0)
		if err != nil {
			s.log.Info("machines of a hypervisor run without hardware acceleration", "hypervisor", h.name, "why", err)
			return nil
		}
		defer func() { _ = powerOff(l, domain) }()
		for end := time.Now().Add(probeLimit); time.Now().Before(end); {
			if _, _, err := l.DomainGetState(domain, 0); notFound(err) {
				works = true
				return nil
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(100 * time.Millisecond):
			}
		}
		s.log.Warn("KVM is offered by a hypervisor but does not run a machine; they run without hardware acceleration",
			"hypervisor", h.name)
		return nil
	})
	if err != nil {
		return "", err
	}
	accelerator := map[bool]string{true: "kvm", false: "tcg"}[works]
	h.mu.Lock()
	h.accelerator = accelerator
	h.mu.Unlock()
	return accelerator, nil
}
