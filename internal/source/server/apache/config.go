// Package apache works out what a configuration of Apache makes of a request: which host takes it, which sections and override
// files apply to what it stands for, what is done there, and each field of the answer with its line.
//
// It follows the order of the server's hooks: translating the address, walking the folders, access, fixing up, handling. It asks
// nobody, and may import directives, facts and source/server/answer.
package apache

import (
	"cmp"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// A Config is a configuration, put in order.
type Config struct {
	Tree    *directives.Tree
	Version string // "2.4.71"; "" when nobody knows
	System  string // "Debian", as the server names it
	Root    string // ServerRoot

	disk     answer.Disk
	patterns answer.Patterns
	main     *host
	hosts    []*host
	types    map[string]string // of the file of types, by ending
	asked    map[string]*override
}

// Options is what is known besides the configuration.
type Options struct {
	Disk    answer.Disk
	Version string
	System  string
}

// A host is the main server or a VirtualHost, with what it takes over from the main one.
type host struct {
	called     string           // by ServerName
	calledPort string           // there; "" when it says none
	secure     bool             // there: addresses of its own begin with https, whoever ends the encryption
	node       *directives.Node // nil for the main server
	body       []*directives.Node
	names      []hostName
	where      []netAddress
	base       [][]*directives.Node // what stands outside sections: the main server's, then its own
	folders    []*section           // sorted as they are walked
	places     []*section           // Location and LocationMatch
	root       *directives.Node     // DocumentRoot
	rewrite    *rewriting
	aliases    []*directives.Node // Alias, Redirect and their like, the host's own first
	ssl        bool
	engine     bool // it is said whether it encrypts
}

type hostName struct {
	text string
	node *directives.Node
}

type netAddress struct {
	address string // "" for all
	port    int    // 0 for all
}

// A section is a block that applies to some paths or addresses.
type section struct {
	node    *directives.Node
	path    string // "" for expressions
	glob    bool
	pattern *answer.Pattern
	depth   int
}

// New puts a configuration in order.
func New(tree *directives.Tree, options Options) *Config {
	c := &Config{Tree: tree, Version: options.Version, System: cmp.Or(options.System, "Debian"), Root: filepath.Dir(tree.Main), disk: options.Disk, types: map[string]string{}, asked: map[string]*override{}}
	if c.disk == nil {
		c.disk = answer.OS{}
	}
	for _, n := range tree.Root {
		if n.Is("ServerRoot") {
			c.Root = n.Arg(0)
		}
	}
	notKnown(tree.Root)
	c.main = c.newHost(nil, tree.Root, nil)
	for _, n := range tree.Root {
		if n.Is("VirtualHost") {
			c.hosts = append(c.hosts, c.newHost(n, n.Body, c.main))
		}
	}
	c.readTypes()
	return c
}

// notKnown makes a hole of each directive that is carried out here and has a variable that only the server's environment could explain.
func notKnown(nodes []*directives.Node) {
	directives.Walk(nodes, func(n *directives.Node) bool {
		if n.Unresolved != "" && n.Hole == "" && classOfNode(n) != harmless && !n.Is("Define") {
			n.Hole = fmt.Sprintf("what %s means to the server is not known here, and %s asks for it", n.Unresolved, n.Name)
		}
		return true
	})
}

// readTypes reads the file that says which ending means which type.
func (c *Config) readTypes() {
	name := "/etc/mime.types"
	for _, n := range c.main.base[0] {
		if n.Is("TypesConfig") {
			name = c.path(n.Arg(0))
		}
	}
	data, err := c.disk.Read(name)
	if err != nil {
		return
	}
	for _, line := range strings.Split(string(data), "\n") {
		words := strings.Fields(line)
		if len(words) < 2 || words[0][0] == '#' {
			continue
		}
		for _, ending := range words[1:] {
			c.types[strings.ToLower(ending)] = words[0]
		}
	}
}

func (c *Config) path(text string) string {
	if filepath.IsAbs(text) {
		return filepath.Clean(text)
	}
	return filepath.Join(c.Root, text)
}

func (c *Config) newHost(n *directives.Node, body []*directives.Node, outer *host) *host {
	h := &host{node: n, body: body, rewrite: &rewriting{}}
	if outer != nil {
		h.base = slices.Clone(outer.base)
		h.folders = slices.Clone(outer.folders)
		h.places = slices.Clone(outer.places)
		h.root = outer.root
		h.ssl, h.engine = outer.ssl, outer.engine
		for _, word := range n.Args {
			h.where = append(h.where, newAddress(word))
		}
	}
	var base []*directives.Node
	for _, d := range body {
		switch {
		case d.Is("VirtualHost"):
		case d.Is("ServerName", "ServerAlias"):
			if d.Is("ServerName") { // the last one counts
				h.names = slices.DeleteFunc(h.names, func(known hostName) bool { return known.node.Is("ServerName") })
			}
			for _, name := range d.Args {
				scheme, after, is := strings.Cut(name, "://")
				if is {
					name = after
				}
				name, port, _ := strings.Cut(name, ":")
				if d.Is("ServerName") {
					h.called, h.calledPort, h.secure = name, port, is && scheme == "https"
				}
				h.names = append(h.names, hostName{strings.ToLower(name), d})
			}
		case d.Is("DocumentRoot"):
			h.root = d
		case d.Is("Directory", "DirectoryMatch"):
			h.folders = append(h.folders, c.newSection(d))
		case d.Is("Location", "LocationMatch"):
			h.places = append(h.places, c.newSection(d))
		case d.Is("SSLEngine"):
			h.ssl, h.engine = strings.EqualFold(d.Arg(0), "on"), true
		case d.Is("Alias", "AliasMatch", "ScriptAlias", "ScriptAliasMatch", "Redirect", "RedirectMatch", "RedirectPermanent", "RedirectTemp", "ProxyPass"):
			h.aliases = append(h.aliases, d)
		case d.Is("RewriteEngine", "RewriteRule", "RewriteCond", "RewriteOptions", "RewriteMap", "RewriteBase"):
			h.rewrite.add(d, &c.patterns)
		default:
			base = append(base, d)
		}
	}
	h.base = append(h.base, base)
	if outer != nil {
		h.aliases = append(h.aliases, outer.aliases...)
		h.ssl = h.ssl || !h.engine && c.Tree.Modules["mod_ssl.c"] != "" && slices.ContainsFunc(h.where, c.listensForHTTPS)
	}
	sortFolders(h.folders)
	return h
}

// listensForHTTPS tells whether an address is listened on for https, which has a host that does not say whether it encrypts do so.
func (c *Config) listensForHTTPS(w netAddress) bool {
	return slices.ContainsFunc(c.Tree.Root, func(n *directives.Node) bool {
		if !n.Is("Listen") || len(n.Args) == 0 {
			return false
		}
		listens := listenAddress(n)
		return listens == w && (strings.EqualFold(n.Arg(1), "https") || len(n.Args) == 1 && listens.port == 443)
	})
}

// listenAddress is where a Listen listens: at a port, or at an address and a port.
func listenAddress(n *directives.Node) netAddress {
	where := n.Arg(0)
	if !strings.Contains(where, ":") {
		where = ":" + where
	}
	listens := newAddress(where)
	if listens.address == "0.0.0.0" || listens.address == "::" {
		listens.address = ""
	}
	return listens
}

// hasName tells whether a host has a name.
func (h *host) hasName(name string) bool {
	name = strings.ToLower(name)
	return slices.ContainsFunc(h.names, func(n hostName) bool { return n.fits(name) })
}

// hole is what of the server or of the host could not be read. It may say anything, and hold another host.
func (h *host) hole() *facts.Reason {
	for _, base := range h.base {
		for _, n := range base {
			if n.Hole != "" {
				return &facts.Reason{Because: n.Hole, Origin: at(n)}
			}
		}
	}
	return nil
}

// said is what a host says last of the server's own directives; nil where nobody says it.
func (h *host) said(name string) (said *directives.Node) {
	for _, base := range h.base {
		for _, n := range base {
			if n.Is(name) {
				said = n
			}
		}
	}
	return said
}

// sortFolders puts sections in the order in which they are walked: by depth, and those with expressions last, each as they stand.
func sortFolders(folders []*section) {
	slices.SortStableFunc(folders, func(a, b *section) int {
		if (a.pattern != nil) != (b.pattern != nil) {
			if a.pattern != nil {
				return 1
			}
			return -1
		}
		if a.pattern != nil {
			return 0
		}
		return a.depth - b.depth
	})
}

func (c *Config) newSection(n *directives.Node) *section {
	s := &section{node: n, path: n.Arg(0)}
	switch {
	case n.Is("DirectoryMatch", "LocationMatch", "FilesMatch"):
		s.pattern, s.path = c.patterns.Compile(n.Arg(0), false), ""
	case n.Arg(0) == "~":
		s.pattern, s.path = c.patterns.Compile(n.Arg(1), false), ""
	default:
		s.glob = strings.ContainsAny(s.path, "*?[")
		if n.Is("Directory") {
			if !s.glob {
				s.path = c.path(s.path)
			}
			s.path = strings.TrimSuffix(s.path, "/")
			s.depth = strings.Count(s.path, "/")
		}
	}
	return s
}

func newAddress(word string) netAddress {
	host, port := word, ""
	if i := strings.LastIndexByte(word, ':'); i >= 0 && !strings.HasSuffix(word, "]") {
		host, port = word[:i], word[i+1:]
	}
	host = strings.Trim(host, "[]")
	if host == "*" || host == "_default_" {
		host = ""
	}
	n, _ := strconv.Atoi(port)
	return netAddress{host, n}
}

// choose is the host that takes a request: the best address, then the name, then the first there is.
func (c *Config) choose(ask answer.Ask, g *answer.Guess) (*host, []answer.Stage) {
	port := portOf(ask)
	best := 0
	var group []*host
	for _, h := range c.hosts {
		for _, w := range h.where {
			fits := w.fits(ask.Local, port)
			switch {
			case fits > best:
				best, group = fits, []*host{h}
			case fits == best && fits > 0 && !slices.Contains(group, h):
				group = append(group, h)
			}
		}
	}
	if len(group) == 0 {
		return c.main, []answer.Stage{{Says: "no VirtualHost has this address and port; the main server takes it", Origin: facts.Origin{File: c.Tree.Main}}}
	}
	name := strings.TrimSuffix(strings.ToLower(ask.Host), ".")
	for _, h := range group {
		for _, n := range h.names {
			if n.fits(name) {
				return h, []answer.Stage{{Says: "the server takes it, since it has this name", Origin: at(n.node)}}
			}
		}
	}
	return group[0], []answer.Stage{{Says: "no server has this name; the first one for the port takes it", Origin: at(group[0].node)}}
}

func portOf(ask answer.Ask) int {
	switch {
	case ask.Port != 0:
		return ask.Port
	case ask.Scheme == "https":
		return 443
	}
	return 80
}

// fits tells how well an address fits; 0 when not at all.
func (w netAddress) fits(local netip.Addr, port int) int {
	if w.port != 0 && w.port != port {
		return 0
	}
	fits := 1
	if w.port != 0 {
		fits++
	}
	if w.address == "" {
		return fits
	}
	if local.IsValid() && w.address != local.String() {
		return 0
	}
	return fits + 2
}

func (n hostName) fits(name string) bool {
	if n.node.Is("ServerAlias") && strings.ContainsAny(n.text, "*?") {
		return globMatch(n.text, name, false)
	}
	return n.text == name
}

// name is what the host is called.
func (h *host) name() string {
	for _, n := range h.names {
		if n.node.Is("ServerName") {
			return n.text
		}
	}
	return ""
}

func at(n *directives.Node) facts.Origin {
	if n == nil {
		return facts.Origin{Default: "Apache"}
	}
	return facts.Origin{File: n.File, Line: n.Line}
}

// globMatch matches as fnmatch does; with path, a * or ? stops at slashes.
func globMatch(pattern, text string, path bool) bool {
	for i := 0; i < len(pattern); i++ {
		switch c := pattern[i]; c {
		case '*':
			for j := 0; j <= len(text); j++ {
				if globMatch(pattern[i+1:], text[j:], path) {
					return true
				}
				if j < len(text) && path && text[j] == '/' {
					return false
				}
			}
			return false
		case '?':
			if text == "" || path && text[0] == '/' {
				return false
			}
			text = text[1:]
		case '[':
			end := strings.IndexByte(pattern[i+1:], ']')
			if end < 0 || text == "" {
				return false
			}
			if !inSet(pattern[i+1:i+1+end], text[0]) {
				return false
			}
			i, text = i+1+end, text[1:]
		case '\\':
			if i+1 < len(pattern) {
				i++
				c = pattern[i]
			}
			fallthrough
		default:
			if text == "" || text[0] != c {
				return false
			}
			text = text[1:]
		}
	}
	return text == ""
}

func inSet(set string, c byte) bool {
	not := strings.HasPrefix(set, "!") || strings.HasPrefix(set, "^")
	if not {
		set = set[1:]
	}
	in := false
	for i := 0; i < len(set); i++ {
		if i+2 < len(set) && set[i+1] == '-' {
			in = in || set[i] <= c && c <= set[i+2]
			i += 2
			continue
		}
		in = in || set[i] == c
	}
	return in != not
}
