package libvirt

import (
	"bytes"
	"context"
	"io"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/core/disk"
)

// fitsFirmware refuses a disk that machines of a class would never start from.
// What cannot be seen of a disk is not held against it: it is found when the
// machine starts.
func (s *Site) fitsFirmware(ctx context.Context, h *hypervisor, name string, k class, className string) error {
	var by disk.Partitions
	err := h.connected(ctx, func(l *libvirt.Libvirt) error {
		v, err := h.volume(l, name)
		if err != nil {
			return err
		}
		image, err := disk.OpenImage(volumeReader{l, v})
		if err == nil {
			by, err = disk.Divided(image)
		}
		if err != nil {
			s.log.Info("what a disk is started by cannot be seen", "disk", name, "err", err)
			by = disk.Partitions{}
		}
		return nil
	})
	switch {
	case err != nil:
		return err
	case by.Known && k.Firmware == "uefi" && !by.UEFI:
		return refuse("%s on %s has no EFI system partition, and machines of class %s are started by UEFI: take a "+
			"disk for UEFI, or a class that is started by BIOS", name, h.name, className)
	case by.Known && k.Firmware != "uefi" && !by.BIOS:
		return refuse("%s on %s has no boot loader for BIOS, and machines of class %s are started by BIOS: take a "+
			"disk for BIOS, or a class that is started by UEFI", name, h.name, className)
	}
	return nil
}

// volumeReader reads a volume in pieces.
type volumeReader struct {
	l *libvirt.Libvirt
	v libvirt.StorageVol
}

func (r volumeReader) ReadAt(b []byte, offset int64) (int, error) {
	var piece bytes.Buffer
	if err := r.l.StorageVolDownload(r.v, &piece, uint64(offset), uint64(len(b)), 0); err != nil {
		return 0, err
	}
	n := copy(b, piece.Bytes())
	if n < len(b) {
		return n, io.ErrUnexpectedEOF
	}
	return n, nil
}
