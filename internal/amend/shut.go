package amend

import (
	"fmt"
	"net/url"
	"regexp"
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
			if spares(s, was.Address.Path) || s.Lock && was.Text(answer.Denied) != "" { // what nobody gets stays so
				return false
			}
			return met(is.Answer) && (!s.Lock || is.Address.Scheme == "https" || !strings.HasPrefix(is.Text(answer.Location), "https:"))
		},
		lacks: needs(s),
		ways: func(source *server.Source, a *answer.Answer, _ *url.URL) (ways []way) {
			l := located(source, a)
			if l == nil || needs(s)(source) != "" {
				return nil
			}
			for _, block := range l.blocks {
				switch {
				case block.Is("server"):
					ways = append(ways, l.after1(block, nginxShut(s, headersOf(l, block)))...)
				case block.Is("Directory") && s.Lock:
					if n := lastOf(block.Body, func(n *directives.Node) bool { return n.Is("Require") }); n != nil {
						ways = append(ways, l.replaced(n, apacheLock(s))...)
					}
				case block.Is("VirtualHost") && s.Lock:
					ways = append(ways, l.after1(block, "<Location \"/\">\n    "+strings.ReplaceAll(apacheLock(s), "\n", "\n    ")+"\n</Location>")...)
				case block.Is("VirtualHost"):
					text := apacheNotice(s, l.tree.Modules["mod_headers.c"] != "")
					if first := firstOf(block.Body, func(n *directives.Node) bool {
						return n.Is("RewriteEngine", "RewriteCond", "RewriteRule") && n.File == block.File
					}); first != nil {
						ways = append(ways, l.before(first, text)...)
					}
					ways = append(ways, l.after1(block, text)...)
				}
			}
			for i := range ways {
				if s.Lock {
					ways[i].beside = map[string][]byte{s.File: []byte(s.Holds)}
				}
			}
			return ways
		},
	}
}

// needs tells which modules Apache has not loaded that it would need.
func needs(s facts.Shut) func(*server.Source) string {
	wanted := []string{"mod_rewrite.c"}
	if s.Lock {
		wanted = []string{"mod_authn_core.c", "mod_auth_basic.c", "mod_authn_file.c", "mod_authz_user.c"}
	}
	return func(source *server.Source) string {
		if len(source.Servers) == 0 || source.Servers[0].Kind != server.Apache {
			return ""
		}
		var lacking []string
		for _, module := range wanted {
			if source.Servers[0].Tree.Modules[module] == "" {
				lacking = append(lacking, strings.TrimSuffix(strings.TrimPrefix(module, "mod_"), ".c"))
			}
		}
		if lacking == nil {
			return ""
		}
		return "Apache has not loaded what that takes: " + strings.Join(lacking, ", ") + " (on Debian: a2enmod " + strings.Join(lacking, " ") + ")"
	}
}

// spares tells whether a path stays as it is.
func spares(s facts.Shut, path string) bool {
	for _, spared := range s.Spares {
		if path == spared || strings.HasSuffix(spared, "/") && strings.HasPrefix(path, spared) {
			return true
		}
	}
	return false
}

// spared is an expression of both servers for the addresses that stay as they are, as they were asked for: what a server makes of them by
// itself, as a program that answers for all that is no file, is asked about again.
func spared(s facts.Shut, before string) string {
	var parts []string
	for _, path := range s.Spares {
		part := regexp.QuoteMeta(path)
		if !strings.HasSuffix(path, "/") {
			part += `(?:[? ]|$)`
		}
		parts = append(parts, strings.TrimPrefix(part, "/"))
	}
	return "^" + before + "/(?:" + strings.Join(parts, "|") + ")"
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

// nginxShut are the lines by which nginx closes a host, or locks it.
func nginxShut(s facts.Shut, headers []string) string {
	if s.Lock {
		return strings.Join([]string{
			"set $weltaxis_lock Locked;",
			fmt.Sprintf("if ($request_uri ~ %s) { set $weltaxis_lock off; }", directives.NginxWord(spared(s, ""))),
			"auth_basic $weltaxis_lock;",
			fmt.Sprintf("auth_basic_user_file %s;", quoted(s.File)),
		}, "\n")
	}
	lines := []string{
		"set $weltaxis_closed 1;",
		fmt.Sprintf("if ($request_uri ~ %s) { set $weltaxis_closed 0; }", directives.NginxWord(spared(s, ""))),
	}
	if s.Cookie != "" {
		lines = append(lines, fmt.Sprintf("if ($http_cookie ~ %s) { set $weltaxis_closed 0; }", directives.NginxWord(`(?:^|; ?)`+regexp.QuoteMeta(s.Cookie)+`=`)))
	}
	lines = append(lines, "if ($weltaxis_closed) { return 503; }", "error_page 503 @weltaxis_closed;", "location @weltaxis_closed {",
		"    default_type text/html;")
	for _, h := range headers {
		lines = append(lines, "    "+h)
	}
	return strings.Join(append(lines, fmt.Sprintf("    add_header Retry-After %d always;", s.Retry), "    add_header Cache-Control no-store always;",
		fmt.Sprintf("    return 503 %s;", directives.NginxWord(plain(s.Notice))), "}"), "\n")
}

// apacheLock are the lines by which Apache locks a place.
func apacheLock(s facts.Shut) string {
	return strings.Join([]string{
		"AuthType Basic",
		"AuthName \"Locked\"",
		"AuthBasicProvider file",
		fmt.Sprintf("AuthUserFile \"%s\"", s.File),
		"<RequireAny>",
		"    Require valid-user",
		fmt.Sprintf("    Require expr \"%%{THE_REQUEST} =~ m#%s#\"", spared(s, "[A-Z]+ ")),
		"</RequireAny>",
	}, "\n")
}

// apacheNotice are the lines by which Apache closes a host.
func apacheNotice(s facts.Shut, headers bool) string {
	lines := []string{
		"RewriteEngine On",
		fmt.Sprintf("RewriteCond %%{THE_REQUEST} \"!%s\"", spared(s, "[A-Z]+ ")),
	}
	if s.Cookie != "" {
		lines = append(lines, fmt.Sprintf("RewriteCond %%{HTTP_COOKIE} \"!(?:^|; ?)%s=\"", regexp.QuoteMeta(s.Cookie)))
	}
	lines = append(lines, "RewriteRule ^ - [R=503,L]", fmt.Sprintf("ErrorDocument 503 %s", directives.NginxWord(plain(s.Notice))))
	if headers {
		lines = append(lines, fmt.Sprintf("Header always set Retry-After %d \"expr=%%{REQUEST_STATUS} -eq 503\"", s.Retry),
			"Header always set Cache-Control no-store \"expr=%{REQUEST_STATUS} -eq 503\"")
	}
	return strings.Join(lines, "\n")
}
