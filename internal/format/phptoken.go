package format

import (
	"bytes"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

type phpKind int

const (
	phpEnd    phpKind = iota
	phpWord           // a name, namespaces included
	phpVar            // $name
	phpText           // a string in any of the four spellings
	phpNumber         // as written
	phpPunct          // an operator or bracket
)

type phpToken struct {
	kind         phpKind
	text         string // the name, the string's value, the number or the operator
	line, column int
	dynamic      bool // a string that has a variable in it
	start, end   int  // in bytes
}

// phpOperators are matched longest first.
var phpOperators = []string{
	"<=>", "**=", "...", "===", "!==", "??=", "?->", "<<=", ">>=",
	"=>", "->", "::", "??", "?:", ".=", "+=", "-=", "*=", "/=", "==", "!=", "<>", "<=", ">=", "&&", "||", "++", "--", "**", "<<", ">>", "|=", "&=",
}

// phpScanner turns the source into tokens, following the lexical rules of the PHP manual. What stands outside
// <?php ... ?> is passed over, and a closing tag is a semicolon.
type phpScanner struct {
	src    []byte
	at     int
	line   int
	start  int // where the line starts
	tokens []phpToken
}

func (s *phpScanner) fail(line, column int, says string) error {
	return &SyntaxError{line, column, says, nil}
}

func (s *phpScanner) column() int { return s.at - s.start + 1 }

// step moves on by n bytes and counts lines.
func (s *phpScanner) step(n int) {
	for range n {
		if s.src[s.at] == '\n' {
			s.line, s.start = s.line+1, s.at+1
		}
		s.at++
	}
}

func (s *phpScanner) has(prefix string) bool { return bytes.HasPrefix(s.src[s.at:], []byte(prefix)) }

func (s *phpScanner) add(kind phpKind, text string, line, column int) {
	s.tokens = append(s.tokens, phpToken{kind: kind, text: text, line: line, column: column})
}

func scanPHP(src []byte) ([]phpToken, error) {
	s := &phpScanner{src: src, line: 1}
	s.step(len(src) - len(bytes.TrimPrefix(src, []byte("\xef\xbb\xbf"))))
	s.start = s.at
	if !s.outside() {
		return nil, s.fail(1, 1, "there is no <?php in the file")
	}
	for s.at < len(s.src) {
		from, before := s.at, len(s.tokens)
		if err := s.next(); err != nil {
			return nil, err
		}
		if len(s.tokens) > before {
			s.tokens[before].start, s.tokens[before].end = from, s.at
		}
	}
	s.add(phpEnd, "", s.line, s.column())
	return s.tokens, nil
}

// outside passes over text up to and with the next opening tag.
func (s *phpScanner) outside() bool {
	for s.at < len(s.src) {
		i := bytes.Index(s.src[s.at:], []byte("<?"))
		if i < 0 {
			s.step(len(s.src) - s.at)
			return false
		}
		s.step(i)
		switch {
		case len(s.src) >= s.at+5 && strings.EqualFold(string(s.src[s.at:s.at+5]), "<?php"):
			s.step(5)
			return true
		case s.has("<?="):
			s.step(3)
			return true
		}
		s.step(2)
	}
	return false
}

func isNameStart(c byte) bool {
	return c == '_' || c >= 0x80 || (c|0x20 >= 'a' && c|0x20 <= 'z')
}

func isNamePart(c byte) bool { return isNameStart(c) || isDigit(c) }

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

func (s *phpScanner) next() error {
	c, line, column := s.src[s.at], s.line, s.column()
	peek := byte(0)
	if s.at+1 < len(s.src) {
		peek = s.src[s.at+1]
	}
	switch {
	case c == ' ' || c == '\t' || c == '\r' || c == '\n':
		s.step(1)
	case s.has("?>"):
		s.add(phpPunct, ";", line, column)
		s.step(2)
		s.outside()
	case s.has("//"), c == '#' && peek != '[':
		s.lineComment()
	case s.has("/*"):
		end := bytes.Index(s.src[s.at+2:], []byte("*/"))
		if end < 0 {
			return s.fail(line, column, "the comment that starts here never ends")
		}
		s.step(end + 4)
	case s.has("<<<"):
		if done, err := s.heredoc(); done || err != nil {
			return err
		}
		s.operator()
	case c == '\'' || c == '"' || c == '`':
		return s.quoted(c)
	case c == '$' && isNameStart(peek):
		s.step(1)
		s.add(phpVar, s.name(false), line, column)
	case isNameStart(c), c == '\\' && isNameStart(peek):
		s.add(phpWord, s.name(true), line, column)
	case isDigit(c), c == '.' && isDigit(peek):
		s.number()
	default:
		s.operator()
	}
	return nil
}

func (s *phpScanner) lineComment() {
	for s.at < len(s.src) && s.src[s.at] != '\n' && !s.has("?>") {
		s.step(1)
	}
}

func (s *phpScanner) name(namespaces bool) string {
	from := s.at
	for s.at < len(s.src) && (isNamePart(s.src[s.at]) || namespaces && s.src[s.at] == '\\') {
		s.step(1)
	}
	return string(s.src[from:s.at])
}

func (s *phpScanner) number() {
	from, line, column := s.at, s.line, s.column()
	for s.at < len(s.src) {
		c := s.src[s.at]
		signed := (c == '+' || c == '-') && s.src[s.at-1]|0x20 == 'e' && !bytes.HasPrefix(bytes.ToLower(s.src[from:]), []byte("0x"))
		if !isNamePart(c) && c != '.' && !signed {
			break
		}
		if c == '.' && s.at+1 < len(s.src) && s.src[s.at+1] == '.' {
			break
		}
		s.step(1)
	}
	s.add(phpNumber, string(s.src[from:s.at]), line, column)
}

func (s *phpScanner) operator() {
	line, column := s.line, s.column()
	for _, op := range phpOperators {
		if s.has(op) {
			s.add(phpPunct, op, line, column)
			s.step(len(op))
			return
		}
	}
	s.add(phpPunct, string(s.src[s.at]), line, column)
	s.step(1)
}

func (s *phpScanner) quoted(quote byte) error {
	line, column := s.line, s.column()
	s.step(1)
	from := s.at
	for s.at < len(s.src) && s.src[s.at] != quote {
		if s.src[s.at] == '\\' && s.at+1 < len(s.src) {
			s.step(1)
		}
		s.step(1)
	}
	if s.at >= len(s.src) {
		return s.fail(line, column, "the text that starts here never ends")
	}
	body := string(s.src[from:s.at])
	s.step(1)
	token := phpToken{kind: phpText, line: line, column: column}
	switch quote {
	case '\'':
		token.text = unescapeSingle(body)
	case '"':
		token.text, token.dynamic = unescapeDouble(body, '"')
	default:
		token.dynamic = true // the output of a shell command
	}
	s.tokens = append(s.tokens, token)
	return nil
}

// heredoc reads <<<WORD and <<<'WORD' (PHP manual, Strings); false when this is a shift operator.
func (s *phpScanner) heredoc() (bool, error) {
	line, column := s.line, s.column()
	lineEnd := bytes.IndexByte(s.src[s.at:], '\n')
	if lineEnd < 0 {
		return false, nil
	}
	label := strings.TrimSpace(string(s.src[s.at+3 : s.at+lineEnd]))
	raw := strings.HasPrefix(label, "'")
	word := strings.Trim(label, `'"`)
	if word == "" || !isNameStart(word[0]) || strings.ContainsFunc(word, func(r rune) bool { return r < utf8.RuneSelf && !isNamePart(byte(r)) }) {
		return false, nil
	}
	s.step(lineEnd + 1)
	var lines []string
	for s.at < len(s.src) {
		end := bytes.IndexByte(s.src[s.at:], '\n')
		if end < 0 {
			end = len(s.src) - s.at
		}
		text := string(s.src[s.at : s.at+end])
		trimmed := strings.TrimLeft(text, " \t")
		if rest, ok := strings.CutPrefix(trimmed, word); ok && (rest == "" || !isNamePart(rest[0])) {
			indent := len(text) - len(trimmed)
			s.step(indent + len(word))
			s.tokens = append(s.tokens, heredocToken(lines, indent, raw, line, column))
			return true, nil
		}
		lines = append(lines, text)
		s.step(min(end+1, len(s.src)-s.at))
	}
	return false, s.fail(line, column, "the text that starts here never ends with "+word)
}

func heredocToken(lines []string, indent int, raw bool, line, column int) phpToken {
	for i, l := range lines {
		cut := 0
		for cut < indent && cut < len(l) && (l[cut] == ' ' || l[cut] == '\t') {
			cut++
		}
		lines[i] = l[cut:]
	}
	body := strings.TrimSuffix(strings.Join(lines, "\n"), "\r")
	token := phpToken{kind: phpText, text: body, line: line, column: column}
	if !raw {
		token.text, token.dynamic = unescapeDouble(body, 0)
	}
	return token
}

var phpSingleEscapes = strings.NewReplacer(`\\`, `\`, `\'`, `'`)

func unescapeSingle(body string) string { return phpSingleEscapes.Replace(body) }

var phpEscapes = map[byte]byte{'n': '\n', 't': '\t', 'r': '\r', 'v': '\v', 'e': 0x1b, 'f': '\f', '\\': '\\', '$': '$'}

// unescapeDouble resolves the escapes of a double-quoted string or a heredoc (quote 0), and tells whether a
// variable stands in it.
func unescapeDouble(body string, quote byte) (text string, dynamic bool) {
	var b strings.Builder
	for i := 0; i < len(body); i++ {
		c := body[i]
		rest := body[i+1:]
		if c == '$' && rest != "" && (isNameStart(rest[0]) || rest[0] == '{') || c == '{' && strings.HasPrefix(rest, "$") {
			dynamic = true
		}
		if c != '\\' || rest == "" {
			b.WriteByte(c)
			continue
		}
		used := phpEscape(&b, rest, quote)
		if used == 0 {
			b.WriteByte('\\')
		}
		i += used
	}
	return b.String(), dynamic
}

// phpEscape writes what the escape after a backslash stands for, and returns how many bytes it took; 0 when it
// is none and the backslash stays.
func phpEscape(b *strings.Builder, rest string, quote byte) int {
	if plain, ok := phpEscapes[rest[0]]; ok {
		b.WriteByte(plain)
		return 1
	}
	digits := func(from, most int, set string) string {
		n := from
		for n < len(rest) && n < from+most && strings.ContainsRune(set, unicode.ToLower(rune(rest[n]))) {
			n++
		}
		return rest[from:n]
	}
	switch c := rest[0]; {
	case c == quote && quote != 0:
		b.WriteByte(quote)
		return 1
	case c >= '0' && c <= '7':
		octal := digits(0, 3, "01234567")
		n, _ := strconv.ParseUint(octal, 8, 16)
		b.WriteByte(byte(n))
		return len(octal)
	case c == 'x':
		if hex := digits(1, 2, "0123456789abcdef"); hex != "" {
			n, _ := strconv.ParseUint(hex, 16, 8)
			b.WriteByte(byte(n))
			return 1 + len(hex)
		}
	case strings.HasPrefix(rest, "u{"):
		if end := strings.IndexByte(rest, '}'); end > 2 {
			if n, err := strconv.ParseUint(rest[2:end], 16, 32); err == nil && n <= utf8.MaxRune {
				b.WriteRune(rune(n))
				return end + 1
			}
		}
	}
	return 0
}
