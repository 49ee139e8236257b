package live

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"math"

	"golang.org/x/image/draw"

	"weltaxis/internal/facts"
)

// The bounds of pictures that are kept small. What is larger than maxDrawn is not drawn: a small file may unfold to any size.
const (
	maxSmall     = 20      // different pictures
	maxDrawn     = 3 << 20 // pixels of one
	maxSide      = 1 << 13 // pixels of one of its sides
	smallSide    = 300     // pixels of the longer side, at most
	smallQuality = 72
)

// drawnSmall draws a picture anew as a small JPEG on white, without anything else that the file carries. It is nil for what cannot be drawn.
func drawnSmall(data []byte) []byte {
	size, _, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil || size.Width < 1 || size.Height < 1 || max(size.Width, size.Height) > maxSide || size.Width*size.Height > maxDrawn {
		return nil
	}
	drawn, _, err := image.Decode(bytes.NewReader(data))
	if err != nil || drawn.Bounds().Empty() {
		return nil
	}
	bounds := drawn.Bounds()
	scale := min(smallSide/float64(max(bounds.Dx(), bounds.Dy())), 1)
	side := func(n int) int { return max(int(math.Round(float64(n)*scale)), 1) }
	out := image.NewRGBA(image.Rect(0, 0, side(bounds.Dx()), side(bounds.Dy())))
	draw.Draw(out, out.Rect, image.NewUniform(color.White), image.Point{}, draw.Src)
	draw.CatmullRom.Scale(out, out.Rect, drawn, bounds, draw.Over, nil)
	var written bytes.Buffer
	if jpeg.Encode(&written, out, &jpeg.Options{Quality: smallQuality}) != nil {
		return nil
	}
	return written.Bytes()
}

// keepSmall keeps a picture small, if such are wanted and there is room.
func (v *visit) keepSmall(address string, data []byte) {
	if !v.Small || len(v.seen.Pictures) >= maxSmall {
		return
	}
	if drawn := drawnSmall(data); drawn != nil {
		v.seen.Pictures = append(v.seen.Pictures, facts.Picture{Address: address, Small: drawn})
	}
}
