package nginx

import (
	"net/http"
	"strconv"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// An ending is how a phase ends a request.
type ending struct {
	status int
	text   answer.Text // what return says
	has    bool        // return has a text
	node   *directives.Node
}

// rewrites runs the rewriting of a server.
func (r *request) rewrites(l *level, _ bool) *ending {
	end, _ := r.run(l.body, l)
	return end
}

// run carries out the directives of the rewriting module in their order. Moved tells that the address changed, so that a
// location is looked for again.
func (r *request) run(body []*directives.Node, in *level) (end *ending, moved bool) {
	end, moved, _ = r.codes(body, in, false)
	return end, moved
}

func (r *request) codes(body []*directives.Node, in *level, moved bool) (end *ending, changed, stop bool) {
	for _, n := range body {
		switch n.Name {
		case "":
			if r.g.Either(facts.Reason{Because: n.Hole, Origin: originOf(n)}) {
				return &ending{status: http.StatusInternalServerError, node: n}, moved, true
			}
		case "set":
			r.vars[strings.TrimPrefix(n.Arg(0), "$")] = r.expand(n.Arg(1), n)
		case "break":
			return nil, false, true
		case "return":
			return r.returns(n), moved, true
		case "rewrite":
			matched, e, last := r.rewrite(n)
			if e != nil {
				return e, moved, true
			}
			if matched {
				moved = n.Arg(2) != "break"
				r.a.Then(at(n), "the address is rewritten to "+r.uri.S)
			}
			if matched && last {
				return nil, moved, true
			}
		case "if":
			if !r.holds(n) {
				continue
			}
			r.a.Then(at(n), "the condition holds: "+n.String())
			if in.node != nil && in.node.Is("location") {
				r.loc = in.inside(n)
			}
			var e *ending
			if e, moved, stop = r.codes(n.Body, in, moved); e != nil || stop {
				return e, moved, true
			}
		}
	}
	return nil, moved, false
}

func (r *request) returns(n *directives.Node) *ending {
	status, err := strconv.Atoi(n.Arg(0))
	if err != nil { // an address alone
		return &ending{status: http.StatusFound, text: r.expand(n.Arg(0), n), has: true, node: n}
	}
	end := &ending{status: status, node: n}
	if len(n.Args) > 1 {
		end.text, end.has = r.expand(n.Arg(1), n), true
	}
	return end
}

func isRedirect(status int) bool {
	switch status {
	case 301, 302, 303, 307, 308:
		return true
	}
	return false
}

// rewrite is one directive rewrite.
func (r *request) rewrite(n *directives.Node) (matched bool, end *ending, last bool) {
	if !r.match(r.patterns.Compile(n.Arg(0), false), r.uri, n) {
		return false, nil, false
	}
	replacement, flag := n.Arg(1), n.Arg(2)
	status := 0
	for _, scheme := range []string{"http://", "https://", "$scheme"} {
		if strings.HasPrefix(replacement, scheme) {
			status = http.StatusFound
		}
	}
	switch flag {
	case "redirect":
		status = http.StatusFound
	case "permanent":
		status = http.StatusMovedPermanently
	}
	addArgs := true
	if rest, is := strings.CutSuffix(replacement, "?"); is {
		replacement, addArgs = rest, false
	}
	path, own, hasArgs := strings.Cut(replacement, "?")
	target := r.expand(path, n)
	args := answer.Text{}
	if hasArgs {
		args = r.expand(own, n)
	}
	switch {
	case hasArgs && addArgs && r.args.S != "":
		args = args.Plus(answer.Known("&")).Plus(r.args)
	case !hasArgs && addArgs:
		args = r.args
	}
	if status != 0 {
		if args.S != "" || args.Why != nil {
			target = target.Plus(answer.Known("?")).Plus(args)
		}
		return true, &ending{status: status, text: target, has: true, node: n}, true
	}
	r.uri, r.args = target, args
	r.internal, r.asSent = true, false
	if flag == "break" {
		r.inPlace = false
	}
	if r.uri.S == "" && r.uri.Why == nil {
		return true, &ending{status: http.StatusInternalServerError, node: n}, true
	}
	return true, nil, flag == "last" || flag == "break"
}

// holds evaluates the condition of an if.
func (r *request) holds(n *directives.Node) bool {
	words := condition(n.Args)
	if len(words) == 0 {
		return r.g.Either(facts.Reason{Because: "this condition is not understood", Origin: at(n)})
	}
	if file, not := strings.CutPrefix(words[0], "!"); len(words) == 2 && len(file) == 2 && file[0] == '-' {
		return r.lies(file[1], r.expand(words[1], n), n) != not
	}
	value := r.expand(words[0], n)
	if len(words) == 1 {
		if value.Why != nil {
			return r.g.Either(*value.Why)
		}
		return value.S != "" && value.S != "0"
	}
	operator, want := words[1], strings.Join(words[2:], " ")
	switch operator {
	case "=", "!=":
		other := r.expand(want, n)
		if both := value.Plus(other); both.Why != nil {
			return r.g.Either(*both.Why)
		}
		return (value.S == other.S) == (operator == "=")
	case "~", "~*", "!~", "!~*":
		p := r.patterns.Compile(want, strings.HasSuffix(operator, "*"))
		return r.match(p, value, n) != (operator[0] == '!')
	}
	return r.g.Either(facts.Reason{Because: "this condition is not understood", Origin: at(n)})
}

// condition takes the parentheses off.
func condition(args []string) (words []string) {
	if len(args) == 0 || !strings.HasPrefix(args[0], "(") || !strings.HasSuffix(args[len(args)-1], ")") {
		return nil
	}
	for i, word := range args {
		if i == 0 {
			word = word[1:]
		}
		if i == len(args)-1 {
			word = strings.TrimSuffix(word, ")")
		}
		if word != "" {
			words = append(words, word)
		}
	}
	return words
}

// lies tells whether something lies at a path: f a file, d a folder, e either, x what may be run.
func (r *request) lies(kind byte, path answer.Text, n *directives.Node) bool {
	if path.Why != nil {
		return r.g.Either(*path.Why)
	}
	entry := r.disk.Look(r.path(path.S))
	if entry.Is == answer.Unseen {
		return r.g.Either(facts.Reason{Because: entry.Why, Origin: at(n)})
	}
	switch kind {
	case 'f':
		return entry.Is == answer.AFile
	case 'd':
		return entry.Is == answer.AFolder
	case 'x':
		return entry.Is != answer.NoEntry && entry.Run
	}
	return entry.Is != answer.NoEntry
}
