package format

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"
)

// phpLevels are the binary operators by precedence, loosest first (PHP manual, Operator Precedence), as far as
// configuration uses them. The ternary and ?? stand above, in expression.
var phpLevels = [][]string{
	{"||", "or", "xor"},
	{"&&", "and"},
	{"|", "^"},
	{"&"},
	{"==", "!=", "===", "!==", "<>", "<=>"},
	{"<", "<=", ">", ">="},
	{"."},
	{"<<", ">>"},
	{"+", "-"},
	{"*", "/", "%"},
}

const phpAtRuntime = "it is worked out while the program runs"

// expression reads one expression and works it out as far as literals allow. It ends before the first token
// that cannot belong to it.
func (p *phpParser) expression() phpNode {
	defer func() { p.depth-- }()
	if !p.deeper() {
		return unresolved(p.peek(), "it is nested too deep")
	}
	first := p.peek().start
	node := p.coalesce()
	for p.is("?") || p.is("?:") {
		node = p.ternary(node)
	}
	// Only a literal that is the whole expression can be replaced.
	if p.at == 0 || node.start != first || node.end != p.tokens[p.at-1].end {
		node.start, node.end = 0, 0
	}
	return node
}

func (p *phpParser) ternary(condition phpNode) phpNode {
	if p.next().text == "?:" {
		return p.fallback(condition, phpTruth(condition.value))
	}
	if p.accept(":") {
		return p.fallback(condition, phpTruth(condition.value))
	}
	yes := p.expression()
	p.accept(":")
	no := p.coalesce()
	switch {
	case condition.unresolved != "":
		yes.unresolved = condition.unresolved
		return yes
	case phpTruth(condition.value):
		return yes
	}
	return no
}

// fallback reads what stands after ?: or ??; keep tells whether the first value, if known, stays.
func (p *phpParser) fallback(first phpNode, keep bool) phpNode {
	second := p.coalesce()
	if first.unresolved != "" {
		if second.unresolved == "" && strings.HasPrefix(first.unresolved, phpEnvironment) {
			first.unresolved += "; without it the file has a value to fall back to"
		}
		return first
	}
	if keep {
		return first
	}
	return second
}

func (p *phpParser) coalesce() phpNode {
	node := p.binary(0)
	if !p.accept("??") {
		return node
	}
	return p.fallback(node, node.value != nil)
}

func (p *phpParser) binary(level int) phpNode {
	if level == len(phpLevels) {
		return p.unary()
	}
	left := p.binary(level + 1)
	for {
		t := p.peek()
		if t.kind != phpPunct && t.kind != phpWord || !slices.Contains(phpLevels[level], strings.ToLower(t.text)) {
			return left
		}
		p.next()
		left = phpOperate(left, strings.ToLower(t.text), p.binary(level+1))
	}
}

func phpOperate(left phpNode, op string, right phpNode) phpNode {
	if op == "." {
		return phpConcat(left, right)
	}
	out := phpNode{line: left.line, column: left.column, unresolved: cmp.Or(left.unresolved, right.unresolved)}
	if out.unresolved != "" {
		return out
	}
	a, isInt := left.value.(int64)
	b, alsoInt := right.value.(int64)
	switch {
	case op == "===" || op == "!==":
		if phpScalar(left.value) && phpScalar(right.value) {
			out.value = (left.value == right.value) == (op == "===")
			return out
		}
	case op == "&&" || op == "and":
		out.value = phpTruth(left.value) && phpTruth(right.value)
		return out
	case op == "||" || op == "or":
		out.value = phpTruth(left.value) || phpTruth(right.value)
		return out
	case isInt && alsoInt:
		if value, ok := phpArithmetic(a, op, b); ok {
			out.value = value
			return out
		}
	}
	out.unresolved = phpAtRuntime
	return out
}

// phpArithmetic works out whole numbers; false where PHP would leave them (overflow, division, comparison).
func phpArithmetic(a int64, op string, b int64) (any, bool) {
	switch op {
	case "+":
		return a + b, (a+b > a) == (b > 0)
	case "-":
		return a - b, (a-b < a) == (b > 0)
	case "*":
		return a * b, a == 0 || (a*b/a == b && !(a == -1 && b == math.MinInt64))
	case "|":
		return a | b, true
	case "&":
		return a & b, true
	case "<<":
		return a << (uint64(b) & 63), b >= 0 && b < 64
	}
	return nil, false
}

func phpConcat(left, right phpNode) phpNode {
	out := phpNode{line: left.line, column: left.column, unresolved: cmp.Or(left.unresolved, right.unresolved)}
	if out.unresolved != "" {
		return out
	}
	a, okA := phpString(left.value)
	b, okB := phpString(right.value)
	if !okA || !okB {
		out.unresolved = phpAtRuntime
		return out
	}
	out.value = a + b
	return out
}

func phpScalar(value any) bool {
	switch value.(type) {
	case nil, bool, int64, float64, string:
		return true
	}
	return false
}

// phpString is a value as text, as the concatenation operator makes it (PHP manual, Strings).
func phpString(value any) (string, bool) {
	switch v := value.(type) {
	case string:
		return v, true
	case int64:
		return strconv.FormatInt(v, 10), true
	case bool:
		if v {
			return "1", true
		}
		return "", true
	case nil:
		return "", true
	}
	return "", false
}

// phpTruth is a value as a yes or no (PHP manual, Booleans).
func phpTruth(value any) bool {
	switch v := value.(type) {
	case bool:
		return v
	case int64:
		return v != 0
	case float64:
		return v != 0
	case string:
		return v != "" && v != "0"
	case *phpArray:
		return len(v.keys) > 0
	}
	return false
}

func (p *phpParser) unary() phpNode {
	t := p.peek()
	if t.kind != phpPunct {
		return p.primary()
	}
	defer func() { p.depth-- }()
	if !p.deeper() {
		return unresolved(t, "it is nested too deep")
	}
	switch t.text {
	case "-", "+":
		p.next()
		return phpSigned(t, p.unary())
	case "!":
		p.next()
		node := p.unary()
		if node.unresolved == "" {
			node.value = !phpTruth(node.value)
		}
		return node
	case "@", "&":
		p.next()
		return p.unary()
	case "(":
		return p.parenthesised()
	}
	return p.primary()
}

func phpSigned(sign phpToken, node phpNode) phpNode {
	node.line, node.column = sign.line, sign.column
	node.start = sign.start
	if sign.text == "+" || node.unresolved != "" {
		return node
	}
	switch v := node.value.(type) {
	case int64:
		node.value = -v
	case float64:
		node.value = -v
	default:
		node.unresolved = phpAtRuntime
	}
	return node
}

var phpCasts = []string{"int", "integer", "bool", "boolean", "string", "float", "double", "array", "object"}

func (p *phpParser) parenthesised() phpNode {
	open := p.next()
	if p.isWord(phpCasts...) && p.tokens[p.at+1].text == ")" {
		cast := strings.ToLower(p.next().text)
		p.next()
		return phpCast(open, cast, p.unary())
	}
	node := p.expression()
	p.skip()
	p.accept(")")
	return p.suffixes(node)
}

func phpCast(at phpToken, cast string, node phpNode) phpNode {
	node.line, node.column = at.line, at.column
	if node.unresolved != "" {
		return node
	}
	switch cast {
	case "bool", "boolean":
		node.value = phpTruth(node.value)
		return node
	case "string":
		if text, ok := phpString(node.value); ok {
			node.value = text
			return node
		}
	case "int", "integer":
		if n, ok := node.value.(int64); ok {
			node.value = n
			return node
		}
		if text, ok := phpString(node.value); ok {
			if n, err := strconv.ParseInt(text, 10, 64); err == nil {
				node.value = n
				return node
			}
		}
	case "array":
		if _, ok := node.value.(*phpArray); ok {
			return node
		}
	}
	node.unresolved = phpAtRuntime
	return node
}

func (p *phpParser) primary() phpNode {
	t := p.next()
	node := phpNode{line: t.line, column: t.column, start: t.start, end: t.end}
	switch t.kind {
	case phpText:
		node.value = t.text
		if t.dynamic {
			node = unresolved(t, "it has a variable in it")
		}
		return p.suffixes(node)
	case phpNumber:
		node.value = phpParseNumber(t.text)
		if node.value == nil {
			node.unresolved = phpAtRuntime
		}
		return node
	case phpVar:
		return p.variable(t)
	case phpWord:
		return p.suffixes(p.word(t))
	case phpPunct:
		if t.text == "[" {
			return p.suffixes(p.array(t, "]"))
		}
		if t.kind != phpEnd && slices.Contains([]string{")", "]", "}", ";", ","}, t.text) {
			p.at-- // not ours
		}
	}
	return unresolved(t, phpAtRuntime)
}

// phpParseNumber reads a literal (PHP manual, Integers): nil for what is none. A whole number too large for 64
// bits is a fraction, as in PHP.
func phpParseNumber(text string) any {
	text = strings.ReplaceAll(text, "_", "")
	lower := strings.ToLower(text)
	octal := len(lower) > 1 && lower[0] == '0' && isDigit(lower[1])
	if octal && !strings.ContainsAny(lower, ".e") {
		lower = "0o" + lower[1:]
	}
	if n, err := strconv.ParseInt(lower, 0, 64); err == nil {
		return n
	}
	if f, err := strconv.ParseFloat(text, 64); err == nil {
		return f
	}
	return nil
}

// phpEnvironment starts the reason of what only the environment of the site's own process can tell.
const phpEnvironment = "it comes from the environment variable "

func (p *phpParser) environment(t phpToken, name string) phpNode {
	if value, ok := p.options.Env(name); ok {
		return phpNode{value: value, line: t.line, column: t.column}
	}
	return unresolved(t, phpEnvironment+name+", which cannot be seen from here")
}

func (p *phpParser) variable(t phpToken) phpNode {
	if p.is("[") && (t.text == "_ENV" || t.text == "_SERVER") {
		if keys, known := p.subscripts(); known && len(keys) == 1 {
			return p.environment(t, keys[0])
		}
		return unresolved(t, phpAtRuntime)
	}
	node, ok := p.variables[t.text]
	if !ok {
		node = unresolved(t, "it is taken from $"+t.text+", which the file does not set before")
	}
	node.line, node.column = t.line, t.column
	return p.suffixes(node)
}

// suffixes reads [key] after a value; calls and members make it unresolved.
func (p *phpParser) suffixes(node phpNode) phpNode {
	for {
		t := p.peek()
		switch {
		case p.is("["):
			keys, known := p.subscripts()
			if !known {
				keys = []string{pushKey}
			}
			node = phpIndex(node, keys, phpToken{line: node.line, column: node.column})
		case p.is("("):
			p.group()
			node = unresolved(phpToken{line: node.line, column: node.column}, phpAtRuntime)
		case p.is("->"), p.is("?->"), p.is("::"):
			p.next()
			p.next()
			node = unresolved(t, phpAtRuntime)
		case p.is("++"), p.is("--"):
			p.next()
			node = unresolved(t, phpAtRuntime)
		default:
			return node
		}
	}
}

func (p *phpParser) array(open phpToken, end string) phpNode {
	array := &phpArray{items: map[string]phpNode{}}
	for !p.is(end) && p.peek().kind != phpEnd {
		if p.accept(",") {
			continue
		}
		if p.accept("...") {
			p.expression()
			p.skip(",", end)
			continue
		}
		item := p.expression()
		if p.accept("=>") {
			key, ok := phpKey(item)
			item = p.expression()
			if ok {
				array.set(key, item)
			}
		} else {
			array.push(item)
		}
		p.skip(",", end)
	}
	p.accept(end)
	return phpNode{value: array, line: open.line, column: open.column, start: open.start, end: p.tokens[p.at-1].end}
}

// word reads a name: a keyword, a constant, a function or a class.
func (p *phpParser) word(t phpToken) phpNode {
	node := phpNode{line: t.line, column: t.column, start: t.start, end: t.end}
	name := strings.TrimPrefix(t.text, `\`)
	switch strings.ToLower(name) {
	case "true":
		node.value = true
		return node
	case "false":
		node.value = false
		return node
	case "null":
		return node
	case "php_eol":
		node.value = "\n"
		return node
	case "directory_separator":
		node.value = "/"
		return node
	case "__dir__":
		node.value = p.options.Dir
		return node
	case "__file__":
		node.value = p.options.Dir + "/."
		return node
	case "array":
		if p.accept("(") {
			return p.array(t, ")")
		}
	case "getenv", "env":
		return p.getenv(t)
	case "dirname":
		return p.dirname(t)
	case "new", "fn", "function", "match", "static", "clone", "print", "throw":
		p.skip(",", ";")
		return unresolved(t, phpAtRuntime)
	}
	if p.is("(") {
		p.group()
		return unresolved(t, "it is worked out by "+name+"() while the program runs")
	}
	return p.named(t, name)
}

// named looks up a constant, or a class constant, that the file defines before.
func (p *phpParser) named(t phpToken, name string) phpNode {
	if p.is("::") && p.tokens[p.at+1].kind == phpWord {
		p.next()
		name += "::" + p.next().text
	}
	node, ok := p.constants[name]
	if !ok {
		return unresolved(t, "it is taken from "+name+", which the file does not define before")
	}
	node.line, node.column = t.line, t.column
	return node
}

// getenv reads getenv('NAME') and the common env('NAME', fallback).
func (p *phpParser) getenv(t phpToken) phpNode {
	if !p.accept("(") {
		return unresolved(t, phpAtRuntime)
	}
	name, ok := phpKey(p.expression())
	fallback := p.accept(",")
	var second phpNode
	if fallback {
		second = p.expression()
	}
	p.skip()
	p.accept(")")
	if !ok {
		return unresolved(t, phpAtRuntime)
	}
	node := p.environment(t, name)
	if fallback && strings.EqualFold(t.text, "env") && node.unresolved != "" && second.unresolved == "" {
		node.unresolved += "; without it the file has a value to fall back to"
	}
	return node
}

func (p *phpParser) dirname(t phpToken) phpNode {
	if !p.accept("(") {
		return unresolved(t, phpAtRuntime)
	}
	node, levels := p.expression(), int64(1)
	if p.accept(",") {
		levels, _ = p.expression().value.(int64)
	}
	p.skip()
	p.accept(")")
	text, ok := node.value.(string)
	if node.unresolved != "" || !ok || levels < 1 {
		return unresolved(t, cmp.Or(node.unresolved, phpAtRuntime))
	}
	return phpNode{value: phpParent(text, levels), line: t.line, column: t.column}
}
