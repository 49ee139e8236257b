package amend

import (
	"fmt"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/caching"
	"weltaxis/internal/directives"
	"weltaxis/internal/source/server"
	"weltaxis/internal/source/server/answer"
)

// freshWish is that answers say how long they are fresh, or that nobody else may keep them. Of others only those of files may say
// so with it: what a page may say of itself is the content system's business, and never follows from a file.
func freshWish(value string) wish {
	field := answer.Header("cache-control")
	wanted := control(value)
	age, timed := wanted.Seconds("max-age")
	said := func(a *answer.Answer) bool {
		told := a.Get(field)
		if !told.Known() || len(told.Values) == 0 {
			return false
		}
		is := control(told.Text())
		for _, d := range wanted {
			if d.Name != "max-age" && d.Name != "public" && !is.Has(d.Name) {
				return false
			}
		}
		has, there := is.Seconds("max-age")
		return !timed || there && has >= age && !is.Has("no-cache") && !is.Has("no-store")
	}
	file := func(w server.Worked) bool { return w.Answer.Text(answer.Handler) == "static" }
	return wish{
		says: "Cache-Control: " + value, met: said,
		related: func(f answer.Field, was, is server.Worked) bool {
			return timed && (f == field || f == answer.Header("expires")) && file(was) && file(is) && said(is.Answer)
		},
		ways: func(s *server.Source, a *answer.Answer, u *url.URL) []way {
			at := located(s, a)
			if at == nil || !timed {
				return nil
			}
			if at.kind == server.Nginx {
				return at.nginxFresh(age)
			}
			return at.apacheFresh(value, u)
		},
	}
}

func control(value string) caching.Control {
	return caching.ParseControl(http.Header{"Cache-Control": {value}})
}

// nginxFresh are the ways at nginx: the line expires of the place, or a new one in it.
func (l *spot) nginxFresh(age time.Duration) (ways []way) {
	text := fmt.Sprintf("expires %ds;", int(age.Seconds()))
	if day := 24 * time.Hour; age%day == 0 {
		text = fmt.Sprintf("expires %dd;", age/day)
	}
	for _, block := range l.blocks {
		if !block.Is("location") {
			continue
		}
		if n := lastOf(block.Body, func(n *directives.Node) bool { return n.Is("expires") }); n != nil {
			ways = append(ways, l.replaced(n, text)...)
		}
		ways = append(ways, l.after1(block, text)...)
	}
	return ways
}

// plainEnding is an ending that means nothing else in an expression.
var plainEnding = regexp.MustCompile(`^\.[a-z0-9]{1,6}$`)

// apacheFresh are the ways at Apache: a section of its own for files with that ending, in the folder's section or in the host.
func (l *spot) apacheFresh(value string, u *url.URL) (ways []way) {
	ending := strings.ToLower(path.Ext(u.Path))
	if l.tree.Modules["mod_headers.c"] == "" || !plainEnding.MatchString(ending) {
		return nil
	}
	text := fmt.Sprintf("<FilesMatch \"\\%s$\">\n    Header set Cache-Control %s\n</FilesMatch>", ending, quoted(value))
	for _, block := range l.blocks {
		if block.Is("Directory", "VirtualHost") {
			ways = append(ways, l.after1(block, text)...)
		}
	}
	return ways
}

// squeezeWish is that texts are compressed, and say so to caches. It is for nginx: mod_deflate of Apache says so by itself.
func squeezeWish(name, value string) wish {
	coding, vary := answer.Header("content-encoding"), answer.Header("vary")
	squeezed := func(a *answer.Answer) bool { return a.Get(coding).Known() && a.Text(coding) != "" }
	met := func(a *answer.Answer) bool {
		return strings.Contains(strings.ToLower(a.Text(vary)), "accept-encoding") && (name == "gzip_vary" || squeezed(a))
	}
	return wish{
		says: name + " " + value, met: met,
		related: func(f answer.Field, _, is server.Worked) bool {
			changes := []answer.Field{vary}
			if name == "gzip" { // what is compressed on the way has no length and no strong tag of its own
				changes = append(changes, coding, answer.Header("etag"), answer.Header("content-length"), answer.Header("accept-ranges"))
			}
			return slices.Contains(changes, f) && strings.Contains(strings.ToLower(is.Answer.Text(vary)), "accept-encoding")
		},
		ways: func(s *server.Source, a *answer.Answer, _ *url.URL) []way {
			at := located(s, a)
			if at == nil || at.kind != server.Nginx {
				return nil
			}
			kind, _, _ := strings.Cut(a.Text(answer.Header("content-type")), ";")
			return at.nginxSqueezed(name, strings.TrimSpace(kind))
		},
	}
}

// nginxSqueezed are the ways to gzip_vary, or to a type that is compressed.
func (l *spot) nginxSqueezed(name, kind string) (ways []way) {
	line := func(body []*directives.Node, name string) *directives.Node {
		return lastOf(body, func(n *directives.Node) bool { return n.Is(name) })
	}
	blocks := l.blocks
	if http := line(l.tree.Root, "http"); http != nil && !slices.Contains(blocks, http) {
		blocks = append(slices.Clone(blocks), http)
	}
	for _, block := range blocks {
		said := line(block.Body, "gzip_vary")
		on := line(block.Body, "gzip")
		types := line(block.Body, "gzip_types")
		switch {
		case name == "gzip_vary" && said != nil:
			ways = append(ways, l.replaced(said, "gzip_vary on;")...)
		case name == "gzip_vary" && on != nil:
			ways = append(ways, l.after(on, "gzip_vary on;")...)
		case name == "gzip" && types != nil && kind != "" && !slices.Contains(types.Args, kind):
			ways = append(ways, l.replaced(types, "gzip_types "+strings.Join(types.Args, " ")+" "+kind+";")...)
		case name == "gzip" && on != nil && on.Arg(0) == "on" && types == nil && kind != "":
			ways = append(ways, l.after(on, "gzip_types "+kind+";")...)
		}
	}
	for _, block := range blocks {
		if block.Is("server") && name == "gzip" && kind != "" {
			ways = append(ways, l.after1(block, "gzip on;\ngzip_vary on;\ngzip_types "+kind+";")...)
		}
	}
	return ways
}
