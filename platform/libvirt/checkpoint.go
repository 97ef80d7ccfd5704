package libvirt

import (
	"context"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	libvirt "github.com/digitalocean/go-libvirt"
	"github.com/dustin/go-humanize/english"

	"nimblepane/platform"
)

// checkpoint is a state that a build machine can go back to: the disk that was
// its own until then, on which the next one is made. It holds for machines of
// either firmware; what firmware itself remembers does not go back.
type checkpoint struct {
	Name string `xml:"name,attr"`
	Disk string `xml:"disk,attr"` // the volume
}

// own is the volume that is the machine's own disk now.
func (m machine) own() string {
	if len(m.xml.Devices.Disks) == 0 {
		return m.name + ownEnding
	}
	return path.Base(m.xml.Devices.Disks[0].Source.File)
}

// ownOf is the machine's own disk after so many others, counted from 1. What is
// called like this cannot be the first one of a machine with another name.
func ownOf(name string, n int) string { return fmt.Sprintf("%s~%d%s", name, n, ownEnding) }

// nextOwn is what the disk is called that is made after the machine's own.
func (m machine) nextOwn() string {
	n, err := strconv.Atoi(strings.TrimPrefix(strings.TrimSuffix(m.own(), ownEnding), m.name+"~"))
	if err != nil {
		n = 1
	}
	return ownOf(m.name, n+1)
}

func (m machine) checkpoint(name string) int {
	return slices.IndexFunc(m.tag.Checkpoints, func(c checkpoint) bool { return c.Name == name })
}

func (s *Site) checkCheckpoint(ctx context.Context, c platform.Checkpoint) error {
	return s.checkUnsealed(ctx, platform.Named{Name: c.BuildMachine})
}

// checkpointMachine makes a checkpoint, unless it is there.
func (s *Site) checkpointMachine(ctx context.Context, _ string, c platform.Checkpoint, report func(int)) (
	done platform.Nothing, err error,
) {
	b, err := s.onBuild(ctx, c.BuildMachine)
	if err != nil {
		return done, explain(err)
	}
	if b.checkpoint(c.Checkpoint) < 0 {
		if b.active() {
			if err := b.guest().shutdown(ctx, s.limits.shutdown); err != nil {
				return done, explain(err)
			}
		}
		report(30)
		kept := append(slices.Clone(b.tag.Checkpoints), checkpoint{c.Checkpoint, b.own()})
		if err := s.onward(ctx, b, b.own(), kept); err != nil {
			return done, explain(err)
		}
	}
	report(50)
	if !c.Start {
		return done, nil
	}
	return s.startMachine(ctx, "", platform.Named{Name: c.BuildMachine}, report)
}

func (s *Site) checkRevert(ctx context.Context, c platform.Checkpoint) error {
	b, err := s.buildMachine(ctx, c.BuildMachine)
	if err != nil || b.checkpoint(c.Checkpoint) >= 0 {
		return err
	}
	there := []string{"none"}
	for i, k := range b.tag.Checkpoints {
		there = append(there[:i], strconv.Quote(k.Name))
	}
	return refuse("build machine %s has no checkpoint %q; there are: %s", b.name, c.Checkpoint,
		english.WordSeries(there, "and"))
}

// revertMachine has a machine go back to a checkpoint, and starts it.
func (s *Site) revertMachine(ctx context.Context, _ string, c platform.Checkpoint, report func(int)) (
	done platform.Nothing, err error,
) {
	b, err := s.onBuild(ctx, c.BuildMachine)
	if err != nil {
		return done, explain(err)
	}
	i := b.checkpoint(c.Checkpoint)
	if i < 0 {
		return done, s.checkRevert(ctx, c)
	}
	err = b.hypervisor.connected(ctx, func(l *libvirt.Libvirt) error { return powerOff(l, b.domain) })
	if err != nil {
		return done, explain(err)
	}
	if err := s.onward(ctx, b, b.tag.Checkpoints[i].Disk, b.tag.Checkpoints[:i+1]); err != nil {
		return done, explain(err)
	}
	report(40)
	return s.startMachine(ctx, "", platform.Named{Name: c.BuildMachine}, report)
}

// onward gives a machine that is off a new own disk on one that it had, with
// the checkpoints that it then has, and deletes what it has no more. It is not
// sealed then, whatever it was.
func (s *Site) onward(ctx context.Context, b built, below string, kept []checkpoint) error {
	h := b.hypervisor
	return h.connected(ctx, func(l *libvirt.Libvirt) error {
		own, err := h.ownDisk(l, b.nextOwn(), below, 0)
		if err != nil {
			return err
		}
		d := b.xml
		d.Devices.Disks = slices.Clone(d.Devices.Disks)
		d.Devices.Disks[0].Source.File = own
		for i := range d.Devices.Graphics {
			d.Devices.Graphics[i].Port = 0 // it is given one when it starts
		}
		t := *b.tag
		t.Checkpoints, t.Sealed, t.Stamp = kept, nil, ""
		d.Metadata.Tag = &t
		if _, err := h.define(l, d); err != nil {
			return err
		}
		m, err := h.machine(l, b.name)
		if err != nil {
			return err
		}
		return h.removeOwn(l, b.name, func(volume string) bool {
			return volume == m.own() || slices.ContainsFunc(kept, func(c checkpoint) bool { return c.Disk == volume })
		})
	})
}

// dropCheckpoints deletes the disks of a build machine but the first, which is that of one without checkpoints.
func (h *hypervisor) dropCheckpoints(l *libvirt.Libvirt, d libvirt.Domain) error {
	m, err := h.read(l, d)
	if err != nil || !m.ours(kindBuild) {
		return err
	}
	return h.removeOwn(l, m.name, func(volume string) bool { return volume == m.name+ownEnding })
}

// removeOwn deletes all own disks of a machine that are not to be kept.
func (h *hypervisor) removeOwn(l *libvirt.Libvirt, name string, keep func(volume string) bool) error {
	p, err := h.pool(l)
	if err != nil {
		return err
	}
	volumes, _, err := l.StoragePoolListAllVolumes(p, 1, 0)
	if err != nil {
		return err
	}
	own := regexp.MustCompile(`^` + regexp.QuoteMeta(name) + `(~[0-9]+)?` + regexp.QuoteMeta(ownEnding) + `$`)
	for _, v := range volumes {
		if own.MatchString(v.Name) && !keep(v.Name) {
			if err := h.remove(l, v.Name); err != nil {
				return err
			}
		}
	}
	return nil
}
