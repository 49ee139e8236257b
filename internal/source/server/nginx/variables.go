package nginx

import (
	"fmt"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// A mapping is a map: what a variable is by another.
type mapping struct {
	node      *directives.Node
	source    string
	fallback  string
	exact     map[string]string
	wild      []mapEntry // *.example.org and the like, with hostnames
	patterns  []mapEntry
	hostnames bool
	hole      *directives.Node
}

type mapEntry struct {
	key     string
	value   string
	pattern *answer.Pattern
}

func newMapping(n *directives.Node, patterns *answer.Patterns) *mapping {
	m := &mapping{node: n, source: n.Args[0], exact: map[string]string{}}
	for _, line := range n.Body {
		key, value := line.Name, line.Arg(0)
		switch {
		case line.Hole != "":
			m.hole = line
		case key == "default" && len(line.Args) == 1:
			m.fallback = value
		case key == "hostnames" && len(line.Args) == 0:
			m.hostnames = true
		case key == "volatile" && len(line.Args) == 0, key == "include":
		case strings.HasPrefix(key, "~"):
			expression, anyCase := strings.CutPrefix(key[1:], "*")
			m.patterns = append(m.patterns, mapEntry{key, value, patterns.Compile(expression, anyCase)})
		case m.hostnames && (strings.HasPrefix(key, "*.") || strings.HasPrefix(key, ".") || strings.HasSuffix(key, ".*")):
			m.wild = append(m.wild, mapEntry{key: strings.ToLower(key), value: value})
		default:
			m.exact[strings.ToLower(strings.TrimPrefix(key, `\`))] = value
		}
	}
	return m
}

// of looks a value up.
func (m *mapping) of(r *request) answer.Text {
	value := r.expand(m.source, m.node)
	if value.Why != nil {
		return value
	}
	if m.hole != nil {
		return answer.Text{Why: &facts.Reason{Because: m.hole.Hole, Origin: originOf(m.hole)}}
	}
	lower := strings.ToLower(value.S)
	if found, is := m.exact[lower]; is {
		return r.expand(found, m.node)
	}
	best, most := "", 0
	for _, w := range m.wild {
		if fits := (serverName{text: w.key}).fits(lower); fits > most {
			best, most = w.value, fits
		}
	}
	if most > 0 {
		return r.expand(best, m.node)
	}
	for _, p := range m.patterns {
		groups := r.groups
		found, wrong := p.pattern.Find(value.S)
		if wrong != "" {
			return answer.Text{Why: &facts.Reason{Because: wrong, Origin: at(m.node)}}
		}
		if found != nil {
			for name, v := range found.Named {
				r.vars[name] = answer.Known(v)
			}
			r.groups = found.Groups
			out := r.expand(p.value, m.node)
			r.groups = groups
			return out
		}
	}
	return r.expand(m.fallback, m.node)
}

// maxText is the longest text that is made of variables, in bytes.
const maxText = 1 << 16

// expand puts the values of variables into a text.
func (r *request) expand(text string, n *directives.Node) (out answer.Text) {
	for i := 0; i < len(text); {
		if len(out.S) > maxText {
			return answer.Text{Why: &facts.Reason{Because: "what is made of variables here grows without end", Origin: at(n)}}
		}
		c := text[i]
		if c != '$' || i+1 >= len(text) {
			out.S += string(c)
			i++
			continue
		}
		i++
		if text[i] >= '1' && text[i] <= '9' {
			if g := int(text[i] - '0'); g < len(r.groups) {
				out.S += r.groups[g]
			}
			i++
			continue
		}
		braces := text[i] == '{'
		if braces {
			i++
		}
		start := i
		for i < len(text) && (text[i] == '_' || text[i] >= '0' && text[i] <= '9' || text[i] >= 'a' && text[i] <= 'z' || text[i] >= 'A' && text[i] <= 'Z') {
			i++
		}
		name := text[start:i]
		if braces && i < len(text) && text[i] == '}' {
			i++
		}
		if name == "" {
			out.S += "$"
			continue
		}
		out = out.Plus(r.variable(name, n))
	}
	return out
}

// maxMappings is how many maps may lead to one another.
const maxMappings = 20

func (r *request) variable(name string, n *directives.Node) answer.Text {
	if value, is := r.vars[name]; is {
		return value
	}
	if m := r.maps[name]; m != nil {
		if r.mapping > maxMappings {
			return answer.Text{Why: &facts.Reason{Because: "the map of $" + name + " leads to itself", Origin: at(m.node)}}
		}
		r.mapping++
		defer func() { r.mapping-- }()
		return m.of(r)
	}
	known := answer.Known
	switch name {
	case "uri", "document_uri":
		return r.uri
	case "args", "query_string":
		return r.args
	case "is_args":
		if r.args.S != "" {
			return known("?")
		}
		return known("")
	case "request_uri":
		return known(r.ask.Target)
	case "scheme":
		return known(r.scheme())
	case "https":
		if r.scheme() == "https" {
			return known("on")
		}
		return known("")
	case "host":
		return known(strings.TrimSuffix(strings.ToLower(r.ask.Host), "."))
	case "http_host":
		host := r.ask.Host
		if r.ask.HostPort != 0 {
			host += ":" + strconv.Itoa(r.ask.HostPort)
		}
		return known(host)
	case "server_name":
		return known(r.serverName())
	case "server_port":
		return known(strconv.Itoa(r.port()))
	case "server_protocol":
		return known("HTTP/1.1")
	case "request_method":
		return known(r.method)
	case "request":
		return known(r.method + " " + r.ask.Target + " HTTP/1.1")
	case "document_root":
		return r.root()
	case "realpath_root":
		return r.root()
	case "request_filename":
		return r.file()
	case "remote_addr":
		if r.ask.Client.IsValid() {
			return known(r.ask.Client.String())
		}
	case "remote_user":
		return known("")
	case "nginx_version":
		if r.Version != "" {
			return known(r.Version)
		}
	case "fastcgi_script_name", "fastcgi_path_info":
		script, info := r.script()
		if name == "fastcgi_path_info" {
			return info
		}
		return script
	case "proxy_host", "proxy_port", "proxy_add_x_forwarded_for", "content_length", "content_type", "status", "request_time", "msec", "time_local", "time_iso8601", "request_id", "connection", "hostname", "pid":
		if name == "content_length" || name == "content_type" {
			return known(r.ask.Header[strings.ReplaceAll(name, "_", "-")])
		}
	}
	switch prefix, rest, _ := strings.Cut(name, "_"); prefix {
	case "http":
		return known(r.ask.Header[strings.ReplaceAll(rest, "_", "-")])
	case "arg":
		return known(argument(r.args.S, rest))
	case "cookie":
		return known(cookie(r.ask.Header["cookie"], rest))
	}
	return answer.Text{S: "$" + name, Why: &facts.Reason{Because: fmt.Sprintf("the variable $%s is not known", name), Origin: at(n)}}
}

func (r *request) scheme() string {
	if r.listen.secure {
		return "https"
	}
	return "http"
}

func (r *request) port() int {
	if r.ask.Port != 0 {
		return r.ask.Port
	}
	return r.listen.port
}

func (r *request) ownPort() bool {
	return r.port() == 80 && r.scheme() == "http" || r.port() == 443 && r.scheme() == "https"
}

func argument(args, name string) string {
	for _, pair := range strings.Split(args, "&") {
		if key, value, both := strings.Cut(pair, "="); both && strings.EqualFold(key, name) {
			return value
		}
	}
	return ""
}

func cookie(header, name string) string {
	for _, pair := range strings.Split(header, ";") {
		if key, value, both := strings.Cut(strings.TrimSpace(pair), "="); both && key == name {
			return value
		}
	}
	return ""
}

// root is the folder that addresses are looked for in.
func (r *request) root() answer.Text {
	if alias := r.loc.aliased(); alias != nil {
		value := r.expand(alias.Arg(0), alias)
		value.S = r.path(value.S)
		return value
	}
	n := r.loc.find("root")
	if n == nil {
		return answer.Known(filepath.Join(r.Prefix, "html"))
	}
	value := r.expand(n.Arg(0), n)
	value.S = strings.TrimSuffix(r.path(value.S), "/")
	return value
}

// aliased is the alias that applies: root and alias replace each other from level to level.
func (l *level) aliased() *directives.Node {
	for at := l; at != nil; at = at.outer {
		if alias := at.own("alias"); len(alias) > 0 {
			return alias[0]
		}
		if len(at.own("root")) > 0 {
			return nil
		}
	}
	return nil
}

// aliasPrefix is how many bytes of the address the alias stands for; -1 for all of it.
func (r *request) aliasPrefix(alias *directives.Node) int {
	at := r.loc
	for at != nil && len(at.own("alias")) == 0 {
		at = at.outer
	}
	if at == nil {
		return 0
	}
	if at.pattern != nil {
		return -1
	}
	return len(at.name)
}

// file is the path of what an address stands for, ngx_http_map_uri_to_path.
func (r *request) file() answer.Text {
	alias := r.loc.aliased()
	if alias == nil {
		return r.root().Plus(r.uri)
	}
	value := r.expand(alias.Arg(0), alias)
	value.S = r.path(value.S)
	switch n := r.aliasPrefix(alias); {
	case n < 0 && r.addToAlias:
		return value.Plus(r.uri)
	case n < 0:
		return value
	case n <= len(r.uri.S):
		rest := r.uri
		rest.S = rest.S[n:]
		return value.Plus(rest)
	}
	return value
}

// escaped is a path as it is sent.
func escaped(path string) string { return (&url.URL{Path: path}).EscapedPath() }
