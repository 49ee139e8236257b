package format

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
)

// readINI reads sections of key = value. A value may stand in quotes, without escapes in them; what follows a
// blank and ; or # is a comment; key[] = value makes a list. Paths: section.key, or key before any section; the
// items of a list are also at section.key.0.
func readINI(d *Document) error {
	section := ""
	lists := map[string][]any{}
	return eachLine(d.data, skipBOM(d.data), func(start, end int) error {
		start, end = trimmed(d.data, start, end)
		if start == end || d.data[start] == ';' || d.data[start] == '#' {
			return nil
		}
		if d.data[start] == '[' {
			closing := bytes.IndexByte(d.data[start:end], ']')
			if closing < 0 {
				return d.errorAt(start, "the [ that stands here is never closed")
			}
			section = strings.TrimSpace(string(d.data[start+1 : start+closing]))
			d.mention(section, nil, start, "it is a section")
			return nil
		}
		equals := bytes.IndexByte(d.data[start:end], '=')
		if equals == 0 {
			return d.errorAt(start, "a key is expected before the =")
		}
		if equals < 0 {
			equals = end - start
		}
		_, keyEnd := trimmed(d.data, start, start+equals)
		key := string(d.data[start:keyEnd])
		from, to, inner, err := d.iniValue(min(start+equals+1, end), end)
		if err != nil {
			return err
		}
		path := key
		if section != "" {
			path = section + "." + key
		}
		if name, isList := strings.CutSuffix(path, "[]"); isList {
			d.place(fmt.Sprintf("%s.%d", name, len(lists[name])), inner, from, to)
			lists[name] = append(lists[name], inner)
			d.mention(name, lists[name], from, "")
			return nil
		}
		d.place(path, inner, from, to)
		return nil
	})
}

// iniValue finds the value between two offsets, and what it means without its quotes.
func (d *Document) iniValue(start, end int) (from, to int, inner string, err error) {
	from, to = trimmed(d.data, start, end)
	if from == to {
		return from, to, "", nil
	}
	if quote := d.data[from]; quote == '"' || quote == '\'' {
		closing := bytes.IndexByte(d.data[from+1:to], quote)
		if closing < 0 {
			return 0, 0, "", d.errorAt(from, "the text that starts here never ends")
		}
		to = from + closing + 2
		rest := bytes.TrimSpace(d.data[to:end])
		if len(rest) > 0 && rest[0] != ';' && rest[0] != '#' {
			return 0, 0, "", d.errorAt(to, "nothing but a comment is expected after the quotes")
		}
		return from, to, string(d.data[from+1 : to-1]), nil
	}
	for i := from; i < to; i++ {
		if (d.data[i] == ';' || d.data[i] == '#') && (i == from || isBlank(d.data[i-1])) {
			_, to = trimmed(d.data, from, i)
			break
		}
	}
	return from, to, string(d.data[from:to]), nil
}

func spellINI(_ Entry, old string, value any) (string, error) {
	text, err := single(value)
	if err == nil {
		err = oneLine(text)
	}
	if err != nil {
		return "", err
	}
	quote := ""
	if old != "" && (old[0] == '"' || old[0] == '\'') {
		quote = old[:1]
	} else if strings.ContainsAny(text, ";#\"'`[]=!(){}^&|~$") || strings.TrimSpace(text) != text {
		quote = `"`
	}
	for _, other := range []string{quote, `"`, `'`} {
		if quote == "" || !strings.Contains(text, other) {
			if quote != "" {
				quote = other
			}
			return quote + text + quote, nil
		}
	}
	return "", errors.New("this format holds no text with both kinds of quotes in it")
}

func addINI(d *Document, path string, value any) ([]edit, error) {
	text, err := spellINI(Entry{}, "", value)
	if err != nil {
		return nil, err
	}
	section, key := splitPath(path)
	if last, there := d.lastBelow(section); there {
		return d.lineAfter(last, d.indentOf(last.start), key+" = "+text), nil
	}
	if _, there := d.entries[section]; there || section == "" {
		return nil, ErrNoPlace // an empty section, or keys before all sections: where to put it is not plain
	}
	return d.appended("", "["+section+"]", key+" = "+text), nil
}
