package blocks_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
	"pgregory.net/rapid"

	"nimblepane/core/blocks"
)

// content makes a file of so many blocks, each of which is told by its number; 0 is all zero.
func content(numbers ...int) []byte {
	var file []byte
	for _, n := range numbers {
		block := make([]byte, blocks.Size)
		if n != 0 {
			r := rand.New(rand.NewPCG(uint64(n), 0))
			for i := range block {
				block[i] = byte(r.Uint32() & 15) // which packs well
			}
		}
		file = append(file, block...)
	}
	return file
}

func mapOf(t require.TestingT, file []byte) *blocks.Map {
	m := blocks.NewMapper(int64(len(file)))
	_, err := m.Write(file)
	require.NoError(t, err)
	made, err := m.Map()
	require.NoError(t, err)
	return made
}

func TestAMapSaysWhatAFileConsistsOf(t *testing.T) {
	t.Parallel()
	file := append(content(1, 0, 2, 1), 7, 7, 7)
	m := mapOf(t, file)
	require.Len(t, m.Digests, 5)
	require.Equal(t, m.Digests[0], m.Digests[3])
	require.True(t, m.Digests[1].IsZero())
	require.Equal(t, blocks.Digest(blake3.Sum256([]byte{7, 7, 7})), m.Digests[4])
	sum := sha256.Sum256(file)
	require.Equal(t, "sha256:"+hex.EncodeToString(sum[:]), m.Digest())
	offset, n := m.Extent(4)
	require.Equal(t, int64(4*blocks.Size), offset)
	require.Equal(t, 3, n)
	require.Equal(t, int64(3*blocks.Size+3), m.Held())
	require.Equal(t, int64(blocks.Size+3), m.Bytes([]blocks.Run{{First: 1, Count: 1}, {First: 4, Count: 1}}))
	require.Empty(t, mapOf(t, nil).Digests)

	short := blocks.NewMapper(10 * blocks.Size)
	_, err := short.Write(file)
	require.NoError(t, err)
	_, err = short.Map()
	require.ErrorContains(t, err, "was said to have")
}

func TestTheLargestFilesHaveLargerBlocks(t *testing.T) {
	t.Parallel()
	require.Equal(t, 64<<10, blocks.SizeFor(0))
	require.Equal(t, 64<<10, blocks.SizeFor(128<<30))
	require.Equal(t, 128<<10, blocks.SizeFor(128<<30+1))
	require.Equal(t, 64<<20, blocks.SizeFor(blocks.Largest))
}

func TestAMapIsReadAsItWasWritten(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		file := content(rapid.SliceOfN(rapid.IntRange(0, 9), 0, 5).Draw(t, "blocks")...)
		file = append(file, rapid.SliceOfN(rapid.Byte(), 0, 9).Draw(t, "rest")...)
		m := mapOf(t, file)
		var text bytes.Buffer
		require.NoError(t, m.Write(&text))
		whole := bytes.Clone(text.Bytes())
		again, err := blocks.Read(&text)
		require.NoError(t, err)
		require.Equal(t, m, again)

		// Whatever is cut off or changed of it, it is no map.
		cut := rapid.IntRange(0, len(whole)-1).Draw(t, "cut")
		_, err = blocks.Read(bytes.NewReader(whole[:cut]))
		require.ErrorIs(t, err, blocks.ErrNoMap)
		whole[cut] ^= 1
		_, err = blocks.Read(bytes.NewReader(whole))
		require.ErrorIs(t, err, blocks.ErrNoMap)
	})
}

func added(t *testing.T, x *blocks.Index, m *blocks.Map) bool {
	t.Helper()
	var text bytes.Buffer
	require.NoError(t, m.Write(&text))
	ok, err := x.Add(&text)
	require.NoError(t, err)
	return ok
}

func TestBlocksAreFoundWhereverTheyAre(t *testing.T) {
	t.Parallel()
	x := blocks.NewIndex(blocks.Size)
	require.True(t, added(t, x, mapOf(t, content(1, 0, 2, 3))))
	larger := &blocks.Map{File: 1 << 40, Block: blocks.SizeFor(1 << 40)}
	for range larger.File / int64(larger.Block) {
		larger.Digests = append(larger.Digests, blocks.Digest{1})
	}
	require.False(t, added(t, x, larger), "blocks of another size")
	require.True(t, added(t, x, mapOf(t, content(4, 5, 1))))
	_, err := x.Add(bytes.NewReader([]byte("hello")))
	require.ErrorIs(t, err, blocks.ErrNoMap)
	full := &blocks.Map{File: 128 << 30, Block: blocks.Size, Digests: make([]blocks.Digest, 128<<30/blocks.Size)}
	require.False(t, added(t, x, full), "they do not fit")
	x.Sort()
	for wanted, want := range map[int][2]int{1: {0, 0}, 2: {0, 2}, 3: {0, 3}, 4: {1, 0}, 5: {1, 1}} {
		which, block, ok := x.Find(blocks.Of(content(wanted)))
		require.True(t, ok)
		require.Equal(t, want, [2]int{which, block})
	}
	for _, none := range []blocks.Digest{blocks.Of(content(6)), {}, {1}} {
		_, _, ok := x.Find(none)
		require.False(t, ok)
	}
	_, _, ok := blocks.NewIndex(blocks.Size).Find(blocks.Of(content(1)))
	require.False(t, ok)
}

func TestRunsAreTheirBlocks(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		numbers := rapid.SliceOfDistinct(rapid.IntRange(0, 40), rapid.ID).Draw(t, "numbers")
		slices.Sort(numbers)
		var runs []blocks.Run
		for _, n := range numbers {
			runs = blocks.Add(runs, n)
		}
		require.Equal(t, numbers, each(runs))
		require.Equal(t, len(numbers), blocks.Count(runs))
		require.True(t, (&blocks.Map{Digests: make([]blocks.Digest, 41)}).Within(runs))
		n := rapid.IntRange(1, 50).Draw(t, "first")
		first, rest := blocks.Cut(runs, n)
		require.Equal(t, numbers, append(each(first), each(rest)...))
		require.Equal(t, min(n, len(numbers)), blocks.Count(first))
	})
	m := &blocks.Map{Digests: make([]blocks.Digest, 10)}
	for _, wrong := range [][]blocks.Run{
		{{First: -1, Count: 1}},
		{{First: 0, Count: 0}},
		{{First: 0, Count: 11}},
		{{First: 9, Count: 2}},
		{{First: 3, Count: 1}, {First: 3, Count: 1}},
		{{First: 1 << 62, Count: 1 << 62}},
	} {
		require.False(t, m.Within(wrong), wrong)
	}
}

func each(runs []blocks.Run) []int {
	numbers := []int{}
	for _, r := range runs {
		for i := range r.Count {
			numbers = append(numbers, r.First+i)
		}
	}
	return numbers
}

func TestBlocksArriveAsTheyWereSent(t *testing.T) {
	t.Parallel()
	var line bytes.Buffer
	p := blocks.NewSender(&line)
	for n := range 40 {
		require.NoError(t, p.Add(content(n)))
	}
	require.NoError(t, p.Close())
	require.Less(t, line.Len(), 40*blocks.Size*7/10, "packed")
	sent := bytes.Clone(line.Bytes())

	u := blocks.NewTaker(&line, blocks.Size)
	defer u.Close()
	for n := range 40 {
		block, err := u.Next(blocks.Size)
		require.NoError(t, err)
		require.Equal(t, content(n), block)
	}
	for range 2 {
		_, err := u.Next(blocks.Size)
		require.ErrorIs(t, err, io.EOF)
	}

	// A line that breaks, wherever it does, is told from one that ended.
	for _, cut := range []int{0, 3, 8, 100, len(sent) / 2, len(sent) - 8, len(sent) - 1} {
		require.ErrorIs(t, taken(sent[:cut]), io.ErrUnexpectedEOF, cut)
	}
	for _, wrong := range [][]byte{
		[]byte("HTTP/1.1 502 Bad Gateway\r\n\r\n"),
		{0, 0, 0, 0, 0, 0, 0, 9},
		{0, 0, 0, 1, 0, 0, 0, 1, 42},
		append([]byte{0, 1, 0, 0}, sent[4:]...),
	} {
		require.ErrorIs(t, taken(wrong), blocks.ErrBadFrame, wrong)
	}
}

// taken takes all blocks, and returns how that ended.
func taken(sent []byte) error {
	u := blocks.NewTaker(bytes.NewReader(sent), blocks.Size)
	defer u.Close()
	for {
		if _, err := u.Next(blocks.Size); err != nil {
			return err
		}
	}
}

func FuzzFrames(f *testing.F) {
	var line bytes.Buffer
	p := blocks.NewSender(&line)
	_ = p.Add(content(1))
	_ = p.Close()
	f.Add(line.Bytes())
	f.Fuzz(func(t *testing.T, sent []byte) {
		err := taken(sent)
		require.True(t, errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err,
			blocks.ErrBadFrame), err)
	})
}

func FuzzMap(f *testing.F) {
	var text bytes.Buffer
	require.NoError(f, mapOf(f, content(1, 0, 2)).Write(&text))
	f.Add(text.Bytes())
	f.Fuzz(func(t *testing.T, text []byte) {
		if _, err := blocks.Read(bytes.NewReader(text)); err != nil {
			require.ErrorIs(t, err, blocks.ErrNoMap)
		}
	})
}
