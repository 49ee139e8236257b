// Package nginx works out what a configuration of nginx makes of a request: which host and which location take it, what is
// done there, and each field of the answer with its line.
//
// It follows ngx_http_core_module and the modules that are part of every build, in the order of their phases. It asks nobody,
// and may import directives, facts and source/server/answer.
package nginx

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// A Config is a configuration, put in order.
type Config struct {
	Tree    *directives.Tree
	Version string // "1.22.1"; "" when nobody knows
	Prefix  string // what relative paths of files are relative to

	disk     answer.Disk
	patterns answer.Patterns
	http     *level
	servers  []*host
	maps     map[string]*mapping
	upstr    map[string]*directives.Node
	first    map[socket]*host // that which takes what no name fits
}

// A level is one block in which directives stand: http, server, location, or an if in a location.
type level struct {
	node   *directives.Node // nil for http when there is none
	outer  *level
	body   []*directives.Node
	inIf   bool
	levels int // how deep

	// Of locations.
	name      string
	exact     bool
	shields   bool // ^~
	pattern   *answer.Pattern
	anyCase   bool
	named     bool
	locations []*level // in the order in which they stand
	ifs       map[*directives.Node]*level
}

// A host is a server block.
type host struct {
	*level
	listens []listen
	names   []serverName
}

type listen struct {
	address string // without port; "" or * for all
	port    int
	main    bool // default_server
	secure  bool
	http2   bool
	node    *directives.Node
}

// A socket is an address and a port that several hosts may share.
type socket struct {
	address string
	port    int
}

func (l listen) socket() socket { return socket{l.address, l.port} }

type serverName struct {
	text    string
	pattern *answer.Pattern
	node    *directives.Node
}

// Options is what is known besides the configuration.
type Options struct {
	Disk    answer.Disk
	Version string
	Prefix  string // /usr/share/nginx when empty, as Debian builds it
}

// New puts a configuration in order.
func New(tree *directives.Tree, options Options) *Config {
	c := &Config{Tree: tree, Version: options.Version, Prefix: cmp.Or(options.Prefix, "/usr/share/nginx"), disk: options.Disk, maps: map[string]*mapping{}, upstr: map[string]*directives.Node{}, first: map[socket]*host{}}
	if c.disk == nil {
		c.disk = answer.OS{}
	}
	root := &level{body: tree.Root}
	c.http = &level{outer: root}
	for _, n := range tree.Root {
		if n.Is("http") {
			c.http = &level{node: n, outer: root, body: n.Body, levels: 1}
		}
	}
	for _, n := range c.http.body {
		switch {
		case n.Is("server") && n.Block:
			c.servers = append(c.servers, newHost(n, c.http, &c.patterns))
		case n.Is("map") && len(n.Args) == 2:
			c.maps[strings.TrimPrefix(n.Args[1], "$")] = newMapping(n, &c.patterns)
		case n.Is("upstream"):
			c.upstr[n.Arg(0)] = n
		}
	}
	c.encrypt()
	return c
}

// encrypt has all hosts of an address and port encrypt where one of them says so, or where that which takes what no name fits says "ssl on", as could be
// said before nginx 1.25.1.
func (c *Config) encrypt() {
	secure := map[socket]bool{}
	for _, h := range c.servers {
		for _, l := range h.listens {
			s := l.socket()
			secure[s] = secure[s] || l.secure
			if c.first[s] == nil || l.main {
				c.first[s] = h
			}
		}
	}
	for s, h := range c.first {
		if on := h.find("ssl"); on != nil && on.Arg(0) == "on" {
			secure[s] = true
		}
	}
	for _, h := range c.servers {
		for i, l := range h.listens {
			h.listens[i].secure = secure[l.socket()]
		}
	}
}

func newHost(n *directives.Node, http *level, patterns *answer.Patterns) *host {
	h := &host{level: &level{node: n, outer: http, body: n.Body, levels: 2}}
	h.collect(patterns)
	for _, d := range n.Body {
		switch {
		case d.Is("listen"):
			h.listens = append(h.listens, newListen(d))
		case d.Is("server_name"):
			for _, name := range d.Args {
				s := serverName{text: strings.ToLower(name), node: d}
				if expression, is := strings.CutPrefix(name, "~"); is {
					s = serverName{text: name, pattern: patterns.Compile(expression, true), node: d}
				}
				h.names = append(h.names, s)
			}
		}
	}
	if len(h.listens) == 0 {
		h.listens = []listen{{port: 80, node: n}} // as root; another user's is 8000
	}
	return h
}

func newListen(n *directives.Node) listen {
	l := listen{port: 80, node: n}
	switch where := n.Arg(0); {
	case strings.HasPrefix(where, "unix:"):
		l.address, l.port = where, 0
	case strings.HasPrefix(where, "["):
		address, port, _ := strings.Cut(where[1:], "]")
		l.address = address
		if p := strings.TrimPrefix(port, ":"); p != "" {
			_, _ = fmt.Sscan(p, &l.port)
		}
	default:
		address, port, both := strings.Cut(where, ":")
		if !both && strings.Trim(address, "0123456789") == "" {
			address, port = "", address
		}
		if port != "" {
			_, _ = fmt.Sscan(port, &l.port)
		}
		l.address = address
	}
	if l.address == "*" || l.address == "0.0.0.0" || l.address == "::" {
		l.address = ""
	}
	for _, word := range n.Args[min(1, len(n.Args)):] {
		switch word {
		case "default_server", "default":
			l.main = true
		case "ssl", "quic":
			l.secure = true
		case "http2":
			l.http2 = true
		}
	}
	return l
}

// collect finds the locations of a level.
func (l *level) collect(patterns *answer.Patterns) {
	for _, n := range l.body {
		if !n.Is("location") || !n.Block {
			continue
		}
		inner := &level{node: n, outer: l, body: n.Body, levels: l.levels + 1}
		sign, name := "", n.Arg(0)
		if len(n.Args) > 1 {
			sign, name = n.Args[0], n.Args[1]
		} else { // the sign may stand close to the name
			for _, s := range []string{"=", "^~", "~*", "~"} {
				if rest, is := strings.CutPrefix(name, s); is {
					sign, name = s, rest
					break
				}
			}
		}
		inner.name = name
		switch sign {
		case "=":
			inner.exact = true
		case "^~":
			inner.shields = true
		case "~":
			inner.pattern = patterns.Compile(name, false)
		case "~*":
			inner.pattern, inner.anyCase = patterns.Compile(name, true), true
		default:
			inner.named = strings.HasPrefix(name, "@")
		}
		inner.collect(patterns)
		l.locations = append(l.locations, inner)
	}
}

// inside is the level of an if that stands in this one.
func (l *level) inside(n *directives.Node) *level {
	if l.ifs == nil {
		l.ifs = map[*directives.Node]*level{}
	}
	if l.ifs[n] == nil {
		l.ifs[n] = &level{node: n, outer: l, body: n.Body, inIf: true, levels: l.levels + 1, name: l.name, exact: l.exact, shields: l.shields, pattern: l.pattern, named: l.named}
	}
	return l.ifs[n]
}

// own are the directives of these names that stand in this level itself.
func (l *level) own(names ...string) (found []*directives.Node) {
	for _, n := range l.body {
		if slices.Contains(names, n.Name) {
			found = append(found, n)
		}
	}
	return found
}

// find is a directive of a name that applies: this level's, or else the nearest outer one's.
func (l *level) find(name string) *directives.Node {
	for at := l; at != nil; at = at.outer {
		if found := at.own(name); len(found) > 0 {
			return found[0]
		}
	}
	return nil
}

// list are all directives of some names at the nearest level that has one: lists are not added to, but replaced. Beaten are
// those of the levels further out.
func (l *level) list(names ...string) (found, beaten []*directives.Node) {
	for at := l; at != nil; at = at.outer {
		if own := at.own(names...); len(own) > 0 {
			if found == nil {
				found = own
			} else {
				beaten = append(beaten, own...)
			}
		}
	}
	return found, beaten
}

// on tells whether a directive that is on or off is on.
func (l *level) on(name string, otherwise bool) (bool, *directives.Node) {
	n := l.find(name)
	if n == nil {
		return otherwise, nil
	}
	return n.Arg(0) == "on", n
}

// at is where a directive stands.
func at(n *directives.Node) facts.Origin {
	if n == nil {
		return facts.Origin{Default: "nginx"}
	}
	return facts.Origin{File: n.File, Line: n.Line}
}

// path makes a path in the configuration absolute.
func (c *Config) path(text string) string {
	if filepath.IsAbs(text) {
		return text
	}
	return filepath.Join(c.Prefix, text)
}

// Place is what a location is called.
func (l *level) Place() string {
	if l.node == nil {
		return "http"
	}
	at := l
	for at.inIf {
		at = at.outer
	}
	return strings.Join(append([]string{at.node.Name}, at.node.Args...), " ")
}

// choose is the host that takes a request: by the port, then the address, then its name. First is the one that reads its first
// line, before it is known which host is meant.
func (c *Config) choose(ask answer.Ask, g *answer.Guess) (found *host, on listen, stages []answer.Stage, first *host) {
	type candidate struct {
		h *host
		l listen
	}
	port := ask.Port
	if port == 0 {
		port = map[string]int{"https": 443}[ask.Scheme]
	}
	if port == 0 {
		port = 80
	}
	byAddress := map[string][]candidate{}
	var addresses []string
	for _, h := range c.servers {
		for _, l := range h.listens {
			if l.port != port || strings.HasPrefix(l.address, "unix:") || strings.Contains(l.address, ":") && !ask.Local.Is6() {
				continue
			}
			if _, known := byAddress[l.address]; !known {
				addresses = append(addresses, l.address)
			}
			byAddress[l.address] = append(byAddress[l.address], candidate{h, l})
		}
	}
	var fitting []candidate
	switch {
	case len(addresses) == 0:
		return nil, listen{}, nil, nil
	case ask.Local.IsValid():
		if fitting = byAddress[ask.Local.String()]; fitting == nil {
			fitting = byAddress[""]
		}
	case len(addresses) == 1:
		fitting = byAddress[addresses[0]]
	default: // nobody says on which address the visitor arrives: the one whose hosts know the name
		for _, address := range addresses {
			if slices.ContainsFunc(byAddress[address], func(c candidate) bool { return c.h.named(ask.Host) > 0 }) {
				if fitting == nil || g.Either(facts.Reason{Because: "several addresses have this port, and it is not known on which the visitor arrives", Origin: at(byAddress[address][0].l.node)}) {
					fitting = byAddress[address]
				}
			}
		}
		if fitting == nil {
			fitting = byAddress[addresses[0]]
		}
	}
	if len(fitting) == 0 {
		return nil, listen{}, nil, nil
	}
	best, how := fitting[0], 0
	for _, f := range fitting {
		if f.l.main {
			best = f
		}
	}
	fallback := best
	for _, f := range fitting {
		if fits := f.h.named(ask.Host); fits > how {
			best, how = f, fits
		}
	}
	node := best.h.nameNode(ask.Host)
	says := "the server takes it, since it has this name"
	if how == 0 {
		node = fallback.l.node
		says = "no server has this name; the default one for the port takes it"
	}
	if first = fallback.h; ask.Scheme == "https" { // which has told the name before
		first = best.h
	}
	return best.h, best.l, []answer.Stage{{Says: says, Origin: at(node)}}, first
}

// named tells how well a host knows a name; 0 when not at all. An exact name is best, then the longest wildcard in front, the
// longest at the end, and then expressions, where the first of the configuration counts.
func (h *host) named(name string) (best int) {
	name = strings.TrimSuffix(strings.ToLower(name), ".")
	for _, s := range h.names {
		best = max(best, s.fits(name))
	}
	return best
}

func (h *host) nameNode(name string) *directives.Node {
	name = strings.TrimSuffix(strings.ToLower(name), ".")
	best, node := 0, h.node
	for _, s := range h.names {
		if fits := s.fits(name); fits > best {
			best, node = fits, s.node
		}
	}
	return node
}

func (s serverName) fits(name string) int {
	switch {
	case s.pattern != nil:
		if found, _ := s.pattern.Find(name); found != nil {
			return 1
		}
	case s.text == name && name != "":
		return 4000
	case strings.HasPrefix(s.text, "."):
		if name == s.text[1:] {
			return 4000
		}
		if strings.HasSuffix(name, s.text) {
			return 2000 + len(s.text)
		}
	case strings.HasPrefix(s.text, "*."):
		if strings.HasSuffix(name, s.text[1:]) && len(name) > len(s.text)-1 {
			return 2000 + len(s.text)
		}
	case strings.HasSuffix(s.text, ".*"):
		if strings.HasPrefix(name, s.text[:len(s.text)-1]) && len(name) > len(s.text)-1 {
			return 1000 + len(s.text)
		}
	}
	return 0
}

// known tells whether a level and those around it hold something that cannot be evaluated and touches a field, and why.
func (l *level) unsure(touches func(class) bool) *facts.Reason {
	for at := l; at != nil; at = at.outer {
		for _, n := range at.body {
			if n.Hole != "" {
				return &facts.Reason{Because: n.Hole, Origin: originOf(n)}
			}
			if kind := classOf(n.Name); kind != evaluated && kind != harmless && touches(kind) && takesPart(at, l, n) {
				return &facts.Reason{Because: n.Name + " is not evaluated", Origin: originOf(n)}
			}
		}
	}
	return nil
}

// hole is what could not be read and may say what a directive says that stands further out, or nowhere.
func (l *level) hole(found *directives.Node) *facts.Reason {
	for at := l; at != nil; at = at.outer {
		for _, n := range at.body {
			if found != nil && n == found {
				return nil
			}
		}
		for _, n := range at.body {
			if n.Hole != "" {
				return &facts.Reason{Because: n.Hole, Origin: originOf(n)}
			}
		}
	}
	return nil
}

func originOf(n *directives.Node) facts.Origin { return facts.Origin{File: n.File, Line: n.Line} }

// takesPart tells whether a directive of an outer level reaches an inner one: not if the inner one has its own.
func takesPart(outer, inner *level, n *directives.Node) bool {
	for at := inner; at != outer; at = at.outer {
		if len(at.own(n.Name)) > 0 && classOf(n.Name) != unheard {
			return false
		}
	}
	return !(n.Arg(0) == "off" && len(n.Args) == 1)
}
