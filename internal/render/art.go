package render

import (
	"bytes"
	"encoding/base64"
	"html/template"
	"image/jpeg"
	"slices"
	"strconv"

	"weltaxis/internal/facts"
	"weltaxis/internal/report"
)

// An artwork is a picture of the site's that is in the page once, and shown wherever it is used.
type artwork struct {
	ID            string
	Data          template.URL // with the picture in it (RFC 2397)
	Width, Height int
	of            string // its address
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
	for _, p := range pages {
		shown = append(shown, shownPreview{p, f.hung(pictures, p.Card.Picture)})
	}
	return shown
}

// hung is the picture of an address in the page, "" when none was kept of it.
func (f *documentFrame) hung(pictures []facts.Picture, address string) string {
	if i := slices.IndexFunc(f.Art, func(a artwork) bool { return a.of == address }); i >= 0 {
		return f.Art[i].ID
	}
	i := slices.IndexFunc(pictures, func(p facts.Picture) bool { return p.Address == address && address != "" })
	if i < 0 {
		return ""
	}
	art, fit := artworkOf(pictures[i].Small)
	if !fit {
		return ""
	}
	art.ID, art.of = "picture-"+strconv.Itoa(len(f.Art)+1), address
	f.Art = append(f.Art, art)
	return art.ID
}

// artworkOf takes a picture that is a JPEG of a size to be put into a page, and no other.
func artworkOf(small []byte) (art artwork, fit bool) {
	size, err := jpeg.DecodeConfig(bytes.NewReader(small))
	if err != nil || len(small) > maxArtSize || max(size.Width, size.Height) > maxArt || min(size.Width, size.Height) < 1 {
		return artwork{}, false
	}
	return artwork{Data: template.URL("data:image/jpeg;base64," + base64.StdEncoding.EncodeToString(small)), Width: size.Width, Height: size.Height}, true
}

// previews shows the home page, if there is one, and others, with their pictures.
func (f *documentFrame) previews(pictures []facts.Picture, home *report.Preview, others []report.Preview) {
	if home != nil {
		f.Front = &f.gallery(pictures, []report.Preview{*home})[0]
	}
	f.Inner = f.gallery(pictures, others)
}
