package runtime

import (
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"weltaxis/internal/facts"
)

// An entry is one line of a file of the runtime's own syntax, that of php.ini: a value under a name.
type entry struct {
	section string // the heading that it counts to; "" before the first
	name    string
	offset  string // of name[offset]
	indexed bool   // it has one, if only an empty one
	value   string
	unknown string // why the value cannot be told; then there is none
	bare    bool   // a name alone, without a value
	line    int
	text    string // the line, as it stands in the file
}

// An iniFile is what was read of one file. Of a broken one the runtime takes what stands before the mistake, and nothing after it.
type iniFile struct {
	path    string
	entries []entry
	broken  int    // the line of the mistake; 0 for none
	wrong   string // what it is
	cut     bool   // it has more entries than are read
	unread  *facts.Reason
}

// maxEntries is how many lines with a value are read of one file.
const maxEntries = 100_000

// readINI reads a file as the runtime's own scanner and grammar do. Earlier gives the value of a directive that was read before,
// for ${name}; note is told of each entry as soon as it has been read, where later ones may name it.
func readINI(path string, data []byte, earlier func(name string) (value string, known bool), note func(entry)) *iniFile {
	s := &iniScanner{data: data, line: 1, earlier: earlier, note: note, file: &iniFile{path: path}}
	s.data = bytes.TrimPrefix(s.data, []byte("\xef\xbb\xbf")) // what the runtime's own scanner passes over
	for s.statement() {
		if len(s.file.entries) >= maxEntries {
			s.file.cut = true
			break
		}
	}
	return s.file
}

// iniScanner is the runtime's scanner: the longest match, and of those as long the first.
type iniScanner struct {
	data    []byte // what is left
	line    int
	section string
	depth   int // of brackets
	earlier func(string) (string, bool)
	note    func(entry)
	file    *iniFile
}

const (
	blanks   = " \t"
	notLabel = "=\n\r\t;&|^$~(){}!\"[]\x00"
	notValue = "$= \t\n\r;&|^~()!\"'\x00"
)

func (s *iniScanner) fail(format string, args ...any) bool {
	if s.file.broken == 0 {
		s.file.broken, s.file.wrong = s.line, fmt.Sprintf(format, args...)
	}
	return false
}

// span is how many of the first bytes are, or are not, among those of a set.
func (s *iniScanner) span(set string, among bool) int {
	n := bytes.IndexFunc(s.data, func(r rune) bool { return strings.ContainsRune(set, r) != among })
	if n < 0 {
		return len(s.data)
	}
	return n
}

func (s *iniScanner) blank() int { return s.span(blanks, true) }

// newline is the length of the end of a line at a place; 0 when there is none.
func (s *iniScanner) newline(at int) int {
	switch rest := s.data[at:]; {
	case bytes.HasPrefix(rest, []byte("\r\n")):
		return 2
	case len(rest) > 0 && (rest[0] == '\n' || rest[0] == '\r'):
		return 1
	}
	return 0
}

func (s *iniScanner) take(n int) string {
	text := string(s.data[:n])
	s.data = s.data[n:]
	return text
}

// lineEnds passes over the end of a line with what may stand before it: white space, and a comment.
func (s *iniScanner) lineEnds() bool {
	n := s.blank()
	if n < len(s.data) && s.data[n] == ';' {
		end := bytes.IndexAny(s.data[n:], "\r\n")
		if end < 0 {
			s.data = nil
			return true
		}
		n += end
	}
	ends := s.newline(n)
	if ends == 0 {
		return false
	}
	s.take(n + ends)
	s.line++
	return true
}

var boolWords = map[string]string{"true": "1", "on": "1", "yes": "1", "false": "", "off": "", "no": "", "none": "", "null": ""}

// keyword is the length of a word that means yes, no or nothing, with the white space after it, and its value.
func (s *iniScanner) keyword() (n int, value string) {
	for word, means := range boolWords {
		if len(s.data) >= len(word) && strings.EqualFold(string(s.data[:len(word)]), word) {
			end := len(word)
			for end < len(s.data) && strings.IndexByte(blanks, s.data[end]) >= 0 {
				end++
			}
			if end > n {
				n, value = end, means
			}
		}
	}
	return n, value
}

// statement reads one; false at the end or at a mistake.
func (s *iniScanner) statement() bool {
	if len(s.data) == 0 || s.data[0] == 0 {
		return false
	}
	if s.lineEnds() {
		return true
	}
	if s.data[0] == '[' {
		s.take(1)
		return s.heading()
	}
	start, line := s.data, s.line
	n := s.span(notLabel, false)
	if n == 0 {
		if blank := s.blank(); blank > 0 && (blank == len(s.data) || s.data[blank] != '=') {
			s.take(blank)
			return true
		}
		return s.fail("unexpected %q", rune(s.data[0]))
	}
	if n == s.blank() && n == len(s.data) {
		s.data = nil
		return false
	}
	offset := n < len(s.data) && s.data[n] == '['
	if length, _ := s.keyword(); length >= n && !offset {
		return s.fail("unexpected %q: it means yes or no, and is no name", strings.TrimSpace(string(s.data[:n])))
	}
	e := entry{section: s.section, name: strings.Trim(s.take(n), " \t"), line: line}
	if offset {
		s.take(1)
		s.take(s.blank())
		var ok bool
		if e.offset, ok = s.offset(); !ok {
			return false
		}
		e.indexed = true
	}
	if blank := s.blank(); blank < len(s.data) && s.data[blank] == '=' {
		s.take(blank + 1)
		s.take(s.blank())
		v, complete := s.value()
		if !complete {
			return false
		}
		e.value, e.unknown = v.text, v.unknown
	} else if e.bare = true; e.indexed {
		return s.fail("unexpected end of %s[%s]: no value follows", e.name, e.offset)
	}
	e.text = oneLine(start)
	s.file.entries = append(s.file.entries, e)
	if s.note != nil {
		s.note(e)
	}
	return s.file.broken == 0
}

// maxShown is how much of a line is shown.
const maxShown = 120

// oneLine is the first line of a text, without what surrounds it, and of a long one the beginning.
func oneLine(text []byte) string {
	text = text[:min(len(text), 4*maxShown)]
	if end := bytes.IndexAny(text, "\r\n"); end >= 0 {
		text = text[:end]
	}
	return facts.Shorten(strings.TrimSpace(string(text)), maxShown)
}

// heading reads what stands between brackets.
func (s *iniScanner) heading() bool {
	text := ""
	for {
		if len(s.data) == 0 {
			return s.fail("unexpected end of the file in a heading")
		}
		switch c := s.data[0]; {
		case c == ']':
			n := 1
			for n < len(s.data) && strings.IndexByte(blanks, s.data[n]) >= 0 {
				n++
			}
			if ends := s.newline(n); ends > 0 {
				n += ends
				s.line++
			}
			s.take(n)
			s.enter(text)
			return true
		case c == '\'' && bytes.IndexByte(s.data[1:], '\'') > 0:
			end := bytes.IndexByte(s.data[1:], '\'')
			text += s.take(end + 2)[1 : end+1]
		case c == '"':
			v, ok := s.quoted()
			if !ok {
				return false
			}
			text += v.text
		case bytes.HasPrefix(s.data, []byte("${")):
			v, ok := s.variable()
			if !ok {
				return false
			}
			text += v.text
		case c == '\n' || c == '\r' || c == ';' || c == '$' || c == '\'':
			return s.fail("unexpected %q in a heading", rune(c))
		default:
			text += s.take(1)
		}
	}
}

// enter begins a section. One for a host or a path goes on until the next of its kind: headings of other kinds do not end it.
func (s *iniScanner) enter(heading string) {
	kind, key := special(heading)
	before, _ := special(s.section)
	if before == "" || kind != "" && key != "" {
		s.section = heading
	}
}

// offset reads what stands in the brackets after a name.
func (s *iniScanner) offset() (string, bool) {
	text := ""
	for {
		if len(s.data) == 0 {
			return "", s.fail("unexpected end of the file in brackets")
		}
		if n := s.blank(); n < len(s.data) && s.data[n] == ']' {
			s.take(n + 1)
			return text, true
		}
		switch c := s.data[0]; {
		case c == '"':
			v, ok := s.quoted()
			if !ok {
				return "", false
			}
			text += v.text
		case c == '\'' && bytes.IndexByte(s.data[1:], '\'') > 0:
			end := bytes.IndexByte(s.data[1:], '\'')
			text += s.take(end + 2)[1 : end+1]
		case strings.IndexByte("=\n\r;&|^$~(){}!\"[\x00'", c) >= 0:
			return "", s.fail("unexpected %q in brackets", rune(c))
		default:
			text += s.take(1)
		}
	}
}

// A text of a value, or why it cannot be told.
type iniText struct{ text, unknown string }

// maxValue is the longest value that is made of others.
const maxValue = 1 << 20

func (t iniText) plus(o iniText) iniText {
	if t.unknown == "" {
		t.unknown = o.unknown
	}
	if len(t.text)+len(o.text) > maxValue {
		return iniText{unknown: "it is longer than a mebibyte"}
	}
	t.text += o.text
	return t
}

// value reads what follows the sign of equality: nothing, a word that means yes or no, or an expression. Where one is complete and
// something follows that should not, the runtime takes the value, and stops only then.
func (s *iniScanner) value() (v iniText, complete bool) {
	if s.ended() {
		return iniText{}, true
	}
	if n, means := s.keyword(); n > 0 && n >= s.word() {
		s.take(n)
		if !s.ended() {
			s.fail("unexpected %q after a word that means yes or no", oneLine(s.data))
		}
		return iniText{text: means}, true
	}
	if v, complete = s.expression(); complete && !s.ended() {
		s.fail("unexpected %q", oneLine(s.data))
	}
	return v, complete
}

// word is the length of the longest plain piece of a value that begins here; a dollar that names nothing is as good as a letter.
func (s *iniScanner) word() (n int) {
	for {
		more := bytes.IndexAny(s.data[n:], notValue)
		if more < 0 {
			return len(s.data)
		}
		n += more
		switch rest := s.data[n:]; {
		case rest[0] != '$' || len(rest) < 2 || rest[1] == '{' || rest[1] == 0:
			return n
		case rest[1] == '\\' && len(rest) > 2:
			n += 3
		default:
			n += 2
		}
	}
}

// ended passes over the end of a value. A sign of equality ends it as well, and is then a mistake of the next statement; so do
// two single quotes with nothing in them, of which the second begins another.
func (s *iniScanner) ended() bool {
	if bytes.HasPrefix(s.data, []byte("''")) {
		s.take(1)
		return true
	}
	return len(s.data) == 0 || s.lineEnds() || s.data[0] == '='
}

// expression reads terms with | & and ^ between them, which the runtime takes in the order in which they stand.
func (s *iniScanner) expression() (iniText, bool) {
	if s.depth++; s.depth > maxNested {
		return iniText{}, s.fail("brackets inside one another more than %d deep", maxNested)
	}
	defer func() { s.depth-- }()
	left, ok := s.term()
	for ok && len(s.data) > 0 && strings.IndexByte("|&^", s.data[0]) >= 0 {
		operator := s.take(1)[0]
		s.take(s.blank())
		var right iniText
		if right, ok = s.term(); !ok {
			return left, false
		}
		a, b := leadingNumber(left.text), leadingNumber(right.text)
		n := map[byte]int64{'|': a | b, '&': a & b, '^': a ^ b}[operator]
		left = iniText{strconv.FormatInt(n, 10), left.plus(right).unknown}
	}
	return left, ok
}

// maxNested is how deep brackets and signs may stand in a value.
const maxNested = 100

func (s *iniScanner) term() (iniText, bool) {
	signs := ""
	for len(s.data) > 0 && strings.IndexByte("~!(", s.data[0]) >= 0 && len(signs) < maxNested {
		sign := s.take(1)
		s.take(s.blank())
		signs = sign + signs
		if sign == "(" {
			v, ok := s.expression()
			if !ok || len(s.data) == 0 || s.data[0] != ')' {
				return v, s.fail("unexpected %q: a bracket is not closed", oneLine(s.data))
			}
			s.take(1)
			s.take(s.blank())
			return signed(signs[1:], v), true
		}
	}
	v, found := iniText{}, false
	for len(s.data) > 0 {
		piece, ok, none := s.piece()
		if none {
			break
		}
		if !ok {
			return v, false
		}
		v, found = v.plus(piece), true
	}
	if here := oneLine(s.data); !found && here == "" {
		return v, s.fail("the line ends where a value should stand")
	} else if !found {
		return v, s.fail("unexpected %q where a value should stand", here)
	}
	return signed(signs, v), true
}

func signed(signs string, v iniText) iniText {
	for _, sign := range signs {
		n := leadingNumber(v.text)
		switch {
		case sign == '~':
			n = ^n
		case n == 0:
			n = 1
		default:
			n = 0
		}
		v.text = strconv.FormatInt(n, 10)
	}
	return v
}

// leadingNumber is the number that a text begins with, 0 for none.
func leadingNumber(text string) int64 {
	text = strings.TrimLeft(text, " \t\n\r\v\f")
	end := 0
	for end < len(text) && (text[end] >= '0' && text[end] <= '9' || end == 0 && (text[0] == '-' || text[0] == '+')) {
		end++
	}
	n, _ := strconv.ParseInt(text[:end], 10, 64)
	return n
}

var constantName = regexp.MustCompile(`^[a-zA-Z_][a-zA-Z0-9_]*$`)

// otherConstant is how constants look that only the runtime knows.
var otherConstant = regexp.MustCompile(`^[A-Z][A-Z0-9]*_[A-Z0-9_]+$|^(M_|NAN$|INF$|PHP_)`)

// levels are the constants of error levels; that for all of them is another from 8.4 on.
var levels = map[string]int64{"E_ERROR": 1, "E_WARNING": 2, "E_PARSE": 4, "E_NOTICE": 8, "E_CORE_ERROR": 16, "E_CORE_WARNING": 32, "E_COMPILE_ERROR": 64, "E_COMPILE_WARNING": 128,
	"E_USER_ERROR": 256, "E_USER_WARNING": 512, "E_USER_NOTICE": 1024, "E_STRICT": 2048, "E_RECOVERABLE_ERROR": 4096, "E_DEPRECATED": 8192, "E_USER_DEPRECATED": 16384, "E_ALL": 32767}

// piece reads one piece of a text; none when there is none here.
func (s *iniScanner) piece() (v iniText, ok, none bool) {
	if n := s.blank(); n > 0 {
		if n < len(s.data) && s.data[n] == '"' {
			s.take(n)
		} else if n < len(s.data) && (s.newline(n) > 0 || s.data[n] == ';') {
			return v, true, true
		} else {
			return iniText{text: s.take(n)}, true, false
		}
	}
	switch c := s.data[0]; {
	case c == '"':
		v, ok = s.quoted()
		return v, ok, false
	case c == '\'':
		if end := bytes.IndexByte(s.data[1:], '\''); end > 0 {
			text := s.take(end + 2)
			s.line += strings.Count(text, "\n")
			return iniText{text: text[1 : end+1]}, true, false
		}
		return v, true, true
	case bytes.HasPrefix(s.data, []byte("${")):
		v, ok = s.variable()
		return v, ok, false
	}
	n := s.word()
	if n == 0 {
		return v, true, true
	}
	if length, _ := s.keyword(); length >= n {
		return v, true, true
	}
	text := s.take(n)
	if constantName.MatchString(text) {
		if level, is := levels[text]; is {
			return iniText{text: strconv.FormatInt(level, 10)}, true, false
		}
		if otherConstant.MatchString(text) {
			return iniText{text: text, unknown: text + " is a constant that only the runtime knows"}, true, false
		}
	}
	return iniText{text: text}, true, false
}

// quoted reads a text in double quotes.
func (s *iniScanner) quoted() (v iniText, ok bool) {
	start := s.line
	s.take(1)
	var raw strings.Builder
	flush := func() {
		v.text += unescaped(raw.String())
		raw.Reset()
	}
	for len(s.data) > 0 {
		switch c := s.data[0]; {
		case c == '"':
			flush()
			s.take(1)
			s.take(s.blank()) // which the runtime passes over
			return v, true
		case c == '\\' && len(s.data) > 1:
			raw.WriteString(s.take(2))
		case bytes.HasPrefix(s.data, []byte("${")):
			flush()
			inner, ok := s.variable()
			if !ok {
				return v, false
			}
			v = v.plus(inner)
		default:
			if c == '\n' || c == '\r' && s.newline(0) == 1 {
				s.line++
			}
			raw.WriteString(s.take(1))
		}
	}
	s.line = start
	return v, s.fail("a quote is not closed")
}

func unescaped(text string) string {
	if !strings.Contains(text, `\`) {
		return text
	}
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && i+1 < len(text) && (text[i+1] == '"' || text[i+1] == '\\') {
			i++
		}
		out.WriteByte(text[i])
	}
	return out.String()
}

// variable reads ${name}: a directive that was read before, or else the environment's, which is not known here.
func (s *iniScanner) variable() (iniText, bool) {
	s.take(2)
	n := s.span(notLabel, false)
	if n == 0 || n == len(s.data) || s.data[n] != '}' {
		return iniText{}, s.fail("unexpected %q in ${}", oneLine(s.data))
	}
	name := strings.Trim(s.take(n), blanks)
	s.take(1)
	if value, known := s.earlier(name); known {
		return iniText{text: value}, true
	}
	return iniText{unknown: "it is made of ${" + name + "}, which the environment says"}, true
}
