package amend

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"weltaxis/internal/source/server"
	"weltaxis/internal/source/server/answer"
)

// leads tells whether an answer sends the visitor to where an address begins so.
func leads(a *answer.Answer, to string, forGood bool) bool {
	status, location := a.Get(answer.Status), a.Get(answer.Location)
	if !status.Known() || !location.Known() || !strings.HasPrefix(location.Text(), to) {
		return false
	}
	switch status.Text() {
	case "301", "308":
		return true
	case "302", "307":
		return !forGood
	}
	return false
}

var temporary = regexp.MustCompile(`\b(302|307|temp|redirect)\b`)

// unifyWish is that a spelling of the site's address leads to the one true one: for a trial first where that is its encrypted one, and for
// good otherwise.
func unifyWish(to *url.URL, forGood bool) wish {
	base := to.Scheme + "://" + to.Host
	met := func(a *answer.Answer) bool { return leads(a, base+"/", forGood) }
	code := map[bool]string{true: "301", false: "302"}[forGood]
	var spelling url.URL
	return wish{
		says: "it leads to " + base, met: met,
		related: func(_ answer.Field, was, is server.Worked) bool {
			same := was.Address.Host == spelling.Host || spelling.Hostname() == to.Hostname() // every host without encryption leads to the one with it
			return was.Address.Scheme == spelling.Scheme && same && was.Address.Scheme+"://"+was.Address.Host != base && leads(is.Answer, base, forGood)
		},
		ways: func(s *server.Source, a *answer.Answer, u *url.URL) (ways []way) {
			spelling = *u
			l := located(s, a)
			if l == nil {
				return nil
			}
			if n := nodeAt(l.tree, a.Get(answer.Status).Origin, "return", "rewrite", "Redirect", "RedirectMatch", "RedirectTemp", "RewriteRule"); n != nil && leads(a, base, false) {
				ways = append(ways, l.replacedPart(n, temporary, code)...)
			}
			for _, block := range l.blocks {
				switch {
				case block.Is("server"):
					condition := "$host = " + u.Hostname()
					if u.Hostname() == to.Hostname() {
						condition = "$scheme = " + u.Scheme
					}
					ways = append(ways, l.after1(block, fmt.Sprintf("if (%s) { return %s %s$request_uri; }", condition, code, base))...)
				case block.Is("VirtualHost"):
					if l.tree.Modules["mod_alias.c"] != "" {
						ways = append(ways, l.after1(block, fmt.Sprintf("Redirect %s / %s/", code, base))...)
					}
					if l.tree.Modules["mod_rewrite.c"] != "" {
						condition := "%{HTTP_HOST} ^" + regexp.QuoteMeta(u.Hostname()) + "(:|$) [NC]"
						if u.Hostname() == to.Hostname() {
							condition = "%{HTTPS} !=on"
						}
						ways = append(ways, l.after1(block, fmt.Sprintf("RewriteEngine On\nRewriteCond %s\nRewriteRule ^ %s%%{REQUEST_URI} [R=%s,L]", condition, base, code))...)
					}
				}
			}
			return ways
		},
	}
}

// leadWish is that an address leads to another, for good.
func leadWish(to *url.URL) wish {
	target := to.String()
	met := func(a *answer.Answer) bool {
		location := a.Get(answer.Location).Text()
		return leads(a, "", true) && (location == target || strings.HasSuffix(location, target) && strings.HasPrefix(target, "/"))
	}
	var old url.URL
	return wish{
		says: "it leads to " + target, met: met,
		related: func(_ answer.Field, was, is server.Worked) bool {
			return was.Address.Path == old.Path && met(is.Answer)
		},
		ways: func(s *server.Source, a *answer.Answer, u *url.URL) (ways []way) {
			old = *u
			l := located(s, a)
			if l == nil {
				return nil
			}
			exact := false
			for _, block := range l.blocks {
				switch {
				case block.Is("location") && block.Arg(0) == "=" && block.Arg(1) == u.Path:
					ways, exact = append(ways, l.within(block, fmt.Sprintf("return 301 %s;", quoted(target)))...), true
				case block.Is("server") && !exact:
					ways = append(ways, l.after1(block, fmt.Sprintf("location = %s { return 301 %s; }", quoted(u.Path), quoted(target)))...)
				case block.Is("VirtualHost") && l.tree.Modules["mod_alias.c"] != "":
					ways = append(ways, l.after1(block, fmt.Sprintf("RedirectMatch 301 \"^%s$\" \"%s\"", regexp.QuoteMeta(u.Path), target))...)
				}
			}
			if l.kind == server.Apache && l.tree.Modules["mod_alias.c"] != "" {
				ways = append(ways, l.override(s, fmt.Sprintf("RedirectMatch 301 \"^%s$\" \"%s\"", regexp.QuoteMeta(u.Path), target))...)
			}
			return ways
		},
	}
}
