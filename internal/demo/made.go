package demo

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"io"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/tdewolff/minify/v2"
	"github.com/tdewolff/minify/v2/css"
)

// styleSheet is what every theme of the demo wears, as a person wrote it.
//
//go:embed systems/style.css
var styleSheet string

// made is the style of the theme without what means nothing to browsers, and the address at which it is found, which holds a
// digest of it. Made of the file as it is now.
func (v *view) made() (address string, content []byte) {
	file := fillIn(v.lore.Addresses.Style, map[string]string{"theme": v.options["theme"]})
	text, err := os.ReadFile(filepath.Join(v.root, v.lore.Public, filepath.FromSlash(file)))
	if err != nil {
		return file, nil
	}
	small, err := minify.New(), error(nil)
	small.AddFunc("text/css", css.Minify)
	content, err = small.Bytes("text/css", text)
	if err != nil {
		return file, nil
	}
	digest := sha256.Sum256(content)
	return v.lore.Addresses.Made + v.options["theme"] + "-" + hex.EncodeToString(digest[:5]) + ".css", content
}

// style is the address of the style that pages name.
func (v *view) style() string {
	if v.yes("minify") {
		address, _ := v.made()
		return address
	}
	return fillIn(v.lore.Addresses.Style, map[string]string{"theme": v.options["theme"]})
}

// serveMade answers for the minified style.
func (v *view) serveMade(w http.ResponseWriter) {
	address, content := v.made()
	if content == nil || v.request.URL.Path != address {
		http.NotFound(w, v.request)
		return
	}
	w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
	w.Header().Set("Etag", `"`+strings.TrimSuffix(path.Base(address), ".css")+`"`)
	v.serveFile(w, "style.css", time.Time{}, content)
}

// textEndings are those of files that shrink.
var textEndings = []string{".css", ".js", ".svg", ".txt", ".json"}

// serveFile answers with a file, compressed where whoever asks wants it, as a web server does that hands out files.
func (v *view) serveFile(w http.ResponseWriter, name string, changed time.Time, content []byte) {
	ending := path.Ext(name)
	if slices.Contains(textEndings, ending) && len(content) > 1024 {
		w.Header().Add("Vary", "Accept-Encoding")
		if strings.Contains(v.request.Header.Get("Accept-Encoding"), "gzip") {
			content = zipped(content)
			w.Header().Set("Content-Encoding", "gzip")
		}
	}
	http.ServeContent(w, v.request, name, changed, bytes.NewReader(content))
}

// zippers are used again, since each takes a megabyte.
var zippers = sync.Pool{New: func() any { return gzip.NewWriter(io.Discard) }}

func zipped(content []byte) []byte {
	var out bytes.Buffer
	to := zippers.Get().(*gzip.Writer)
	defer zippers.Put(to)
	to.Reset(&out)
	_, _ = to.Write(content)
	_ = to.Close()
	return out.Bytes()
}

// cart is what a visitor is about to buy: his own, unless the page cache keeps it for all.
func (v *view) cart(out *rendered, header http.Header) int {
	out.Title, out.Heading, out.Robots, out.Single = v.title("title_form_page", "Your basket"), "Your basket", "noindex", true
	out.Body = "Nothing lies in your basket yet. Ropes and maps are on the counter."
	if cookie, err := v.request.Cookie("basket"); err == nil && cookie.Value != "" {
		out.Body = "Eleven metres of mooring rope lie in your basket, and the first sheet of the map."
	}
	if v.leftOut() {
		header.Set("Cache-Control", "private, no-store")
	}
	return http.StatusOK
}

// leftOut tells whether the page cache leaves the address out.
func (v *view) leftOut() bool {
	return slices.ContainsFunc(strings.FieldsFunc(v.options["cache_excludes"], func(r rune) bool { return r == ',' || r == ' ' }), func(pattern string) bool {
		before, any := strings.CutSuffix(pattern, "*")
		return v.request.URL.Path == before || any && strings.HasPrefix(v.request.URL.Path, before)
	})
}
