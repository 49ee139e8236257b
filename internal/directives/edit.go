package directives

import (
	"bytes"
	"fmt"
	"strings"
)

// Replaced is a file with other text in the place of a node; every other byte stays as it is.
func (n *Node) Replaced(data []byte, text string) ([]byte, error) {
	if err := n.standsIn(data); err != nil {
		return nil, err
	}
	return spliced(data, n.Start, n.End, text), nil
}

// Removed is a file without a node, and without the line it leaves empty.
func (n *Node) Removed(data []byte) ([]byte, error) {
	if err := n.standsIn(data); err != nil {
		return nil, err
	}
	start, end := n.Start, n.End
	if before := lineStart(data, start); len(bytes.TrimSpace(data[before:start])) == 0 {
		if rest := bytes.IndexByte(data[end:], '\n'); rest >= 0 && len(bytes.TrimSpace(data[end:end+rest])) == 0 {
			start, end = before, end+rest+1
		}
	}
	return spliced(data, start, end, ""), nil
}

// FollowedBy is a file with a directive on a line of its own after a node, indented like it.
func (n *Node) FollowedBy(data []byte, text string) ([]byte, error) {
	if err := n.standsIn(data); err != nil {
		return nil, err
	}
	return spliced(data, n.End, n.End, newline(data)+n.indent(data)+lines(data, text, n.indent(data))), nil
}

// PrecededBy is a file with a directive on a line of its own before a node, indented like it.
func (n *Node) PrecededBy(data []byte, text string) ([]byte, error) {
	if err := n.standsIn(data); err != nil {
		return nil, err
	}
	return spliced(data, n.Start, n.Start, lines(data, text, n.indent(data))+newline(data)+n.indent(data)), nil
}

// Holding is a file with a directive as the first in a node's block, on a line of its own, indented one step further.
func (n *Node) Holding(data []byte, text string) ([]byte, error) {
	if err := n.standsIn(data); err != nil {
		return nil, err
	}
	if !n.Block || n.inner > n.close {
		return nil, fmt.Errorf("%s: %s has no block", n.Place(), n.Name)
	}
	indent := n.indent(data)
	if len(n.Body) > 0 && n.Body[0].File == n.File && n.Body[0].Start <= len(data) && n.Body[0].Line > n.Line {
		indent = n.Body[0].indent(data)
	} else {
		indent += "    "
	}
	if at := lineStart(data, n.inner); at == n.inner && at > 0 && data[at-1] == '\n' { // Apache: the block begins with a line
		return spliced(data, at, at, indent+lines(data, text, indent)+newline(data)), nil
	}
	return spliced(data, n.inner, n.inner, newline(data)+indent+lines(data, text, indent)), nil
}

// Ending is a file with a directive as the last in a node's block, on a line of its own, indented one step further.
func (n *Node) Ending(data []byte, text string) ([]byte, error) {
	if err := n.standsIn(data); err != nil {
		return nil, err
	}
	if !n.Block || n.inner > n.close || n.close > len(data) {
		return nil, fmt.Errorf("%s: %s has no block", n.Place(), n.Name)
	}
	indent := n.indent(data) + "    "
	at := lineStart(data, n.close)
	if len(bytes.TrimSpace(data[at:n.close])) > 0 || at < n.inner {
		return spliced(data, n.close, n.close, newline(data)+indent+lines(data, text, indent)+newline(data)), nil
	}
	return spliced(data, at, at, indent+lines(data, text, indent)+newline(data)), nil
}

// lines is a text of several lines, each indented like the first, and ending as those of the file do.
func lines(data []byte, text, indent string) string {
	return strings.ReplaceAll(text, "\n", newline(data)+indent)
}

// standsIn tells whether these are the bytes that the node was read from, as far as the node itself goes.
func (n *Node) standsIn(data []byte) error {
	if n.Hole != "" || n.Start >= n.End || n.End > len(data) || !bytes.HasPrefix(bytes.TrimLeft(data[n.Start:n.End], "<\"'"), []byte(n.Name)) {
		return fmt.Errorf("%s: %s is not there any more", n.Place(), n.Name)
	}
	return nil
}

func (n *Node) indent(data []byte) string {
	start := lineStart(data, n.Start)
	end := start
	for end < n.Start && (data[end] == ' ' || data[end] == '\t') {
		end++
	}
	return string(data[start:end])
}

func lineStart(data []byte, at int) int { return bytes.LastIndexByte(data[:at], '\n') + 1 }

// newline is how the file ends its lines.
func newline(data []byte) string {
	if i := bytes.IndexByte(data, '\n'); i > 0 && data[i-1] == '\r' {
		return "\r\n"
	}
	return "\n"
}

func spliced(data []byte, start, end int, text string) []byte {
	out := make([]byte, 0, len(data)-(end-start)+len(text))
	out = append(out, data[:start]...)
	out = append(out, text...)
	return append(out, data[end:]...)
}
