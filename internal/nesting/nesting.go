// Package nesting tells of a text in YAML, before it is parsed, whether a parser would get lost in it: nested too deep,
// or of more parts than its time allows, since that grows with their square. It imports nothing of this program.
package nesting

import (
	"bytes"
	"fmt"
)

// The bounds of a text in YAML.
const (
	MaxDepth = 200    // of brackets, and of lists in lists on one line
	MaxParts = 20_000 // lines, and entries within brackets
)

// YAML says what is too much, and in which line, from 1; "" when nothing is.
func YAML(text []byte) (line int, says string) {
	parts := 0
	depth := 0
	for n := 1; len(text) > 0; n++ {
		row, rest, _ := bytes.Cut(text, []byte("\n"))
		text = rest
		deepest, within := scan(row, &depth)
		if parts += 1 + within; parts > MaxParts {
			return n, fmt.Sprintf("it has more than %d lines or entries, which is the most that is read", MaxParts)
		}
		if deepest > MaxDepth {
			return n, fmt.Sprintf("it is nested more than %d deep", MaxDepth)
		}
	}
	return 0, ""
}

// scan follows brackets through a line; those within plain texts and quotes are none.
func scan(row []byte, depth *int) (deepest, entries int) {
	dashes, quote, starts := 0, byte(0), true // starts: a value may begin here
	deepest = *depth
	for i, c := range row {
		switch {
		case quote != 0:
			if c == quote && (quote != '"' || i == 0 || row[i-1] != '\\') {
				quote = 0
			}
		case c == ' ' || c == '\t' || c == '\r':
		case c == '#' && (i == 0 || row[i-1] == ' '):
			return max(deepest, dashes), entries
		case (c == '[' || c == '{') && (starts || *depth > 0):
			*depth++
			deepest, starts = max(deepest, *depth), true
		case (c == ']' || c == '}') && *depth > 0:
			*depth--
			starts = false
		case c == ',' && *depth > 0:
			entries++
			starts = true
		case c == '-' && starts && (i+1 == len(row) || row[i+1] == ' '):
			dashes++
			deepest = max(deepest, dashes)
		case c == ':' || c == '?' && starts:
			starts = true
		case (c == '"' || c == '\'') && starts:
			quote, starts = c, false
		default:
			starts = false
		}
	}
	return deepest, entries
}
