package format

import (
	"bytes"
	"errors"
	"strconv"
	"strings"

	"weltaxis/internal/nesting"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// maxYAML bounds the time that the parser takes, which grows faster than the file.
const maxYAML = 512 << 10

// readYAML reads one YAML document. Paths: key.key, items by number; a value alone is at "". What an alias or a
// tag stands for cannot be told, and what a merge key brings in stands nowhere of its own.
func readYAML(d *Document) error {
	if len(d.data) > maxYAML {
		return d.errorAt(0, "it is too large for YAML that people write")
	}
	if line, says := nesting.YAML(d.data); says != "" {
		return &SyntaxError{line, 1, says, nil}
	}
	parsed, err := parser.ParseBytes(d.data, 0)
	if err != nil {
		return yamlError(d, err)
	}
	var body ast.Node
	for _, doc := range parsed.Docs {
		if doc.Body == nil {
			continue
		}
		if body != nil {
			return d.errorAt(len(d.data), "several documents stand in it; one is expected")
		}
		body = doc.Body
	}
	if body == nil {
		return nil
	}
	y := &yamlReader{d: d, anchors: map[string]ast.Node{}}
	y.findAnchors(body, 0)
	return y.value("", body, 0, 0)
}

func yamlError(d *Document, err error) error {
	var syntax *yaml.SyntaxError
	if errors.As(err, &syntax) && syntax.GetToken() != nil {
		at := syntax.GetToken().Position
		return &SyntaxError{max(at.Line, 1), max(at.Column, 1), "it is no YAML: " + syntax.GetMessage(), err}
	}
	return d.errorAt(0, "it is no YAML")
}

type yamlReader struct {
	d       *Document
	anchors map[string]ast.Node
	lines   []int // where each line starts
}

func (y *yamlReader) findAnchors(node ast.Node, depth int) {
	if depth > maxDepth {
		return
	}
	switch n := node.(type) {
	case *ast.AnchorNode:
		y.anchors[n.Name.String()] = n.Value
		y.findAnchors(n.Value, depth+1)
	case *ast.MappingNode:
		for _, v := range n.Values {
			y.findAnchors(v.Value, depth+1)
		}
	case *ast.MappingValueNode:
		y.findAnchors(n.Value, depth+1)
	case *ast.SequenceNode:
		for _, v := range n.Values {
			y.findAnchors(v, depth+1)
		}
	}
}

// at is the offset of a node's first byte. Columns of the parser count characters.
func (y *yamlReader) at(node ast.Node) int {
	if y.lines == nil {
		y.lines = []int{0}
		for i, c := range y.d.data {
			if c == '\n' {
				y.lines = append(y.lines, i+1)
			}
		}
	}
	t := node.GetToken()
	if t == nil || t.Position.Line < 1 || t.Position.Line > len(y.lines) {
		return 0
	}
	at := y.lines[t.Position.Line-1]
	for n := 1; n < t.Position.Column && at < len(y.d.data); n++ {
		at++
		for at < len(y.d.data) && y.d.data[at]&0xC0 == 0x80 {
			at++
		}
	}
	return min(at, len(y.d.data))
}

func (y *yamlReader) value(path string, node ast.Node, indent, depth int) error {
	if depth > maxDepth {
		return y.d.errorAt(y.at(node), "values are nested too deep")
	}
	at := y.at(node)
	switch n := node.(type) {
	case *ast.MappingNode:
		return y.mapping(path, n.Values, at, depth)
	case *ast.MappingValueNode:
		return y.mapping(path, []*ast.MappingValueNode{n}, at, depth)
	case *ast.SequenceNode:
		return y.sequence(path, n, at, indent, depth)
	case *ast.AnchorNode:
		return y.value(path, n.Value, indent, depth+1)
	case *ast.AliasNode:
		y.d.mention(path, nil, at, "it repeats another value by an alias")
	case *ast.TagNode:
		y.d.mention(path, nil, at, "it has a tag, whose meaning only the program knows")
	case *ast.NullNode:
		text := n.GetToken().Value
		if !bytes.HasPrefix(y.d.data[at:], []byte(text)) || text == "" || (text != "~" && !strings.EqualFold(text, "null")) {
			y.d.mention(path, nil, at, "")
			return nil
		}
		y.d.place(path, nil, at, at+len(text))
	case *ast.BoolNode:
		y.plain(path, n.Value, at, n.GetToken().Value)
	case *ast.IntegerNode:
		switch v := n.Value.(type) {
		case int64:
			y.plain(path, v, at, n.GetToken().Value)
		case uint64:
			y.plain(path, number(strconv.FormatUint(v, 10)), at, n.GetToken().Value)
		}
	case *ast.FloatNode:
		y.plain(path, n.Value, at, n.GetToken().Value)
	case *ast.StringNode:
		y.text(path, n, at)
	case *ast.LiteralNode:
		start := y.at(node)
		y.d.place(path, n.Value.Value, start, y.blockEnd(start, indent))
	default:
		y.d.mention(path, nil, at, "it is no plain value")
	}
	return nil
}

// plain places a value that stands as written; what spans lines has no one text.
func (y *yamlReader) plain(path string, value any, at int, text string) {
	if text != "" && bytes.HasPrefix(y.d.data[at:], []byte(text)) {
		y.d.place(path, value, at, at+len(text))
		return
	}
	y.d.mention(path, value, at, "")
}

func (y *yamlReader) text(path string, n *ast.StringNode, at int) {
	if at < len(y.d.data) {
		switch quote := y.d.data[at]; quote {
		case '"':
			if end := closingQuote(y.d.data, at); end > 0 {
				y.d.place(path, n.Value, at, end+1)
				return
			}
		case '\'':
			end := at + 1
			for end < len(y.d.data) && (y.d.data[end] != '\'' || bytes.HasPrefix(y.d.data[end:], []byte("''"))) {
				if y.d.data[end] == '\'' {
					end++
				}
				end++
			}
			y.d.place(path, n.Value, at, min(end+1, len(y.d.data)))
			return
		}
	}
	y.plain(path, n.Value, at, n.Value)
}

// blockEnd is where a | or > block ends: before the first line that is indented no deeper than its key.
func (y *yamlReader) blockEnd(start, indent int) int {
	end := start + bytes.IndexByte(append(y.d.data[start:len(y.d.data):len(y.d.data)], '\n'), '\n')
	for at := end + 1; at < len(y.d.data); {
		stop := len(y.d.data)
		if i := bytes.IndexByte(y.d.data[at:], '\n'); i >= 0 {
			stop = at + i
		}
		line := y.d.data[at:stop]
		if deep := len(line) - len(bytes.TrimLeft(line, " ")); len(bytes.TrimSpace(line)) > 0 {
			if deep <= indent {
				break
			}
			end = stop
		}
		at = stop + 1
	}
	if end > start && end <= len(y.d.data) && y.d.data[end-1] == '\r' {
		end--
	}
	return min(end, len(y.d.data))
}

func (y *yamlReader) mapping(path string, pairs []*ast.MappingValueNode, at, depth int) error {
	y.d.mention(path, nil, at, "it holds other values")
	for _, pair := range pairs {
		if _, merged := pair.Key.(*ast.MergeKeyNode); merged {
			y.merge(path, pair.Value, depth)
			continue
		}
		column := 0
		if t := pair.Key.GetToken(); t != nil {
			column = t.Position.Column - 1
		}
		key := pair.Key.GetToken().Value
		if err := y.value(joinPath(path, key), pair.Value, column, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// merge mentions what a merge key brings in, unless it is set here.
func (y *yamlReader) merge(path string, value ast.Node, depth int) {
	alias, ok := value.(*ast.AliasNode)
	if !ok {
		return
	}
	aside := &Document{entries: map[string]Entry{}, data: y.d.data}
	inner := &yamlReader{d: aside, anchors: map[string]ast.Node{}}
	target := y.anchors[alias.Value.String()]
	if target == nil || inner.value(path, target, 0, depth+1) != nil {
		return
	}
	for _, e := range aside.Entries() {
		if _, there := y.d.entries[e.Path]; !there {
			e.placed = false
			y.d.put(e)
		}
	}
}

func (y *yamlReader) sequence(path string, n *ast.SequenceNode, at, indent, depth int) error {
	y.d.mention(path, nil, at, "")
	list := []any{}
	for i, item := range n.Values {
		below := joinPath(path, strconv.Itoa(i))
		if err := y.value(below, item, indent, depth+1); err != nil {
			return err
		}
		if e := y.d.entries[below]; e.Unresolved == "" {
			list = append(list, e.Value)
		}
	}
	line, column := position(y.d.data, at)
	e := Entry{Path: path, Value: list, Line: line, Column: column}
	if end := y.sequenceEnd(path, n, at); end > at {
		e.placed, e.start, e.end = true, at, end
	}
	y.d.put(e)
	return nil
}

// sequenceEnd finds where a list of plain values ends; 0 where that is not plain.
func (y *yamlReader) sequenceEnd(path string, n *ast.SequenceNode, at int) int {
	last, there := y.d.entries[joinPath(path, strconv.Itoa(len(n.Values)-1))]
	there = there && last.placed
	switch {
	case n.IsFlowStyle:
		from := at
		if there {
			from = last.end
		}
		if closing := bytes.IndexByte(y.d.data[from:], ']'); closing >= 0 && y.d.data[at] == '[' {
			return from + closing + 1
		}
	case there && y.d.data[at] == '-':
		return last.end
	}
	return 0
}

// yamlPlain tells whether a text may stand without quotes, also for readers of YAML 1.1.
func yamlPlain(text string) bool {
	if text == "" || strings.TrimSpace(text) != text || strings.ContainsAny(text, "\n\r\t\"'\\{}[],&*!|>%@`#:") {
		return false
	}
	if strings.ContainsRune("-?=~<", rune(text[0])) {
		return false
	}
	switch strings.ToLower(text) {
	case "true", "false", "yes", "no", "on", "off", "null", "y", "n":
		return false
	}
	c := text[0]
	return !isDigit(c) && c != '.' && c != '+'
}

func yamlScalar(value any, quote byte) (string, error) {
	text, isText := value.(string)
	switch {
	case !isText:
		return asJSON(value)
	case quote == '\'' && !strings.ContainsAny(text, "\n\r\t\x00"):
		return "'" + strings.ReplaceAll(text, "'", "''") + "'", nil
	case quote != '"' && yamlPlain(text):
		return text, nil
	}
	return asJSON(text) // a JSON string is a double-quoted YAML one
}

func spellYAML(entry Entry, old string, value any) (string, error) {
	quote := byte(0)
	if old != "" {
		quote = old[0]
	}
	items, isList := value.([]any)
	if !isList {
		return yamlScalar(value, quote)
	}
	spelled := make([]string, len(items))
	for i, item := range items {
		text, err := yamlScalar(item, 0)
		if err != nil {
			return "", err
		}
		spelled[i] = text
	}
	if !strings.HasPrefix(old, "-") || len(items) == 0 {
		return "[" + strings.Join(spelled, ", ") + "]", nil
	}
	nl := "\n"
	if strings.Contains(old, "\r\n") {
		nl = "\r\n"
	}
	return "- " + strings.Join(spelled, nl+strings.Repeat(" ", entry.Column-1)+"- "), nil
}

func addYAML(d *Document, path string, value any) ([]edit, error) {
	text, err := spellYAML(Entry{}, "", value)
	if err != nil {
		return nil, err
	}
	parent, key := splitPath(path)
	if !yamlPlain(key) {
		if key, err = asJSON(key); err != nil {
			return nil, err
		}
	}
	if last, there := d.lastBelow(parent); there {
		if holder := d.entries[parent]; holder.placed && parent != "" {
			return nil, ErrNoPlace // the parent is a list
		}
		if flow := bytes.IndexAny(d.data[last.end:], "}\n"); flow >= 0 && d.data[last.end+flow] == '}' {
			return []edit{{last.end, last.end, ", " + key + ": " + text}}, nil
		}
		return d.lineAfter(last, strings.Repeat(" ", d.keyIndent(last)), key+": "+text), nil
	}
	if _, there := d.entries[parent]; there && parent != "" {
		return nil, ErrNoPlace
	}
	// The missing folders of the path, below the document's top.
	var lines []string
	keys := []string{key + ": " + text}
	for parent != "" {
		if _, there := d.entries[parent]; there {
			return nil, ErrNoPlace
		}
		var up string
		parent, up = splitPath(parent)
		keys = append([]string{up + ":"}, keys...)
	}
	for i, k := range keys {
		lines = append(lines, strings.Repeat("  ", i)+k)
	}
	return d.appended(lines...), nil
}

// keyIndent is the column of the key that an entry stands beside.
func (d *Document) keyIndent(entry Entry) int {
	indent := d.indentOf(entry.start)
	line := d.data[bytes.LastIndexByte(d.data[:entry.start], '\n')+1+len(indent):]
	if _, key := splitPath(entry.Path); !bytes.HasPrefix(line, []byte(key)) {
		return len(indent) + len(line) - len(bytes.TrimLeft(line, "- "))
	}
	return len(indent)
}
