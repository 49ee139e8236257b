package amend

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server"
	"weltaxis/internal/source/server/answer"
)

// shutWish is that a site is closed, with 503 and a notice, or locked, with name and password: at every address of the host but those that are
// spared.
func shutWish(s facts.Shut) wish {
	met := func(a *answer.Answer) bool { return a.Get(answer.Status).Text() == "503" }
	says := "it is closed"
	if s.Lock {
		met = func(a *answer.Answer) bool { return a.Text(answer.Login) != "" }
		says = "name and password are asked for"
	}
	return wish{
		says: says, met: met,
		related: func(_ answer.Field, was, is server.Worked) bool {
			if spares(s, was.Address.Path) && was.Text(answer.Handler) == "static" || s.Lock && was.Text(answer.Denied) != "" { // what nobody gets stays so
				return false
			}
			if spares(s, was.Address.Path) { // a program answered there: it is closed, or nothing is there
				return true
			}
			return met(is.Answer) && (!s.Lock || is.Address.Scheme == "https" || !strings.HasPrefix(is.Text(answer.Location), "https:"))
		},
		lacks: needs(s),
		ways: func(source *server.Source, a *answer.Answer, _ *url.URL) (ways []way) {
			l := located(source, a)
			if l == nil || needs(s)(source) != "" {
				return nil
			}
			return l.shutWays(s, source)
		},
	}
}

// shutWays are the ways by which a server closes a host, or locks it: with a place of its own for each address that stays open, which serves a file or
// nothing. Where such a place cannot be, the address is closed as well.
func (l *spot) shutWays(s facts.Shut, source *server.Source) (ways []way) {
	with, missed := l.nginxShutWith, l.nginxGaps
	if l.kind == server.Apache {
		with, missed = l.apacheShutWith, l.apacheGaps
	}
	gaps := missed(s, source)
	files, programs, notes := byFile(s, source)
	for n := len(files); n >= 0; n-- {
		if l.kind == server.Nginx && slices.ContainsFunc(files[n:], func(path string) bool { return l.nginxLifts(s, source, path) }) {
			continue // it would stay as open as it is
		}
		w, err := with(s, source, files[:n], programs)
		if err != nil {
			continue
		}
		if s.Lock {
			w.beside = map[string][]byte{s.File: []byte(s.Holds)}
		}
		w.notes = append(append(w.notes, notes...), leading(s, gaps)...)
		for _, path := range files[n:] {
			w.notes = append(w.notes, path+" is closed as well")
		}
		ways = append(ways, w)
	}
	return ways
}

// host is the block of a name around the place; nil for none.
func (l *spot) host(name string) *directives.Node {
	if at := slices.IndexFunc(l.blocks, func(n *directives.Node) bool { return n.Is(name) }); at >= 0 {
		return l.blocks[at]
	}
	return nil
}

// needs tells what stands in the way: modules that Apache has not loaded, and places of the host that a lock would not stand before.
func needs(s facts.Shut) func(*server.Source) string {
	wanted := []string{"mod_rewrite.c"}
	if s.Lock {
		wanted = []string{"mod_authn_core.c", "mod_auth_basic.c", "mod_authn_file.c", "mod_authz_user.c"}
	}
	return func(source *server.Source) string {
		l := located(source, source.Work(source.Address))
		if l == nil {
			return ""
		}
		var gaps []Gap
		if l.kind == server.Nginx {
			gaps = l.nginxGaps(s, source)
		} else {
			var lacking []string
			for _, module := range wanted {
				if l.tree.Modules[module] == "" {
					lacking = append(lacking, strings.TrimSuffix(strings.TrimPrefix(module, "mod_"), ".c"))
				}
			}
			if lacking != nil {
				return "Apache has not loaded what that takes: " + strings.Join(lacking, ", ") + " (on Debian: a2enmod " + strings.Join(lacking, " ") + ")"
			}
			gaps = l.apacheGaps(s, source)
		}
		var open []string
		for _, g := range gaps {
			if s.Lock && !g.Leads && !slices.Contains(s.Left, g.At) {
				open = append(open, fmt.Sprintf("%s (%s; --leave-open %s)", g.At, g.Because, g.At))
			}
		}
		if open == nil {
			return ""
		}
		return "the lock would not stand before " + strings.Join(open, ", ") + "; change that first, or leave it open by name"
	}
}

// A Gap is a place of a host that a lock does not stand before.
type Gap struct {
	At      string // a path, the name of a section, or a file
	Because string // which line says so
	Leads   bool   // it only leads elsewhere
}

// leading says which places lead elsewhere before anybody is asked for a name.
func leading(s facts.Shut, gaps []Gap) (says []string) {
	for _, g := range gaps {
		switch {
		case g.Leads:
			says = append(says, fmt.Sprintf("%s leads elsewhere before a password is asked for (%s)", g.At, g.Because))
		case !s.Lock:
			says = append(says, fmt.Sprintf("%s stays open (%s)", g.At, g.Because))
		default:
			says = append(says, fmt.Sprintf("%s stays open, as was said (%s)", g.At, g.Because))
		}
	}
	return says
}

// spares tells whether a path stays open.
func spares(s facts.Shut, path string) bool {
	return slices.ContainsFunc(s.Spares, func(spared string) bool {
		name, below := strings.CutPrefix(path, spared)
		folder := strings.HasSuffix(spared, "/")
		return path == spared && !folder || folder && below && oneName.MatchString(name)
	}) || s.SignIn != "" && strings.TrimSuffix(path, "/") == s.SignIn
}

// oneName is what may stand below a spared folder: one name that leads nowhere else, and has no ending by which it would be a program.
var oneName = regexp.MustCompile(`^[A-Za-z0-9_-]+$`)

// sparedPath is an expression of both servers for what stays open of one file each, without what stands before and after it. What it fits is the same as
// it was asked for and as the server understands it, since nothing in it can be written otherwise.
func sparedPath(path string) string {
	if strings.HasSuffix(path, "/") {
		return regexp.QuoteMeta(path) + `[A-Za-z0-9_-]+`
	}
	return regexp.QuoteMeta(path)
}

// sparedPaths are those of several.
func sparedPaths(paths []string) string {
	parts := make([]string, len(paths))
	for i, path := range paths {
		parts[i] = sparedPath(path)
	}
	return "(?:" + strings.Join(parts, "|") + ")"
}

// byFile tells which of the addresses that stay open are answered by a file of theirs where there is one. Of a notice others are answered by their
// program as ever, as a robots.txt that is made when it is asked for; of a lock they are closed.
func byFile(s facts.Shut, source *server.Source) (files, programs, notes []string) {
	for _, path := range s.Spares {
		u, folder := *source.Address, strings.HasSuffix(path, "/")
		if u.Path = path; folder {
			u.Path += "weltaxis"
		}
		byFile, made := source.Work(&u, u.Path).Text(answer.Handler) == "static", source.Work(&u).Text(answer.Handler) != "static"
		switch {
		case byFile && (folder || s.Lock || !made):
			if files = append(files, path); made && !folder {
				notes = append(notes, path+" is not there meanwhile (404): it is no file, and a program makes it, or nobody")
			}
		case !s.Lock && !folder:
			programs = append(programs, path)
		default:
			notes = append(notes, path+" is closed as well: a program answers there, or nobody can tell")
		}
	}
	return files, programs, notes
}

// headersOf are the headers that the host adds to its answers, since a list of one's own takes the place of theirs.
func headersOf(l *spot, host *directives.Node) (lines []string) {
	for _, block := range l.blocks {
		if !block.Is("server", "http") {
			continue
		}
		for _, n := range block.Body {
			if n.Is("add_header") && n.Hole == "" && !strings.EqualFold(n.Arg(0), "Cache-Control") {
				data := l.data(n.File)
				if n.End <= len(data) {
					lines = append(lines, strings.TrimSpace(string(data[n.Start:n.End])))
				}
			}
		}
		if len(lines) > 0 || block == host && !block.Is("http") && hasHeaders(block) {
			break
		}
	}
	return lines
}

// plain is markup in which neither server sees a variable.
func plain(markup string) string {
	return strings.NewReplacer("$", "&#36;", "%", "&#37;").Replace(markup)
}

func hasHeaders(block *directives.Node) bool {
	return lastOf(block.Body, func(n *directives.Node) bool { return n.Is("add_header") }) != nil
}
