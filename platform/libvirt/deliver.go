package libvirt

import (
	"context"
	"errors"
	"io"
	"slices"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"
	"golang.org/x/time/rate"

	"nimblepane/platform"
	"nimblepane/platform/depot"
)

// transferBlock is what a transfer begins again at a multiple of, in bytes.
const transferBlock = 1 << 20

// deliver puts a copy on every hypervisor of the site. Hypervisors that share
// their storage find it there already.
func (s *Site) deliver(ctx context.Context, key string, d platform.Deliver, report func(platform.Progress)) (
	platform.Made,
	error,
) {
	for i, h := range s.hypervisors {
		part := func(p platform.Progress) {
			p.Percent = (100*i + p.Percent) / len(s.hypervisors)
			report(p)
		}
		if err := s.deliverTo(ctx, h, key, d, part); err != nil {
			return platform.Made{}, err
		}
	}
	return platform.Made{Digest: d.Digest}, nil
}

// deliverTo puts a copy on a hypervisor, unless it is there: by its blocks where there are depots, as a whole where
// there are none.
func (s *Site) deliverTo(ctx context.Context, h *hypervisor, key string, d platform.Deliver,
	report func(platform.Progress),
) error {
	switch err := h.intact(ctx, d.Copy, d.Digest, nil); {
	case err == nil:
		return nil
	case notFound(err):
	default:
		var refusal *platform.Refusal
		if !errors.As(err, &refusal) {
			return err
		}
		// What is there is something else.
		if err := s.removeDisk(ctx, h, d.Copy); err != nil {
			return err
		}
	}
	to, err := h.depot(ctx)
	if err != nil {
		return err
	}
	if to != nil {
		from, err := s.from(ctx, d)
		if err != nil {
			return err
		}
		if from.Depot != nil {
			return s.deliverBlocks(ctx, h, key, from, to, d, report)
		}
	}
	return s.deliverWhole(ctx, h, key, d, func(percent int) { report(platform.Progress{Percent: percent}) })
}

// origin is where a disk's blocks come from.
type origin struct {
	depot.Depot
	disk string
	far  bool // over the line
}

// from finds the nearest depot with the disk's content: this site's own, if it has a copy already.
func (s *Site) from(ctx context.Context, d platform.Deliver) (o origin, err error) {
	for _, disk := range append([]string{d.Copy}, d.Same...) {
		for _, h := range s.hypervisors {
			if err := h.intact(ctx, disk, d.Digest, nil); err != nil {
				continue // not there, or not as it should be, or not to be asked: there are other places
			}
			if at, err := h.depot(ctx); err == nil && at != nil {
				return origin{at, disk, false}, nil
			}
		}
	}
	source, err := s.source(ctx, d.Source)
	if err != nil {
		return o, err
	}
	keeper, ok := source.(depot.Keeper)
	if !ok {
		return o, nil
	}
	at, err := keeper.DepotWith(ctx, d.Disk)
	return origin{at, d.Disk, source != platform.Disks(s)}, err
}

// DepotWith is depot.Keeper's.
func (s *Site) DepotWith(ctx context.Context, disk string) (depot.Depot, error) {
	h, _, err := s.withDisk(ctx, disk)
	if notFound(err) {
		return nil, refuse("there is no disk %q at %s", disk, s.name)
	}
	if err != nil {
		return nil, err
	}
	return h.depot(ctx)
}

// deliverBlocks puts a copy together from what is there and what has to be sent.
func (s *Site) deliverBlocks(ctx context.Context, h *hypervisor, key string, from origin, to depot.Depot,
	d platform.Deliver, report func(platform.Progress),
) error {
	delivery := depot.Delivery{
		From: from.Depot, Disk: from.disk, Digest: d.Digest, To: to,
		Coming: depot.Coming{Copy: d.Copy, Beside: slices.Concat(d.Same, []string{d.Disk}, d.Beside)},
		Report: func(t platform.Transfer) {
			t.Far = from.far
			report(platform.Progress{Percent: t.Percent(), Transfer: &t})
		},
	}
	if from.far {
		delivery.Pace = s.pace(key)
	}
	if err := delivery.Run(ctx); err != nil {
		return err
	}
	return h.connected(ctx, func(l *libvirt.Libvirt) error {
		p, err := h.pool(l)
		if err != nil {
			return err
		}
		// What the depot wrote is news to libvirt.
		if err := h.refresh(l, p); err != nil {
			return err
		}
		return h.complete(l, d.Copy, note{Digest: d.Digest, MachineClass: d.MachineClass})
	})
}

// deliverWhole transfers the disk, goes on where an earlier transfer stopped, and
// reads back what has come to be there.
func (s *Site) deliverWhole(ctx context.Context, h *hypervisor, key string, d platform.Deliver, report func(
	int),
) error {
	source, err := s.source(ctx, d.Source)
	if err != nil {
		return err
	}
	var offset int64
	var volume libvirt.StorageVol
	err = h.connected(ctx, func(l *libvirt.Libvirt) error {
		p, err := h.pool(l)
		if err != nil {
			return err
		}
		// A file that another process of ours wrote may be news to libvirt.
		if err := h.refresh(l, p); err != nil {
			return err
		}
		volume, err = h.volume(l, d.Copy+diskEnding)
		if err == nil {
			begun, err := describe(l, volume)
			offset = begun.physical() / transferBlock * transferBlock
			return err
		}
		if !notFound(err) {
			return err
		}
		v := volumeXML{Name: d.Copy + diskEnding}
		v.Target.Format, v.Target.Permissions = formatXML{"raw"}, &permsXML{h.diskMode()}
		volume, err = h.create(l, v)
		return err
	})
	if err != nil {
		return err
	}
	r, whole, err := source.OpenDisk(ctx, d.Disk, offset)
	if err != nil {
		return err
	}
	defer r.Close()
	if offset > whole {
		if err := h.connected(ctx, func(l *libvirt.Libvirt) error { return h.removeVolumes(l, d.Copy) }); err != nil {
			return err
		}
		return errors.New("a transfer had left more than the disk has; it begins anew")
	}
	const transferShare = 80 // percent of the work; reading back is the rest
	limited := &limitedReader{ctx: ctx, r: r, pace: s.pace(key), n: offset, report: func(n int64) {
		report(int(transferShare * n / max(1, whole)))
	}}
	err = h.dedicated(ctx, func(l *libvirt.Libvirt) error {
		return l.StorageVolUpload(volume, limited, uint64(offset), uint64(whole-offset), 0)
	})
	if err = errors.Join(limited.err, err); err != nil {
		return err
	}
	got, err := h.digest(ctx, d.Copy, func(percent int) { report(transferShare + percent*(100-transferShare)/100) })
	if err != nil {
		return err
	}
	if got != d.Digest && offset > 0 && offset == whole/transferBlock*transferBlock {
		err := h.connected(ctx, func(l *libvirt.Libvirt) error { return h.removeVolumes(l, d.Copy) })
		return errors.Join(errors.New("a copy that was changed was there; it begins anew"), err)
	}
	if got != d.Digest {
		err := h.connected(ctx, func(l *libvirt.Libvirt) error { return h.removeVolumes(l, d.Copy) })
		return errors.Join(refuse("what arrived on %s has digest %s, and the version has %s: nothing of it was kept",
			h.name, got, d.Digest), err)
	}
	return h.connected(ctx, func(l *libvirt.Libvirt) error {
		return h.complete(l, d.Copy, note{Digest: d.Digest, MachineClass: d.MachineClass})
	})
}

// diskMode: nobody writes a copy again. A libvirt without root's rights could
// not write it the first time then.
func (h *hypervisor) diskMode() string {
	if h.address.Path == "/session" {
		return "0644"
	}
	return "0444"
}

// pace is how fast a delivery may go, which changes while it goes; nil if it is not limited.
func (s *Site) pace(key string) func(ctx context.Context, bytes int) error {
	if s.allowance == nil {
		return nil
	}
	const asksAgain = 2 * time.Second
	limiter, asked := rate.NewLimiter(rate.Inf, paceBurst), time.Time{}
	return func(ctx context.Context, bytes int) error {
		if time.Since(asked) > asksAgain {
			allowed, err := s.allowance(ctx, key)
			if err != nil {
				return err
			}
			asked = time.Now()
			if limit := rate.Limit(allowed); limit == 0 {
				limiter.SetLimit(rate.Inf)
			} else {
				limiter.SetLimit(limit)
			}
		}
		return limiter.WaitN(ctx, bytes)
	}
}

// paceBurst is how much may go at once, in bytes.
const paceBurst = 64 << 10

// limitedReader keeps to the pace and tells how far it is.
type limitedReader struct {
	ctx    context.Context
	r      io.Reader
	pace   func(context.Context, int) error
	n      int64
	report func(int64)
	err    error // of the source, which the stream's error hides
}

func (l *limitedReader) Read(p []byte) (int, error) {
	if l.pace != nil {
		p = p[:min(len(p), paceBurst)]
	}
	n, err := l.r.Read(p)
	if l.pace != nil && n > 0 {
		if werr := l.pace(l.ctx, n); werr != nil {
			l.err = werr
			return 0, werr
		}
	}
	l.n += int64(n)
	l.report(l.n)
	if err != nil && !errors.Is(err, io.EOF) {
		l.err = err
	}
	return n, err
}

// removeDisk removes a disk or copy, with what there is of one that comes.
func (s *Site) removeDisk(ctx context.Context, h *hypervisor, disk string) error {
	err := h.connected(ctx, func(l *libvirt.Libvirt) error { return h.removeVolumes(l, disk) })
	if err != nil {
		return err
	}
	at, err := h.depot(ctx)
	if err != nil || at == nil {
		return err
	}
	return at.Remove(ctx, disk)
}

// forget removes a disk's note: what has none is not complete.
func (h *hypervisor) forget(l *libvirt.Libvirt, disk string) error {
	return h.remove(l, disk+noteEnding)
}

func (h *hypervisor) removeVolumes(l *libvirt.Libvirt, disk string) error {
	if err := h.forget(l, disk); err != nil {
		return err
	}
	for _, ending := range []string{listEnding, depot.MapEnding} {
		if err := h.remove(l, disk+ending); err != nil {
			return err
		}
	}
	return h.remove(l, disk+diskEnding)
}

// deleteDisk deletes a disk or copy everywhere, unless a machine is made on it.
func (s *Site) deleteDisk(ctx context.Context, disk string) error {
	for _, h := range s.hypervisors {
		err := h.connected(ctx, func(l *libvirt.Libvirt) error {
			list, err := h.machines(l)
			if err != nil {
				return err
			}
			for _, m := range list {
				if m.tag != nil && m.tag.Disk == disk {
					return refuse("machine %s on %s is made on disk %s, which stays until that machine is gone", m.name,
						h.name, disk)
				}
			}
			return nil
		})
		if err == nil {
			err = s.removeDisk(ctx, h, disk)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
