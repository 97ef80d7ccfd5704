package blocks

import (
	"cmp"
	"encoding/binary"
	"io"
	"slices"
)

// Index finds blocks in disks that are there, by their digests. It keeps
// eight bytes of each digest: what it finds is to be looked at before it is
// taken, which has to be done anyway.
type Index struct {
	block   int // size of the blocks
	entries []entry
	of      []int // block numbers begin anew at these, by map
	total   int
}

type entry struct {
	key uint64
	at  uint32 // among the blocks of all maps
}

// NewIndex returns an index of blocks of the size, in bytes, that has none yet.
func NewIndex(block int) *Index { return &Index{block: block} }

// Add adds the blocks that hold something of the disk that a map is read of. It says false, and has added nothing, if
// those have another size, or do not fit beside the others. The error is ErrNoMap, or that of r.
func (x *Index) Add(r io.Reader) (added bool, err error) {
	before, fits := len(x.entries), true
	m, err := read(r, func(m *Map, i int, d Digest) {
		if i == 0 {
			fits = m.Block == x.block && x.total+m.count() <= most
			if fits {
				x.entries = slices.Grow(x.entries, m.count())
			}
		}
		if fits && !d.IsZero() {
			x.entries = append(x.entries, entry{key(d), uint32(x.total + i)})
		}
	})
	if err != nil || !fits {
		x.entries = x.entries[:before]
		return false, err
	}
	x.of = append(x.of, x.total)
	x.total += m.count()
	return true, nil
}

// Sort makes the index ready to be asked, by any number at once.
func (x *Index) Sort() {
	slices.SortFunc(x.entries, func(a, b entry) int {
		return cmp.Or(cmp.Compare(a.key, b.key), cmp.Compare(a.at, b.at))
	})
}

// Find returns which disk has a block with the digest, by the order in which they were added, and which of its blocks
// that is.
func (x *Index) Find(d Digest) (which, block int, ok bool) {
	want := key(d)
	i, ok := slices.BinarySearchFunc(x.entries, want, func(e entry, k uint64) int { return cmp.Compare(e.key, k) })
	if !ok {
		return 0, 0, false
	}
	at := int(x.entries[i].at)
	for which = len(x.of) - 1; x.of[which] > at; which-- { //nolint:revive // it counts
	}
	return which, at - x.of[which], true
}

func key(d Digest) uint64 { return binary.BigEndian.Uint64(d[:]) }

// Run is blocks that follow each other.
type Run struct {
	First int `json:"first"`
	Count int `json:"count"`
}

// Add puts a block behind the runs, which end before it.
func Add(runs []Run, block int) []Run {
	if n := len(runs); n > 0 && runs[n-1].First+runs[n-1].Count == block {
		runs[n-1].Count++
		return runs
	}
	return append(runs, Run{block, 1})
}

// Count is how many blocks the runs are.
func Count(runs []Run) (n int) {
	for _, r := range runs {
		n += r.Count
	}
	return n
}

// Cut parts the runs into the first so many blocks and the others.
func Cut(runs []Run, blocks int) (first, rest []Run) {
	for i, r := range runs {
		if r.Count < blocks {
			blocks -= r.Count
			continue
		}
		first = append(slices.Clone(runs[:i]), Run{r.First, blocks})
		if r.Count > blocks {
			rest = append(rest, Run{r.First + blocks, r.Count - blocks})
		}
		return first, append(rest, runs[i+1:]...)
	}
	return runs, nil
}

// Within says whether the runs are in order, none empty, and all of the map.
func (m *Map) Within(runs []Run) bool {
	end := 0
	for _, r := range runs {
		if r.First < end || r.Count < 1 || r.Count > len(m.Digests)-r.First {
			return false
		}
		end = r.First + r.Count
	}
	return true
}
