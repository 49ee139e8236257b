package nginx

import (
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// Serves are the ports on which a host of a name listens.
func (c *Config) Serves(name string) []int { return c.ports(name, false) }

// Encrypts are those of the ports on which a host of a name encrypts.
func (c *Config) Encrypts(name string) []int { return c.ports(name, true) }

// Listens tells whether any host listens on a port.
func (c *Config) Listens(port int) bool {
	return slices.ContainsFunc(c.servers, func(h *host) bool {
		return slices.ContainsFunc(h.listens, func(l listen) bool { return l.port == port })
	})
}

func (c *Config) ports(name string, secure bool) (ports []int) {
	for _, h := range c.servers {
		if h.named(name) == 0 {
			continue
		}
		for _, l := range h.listens {
			if l.port != 0 && (l.secure || !secure) && !slices.Contains(ports, l.port) {
				ports = append(ports, l.port)
			}
		}
	}
	return ports
}

// Protocols are the versions of TLS that a host of a name allows, and where that is said; none where it does not encrypt, or where nothing says and
// the version of nginx is not known. What the first host of the address says counts, since the handshake begins before the name is known; as of 1.29.2
// what its own says.
func (c *Config) Protocols(name string) ([]string, facts.Origin) {
	for _, h := range c.servers {
		i := slices.IndexFunc(h.listens, func(l listen) bool { return l.secure })
		if h.named(name) == 0 || i < 0 {
			continue
		}
		if !c.since("1.29.2") {
			h = c.first[h.listens[i].socket()]
		}
		if n := h.find("ssl_protocols"); n != nil {
			return n.Args, at(n)
		}
		switch {
		case c.Version == "":
			return nil, facts.Origin{}
		case c.since("1.27.3"):
			return []string{"TLSv1.2", "TLSv1.3"}, facts.Origin{Default: "nginx since 1.27.3"}
		case c.since("1.23.4"):
			return []string{"TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"}, facts.Origin{Default: "nginx from 1.23.4 to 1.27.2"}
		}
		return []string{"TLSv1", "TLSv1.1", "TLSv1.2"}, facts.Origin{Default: "nginx before 1.23.4"}
	}
	return nil, facts.Origin{}
}

// Certificates are the files of the certificates that whoever encrypts with is shown, where the configuration names them; none where nobody encrypts.
func (c *Config) Certificates(ask answer.Ask) (files []answer.Named) {
	h, on, _, _ := c.choose(ask, &answer.Guess{})
	if h == nil || !on.secure {
		return nil
	}
	if n := h.find("ssl_reject_handshake"); n != nil && n.Arg(0) == "on" {
		return nil // whoever comes sees none
	}
	said, _ := h.list("ssl_certificate")
	for _, n := range said {
		files = append(files, answer.Named{Path: c.path(n.Arg(0)), At: at(n)})
	}
	return files
}

// since tells whether nginx is known to be of a version or a later one.
func (c *Config) since(version string) bool {
	is, err := semver.NewVersion(c.Version)
	return err == nil && !is.LessThan(semver.MustParse(version))
}

// Overrides is what override files may change in a folder: nothing, with nginx.
func (c *Config) Overrides(answer.Ask, string) (string, facts.Origin) {
	return "", facts.Origin{Default: "nginx, which reads no override files"}
}

// replaced are the directives whose lists are replaced as a whole by one of the same name further in.
var replaced = []string{"add_header", "fastcgi_param", "proxy_set_header", "error_page"}

// Shadowed are directives of lists that a level further in replaces, and does not say itself.
func (c *Config) Shadowed() (found []facts.Shadowed) {
	var visit func(l *level)
	visit = func(l *level) {
		for _, name := range replaced {
			own, outer := l.own(name), []*directives.Node(nil)
			if l.outer != nil {
				outer, _ = l.outer.list(name)
			}
			if len(own) == 0 || name == "fastcgi_param" && passes(l) == nil || name == "proxy_set_header" && passes(l) == nil {
				continue
			}
			for _, n := range outer {
				if !slices.ContainsFunc(own, func(o *directives.Node) bool { return strings.EqualFold(o.Arg(0), n.Arg(0)) }) {
					found = append(found, facts.Shadowed{Directive: n.String(), At: at(n), By: at(own[0]), Because: "in " + l.Place() + " a list of " + name + " begins, which replaces the one above"})
				}
			}
		}
		for _, inner := range l.locations {
			visit(inner)
		}
		for _, n := range l.body {
			if n.Is("if") && l.node != nil && l.node.Is("location") {
				visit(l.inside(n))
			}
		}
	}
	for _, h := range c.servers {
		visit(h.level)
		found = append(found, c.unread(h)...)
	}
	return found
}

// unread is an override file in the root of a host: nginx reads none.
func (c *Config) unread(h *host) (found []facts.Shadowed) {
	n := h.find("root")
	if n == nil || strings.Contains(n.Arg(0), "$") {
		return nil
	}
	name := strings.TrimSuffix(c.path(n.Arg(0)), "/") + "/.htaccess"
	if c.disk.Look(name).Is == answer.AFile {
		found = append(found, facts.Shadowed{Directive: "the override file " + name, At: facts.Origin{File: name, Line: 1}, By: at(n), Because: "nginx reads no override files"})
	}
	return found
}

// Places are the addresses of folders that the configuration names.
func (c *Config) Places() (addresses []string) {
	var of func(l *level)
	of = func(l *level) {
		for _, inner := range l.locations {
			if inner.pattern == nil && !inner.named && strings.HasSuffix(inner.name, "/") {
				addresses = append(addresses, inner.name)
			}
			of(inner)
		}
	}
	for _, h := range c.servers {
		of(h.level)
	}
	return addresses
}
