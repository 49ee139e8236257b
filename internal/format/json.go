package format

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// readJSON reads one JSON document (RFC 8259). Paths: key.key, items by number; a value alone is at "".
func readJSON(d *Document) error {
	from := skipBOM(d.data)
	r := &jsonReader{d: d, from: from, decoder: json.NewDecoder(bytes.NewReader(d.data[from:]))}
	r.decoder.UseNumber()
	if err := r.value("", 0); err != nil {
		return r.explain(err)
	}
	end := r.start()
	if _, err := r.decoder.Token(); !errors.Is(err, io.EOF) {
		return d.errorAt(end, "the end is expected here")
	}
	return nil
}

type jsonReader struct {
	d       *Document
	from    int
	decoder *json.Decoder
}

func (r *jsonReader) offset() int { return r.from + int(r.decoder.InputOffset()) }

// start is where the next token starts.
func (r *jsonReader) start() int {
	at := r.offset()
	for at < len(r.d.data) && strings.IndexByte(" \t\r\n:,", r.d.data[at]) >= 0 {
		at++
	}
	return at
}

func (r *jsonReader) explain(err error) error {
	var syntax *json.SyntaxError
	var positioned *SyntaxError
	switch {
	case errors.As(err, &positioned):
		return err
	case errors.As(err, &syntax):
		return r.d.errorAt(r.start(), "it is no JSON: "+syntax.Error())
	}
	return r.d.errorAt(len(r.d.data), "it is no JSON: it ends too early")
}

func (r *jsonReader) value(path string, depth int) error {
	if depth > maxDepth {
		return r.d.errorAt(r.offset(), "brackets are nested too deep")
	}
	start := r.start()
	token, err := r.decoder.Token()
	if err != nil {
		return err
	}
	switch v := token.(type) {
	case json.Delim:
		return r.inside(path, v, start, depth)
	case json.Number:
		r.d.place(path, number(v.String()), start, r.offset())
	default:
		r.d.place(path, v, start, r.offset())
	}
	return nil
}

// number is an int64 where it fits, else a float64.
func number(text string) any {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return n
	}
	f, _ := strconv.ParseFloat(text, 64)
	return f
}

func (r *jsonReader) inside(path string, open json.Delim, start, depth int) error {
	r.d.mention(path, nil, start, "it holds other values")
	list := []any{}
	for n := 0; r.decoder.More(); n++ {
		key := strconv.Itoa(n)
		if open == '{' {
			token, err := r.decoder.Token()
			if err != nil {
				return err
			}
			key = token.(string)
		}
		below := joinPath(path, key)
		if err := r.value(below, depth+1); err != nil {
			return err
		}
		if e := r.d.entries[below]; e.Unresolved == "" {
			list = append(list, e.Value)
		}
	}
	if _, err := r.decoder.Token(); err != nil {
		return err
	}
	line, column := position(r.d.data, start)
	e := Entry{Path: path, Line: line, Column: column, start: start, end: r.offset(), Unresolved: "it holds other values"}
	if open == '[' {
		e.Value, e.Unresolved, e.placed = list, "", true
	}
	r.d.put(e)
	return nil
}

// asJSON writes a value in one line, without the escapes that only HTML needs.
func asJSON(value any) (string, error) {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	err := encoder.Encode(value)
	return strings.TrimSuffix(b.String(), "\n"), err
}

func spellJSON(_ Entry, old string, value any) (string, error) {
	items, isList := value.([]any)
	if !isList || !strings.Contains(old, "\n") {
		text, err := asJSON(value)
		if isList {
			text = strings.ReplaceAll(text, `","`, `", "`)
		}
		return text, err
	}
	// One item a line, as it was.
	indent := old[strings.IndexByte(old, '\n')+1:]
	indent = indent[:len(indent)-len(strings.TrimLeft(indent, " \t"))]
	closing := old[strings.LastIndexByte(old, '\n')+1:]
	closing = closing[:len(closing)-len(strings.TrimLeft(closing, " \t"))]
	var b strings.Builder
	for i, item := range items {
		text, err := asJSON(item)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&b, "%s\n%s%s", map[bool]string{true: ",", false: ""}[i > 0], indent, text)
	}
	return "[" + b.String() + "\n" + closing + "]", nil
}

func addJSON(d *Document, path string, value any) ([]edit, error) {
	text, err := asJSON(value)
	if err != nil {
		return nil, err
	}
	parent, key := splitPath(path)
	member, err := asJSON(key)
	if err != nil {
		return nil, err
	}
	// Objects that are missing on the way come to be with it.
	for _, there := d.entries[parent]; !there && parent != ""; _, there = d.entries[parent] {
		var up string
		parent, up = splitPath(parent)
		text = "{" + member + ": " + text + "}"
		if member, err = asJSON(up); err != nil {
			return nil, err
		}
	}
	if last, there := d.lastOf(parent); there {
		lead := " "
		if bytes.HasPrefix(bytes.TrimLeft(d.lineOf(last.start), " \t"), []byte(last.key())) {
			lead = d.newline() + d.indentOf(last.start)
		}
		return []edit{{last.end, last.end, "," + lead + member + ": " + text}}, nil
	}
	if holder, there := d.entries[parent]; there && holder.end > holder.start && d.data[holder.start] == '{' && bytes.Equal(bytes.TrimSpace(d.data[holder.start+1:holder.end-1]), nil) {
		return []edit{{holder.start + 1, holder.end - 1, member + ": " + text}}, nil
	}
	return nil, ErrNoPlace
}

// key is how JSON spells the last key of the entry's path.
func (e Entry) key() string {
	_, key := splitPath(e.Path)
	text, _ := asJSON(key)
	return text
}

// lastOf finds the last member directly below a path, one that holds others included.
func (d *Document) lastOf(parent string) (Entry, bool) {
	var last Entry
	for path, entry := range d.entries {
		if up, _ := splitPath(path); up == parent && path != parent && entry.end > last.end {
			last = entry
		}
	}
	return last, last.end > 0
}
