package live

import (
	"bytes"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"image/png"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// painted is a picture of one colour as a PNG.
func painted(t testing.TB, width, height int, paint color.Color) []byte {
	of := image.NewNRGBA(image.Rect(0, 0, width, height))
	for i := 0; i < len(of.Pix); i += 4 {
		c := color.NRGBAModel.Convert(paint).(color.NRGBA)
		copy(of.Pix[i:], []byte{c.R, c.G, c.B, c.A})
	}
	var out bytes.Buffer
	require.NoError(t, png.Encode(&out, of))
	return out.Bytes()
}

func TestPicturesAreDrawnSmall(t *testing.T) {
	glow := color.NRGBA{0xf2, 0xb1, 0x34, 0xff}
	for name, of := range map[string]struct {
		data          []byte
		width, height int
		paint         color.Color
	}{
		"wide":          {painted(t, 1200, 630, glow), 300, 158, glow},
		"tall":          {painted(t, 40, 800, glow), 15, 300, glow},
		"a line":        {painted(t, 4000, 1, glow), 300, 1, glow},
		"small already": {painted(t, 32, 20, glow), 32, 20, glow},
		"seen through":  {painted(t, 64, 64, color.NRGBA{}), 64, 64, color.White},
	} {
		drawn, err := jpeg.Decode(bytes.NewReader(drawnSmall(of.data)))
		require.NoError(t, err, name)
		assert.Equal(t, image.Pt(of.width, of.height), drawn.Bounds().Max, name)
		r, g, b, _ := drawn.At(of.width/2, of.height/2).RGBA()
		wr, wg, wb, _ := of.paint.RGBA()
		for i, got := range []uint32{r, g, b} {
			assert.InDelta(t, []uint32{wr, wg, wb}[i]>>8, got>>8, 6, name)
		}
	}
	assert.Less(t, len(drawnSmall(painted(t, 1200, 630, glow))), 4<<10)
}

// What is no picture, or unfolds to more than is drawn, is left out; and nothing of a file but what is seen of it comes along.
func TestOtherPicturesAreNotDrawn(t *testing.T) {
	bomb := painted(t, 4, 4, color.Black)
	copy(bomb[16:24], []byte{0, 0, 0x80, 0, 0, 0, 0x80, 0}) // width and height of a PNG's header (RFC 2083 §4.1.1)
	for name, data := range map[string][]byte{"nothing": nil, "text": []byte("<svg/>"), "cut off": painted(t, 300, 300, color.White)[:90], "a header of 2 GiB": bomb,
		"too many pixels": painted(t, 2400, 1400, color.White), "too long": painted(t, maxSide+1, 1, color.White)} {
		assert.Nil(t, drawnSmall(data), name)
	}
	var film bytes.Buffer
	frame := image.NewPaletted(image.Rect(0, 0, 9, 9), color.Palette{color.White, color.Black})
	require.NoError(t, gif.EncodeAll(&film, &gif.GIF{Image: []*image.Paletted{frame, frame}, Delay: []int{1, 1}}))
	assert.NotNil(t, drawnSmall(film.Bytes()), "of a film the first picture")
	assert.NotContains(t, string(drawnSmall(append(painted(t, 50, 50, color.White), "<script>INSIDE"...))), "INSIDE")
}

func FuzzDrawnSmall(f *testing.F) {
	f.Add(painted(f, 30, 20, color.White))
	var photo bytes.Buffer
	require.NoError(f, jpeg.Encode(&photo, image.NewGray(image.Rect(0, 0, 16, 16)), nil))
	f.Add(photo.Bytes())
	f.Add([]byte("GIF89a\x01\x00\x01\x00\x00\x00\x00,\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;"))
	f.Add([]byte("RIFF\x1a\x00\x00\x00WEBPVP8L\r\x00\x00\x00/\x00\x00\x00\x10\x07\x10\x11\x11\x88\x88\xfe\x07\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if drawn := drawnSmall(data); drawn != nil {
			size, err := jpeg.DecodeConfig(bytes.NewReader(drawn))
			require.NoError(t, err)
			assert.LessOrEqual(t, max(size.Width, size.Height), smallSide)
		}
	})
}
