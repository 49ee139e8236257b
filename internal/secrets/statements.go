package secrets

import (
	"strings"
)

// statements hides secrets of a configuration of nginx or Apache by their places. What is no such configuration stays as it is, but for what reads the same.
func statements(text string) string {
	var b strings.Builder
	last := 0
	for _, c := range cutsOf(text) {
		b.WriteString(text[last:c.start])
		b.WriteString(c.by)
		b.WriteString(strings.Repeat("\n"+Hidden, strings.Count(text[c.start:c.end], "\n")-strings.Count(c.by, "\n")))
		last = c.end
	}
	b.WriteString(text[last:])
	return b.String()
}

// cutsOf are what is to be hidden of a configuration, in the order in which it stands there.
func cutsOf(text string) []cut {
	s := &reader{text: text}
	for s.at < len(text) {
		s.statement()
	}
	return s.cuts
}

// A cut is a part of the text that another stands for.
type cut struct {
	start, end int
	by         string
}

// A table is a block whose entries are no directives: a map (ngx_http_map_module) from what may be secret to what may be.
type table struct{ from, to, is bool }

type reader struct {
	text   string
	at     int
	cuts   []cut
	blocks []table
}

// A word lies in the text, with its quotes.
type word struct{ start, end int }

func (s *reader) words(all []word) []string {
	var texts []string
	for _, w := range all {
		texts = append(texts, s.text[w.start:w.end])
	}
	return texts
}

func (s *reader) cut(w word, by string) {
	if s.text[w.start:w.end] != by {
		s.cuts = append(s.cuts, cut{w.start, w.end, by})
	}
}

// lastingLines are directives of nginx that are known to go on over the end of a line.
var lastingLines = setOf("set if map geo rewrite")

// most is how many words of a directive are looked at.
const most = 64

// statement reads one directive, or a comment, or what ends a block.
func (s *reader) statement() {
	s.blanks(true)
	if s.at >= len(s.text) {
		return
	}
	if (s.text[s.at] == '+' || s.text[s.at] == '-') && (s.at == 0 || s.text[s.at-1] == '\n') { // of a diff
		s.at++
		s.blanks(false)
	}
	var found []word
	lasting := true
	for s.at < len(s.text) {
		switch c := s.text[s.at]; {
		case c == '#' && (len(found) == 0 || s.text[s.at-1] == ' ' || s.text[s.at-1] == '\t' || s.text[s.at-1] == '\n'):
			s.comment()
			continue
		case c == ';', c == '{', c == '}':
			s.at++
			s.done(found)
			switch c {
			case '{':
				s.blocks = append(s.blocks, s.tableOf(found))
			case '}':
				if len(s.blocks) > 0 {
					s.blocks = s.blocks[:len(s.blocks)-1]
				}
			}
			return
		case c == '\n':
			if !lasting || len(found) == 0 || len(found) > most {
				s.done(found)
				return
			}
			s.at++
			s.blanks(false)
			if s.at < len(s.text) && (s.text[s.at] == '+' || s.text[s.at] == '-') && s.text[s.at-1] == '\n' {
				s.at++
			}
		case c == ' ' || c == '\t' || c == '\r':
			s.at++
		case c == '\\' && strings.HasPrefix(strings.TrimLeft(s.text[s.at+1:], "\r"), "\n"): // goes on, as Apache has it
			s.at += 1 + strings.IndexByte(s.text[s.at:], '\n')
		default:
			if found = append(found, s.word()); found[len(found)-1].start == s.at { // a sign that begins nothing
				s.at++
				found[len(found)-1].end = s.at
			}
			if len(found) == 1 {
				name := s.text[found[0].start:found[0].end]
				lasting = name == strings.ToLower(name) && (strings.Contains(name, "_") || lastingLines[name] || s.inTable()) && !strings.ContainsAny(name, "<=:('\"")
			}
		}
	}
	s.done(found)
}

func (s *reader) inTable() bool { return len(s.blocks) > 0 && s.blocks[len(s.blocks)-1].is }

// blanks passes over blanks, and over ends of lines where asked to.
func (s *reader) blanks(lines bool) {
	for s.at < len(s.text) && (strings.IndexByte(" \t\r", s.text[s.at]) >= 0 || lines && s.text[s.at] == '\n') {
		s.at++
	}
}

// word reads one, in quotes or up to a blank or a sign that ends a directive.
func (s *reader) word() word {
	start := s.at
	if quote := s.text[s.at]; quote == '"' || quote == '\'' {
		for s.at++; s.at < len(s.text) && s.text[s.at] != quote; s.at++ {
			if s.text[s.at] == '\\' {
				s.at++
			}
			if s.at-start > 1<<12 { // not one
				break
			}
		}
		s.at = min(s.at+1, len(s.text))
		if s.at < len(s.text) && strings.IndexByte(" \t\r\n;{}", s.text[s.at]) < 0 { // more of it, as Apache's ">
			s.plain()
		}
		return word{start, s.at}
	}
	s.plain()
	return word{start, s.at}
}

func (s *reader) plain() {
	for deep := 0; s.at < len(s.text); s.at++ {
		switch c := s.text[s.at]; {
		case c == '\\' && s.at+1 < len(s.text) && s.text[s.at+1] != '\n' && s.text[s.at+1] != '\r':
			s.at++
		case c == '{' && s.at > 0 && strings.IndexByte("$%", s.text[s.at-1]) >= 0:
			deep++
		case c == '}' && deep > 0:
			deep--
		case strings.IndexByte(" \t\r\n;", c) >= 0 && deep == 0, c == '\n', c == '\\' && deep == 0:
			return
		case c == '}' || c == '{' && s.at+1 < len(s.text) && strings.IndexByte(" \t\r\n", s.text[s.at+1]) >= 0:
			return
		}
	}
}

// tableOf tells what a block is that some words begin.
func (s *reader) tableOf(found []word) table {
	texts := s.words(found)
	if len(texts) == 0 || !(texts[0] == "map" || texts[0] == "geo" || texts[0] == "split_clients") {
		return table{}
	}
	t := table{is: true}
	if len(texts) > 1 {
		t.to = Key(strings.Trim(texts[len(texts)-1], `$"'`))
	}
	if len(texts) > 2 {
		t.from = secretTerm(texts[1])
	}
	return t
}

// done looks at a directive that is whole.
func (s *reader) done(found []word) {
	if len(found) == 0 {
		return
	}
	texts := s.words(found)
	if s.inTable() {
		t := s.blocks[len(s.blocks)-1]
		if bare := strings.Trim(texts[0], `"'~*^`); t.from && bare != "default" && bare != "include" && bare != "hostnames" && bare != "volatile" {
			s.cut(found[0], against("$token", texts[0]))
		}
		if last := len(found) - 1; t.to && last > 0 {
			s.cut(found[last], hiddenWord(texts[last]))
		}
		return
	}
	if len(found) == 1 {
		return
	}
	for i, shown := range Directive(texts[0], texts[1:]) {
		s.cut(found[i+1], shown)
	}
}

// filler are words between that of a secret and the secret itself.
var filler = setOf("is was are were the a old new now current for of to be : = -> => - – it")

// saysOfIt are what a comment says of a secret without telling it.
var saysOfIt = setOf("required optional set unset needed used valid invalid empty wrong missing below above here there kept stored read known hidden secret none off on changed rotated checked sent given taken removed gone")

// comment passes over one, and hides what stands in it behind the word of a secret.
func (s *reader) comment() {
	start := s.at
	end := strings.IndexByte(s.text[start:], '\n')
	if end < 0 {
		end = len(s.text) - start
	}
	s.at = start + end
	line := s.text[start:s.at]
	secret, only := false, false
	for i := 0; i < len(line); {
		from := i + len(line[i:]) - len(strings.TrimLeft(line[i:], " \t\r#"))
		to := from
		for to < len(line) && line[to] != ' ' && line[to] != '\t' && line[to] != '\r' {
			to++
		}
		if from == to {
			break
		}
		text := line[from:to]
		i = to
		bare := strings.Trim(text, `.,;:!?"'()`)
		lower := strings.ToLower(bare)
		switch {
		case bare == "pass": // on
			secret, only = false, false
		case Key(bare) && !strings.ContainsAny(bare, "=/"):
			secret, only = true, strings.HasSuffix(text, ":")
		case filler[lower] || lower == "":
			only = only || secret && (lower == "is" || lower == "was" || text == "=" || text == ":")
		case secret && !harmless(bare) && !strings.Contains(bare, "://") && (mixed(bare) && len(bare) >= 5 && !strings.HasPrefix(bare, "/") || only && !saysOfIt[lower] && strings.TrimSpace(line[to:]) == "" && !strings.HasSuffix(text, ".")):
			s.cut(word{start + from, start + to}, strings.Replace(text, bare, Hidden, 1))
			only = false
		default:
			only = false
		}
	}
}
