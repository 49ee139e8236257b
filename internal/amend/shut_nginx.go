package amend

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server"
)

// nginxShutWith has nginx close a host, or lock it, by which the files at some addresses stay open.
func (l *spot) nginxShutWith(s facts.Shut, source *server.Source, files, programs []string) (w way, err error) {
	host := l.host("server")
	if host == nil {
		return w, errors.New("no host is told")
	}
	var lines []string
	if s.Lock {
		lines = append(lines, `auth_basic "Locked";`, fmt.Sprintf("auth_basic_user_file %s;", quoted(s.File)))
		if lastOf(host.Body, func(n *directives.Node) bool { return n.Is("satisfy") }) == nil {
			lines = append(lines, "satisfy all;")
		}
	} else {
		lines = append(lines, nginxNotice(s, slices.Concat(files, programs), headersOf(l, host))...)
	}
	type insertion struct {
		in      *directives.Node
		text    string
		instead bool // in the place of the node
	}
	var inner []insertion
	lifted := l.nginxLifted(s, source, host)
	for _, path := range files {
		place := l.nginxPlace(source, path, host)
		switch {
		case place != nil && place.File != host.File:
			return w, fmt.Errorf("%s stands in another file", place)
		case place == nil:
			name := "= " + path
			if strings.HasSuffix(path, "/") {
				name = "~ ^" + sparedPath(path) + "$"
			}
			lines = append(lines, nginxException(s, name, nil)...)
		case strings.HasSuffix(path, "/"): // below the one that is there, whose folder it keeps
			one := insertion{place, strings.Join(nginxException(s, "~ ^"+sparedPath(path)+"$", nil), "\n"), false}
			for _, n := range place.Body { // what lies further below it is asked for as everything is
				if lifted[n] {
					one.in, one.instead = n, true
				}
			}
			inner = append(inner, one)
		default:
			body := nginxException(s, "", place)
			inner = append(inner, insertion{place, strings.Join(body, "\n"), false})
		}
	}
	if len(files) > 0 {
		lines = append(lines, "location @weltaxis_none {")
		if s.Lock {
			lines = append(lines, "    auth_basic off;")
		}
		lines = append(lines, "    return 404;", "}")
	}
	data := l.data(host.File)
	slices.SortFunc(inner, func(a, b insertion) int { return cmp.Compare(b.in.Start, a.in.Start) })
	w.from = "(no such line)"
	for _, one := range append(inner, insertion{host, strings.Join(lines, "\n"), false}) { // the last first, so that the places before it stay where they are
		if one.instead {
			if data, err = one.in.FollowedBy(data, one.text); err == nil {
				data, err = one.in.Removed(data)
			}
			w.from += "\n" + one.in.String()
		} else {
			data, err = one.in.Holding(data, one.text)
		}
		if err != nil {
			return w, err
		}
		w.to = strings.TrimPrefix(w.to+"\n"+one.text, "\n")
	}
	w.file, w.data, w.says = host.File, data, fmt.Sprintf("in %s, line %d of %s", host, host.Line, host.File)
	return w, nil
}

// nginxPlace is the location of a host that is there for an address that stays open; nil for none.
func (l *spot) nginxPlace(source *server.Source, path string, host *directives.Node) *directives.Node {
	if !strings.HasSuffix(path, "/") {
		return lastOf(host.Body, func(n *directives.Node) bool {
			return n.Is("location") && strings.TrimPrefix(strings.Join(n.Args, ""), "=") == path && strings.HasPrefix(n.Arg(0), "=")
		})
	}
	u := *source.Address
	u.Path = path + "weltaxis"
	at := located(source, source.Work(&u, u.Path))
	for _, block := range at.blocks {
		if block.Is("location") && strings.Contains(strings.Join(block.Args, " "), "well-known") {
			return block
		}
	}
	return nil
}

// nginxLifted are the lines auth_basic off that stand in places for what stays open, where nothing else but files is served there: each of these places is told what it takes to serve one
// file, and of a folder only that stays open.
func (l *spot) nginxLifted(s facts.Shut, source *server.Source, host *directives.Node) map[*directives.Node]bool {
	lifted := map[*directives.Node]bool{}
	if !s.Lock || host == nil {
		return lifted
	}
	for _, path := range s.Spares {
		place := l.nginxPlace(source, path, host)
		if place == nil || place.File != host.File || slices.ContainsFunc(place.Body, func(n *directives.Node) bool {
			return n.Hole != "" || n.Block || strings.HasSuffix(n.Name, "_pass") || n.Is("return", "rewrite", "include", "satisfy", "error_page") || n.Is("try_files") && strings.Join(n.Args, " ") != "$uri =404"
		}) {
			continue
		}
		for _, n := range place.Body {
			if n.Is("auth_basic") && n.Arg(0) == "off" {
				lifted[n] = true
			}
		}
	}
	return lifted
}

// nginxLifts tells whether one stands in the place for a path.
func (l *spot) nginxLifts(s facts.Shut, source *server.Source, path string) bool {
	s.Spares = []string{path}
	return len(l.nginxLifted(s, source, l.host("server"))) > 0
}

// nginxException are the lines of a location that serves one file that is there, or answers 404; without a name those that one that is there lacks.
func nginxException(s facts.Shut, name string, there *directives.Node) (lines []string) {
	add := func(directive, text string) {
		if there == nil || lastOf(there.Body, func(n *directives.Node) bool { return n.Is(directive) }) == nil {
			lines = append(lines, text)
		}
	}
	if s.Lock {
		add("auth_basic", "auth_basic off;")
	}
	add("try_files", "try_files $uri =404;")
	add("disable_symlinks", "disable_symlinks on from=$document_root;")
	add("error_page", "error_page 404 @weltaxis_none;")
	if name == "" {
		return lines
	}
	for i := range lines {
		lines[i] = "    " + lines[i]
	}
	return append(append([]string{"location " + name + " {"}, lines...), "}")
}

// nginxNotice are the lines by which nginx answers with the notice, before anything else of the host is looked at.
func nginxNotice(s facts.Shut, files, headers []string) []string {
	lines := []string{"set $weltaxis_closed 1;"}
	open := func(variable, expression string) {
		lines = append(lines, fmt.Sprintf("if (%s ~ %s) { set $weltaxis_closed 0; }", variable, directives.NginxWord(expression)))
	}
	if len(files) > 0 {
		open("$request_uri", "^"+sparedPaths(files)+"$")
	}
	if s.SignIn != "" {
		open("$request_uri", "^"+regexp.QuoteMeta(s.SignIn)+`/?(?:\?|$)`)
	}
	if s.Cookie != "" {
		open("$http_cookie", `(?:^|; ?)`+regexp.QuoteMeta(s.Cookie)+`=`)
	}
	lines = append(lines, "if ($weltaxis_closed) { return 503; }", "error_page 503 @weltaxis_closed;", "location @weltaxis_closed {", "    default_type text/html;")
	for _, h := range headers {
		lines = append(lines, "    "+h)
	}
	return append(lines, fmt.Sprintf("    add_header Retry-After %d always;", s.Retry), "    add_header Cache-Control no-store always;",
		fmt.Sprintf("    return 503 %s;", directives.NginxWord(plain(s.Notice))), "}")
}

// nginxGaps are the places of a host that answer before access is checked, or that lift it: what rewrites comes first, and what stands in a location takes
// the place of what stands around it. A notice comes before all of them.
func (l *spot) nginxGaps(s facts.Shut, source *server.Source) (gaps []Gap) {
	host := l.host("server")
	if host == nil {
		return nil
	}
	if gaps = l.sameElsewhere(host); !s.Lock {
		return gaps
	}
	lifted := l.nginxLifted(s, source, host)
	var in func(body []*directives.Node, place string)
	in = func(body []*directives.Node, place string) {
		for _, n := range body {
			because := fmt.Sprintf("%s, line %d: %s", n.File, n.Line, facts.Shorten(n.String(), 80))
			switch {
			case lifted[n]:
			case n.Is("auth_basic") && (n.Arg(0) == "off" || strings.Contains(n.Arg(0), "$")), n.Is("satisfy") && n.Arg(0) == "any", strings.HasPrefix(n.Name, "rewrite_by_lua"):
				gaps = append(gaps, Gap{place, because, false})
			case n.Is("return") && leadsAway(n.Args):
				gaps = append(gaps, Gap{place, because, true})
			case n.Is("return") && answersWith(n.Arg(0)):
				gaps = append(gaps, Gap{place, because, false})
			case n.Is("rewrite") && slices.Contains([]string{"redirect", "permanent"}, n.Arg(2)), n.Is("rewrite") && strings.Contains(n.Arg(1), "://"):
				gaps = append(gaps, Gap{place, because, true})
			case n.Is("location"):
				in(n.Body, strings.Join(n.Args, " "))
			case n.Is("if", "limit_except"):
				in(n.Body, place)
			}
		}
	}
	in(host.Body, "/")
	return gaps
}

// leadsAway tells of the arguments of return whether it redirects: by its status, or by an address alone.
func leadsAway(args []string) bool {
	if len(args) == 0 {
		return false
	}
	return slices.Contains([]string{"301", "302", "303", "307", "308"}, args[0]) || len(args) == 1 && !isStatus.MatchString(args[0])
}

var isStatus = regexp.MustCompile(`^\d{3}$`)

// answersWith tells whether a status is one with which something is given.
func answersWith(status string) bool { return status < "400" && isStatus.MatchString(status) }
