package libvirt

import (
	"context"
	"strings"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/platform"
)

// lender is a host's machine whose disk is copied for a build machine.
type lender struct {
	found
	class  class
	copied bool  // the build machine is there
	disk   int64 // in bytes, of all that its disk is made of
	size   int64 // of its disk as the machine sees it, in bytes
}

// lender finds the host's machine, unless it was copied.
func (s *Site) lender(ctx context.Context, c platform.HostCopy) (from lender, err error) {
	if err := checkName(c.Spec.Name); err != nil {
		return from, err
	}
	if from.class, err = s.sized(c.Spec); err != nil {
		return from, err
	}
	b, there, err := s.find(ctx, c.Spec.Name)
	if err != nil {
		return from, err
	}
	if from.copied = there && b.machine.ours(kindBuild) && b.machine.tag.Host == c.Host; from.copied {
		from.found = b
		return from, nil
	}
	if there {
		return from, refuse("there is a machine named %s on %s already: take another name, or discard that one",
			c.Spec.Name, b.hypervisor.name)
	}
	if from.found, there, err = s.find(ctx, c.Host); err != nil {
		return from, err
	}
	if !there || !from.machine.ours(kindHost) {
		return from, refuse("host %s has no machine at %s", c.Host, s.name)
	}
	err = from.hypervisor.connected(ctx, func(l *libvirt.Libvirt) error {
		own, err := from.hypervisor.volume(l, from.machine.own())
		if err != nil {
			return err
		}
		is, err := describe(l, own)
		if err != nil {
			return err
		}
		from.size = is.Capacity.Value
		from.disk, err = from.hypervisor.chain(l, from.machine.own())
		return err
	})
	return from, err
}

// checkHostCopy refuses what there is no room for, before the host's machine is shut down.
func (s *Site) checkHostCopy(ctx context.Context, c platform.HostCopy) error {
	from, err := s.lender(ctx, c)
	if err != nil || from.copied {
		return err
	}
	if wanted := c.Spec.Size.Disk; wanted > 0 && wanted < from.size {
		return refuse("the disk of host %s has %s, and a machine made of it cannot have one of %s: a disk is not made "+
			"smaller", c.Host, size(from.size), size(wanted))
	}
	rooms, err := s.rooms(ctx)
	if err != nil {
		return err
	}
	for _, r := range rooms {
		if r.hypervisor != from.hypervisor {
			continue
		}
		if lack := r.lacks(from.class); lack != "" {
			return refuse("there is no room for %s beside host %s: %s", c.Spec.Name, c.Host, lack)
		}
		// A copy of the host's disk, what is changed on it, and then all of it once more in a version's.
		if need := 2 * (from.disk + from.class.room + c.Spec.Size.Disk); need > r.storage {
			return refuse("%s has %s of storage left, and a copy of the disk of host %s, with a version made of it, "+
				"may come to take %s", r.hypervisor.name, size(r.storage), c.Host, size(need))
		}
	}
	return nil
}

// copyHost shuts a host's machine down and makes a build machine of a copy of
// its disk. That is defined last, so that half of a copy is never taken for one.
func (s *Site) copyHost(ctx context.Context, _ string, c platform.HostCopy, report func(int)) (done platform.Nothing,
	err error,
) {
	from, err := s.lender(ctx, c)
	if err != nil || from.copied {
		return done, explain(err)
	}
	h := from.hypervisor
	accelerator, err := h.probed(ctx, s)
	if err != nil {
		return done, explain(err)
	}
	// It must not come up by itself while its disk is read, or after: the service has it made anew, or powered on.
	err = h.connected(ctx, func(l *libvirt.Libvirt) error { return l.DomainSetAutostart(from.machine.domain, 0) })
	if err != nil {
		return done, explain(err)
	}
	if err := (guest{hypervisor: h, domain: from.machine.domain}).shutdown(ctx, s.limits.shutdown); err != nil {
		return done, explain(err)
	}
	report(10)
	own := c.Spec.Name + ownEnding
	const written = "0600" // as every machine's own disk is, and no copy of a version
	if err := h.copied(ctx, from.machine.own(), own, written, from.disk, func(percent int) {
		report(10 + percent*85/100)
	}); err != nil {
		return done, explain(err)
	}
	return done, explain(h.connected(ctx, func(l *libvirt.Libvirt) error {
		v, err := h.volume(l, own)
		if err != nil {
			return err
		}
		if wanted := c.Spec.Size.Disk; wanted > from.size {
			if err := l.StorageVolResize(v, uint64(wanted), 0); err != nil {
				return err
			}
		}
		_, err = h.define(l, s.domain(c.Spec.Name, tag{
			Kind: kindBuild, Class: c.Spec.MachineClass, Base: c.Spec.Base, Host: c.Host,
		}, from.class, accelerator, hardDisk(v.Key)))
		return err
	}))
}

// chain is how many bytes a disk takes with all that it is made on.
func (h *hypervisor) chain(l *libvirt.Libvirt, volume string) (bytes int64, err error) {
	v, err := h.volume(l, volume)
	for err == nil {
		var d volumeXML
		if d, err = describe(l, v); err != nil {
			return 0, err
		}
		bytes += d.Allocation.Value
		if d.Backing == nil || d.Backing.Path == "" {
			return bytes, nil
		}
		v, err = l.StorageVolLookupByPath(d.Backing.Path)
	}
	return 0, err
}

// copied makes one volume of another and all that it is made on, with nothing
// unused in it, by the qemu-img that libvirt runs. It has the mode of a file, and
// is expected to grow to as many bytes as the other's chain has.
func (h *hypervisor) copied(ctx context.Context, from, to, mode string, expected int64, report func(int)) error {
	converting, stop := context.WithCancel(ctx)
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		h.watchGrowth(converting, to, expected, report)
	}()
	err := h.dedicated(ctx, func(l *libvirt.Libvirt) error {
		p, err := h.pool(l)
		if err != nil {
			return err
		}
		if err := h.remove(l, to); err != nil { // half of one, from before
			return err
		}
		source, err := h.volume(l, from)
		if err != nil {
			return err
		}
		is, err := describe(l, source)
		if err != nil {
			return err
		}
		d := volumeXML{Name: to, Capacity: is.Capacity}
		d.Target.Format, d.Target.Compat, d.Target.Permissions = formatXML{"qcow2"}, "1.1", &permsXML{mode}
		_, err = l.StorageVolCreateXMLFrom(p, marshal(d), source, 0)
		return err
	})
	stop()
	<-watched
	return err
}

// noHost has a machine that was a host forget that, once it runs: who it was
// to the service, which knows it no more, and that it lets nobody sign in.
func (s *Site) noHost(ctx context.Context, b built, g guest) error {
	if b.tag.Host == "" || g.windows {
		return nil
	}
	limited, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	o, err := g.exec(limited, platform.Command{Path: agentPath, Args: []string{"leave"}})
	if err == nil && o.ExitCode != 0 {
		err = refuse("build machine %s still takes itself for host %s: %s", b.name, b.tag.Host,
			strings.TrimSpace(string(o.Errors)))
	}
	return err
}
