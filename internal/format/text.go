package format

import (
	"bytes"
	"strings"
)

// readText takes the whole file for one value, at the path "". Line breaks at its end do not belong to it.
func readText(d *Document) error {
	start := skipBOM(d.data)
	d.place("", string(bytes.TrimRight(d.data[start:], "\r\n")), start, start+len(bytes.TrimRight(d.data[start:], "\r\n")))
	return nil
}

func spellText(_ Entry, _ string, value any) (string, error) {
	text, err := single(value)
	if err != nil || strings.TrimRight(text, "\r\n") != text {
		return "", ErrNoPlace
	}
	return text, nil
}
