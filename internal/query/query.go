// Package query is the small language in which dialects ask a database: one SELECT that means the same on SQLite,
// MariaDB, MySQL and PostgreSQL, and can do nothing but read rows of the site's own tables.
//
// A query is parsed, and what the server gets is printed again from what was understood: names in the server's own
// quotes, every text as an argument. So there is nothing that a server could read otherwise. What is not in the grammar
// is refused; nothing is searched for what is known to be bad.
//
//	query   = "SELECT" ["DISTINCT"] item {"," item} "FROM" table {"JOIN" table "ON" expr | "LEFT JOIN" table "ON" expr}
//	          ["WHERE" expr] ["GROUP BY" expr {"," expr}] ["ORDER BY" expr ["DESC"] {"," expr ["DESC"]}] ["LIMIT" number]
//	item    = expr ["AS" name]
//	table   = name [["AS"] name]
//	expr    = and {"OR" and}          and = not {"AND" not}          not = ["NOT"] compared
//	compared = sum [("=" | "<>" | "<" | "<=" | ">" | ">=") sum | "IS" ["NOT"] "NULL" | ["NOT"] "IN" "(" (list | query) ")" | ["NOT"] "BETWEEN" sum "AND" sum]
//	sum     = product {("+" | "-") product}          product = value {"*" value}
//	value   = number | text | name ["." name] | {variable} | "NULL" | "TRUE" | "FALSE" | "(" (expr | query) ")" | "EXISTS" "(" query ")"
//	        | function "(" ... ")" | "COUNT" "(" ("*" | ["DISTINCT"] expr) ")" | "CAST" "(" expr "AS" ("TEXT" | "INTEGER") ")"
//	        | "CASE" {"WHEN" expr "THEN" expr} ["ELSE" expr] "END"
//
// Left out because servers differ: LIKE (the case of letters), / (whole or broken numbers), || (or, or put together),
// lengths, rounding and dates. The package imports nothing of this program.
package query

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// The bounds of a query.
const (
	maxLength = 4096 // bytes
	maxDepth  = 20   // of parentheses and inner queries
	maxTables = 6    // all inner queries included
)

// functions take one argument or as many as stand there, and mean the same everywhere.
var functions = map[string]struct{ least, most int }{
	"MIN": {1, 1}, "MAX": {1, 1}, "SUM": {1, 1}, "COALESCE": {1, 8}, "NULLIF": {2, 2}, "LOWER": {1, 1}, "UPPER": {1, 1}, "TRIM": {1, 1},
	"REPLACE": {3, 3}, "SUBSTR": {2, 3}, "ABS": {1, 1},
}

// words are reserved: no table or column goes by them unless in quotes.
var words = []string{"SELECT", "DISTINCT", "FROM", "JOIN", "LEFT", "ON", "WHERE", "GROUP", "ORDER", "BY", "DESC", "ASC", "LIMIT", "AS", "OR", "AND", "NOT", "IS",
	"NULL", "IN", "BETWEEN", "TRUE", "FALSE", "EXISTS", "CROSS", "INNER", "FULL", "RIGHT", "NATURAL", "OUTER", "UNION", "INTO", "FOR", "HAVING", "USING", "VALUES", "CASE", "WHEN", "THEN", "ELSE", "END"}

// A Query is one that was understood.
type Query struct {
	parts []part
	// Marks are the variables that stand in it.
	Marks []string
}

// A part is a piece of what is printed.
type part struct {
	kind kind
	text string
}

type kind uint8

const (
	plain    kind = iota // words and signs of SQL
	name                 // of a table or a column, with marks in it
	quoted               // the same, as it was written in quotes
	text                 // a text, given as an argument; with marks in it
	castText             // TEXT as a type to cast to
	castInt              // INTEGER
)

// An Error says where a query is not in the grammar.
type Error struct {
	At   int // byte, from 0
	Says string
}

func (e *Error) Error() string { return e.Says }

// Parse reads a query. The error is an *Error.
func Parse(source string) (q *Query, err error) {
	if len(source) > maxLength {
		return nil, &Error{maxLength, fmt.Sprintf("it has %d bytes; at most %d", len(source), maxLength)}
	}
	p := &parser{source: source, q: &Query{}}
	defer func() {
		if failure := recover(); failure != nil {
			problem, is := failure.(*Error)
			if !is {
				panic(failure)
			}
			q, err = nil, problem
		}
	}()
	p.next()
	p.query()
	if p.token != "" {
		p.fail("%s has no place behind it", p.token)
	}
	return p.q, nil
}

// A parser reads from left to right, one token ahead, and prints as it goes.
type parser struct {
	source        string
	at, from      int // behind the token, and where it starts
	token         string
	depth, tables int
	q             *Query
}

var tokens = regexp.MustCompile("^(?:[A-Za-z_{][A-Za-z0-9_{}]*|[0-9]+(?:\\.[0-9]+)?|'(?:[^']|'')*'|\"[^\"]+\"|`[^`]+`|<>|!=|<=|>=|[=<>(),.*+-])")

// next takes the next token; "" is the end.
func (p *parser) next() {
	rest := strings.TrimLeft(p.source[p.at:], " \t\r\n")
	p.from = len(p.source) - len(rest)
	p.token = tokens.FindString(rest)
	p.at = p.from + len(p.token)
	if p.token == "" && rest != "" {
		p.fail("%q has no place in a query", rest[:1])
	}
}

func (p *parser) fail(format string, args ...any) {
	panic(&Error{p.from, "a query is one SELECT of a few parts, see docs/dialects.md: " + fmt.Sprintf(format, args...)})
}

// is tells whether the token is one of these words or signs.
func (p *parser) is(wanted ...string) bool { return slices.Contains(wanted, strings.ToUpper(p.token)) }

func (p *parser) print(k kind, t string) { p.q.parts = append(p.q.parts, part{k, t}) }

// take prints the token and goes on.
func (p *parser) take() {
	p.print(plain, strings.ToUpper(p.token))
	p.next()
}

// need takes a word that has to be there.
func (p *parser) need(wanted string) {
	if !p.is(wanted) {
		p.fail("%s is expected, and %s stands there", wanted, shown(p.token))
	}
	p.take()
}

func shown(token string) string {
	if token == "" {
		return "nothing"
	}
	return token
}

// deeper counts what is nested.
func (p *parser) deeper() func() {
	if p.depth++; p.depth > maxDepth {
		p.fail("it is nested too deep")
	}
	return func() { p.depth-- }
}

func (p *parser) query() {
	defer p.deeper()()
	p.need("SELECT")
	if p.is("DISTINCT") {
		p.take()
	}
	p.several(func() {
		p.expr()
		if p.is("AS") {
			p.take()
			p.name()
		}
	})
	if !p.is("FROM") {
		return
	}
	p.take()
	p.table()
	for p.is("JOIN", "LEFT") {
		if p.is("LEFT") {
			p.take()
		}
		p.need("JOIN")
		p.table()
		p.need("ON")
		p.expr()
	}
	if p.is("WHERE") {
		p.take()
		p.expr()
	}
	if p.is("GROUP") {
		p.take()
		p.need("BY")
		p.several(p.expr)
	}
	if p.is("ORDER") {
		p.take()
		p.need("BY")
		p.several(func() {
			p.expr()
			if p.is("ASC", "DESC") {
				p.take()
			}
		})
	}
	if p.is("LIMIT") {
		p.take()
		if _, err := strconv.Atoi(p.token); err != nil {
			p.fail("LIMIT is followed by a whole number")
		}
		p.take()
	}
}

// several reads what is parted by commas.
func (p *parser) several(one func()) {
	one()
	for p.is(",") {
		p.take()
		one()
	}
}

// table is a table of the site, never one of the server's own.
func (p *parser) table() {
	if p.tables++; p.tables > maxTables {
		p.fail("it asks for more than %d tables", maxTables)
	}
	lower := strings.ToLower(strings.Trim(p.token, "\"`"))
	if strings.HasPrefix(lower, "pg_") || strings.HasPrefix(lower, "sqlite_") {
		p.fail("%s is one of the server's own tables", p.token)
	}
	p.name()
	if p.is(".") {
		p.fail("a table of another schema or database is not asked for")
	}
	if p.is("AS") {
		p.take()
		p.name()
	} else if p.isName() {
		p.name()
	}
}

func (p *parser) isName() bool {
	if p.token == "" {
		return false
	}
	first := p.token[0]
	return first == '"' || first == '`' || first != '\'' && !p.is(words...) && strings.ContainsAny(p.token[:1], "_{abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ")
}

var (
	marks     = regexp.MustCompile(`\{([a-z_]+)\}`)
	nameShape = regexp.MustCompile(`^(?:[A-Za-z0-9_]|\{[a-z_]+\})+$`)
)

func (p *parser) name() {
	if !p.isName() {
		p.fail("a name is expected, and %s stands there", shown(p.token))
	}
	if bare := strings.Trim(p.token, "\"`"); bare != p.token {
		if strings.ContainsAny(bare, "\x00\\") {
			p.fail("%s is no name", p.token)
		}
		p.mark(bare)
		p.print(quoted, bare)
	} else {
		if !nameShape.MatchString(p.token) {
			p.fail("%s is no name", p.token)
		}
		p.mark(p.token)
		p.print(name, p.token)
	}
	p.next()
}

// mark notes the variables in a name or a text.
func (p *parser) mark(t string) {
	for _, m := range marks.FindAllStringSubmatch(t, -1) {
		if !slices.Contains(p.q.Marks, m[1]) {
			p.q.Marks = append(p.q.Marks, m[1])
		}
	}
}

func (p *parser) expr() {
	defer p.deeper()()
	p.chain(func() { p.chain(p.not, "AND") }, "OR")
}

// chain reads one or more, with one of these between them.
func (p *parser) chain(one func(), between ...string) {
	one()
	for p.is(between...) {
		p.take()
		one()
	}
}

func (p *parser) not() {
	if p.is("NOT") {
		p.take()
	}
	p.sum()
	negated := p.is("NOT")
	if negated {
		p.take()
	}
	switch {
	case p.is("IN"):
		p.take()
		p.need("(")
		if p.is("SELECT") {
			p.query()
		} else {
			p.several(p.sum)
		}
		p.need(")")
	case p.is("BETWEEN"):
		p.take()
		p.sum()
		p.need("AND")
		p.sum()
	case negated:
		p.fail("IN or BETWEEN is expected after NOT")
	case p.is("IS"):
		p.take()
		if p.is("NOT") {
			p.take()
		}
		p.need("NULL")
	case p.is("!="):
		p.print(plain, "<>")
		p.next()
		p.sum()
	case p.is("=", "<>", "<", "<=", ">", ">="):
		p.take()
		p.sum()
	}
}

func (p *parser) sum() { p.chain(func() { p.chain(p.value, "*") }, "+", "-") }

func (p *parser) value() {
	defer p.deeper()()
	upper := strings.ToUpper(p.token)
	switch limits, call := functions[upper]; {
	case p.token == "":
		p.fail("a value is expected at the end")
	case p.is("("):
		p.take()
		if p.is("SELECT") {
			p.query()
		} else {
			p.expr()
		}
		p.need(")")
	case p.is("EXISTS"):
		p.take()
		p.need("(")
		p.query()
		p.need(")")
	case p.is("NULL", "TRUE", "FALSE"):
		p.take()
	case p.is("CASE"):
		p.cases()
	case p.is("CAST") && p.calls():
		p.cast()
	case p.is("COUNT") && p.calls():
		p.count()
	case p.is("-"):
		p.take()
		p.number()
	case p.token[0] >= '0' && p.token[0] <= '9':
		p.number()
	case p.token[0] == '\'':
		p.text()
	case call && p.calls():
		p.take()
		p.call(upper, limits.least, limits.most)
	case marks.FindString(p.token) == p.token:
		p.mark(p.token)
		p.print(text, p.token)
		p.next()
	default:
		p.column()
	}
}

// calls tells whether an opening parenthesis follows the token.
func (p *parser) calls() bool {
	return strings.HasPrefix(strings.TrimLeft(p.source[p.at:], " \t\r\n"), "(")
}

func (p *parser) column() {
	called := p.token
	p.name()
	switch {
	case p.is("."):
		p.take()
		p.name()
	case p.is("("):
		var may []string
		for f := range functions {
			may = append(may, strings.ToLower(f))
		}
		slices.Sort(may)
		p.fail("it does not call %s(); it may call count, cast, %s", called, strings.Join(may, ", "))
	}
}

func (p *parser) number() {
	if p.token == "" || p.token[0] < '0' || p.token[0] > '9' || len(p.token) > 18 {
		p.fail("a number is expected, and %s stands there", shown(p.token))
	}
	p.take()
}

func (p *parser) text() {
	t := strings.ReplaceAll(p.token[1:len(p.token)-1], "''", "'")
	if strings.Contains(t, "\x00") {
		p.fail("a text holds no NUL")
	}
	p.mark(t)
	p.print(text, t)
	p.next()
}

func (p *parser) call(function string, least, most int) {
	p.need("(")
	n := 0
	p.several(func() {
		p.expr()
		n++
	})
	p.need(")")
	if n < least || n > most {
		p.fail("%s takes %d to %d values", strings.ToLower(function), least, most)
	}
}

func (p *parser) count() {
	p.take()
	p.need("(")
	switch {
	case p.is("*"):
		p.take()
	case p.is("DISTINCT"):
		p.take()
		p.expr()
	default:
		p.expr()
	}
	p.need(")")
}

func (p *parser) cast() {
	p.take()
	p.need("(")
	p.expr()
	p.need("AS")
	switch {
	case p.is("TEXT"):
		p.print(castText, "")
	case p.is("INTEGER"):
		p.print(castInt, "")
	default:
		p.fail("CAST is to TEXT or INTEGER")
	}
	p.next()
	p.need(")")
}

func (p *parser) cases() {
	p.take()
	if !p.is("WHEN") {
		p.fail("WHEN is expected after CASE")
	}
	for p.is("WHEN") {
		p.take()
		p.expr()
		p.need("THEN")
		p.expr()
	}
	if p.is("ELSE") {
		p.take()
		p.expr()
	}
	p.need("END")
}
