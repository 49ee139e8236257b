package format

import (
	"errors"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// readScript reads assignments as scripting languages write them, and runs nothing: name = value, names with dots, brackets or
// arrows, and literals: texts, numbers, yes and no, lists and tables. It goes by what those languages share, and says of a value
// that it cannot be told where they differ: a backslash that means one thing in one of them and another in the next, a text made
// of others, a call, an expression, and whatever stands inside a branch or a function. Comments begin with #, //, -- or stand
// between /* and */, --[[ and ]].
//
// Paths are names joined with dots; what is returned, exported by default or assigned to module.exports has no name before it.
// The last assignment of a name counts.
func readScript(d *Document) error {
	s := &scriptReader{Document: d, at: skipBOM(d.data)}
	s.statements()
	if len(d.entries) == 0 {
		return d.errorAt(0, "there is no assignment in it that can be read")
	}
	d.sortByPlace()
	return nil
}

type scriptReader struct {
	*Document
	at       int
	branches []int // how far the lines are indented that begin a branch or a function
}

// maxScriptDepth bounds how deep lists and tables lie in one another.
const maxScriptDepth = 50

var (
	scriptTarget = regexp.MustCompile(`^(?:(?:export\s+)?(?:const|let|var|local|our|my|final|static|public|readonly|export|set)\s+)*([$@%:]*[A-Za-z_][\w$]*(?:(?:\.|->|::)[A-Za-z_][\w$]*|(?:->)?\[\s*(?:'[^'\\\n]*'|"[^"\\\n]*"|:?\w+)\s*\]|(?:->)?\{\s*(?:'[^'\\\n]*'|"[^"\\\n]*"|:?\w+)\s*\})*)\s*(?::\s*[\w.<>\[\]| ]+?\s*)?(=|\+=|\|\|=|\?\?=|\.=|:=)`)
	scriptReturn = regexp.MustCompile(`^(?:return|export\s+default)\s*[({\[]`)
	scriptBranch = regexp.MustCompile(`^(?:if|unless|elif|elsif|elseif|else|for|foreach|while|until|switch|case|try|catch|except|finally|def|function|fn|sub|async|begin|rescue|ensure|local\s+function|[\w$.]+\s*=\s*(?:async\s*)?function|(?:const|let|var)\s+\w+\s*=\s*(?:async\s*)?(?:function\b|\([^()\n]*\)\s*=>))\b`)
	scriptSplit  = regexp.MustCompile(`->|::|[.\[\]{}]`)
	scriptNumber = regexp.MustCompile(`^[-+]?(?:\d[\d_]*)(?:\.\d+)?(?:[eE][-+]?\d+)?`)
	scriptWord   = regexp.MustCompile(`^[A-Za-z_][\w]*`)
	scriptInside = regexp.MustCompile(`#\{|\$\{|\$[A-Za-z_]`)
	scriptKey    = regexp.MustCompile(`^(?::?'([^'\\\n]*)'|:?"([^"\\\n]*)"|\[\s*['"]([^'"\\\n]*)['"]\s*\]|:?([A-Za-z_$][\w$-]*))\s*(=>|:|=)(?:[^=:]|$)`)
	scriptPrefix = regexp.MustCompile(`^([rRbBuUfF]{1,2})['"]`)
	moduleNames  = []string{"module.exports", "exports.default", "exports"}
)

const (
	scriptWorked = "it is worked out when the program runs"
	scriptSlash  = "a backslash in it means one thing in some languages and another in others"
	scriptMixed  = "it is put together from others"
)

// statements goes from one statement to the next, each at the start of a line or behind a semicolon.
func (s *scriptReader) statements() {
	for s.at < len(s.data) {
		if s.blank() {
			continue
		}
		start := s.at
		line := s.data[start:s.lineEnd()]
		indent := s.indent(start)
		s.branches = slices.DeleteFunc(s.branches, func(of int) bool { return indent <= of })
		switch {
		case scriptBranch.Match(line):
			s.branches = append(s.branches, indent)
			s.skipLine()
		case scriptReturn.Match(line) && indent == 0:
			s.at += len(scriptReturn.Find(line)) - 1
			s.value("", 0)
			s.skipRest()
		default:
			s.assignment(line)
		}
		if s.at == start {
			s.at++
		}
	}
}

func (s *scriptReader) assignment(line []byte) {
	m := scriptTarget.FindSubmatchIndex(line)
	if m == nil || m[5] < len(line) && (line[m[5]] == '=' || line[m[5]] == '~' || line[m[5]] == '>') {
		s.skipLine()
		return
	}
	start := s.at
	path := scriptPath(string(line[m[2]:m[3]]))
	sign := string(line[m[4]:m[5]])
	s.at += m[5]
	for s.at < len(s.data) && (isBlank(s.data[s.at]) || s.data[s.at] == '\n') {
		s.at++
	}
	from := s.at
	inside := len(s.branches) > 0
	before := len(s.order)
	ok := s.value(path, 0)
	ended := ok && s.ends()
	if !ended || inside || sign != "=" && sign != ":=" {
		why := scriptWorked
		if inside {
			why = "it is set inside a branch or a function"
		}
		for _, below := range slices.Clone(s.order[before:]) {
			s.mention(below, nil, from, why)
		}
		s.mention(path, nil, start, why)
	}
	s.skipRest()
}

// scriptPath makes a path of a target as it is written.
func scriptPath(target string) string {
	for _, name := range moduleNames {
		if rest, is := strings.CutPrefix(target, name); is && (rest == "" || rest[0] == '.' || rest[0] == '[') {
			target = strings.TrimPrefix(rest, ".")
		}
	}
	path := ""
	for part := range strings.SplitSeq(scriptSplit.ReplaceAllString(target, "\x00"), "\x00") {
		if part = strings.Trim(part, " '\":$@%"); part != "" && part != "this" && part != "self" {
			path = joinPath(path, part)
		}
	}
	return path
}

// value reads a literal at the place where the reader stands, and tells whether it was one. What lies in tables gets paths.
func (s *scriptReader) value(path string, depth int) bool {
	if s.at >= len(s.data) || depth > maxScriptDepth {
		return false
	}
	start := s.at
	switch c := s.data[s.at]; {
	case c == '\'' || c == '"' || c == '`':
		text, why, ok := s.text()
		if ok {
			s.literal(path, text, start, why)
		}
		return ok
	case scriptPrefix.Match(s.data[s.at:]):
		m := scriptPrefix.FindSubmatch(s.data[s.at:])
		s.at += len(m[1])
		from := s.at
		text, why, ok := s.text()
		if strings.ContainsAny(string(m[1]), "fF") && strings.Contains(text, "{") {
			why = scriptMixed
		}
		if ok {
			s.literal(path, text, from, why)
		}
		return ok
	case strings.HasPrefix(string(s.data[s.at:min(s.at+2, len(s.data))]), "[["):
		end := strings.Index(string(s.data[s.at:]), "]]")
		if end < 0 {
			return false
		}
		s.at += end + 2
		s.mention(path, string(s.data[start+2:s.at-2]), start, "")
		return true
	case c == '[' || c == '{' || c == '(':
		return s.holder(path, depth)
	}
	if m := scriptNumber.Find(s.data[s.at:]); len(m) > 0 {
		s.at += len(m)
		s.literal(path, scriptNumberOf(string(m)), start, "")
		return true
	}
	word := string(scriptWord.Find(s.data[s.at:]))
	s.at += len(word)
	switch strings.ToLower(word) {
	case "true":
		s.literal(path, true, start, "")
	case "false":
		s.literal(path, false, start, "")
	case "none", "null", "nil", "undefined", "undef":
		s.literal(path, nil, start, "")
	default:
		s.at = start
		return false
	}
	return true
}

func scriptNumberOf(text string) any {
	plain := strings.ReplaceAll(text, "_", "")
	if n, err := strconv.ParseInt(plain, 10, 64); err == nil {
		return n
	}
	f, _ := strconv.ParseFloat(plain, 64)
	return f
}

func (s *scriptReader) literal(path string, value any, start int, why string) {
	if path == "" {
		return
	}
	if why != "" {
		s.mention(path, nil, start, why)
		return
	}
	s.place(path, value, start, s.at)
}

// text reads a text in quotes, three of them where three stand.
func (s *scriptReader) text() (text, why string, ok bool) {
	quote := s.data[s.at]
	marks := 1
	if quote != '`' && len(s.data) >= s.at+3 && s.data[s.at+1] == quote && s.data[s.at+2] == quote {
		marks = 3
	}
	var b strings.Builder
	for i := s.at + marks; i < len(s.data); i++ {
		c := s.data[i]
		switch {
		case c == quote && (marks == 1 || i+2 < len(s.data) && s.data[i+1] == quote && s.data[i+2] == quote):
			s.at = i + marks
			text = b.String()
			if quote != '\'' && scriptInside.MatchString(text) {
				why = scriptMixed
			}
			return text, why, utf8.ValidString(text)
		case c == '\\' && i+1 < len(s.data):
			i++
			switch next := s.data[i]; {
			case next == '\\' || next == quote:
				b.WriteByte(next)
			case quote == '"' && next == 'n':
				b.WriteByte('\n')
			case quote == '"' && next == 't':
				b.WriteByte('\t')
			case quote == '"' && (next == '$' || next == '#' || next == '@' || next == '/' || next == '\''):
				b.WriteByte(next)
			default:
				why = scriptSlash
			}
		case c == '\n' && marks == 1 && quote != '`':
			return "", "", false
		default:
			b.WriteByte(c)
		}
	}
	return "", "", false
}

// holder reads a list or a table. A list of single values is one value; what lies in a table has paths of its own.
func (s *scriptReader) holder(path string, depth int) bool {
	start := s.at
	closing := map[byte]byte{'[': ']', '{': '}', '(': ')'}[s.data[s.at]]
	s.at++
	items := []any{}
	single, keyed, whole := true, false, true
	for n := 0; ; n++ {
		for s.at < len(s.data) && (s.blank() || s.data[s.at] == ',' || s.data[s.at] == ';') {
			if s.at < len(s.data) && (s.data[s.at] == ',' || s.data[s.at] == ';') {
				s.at++
			}
		}
		if s.at >= len(s.data) {
			return false
		}
		if s.data[s.at] == closing {
			s.at++
			break
		}
		below := ""
		if m := scriptKey.FindSubmatchIndex(s.data[s.at:min(s.at+400, len(s.data))]); m != nil {
			for g := 1; g <= 4; g++ {
				if m[2*g] >= 0 {
					below = string(s.data[s.at+m[2*g] : s.at+m[2*g+1]])
				}
			}
			s.at += m[11]
			for s.at < len(s.data) && (isBlank(s.data[s.at]) || s.data[s.at] == '\n') {
				s.at++
			}
			keyed, single = true, false
			if below = joinPath(path, below); path == "" {
				below = strings.TrimPrefix(below, ".")
			}
		}
		from := s.at
		ok := s.value(cmpPath(below, path, n), depth+1)
		if !ok || !s.separates(closing) {
			whole = false
			if below != "" {
				s.mention(below, nil, from, scriptWorked)
			}
			if !s.skipItem(closing) {
				return false
			}
		}
		if entry, there := s.entries[cmpPath(below, path, n)]; single && there && entry.Unresolved == "" {
			items = append(items, entry.Value)
		} else if below == "" {
			single = false
		}
	}
	if path == "" {
		return true
	}
	if !keyed && single && whole {
		for n := range items { // the items stand there as a whole
			delete(s.entries, cmpPath("", path, n))
		}
		s.order = slices.DeleteFunc(s.order, func(p string) bool { _, there := s.entries[p]; return !there })
		if closing == ')' && len(items) == 1 {
			s.place(path, items[0], start, s.at)
			return true
		}
		s.mention(path, items, start, "")
	}
	return true
}

// cmpPath is the path of an item: by its key, or by its number.
func cmpPath(below, path string, n int) string {
	if below != "" || path == "" {
		return below
	}
	return joinPath(path, strconv.Itoa(n))
}

// separates tells whether what follows an item ends it.
func (s *scriptReader) separates(closing byte) bool {
	for i := s.at; i < len(s.data); i++ {
		c := s.data[i]
		if isBlank(c) || c == '\n' {
			continue
		}
		return c == ',' || c == ';' || c == closing || c == '#' || c == '/' || c == '-' && i+1 < len(s.data) && s.data[i+1] == '-' || s.data[i-1] == '\n'
	}
	return false
}

// skipItem goes to the comma or the end behind an item that cannot be read.
func (s *scriptReader) skipItem(closing byte) bool {
	depth := 0
	for s.at < len(s.data) {
		switch c := s.data[s.at]; c {
		case '\'', '"', '`':
			if _, _, ok := s.text(); !ok {
				s.at++
			}
			continue
		case '(', '[', '{':
			depth++
		case ')', ']', '}':
			if depth == 0 {
				return c == closing
			}
			depth--
		case ',', ';':
			if depth == 0 {
				return true
			}
		}
		s.at++
	}
	return false
}

// ends tells whether nothing follows a value on its line that would make something else of it.
func (s *scriptReader) ends() bool {
	for i := s.at; i < len(s.data); i++ {
		switch c := s.data[i]; {
		case isBlank(c):
		case c == '\n' || c == ';' || c == ',' || c == '#' || c == '}':
			return true
		case c == '/' && i+1 < len(s.data) && (s.data[i+1] == '/' || s.data[i+1] == '*'), c == '-' && i+1 < len(s.data) && s.data[i+1] == '-':
			return true
		default:
			rest := string(s.data[i:min(i+12, len(s.data))])
			return strings.HasPrefix(rest, "as const") || strings.HasPrefix(rest, ".freeze")
		}
	}
	return true
}

// blank passes over white space and comments, and tells whether there were any.
func (s *scriptReader) blank() bool {
	start := s.at
	for s.at < len(s.data) {
		rest := s.data[s.at:]
		switch {
		case isBlank(rest[0]) || rest[0] == '\n':
			s.at++
		case rest[0] == '#', has(rest, "//"), has(rest, "--") && !has(rest, "--[["):
			s.skipLine()
		case has(rest, "/*"):
			s.skipTo("*/")
		case has(rest, "--[["):
			s.skipTo("]]")
		default:
			return s.at > start
		}
	}
	return s.at > start
}

func has(data []byte, mark string) bool {
	return len(data) >= len(mark) && string(data[:len(mark)]) == mark
}

func (s *scriptReader) skipTo(mark string) {
	if i := strings.Index(string(s.data[s.at:]), mark); i >= 0 {
		s.at += i + len(mark)
		return
	}
	s.at = len(s.data)
}

func (s *scriptReader) lineEnd() int {
	for i := s.at; i < len(s.data); i++ {
		if s.data[i] == '\n' {
			return i
		}
	}
	return len(s.data)
}

func (s *scriptReader) skipLine() { s.at = min(s.lineEnd()+1, len(s.data)) }

// skipRest goes behind the statement that was read: to the semicolon, or the end of the line.
func (s *scriptReader) skipRest() {
	for s.at < len(s.data) && s.data[s.at] != '\n' {
		if s.data[s.at] == ';' {
			s.at++
			return
		}
		s.at++
	}
}

// indent is how many bytes of white space stand before an offset on its line; more than all for what stands behind a
// statement on one line, which is as deep as that.
func (s *scriptReader) indent(offset int) int {
	return len(s.indentOf(offset))
}

// spellScript writes a value in the quotes and words that the old one has.
func spellScript(old Entry, text string, value any) (string, error) {
	single, err := single(value)
	if err != nil {
		return "", err
	}
	switch v := value.(type) {
	case bool:
		if _, was := old.Value.(bool); was && text != strings.ToLower(text) {
			word := strconv.FormatBool(v)
			if text == strings.ToUpper(text) {
				return strings.ToUpper(word), nil
			}
			return strings.ToUpper(word[:1]) + word[1:], nil
		}
		if _, was := old.Value.(string); !was {
			return strconv.FormatBool(v), nil
		}
	case int64:
		if _, was := old.Value.(string); !was {
			return strconv.FormatInt(v, 10), nil
		}
	}
	quote := "\""
	if text != "" && strings.ContainsAny(text[:1], "'\"") && !strings.HasPrefix(text, strings.Repeat(text[:1], 3)) {
		quote = text[:1]
	}
	if strings.ContainsAny(single, "\\\n\r\x00`") || strings.Contains(single, quote) || quote == "\"" && scriptInside.MatchString(single) {
		return "", errors.New("there are signs in it that scripting languages spell each in its own way")
	}
	return quote + single + quote, nil
}
