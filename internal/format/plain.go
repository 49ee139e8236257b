package format

import (
	"bytes"
	"errors"
	"strings"
)

// readPlain reads lines of key = value or key: value without quoting. A line that starts with # is a comment.
// Paths are the keys as they stand.
func readPlain(d *Document) error {
	return eachLine(d.data, skipBOM(d.data), func(start, end int) error {
		start, end = trimmed(d.data, start, end)
		if start == end || d.data[start] == '#' {
			return nil
		}
		at := bytes.IndexAny(d.data[start:end], "=:")
		if at <= 0 {
			return d.errorAt(start, "a line of key = value is expected here")
		}
		_, keyEnd := trimmed(d.data, start, start+at)
		from, to := trimmed(d.data, start+at+1, end)
		d.place(string(d.data[start:keyEnd]), string(d.data[from:to]), from, to)
		return nil
	})
}

func spellPlain(_ Entry, _ string, value any) (string, error) {
	text, err := single(value)
	if err == nil {
		err = oneLine(text)
	}
	if err == nil && strings.TrimSpace(text) != text {
		err = errors.New("this format holds no white space at the ends of a value")
	}
	return text, err
}

func addPlain(d *Document, path string, value any) ([]edit, error) {
	text, err := spellPlain(Entry{}, "", value)
	if err != nil || strings.ContainsAny(path, "=:#\n") {
		return nil, errors.Join(err, ErrNoPlace)
	}
	return d.appended(path + " = " + text), nil
}
