package libvirt

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/platform"
)

// limits are how long a build machine may take.
type limits struct{ start, shutdown, seal time.Duration }

// patient suits computers without hardware acceleration too.
var patient = limits{start: 10 * time.Minute, shutdown: 5 * time.Minute, seal: 10 * time.Minute}

// agentPath is where pane-agent is in a machine.
const agentPath = "/usr/bin/pane-agent"

// sealingEnding is added to the name of a build machine for the clone of it that is sealed.
const sealingEnding = "-sealing"

// BuildMachines is platform.Platform's.
func (s *Site) BuildMachines(ctx context.Context) ([]platform.BuildMachine, error) {
	list := []platform.BuildMachine{}
	for _, h := range s.hypervisors {
		err := h.connected(ctx, func(l *libvirt.Libvirt) error {
			all, err := h.machines(l)
			if err != nil {
				return err
			}
			capturing := map[string]bool{}
			for _, m := range all {
				if m.ours(kindSealing) {
					capturing[strings.TrimSuffix(m.name, sealingEnding)] = true
				}
			}
			for _, m := range all {
				if !m.ours(kindBuild) {
					continue
				}
				b := platform.BuildMachine{
					Name: m.name, MachineClass: m.tag.Class, Base: m.tag.Base, State: "off",
					Node: h.name,
				}
				switch {
				case capturing[m.name]:
					b.State = "capturing"
				case m.active():
					b.State = "running"
				}
				b.Display = m.display(h)
				list = append(list, b)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	slices.SortFunc(list, func(a, b platform.BuildMachine) int { return strings.Compare(a.Name, b.Name) })
	return list, nil
}

// built is a build machine that is there.
type built struct {
	machine
	hypervisor *hypervisor
}

func (b built) guest() guest { return guest{hypervisor: b.hypervisor, domain: b.domain} }

func (s *Site) buildMachine(ctx context.Context, name string) (b built, err error) {
	f, there, err := s.find(ctx, name)
	if err != nil {
		return b, err
	}
	if !there || !f.machine.ours(kindBuild) {
		return b, refuse("there is no build machine %q at %s", name, s.name)
	}
	return built{f.machine, f.hypervisor}, nil
}

// Create makes a build machine that is off. One that is there with the same
// specification is created.
func (s *Site) Create(ctx context.Context, spec platform.BuildSpec) error {
	return explain(s.createBuild(ctx, spec))
}

func (s *Site) createBuild(ctx context.Context, spec platform.BuildSpec) error {
	if err := checkName(spec.Name); err != nil {
		return err
	}
	k, err := s.sized(spec)
	if err != nil {
		return err
	}
	f, there, err := s.place(ctx, spec.Name, k)
	if err != nil {
		return err
	}
	h := f.hypervisor
	if there {
		if t := f.machine.tag; f.machine.ours(kindBuild) && t.Class == spec.MachineClass && t.Base == spec.Base {
			return nil
		}
		return refuse("there is a machine named %s on %s already: take another name, or discard that one", spec.Name,
			h.name)
	}
	if spec.Host != "" {
		return refuse("the disk of host %s was not copied for build machine %s", spec.Host, spec.Name)
	}
	below, disk := spec.BaseDisk, ""
	if len(spec.Copies) > 0 {
		if disk, err = h.anyCopy(ctx, spec.Copies, spec.MachineClass); err != nil {
			return err
		}
		if err := h.intact(ctx, disk, spec.Digest, nil); err != nil {
			return err
		}
		below = disk + diskEnding
	} else if h, err = s.baseDisk(ctx, spec.BaseDisk); err != nil {
		return err
	}
	if err := s.roomToCapture(ctx, h, below, spec.Size.Disk, k); err != nil {
		return err
	}
	if err := s.fitsFirmware(ctx, h, below, k, spec.MachineClass); err != nil {
		return err
	}
	accelerator, err := h.probed(ctx, s)
	if err != nil {
		return err
	}
	return h.connected(ctx, func(l *libvirt.Libvirt) error {
		own, err := h.ownDisk(l, spec.Name+ownEnding, below, spec.Size.Disk)
		if err != nil {
			return err
		}
		_, err = h.define(l, s.domain(spec.Name, tag{
			Kind: kindBuild, Class: spec.MachineClass, Base: spec.Base,
			Disk: disk,
		}, k, accelerator, hardDisk(own)))
		return err
	})
}

// sized is the class of a machine, with the size that it is to have.
func (s *Site) sized(spec platform.BuildSpec) (class, error) {
	k, err := s.class(spec.MachineClass)
	if spec.Size.Cores > 0 {
		k.Cores = spec.Size.Cores
	}
	if spec.Size.Memory > 0 {
		k.memory = spec.Size.Memory
	}
	return k, err
}

// roomToCapture returns a *Refusal if a hypervisor lacks the room for a machine
// made on the disk and for a version made of that, or if its own disk is to be
// smaller than that, so that it is said before the work.
func (s *Site) roomToCapture(ctx context.Context, h *hypervisor, disk string, wanted int64, k class) error {
	var base, capacity, free int64
	err := h.connected(ctx, func(l *libvirt.Libvirt) error {
		v, err := h.volume(l, disk)
		if err != nil {
			return err
		}
		d, err := describe(l, v)
		if err != nil {
			return err
		}
		p, err := h.pool(l)
		if err != nil {
			return err
		}
		_, _, _, available, err := l.StoragePoolGetInfo(p)
		base, capacity, free = d.Allocation.Value, d.Capacity.Value, int64(available)
		return err
	})
	if err != nil {
		return err
	}
	if wanted > 0 && wanted < capacity {
		return refuse("%s has %s, and a machine made on it cannot have a disk of %s: a disk is not made smaller", disk,
			size(capacity), size(wanted))
	}
	// The machine's own disk, and then all of it once more in the version's.
	if need := base + 2*(k.room+max(0, wanted-capacity)); need > free {
		return refuse("%s has %s of storage left, and a machine made on %s, with a version made of it, may come to "+
			"take %s", h.name, size(free), disk, size(need))
	}
	return nil
}

// baseDisk finds the hypervisor that has a base disk in its storage, and makes
// sure that it is a disk that can be built on.
func (s *Site) baseDisk(ctx context.Context, name string) (*hypervisor, error) {
	if name == "" || path.Base(name) != name {
		return nil, refuse("%q is no name of a base disk: give the name of a file in the site's storage, such as "+
			"debian.qcow2", name)
	}
	var there []string
	for _, h := range s.hypervisors {
		found := false
		err := h.connected(ctx, func(l *libvirt.Libvirt) error {
			p, err := h.pool(l)
			if err != nil {
				return err
			}
			// People put base disks there by other means than libvirt.
			if err := h.refresh(l, p); err != nil {
				return err
			}
			volumes, _, err := l.StoragePoolListAllVolumes(p, 1, 0)
			if err != nil {
				return err
			}
			for _, v := range volumes {
				if v.Name == name {
					d, err := describe(l, v)
					if err != nil {
						return err
					}
					if d.Target.Format.Type != "qcow2" {
						return refuse("%s on %s is of format %s: convert it to qcow2 first (qemu-img convert -O qcow2)",
							name, h.name, d.Target.Format.Type)
					}
					if d.Target.Encryption != nil {
						return refuse("%s on %s is encrypted: a version could not be made of it; decrypt it first "+
							"(qemu-img convert -O qcow2)", name, h.name)
					}
					if d.Backing != nil && d.Backing.Path != "" {
						return refuse("%s on %s is made on another disk (%s): convert it to one of its own first "+
							"(qemu-img convert -O qcow2)", name, h.name, d.Backing.Path)
					}
					found = true
				} else if isBase(v.Name) {
					there = append(there, v.Name)
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		if found {
			return h, nil
		}
	}
	if len(there) == 0 {
		there = []string{"none"}
	}
	return nil, refuse("there is no base disk %q at %s; there are: %s", name, s.name, strings.Join(there, ", "))
}

// isBase: what people put into the storage, and not we.
func isBase(volume string) bool {
	return strings.HasSuffix(volume, diskEnding) && !strings.HasSuffix(volume, ownEnding)
}

// onBuild finds a build machine of which no capture is under way.
func (s *Site) onBuild(ctx context.Context, name string) (built, error) {
	b, err := s.buildMachine(ctx, name)
	if err != nil {
		return b, err
	}
	_, busy, err := s.find(ctx, name+sealingEnding)
	if err == nil && busy {
		err = refuse("build machine %s is being captured: wait until that is done", name)
	}
	return b, err
}

// PowerOnBuild starts a build machine; one that runs is started.
func (s *Site) PowerOnBuild(ctx context.Context, name string) error {
	b, err := s.onBuild(ctx, name)
	if err != nil || b.active() {
		return explain(err)
	}
	if len(b.tag.Sealed) > 0 {
		return sealedAlready(b.machine)
	}
	return explain(b.hypervisor.connected(ctx, func(l *libvirt.Libvirt) error {
		_, err := l.DomainCreateWithFlags(b.domain, 0)
		return err
	}))
}

// PowerOffBuild shuts a build machine down in order, and returns when it is off.
func (s *Site) PowerOffBuild(ctx context.Context, name string) error {
	b, err := s.onBuild(ctx, name)
	if err != nil {
		return explain(err)
	}
	return explain(b.guest().shutdown(ctx, s.limits.shutdown))
}

// Discard deletes a build machine with its disk. One that is not there is discarded.
func (s *Site) Discard(ctx context.Context, name string) error {
	f, there, err := s.find(ctx, name)
	if err != nil || !there {
		return explain(err)
	}
	if !f.machine.ours(kindBuild) {
		return refuse("%s on %s is no build machine of this site: it is left alone", name, f.hypervisor.name)
	}
	if _, err := s.onBuild(ctx, name); err != nil {
		return explain(err)
	}
	return explain(f.hypervisor.connected(ctx, func(l *libvirt.Libvirt) error { return f.hypervisor.erase(l, name) }))
}

// running returns the guest agent of a build machine, once it answers.
func (s *Site) running(ctx context.Context, name string) (guest, error) {
	b, err := s.onBuild(ctx, name)
	if err != nil {
		return guest{}, err
	}
	switch {
	case len(b.tag.Sealed) > 0:
		return guest{}, sealedAlready(b.machine)
	case !b.active():
		return guest{}, refuse("build machine %s is off: start it first", name)
	}
	g := b.guest()
	if err := g.up(ctx, s.limits.start); err != nil {
		return g, err
	}
	g.windows, err = g.isWindows(ctx)
	return g, err
}

// Exec is platform.Builder's.
func (s *Site) Exec(ctx context.Context, name string, c platform.Command) (platform.Outcome, error) {
	g, err := s.running(ctx, name)
	if err != nil {
		return platform.Outcome{}, explain(err)
	}
	o, err := g.exec(ctx, c)
	var gone *lost
	if errors.As(err, &gone) {
		return o, refuse("%s", gone)
	}
	return o, explain(err)
}

// Put is platform.Builder's.
func (s *Site) Put(ctx context.Context, name, path string, content io.Reader) error {
	g, err := s.running(ctx, name)
	if err != nil {
		return explain(err)
	}
	return explain(g.put(ctx, path, content))
}

// Get is platform.Builder's.
func (s *Site) Get(ctx context.Context, name, path string, into io.Writer) error {
	g, err := s.running(ctx, name)
	if err != nil {
		return explain(err)
	}
	return explain(g.get(ctx, path, into))
}

// capture shuts the build machine down, seals a clone of it, and turns the
// clone's disk into a disk of its own. Where it stopped can be seen from the
// clone: its tag names the operation, and what was done to seal it.
func (s *Site) capture(ctx context.Context, key string, c platform.Capture, report func(int)) (p platform.Captured,
	err error,
) {
	b, err := s.buildMachine(ctx, c.BuildMachine)
	h := b.hypervisor
	if err != nil {
		// With its machine discarded already, the capture was complete.
		if h, n, nerr := s.withDisk(ctx, c.Disk); c.Discard && nerr == nil {
			return h.captured(ctx, c.Disk, n)
		}
		return p, err
	}
	clone := c.BuildMachine + sealingEnding
	var n note
	err = h.connected(ctx, func(l *libvirt.Libvirt) (err error) {
		n, _, err = h.known(l, c.Disk)
		return err
	})
	switch {
	case err == nil: // it was complete before
	case notFound(err) && len(b.tag.Sealed) > 0:
		if n, err = h.flatten(ctx, b.own(), c, b.tag.Sealed, report); err != nil {
			return p, err
		}
	case notFound(err):
		if n, err = s.sealAndFlatten(ctx, key, b, clone, c, report); err != nil {
			return p, s.abandon(ctx, h, clone, err)
		}
	default:
		return p, err
	}
	if p, err = h.captured(ctx, c.Disk, n); err != nil {
		return p, err
	}
	return p, h.connected(ctx, func(l *libvirt.Libvirt) error {
		if err := h.erase(l, clone); err != nil {
			return err
		}
		if c.Discard {
			return h.erase(l, c.BuildMachine)
		}
		return nil
	})
}

// captured is what is known of a disk that is complete.
func (h *hypervisor) captured(ctx context.Context, disk string, n note) (p platform.Captured, err error) {
	var in contents
	err = h.connected(ctx, func(l *libvirt.Libvirt) (err error) {
		in, err = h.listedIn(l, disk)
		return err
	})
	return platform.Captured{
		Digest: n.Digest, Size: n.Size, SizeBefore: n.SizeBefore, Sealing: n.Sealing,
		Software: in.Software, Unlisted: in.Unlisted,
	}, err
}

// abandon removes the clone if the capture can never succeed, so that the build machine is free again.
func (s *Site) abandon(ctx context.Context, h *hypervisor, clone string, err error) error {
	var refusal *platform.Refusal
	if err = explain(err); !errors.As(err, &refusal) || ctx.Err() != nil {
		return err
	}
	if eerr := h.connected(ctx, func(l *libvirt.Libvirt) error { return h.erase(l, clone) }); eerr != nil {
		s.log.Warn("the clone of a capture that failed could not be removed", "machine", clone, "err", eerr)
	}
	return err
}

func (s *Site) sealAndFlatten(ctx context.Context, key string, b built, clone string, c platform.Capture,
	report func(int),
) (n note, err error) {
	h := b.hypervisor
	var m machine
	err = h.connected(ctx, func(l *libvirt.Libvirt) (err error) {
		m, err = h.machine(l, clone)
		return err
	})
	if err != nil && !notFound(err) {
		return n, err
	}
	there := err == nil
	if there && !m.ours(kindSealing) {
		return n, notOurs(clone, h)
	}
	if !there || m.tag.Key != key {
		if m, err = s.cloneForSealing(ctx, key, b, clone, c, report); err != nil {
			return n, err
		}
	}
	report(15)
	g := guest{hypervisor: h, domain: m.domain}
	if len(m.tag.Sealed) == 0 {
		if m, err = s.seal(ctx, h, m, c.Stamp, c.Commands, report); err != nil {
			return n, err
		}
	}
	if err := g.shutdown(ctx, s.limits.shutdown); err != nil {
		return n, err
	}
	report(50)
	return h.flatten(ctx, clone+ownEnding, c, m.tag.Sealed, func(percent int) { report(50 + percent/2) })
}

func (s *Site) cloneForSealing(ctx context.Context, key string, b built, clone string, c platform.Capture,
	report func(int),
) (m machine, err error) {
	h := b.hypervisor
	if b.active() {
		if err := b.guest().shutdown(ctx, s.limits.shutdown); err != nil {
			return m, err
		}
	}
	report(10)
	k, err := s.class(b.tag.Class)
	if err != nil {
		return m, err
	}
	accelerator, err := h.probed(ctx, s)
	if err != nil {
		return m, err
	}
	err = h.connected(ctx, func(l *libvirt.Libvirt) error {
		if err := h.erase(l, clone); err != nil { // of an earlier capture that was broken off
			return err
		}
		own, err := h.ownDisk(l, clone+ownEnding, b.own(), 0)
		if err != nil {
			return err
		}
		if _, err := h.define(l, s.domain(clone, tag{Kind: kindSealing, Key: key, Class: b.tag.Class, Base: b.tag.Base},
			k, accelerator, hardDisk(own))); err != nil {
			return err
		}
		m, err = h.machine(l, clone)
		return err
	})
	return m, err
}

// seal starts the machine, has pane-agent list what is in it and seal it, and writes down in its tag that this was
// done.
func (s *Site) seal(ctx context.Context, h *hypervisor, m machine, stamp string, commands []string,
	report func(int),
) (machine, error) {
	if !m.active() {
		err := h.connected(ctx, func(l *libvirt.Libvirt) error {
			_, err := l.DomainCreateWithFlags(m.domain, 0)
			return err
		})
		if err != nil {
			return m, err
		}
	}
	g := guest{hypervisor: h, domain: m.domain}
	if err := g.up(ctx, s.limits.start); err != nil {
		return m, err
	}
	report(30)
	if err := s.listSoftware(ctx, g, m.name, commands); err != nil {
		return m, err
	}
	report(40)
	limited, cancel := context.WithTimeout(ctx, s.limits.seal)
	defer cancel()
	o, err := g.exec(limited, platform.Command{Path: agentPath, Args: []string{"seal", "--stamp", stamp}})
	if err != nil {
		if asAnswer(err) && !absent(err) {
			return m, refuse("the machine could not be sealed: pane-agent did not run in it (%s): install the "+
				"package pane-agent in the build machine", err)
		}
		return m, err
	}
	if o.ExitCode != 0 {
		return m, refuse("the machine could not be sealed: %s", strings.TrimSpace(string(o.Errors)))
	}
	var done []string
	if err := json.Unmarshal(bytes.TrimSpace(o.Output), &done); err != nil || len(done) == 0 {
		return m, refuse("the machine could not be sealed: pane-agent printed %q and no list of what it did", o.Output)
	}
	m.tag.Sealed, m.tag.Stamp = done, stamp
	text, err := xml.Marshal(m.tag)
	if err != nil {
		return m, err
	}
	return m, h.connected(ctx, func(l *libvirt.Libvirt) error {
		return l.DomainSetMetadata(m.domain, int32(libvirt.DomainMetadataElement), libvirt.OptString{string(text)},
			libvirt.OptString{"np"}, libvirt.OptString{namespace}, libvirt.DomainAffectConfig|libvirt.DomainAffectLive)
	})
}

// flatten turns a machine's own disk and all it is made on into one disk with
// nothing unused in it, by the qemu-img that libvirt runs, and reads it once
// for its digest.
func (h *hypervisor) flatten(ctx context.Context, own string, c platform.Capture, sealing []string,
	report func(int),
) (n note, err error) {
	var before int64
	err = h.connected(ctx, func(l *libvirt.Libvirt) error {
		if err := h.removeVolumes(l, c.Disk); err != nil { // half of one, from before
			return err
		}
		before, err = h.chain(l, own)
		return err
	})
	if err != nil {
		return n, err
	}
	err = h.copied(ctx, own, c.Disk+diskEnding, h.diskMode(), before, func(percent int) { report(percent * 7 / 10) })
	if err != nil {
		return n, err
	}
	n = note{MachineClass: c.MachineClass, SizeBefore: before, Sealing: sealing}
	if n.Digest, err = h.mapped(ctx, c.Disk, func(percent int) { report(70 + percent*3/10) }); err != nil {
		return n, err
	}
	err = h.connected(ctx, func(l *libvirt.Libvirt) error {
		in, err := h.listedIn(l, strings.TrimSuffix(own, ownEnding))
		if err != nil {
			return err
		}
		if err := h.keepListed(l, c.Disk, in); err != nil {
			return err
		}
		if err := h.complete(l, c.Disk, n); err != nil {
			return err
		}
		n, err = h.noteOf(l, c.Disk)
		return err
	})
	return n, err
}

// watchGrowth tells how far a volume has grown to what is expected, until the context ends.
func (h *hypervisor) watchGrowth(ctx context.Context, name string, expected int64, report func(int)) {
	for pause(ctx, time.Second) == nil {
		_ = h.connected(ctx, func(l *libvirt.Libvirt) error {
			v, err := h.volume(l, name)
			if err != nil {
				return err
			}
			_, _, allocated, err := l.StorageVolGetInfo(v)
			if err == nil && expected > 0 {
				report(int(min(100, 100*int64(allocated)/expected)))
			}
			return err
		})
	}
}
