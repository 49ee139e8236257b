package amend

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"weltaxis/internal/facts"
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

// A redirect is one of four kinds (RFC 9110 §15.4): browsers keep what is for good, and where something posts it goes on as it is, while others turn
// it into GET.
type redirect struct {
	code    string
	forGood bool
}

func kindOf(forGood, posts bool) redirect {
	switch {
	case forGood && posts:
		return redirect{"308", true}
	case forGood:
		return redirect{"301", true}
	case posts:
		return redirect{"307", false}
	}
	return redirect{"302", false}
}

// led tells whether all addresses lead, for a trial, where a wish would have them lead.
func led(s *server.Source, of facts.Wish, addresses []url.URL) bool {
	to, err := url.Parse(of.To)
	if err != nil || len(addresses) == 0 || !of.Unify && !of.Lead {
		return false
	}
	for _, u := range addresses {
		a := s.Work(&u)
		if of.Unify && !leads(a, to.Scheme+"://"+to.Host+"/", false) || of.Lead && !(leads(a, "", false) && ends(a, &u, of.To)) {
			return false
		}
	}
	return true
}

// ends tells whether an answer to a request at an address sends the visitor to a place of the same host, or to one that is given in full.
func ends(a *answer.Answer, at *url.URL, target string) bool {
	is, err := at.Parse(a.Get(answer.Location).Text())
	if err != nil {
		return false
	}
	to, err := at.Parse(target)
	return err == nil && is.Hostname() == to.Hostname() && is.RequestURI() == to.RequestURI()
}

// Leads is where an address leads for a trial, on the same host, as its path and query; "" where it leads nowhere, or for good, or where that cannot be told.
func (w World) Leads(u url.URL) string {
	s, gaps := w.Open(nil)
	if readable(s, gaps) != nil {
		return ""
	}
	a := s.Work(&u)
	if !leads(a, "", false) || leads(a, "", true) {
		return ""
	}
	to, err := u.Parse(a.Get(answer.Location).Text())
	if err != nil || to.Hostname() != u.Hostname() {
		return ""
	}
	return to.RequestURI()
}

var temporary = regexp.MustCompile(`\b(302|307|temp|redirect)\b`)

// lasting are the ways to have the line that leads an address on do so by another status, in that line's own words.
func (l *spot) lasting(a *answer.Answer, by redirect) []way {
	n := nodeAt(l.tree, a.Get(answer.Status).Origin, "return", "rewrite", "Redirect", "RedirectMatch", "RedirectTemp", "RewriteRule")
	switch {
	case n == nil:
		return nil
	case n.Is("rewrite"): // which knows two words alone (ngx_http_rewrite_module)
		if word, known := map[string]string{"301": "permanent", "302": "redirect"}[by.code]; known {
			return l.replacedPart(n, regexp.MustCompile(`\bredirect\b`), word)
		}
		return nil
	case n.Is("RedirectTemp"):
		return l.replacedPart(n, regexp.MustCompile(`(?i)^RedirectTemp\b`), "Redirect "+by.code)
	case n.Is("Redirect", "RedirectMatch") && len(n.Args) == 2: // without a status it is 302 (mod_alias)
		return l.replacedPart(n, regexp.MustCompile(`(?i)^Redirect(?:Match)?\b`), n.Name+" "+by.code)
	case n.Is("RewriteRule"): // R alone is 302
		if ways := l.replacedPart(n, regexp.MustCompile(`\bR=(?:302|307|temp)\b`), "R="+by.code); ways != nil {
			return ways
		}
		return l.replacedPart(n, regexp.MustCompile(`\bR\b`), "R="+by.code)
	}
	return l.replacedPart(n, temporary, by.code)
}

// unifyWish is that a spelling of the site's address leads to the one true one.
func unifyWish(to *url.URL, by redirect) wish {
	base := to.Scheme + "://" + to.Host
	met := func(a *answer.Answer) bool { return leads(a, base+"/", by.forGood) }
	code := by.code
	var spelling url.URL
	return wish{
		says: "it leads to " + base, met: met,
		related: func(_ answer.Field, was, is server.Worked) bool {
			same := was.Address.Host == spelling.Host || spelling.Hostname() == to.Hostname() // every host without encryption leads to the one with it
			return was.Address.Scheme == spelling.Scheme && same && was.Address.Scheme+"://"+was.Address.Host != base && leads(is.Answer, base, by.forGood)
		},
		ways: func(s *server.Source, a *answer.Answer, u *url.URL) (ways []way) {
			spelling = *u
			l := located(s, a)
			if l == nil {
				return nil
			}
			if leads(a, base, false) {
				ways = append(ways, l.lasting(a, by)...)
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

// leadWish is that an address leads to another.
func leadWish(to, home *url.URL, by redirect) wish {
	target := to.String()
	met := func(a *answer.Answer) bool { return leads(a, "", by.forGood) && ends(a, home, target) }
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
			if leads(a, "", false) && ends(a, u, target) {
				ways = append(ways, l.lasting(a, by)...)
			}
			if by.forGood && l.kind == server.Apache {
				ways = append(ways, l.overridePart(s, a.Get(answer.Status).Origin, by.code)...)
			}
			exact := false
			for _, block := range l.blocks {
				switch {
				case block.Is("location") && block.Arg(0) == "=" && block.Arg(1) == u.Path:
					ways, exact = append(ways, l.within(block, fmt.Sprintf("return %s %s;", by.code, quoted(target)))...), true
				case block.Is("server") && !exact:
					ways = append(ways, l.after1(block, fmt.Sprintf("location = %s { return %s %s; }", quoted(u.Path), by.code, quoted(target)))...)
				case block.Is("VirtualHost") && l.tree.Modules["mod_alias.c"] != "":
					ways = append(ways, l.after1(block, fmt.Sprintf("RedirectMatch %s \"^%s$\" \"%s\"", by.code, regexp.QuoteMeta(u.Path), target))...)
				}
			}
			if l.kind == server.Apache && l.tree.Modules["mod_alias.c"] != "" {
				ways = append(ways, l.override(s, fmt.Sprintf("RedirectMatch %s \"^%s$\" \"%s\"", by.code, regexp.QuoteMeta(u.Path), target))...)
			}
			return ways
		},
	}
}
