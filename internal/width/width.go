// Package width estimates how wide a line of text is in a search result.
//
// It is an estimate: nobody outside knows the face and the hinting of a result page. It imports nothing of this
// program.
package width

import (
	"unicode"
	"unicode/utf8"
)

// How a result is set here, in pixels. Nobody outside knows how a search engine sets one, and it changes.
//
// On a wide screen the title stands in one line and the description in two; the widths are those that the trade counts
// with, and the limits title_px and description_px of the baseline, which a test holds to them. A narrow screen is 360 pixels
// wide with 16 to each side; the title has two lines there, the description three. What is cut ends in an ellipsis, for
// which there must be room.
const (
	TitleSize       = 20
	DescriptionSize = 14

	narrowColumn = 360 - 2*16

	WideTitle         = 580
	WideDescription   = 920
	NarrowTitle       = 2*narrowColumn - TitleSize
	NarrowDescription = 3*narrowColumn - DescriptionSize
)

// Pixels is the width of text in whole pixels at a size in pixels, from the advance widths of Liberation Sans.
// Characters the table lacks count as an average letter, those of scripts set in full squares as one em, and
// marks that combine as nothing.
func Pixels(text string, size int) int {
	units := 0
	for _, r := range text {
		units += advance(r)
	}
	return (units*size + unitsPerEm/2) / unitsPerEm
}

func advance(r rune) int {
	switch {
	case int(r) < len(glyphs) && glyphs[r] > 0:
		return int(glyphs[r])
	case unicode.IsControl(r) || unicode.Is(unicode.Mn, r):
		return 0
	case unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Hangul) || r >= 0x1f300:
		return unitsPerEm
	case r == '–':
		return int(glyphs['0'])
	case r == '—' || r == '…':
		return unitsPerEm
	}
	return int(glyphs['n'])
}

// Cut shortens text to at most limit pixels, at a word's end where there is one, with an ellipsis for what is left out.
func Cut(text string, size, limit int) string {
	if Pixels(text, size) <= limit {
		return text
	}
	room := limit - Pixels(" …", size)
	end, space, units := 0, 0, 0
	for end < len(text) {
		r, length := utf8.DecodeRuneInString(text[end:])
		units += advance(r)
		if units*size > room*unitsPerEm {
			break
		}
		if unicode.IsSpace(r) {
			space = end
		}
		end += length
	}
	if space > end/2 {
		end = space
	}
	return text[:end] + " …"
}
