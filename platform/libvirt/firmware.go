package libvirt

import (
	"bytes"
	"compress/flate"
	"context"
	"encoding/binary"
	"errors"
	"io"

	libvirt "github.com/digitalocean/go-libvirt"
	"github.com/klauspost/compress/zstd"
)

// fitsFirmware refuses a disk that machines of a class would never start from.
// What cannot be seen of a disk is not held against it: it is found when the
// machine starts.
func (s *Site) fitsFirmware(ctx context.Context, h *hypervisor, disk string, k class, className string) error {
	var by firmwares
	err := h.connected(ctx, func(l *libvirt.Libvirt) error {
		v, err := h.volume(l, disk)
		if err != nil {
			return err
		}
		sectors, err := firstBytes(volumeReader{l, v})
		if err != nil {
			s.log.Info("what a disk is started by cannot be seen", "disk", disk, "err", err)
			return nil
		}
		by = startedBy(sectors)
		return nil
	})
	switch {
	case err != nil:
		return err
	case by.known && k.Firmware == "uefi" && !by.uefi:
		return refuse("%s on %s has no EFI system partition, and machines of class %s are started by UEFI: take a "+
			"disk for UEFI, or a class that is started by BIOS", disk, h.name, className)
	case by.known && k.Firmware != "uefi" && !by.bios:
		return refuse("%s on %s has no boot loader for BIOS, and machines of class %s are started by BIOS: take a "+
			"disk for BIOS, or a class that is started by UEFI", disk, h.name, className)
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

// tableSize is how much of a disk says how it is started, in bytes: the master
// boot record, and a GUID partition table of 128 entries.
const tableSize = 34 * 512

var errNotRead = errors.New("it is not a qcow2 disk of a form that is read here")

// firstBytes reads the first tableSize bytes of what a qcow2 disk holds, by "The
// qcow2 disk image format" of QEMU (docs/interop/qcow2.rst).
func firstBytes(file io.ReaderAt) ([]byte, error) {
	header := make([]byte, 112)
	if _, err := file.ReadAt(header, 0); err != nil {
		return nil, err
	}
	be := binary.BigEndian
	const extendedL2 = 1 << 4 // of the features that one has to know to read the disk
	clusterBits, features := be.Uint32(header[20:]), uint64(0)
	if be.Uint32(header[4:]) >= 3 {
		features = be.Uint64(header[72:])
	}
	if string(header[:4]) != "QFI\xfb" || be.Uint32(header[32:]) != 0 || features&extendedL2 != 0 ||
		clusterBits < 15 || clusterBits > 21 {
		return nil, errNotRead
	}
	entry := func(at uint64) (uint64, error) {
		var b [8]byte
		_, err := file.ReadAt(b[:], int64(at))
		return be.Uint64(b[:]), err
	}
	const offsets = 1<<56 - 1<<9 // the bits of an entry that are an offset
	l1, err := entry(be.Uint64(header[40:]))
	if err != nil {
		return nil, err
	}
	first := make([]byte, tableSize)
	if l1&offsets == 0 {
		return first, nil // nothing was written there
	}
	l2, err := entry(l1 & offsets)
	if err != nil {
		return nil, err
	}
	const compressed, zero = 1 << 62, 1
	switch {
	case l2&compressed != 0:
		zstandard := be.Uint32(header[4:]) >= 3 && be.Uint32(header[100:]) > 104 && header[104] == 1
		return firstCompressed(file, l2, clusterBits, zstandard)
	case l2&zero != 0, l2&offsets == 0:
		return first, nil
	}
	_, err = file.ReadAt(first, int64(l2&offsets))
	return first, err
}

// firstCompressed reads the beginning of a cluster that is compressed.
func firstCompressed(file io.ReaderAt, entry uint64, clusterBits uint32, zstandard bool) ([]byte, error) {
	split := 62 - (clusterBits - 8)
	offset := int64(entry & (1<<split - 1))
	sectors := entry & (1<<62 - 1) >> split
	packed := io.NewSectionReader(file, offset, int64(sectors+1)*512-offset%512)
	first := make([]byte, tableSize)
	if zstandard {
		r, err := zstd.NewReader(packed)
		if err != nil {
			return nil, err
		}
		defer r.Close()
		_, err = io.ReadFull(r, first)
		return first, err
	}
	_, err := io.ReadFull(flate.NewReader(packed), first)
	return first, err
}

// firmwares are those that can start a disk.
type firmwares struct{ known, bios, uefi bool }

// Types of partitions, as they stand on a disk: the EFI system partition (UEFI
// Specification, 5.3.3), and the one that GRUB keeps itself in for BIOS.
var (
	efiSystem = []byte{0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11, 0xba, 0x4b, 0x00, 0xa0, 0xc9, 0x3e, 0xc9, 0x3b}
	biosBoot  = []byte("Hah!IdontNeedEFI")
)

// startedBy says by what a disk is started, from its partition table. A disk
// without one says nothing.
func startedBy(first []byte) (by firmwares) {
	if first[510] != 0x55 || first[511] != 0xaa {
		return by
	}
	by.known = true
	by.bios = !bytes.Equal(first[:440], make([]byte, 440)) // there is a program in it
	for n := range 4 {
		by.uefi = by.uefi || first[446+16*n+4] == 0xef
	}
	if string(first[512:520]) != "EFI PART" {
		return by
	}
	le := binary.LittleEndian
	at, size := le.Uint64(first[512+72:])*512, uint64(le.Uint32(first[512+84:]))
	if size < 128 || at > uint64(len(first)) {
		return firmwares{}
	}
	for ; at+16 <= uint64(len(first)); at += size {
		kind := first[at : at+16]
		by.uefi = by.uefi || bytes.Equal(kind, efiSystem)
		by.bios = by.bios || bytes.Equal(kind, biosBoot)
	}
	return by
}
