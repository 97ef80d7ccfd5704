package libvirt

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image/png"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAPictureOfADisplayIsPNGInTheEnd(t *testing.T) {
	t.Parallel()
	out, err := asPNG([]byte("P6\n2 1\n255\n\xff\x00\x00\x00\x00\xff"))
	require.NoError(t, err)
	p, err := png.Decode(bytes.NewReader(out))
	require.NoError(t, err)
	require.Equal(t, 2, p.Bounds().Dx())
	r, _, b, _ := p.At(1, 0).RGBA()
	require.Equal(t, []uint32{0, 0xffff}, []uint32{r, b})
	again, err := asPNG(out)
	require.NoError(t, err)
	require.Equal(t, out, again)
	wide := bytes.Clone(out) // claims another width in its first chunk
	binary.BigEndian.PutUint32(wide[16:], 1<<15)
	binary.BigEndian.PutUint32(wide[29:], crc32.ChecksumIEEE(wide[12:29]))
	_, err = asPNG(wide)
	require.ErrorContains(t, err, "a picture of 32768 by 1 pixels is not taken")
	for _, wrong := range []string{
		"", "\x89PNG\r\n\x1a\nnothing", "GIF89a", "P6\n2 1\n255\nxx", "P6\n2 1\n65535\n123456789012", "P6\n-1 1\n255\n",
	} {
		_, err := asPNG([]byte(wrong))
		require.Error(t, err, wrong)
	}
}
