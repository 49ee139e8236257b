package apache

import (
	"path/filepath"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// holds evaluates the condition of an If.
func (r *request) holds(n *directives.Node) bool {
	return r.expression(strings.Join(n.Args, " "), n)
}

// expression evaluates a condition of ap_expr: comparisons of texts and expressions, with !, &&, || and parentheses. What it
// does not know, it guesses both ways.
func (r *request) expression(text string, n *directives.Node) bool {
	p := &conditionReader{r: r, text: text, node: n}
	r.askedFor = nil
	value := p.or()
	r.varies = append(r.varies, r.askedFor...)
	if p.space(); p.at < len(p.text) {
		p.wrong = true
	}
	if p.wrong {
		return r.g.Either(facts.Reason{Because: "the condition " + text + " is not understood", Origin: at(n)})
	}
	if p.why != nil {
		return r.g.Either(*p.why)
	}
	return value
}

type conditionReader struct {
	r     *request
	text  string
	at    int
	node  *directives.Node
	wrong bool
	why   *facts.Reason
}

func (p *conditionReader) space() {
	for p.at < len(p.text) && strings.IndexByte(" \t", p.text[p.at]) >= 0 {
		p.at++
	}
}

func (p *conditionReader) takes(word string) bool {
	p.space()
	if strings.HasPrefix(p.text[p.at:], word) {
		p.at += len(word)
		return true
	}
	return false
}

func (p *conditionReader) or() bool {
	value := p.and()
	for p.takes("||") {
		asked := p.r.askedFor
		other := p.and()
		if value { // the other side is not looked at
			p.r.askedFor = asked
		}
		value = value || other
	}
	return value
}

func (p *conditionReader) and() bool {
	value := p.not()
	for p.takes("&&") {
		asked := p.r.askedFor
		other := p.not()
		if !value {
			p.r.askedFor = asked
		}
		value = value && other
	}
	return value
}

func (p *conditionReader) not() bool {
	p.space()
	switch {
	case p.at+1 < len(p.text) && p.text[p.at] == '!' && p.text[p.at+1] != '=' && p.text[p.at+1] != '~':
		p.at++
		return !p.not()
	case p.takes("("):
		value := p.or()
		p.wrong = p.wrong || !p.takes(")")
		return value
	case p.takes("true"):
		return true
	case p.takes("false"):
		return false
	case p.takes("-z "):
		return p.word() == ""
	case p.takes("-n "):
		return p.word() != ""
	case p.takes("-L "), p.takes("-h "):
		name := p.word()
		return answer.Linked(p.r.disk, filepath.Dir(name), name)
	case p.takes("-f "), p.takes("-d "), p.takes("-e "):
		kind := p.text[p.at-2]
		entry := p.r.disk.Look(p.word())
		return kind == 'f' && entry.Is == answer.AFile || kind == 'd' && entry.Is == answer.AFolder || kind == 'e' && entry.Is != answer.NoEntry
	}
	left := p.word()
	for _, operator := range []string{"==", "!=", "=~", "!~", "="} {
		if !p.takes(operator) {
			continue
		}
		if operator == "=~" || operator == "!~" {
			return p.matches(left) == (operator == "=~")
		}
		return (left == p.word()) == (operator != "!=")
	}
	for _, operator := range []string{"-eq ", "-ne ", "-strmatch ", "-fnmatch "} {
		if p.takes(operator) {
			right := p.word()
			switch operator {
			case "-eq ":
				return left == right
			case "-ne ":
				return left != right
			}
			return globMatch(right, left, operator == "-fnmatch ")
		}
	}
	p.wrong = true
	return false
}

// word is a text in quotes or a variable.
func (p *conditionReader) word() string {
	p.space()
	if p.at >= len(p.text) {
		p.wrong = true
		return ""
	}
	switch c := p.text[p.at]; {
	case c == '\'' || c == '"':
		end := strings.IndexByte(p.text[p.at+1:], c)
		if end < 0 {
			p.wrong = true
			return ""
		}
		inner := p.text[p.at+1 : p.at+1+end]
		p.at += end + 2
		return p.filled(inner)
	case c == '%':
		end := strings.IndexByte(p.text[p.at:], '}')
		if end < 0 {
			p.wrong = true
			return ""
		}
		inner := p.text[p.at : p.at+end+1]
		p.at += end + 1
		return p.filled(inner)
	case c >= '0' && c <= '9':
		start := p.at
		for p.at < len(p.text) && p.text[p.at] >= '0' && p.text[p.at] <= '9' {
			p.at++
		}
		return p.text[start:p.at]
	}
	p.wrong = true
	return ""
}

func (p *conditionReader) filled(text string) string {
	out := p.r.expand(text, nil, nil, p.node, nil)
	if p.r.unseen != nil {
		p.why, p.r.unseen = p.r.unseen, nil
	}
	return out
}

// matches is what follows =~: /expression/ or m#expression#, with i for any case.
func (p *conditionReader) matches(left string) bool {
	p.space()
	if strings.HasPrefix(p.text[p.at:], "m") && p.at+1 < len(p.text) {
		p.at++
	}
	if p.at >= len(p.text) || strings.IndexByte("/#$%^|?!'\",;:._-", p.text[p.at]) < 0 {
		p.wrong = true
		return false
	}
	sign := p.text[p.at]
	end := strings.IndexByte(p.text[p.at+1:], sign)
	if end < 0 {
		p.wrong = true
		return false
	}
	expression := p.text[p.at+1 : p.at+1+end]
	p.at += end + 2
	anyCase := false
	for p.at < len(p.text) && strings.IndexByte("imsgn", p.text[p.at]) >= 0 {
		anyCase = anyCase || p.text[p.at] == 'i'
		p.at++
	}
	found, wrong := p.r.patterns.Compile(expression, anyCase).Find(left)
	if wrong != "" {
		p.why = &facts.Reason{Because: wrong, Origin: at(p.node)}
	}
	return found != nil
}
