package format

import (
	"bytes"
	"errors"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// readTOML reads TOML 1.0. Paths: table.key, tables of a list by number.
func readTOML(d *Document) error {
	var values map[string]any
	if err := toml.Unmarshal(d.data, &values); err != nil {
		var wrong *toml.DecodeError
		if errors.As(err, &wrong) {
			line, column := wrong.Position()
			return &SyntaxError{line, column, "it is no TOML: " + strings.TrimPrefix(wrong.Error(), "toml: "), err}
		}
		return d.errorOf(0, "it is no TOML: "+err.Error(), err)
	}
	p := &unstable.Parser{}
	p.Reset(d.data)
	r := &tomlReader{d: d, parser: p, values: values, counts: map[string]int{}}
	for p.NextExpression() {
		r.expression(p.Expression())
	}
	if err := p.Error(); err != nil {
		return d.errorOf(0, "it is no TOML: "+err.Error(), err)
	}
	d.sortByPlace()
	return nil
}

type tomlReader struct {
	d      *Document
	parser *unstable.Parser
	values map[string]any
	counts map[string]int // of each list of tables
	table  string
	at     int // where the last key ended
}

func (r *tomlReader) expression(e *unstable.Node) {
	switch e.Kind {
	case unstable.Table:
		r.table = r.key("", e)
		r.d.mention(r.table, nil, r.at, "it is a table")
	case unstable.ArrayTable:
		name := r.key("", e)
		r.table = joinPath(name, strconv.Itoa(r.counts[name]))
		r.counts[name]++
		r.d.mention(name, nil, r.at, "it is a list of tables")
		r.d.mention(r.table, nil, r.at, "it is a table")
	case unstable.KeyValue:
		r.keyValue(r.table, e)
	}
}

// key puts a dotted key below a path; a list of tables on the way stands for its last one.
func (r *tomlReader) key(path string, e *unstable.Node) string {
	for keys := e.Key(); keys.Next(); {
		k := keys.Node()
		path = joinPath(path, string(k.Data))
		if n := r.counts[path]; n > 0 && !keys.IsLast() {
			path = joinPath(path, strconv.Itoa(n-1))
		}
		span := k.Raw
		if span.Length == 0 {
			span = r.parser.Range(k.Data)
		}
		r.at = int(span.Offset + span.Length)
	}
	return path
}

func (r *tomlReader) keyValue(below string, e *unstable.Node) {
	path := r.key(below, e)
	equals := bytes.IndexByte(r.d.data[r.at:], '=')
	start := r.at + equals + 1
	for start < len(r.d.data) && isBlank(r.d.data[start]) {
		start++
	}
	r.value(path, e.Value(), start)
}

func (r *tomlReader) value(path string, node *unstable.Node, start int) {
	switch node.Kind {
	case unstable.InlineTable:
		r.d.mention(path, nil, start, "it holds other values")
		for children := node.Children(); children.Next(); {
			r.keyValue(path, children.Node())
		}
	case unstable.Array:
		r.array(path, node, start)
	default:
		r.d.place(path, r.lookup(path), start, r.end(start))
	}
}

// array places a list; its items have entries only for reading.
func (r *tomlReader) array(path string, node *unstable.Node, start int) {
	list := []any{}
	if values, ok := tomlAt(r.values, path).([]any); ok {
		for i, v := range values {
			if _, nested := v.(map[string]any); !nested {
				list = append(list, tomlValue(v))
			}
			r.mentionAll(joinPath(path, strconv.Itoa(i)), v, start)
		}
	}
	r.d.place(path, list, start, r.end(start))
}

func (r *tomlReader) mentionAll(path string, value any, at int) {
	if table, ok := value.(map[string]any); ok {
		for key, v := range table {
			r.mentionAll(joinPath(path, key), v, at)
		}
		return
	}
	r.d.mention(path, tomlValue(value), at, "")
}

// end is where the value that starts at an offset ends: strings by their quotes, lists by their brackets, all
// else by what may follow a value.
func (r *tomlReader) end(start int) int {
	data := r.d.data
	depth := 0
	for at := start; at < len(data); {
		switch c := data[at]; {
		case c == '"' || c == '\'':
			at = tomlStringEnd(data, at)
			if depth == 0 {
				return at
			}
			continue
		case c == '#' && depth > 0:
			for at < len(data) && data[at] != '\n' {
				at++
			}
			continue
		case c == '[':
			depth++
		case c == ']' && depth > 0:
			if depth--; depth == 0 {
				return at + 1
			}
		case depth == 0 && strings.IndexByte(",}]#\r\n", c) >= 0:
			_, end := trimmed(data, start, at)
			return end
		}
		at++
	}
	_, end := trimmed(data, start, len(data))
	return end
}

func tomlStringEnd(data []byte, at int) int {
	quote := data[at : at+1]
	if triple := bytes.Repeat(quote, 3); bytes.HasPrefix(data[at:], triple) {
		for i := at + 3; i < len(data); i++ {
			if data[i] == '\\' && quote[0] == '"' {
				i++
			} else if bytes.HasPrefix(data[i:], triple) {
				for i += 3; i < len(data) && data[i] == quote[0]; i++ {
				}
				return i
			}
		}
		return len(data)
	}
	for i := at + 1; i < len(data); i++ {
		if data[i] == '\\' && quote[0] == '"' {
			i++
		} else if data[i] == quote[0] {
			return i + 1
		}
	}
	return len(data)
}

func (r *tomlReader) lookup(path string) any { return tomlValue(tomlAt(r.values, path)) }

// tomlAt walks the decoded values along a path.
func tomlAt(values any, path string) any {
	if path == "" {
		return values
	}
	parent, key := splitPath(path)
	switch v := tomlAt(values, parent).(type) {
	case map[string]any:
		return v[key]
	case []any:
		if n, err := strconv.Atoi(key); err == nil && n >= 0 && n < len(v) {
			return v[n]
		}
	}
	return nil
}

// tomlValue keeps the plain types; dates are texts.
func tomlValue(value any) any {
	switch v := value.(type) {
	case string, bool, int64, float64, nil:
		return v
	case interface{ MarshalText() ([]byte, error) }:
		text, _ := v.MarshalText()
		return string(text)
	case []any:
		list := []any{}
		for _, item := range v {
			list = append(list, tomlValue(item))
		}
		return list
	case interface{ String() string }:
		return v.String()
	}
	return nil
}

func spellTOML(_ Entry, old string, value any) (string, error) {
	switch v := value.(type) {
	case nil:
		return "", errors.New("this format has no empty value")
	case string:
		if strings.HasPrefix(old, "'") && !strings.ContainsAny(v, "'\n\r\x00") {
			return "'" + v + "'", nil
		}
		return asJSON(v) // JSON's escapes are among those of a basic string
	case []any:
		spelled := make([]string, len(v))
		for i, item := range v {
			text, err := spellTOML(Entry{}, "", item)
			if err != nil {
				return "", err
			}
			spelled[i] = text
		}
		return "[" + strings.Join(spelled, ", ") + "]", nil
	}
	return asJSON(value)
}

func addTOML(d *Document, path string, value any) ([]edit, error) {
	text, err := spellTOML(Entry{}, "", value)
	if err != nil {
		return nil, err
	}
	parent, key := splitPath(path)
	if last, there := d.lastBelow(parent); there {
		return d.lineAfter(last, d.indentOf(last.start), key+" = "+text), nil
	}
	if _, there := d.entries[parent]; there || parent == "" {
		return nil, ErrNoPlace
	}
	return d.appended("", "["+parent+"]", key+" = "+text), nil
}
