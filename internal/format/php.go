package format

import (
	"cmp"
	"fmt"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
)

// readPHP reads a PHP file that holds configuration. It is never run: what the file sets is worked out from
// literals, and what cannot be is an entry with a reason.
//
// Paths: NAME for a constant (define or const); $name.key.key for a variable and what lies in its arrays;
// return.key for a returned array; Class::NAME and Class::$name for what a class declares. A list without keys
// is one entry with a []any; its items are also reachable as .0, .1.
func readPHP(d *Document) error {
	tokens, err := scanPHP(d.data)
	if err != nil {
		return err
	}
	p := &phpParser{tokens: tokens, options: d.options, doc: d,
		constants: map[string]phpNode{}, variables: map[string]phpNode{}}
	if err := p.balanced(); err != nil {
		return err
	}
	for !p.stopped && p.peek().kind != phpEnd {
		p.statement()
	}
	if p.tooDeep {
		return &SyntaxError{p.peek().line, p.peek().column, "brackets are nested too deep", nil}
	}
	for name, node := range p.variables {
		p.flatten("$"+name, node, 0)
	}
	d.sortByPlace()
	return nil
}

// A phpNode is one value: nil, bool, int64, float64, string or *phpArray, or unresolved with a reason.
type phpNode struct {
	value        any
	unresolved   string
	line, column int
	start, end   int // of the literal's own text; both 0 when it has none
}

type phpArray struct {
	keys  []string
	items map[string]phpNode
	next  int64 // the key of the next item without one
}

func (a *phpArray) set(key string, node phpNode) {
	if _, there := a.items[key]; !there {
		a.keys = append(a.keys, key)
	}
	a.items[key] = node
	if n, err := strconv.ParseInt(key, 10, 64); err == nil && n >= a.next && n < math.MaxInt64 {
		a.next = n + 1
	}
}

func (a *phpArray) push(node phpNode) { a.set(strconv.FormatInt(a.next, 10), node) }

// isList tells whether the keys are 0, 1, 2 in order.
func (a *phpArray) isList() bool {
	for i, key := range a.keys {
		if key != strconv.Itoa(i) {
			return false
		}
	}
	return true
}

type phpParser struct {
	tokens    []phpToken
	at        int
	options   Options
	doc       *Document
	constants map[string]phpNode
	variables map[string]phpNode
	condition string // why what is set here may not be; "" outside conditions
	guarded   bool   // inside if (!defined(...)), which is there because something else may define the name
	depth     int
	tooDeep   bool
	stopped   bool
}

func (p *phpParser) peek() phpToken { return p.tokens[p.at] }

func (p *phpParser) next() phpToken {
	t := p.tokens[p.at]
	if t.kind != phpEnd {
		p.at++
	}
	return t
}

func (p *phpParser) is(text string) bool {
	t := p.peek()
	return t.kind == phpPunct && t.text == text
}

func (p *phpParser) accept(text string) bool {
	if p.is(text) {
		p.next()
		return true
	}
	return false
}

func (p *phpParser) isWord(words ...string) bool {
	t := p.peek()
	return t.kind == phpWord && slices.ContainsFunc(words, func(w string) bool { return strings.EqualFold(strings.TrimPrefix(t.text, `\`), w) })
}

// unresolved marks the value at a token as one that cannot be told.
func unresolved(t phpToken, why string) phpNode {
	return phpNode{unresolved: why, line: t.line, column: t.column}
}

var phpPairs = map[string]string{")": "(", "]": "[", "}": "{"}

// balanced refuses a file whose brackets do not match, as a truncated one's do not.
func (p *phpParser) balanced() error {
	var open []phpToken
	for _, t := range p.tokens {
		if t.kind == phpEnd && len(open) > 0 {
			last := open[len(open)-1]
			return &SyntaxError{last.line, last.column, fmt.Sprintf("the %s that stands here is never closed", last.text), nil}
		}
		if t.kind != phpPunct {
			continue
		}
		switch t.text {
		case "(", "[", "{":
			open = append(open, t)
		case ")", "]", "}":
			if len(open) == 0 || open[len(open)-1].text != phpPairs[t.text] {
				return &SyntaxError{t.line, t.column, fmt.Sprintf("the %s that stands here closes nothing", t.text), nil}
			}
			open = open[:len(open)-1]
		}
	}
	return nil
}

// skip passes over tokens up to one of the stops at this depth of brackets, and leaves it.
func (p *phpParser) skip(stops ...string) {
	depth := 0
	for p.peek().kind != phpEnd {
		t := p.peek()
		if t.kind == phpPunct {
			if depth == 0 && slices.Contains(stops, t.text) {
				return
			}
			switch t.text {
			case "(", "[", "{":
				depth++
			case ")", "]", "}":
				if depth--; depth < 0 {
					return
				}
			}
		}
		p.next()
	}
}

// group passes over one bracketed group that starts here.
func (p *phpParser) group() {
	if p.is("(") || p.is("[") || p.is("{") {
		p.next()
		p.skip()
		p.next()
	}
}

func (p *phpParser) endStatement() {
	p.skip(";")
	p.accept(";")
}

// deeper counts nesting; false when it is too deep to go on.
func (p *phpParser) deeper() bool {
	if p.depth++; p.depth > maxDepth {
		p.tooDeep, p.stopped = true, true
		return false
	}
	return true
}

func (p *phpParser) statement() {
	defer func() { p.depth-- }()
	if !p.deeper() {
		p.at = len(p.tokens) - 1
		return
	}
	t := p.peek()
	switch {
	case p.accept(";"), p.accept("}"), p.accept(")"), p.accept("]"):
	case p.is("{"):
		p.block()
	case t.kind == phpVar:
		p.assignment()
	case p.accept("#"): // an attribute
		p.group()
	case p.accept("@"):
	case t.kind == phpWord:
		p.wordStatement(t)
	default:
		p.endStatement()
	}
}

func (p *phpParser) block() {
	p.next()
	for !p.stopped && !p.is("}") && p.peek().kind != phpEnd {
		p.statement()
	}
	p.accept("}")
}

func (p *phpParser) wordStatement(t phpToken) {
	switch {
	case p.isWord("define"):
		p.define()
	case p.isWord("const"):
		p.next()
		p.constList("")
	case p.isWord("return"):
		p.returns()
	case p.isWord("exit", "die", "__halt_compiler"):
		p.endStatement()
		p.stopped = p.condition == "" && !p.guarded
	case p.isWord("if"):
		p.conditional()
	case p.isWord("foreach", "for", "while", "switch", "do", "try", "catch", "finally", "else", "elseif"):
		p.next()
		if p.is("(") {
			p.group()
		}
		p.under(fmt.Sprintf("it is set inside %s on line %d", strings.ToLower(t.text), t.line), p.body)
	case p.isWord("require", "require_once", "include", "include_once"):
		p.next()
		node := p.expression()
		p.doc.Includes = append(p.doc.Includes, p.entry("", node))
		p.endStatement()
	case p.isWord("class", "trait", "interface", "enum"):
		p.class()
	case p.isWord("abstract", "final", "readonly"):
		p.next()
	case p.isWord("function"):
		p.skip("{", ";")
		p.group()
	case p.isWord("namespace"):
		p.skip("{", ";")
		p.accept(";")
	default:
		p.endStatement()
	}
}

// under runs the reading of statements that may not be reached.
func (p *phpParser) under(condition string, read func()) {
	before := p.condition
	if before == "" {
		p.condition = condition
	}
	read()
	p.condition = before
}

// body reads the statement or block of a condition, in either spelling.
func (p *phpParser) body() {
	if !p.accept(":") {
		p.statement()
		return
	}
	for !p.stopped && p.peek().kind != phpEnd && !p.isWord("endif", "endforeach", "endfor", "endwhile", "endswitch", "else", "elseif") {
		p.statement()
	}
	if !p.isWord("else", "elseif") {
		p.endStatement()
	}
}

// conditional reads if. A guard against defining twice is taken as passed unless the file itself defines the
// name before; a condition that can be told is followed; of any other, both branches are read as uncertain.
func (p *phpParser) conditional() {
	t := p.next()
	start := p.at
	known, holds := p.guard()
	defer func(before bool) { p.guarded = before }(p.guarded)
	p.guarded = p.guarded || known
	if !known {
		p.at = start
		if p.accept("(") {
			node := p.expression()
			known, holds = node.unresolved == "" && p.is(")"), phpTruth(node.value)
			p.skip()
			p.accept(")")
		}
	}
	branch := func(taken bool) {
		switch {
		case !known:
			p.under(fmt.Sprintf("it is set only if the condition on line %d holds", t.line), p.body)
		case taken:
			p.body()
		default:
			p.unread(p.body)
		}
	}
	branch(holds)
	switch {
	case p.isWord("elseif"):
		if known && holds {
			p.unread(p.conditional)
			return
		}
		p.orUnder(known, t.line, p.conditional)
	case p.isWord("else"):
		p.next()
		if p.isWord("if") {
			if known && holds {
				p.unread(p.conditional)
				return
			}
			p.orUnder(known, t.line, p.conditional)
			return
		}
		branch(!holds)
	}
}

func (p *phpParser) orUnder(known bool, line int, read func()) {
	if known {
		read()
		return
	}
	p.under(fmt.Sprintf("it is set only if the condition on line %d does not hold", line), read)
}

// unread passes over statements that are never reached: it reads them and forgets what they set.
func (p *phpParser) unread(read func()) {
	aside := &phpParser{tokens: p.tokens, at: p.at, options: p.options, depth: p.depth, condition: "it is never reached",
		doc: &Document{entries: map[string]Entry{}}, constants: map[string]phpNode{}, variables: map[string]phpNode{}}
	outer := *p
	*p = *aside
	read()
	outer.at, outer.tooDeep = p.at, p.tooDeep
	*p = outer
}

// guard recognises (!defined('NAME')).
func (p *phpParser) guard() (known, holds bool) {
	shape := []string{"(", "!", "", "(", "", ")", ")"}
	name := ""
	for i, want := range shape {
		t := p.next()
		switch {
		case i == 2 && !(t.kind == phpWord && strings.EqualFold(strings.TrimPrefix(t.text, `\`), "defined")):
			return false, false
		case i == 4:
			if t.kind != phpText || t.dynamic {
				return false, false
			}
			name = t.text
		case want != "" && t.text != want:
			return false, false
		}
	}
	_, defined := p.constants[name]
	return true, !defined
}

func (p *phpParser) define() {
	p.next()
	if !p.accept("(") {
		p.endStatement()
		return
	}
	name := p.expression()
	if key, ok := name.value.(string); ok && name.unresolved == "" && p.accept(",") {
		p.constant(key, p.expression())
	}
	p.endStatement()
}

// constant records a constant; the first definition is the one that stays (PHP manual, define).
func (p *phpParser) constant(name string, node phpNode) {
	name = strings.TrimPrefix(name, `\`)
	if _, there := p.constants[name]; there {
		return
	}
	node = p.conditioned(node)
	p.constants[name] = node
	p.flatten(name, node, 0)
}

func (p *phpParser) conditioned(node phpNode) phpNode {
	if p.condition != "" && node.unresolved == "" {
		node.unresolved = p.condition
	}
	return node
}

// constList reads NAME = value, NAME = value; with an optional type before each name.
func (p *phpParser) constList(prefix string) {
	for p.peek().kind == phpWord {
		name := p.next().text
		for p.peek().kind == phpWord {
			name = p.next().text
		}
		if !p.accept("=") {
			break
		}
		p.constant(prefix+name, p.expression())
		if !p.accept(",") {
			break
		}
	}
	p.endStatement()
}

func (p *phpParser) returns() {
	p.next()
	if !p.is(";") {
		p.flatten("return", p.conditioned(p.expression()), 0)
	}
	p.endStatement()
	p.stopped = p.condition == ""
}

// class reads the constants and properties that a class declares, and passes over its methods.
func (p *phpParser) class() {
	p.next()
	name := p.next().text
	p.skip("{", ";")
	if !p.accept("{") {
		return
	}
	for !p.is("}") && p.peek().kind != phpEnd {
		switch t := p.peek(); {
		case p.isWord("function"):
			p.skip("{", ";")
			p.group()
		case p.isWord("const"):
			p.next()
			p.constList(name + "::")
		case t.kind == phpVar:
			p.next()
			node := unresolved(t, "it has no value until the program runs")
			if p.accept("=") {
				node = p.expression()
			}
			p.flatten(name+"::$"+t.text, p.conditioned(node), 0)
			p.endStatement()
		case p.is("{"):
			p.group()
		default:
			p.next()
		}
	}
	p.accept("}")
}

// assignment reads $a = v; $a['b']['c'] = v; $a[] = v; and .=, ??=. The variable named $GLOBALS is the table of
// the others.
func (p *phpParser) assignment() {
	t := p.next()
	keys, known := p.subscripts()
	op := p.peek()
	if op.kind != phpPunct || !slices.Contains([]string{"=", ".=", "??="}, op.text) {
		if op.kind == phpPunct && op.text != ";" && op.text != "(" && op.text != "->" && op.text != "::" {
			p.store(t.text, keys, unresolved(t, fmt.Sprintf("it is changed on line %d while the program runs", t.line)))
		}
		p.endStatement()
		return
	}
	p.next()
	node := p.expression()
	p.endStatement()
	if !known {
		node = unresolved(t, fmt.Sprintf("part of it is set on line %d under a name that is worked out while the program runs", t.line))
		keys = nil
	}
	if op.text != "=" {
		node = p.combine(p.fetch(t, keys), op.text, node)
	}
	p.store(t.text, keys, node)
}

// pushKey stands for an item without a key; a NUL cannot be typed by mistake.
const pushKey = "\x00push"

func (p *phpParser) subscripts() (keys []string, known bool) {
	known = true
	for p.accept("[") {
		if p.accept("]") {
			keys = append(keys, pushKey)
			continue
		}
		node := p.expression()
		key, ok := phpKey(node)
		known = known && ok && p.is("]")
		p.skip()
		p.accept("]")
		keys = append(keys, key)
	}
	return keys, known
}

func (p *phpParser) combine(before phpNode, op string, node phpNode) phpNode {
	switch {
	case op == "??=" && before.unresolved == "" && before.value != nil:
		return before
	case op == ".=":
		return phpConcat(before, node)
	}
	return node
}

func (p *phpParser) fetch(t phpToken, keys []string) phpNode {
	node, ok := p.variables[t.text]
	if !ok {
		return phpNode{line: t.line, column: t.column}
	}
	return phpIndex(node, keys, t)
}

func phpIndex(node phpNode, keys []string, t phpToken) phpNode {
	for _, key := range keys {
		array, isArray := node.value.(*phpArray)
		if node.unresolved != "" || !isArray {
			return unresolved(t, cmp.Or(node.unresolved, "it is looked up where the file puts nothing"))
		}
		item, there := array.items[key]
		if !there {
			return unresolved(t, "it is looked up where the file puts nothing")
		}
		node = item
	}
	return node
}

func (p *phpParser) store(name string, keys []string, node phpNode) {
	if name == "GLOBALS" && len(keys) > 0 {
		name, keys = keys[0], keys[1:]
	}
	node = p.conditioned(node)
	if len(keys) == 0 {
		p.variables[name] = node
		return
	}
	root, ok := p.variables[name]
	array, isArray := root.value.(*phpArray)
	if !ok || !isArray {
		if root.unresolved != "" {
			return
		}
		array = &phpArray{items: map[string]phpNode{}}
		p.variables[name] = phpNode{value: array, line: node.line, column: node.column}
	}
	for _, key := range keys[:len(keys)-1] {
		inner, isArray := array.items[key].value.(*phpArray)
		if !isArray {
			inner = &phpArray{items: map[string]phpNode{}}
			array.assign(key, phpNode{value: inner, line: node.line, column: node.column})
		}
		array = inner
	}
	array.assign(keys[len(keys)-1], node)
}

func (a *phpArray) assign(key string, node phpNode) {
	if key == pushKey {
		a.push(node)
		return
	}
	a.set(key, node)
}

func (p *phpParser) entry(path string, node phpNode) Entry {
	e := Entry{Path: path, Line: node.line, Column: node.column, Unresolved: node.unresolved,
		start: node.start, end: node.end, placed: node.end > node.start}
	if node.unresolved == "" {
		e.Value = node.value
		if array, ok := node.value.(*phpArray); ok {
			e.Value = nil
			e.placed = e.placed && array.isList()
			if array.isList() {
				e.Value = phpList(array)
			}
		}
	}
	return e
}

// phpList is a list's plain items; nested arrays and what is unresolved are left out, and have entries of their
// own.
func phpList(array *phpArray) []any {
	list := []any{}
	for _, key := range array.keys {
		node := array.items[key]
		if _, nested := node.value.(*phpArray); !nested && node.unresolved == "" {
			list = append(list, node.value)
		}
	}
	return list
}

// flatten records a value and all below it.
func (p *phpParser) flatten(path string, node phpNode, depth int) {
	p.doc.put(p.entry(path, node))
	array, ok := node.value.(*phpArray)
	if !ok || node.unresolved != "" || depth > maxDepth {
		return
	}
	for _, key := range array.keys {
		p.flatten(path+"."+key, array.items[key], depth+1)
	}
}

// phpKey is an array key as text; booleans, fractions and null become what PHP makes of them.
func phpKey(node phpNode) (string, bool) {
	if node.unresolved != "" {
		return "", false
	}
	switch v := node.value.(type) {
	case string:
		return v, true
	case int64:
		return strconv.FormatInt(v, 10), true
	case float64:
		return strconv.FormatInt(int64(v), 10), true
	case bool:
		if v {
			return "1", true
		}
		return "0", true
	case nil:
		return "", true
	}
	return "", false
}

// phpParent is what dirname makes of a path (PHP manual, dirname).
func phpParent(dir string, levels int64) string {
	for range min(levels, 64) {
		dir = path.Dir(dir)
	}
	return dir
}
