package amend

import (
	"fmt"
	"maps"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server"
	"weltaxis/internal/source/server/answer"
)

// wishesOf are the wishes that a rule's is made of. Redirects are for good where that is so already for a trial.
func wishesOf(w facts.Wish, home *url.URL, forGood bool) (list []wish) {
	for _, name := range slices.Sorted(maps.Keys(w.Headers)) {
		if strings.EqualFold(name, "Cache-Control") {
			list = append(list, freshWish(w.Headers[name]))
			continue
		}
		list = append(list, headerWish(name, w.Headers[name]))
	}
	for _, name := range slices.Sorted(maps.Keys(w.Directives)) {
		if name == "gzip" || name == "gzip_vary" {
			list = append(list, squeezeWish(name, w.Directives[name]))
			continue
		}
		if strings.EqualFold(name, "server_tokens") || strings.EqualFold(name, "ServerTokens") {
			list = append(list, tokensWish(name, w.Directives[name]))
		}
	}
	if w.Unlist {
		list = append(list, unlistWish())
	}
	if w.Deny {
		list = append(list, denyWish())
	}
	if w.Inert {
		list = append(list, inertWish())
	}
	if w.Shut != nil {
		list = append(list, shutWish(*w.Shut))
	}
	to, err := url.Parse(w.To)
	switch {
	case err != nil || to.Path == "" && to.Host == "":
	case w.Encrypt:
		list = append(list, unifyWish(to, kindOf(false, w.Posts)))
	case w.Unify:
		list = append(list, unifyWish(to, kindOf(forGood, w.Posts)))
	case w.Lead:
		list = append(list, leadWish(to, home, kindOf(forGood, w.Posts)))
	}
	return list
}

// headerWish is that answers carry a header with a value.
func headerWish(name, value string) wish {
	field := answer.Header(name)
	said := func(a *answer.Answer) bool {
		told := a.Get(field)
		return told.Known() && len(told.Values) == 1 && told.Values[0] == value
	}
	return wish{
		says: name + ": " + value, met: said,
		related: func(f answer.Field, _, is server.Worked) bool { return f == field && said(is.Answer) },
		ways: func(s *server.Source, a *answer.Answer, _ *url.URL) []way {
			at := located(s, a)
			if at == nil {
				return nil
			}
			if at.kind == server.Nginx {
				return at.nginxHeader(name, value, a.Get(field))
			}
			return at.apacheHeader(s, name, value, a.Get(field))
		},
	}
}

// A spot is where the server that decides of an answer is told of it.
type spot struct {
	kind   string
	tree   *directives.Tree
	blocks []*directives.Node // around the place, the innermost first: location or section, host, and what is around that
	files  server.Overlay
}

func located(s *server.Source, a *answer.Answer) *spot {
	if len(s.Servers) == 0 {
		return nil
	}
	one := s.Servers[0] // the outermost adds headers to all that passes through it
	l := &spot{kind: one.Kind, tree: one.Tree, files: s.Files()}
	for _, f := range []answer.Field{answer.Place, answer.Server} {
		for _, b := range around(one.Tree, a.Get(f).Origin) {
			if !slices.Contains(l.blocks, b) {
				l.blocks = append(l.blocks, b)
			}
		}
	}
	return l
}

// around are the blocks that hold a line, the innermost first, itself where it is one.
func around(t *directives.Tree, at facts.Origin) []*directives.Node {
	var found []*directives.Node
	var in func(body, outer []*directives.Node) bool
	in = func(body, outer []*directives.Node) bool {
		for _, n := range body {
			chain := outer
			if n.Block {
				chain = append(slices.Clone(outer), n)
			}
			if n.File == at.File && n.Line == at.Line {
				found = chain
				return true
			}
			if in(n.Body, chain) {
				return true
			}
		}
		return false
	}
	in(t.Root, nil)
	slices.Reverse(found)
	return found
}

// nodeAt is the directive of a line.
func nodeAt(t *directives.Tree, at facts.Origin, names ...string) (found *directives.Node) {
	t.Bodies(func(body []*directives.Node) {
		for _, n := range body {
			if found == nil && n.File == at.File && n.Line == at.Line && n.Is(names...) {
				found = n
			}
		}
	})
	return found
}

// lastOf is the last directive of a name that stands in a body itself, and in the file that the body begins in where one is given.
func lastOf(body []*directives.Node, wanted func(*directives.Node) bool) (found *directives.Node) {
	for _, n := range body {
		if wanted(n) {
			found = n
		}
	}
	return found
}

func (l *spot) data(file string) []byte {
	data, err := l.files.Bytes(file)
	if err != nil {
		return nil
	}
	return data
}

// replaced, after and within are ways: another directive in the place of one, one after it, and one as the first in a block.
func (l *spot) replaced(n *directives.Node, text string) []way {
	now := l.data(n.File)
	data, err := n.Replaced(now, text)
	if err != nil {
		return nil
	}
	return []way{{file: n.File, data: data, from: string(now[n.Start:n.End]), to: text, says: fmt.Sprintf("in the place of line %d of %s", n.Line, n.File)}}
}

// replacedPart is a way: one with another word in it.
func (l *spot) replacedPart(n *directives.Node, what *regexp.Regexp, by string) []way {
	data := l.data(n.File)
	if n.End > len(data) {
		return nil
	}
	text := string(data[n.Start:n.End])
	at := what.FindStringIndex(text)
	if at == nil {
		return nil
	}
	return l.replaced(n, text[:at[0]]+by+text[at[1]:])
}

func (l *spot) after(n *directives.Node, text string) []way {
	data, err := n.FollowedBy(l.data(n.File), text)
	if err != nil {
		return nil
	}
	return []way{{file: n.File, data: data, from: "(no such line)", to: text, says: fmt.Sprintf("after line %d of %s", n.Line, n.File)}}
}

func (l *spot) within(n *directives.Node, text string) []way {
	data, err := n.Holding(l.data(n.File), text)
	if err != nil {
		return nil
	}
	return []way{{file: n.File, data: data, from: "(no such line)", to: text, says: fmt.Sprintf("in %s, line %d of %s", n, n.Line, n.File)}}
}

// quoted is a word as both servers take it in quotes; plain words need none.
func quoted(text string) string {
	if !strings.ContainsAny(text, " \t;{}\"'#") && text != "" && !regexp.MustCompile(`\\[\\trn]`).MatchString(text) {
		return text
	}
	return directives.NginxWord(text)
}

// nginxHeader are the ways to a header at nginx: its own line, or else after the list that counts there; a host without any has a new one.
func (l *spot) nginxHeader(name, value string, now answer.Told) (ways []way) {
	text := fmt.Sprintf("add_header %s %s always;", name, quoted(value))
	own := func(n *directives.Node) bool { return n.Is("add_header") && strings.EqualFold(n.Arg(0), name) }
	if n := nodeAt(l.tree, now.Origin, "add_header"); n != nil && own(n) && now.Known() && len(now.Values) > 0 {
		ways = append(ways, l.replaced(n, text)...)
	}
	listed := false
	for _, block := range l.blocks {
		for _, inner := range block.Body {
			if inner.Is("if") {
				if last := lastOf(inner.Body, func(n *directives.Node) bool { return n.Is("add_header") }); last != nil && len(ways) == 0 && !listed {
					defer func() { ways = append(ways, l.after(last, text)...) }()
				}
			}
		}
		if last := lastOf(block.Body, func(n *directives.Node) bool { return n.Is("add_header") }); last != nil {
			if n := lastOf(block.Body, own); n != nil {
				ways = append(ways, l.replaced(n, text)...)
			}
			ways = append(ways, l.after(last, text)...)
			listed = true
		}
	}
	if listed {
		return ways
	}
	for _, block := range l.blocks {
		if block.Is("server") {
			ways = append(ways, l.after1(block, text)...)
		}
	}
	return ways
}

// after1 is after the last simple directive of a block that stands in the block's own file, or else the first in it.
func (l *spot) after1(block *directives.Node, text string) []way {
	if last := lastOf(block.Body, func(n *directives.Node) bool {
		return n.File == block.File && !n.Block && n.Hole == "" && n.Start > block.Start && n.End < block.End
	}); last != nil {
		return l.after(last, text)
	}
	return l.within(block, text)
}

// apacheHeader are the ways to a header at Apache: its own line, or else after those of the section or host that counts, or of the whole
// server; and last the override file of the folder that is served.
func (l *spot) apacheHeader(s *server.Source, name, value string, now answer.Told) (ways []way) {
	text := fmt.Sprintf("Header always set %s %s", name, quoted(value))
	own := func(n *directives.Node) bool {
		return n.Is("Header") && slices.ContainsFunc(n.Args, func(arg string) bool { return strings.EqualFold(arg, name) })
	}
	if n := nodeAt(l.tree, now.Origin, "Header"); n != nil && own(n) {
		ways = append(ways, l.replaced(n, text)...)
	}
	if l.tree.Modules["mod_headers.c"] == "" {
		return ways
	}
	for _, block := range l.blocks {
		if n := lastOf(inside(block.Body), own); n != nil {
			ways = append(ways, l.replaced(n, text)...)
		}
		if last := lastOf(inside(block.Body), func(n *directives.Node) bool { return n.Is("Header") }); last != nil {
			ways = append(ways, l.after(last, text)...)
		}
	}
	for _, block := range l.blocks {
		if block.Is("VirtualHost") {
			ways = append(ways, l.after1(block, text)...)
		}
	}
	if last := lastOf(inside(l.tree.Root), func(n *directives.Node) bool { return n.Is("Header") }); last != nil {
		ways = append(ways, l.after(last, text)...)
	}
	if last := lastOf(l.tree.Root, func(n *directives.Node) bool { return n.Is("ServerName", "Listen") && n.File == l.tree.Main }); last != nil {
		ways = append(ways, l.after(last, text)...)
	}
	return append(ways, l.override(s, text)...)
}

// inside is a body with what stands in conditions that are met in the place of these.
func inside(body []*directives.Node) (flat []*directives.Node) {
	for _, n := range body {
		if n.Is("IfModule", "IfDefine", "IfVersion", "IfFile") {
			flat = append(flat, inside(n.Body)...)
			continue
		}
		flat = append(flat, n)
	}
	return flat
}

// override is a line at the end of the override file of the folder that is served.
func (l *spot) override(s *server.Source, text string) []way {
	root := s.Root()
	if root == "" {
		return nil
	}
	file := filepath.Join(root, ".htaccess")
	data := l.data(file)
	if len(data) > 0 && data[len(data)-1] != '\n' {
		text = "\n" + text
	}
	return []way{{file: file, data: append(slices.Clone(data), text+"\n"...), from: "(no such line)", to: strings.TrimSpace(text), says: "at the end of " + file, override: true}}
}

// overridePart is a way: a line of the override file of the folder that is served, with another code of a redirect in it.
func (l *spot) overridePart(s *server.Source, at facts.Origin, code string) []way {
	file := filepath.Join(s.Root(), ".htaccess")
	if s.Root() == "" || Real(at.File) != Real(file) {
		return nil
	}
	lines := strings.SplitAfter(string(l.data(file)), "\n")
	if at.Line < 1 || at.Line > len(lines) {
		return nil
	}
	was := lines[at.Line-1]
	word := temporary.FindStringIndex(was)
	if word == nil {
		return nil
	}
	lines[at.Line-1] = was[:word[0]] + code + was[word[1]:]
	return []way{{file: file, data: []byte(strings.Join(lines, "")), from: strings.TrimSpace(was), to: strings.TrimSpace(lines[at.Line-1]), says: fmt.Sprintf("in the place of line %d of %s", at.Line, file), override: true}}
}

// tokensWish is that the server leaves its version out.
func tokensWish(name, value string) wish {
	field := answer.Header("server")
	met := func(a *answer.Answer) bool {
		told := a.Get(field)
		return told.Known() && !strings.ContainsAny(told.Text(), "0123456789/(")
	}
	return wish{
		says: name + " " + value, met: met,
		related: func(f answer.Field, _, is server.Worked) bool { return f == field && met(is.Answer) },
		ways: func(s *server.Source, a *answer.Answer, _ *url.URL) (ways []way) {
			l := located(s, a)
			if l == nil {
				return nil
			}
			text := "server_tokens off;"
			if l.kind == server.Apache {
				text = "ServerTokens Prod"
			}
			word := strings.TrimSuffix(strings.Fields(text)[0], ";")
			l.tree.Bodies(func(body []*directives.Node) {
				if n := lastOf(body, func(n *directives.Node) bool { return n.Is(word) }); n != nil {
					ways = append(ways, l.replaced(n, text)...)
				}
			})
			if l.kind == server.Apache {
				if n := lastOf(l.tree.Root, func(n *directives.Node) bool {
					return !n.Block && n.Hole == "" && n.Is("ServerName", "Listen", "ServerRoot")
				}); n != nil {
					ways = append(ways, l.after(n, text)...)
				}
				return ways
			}
			for _, block := range l.blocks {
				if block.Is("http") {
					ways = append(ways, l.within(block, text)...)
				}
			}
			return ways
		},
	}
}

// unlistWish is that a folder's files are not listed.
func unlistWish() wish {
	met := func(a *answer.Answer) bool {
		handler := a.Get(answer.Handler)
		return handler.Known() && handler.Text() != "listing"
	}
	return wish{
		says: "no list of files", met: met,
		related: func(_ answer.Field, was, is server.Worked) bool {
			return was.Get(answer.Handler).Text() == "listing" && met(is.Answer)
		},
		ways: func(s *server.Source, a *answer.Answer, _ *url.URL) (ways []way) {
			l := located(s, a)
			if l == nil {
				return nil
			}
			origin := a.Get(answer.Handler).Origin
			if n := nodeAt(l.tree, origin, "autoindex"); n != nil {
				ways = append(ways, l.replaced(n, "autoindex off;")...)
			}
			if n := nodeAt(l.tree, origin, "Options"); n != nil {
				ways = append(ways, l.replaced(n, withoutIndexes(n))...)
			}
			return ways
		},
	}
}

// withoutIndexes is an Options line that lists no folder.
func withoutIndexes(n *directives.Node) string {
	signed := slices.ContainsFunc(n.Args, func(w string) bool { return strings.HasPrefix(w, "+") || strings.HasPrefix(w, "-") })
	words := []string{n.Name}
	for _, word := range n.Args {
		switch {
		case strings.EqualFold(strings.TrimLeft(word, "+-"), "Indexes") && signed:
			words = append(words, "-Indexes")
		case strings.EqualFold(word, "Indexes"):
		case strings.EqualFold(word, "All"):
			words = append(words, "FollowSymLinks", "ExecCGI", "Includes")
		default:
			words = append(words, word)
		}
	}
	if len(words) == 1 {
		words = append(words, "None")
	}
	return strings.Join(words, " ")
}

// denyWish is that an address is refused.
func denyWish() wish {
	met := func(a *answer.Answer) bool {
		return a.Text(answer.Denied) != "" || a.Get(answer.Handler).Known() && a.Get(answer.Handler).Text() == "error"
	}
	return wish{
		says: "it is refused", met: met,
		related: func(_ answer.Field, was, is server.Worked) bool { return !met(was.Answer) && met(is.Answer) },
		ways: func(s *server.Source, a *answer.Answer, u *url.URL) (ways []way) {
			l := located(s, a)
			if l == nil {
				return nil
			}
			file := a.Text(answer.File)
			exact := false
			for _, block := range l.blocks {
				switch {
				case block.Is("location") && block.Arg(0) == "=" && block.Arg(1) == u.Path:
					ways, exact = append(ways, l.within(block, "deny all;")...), true
				case block.Is("server") && !exact: // it would be there twice
					ways = append(ways, l.after1(block, fmt.Sprintf("location = %s { deny all; }", quoted(u.Path)))...)
				case block.Is("VirtualHost") && file != "" && !strings.Contains(file, `"`):
					ways = append(ways, l.after1(block, fmt.Sprintf("<Directory \"%s\">\n    <Files \"%s\">\n        Require all denied\n    </Files>\n</Directory>", filepath.Dir(file), filepath.Base(file)))...)
				}
			}
			return ways
		},
	}
}

// programs is how programs are called that some server may run, as an expression of both servers: by their ending, be it the last or not.
const programs = `\.(php[0-9]?|phtml|phar|phps|pht|inc|cgi|pl|py|rb|sh|jspx?|aspx?|ashx|shtml)`

// inertWish is that nothing in a folder is run, whatever its name.
func inertWish() wish {
	refused := denyWish().met
	met := func(a *answer.Answer) bool {
		runs := a.Get(answer.Runs)
		return refused(a) || runs.Known() && runs.Text() == "" && a.Get(answer.Handler).Known()
	}
	return wish{
		says: "programs there are refused", met: met, assume: true,
		related: func(_ answer.Field, was, is server.Worked) bool { return !refused(was.Answer) && refused(is.Answer) },
		ways: func(s *server.Source, a *answer.Answer, u *url.URL) (ways []way) {
			l := located(s, a)
			root := s.Root()
			if l == nil || root == "" {
				return nil
			}
			folder := path.Dir(u.Path) + "/"
			if rest, below := strings.CutPrefix(path.Dir(u.Path), "/"); below { // the folder for uploads, not one below it
				for parts := strings.Split(rest, "/"); len(parts) > 1 && parts[len(parts)-1] == server.Token; {
					parts = parts[:len(parts)-1]
					folder = "/" + strings.Join(parts, "/") + "/"
				}
			}
			for _, block := range l.blocks {
				switch {
				case block.Is("server"):
					text := fmt.Sprintf("location ~* %s { deny all; }", quoted("^"+regexp.QuoteMeta(folder)+`.*`+programs+`(\.|/|$)`))
					if first := firstOf(block.Body, func(n *directives.Node) bool { return n.Is("location") && n.File == block.File }); first != nil {
						ways = append(ways, l.before(first, text)...)
					}
					ways = append(ways, l.after1(block, text)...)
				case block.Is("VirtualHost") && !strings.ContainsAny(root+folder, `"<>`):
					ways = append(ways, l.after1(block, fmt.Sprintf("<Directory \"%s\">\n    <FilesMatch \"(?i)%s(\\.|$)\">\n        Require all denied\n    </FilesMatch>\n</Directory>", filepath.Join(root, folder), programs))...)
				}
			}
			return ways
		},
	}
}

func firstOf(body []*directives.Node, wanted func(*directives.Node) bool) *directives.Node {
	if i := slices.IndexFunc(body, wanted); i >= 0 {
		return body[i]
	}
	return nil
}

// before is a way: a directive on a line of its own before another.
func (l *spot) before(n *directives.Node, text string) []way {
	data, err := n.PrecededBy(l.data(n.File), text)
	if err != nil {
		return nil
	}
	return []way{{file: n.File, data: data, from: "(no such line)", to: text, says: fmt.Sprintf("before line %d of %s", n.Line, n.File)}}
}
