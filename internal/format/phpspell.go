package format

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
)

// spellPHP writes a literal. A text keeps the quotes it had, unless it needs the other kind.
func spellPHP(_ Entry, old string, value any) (string, error) {
	switch v := value.(type) {
	case nil:
		return "null", nil
	case string:
		if strings.HasPrefix(old, `"`) || strings.ContainsAny(v, "\n\r\t\x00") {
			return `"` + phpEscaper.Replace(v) + `"`, nil
		}
		return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(v) + "'", nil
	case []any:
		spelled := make([]string, len(v))
		for i, item := range v {
			text, err := spellPHP(Entry{}, "", item)
			if err != nil {
				return "", err
			}
			spelled[i] = text
		}
		list := strings.Join(spelled, ", ")
		if strings.HasPrefix(old, "a") || strings.HasPrefix(old, "A") {
			return "array(" + list + ")", nil
		}
		return "[" + list + "]", nil
	}
	return scalar(value), nil
}

var phpEscaper = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "\n", `\n`, "\r", `\r`, "\t", `\t`, "\x00", `\0`)

var phpConstantName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// addPHP puts a constant below the last one that define sets, or below <?php, and an item of an array after its
// last.
func addPHP(d *Document, path string, value any) ([]edit, error) {
	text, err := spellPHP(Entry{}, "", value)
	if err != nil {
		return nil, err
	}
	if phpConstantName.MatchString(path) {
		line := fmt.Sprintf("define('%s', %s);", path, text)
		var last Entry
		for name, entry := range d.entries {
			if phpConstantName.MatchString(name) && entry.placed && entry.end > last.end && bytes.HasPrefix(bytes.TrimLeft(d.lineOf(entry.start), " \t"), []byte("define")) {
				last = entry
			}
		}
		if last.placed {
			return d.lineAfter(last, d.indentOf(last.start), line), nil
		}
		if i := bytes.Index(d.data, []byte("<?php\n")); i >= 0 {
			return []edit{{i + 6, i + 6, line + "\n"}}, nil
		}
		return nil, ErrNoPlace
	}
	parent, key := splitPath(path)
	last, there := d.lastBelow(parent)
	if !there || !strings.HasPrefix(string(d.lineOf(last.start)), d.indentOf(last.start)) {
		return nil, ErrNoPlace
	}
	item := "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(key) + "' => " + text
	lead := " "
	if bytes.HasPrefix(bytes.TrimLeft(d.lineOf(last.start), " \t"), []byte("'")) {
		lead = d.newline() + d.indentOf(last.start)
	}
	if rest := bytes.TrimLeft(d.data[last.end:], " \t"); bytes.HasPrefix(rest, []byte(",")) {
		at := len(d.data) - len(rest) + 1
		return []edit{{at, at, lead + item + ","}}, nil
	}
	return []edit{{last.end, last.end, "," + lead + item}}, nil
}

// lineOf is the line that an offset lies in, up to its end.
func (d *Document) lineOf(offset int) []byte {
	line := d.data[bytes.LastIndexByte(d.data[:offset], '\n')+1:]
	if i := bytes.IndexByte(line, '\n'); i >= 0 {
		line = line[:i]
	}
	return line
}
