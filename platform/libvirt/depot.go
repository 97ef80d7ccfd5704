package libvirt

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/platform"
	"nimblepane/platform/depot"
)

// A hypervisor's depot is the folder of its storage pool. On the service's own
// computer the service looks after that itself, if it may; elsewhere pane-agent
// does, at the address that the estate file has. Where there is no depot, disks
// go over libvirt's connection, as a whole.

// depot returns the hypervisor's depot, nil if it has none.
func (h *hypervisor) depot(ctx context.Context) (depot.Depot, error) {
	h.mu.Lock()
	known := h.disks
	h.mu.Unlock()
	if known != nil {
		return known, nil
	}
	var found depot.Depot
	switch {
	case h.depotAt != "":
		conf, err := depot.Certificates{Folder: h.address.Query().Get("pkipath")}.Client()
		if err != nil {
			return nil, refuse("the depot of %s cannot be asked: %s", h.name, err)
		}
		found = depot.Dial(h.depotAt, conf)
	case h.here():
		var folder string
		err := h.connected(ctx, func(l *libvirt.Libvirt) (err error) {
			folder, err = h.folder(l)
			return err
		})
		if err != nil {
			return nil, err
		}
		mode, err := strconv.ParseUint(h.diskMode(), 8, 32)
		if err != nil {
			return nil, err
		}
		local, err := depot.OpenLocal(folder, fs.FileMode(mode))
		if err != nil {
			return nil, nil //nolint:nilerr // disks go over libvirt's connection, which may write there
		}
		found = local
	default:
		return nil, nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.disks = found
	return found, nil
}

// here says that the hypervisor is the service's own computer.
func (h *hypervisor) here() bool {
	_, transport, _ := strings.Cut(h.address.Scheme, "+")
	return h.address.Host == "" && (transport == "" || transport == "unix")
}

// depotText says how disks come to a hypervisor, for people.
func (h *hypervisor) depotText(ctx context.Context) string {
	at, err := h.depot(ctx)
	switch {
	case err != nil:
		return err.Error()
	case at == nil:
		return "whole disks: it has no depot"
	case h.depotAt != "":
		return "by blocks, depot " + h.depotAt
	}
	return "by blocks"
}

// folder is where the storage pool's volumes are.
func (h *hypervisor) folder(l *libvirt.Libvirt) (string, error) {
	p, err := h.pool(l)
	if err != nil {
		return "", err
	}
	text, err := l.StoragePoolGetXMLDesc(p, 0)
	if err != nil {
		return "", err
	}
	var d struct {
		Path string `xml:"target>path"`
	}
	return d.Path, xml.Unmarshal([]byte(text), &d)
}

// mapped reads a disk for its digest, and has its block map beside it where there is a depot.
func (h *hypervisor) mapped(ctx context.Context, disk string, report func(int)) (digest string, err error) {
	at, err := h.depot(ctx)
	if err != nil {
		return "", err
	}
	if at == nil {
		return h.digest(ctx, disk, report)
	}
	m, err := at.Map(ctx, disk, "", report)
	if err != nil {
		return "", err
	}
	return m.Digest(), nil
}

// readCopy reads a copy on every hypervisor of the site.
func (s *Site) readCopy(ctx context.Context, _ string, in platform.Reading, report func(int)) (out platform.Read,
	err error,
) {
	for i, h := range s.hypervisors {
		out.Wrong, err = h.readCopy(ctx, in, func(percent int) { report((100*i + percent) / len(s.hypervisors)) })
		if err != nil || out.Wrong != "" {
			return out, err
		}
	}
	return out, nil
}

// readCopy returns what is wrong with a copy, "" if it is as it should be.
func (h *hypervisor) readCopy(ctx context.Context, in platform.Reading, report func(int)) (wrong string, err error) {
	missing := fmt.Sprintf("copy %s is not on %s any more", in.Copy, h.name)
	err = h.connected(ctx, func(l *libvirt.Libvirt) error {
		_, _, err := h.known(l, in.Copy)
		return err
	})
	if notFound(err) {
		return missing, nil
	}
	var refusal *platform.Refusal
	if err != nil && !errors.As(err, &refusal) { // a note that cannot be read says nothing of the disk
		return "", err
	}
	at, err := h.depot(ctx)
	if err != nil {
		return "", err
	}
	var got string
	if at != nil {
		got, err = at.Digest(ctx, in.Copy, in.Rate, report)
	} else {
		got, err = h.digestInPieces(ctx, in, report)
	}
	switch {
	case notFound(err):
		return missing, nil
	case errors.As(err, &refusal):
		wrong = refusal.Why + " (on " + h.name + ")"
	case err != nil:
		return "", err
	case in.Compare(got) == "":
		return "", nil
	default:
		wrong = in.Compare(got) + " (on " + h.name + ")"
	}
	// Without its note nothing is made from it, whatever the service knows, and a delivery makes it anew.
	return wrong, h.connected(ctx, func(l *libvirt.Libvirt) error { return h.forget(l, in.Copy) })
}

// pieceOfDisk is how much of a disk is asked for at once where there is no depot, in bytes: libvirt sends as fast as it
// can whatever is asked for.
const pieceOfDisk = 4 << 20

// digestInPieces reads a disk over libvirt's connection, no faster than it may.
func (h *hypervisor) digestInPieces(ctx context.Context, in platform.Reading, report func(int)) (string, error) {
	sum := &measured{hash: sha256.New(), report: report}
	paced := depot.Paced(ctx, sum, in.Rate)
	err := h.dedicated(ctx, func(l *libvirt.Libvirt) error {
		v, err := h.volume(l, in.Copy+diskEnding)
		if err != nil {
			return err
		}
		d, err := describe(l, v)
		if err != nil {
			return err
		}
		sum.size = d.physical()
		var piece bytes.Buffer
		for sum.n < sum.size {
			piece.Reset()
			if err := l.StorageVolDownload(v, &piece, uint64(sum.n), pieceOfDisk, 0); err != nil {
				return err
			}
			if piece.Len() == 0 {
				return fmt.Errorf("volume %s ends at %d of %d bytes", v.Name, sum.n, sum.size)
			}
			if _, err := paced.Write(piece.Bytes()); err != nil {
				return err
			}
		}
		return nil
	})
	return "sha256:" + hex.EncodeToString(sum.hash.Sum(nil)), err
}
