package files

import (
	"strings"

	"weltaxis/internal/tree"
)

// What the ending of a name promises. Nothing is opened to find out.
const (
	program = "program" // run by the server or the runtime
	page    = "page"    // sent as it is and shown: markup, styles, scripts, text
	picture = "picture" // pictures, sound, film, fonts
	data    = "data"    // anything else
	none    = "none"    // not a file
)

var endings = func() map[string]string {
	index := map[string]string{}
	for content, list := range map[string]string{
		program: "php php3 php4 php5 php7 php8 phtml phar phps pht inc cgi pl py rb sh jsp jspx asp aspx ashx shtml exe so",
		page:    "html htm xhtml css js mjs map txt xml rss atom json md",
		picture: "jpg jpeg png gif webp avif svg ico bmp tif tiff mp3 ogg oga wav flac mp4 webm ogv woff woff2 ttf otf eot",
	} {
		for ending := range strings.FieldsSeq(list) {
			index[ending] = content
		}
	}
	return index
}()

// contentOf goes by every ending of the name, since a server may be told to run picture.php.jpg for its php.
func contentOf(e tree.Entry) string {
	if e.Kind != tree.File {
		return none
	}
	name := e.Path[strings.LastIndexByte(e.Path, '/')+1:]
	last := data
	for {
		dot := strings.IndexByte(name, '.')
		if dot < 0 {
			return last
		}
		name = name[dot+1:]
		ending, _, _ := strings.Cut(name, ".")
		if !isLower(ending) {
			ending = strings.ToLower(ending)
		}
		if c, known := endings[ending]; known {
			last = c
			if c == program {
				return c
			}
		} else {
			last = data
		}
	}
}

func isLower(s string) bool {
	for i := range len(s) {
		if s[i] >= 'A' && s[i] <= 'Z' {
			return false
		}
	}
	return true
}
