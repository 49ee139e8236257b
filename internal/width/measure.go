//go:build ignore

// Measure writes glyphs.go from a font file: go run measure.go LiberationSans-Regular.ttf (Debian package
// fonts-liberation, SIL Open Font License; its widths are those of the sans-serif face most results are set in).
package main

import (
	"bytes"
	"fmt"
	"go/format"
	"log"
	"os"

	"golang.org/x/image/font"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
)

// last is the last character measured: Latin with all its accents, Greek and Cyrillic.
const last = 0x52f

func main() {
	data, err := os.ReadFile(os.Args[1])
	if err != nil {
		log.Fatal(err)
	}
	face, err := sfnt.Parse(data)
	if err != nil {
		log.Fatal(err)
	}
	units := face.UnitsPerEm()
	var buffer sfnt.Buffer
	var out bytes.Buffer
	fmt.Fprintf(&out, `package width

// Written by measure.go; do not edit.

const unitsPerEm = %d

// glyphs are the advance widths of U+0000 to U+%04X in units; 0 where the face has no such glyph.
var glyphs = [...]uint16{`, units, last)
	for r := rune(0); r <= last; r++ {
		width := 0
		if i, err := face.GlyphIndex(&buffer, r); err == nil && i != 0 {
			advance, err := face.GlyphAdvance(&buffer, i, fixed.I(int(units)), font.HintingNone)
			if err != nil {
				log.Fatal(err)
			}
			width = advance.Round()
		}
		if r%16 == 0 {
			fmt.Fprint(&out, "\n")
		}
		fmt.Fprintf(&out, "%d, ", width)
	}
	fmt.Fprint(&out, "\n}\n")
	source, err := format.Source(out.Bytes())
	if err != nil {
		log.Fatal(err)
	}
	if err := os.WriteFile("glyphs.go", source, 0o644); err != nil {
		log.Fatal(err)
	}
}
