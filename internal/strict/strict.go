// Package strict reads the YAML files people write (site files, baselines, dialects) and refuses what a
// lenient reader would swallow: unknown and repeated keys, tags, anchors, a number where a text belongs, a
// fraction where a whole number belongs. Every error names file, line and column.
//
// It is not a general YAML reader: one document a file, and no tags, anchors, aliases or merge keys.
// It imports nothing of this program but nearest.
package strict

import (
	"encoding"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"weltaxis/internal/nearest"
	"weltaxis/internal/nesting"
)

// A Pos is a place in a file; lines and columns count from 1. A struct with a field of type Pos has it set to
// where its value starts.
type Pos struct{ Line, Column int }

// An Error is one thing wrong with one file.
type Error struct {
	File string
	Pos
	Says  string
	cause error
}

// Errorf makes an *Error, which keeps what is wrapped with %w.
func Errorf(file string, at Pos, format string, args ...any) *Error {
	cause := fmt.Errorf(format, args...)
	return &Error{file, at, cause.Error(), cause}
}

// Unwrap is what it was made of; nil where it was made of words alone.
func (e *Error) Unwrap() error { return e.cause }

func (e *Error) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.Says)
	}
	return fmt.Sprintf("%s, line %d, column %d: %s", e.File, e.Line, e.Column, e.Says)
}

// A Node is one value of the document, handed to types that read themselves.
type Node struct {
	file string
	node ast.Node
}

// An Unmarshaler reads itself from a node, usually by trying Node.Into with one of several shapes.
type Unmarshaler interface{ UnmarshalNode(Node) error }

// An Expr is the source of an expression. It must stand in quotes or in a | block, because a plain scalar loses
// what follows " #" and takes a leading "!" for a tag.
type Expr struct {
	Source string
	Pos    Pos
}

// A Date is a calendar day, written 2027-03-31, at midnight UTC.
type Date struct{ time.Time }

// Decode reads the one document in data into v, a pointer to a struct. The file's name is used in errors,
// which are of type *Error.
func Decode(file string, data []byte, v any) error {
	if line, says := nesting.YAML(data); says != "" {
		return &Error{File: file, Pos: Pos{line, 1}, Says: says}
	}
	parsed, err := parser.ParseBytes(data, 0)
	if err != nil {
		return syntaxError(file, err)
	}
	if len(parsed.Docs) != 1 || parsed.Docs[0].Body == nil {
		if len(parsed.Docs) > 1 {
			return &Error{File: file, Says: "holds several documents; one is expected"}
		}
		return &Error{File: file, Says: "is empty"}
	}
	return Node{file, parsed.Docs[0].Body}.Into(v)
}

func syntaxError(file string, err error) error {
	var syntax *yaml.SyntaxError
	if errors.As(err, &syntax) {
		at := Pos{}
		if t := syntax.GetToken(); t != nil {
			at = Pos{t.Position.Line, t.Position.Column}
		}
		return &Error{file, at, "is not valid YAML: " + syntax.GetMessage(), err}
	}
	return &Error{file, Pos{}, "is not valid YAML: " + firstLine(err.Error()), err}
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

// Pos tells where the node starts.
func (n Node) Pos() Pos {
	at := n.node
	if m, ok := at.(*ast.MappingNode); ok && len(m.Values) > 0 {
		at = m.Values[0]
	}
	if v, ok := at.(*ast.MappingValueNode); ok {
		at = v.Key
	}
	if l, ok := at.(*ast.LiteralNode); ok && l.Value != nil {
		if _, empty := n.IsEmptyBlock(); empty {
			return Pos{l.Start.Position.Line, l.Start.Position.Column}
		}
		at = l.Value
	}
	t := at.GetToken()
	if t == nil {
		return Pos{}
	}
	return Pos{t.Position.Line, t.Position.Column}
}

// Errorf makes an *Error at the node.
func (n Node) Errorf(format string, args ...any) error {
	return Errorf(n.file, n.Pos(), format, args...)
}

// IsMapping tells whether the node is a mapping.
func (n Node) IsMapping() bool {
	switch n.node.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return true
	}
	return false
}

// IsSequence tells whether the node is a list.
func (n Node) IsSequence() bool {
	_, ok := n.node.(*ast.SequenceNode)
	return ok
}

// IsEmptyBlock tells whether the node is a block (| or >) with nothing in it: more likely a sign that lacks quotes.
func (n Node) IsEmptyBlock() (sign string, is bool) {
	l, ok := n.node.(*ast.LiteralNode)
	if !ok || l.Value == nil || strings.TrimSpace(l.Value.Value) != "" {
		return "", false
	}
	return l.Start.Value, true
}

// IsNothing tells whether nothing stands where the node is.
func (n Node) IsNothing() bool {
	_, is := n.node.(*ast.NullNode)
	return is
}

// Scalar returns the node's own text with its kind: "string", "int", "float" or "bool".
func (n Node) Scalar() (text, kind string, err error) {
	switch s := n.node.(type) {
	case *ast.StringNode:
		return s.Value, "string", nil
	case *ast.LiteralNode:
		return s.Value.Value, "string", nil
	case *ast.IntegerNode:
		return s.Token.Value, "int", nil
	case *ast.FloatNode:
		return s.Token.Value, "float", nil
	case *ast.BoolNode:
		return s.Token.Value, "bool", nil
	case *ast.NullNode:
		return "", "", n.Errorf("has no value")
	}
	return "", "", n.Errorf("a single value is expected here, not %s", n.kind())
}

// Into reads the node into v, a non-nil pointer.
func (n Node) Into(v any) error { return n.decode(reflect.ValueOf(v).Elem()) }

func (n Node) kind() string {
	switch n.node.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.SequenceNode:
		return "a list"
	case *ast.StringNode, *ast.LiteralNode:
		return "a text"
	case *ast.IntegerNode:
		return "a whole number"
	case *ast.FloatNode:
		return "a fraction"
	case *ast.BoolNode:
		return "true or false"
	case *ast.NullNode:
		return "nothing"
	}
	return "this"
}

func (n Node) expected(what string) error {
	hint := ""
	switch n.node.(type) {
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		if what == "a text" {
			hint = "; put it in quotes"
		}
	}
	return n.Errorf("%s is expected here, not %s%s", what, n.kind(), hint)
}

func (n Node) decode(into reflect.Value) error {
	switch n.node.(type) {
	case *ast.TagNode:
		return n.Errorf("tags (a word after !) are not used here; put the value in quotes if the ! belongs to it")
	case *ast.AnchorNode, *ast.AliasNode, *ast.MergeKeyNode:
		return n.Errorf("anchors and aliases are not used here; write the value out")
	}
	switch target := into.Addr().Interface().(type) {
	case *Expr:
		return n.decodeExpr(target)
	case *Date:
		return n.decodeDate(target)
	case Unmarshaler:
		return target.UnmarshalNode(n)
	case encoding.TextUnmarshaler:
		return n.decodeWord(target)
	}
	switch into.Kind() {
	case reflect.Pointer:
		into.Set(reflect.New(into.Type().Elem()))
		return n.decode(into.Elem())
	case reflect.Struct:
		return n.decodeStruct(into)
	case reflect.Map:
		return n.decodeMap(into)
	case reflect.Slice:
		return n.decodeSlice(into)
	}
	return n.decodeScalar(into)
}

// decodeWord reads one of a few words.
func (n Node) decodeWord(into encoding.TextUnmarshaler) error {
	text, kind, err := n.Scalar()
	if err != nil || kind != "string" {
		return n.expected("a word")
	}
	if err := into.UnmarshalText([]byte(text)); err != nil {
		hint := ""
		var of interface {
			Among() (word string, words []string)
		}
		if errors.As(err, &of) {
			hint = nearest.Hint(of.Among())
		}
		return &Error{n.file, n.Pos(), strings.Replace(err.Error(), ";", hint+";", 1), err}
	}
	return nil
}

func (n Node) decodeScalar(into reflect.Value) error {
	want := map[reflect.Kind][2]string{
		reflect.String: {"string", "a text"}, reflect.Bool: {"bool", "true or false"},
		reflect.Int: {"int", "a whole number"}, reflect.Int64: {"int", "a whole number"},
	}[into.Kind()]
	text, kind, err := n.Scalar()
	if err != nil {
		return n.expected(want[1])
	}
	if kind != want[0] {
		return n.expected(want[1])
	}
	switch into.Kind() {
	case reflect.String:
		into.SetString(text)
	case reflect.Bool:
		into.SetBool(text == "true")
	default:
		var number int64
		if _, err := fmt.Sscan(text, &number); err != nil {
			return n.expected("a whole number")
		}
		into.SetInt(number)
	}
	return nil
}

func (n Node) decodeExpr(into *Expr) error {
	switch s := n.node.(type) {
	case *ast.LiteralNode:
		*into = Expr{strings.TrimSpace(s.Value.Value), n.Pos()}
		return nil
	case *ast.StringNode:
		if quote := s.Token.Type.String(); quote == "SingleQuote" || quote == "DoubleQuote" {
			*into = Expr{s.Value, n.Pos()}
			return nil
		}
	}
	return n.Errorf("an expression stands in quotes or in a | block")
}

func (n Node) decodeDate(into *Date) error {
	text, _, err := n.Scalar()
	if err != nil {
		return n.expected("a date such as 2027-03-31")
	}
	day, err := time.Parse(time.DateOnly, text)
	if err != nil {
		return n.Errorf("%q is not a date that exists; write it as 2027-03-31", text)
	}
	into.Time = day
	return nil
}

// pairs lists a mapping's keys and values in order, refusing a key that stands twice.
func (n Node) pairs(yield func(key string, at, value Node) error) error {
	var values []*ast.MappingValueNode
	switch m := n.node.(type) {
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	default:
		return n.expected("a mapping")
	}
	seen := map[string]bool{}
	for _, pair := range values {
		at := Node{n.file, pair.Key}
		switch pair.Key.(type) {
		case *ast.MergeKeyNode, *ast.TagNode, *ast.AnchorNode, *ast.AliasNode:
			return at.Errorf("a plain key is expected here")
		}
		key := pair.Key.GetToken().Value
		if seen[key] {
			return at.Errorf("%q stands here twice", key)
		}
		seen[key] = true
		if err := yield(key, at, Node{n.file, pair.Value}); err != nil {
			return err
		}
	}
	return nil
}

var posType = reflect.TypeFor[Pos]()

func (n Node) decodeStruct(into reflect.Value) error {
	fields, names := map[string]reflect.Value{}, []string{}
	var collect func(reflect.Value)
	collect = func(into reflect.Value) {
		for i := range into.NumField() {
			field := into.Type().Field(i)
			name, option, _ := strings.Cut(field.Tag.Get("yaml"), ",")
			switch {
			case field.Type == posType:
				into.Field(i).Set(reflect.ValueOf(n.Pos()))
			case option == "inline":
				collect(into.Field(i))
			case name != "" && name != "-":
				fields[name], names = into.Field(i), append(names, name)
			}
		}
	}
	collect(into)
	return n.pairs(func(key string, at, value Node) error {
		field, known := fields[key]
		if !known {
			return at.Errorf("%q is not known here%s; known are %s", key, nearest.Hint(key, names), strings.Join(names, ", "))
		}
		if err := value.decode(field); err != nil {
			return under(key, err)
		}
		return nil
	})
}

// under puts the key in front of a message that does not name it yet.
func under(key string, err error) error {
	var e *Error
	if errors.As(err, &e) && !strings.Contains(e.Says, `"`) && !strings.Contains(e.Says, ": ") {
		return &Error{e.File, e.Pos, key + ": " + e.Says, err}
	}
	return err
}

func (n Node) decodeMap(into reflect.Value) error {
	into.Set(reflect.MakeMap(into.Type()))
	return n.pairs(func(key string, _, value Node) error {
		item := reflect.New(into.Type().Elem()).Elem()
		if err := value.decode(item); err != nil {
			return under(key, err)
		}
		into.SetMapIndex(reflect.ValueOf(key), item)
		return nil
	})
}

func (n Node) decodeSlice(into reflect.Value) error {
	list, ok := n.node.(*ast.SequenceNode)
	if !ok {
		return n.expected("a list")
	}
	into.Set(reflect.MakeSlice(into.Type(), len(list.Values), len(list.Values)))
	for i, value := range list.Values {
		if err := (Node{n.file, value}).decode(into.Index(i)); err != nil {
			return err
		}
	}
	return nil
}
