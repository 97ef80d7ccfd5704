package disk

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"
)

// Image is the disk that a qcow2 file holds, by "The qcow2 disk image format"
// of QEMU (docs/interop/qcow2.rst). It is not safe for concurrent use.
type Image struct {
	Size int64 // of the disk, in bytes

	file        io.ReaderAt
	clusterBits uint32
	version     uint32
	l1          int64 // where the first table is
	l1Entries   int64
	zstandard   bool

	table   []byte // the last second table that was read
	tableAt int64
	cluster []byte // the last cluster that was unpacked
	packed  uint64 // its entry
}

// ErrNotRead is the error of a file that is no qcow2, or one of a form that is not read here.
var ErrNotRead = errors.New("it is not a qcow2 disk of a form that is read here")

// Of the features that one has to know to read a disk.
const (
	dirty        = 1 << 0 // counts of references are wrong, which no reader needs
	externalData = 1 << 2
	compression  = 1 << 3 // is not that of old files
	extendedL2   = 1 << 4
)

// header is what stands at the beginning of a qcow2 file.
type header struct {
	*Image
	backing  bool
	crypt    uint32
	features uint64
}

func readHeader(file io.ReaderAt) (h header, err error) {
	be := binary.BigEndian
	b := make([]byte, 112)
	if _, err := file.ReadAt(b, 0); err != nil && !errors.Is(err, io.EOF) {
		return h, err
	}
	if string(b[:4]) != "QFI\xfb" {
		return h, ErrNotRead
	}
	m := &Image{
		Size: int64(be.Uint64(b[24:])), file: file, version: be.Uint32(b[4:]), clusterBits: be.Uint32(b[20:]),
		l1: int64(be.Uint64(b[40:])), l1Entries: int64(be.Uint32(b[36:])), tableAt: -1,
	}
	h = header{Image: m, backing: be.Uint64(b[8:]) != 0, crypt: be.Uint32(b[32:])}
	if m.version >= 3 {
		h.features = be.Uint64(b[72:])
		if be.Uint32(b[100:]) > 104 && b[104] > 1 {
			return h, ErrNotRead // compressed in a way that is not known
		}
		m.zstandard = be.Uint32(b[100:]) > 104 && b[104] == 1
	}
	if m.version < 2 || m.version > 3 || m.clusterBits < 9 || m.clusterBits > 21 || m.Size < 0 || m.Size > mostDisk ||
		m.l1 < 0 || m.l1Entries > 32<<20/8 {
		return h, ErrNotRead
	}
	return h, nil
}

// OpenImage returns the disk in a qcow2 file that needs no other one.
func OpenImage(file io.ReaderAt) (*Image, error) {
	h, err := readHeader(file)
	if err != nil {
		return nil, err
	}
	if h.crypt != 0 || h.features&(extendedL2|externalData) != 0 {
		return nil, ErrNotRead
	}
	return h.Image, nil
}

const (
	offsets    = 1<<56 - 1<<9 // the bits of an entry that are an offset
	compressed = 1 << 62
	zero       = 1
)

func (m *Image) entry(at int64) (uint64, error) {
	var b [8]byte
	_, err := m.file.ReadAt(b[:], at)
	return binary.BigEndian.Uint64(b[:]), err
}

// ReadAt reads what the disk holds. What was never written is zero.
func (m *Image) ReadAt(b []byte, at int64) (n int, err error) {
	for n < len(b) {
		if at >= m.Size {
			return n, io.EOF
		}
		size := int64(1) << m.clusterBits
		in := at % size
		piece := b[n:min(len(b), n+int(min(size-in, m.Size-at)))]
		if err := m.readIn(piece, at/size, in); err != nil {
			return n, err
		}
		n, at = n+len(piece), at+int64(len(piece))
	}
	return n, nil
}

// readIn reads from a byte on in a cluster.
func (m *Image) readIn(b []byte, cluster, in int64) error {
	inTable := int64(1) << (m.clusterBits - 3) // entries of a second table
	if cluster/inTable >= m.l1Entries {
		return ErrNotRead
	}
	l1, err := m.entry(m.l1 + 8*(cluster/inTable))
	if err != nil {
		return err
	}
	clear(b)
	at := int64(l1 & offsets)
	if at == 0 {
		return nil
	}
	if at != m.tableAt {
		m.table = make([]byte, 8*inTable)
		m.tableAt = -1
		if _, err := m.file.ReadAt(m.table, at); err != nil {
			return err
		}
		m.tableAt = at
	}
	l2 := binary.BigEndian.Uint64(m.table[8*(cluster%inTable):])
	switch {
	case l2&compressed != 0:
		if err := m.unpack(l2); err != nil {
			return err
		}
		copy(b, m.cluster[in:])
		return nil
	case l2&zero != 0 && m.version >= 3, l2&offsets == 0:
		return nil
	}
	_, err = m.file.ReadAt(b, int64(l2&offsets)+in)
	return err
}

// where says where the packed cluster of an entry is, and how long it may be.
func (m *Image) where(entry uint64) (at, length int64) {
	split := 62 - (m.clusterBits - 8)
	at = int64(entry & (1<<split - 1))
	sectors := int64(entry & (1<<62 - 1) >> split)
	return at, (sectors+1)*sector - at%sector
}

func (m *Image) unpack(entry uint64) error {
	if entry == m.packed {
		return nil
	}
	at, length := m.where(entry)
	from := io.NewSectionReader(m.file, at, length)
	m.cluster, m.packed = make([]byte, 1<<m.clusterBits), 0
	var r io.Reader = flate.NewReader(from)
	if m.zstandard {
		z, err := zstd.NewReader(from, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
		if err != nil {
			return err
		}
		defer z.Close()
		r = z
	}
	if _, err := io.ReadFull(r, m.cluster); err != nil {
		return fmt.Errorf("a compressed part of it is damaged: %w", err)
	}
	m.packed = entry
	return nil
}

// checkQCOW2 refuses a file that needs another file or a key, has unknown features, or is cut off.
func checkQCOW2(file io.ReaderAt, size int64) (unpacked int64, err error) {
	if size < 72 {
		return 0, cutOff(72, size)
	}
	h, err := readHeader(file)
	switch {
	case errors.Is(err, ErrNotRead):
		return 0, errors.New("it is a qcow2 whose header makes no sense")
	case err != nil:
		return 0, err
	case h.backing:
		return 0, errors.New("it is a qcow2 that is made on another disk, which is not brought in with it: convert " +
			"it " +
			"to one of its own first (qemu-img convert -O qcow2)")
	case h.features&externalData != 0:
		return 0, errors.New("it is a qcow2 whose disk is in another file: convert it to one file first (qemu-img " +
			"convert -O qcow2)")
	case h.crypt != 0:
		return 0, errors.New("it is an encrypted qcow2: decrypt it first (qemu-img convert -O qcow2)")
	case h.features&extendedL2 != 0:
		return 0, errors.New("it is a qcow2 with subclusters, which is not read here: convert it first (qemu-img " +
			"convert -O qcow2 -o extended_l2=off)")
	case h.features&^(dirty|compression) != 0:
		return 0, fmt.Errorf("it is a qcow2 with features that are not read here (incompatible features %#x): convert "+
			"it first (qemu-img convert -O qcow2 -o compat=1.1)", h.features)
	}
	return h.whole(size)
}

// whole returns an error if part of the disk would be beyond the end of the
// file, or if parts of it share stored data: then a small file would be a
// large disk. It returns how many bytes of the disk are stored.
func (m *Image) whole(size int64) (unpacked int64, err error) {
	inTable := int64(1) << (m.clusterBits - 3)
	cluster := int64(1) << m.clusterBits
	clusters := (m.Size + cluster - 1) >> m.clusterBits
	tables := (clusters + inTable - 1) / inTable
	if tables > m.l1Entries {
		return 0, errors.New("it is a qcow2 whose tables are smaller than its disk")
	}
	first, table := make([]byte, 8*tables), make([]byte, 8*inTable)
	if err := within(m.file, first, m.l1, size); err != nil {
		return 0, err
	}
	be := binary.BigEndian
	seen, plain := map[int64]bool{}, int64(0)
	for ; len(first) > 0; first = first[8:] {
		at := int64(be.Uint64(first) & offsets)
		if at == 0 {
			continue
		}
		if seen[at] {
			return 0, errors.New("it is a qcow2 in which two parts of the disk share a table")
		}
		seen[at] = true
		if err := within(m.file, table, at, size); err != nil {
			return 0, err
		}
		for entries := table; len(entries) > 0; entries = entries[8:] {
			entry, end := be.Uint64(entries), int64(0)
			switch {
			case entry&compressed != 0:
				end, _ = m.where(entry) // the last one may be shorter than it could be
				unpacked += cluster
			case entry&zero != 0 && m.version >= 3:
				end = int64(entry & offsets)
			case entry&offsets != 0:
				end = int64(entry & offsets)
				plain += cluster
			}
			if end >= size {
				return 0, cutOff(end, size)
			}
		}
	}
	// Each of these clusters has its own place in the file.
	if plain > size+cluster {
		return 0, errors.New("it is a qcow2 in which parts of the disk share a place in the file")
	}
	return unpacked + plain, nil
}

var _ io.ReaderAt = (*Image)(nil)

// encryptedBy says what encrypts what begins like this, "" if nothing is seen to.
func encryptedBy(head []byte) string {
	switch {
	case bytes.HasPrefix(head, []byte("LUKS\xba\xbe")):
		return "LUKS"
	case len(head) > 11 && string(head[3:11]) == "-FVE-FS-":
		return "BitLocker"
	}
	return ""
}
