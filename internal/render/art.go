package render

import (
	"bytes"
	"encoding/base64"
	"html/template"
	"image/jpeg"
	"strconv"

	"weltaxis/internal/facts"
	"weltaxis/internal/report"
)

// An artwork is a picture of the site's that is in the page once, and shown wherever it is used.
type artwork struct {
	ID            string
	Data          template.URL // with the picture in it (RFC 2397)
	Width, Height int
}

// The bounds of a picture that is put into a page: a snapshot may come from anywhere.
const (
	maxArt     = 1 << 10 // pixels of a side
	maxArtSize = 64 << 10
)

// A shownPreview is a preview with the picture that stands on its card; "" when none was kept.
type shownPreview struct {
	report.Preview
	Art string
}

// gallery gives the pages' cards their pictures. Each is put into the page once.
func (f *documentFrame) gallery(pictures []facts.Picture, pages []report.Preview) (shown []shownPreview) {
	known := map[string]string{}
	for _, p := range pages {
		at := p.Card.Picture
		id, there := known[at]
		for i := 0; !there && i < len(pictures); i++ {
			if at == "" || pictures[i].Address != at {
				continue
			}
			there = true
			if art, fit := artworkOf(pictures[i].Small); fit {
				id = "picture-" + strconv.Itoa(len(f.Art)+1)
				art.ID = id
				f.Art = append(f.Art, art)
			}
		}
		known[at] = id
		shown = append(shown, shownPreview{p, id})
	}
	return shown
}

// artworkOf takes a picture that is a JPEG of a size to be put into a page, and no other.
func artworkOf(small []byte) (art artwork, fit bool) {
	size, err := jpeg.DecodeConfig(bytes.NewReader(small))
	if err != nil || len(small) > maxArtSize || max(size.Width, size.Height) > maxArt || min(size.Width, size.Height) < 1 {
		return artwork{}, false
	}
	return artwork{Data: template.URL("data:image/jpeg;base64," + base64.StdEncoding.EncodeToString(small)), Width: size.Width, Height: size.Height}, true
}

// previews are the home page and others with their pictures.
func (f *documentFrame) previews(pictures []facts.Picture, home *report.Preview, others []report.Preview) (*shownPreview, []shownPreview) {
	if home == nil {
		return nil, f.gallery(pictures, others)
	}
	shown := f.gallery(pictures, append([]report.Preview{*home}, others...))
	return &shown[0], shown[1:]
}
