package directives

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
)

// Nginx reads a configuration of nginx. Included files are relative to the folder of the main file, wherever the include
// stands; a pattern that matches nothing is no mistake, and a plain name that is not there is one.
func Nginx(main string, disk Disk) *Tree {
	main = filepath.Clean(main)
	r := &nginxReading{reading: reading{tree: &Tree{Main: main}, disk: disk}, base: filepath.Dir(main)}
	if data, ok := r.file(main, nil); ok {
		r.tree.Root = r.whole(main, data)
	}
	return r.tree
}

// NginxWord is a word in quotes, as nginx takes it.
func NginxWord(w string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(w) + `"`
}

type nginxReading struct {
	reading
	base string
}

// whole reads one file.
func (r *nginxReading) whole(name string, data []byte) []*Node {
	r.open = append(r.open, name)
	defer func() { r.open = r.open[:len(r.open)-1] }()
	f := &nginxFile{nginxReading: r, name: name, data: data, line: 1}
	if bytes.HasPrefix(data, []byte(byteOrderMark)) {
		f.broken("it begins with a byte order mark")
	}
	nodes, closed := f.block(0)
	if closed {
		f.broken("a } closes nothing")
	}
	return nodes
}

// nginxFile reads the words of one file, as ngx_conf_read_token does.
type nginxFile struct {
	*nginxReading
	name string
	data []byte
	at   int
	line int
	stop bool // a mistake, after which nothing is read
}

func (f *nginxFile) broken(because string) {
	if !f.stop {
		f.tree.Gaps = append(f.tree.Gaps, Gap{f.name, f.line, because + ", so the server does not start", true})
	}
	f.stop = true
}

// block reads directives until the } that closes it, or the end of the file.
func (f *nginxFile) block(depth int) (nodes []*Node, closed bool) {
	for !f.stop && !f.full {
		n, end := f.directive()
		switch end {
		case 0:
			return nodes, false
		case '}':
			return nodes, true
		case '{':
			n.Block, n.inner = true, f.at
			switch {
			case depth >= maxNesting:
				f.gap(n, f.name, fmt.Sprintf("blocks inside one another more than %d deep; they were not read", maxNesting), false)
				f.stop = true
				return append(nodes, f.hole(n, "blocks too deep")), false
			case strings.HasSuffix(n.Name, "_by_lua_block"):
				f.foreign()
			default:
				var shut bool
				if n.Body, shut = f.block(depth + 1); !shut && !f.stop && !f.full {
					f.broken(fmt.Sprintf("the block of %q in line %d is not closed", n.Name, n.Line))
				}
			}
			n.close, n.End = max(f.at-1, n.inner), f.at
		}
		if !f.room(n) {
			return append(nodes, f.hole(n, "more directives than are read")), false
		}
		nodes = append(nodes, n)
		if n.Is("include") && end == ';' {
			nodes = append(nodes, f.include(n)...)
		}
	}
	return nodes, false
}

// foreign passes over a block in another language: to the } that closes it.
func (f *nginxFile) foreign() {
	for deep := 1; f.at < len(f.data); f.at++ {
		switch f.data[f.at] {
		case '\n':
			f.line++
		case '{':
			deep++
		case '}':
			if deep--; deep == 0 {
				f.at++
				return
			}
		}
	}
}

// directive reads the words up to ; { or }, or the end of the file (0).
func (f *nginxFile) directive() (*Node, byte) {
	n := &Node{File: f.name}
	for {
		f.space()
		if f.at >= len(f.data) {
			if n.Name != "" {
				f.broken(fmt.Sprintf("the directive %q is not ended by ;", n.Name))
			}
			return n, 0
		}
		switch c := f.data[f.at]; c {
		case ';', '{', '}':
			f.at++
			switch {
			case n.Name == "" && c != '}':
				f.broken(fmt.Sprintf("a %c without a directive", c))
				return n, 0
			case n.Name != "" && c == '}':
				f.broken(fmt.Sprintf("the directive %q is not ended by ;", n.Name))
				return n, 0
			}
			n.End = f.at
			return n, c
		}
		start, line := f.at, f.line
		word, ok := f.word()
		if !ok {
			return n, 0
		}
		if n.Name == "" {
			n.Name, n.Start, n.Line = word, start, line
		} else {
			n.Args = append(n.Args, word)
		}
	}
}

// space passes over blanks and comments.
func (f *nginxFile) space() {
	for f.at < len(f.data) {
		switch f.data[f.at] {
		case '\n':
			f.line++
		case ' ', '\t', '\r':
		case '#':
			if end := bytes.IndexByte(f.data[f.at:], '\n'); end >= 0 {
				f.at += end
			} else {
				f.at = len(f.data)
			}
			continue
		default:
			return
		}
		f.at++
	}
}

var nginxEscapes = map[byte]byte{'"': '"', '\'': '\'', '\\': '\\', 't': '\t', 'r': '\r', 'n': '\n'}

// word reads one word. A backslash keeps the next sign from ending it; of it, only quotes, itself and three letters are made
// something else. ${ begins a variable, not a block.
func (f *nginxFile) word() (string, bool) {
	var quote byte
	if c := f.data[f.at]; c == '"' || c == '\'' {
		quote = c
		f.at++
	}
	var out []byte
	variable := false
	for ; f.at < len(f.data); f.at++ {
		c := f.data[f.at]
		if c == '\n' {
			f.line++
		}
		switch {
		case c == '\\' && f.at+1 < len(f.data):
			f.at++
			next := f.data[f.at]
			if next == '\n' {
				f.line++
			}
			if becomes, known := nginxEscapes[next]; known {
				out = append(out, becomes)
			} else {
				out = append(out, c, next)
			}
			continue
		case quote != 0 && c == quote:
			f.at++
			if f.at < len(f.data) && !strings.ContainsRune(" \t\r\n;{)", rune(f.data[f.at])) {
				f.broken(fmt.Sprintf("unexpected %q after a quoted word", f.data[f.at]))
				return "", false
			}
			return string(out), true // a ) after it, the end of a condition, begins the next word
		case quote == 0 && c == '{' && variable:
		case quote == 0 && strings.IndexByte(" \t\r\n;{", c) >= 0:
			if c == '\n' {
				f.line-- // it is counted where blanks are passed over
			}
			return string(out), true
		}
		out = append(out, c)
		variable = c == '$'
	}
	if quote != 0 {
		f.broken("a quotation mark is not closed")
		return "", false
	}
	return string(out), true
}

// include reads what an include names, and puts it where it stands.
func (r *nginxReading) include(n *Node) (nodes []*Node) {
	if len(n.Args) != 1 {
		r.gap(n, n.File, "include takes one file or pattern", true)
		return nil
	}
	pattern := n.Args[0]
	if !filepath.IsAbs(pattern) {
		pattern = filepath.Join(r.base, pattern)
	}
	names := []string{filepath.Clean(pattern)}
	if strings.ContainsAny(n.Args[0], "*?[") {
		var err error
		if names, err = r.globbed(pattern, r.by(n)); err != nil {
			if errors.Is(err, fs.ErrNotExist) { // no mistake, to the server
				r.gap(n, n.File, fmt.Sprintf("there is no folder in which %s could match anything", filepath.Clean(pattern)), false)
				return nil
			}
			r.gap(n, n.File, err.Error(), false)
			nodes = append(nodes, r.hole(n, err.Error()))
		}
	}
	for _, name := range names {
		gaps := len(r.tree.Gaps)
		if data, ok := r.file(name, n); ok {
			nodes = append(nodes, r.whole(name, data)...)
		} else if gaps < len(r.tree.Gaps) {
			nodes = append(nodes, r.hole(n, r.tree.Gaps[gaps].Because))
		}
	}
	return nodes
}
