package libvirt

import (
	"context"
	"encoding/xml"
	"io/fs"
	"strconv"
	"strings"

	libvirt "github.com/digitalocean/go-libvirt"

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
