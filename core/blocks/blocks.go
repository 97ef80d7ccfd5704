// Package blocks knows what of a disk's file a site has to be sent: the file
// is cut into blocks, each with its digest, and whoever has a block with the
// digest already, in whatever disk and wherever in it, needs no other.
//
// The digests of a file's blocks, in their order, are its Map. An Index finds
// blocks by their digests in the maps of disks that are there. Blocks that are
// sent go as frames, compressed, in an order that both sides know.
//
// Blocks have one size, and begin at its multiples. A captured disk is a qcow2
// file whose clusters of 64 KiB each hold an aligned piece of the guest's disk,
// so that blocks of the file are blocks of the guest's disk, even where a
// package update moved them to another place in the file. This is also why
// larger blocks find less: what follows a cluster in the file depends on what
// was written before it (docs/lines.md has what was measured).
//
// Blocks are told by BLAKE3, which is several times as fast as the SHA-256 that
// tells a version's file: all blocks of a disk are looked at beside every
// delivery, and then the file as a whole is once more.
package blocks

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"

	"github.com/zeebo/blake3"
)

// Size is how large a block is, in bytes, of all files but the largest.
const Size = 64 << 10

// Largest is the largest file that is cut, in bytes.
const Largest = 128 << 40

// most is how many blocks a file is cut into at most, which keeps what has to be kept of it in memory to some 100 MB.
const most = 1 << 21

// SizeFor is how large the blocks of a file are, in bytes: Size, and twice that as often as it takes for a file of
// more than 128 GiB.
func SizeFor(file int64) int {
	size := Size
	for (file+int64(size)-1)/int64(size) > most {
		size *= 2
	}
	return size
}

// Digest is a block's BLAKE3, of 256 bits. That of a block of zeros is written as zeros: such a block is not kept.
type Digest [digestSize]byte

const digestSize = 32

// IsZero says whether the block holds nothing but zeros.
func (d Digest) IsZero() bool { return d == Digest{} }

// Of is the digest of a block.
func Of(block []byte) Digest {
	if allZero(block) {
		return Digest{}
	}
	return blake3.Sum256(block)
}

// zeros is compared with, for no loop is as fast.
var zeros [Size]byte

func allZero(block []byte) bool {
	for len(block) > 0 {
		n := min(len(block), len(zeros))
		if !bytes.Equal(block[:n], zeros[:n]) {
			return false
		}
		block = block[n:]
	}
	return true
}

// Map is what a file consists of.
type Map struct {
	File    int64             // its size, in bytes
	Block   int               // the size of its blocks, in bytes; the last may be shorter
	Whole   [sha256.Size]byte // SHA-256 of the file
	Digests []Digest
}

// Extent is where a block is in the file, in bytes.
func (m *Map) Extent(block int) (offset int64, n int) {
	offset = int64(block) * int64(m.Block)
	return offset, int(min(int64(m.Block), m.File-offset))
}

// Digest is the file's own, as a version has it: "sha256:" and hexadecimal digits.
func (m *Map) Digest() string { return "sha256:" + hex.EncodeToString(m.Whole[:]) }

// Bytes is how much of the file the blocks are.
func (m *Map) Bytes(runs []Run) (n int64) {
	for _, r := range runs {
		first, _ := m.Extent(r.First)
		last, length := m.Extent(r.First + r.Count - 1)
		n += last + int64(length) - first
	}
	return n
}

// Held is how much of the file are blocks that are not all zero, in bytes.
func (m *Map) Held() (n int64) {
	for i, d := range m.Digests {
		if !d.IsZero() {
			_, length := m.Extent(i)
			n += int64(length)
		}
	}
	return n
}

// A map is written as the mark, then, as big-endian numbers, the size of the
// file in 8 bytes and that of its blocks in 4, then the file's SHA-256, the
// digests of its blocks, and the SHA-256 of all that.
const mark = "npblocks1\n"

const headLength = len(mark) + 8 + 4 + sha256.Size

// Write writes the map.
func (m *Map) Write(w io.Writer) error {
	sum := sha256.New()
	both := io.MultiWriter(w, sum)
	head := make([]byte, 0, headLength)
	head = append(head, mark...)
	head = binary.BigEndian.AppendUint64(head, uint64(m.File))
	head = binary.BigEndian.AppendUint32(head, uint32(m.Block))
	if _, err := both.Write(append(head, m.Whole[:]...)); err != nil {
		return err
	}
	batch := make([]byte, 0, 1<<16)
	for digests := range slices.Chunk(m.Digests, cap(batch)/digestSize) {
		batch = batch[:0]
		for _, d := range digests {
			batch = append(batch, d[:]...)
		}
		if _, err := both.Write(batch); err != nil {
			return err
		}
	}
	_, err := w.Write(sum.Sum(nil))
	return err
}

// ErrNoMap is the error of what is no block map, or one that was changed or not written to its end.
var ErrNoMap = errors.New("it is no block map, or not a whole one")

// Read reads a map, of which the rest of r is none. The error is ErrNoMap, or that of r.
func Read(r io.Reader) (*Map, error) {
	var digests []Digest
	m, err := read(r, func(m *Map, i int, d Digest) {
		if digests == nil {
			digests = make([]Digest, 0, m.count()) // which is bounded, whatever its head says
		}
		digests = append(digests, d)
	})
	if err != nil {
		return nil, err
	}
	m.Digests = digests
	return m, nil
}

// count is how many blocks the file has.
func (m *Map) count() int { return int((m.File + int64(m.Block) - 1) / int64(m.Block)) }

// read reads a map, of which each has the digests.
func read(r io.Reader, each func(m *Map, i int, d Digest)) (*Map, error) {
	sum := sha256.New()
	in := io.TeeReader(r, sum)
	head := make([]byte, headLength)
	if _, err := io.ReadFull(in, head); err != nil {
		return nil, noMap(err)
	}
	rest, ok := bytes.CutPrefix(head, []byte(mark))
	if !ok {
		return nil, ErrNoMap
	}
	m := &Map{File: int64(binary.BigEndian.Uint64(rest)), Block: int(binary.BigEndian.Uint32(rest[8:]))}
	copy(m.Whole[:], rest[12:])
	if m.File < 0 || m.File > Largest || m.Block != SizeFor(m.File) {
		return nil, ErrNoMap
	}
	var buffer [1 << 16]byte
	for i, count := 0, m.count(); i < count; {
		n := min(count-i, len(buffer)/digestSize)
		if _, err := io.ReadFull(in, buffer[:n*digestSize]); err != nil {
			return nil, noMap(err)
		}
		for at := range n {
			each(m, i+at, Digest(buffer[at*digestSize:][:digestSize]))
		}
		i += n
	}
	want := sum.Sum(nil)
	got := make([]byte, sha256.Size)
	if _, err := io.ReadFull(r, got); err != nil {
		return nil, noMap(err)
	}
	if !bytes.Equal(got, want) {
		return nil, ErrNoMap
	}
	return m, nil
}

func noMap(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return ErrNoMap
	}
	return err
}

// Mapper makes the map of a file that is written to it.
type Mapper struct {
	m     Map
	whole hash.Hash
	block []byte
}

// NewMapper returns one for a file of so many bytes.
func NewMapper(file int64) *Mapper {
	size := SizeFor(file)
	return &Mapper{m: Map{File: file, Block: size}, whole: sha256.New(), block: make([]byte, 0, size)}
}

// Write is io.Writer's.
func (m *Mapper) Write(p []byte) (int, error) {
	m.whole.Write(p)
	for rest := p; len(rest) > 0; {
		n := min(len(rest), m.m.Block-len(m.block))
		m.block = append(m.block, rest[:n]...)
		rest = rest[n:]
		if len(m.block) == m.m.Block {
			m.cut()
		}
	}
	return len(p), nil
}

func (m *Mapper) cut() {
	m.m.Digests = append(m.m.Digests, Of(m.block))
	m.block = m.block[:0]
}

// Map returns the map, once the whole file was written; an error if it had another size.
func (m *Mapper) Map() (*Map, error) {
	if len(m.block) > 0 {
		m.cut()
	}
	if n := len(m.m.Digests); n != m.m.count() {
		return nil, fmt.Errorf("the file has about %d bytes and was said to have %d", int64(n)*int64(m.m.Block),
			m.m.File)
	}
	m.m.Whole = [sha256.Size]byte(m.whole.Sum(nil))
	return &m.m, nil
}
