package format

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
)

// readXML reads XML 1.0. Paths: the names of the elements below the root with dots between, and .@name for an
// attribute. Where several elements of one name stand side by side, they are told apart by their attribute name,
// key or id, as setting[title], or else by number from 1, as setting[2]. Only text without markup in it is a value.
func readXML(d *Document) error {
	x := &xmlReader{d: d, decoder: xml.NewDecoder(bytes.NewReader(d.data))}
	x.decoder.CharsetReader = func(charset string, input io.Reader) (io.Reader, error) {
		return nil, fmt.Errorf("its encoding is %s; UTF-8 is expected", charset)
	}
	root, err := x.tree()
	if err != nil {
		return err
	}
	if root == nil {
		return d.errorAt(0, "it is no XML: there is no element in it")
	}
	x.put("", root)
	d.sortByPlace()
	return nil
}

// An element is one of the tree, with where its parts stand.
type element struct {
	name                 string
	attributes           []xml.Attr
	tag, open, inner     int // where the start tag starts and ends, and the end tag starts
	text                 string
	markup               bool // something other than text lies in it
	children             []*element
	selfClosing, comment bool
}

type xmlReader struct {
	d       *Document
	decoder *xml.Decoder
}

func (x *xmlReader) tree() (*element, error) {
	var open []*element
	var root *element
	for {
		before := int(x.decoder.InputOffset())
		token, err := x.decoder.Token()
		if errors.Is(err, io.EOF) {
			return root, nil
		}
		if err != nil {
			return nil, x.d.errorOf(int(x.decoder.InputOffset()), "it is no XML: "+strings.TrimPrefix(err.Error(), "XML syntax error on "), err)
		}
		after := int(x.decoder.InputOffset())
		switch t := token.(type) {
		case xml.StartElement:
			if len(open) > maxDepth {
				return nil, x.d.errorAt(before, "elements are nested too deep")
			}
			e := &element{name: t.Name.Local, attributes: t.Copy().Attr, tag: before, open: after, inner: after,
				selfClosing: bytes.HasSuffix(x.d.data[before:after], []byte("/>"))}
			if len(open) > 0 {
				up := open[len(open)-1]
				up.children, up.markup = append(up.children, e), true
			} else if root == nil {
				root = e
			}
			open = append(open, e)
		case xml.EndElement:
			open[len(open)-1].inner = before
			open = open[:len(open)-1]
		case xml.CharData:
			if len(open) > 0 {
				open[len(open)-1].text += string(t)
			}
		default:
			if len(open) > 0 {
				open[len(open)-1].comment = true
			}
		}
	}
}

func (x *xmlReader) put(path string, e *element) {
	for _, a := range e.attributes {
		x.attribute(path+".@"+a.Name.Local, e, a)
	}
	switch {
	case e.markup:
		x.d.mention(path, nil, e.tag, "it holds other elements")
	case e.comment || e.selfClosing:
		x.d.mention(path, e.text, e.open, "")
	default:
		from, to := trimmedLines(x.d.data, e.open, e.inner)
		if from >= to {
			from, to = e.open, e.inner
		}
		x.d.place(path, strings.TrimSpace(e.text), from, to)
	}
	count := map[string]int{}
	for _, child := range e.children {
		count[child.name]++
	}
	nth := map[string]int{}
	for _, child := range e.children {
		name := child.name
		if count[name] > 1 {
			nth[name]++
			name = fmt.Sprintf("%s[%s]", name, child.told(nth[name]))
		}
		if path != "" {
			name = path + "." + name
		}
		x.put(name, child)
	}
}

// told is by what an element is told apart from others of its name.
func (e *element) told(nth int) string {
	for _, by := range []string{"name", "key", "id"} {
		if i := slices.IndexFunc(e.attributes, func(a xml.Attr) bool { return a.Name.Local == by }); i >= 0 {
			return e.attributes[i].Value
		}
	}
	return fmt.Sprint(nth)
}

func trimmedLines(data []byte, start, end int) (int, int) {
	for start < end && (isBlank(data[start]) || data[start] == '\n') {
		start++
	}
	for end > start && (isBlank(data[end-1]) || data[end-1] == '\n') {
		end--
	}
	return start, end
}

// attribute finds an attribute's value between its quotes.
func (x *xmlReader) attribute(path string, e *element, a xml.Attr) {
	path = strings.TrimPrefix(path, ".")
	tag := x.d.data[e.tag:e.open]
	shape, err := regexp.Compile(`[\s:]` + regexp.QuoteMeta(a.Name.Local) + `\s*=\s*("[^"]*"|'[^']*')`)
	if m := shape.FindSubmatchIndex(tag); err == nil && m != nil {
		x.d.place(path, a.Value, e.tag+m[2], e.tag+m[3])
		return
	}
	x.d.mention(path, a.Value, e.tag, "")
}

func spellXML(_ Entry, old string, value any) (string, error) {
	text, err := single(value)
	if err != nil {
		return "", err
	}
	if strings.HasPrefix(old, "<![CDATA[") && !strings.Contains(text, "]]>") {
		return "<![CDATA[" + text + "]]>", nil
	}
	escaped := strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(text)
	if len(old) > 1 && (old[0] == '"' || old[0] == '\'') && old[0] == old[len(old)-1] {
		quote := old[:1]
		return quote + strings.ReplaceAll(escaped, quote, map[string]string{`"`: "&quot;", "'": "&apos;"}[quote]) + quote, nil
	}
	return escaped, nil
}

func addXML(d *Document, path string, value any) ([]edit, error) {
	text, err := spellXML(Entry{}, "", value)
	if err != nil {
		return nil, err
	}
	parent, key := splitPath(path)
	last, there := d.lastBelow(parent)
	if !there || strings.ContainsAny(key, "[]@\"<>& ") || strings.Contains(last.Path, "@") {
		return nil, ErrNoPlace
	}
	return d.lineAfter(last, d.indentOf(last.start), "<"+key+">"+text+"</"+key+">"), nil
}
