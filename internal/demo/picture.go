package demo

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"sync"
)

// pictures are those that were drawn already, by their sizes.
var pictures sync.Map

// picture is a lantern, more or less, as a PNG of the size.
func picture(width, height int) string {
	size := [2]int{width, height}
	if drawn, there := pictures.Load(size); there {
		return drawn.(string)
	}
	drawn := draw(width, height)
	pictures.Store(size, drawn)
	return drawn
}

func draw(width, height int) string {
	night, glow := color.RGBA{0x2b, 0x21, 0x18, 0xff}, color.RGBA{0xf2, 0xb1, 0x34, 0xff}
	drawn := image.NewPaletted(image.Rect(0, 0, width, height), color.Palette{night, glow})
	radius := min(width, height) / 3
	for y := range height {
		for x := range width {
			if dx, dy := x-width/2, y-height/2; dx*dx+dy*dy < radius*radius {
				drawn.SetColorIndex(x, y, 1)
			}
		}
	}
	var out bytes.Buffer
	if err := png.Encode(&out, drawn); err != nil {
		panic(err) // a picture in memory of a size that is written above
	}
	return out.String()
}
