package render

import (
	"encoding/json"
	"io"
)

// JSON writes a value as indented JSON with a line end. Text is left readable: < and & are not escaped, since
// nothing here is put into a page.
func JSON(w io.Writer, v any) error {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	return encoder.Encode(v)
}
