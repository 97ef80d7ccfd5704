//go:build linux

package open

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/png"
	"os"
)

// mostOfPicture is how large a picture may be, in bytes. A larger one is left out.
const mostOfPicture = 512 << 10

// picture is what is on the X server's screen, as PNG; nil if there is none.
func (d Desk) picture() []byte {
	if d.frame == "" {
		return nil
	}
	frame, err := os.ReadFile(d.frame)
	if err != nil {
		return nil
	}
	p, err := readFrame(frame)
	if err != nil {
		return nil
	}
	var out bytes.Buffer
	if err := png.Encode(&out, p); err != nil || out.Len() > mostOfPicture {
		return nil
	}
	return out.Bytes()
}

// frameHeader is the header of an X window dump, version 7, as XWDFile.h of X11 describes it.
type frameHeader struct {
	HeaderSize, FileVersion, PixmapFormat, PixmapDepth, Width, Height, XOffset, ByteOrder, BitmapUnit, BitmapBitOrder,
	BitmapPad, BitsPerPixel, BytesPerLine, VisualClass, RedMask, GreenMask, BlueMask, BitsPerRGB, ColormapEntries,
	Colors, WindowWidth, WindowHeight, WindowX, WindowY, WindowBorder uint32
}

// readFrame reads what an X server without a screen keeps in a file: pixels of 32 bits, with eight of each colour.
func readFrame(frame []byte) (image.Image, error) {
	var h frameHeader
	if err := binary.Read(bytes.NewReader(frame), binary.BigEndian, &h); err != nil {
		return nil, fmt.Errorf("it has no header: %w", err)
	}
	const mostSide = 1 << 14
	begin := int64(h.HeaderSize) + 12*int64(h.Colors) // each colour of the map takes 12 bytes
	end := begin + int64(h.BytesPerLine)*int64(h.Height)
	switch {
	case h.FileVersion != 7 || h.BitsPerPixel != 32 || h.RedMask != 0xff0000 || h.GreenMask != 0xff00 ||
		h.BlueMask != 0xff:
		return nil, errors.New("its pixels are not of 32 bits with eight of each colour")
	case h.Width > mostSide || h.Height > mostSide || h.BytesPerLine < 4*h.Width || end > int64(len(frame)):
		return nil, errors.New("it is not whole")
	}
	var order binary.ByteOrder = binary.LittleEndian
	if h.ByteOrder != 0 {
		order = binary.BigEndian
	}
	p := image.NewRGBA(image.Rect(0, 0, int(h.Width), int(h.Height)))
	for y := range int(h.Height) {
		line := frame[begin+int64(y)*int64(h.BytesPerLine):]
		for x := range int(h.Width) {
			c, to := order.Uint32(line[4*x:]), p.Pix[p.PixOffset(x, y):]
			to[0], to[1], to[2], to[3] = byte(c>>16), byte(c>>8), byte(c), 255
		}
	}
	return p, nil
}
