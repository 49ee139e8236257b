package render

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// JSON writes a value as indented JSON with a line end. Text is left readable: < and & are not escaped, since
// nothing here is put into a page. What a terminal would act upon, or would not show, is escaped (RFC 8259 §7).
func JSON(w io.Writer, v any) error {
	encoder := json.NewEncoder(harmlessWriter{w})
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	return encoder.Encode(v)
}

// A harmlessWriter makes harmless what is written, which comes in whole.
type harmlessWriter struct{ io.Writer }

func (h harmlessWriter) Write(text []byte) (int, error) {
	if _, err := h.Writer.Write(harmless(text)); err != nil {
		return 0, err
	}
	return len(text), nil
}

// harmless puts escapes in the place of what cannot be seen, controls and what turns the direction of writing, all but
// line ends. In JSON such signs stand only in strings, where the escape means the same.
func harmless(text []byte) []byte {
	plain := func(r rune) bool { return r == '\n' || unicode.IsPrint(r) }
	if utf8.Valid(text) && bytes.IndexFunc(text, func(r rune) bool { return !plain(r) }) < 0 {
		return text
	}
	out := make([]byte, 0, len(text)+64)
	for len(text) > 0 {
		r, size := utf8.DecodeRune(text)
		switch {
		case r == utf8.RuneError && size == 1:
			out = append(out, `\ufffd`...)
		case plain(r):
			out = append(out, text[:size]...)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			out = fmt.Appendf(out, "\\u%04x\\u%04x", high, low)
		default:
			out = fmt.Appendf(out, "\\u%04x", r)
		}
		text = text[size:]
	}
	return out
}
