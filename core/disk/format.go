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
	"strconv"
	"strings"
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

// File is what Detect found in a file.
type File struct {
	Format Format
	// Unpacked is how many bytes of the disk the file stores at most, once they
	// are unpacked. It bounds the size of a conversion, which leaves out unwritten parts.
	Unpacked int64
}

// mostDisk is how large a disk may be, in bytes. Sums of two such sizes do not overflow.
const mostDisk = 1 << 46

// Detect says which format a file of so many bytes has, by its content. It
// accepts only files of which it accounts for every part that a converter could
// read. The error is a sentence that says why the file is refused.
func Detect(file io.ReaderAt, size int64) (f File, err error) {
	head := make([]byte, min(size, 1<<20))
	if _, err := file.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return f, err
	}
	begins := func(magic string) bool { return bytes.HasPrefix(head, []byte(magic)) }
	switch {
	case begins("QFI\xfb"):
		f.Format = QCOW2
		f.Unpacked, err = checkQCOW2(file, size)
		return f, err
	case begins("KDMV"):
		f.Format = VMDK
		f.Unpacked, err = checkVMDK(file, size, head)
		return f, err
	case begins("COWD"):
		return f, errors.New("it is a VMDK of an old kind: convert it to one file (monolithicSparse or " +
			"streamOptimized)")
	case begins("# Disk DescriptorFile"):
		return f, errors.New("it is only the description of a VMDK, whose disk is in other files: convert it to one " +
			"file (monolithicSparse or streamOptimized)")
	case begins("vhdxfile"):
		f.Format = VHDX
		f.Unpacked, err = checkVHDX(file, size)
		return f, err
	case size < sector:
		return f, fmt.Errorf("it has %d bytes, which is no disk", size)
	}
	tail := make([]byte, sector)
	if _, err := file.ReadAt(tail, size-sector); err != nil && !errors.Is(err, io.EOF) {
		return f, err
	}
	if bytes.HasPrefix(tail, []byte("conectix")) {
		f.Format = VHD
		f.Unpacked, err = checkVHD(head, tail, size)
		return f, err
	}
	if begins("conectix") {
		return f, errors.New("it is cut off: what stands at the end of a VHD is not there; bring it in whole")
	}
	if p := partitionsIn(head); p.Known {
		return File{Raw, size}, p.fit(size)
	}
	if text(head) {
		return f, errors.New("it is a text, and no disk image")
	}
	return f, errors.New("it is neither qcow2, VHD, VHDX nor VMDK, and as a raw disk it has no partition table")
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

// vmdkHeader are the fields of a sparse extent's header, in sectors where they are places or sizes.
type vmdkHeader struct {
	version, flags               uint32
	capacity, grain              uint64
	descriptionAt, description   uint64
	entries                      uint32 // of a grain table
	redundant, directory, grains uint64 // where the two grain directories and the grains begin
	compression                  uint16
}

func readVMDKHeader(b []byte) (h vmdkHeader) {
	le := binary.LittleEndian
	return vmdkHeader{
		version: le.Uint32(b[4:]), flags: le.Uint32(b[8:]), capacity: le.Uint64(b[12:]), grain: le.Uint64(b[20:]),
		descriptionAt: le.Uint64(b[28:]), description: le.Uint64(b[36:]), entries: le.Uint32(b[44:]),
		redundant: le.Uint64(b[48:]), directory: le.Uint64(b[56:]), grains: le.Uint64(b[64:]),
		compression: le.Uint16(b[77:]),
	}
}

// checkVMDK looks at a sparse extent, by "Virtual Disk Format 5.0". The disk has to be in this one file.
func checkVMDK(file io.ReaderAt, size int64, head []byte) (unpacked int64, err error) {
	if len(head) < sector {
		return 0, cutOff(sector, size)
	}
	h := readVMDKHeader(head)
	at, length := h.descriptionAt, h.description
	if at == 0 || length == 0 || length > 2048 || at > 1<<20 || (at+length)*sector > uint64(len(head)) {
		return 0, errors.New("it is a part of a VMDK without a description: bring in one that is a single file " +
			"(monolithicSparse or streamOptimized)")
	}
	if h.capacity == 0 || h.capacity > mostDisk/sector || h.version < 1 || h.version > 3 || h.compression > 1 ||
		h.grain < 8 || h.grain > 1<<16 || h.grain&(h.grain-1) != 0 || h.entries != 512 {
		return 0, errors.New("it is a VMDK whose header makes no sense")
	}
	if err := checkDescription(head[at*sector:(at+length)*sector], h.capacity); err != nil {
		return 0, err
	}
	if h.directory == 1<<64-1 {
		// A stream keeps its directory at its end, behind which there is one more sector.
		if size < 3*sector {
			return 0, cutOff(3*sector, size)
		}
		footer := make([]byte, sector)
		if _, err := file.ReadAt(footer, size-2*sector); err != nil {
			return 0, err
		}
		if !bytes.HasPrefix(footer, []byte("KDMV")) {
			return 0, errors.New("it is cut off: what stands at the end of a VMDK is not there; bring it in whole")
		}
		// A reader goes by the footer from here on.
		end := readVMDKHeader(footer)
		h.directory = end.directory
		if end != h {
			return 0, errors.New("it is a VMDK with a header at its end that contradicts the one at its beginning")
		}
	}
	return vmdkGrains(file, size, h)
}

// vmdkGrains follows the grain directory, and returns how many bytes of the disk are stored.
func vmdkGrains(file io.ReaderAt, size int64, h vmdkHeader) (unpacked int64, err error) {
	le := binary.LittleEndian
	perTable := h.grain * uint64(h.entries)
	tables := (h.capacity + perTable - 1) / perTable
	if h.directory > uint64(size)/sector || tables > uint64(size)/4 {
		return 0, cutOff(size+1, size)
	}
	table, far, seen := make([]byte, 4*h.entries), int64(0), map[uint32]bool{}
	for n := range tables {
		var entry [4]byte
		if err := within(file, entry[:], int64(h.directory)*sector+4*int64(n), size); err != nil {
			return 0, err
		}
		where := le.Uint32(entry[:])
		if where == 0 {
			continue
		}
		if seen[where] {
			return 0, errors.New("it is a VMDK in which two parts of the disk share a table")
		}
		seen[where] = true
		if err := within(file, table, int64(where)*sector, size); err != nil {
			return 0, err
		}
		for i := 0; i < len(table); i += 4 {
			grain := int64(le.Uint32(table[i:]))
			if far = max(far, grain*sector); grain > 1 { // 1 is a grain of zeros
				unpacked += int64(h.grain) * sector
			}
		}
	}
	if far >= size {
		return 0, cutOff(far, size)
	}
	return unpacked, nil
}

// Lines of a VMDK's description. A converter may look for a key anywhere in the
// text, so that each line has to be one of these, and comments have no signs.
var (
	vmdkComment = regexp.MustCompile(`^#[A-Za-z ]*$`)
	vmdkField   = regexp.MustCompile(`^([A-Za-z0-9.]+)\s*=\s*("?)([A-Za-z0-9 ._:+/-]*)("?)$`)
	vmdkExtent  = regexp.MustCompile(`^RW ([0-9]{1,15}) SPARSE "[^"/\\]{1,255}"$`)
	vmdkData    = regexp.MustCompile(`^ddb\.[A-Za-z0-9._]+\s*=\s*"[A-Za-z0-9 ._:+/-]*"$`)
)

// checkDescription accepts the description of a disk that is in its own file, and nothing else.
func checkDescription(description []byte, capacity uint64) error {
	text, rest, _ := bytes.Cut(description, []byte{0})
	if len(bytes.Trim(rest, "\x00")) > 0 {
		return errors.New("it is a VMDK with something behind the end of its description")
	}
	fields, extents := map[string]string{}, 0
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, " \t\r\n")
		if line == "" || vmdkComment.MatchString(line) || vmdkData.MatchString(line) {
			continue
		}
		if m := vmdkExtent.FindStringSubmatch(line); m != nil {
			if n, err := strconv.ParseUint(m[1], 10, 64); err != nil || n != capacity {
				return fmt.Errorf("it is a VMDK whose description names a disk of %s sectors, and its header one of %d",
					m[1], capacity)
			}
			extents++
			continue
		}
		m := vmdkField.FindStringSubmatch(line)
		if m == nil || m[2] != m[4] {
			if strings.HasPrefix(line, "RW ") || strings.HasPrefix(line, "RDONLY ") || strings.HasPrefix(line,
				"NOACCESS ") {
				return errors.New("it is a VMDK whose disk is in another file: convert it to one file " +
					"(monolithicSparse or " +
					"streamOptimized)")
			}
			return fmt.Errorf("it is a VMDK whose description has a line that is not read here: %.60q", line)
		}
		if _, twice := fields[m[1]]; twice {
			return fmt.Errorf("it is a VMDK whose description has %s twice", m[1])
		}
		fields[m[1]] = m[3]
	}
	for key, value := range fields {
		switch {
		case key == "version" || key == "encoding" || key == "CID" || key == "isNativeSnapshot" && value == "no":
		case key == "createType" && (value == "monolithicSparse" || value == "streamOptimized"):
		case key == "createType":
			return fmt.Errorf("it is a VMDK whose disk is in more than one file (%.40q): convert it to one file "+
				"(monolithicSparse or streamOptimized)", value)
		case key == "parentCID" && strings.EqualFold(value, "ffffffff"):
		case strings.HasPrefix(key, "parent"):
			return errors.New("it is a VMDK that is made on another disk, which is not brought in with it: convert " +
				"it " +
				"to one of its own (qemu-img convert)")
		default:
			return fmt.Errorf("it is a VMDK whose description has a field that is not read here: %.60q", key)
		}
	}
	if fields["createType"] == "" || extents != 1 {
		return errors.New("it is a VMDK whose disk is in more than one file: convert it to one file " +
			"(monolithicSparse or streamOptimized)")
	}
	return nil
}

// within reads what has to be in a file.
func within(file io.ReaderAt, into []byte, at, size int64) error {
	if at < 0 || at > size || int64(len(into)) > size-at {
		return cutOff(max(at, size+1), size)
	}
	_, err := file.ReadAt(into, at)
	return err
}

// checkVHD looks at the footer, by "Virtual Hard Disk Image Format
// Specification". A growing disk has a copy of it at its beginning, which
// readers may go by.
func checkVHD(head, footer []byte, size int64) (unpacked int64, err error) {
	unpacked = int64(binary.BigEndian.Uint64(footer[48:]))
	if unpacked < 0 || unpacked > mostDisk {
		return 0, errors.New("it is a VHD whose footer makes no sense")
	}
	switch kind := binary.BigEndian.Uint32(footer[60:]); kind {
	case 2: // of fixed size
		if bytes.HasPrefix(head, []byte("conectix")) && size > sector {
			return 0, errors.New("it is a VHD that is of fixed size by its end, and not by its beginning")
		}
		return size, nil
	case 3: // of growing size
		if !bytes.Equal(head[:min(len(head), sector)], footer) {
			return 0, errors.New("it is a VHD whose beginning and end contradict each other")
		}
		return unpacked, nil
	case 4:
		return 0, errors.New("it is a VHD that is made on another disk, which is not brought in with it: merge it " +
			"with that one first")
	default:
		return 0, fmt.Errorf("it is a VHD of a kind that is not known (%d)", kind)
	}
}

// checkVHDX looks for the size and for a parent in the metadata, by "[MS-VHDX]: Virtual Hard Disk v2". Whether the
// file is complete is found by the converter, which reads its table of blocks.
func checkVHDX(file io.ReaderAt, size int64) (unpacked int64, err error) {
	const (
		tables    = 192 << 10 // where the first table of regions is
		tableSize = 64 << 10
		metadata  = "\x06\xa2\x7c\x8b\x90\x47\x9a\x4b\xb8\xfe\x57\x5f\x05\x0f\x88\x6e"
		settings  = "\x37\x67\xa1\xca\x36\xfa\x43\x4d\xb3\xb6\x33\xf0\xaa\x44\xe7\x6b"
		diskSize  = "\x24\x42\xa5\x2f\x1b\xcd\x76\x48\xb2\x11\x5d\xbe\xd8\x3b\xf4\xb8"
	)
	le := binary.LittleEndian
	regions := make([]byte, tableSize)
	if err := within(file, regions, tables, size); err != nil {
		return 0, err
	}
	if !bytes.HasPrefix(regions, []byte("regi")) {
		return 0, errors.New("it is a VHDX whose table of regions is damaged")
	}
	at, err := one(regions[16:], 32, le.Uint32(regions[8:]), metadata)
	if err != nil {
		return 0, fmt.Errorf("it is a VHDX whose metadata is not there: %w", err)
	}
	begin := int64(le.Uint64(at[16:]))
	items := make([]byte, tableSize)
	if err := within(file, items, begin, size); err != nil {
		return 0, err
	}
	if !bytes.HasPrefix(items, []byte("metadata")) {
		return 0, errors.New("it is a VHDX whose metadata is damaged")
	}
	values := map[string]uint64{}
	for _, id := range []string{settings, diskSize} {
		item, err := one(items[32:], 32, uint32(le.Uint16(items[10:])), id)
		if err != nil {
			return 0, fmt.Errorf("it is a VHDX whose metadata is damaged: %w", err)
		}
		var value [8]byte
		if err := within(file, value[:], begin+int64(le.Uint32(item[16:])), size); err != nil {
			return 0, err
		}
		values[id] = le.Uint64(value[:])
	}
	if values[settings]>>32&2 != 0 {
		return 0, errors.New("it is a VHDX that is made on another disk, which is not brought in with it: merge it " +
			"with that one first")
	}
	if values[diskSize] > mostDisk {
		return 0, errors.New("it is a VHDX whose size makes no sense")
	}
	return int64(values[diskSize]), nil
}

// one returns the entry of a table that begins with an identifier. There has to be exactly one.
func one(table []byte, length int, entries uint32, id string) (found []byte, err error) {
	for n := range min(int(entries), len(table)/length) {
		entry := table[n*length : (n+1)*length]
		if string(entry[:len(id)]) != id {
			continue
		}
		if found != nil {
			return nil, errors.New("an entry stands there twice")
		}
		found = entry
	}
	if found == nil {
		return nil, errors.New("an entry is missing")
	}
	return found, nil
}
