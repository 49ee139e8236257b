package live

import (
	"bytes"
	"io"

	"github.com/tdewolff/minify/v2"
	"github.com/tdewolff/minify/v2/css"
	"github.com/tdewolff/minify/v2/js"
)

// maxMinified is the largest style or script that is made smaller to see by how much.
const maxMinified = 1 << 20

// saves is how many bytes less a style or a script would have if what means nothing to a browser were left out: white space,
// comments, marks. Names stay as they are. It is -1 where that cannot be told.
func saves(kind string, body []byte) (less int) {
	defer func() {
		if recover() != nil { // what is hostile to a parser says nothing of itself
			less = -1
		}
	}()
	if len(body) > maxMinified {
		return -1
	}
	var out bytes.Buffer
	var err error
	switch kind {
	case styleKind:
		err = (&css.Minifier{}).Minify(minify.New(), &out, bytes.NewReader(body), nil)
	case scriptKind:
		err = (&js.Minifier{KeepVarNames: true}).Minify(minify.New(), &out, io.Reader(bytes.NewReader(body)), nil)
	default:
		return -1
	}
	if err != nil {
		return -1
	}
	return max(len(body)-out.Len(), 0)
}
