// Package disk reads what is in a disk image: of what format the file is, what
// it would need beside itself, how the disk in it is divided, and what starts
// it. Nothing is believed of a file but what stands in it, for a file may come
// from anywhere: one that points at another file, or is cut off, is refused
// before any program opens it.
package disk

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"regexp"
	"unicode/utf8"
)

// Format is how a disk is written in a file.
type Format string

const (
	Raw   Format = "raw"   // as it is
	QCOW2 Format = "qcow2" // QEMU's
	VHD   Format = "vhd"   // also called vpc
	VHDX  Format = "vhdx"
	VMDK  Format = "vmdk" // in one file
)

// Formats are all of them.
func Formats() []Format { return []Format{Raw, QCOW2, VHD, VHDX, VMDK} }

// sector is what disks are addressed by, in bytes.
const sector = 512

// Detect says of what format a file of so many bytes is, by what is in it. The
// error is a sentence that says why the file is not taken.
func Detect(file io.ReaderAt, size int64) (Format, error) {
	head := make([]byte, min(size, 1<<20))
	if _, err := file.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	begins := func(magic string) bool { return bytes.HasPrefix(head, []byte(magic)) }
	switch {
	case begins("QFI\xfb"):
		return QCOW2, checkQCOW2(file, size)
	case begins("KDMV"):
		return VMDK, checkVMDK(file, size, head)
	case begins("COWD"):
		return "", errors.New("it is a VMDK of an old kind: convert it to one file (monolithicSparse or " +
			"streamOptimized)")
	case begins("# Disk DescriptorFile"):
		return "", errors.New("it is only the description of a VMDK, whose disk is in other files: convert it to one " +
			"file (monolithicSparse or streamOptimized)")
	case begins("vhdxfile"):
		return VHDX, checkVHDX(file, size)
	case size < sector:
		return "", fmt.Errorf("it has %d bytes, which is no disk", size)
	}
	tail := make([]byte, sector)
	if _, err := file.ReadAt(tail, size-sector); err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	if bytes.HasPrefix(tail, []byte("conectix")) {
		return VHD, checkVHD(tail)
	}
	if begins("conectix") {
		return "", errors.New("it is cut off: what stands at the end of a VHD is not there; bring it in whole")
	}
	if p := partitionsIn(head); p.Known {
		return Raw, p.fit(size)
	}
	if text(head) {
		return "", errors.New("it is a text, and no disk image")
	}
	return "", errors.New("it is neither qcow2, VHD, VHDX nor VMDK, and as a raw disk it has no partition table")
}

// text says whether people could read what is there.
func text(head []byte) bool {
	head = head[:min(len(head), 4<<10)]
	for len(head) > utf8.UTFMax {
		r, n := utf8.DecodeRune(head)
		if r == utf8.RuneError || r < ' ' && r != '\n' && r != '\r' && r != '\t' {
			return false
		}
		head = head[n:]
	}
	return true
}

// cutOff is the error of a file that ends before what it says is in it.
func cutOff(needs, size int64) error {
	return fmt.Errorf("it is cut off: it has %d bytes, and what it says is in it ends at byte %d or later; bring it "+
		"in whole", size, needs)
}

var (
	vmdkKind   = regexp.MustCompile(`createType\s*=\s*"([^"]*)"`)
	vmdkParent = regexp.MustCompile(`(?m)^\s*parentCID\s*=\s*([0-9a-fA-F]+)`)
)

// checkVMDK looks at a sparse extent, by "Virtual Disk Format 5.0". The disk has to be in this one file.
func checkVMDK(file io.ReaderAt, size int64, head []byte) error {
	if len(head) < sector {
		return cutOff(sector, size)
	}
	le := binary.LittleEndian
	capacity, grain := le.Uint64(head[12:]), le.Uint64(head[20:])
	at, length := le.Uint64(head[28:]), le.Uint64(head[36:])
	entries, directory := uint64(le.Uint32(head[44:])), le.Uint64(head[56:])
	if end := (at + length) * sector; at == 0 || length == 0 || length > 2048 || at > 1<<20 || end > uint64(len(head)) {
		return errors.New("it is a part of a VMDK without a description: bring in one that is a single file " +
			"(monolithicSparse or streamOptimized)")
	}
	description := head[at*sector : (at+length)*sector]
	kind := vmdkKind.FindSubmatch(description)
	if kind == nil || string(kind[1]) != "monolithicSparse" && string(kind[1]) != "streamOptimized" {
		return fmt.Errorf("it is a VMDK whose disk is in more than one file (%.40q): convert it to one file "+
			"(monolithicSparse or streamOptimized)", bytes.Join(kind, []byte(" ")))
	}
	if p := vmdkParent.FindSubmatch(description); p != nil && !bytes.EqualFold(p[1], []byte("ffffffff")) {
		return errors.New("it is a VMDK that is made on another disk, which is not brought in with it: convert it to " +
			"one of its own (qemu-img convert)")
	}
	if directory == 1<<64-1 {
		// A stream keeps its directory at its end, behind which there is one more sector.
		if size < 3*sector {
			return cutOff(3*sector, size)
		}
		footer := make([]byte, sector)
		if _, err := file.ReadAt(footer, size-2*sector); err != nil {
			return err
		}
		if !bytes.HasPrefix(footer, []byte("KDMV")) {
			return errors.New("it is cut off: what stands at the end of a VMDK is not there; bring it in whole")
		}
		directory = le.Uint64(footer[56:])
	}
	if grain == 0 || entries == 0 || entries > 1<<16 || grain > 1<<16 || capacity > 1<<40 {
		return errors.New("it is a VMDK whose header makes no sense")
	}
	tables := (capacity + grain*entries - 1) / (grain * entries)
	table, far := make([]byte, 4*entries), int64(0)
	for n := range tables {
		var entry [4]byte
		if err := within(file, entry[:], int64(directory)*sector+4*int64(n), size); err != nil {
			return err
		}
		where := int64(le.Uint32(entry[:])) * sector
		if where == 0 {
			continue
		}
		if err := within(file, table, where, size); err != nil {
			return err
		}
		for i := 0; i < len(table); i += 4 {
			far = max(far, int64(le.Uint32(table[i:]))*sector)
		}
	}
	if far >= size {
		return cutOff(far, size)
	}
	return nil
}

// within reads what has to be in a file.
func within(file io.ReaderAt, into []byte, at, size int64) error {
	if at < 0 || at+int64(len(into)) > size {
		return cutOff(at+int64(len(into)), size)
	}
	_, err := file.ReadAt(into, at)
	return err
}

// checkVHD looks at the footer, by "Virtual Hard Disk Image Format Specification".
func checkVHD(footer []byte) error {
	switch kind := binary.BigEndian.Uint32(footer[60:]); kind {
	case 2, 3: // of fixed and of growing size
		return nil
	case 4:
		return errors.New("it is a VHD that is made on another disk, which is not brought in with it: merge it with " +
			"that one first")
	default:
		return fmt.Errorf("it is a VHD of a kind that is not known (%d)", kind)
	}
}

// checkVHDX looks for a parent in the metadata, by "[MS-VHDX]: Virtual Hard Disk v2". Whether all of it is there is
// seen by whoever reads the disk: its table of blocks says where each of them is.
func checkVHDX(file io.ReaderAt, size int64) error {
	const (
		tables   = 192 << 10 // where the first table of regions is
		metadata = "\x06\xa2\x7c\x8b\x90\x47\x9a\x4b\xb8\xfe\x57\x5f\x05\x0f\x88\x6e"
		settings = "\x37\x67\xa1\xca\x36\xfa\x43\x4d\xb3\xb6\x33\xf0\xaa\x44\xe7\x6b"
	)
	le := binary.LittleEndian
	regions := make([]byte, 64<<10)
	if err := within(file, regions, tables, size); err != nil {
		return err
	}
	if !bytes.HasPrefix(regions, []byte("regi")) {
		return errors.New("it is a VHDX whose table of regions is damaged")
	}
	for n := range min(le.Uint32(regions[8:]), 2047) {
		region := regions[16+32*n:]
		if string(region[:16]) != metadata {
			continue
		}
		at := int64(le.Uint64(region[16:]))
		items := make([]byte, 64<<10)
		if err := within(file, items, at, size); err != nil {
			return err
		}
		if !bytes.HasPrefix(items, []byte("metadata")) {
			return errors.New("it is a VHDX whose metadata is damaged")
		}
		for i := range min(le.Uint16(items[10:]), 2047) {
			item := items[32+32*int(i):]
			if string(item[:16]) != settings {
				continue
			}
			var flags [8]byte
			if err := within(file, flags[:], at+int64(le.Uint32(item[16:])), size); err != nil {
				return err
			}
			if le.Uint32(flags[4:])&2 != 0 {
				return errors.New("it is a VHDX that is made on another disk, which is not brought in with it: merge " +
					"it with that one first")
			}
			return nil
		}
	}
	return errors.New("it is a VHDX whose metadata is not there")
}
