package blocks

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"
)

// Blocks are sent as frames of about a mebibyte: how long they are together and
// how long packed, as big-endian numbers of 4 bytes each, and the packed blocks,
// as Zstandard (RFC 8878). A frame of nothing is the end: a line that broke has none.

const (
	frame = 1 << 20
	// window is how far back the packing looks, in bytes. Both ends keep so much in memory.
	window = 1 << 20
)

// Sender sends blocks.
type Sender struct {
	w       io.Writer
	encoder *zstd.Encoder
	blocks  []byte
	packed  []byte
}

// NewSender returns one that sends to w.
func NewSender(w io.Writer) *Sender {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedDefault),
		zstd.WithWindowSize(window), zstd.WithEncoderCRC(false))
	if err != nil {
		panic(err) // the options are ours
	}
	return &Sender{w: w, encoder: e}
}

// Add sends a block, perhaps together with the next.
func (p *Sender) Add(block []byte) error {
	p.blocks = append(p.blocks, block...)
	if len(p.blocks) < frame {
		return nil
	}
	return p.flush()
}

func (p *Sender) flush() error {
	p.packed = append(p.packed[:0], 0, 0, 0, 0, 0, 0, 0, 0)
	if len(p.blocks) > 0 {
		p.packed = p.encoder.EncodeAll(p.blocks, p.packed)
	}
	binary.BigEndian.PutUint32(p.packed, uint32(len(p.blocks)))
	binary.BigEndian.PutUint32(p.packed[4:], uint32(len(p.packed)-8))
	p.blocks = p.blocks[:0]
	_, err := p.w.Write(p.packed)
	return err
}

// Close sends what was added, and the end.
func (p *Sender) Close() error {
	if len(p.blocks) > 0 {
		if err := p.flush(); err != nil {
			return err
		}
	}
	return p.flush()
}

// Taker takes blocks that were sent.
type Taker struct {
	r       io.Reader
	decoder *zstd.Decoder
	packed  []byte
	most    uint32 // bytes of a frame's blocks
	space   []byte
	blocks  []byte // what is left of the last frame
	ended   bool
}

// NewTaker returns one that takes blocks of at most so many bytes from r. Whoever is done with it closes it.
func NewTaker(r io.Reader, block int) *Taker {
	most := uint32(frame + block)
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(uint64(most)),
		zstd.WithDecoderMaxWindow(window))
	if err != nil {
		panic(err) // the options are ours
	}
	return &Taker{r: r, decoder: d, most: most}
}

// Close lets go of its memory.
func (u *Taker) Close() { u.decoder.Close() }

// ErrBadFrame is the error of what is no frame, or one that was changed.
var ErrBadFrame = errors.New("what came is no frame of blocks, or was changed on the way")

// Next returns the next block, which has so many bytes and is valid until the next call. After the last it is io.EOF;
// of a line that broke, io.ErrUnexpectedEOF or the line's error; else ErrBadFrame.
func (u *Taker) Next(n int) ([]byte, error) {
	if len(u.blocks) == 0 {
		if err := u.frame(); err != nil {
			return nil, err
		}
	}
	if len(u.blocks) < n {
		return nil, fmt.Errorf("%w: it ends within a block", ErrBadFrame)
	}
	block := u.blocks[:n]
	u.blocks = u.blocks[n:]
	return block, nil
}

func (u *Taker) frame() error {
	if u.ended {
		return io.EOF
	}
	var head [8]byte
	if _, err := io.ReadFull(u.r, head[:]); err != nil {
		return broken(err)
	}
	long, packed := binary.BigEndian.Uint32(head[:]), binary.BigEndian.Uint32(head[4:])
	if long == 0 && packed == 0 {
		u.ended = true
		return io.EOF
	}
	if long == 0 || long > u.most || packed > u.most+frame {
		return ErrBadFrame
	}
	if cap(u.packed) < int(packed) {
		u.packed = make([]byte, packed)
	}
	u.packed = u.packed[:packed]
	if _, err := io.ReadFull(u.r, u.packed); err != nil {
		return broken(err)
	}
	var err error
	if u.space, err = u.decoder.DecodeAll(u.packed, u.space[:0]); err != nil || len(u.space) != int(long) {
		return ErrBadFrame
	}
	u.blocks = u.space
	return nil
}

// broken is the error of a line that ended before the end was sent.
func broken(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}
