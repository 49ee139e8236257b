package apache

import (
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// Serves are the ports on which a host of a name listens.
func (c *Config) Serves(name string) (ports []int) {
	for _, h := range append([]*host{c.main}, c.hosts...) {
		if h.hasName(name) {
			ports = append(ports, c.ports(h)...)
		}
	}
	return unique(ports)
}

// Listens tells whether the server listens on a port.
func (c *Config) Listens(port int) bool {
	return slices.ContainsFunc(c.Tree.Root, func(n *directives.Node) bool { return n.Is("Listen") && listenAddress(n).port == port })
}

// Encrypts are those of the ports on which a host of a name encrypts; of the main server's those that no other host takes.
func (c *Config) Encrypts(name string) (ports []int) {
	for _, h := range c.encrypting(name) {
		for _, port := range c.ports(h) {
			if h != c.main || !slices.ContainsFunc(c.hosts, func(o *host) bool { return o.takes(port) }) {
				ports = append(ports, port)
			}
		}
	}
	return unique(ports)
}

// encrypting are the hosts of a name that encrypt, the main server last.
func (c *Config) encrypting(name string) []*host {
	return slices.DeleteFunc(append(slices.Clone(c.hosts), c.main), func(h *host) bool { return !h.ssl || !h.hasName(name) })
}

// ports are those on which a host listens.
func (c *Config) ports(h *host) (ports []int) {
	for _, w := range h.where {
		ports = append(ports, w.port)
	}
	if h != c.main {
		return ports
	}
	for _, n := range c.Tree.Root {
		if n.Is("Listen") {
			ports = append(ports, listenAddress(n).port)
		}
	}
	return ports
}

func (h *host) takes(port int) bool {
	return slices.ContainsFunc(h.where, func(w netAddress) bool { return w.port == 0 || w.port == port })
}

// unique are ports each once, without the 0 that stands for all.
func unique(ports []int) (each []int) {
	for _, port := range ports {
		if port != 0 && !slices.Contains(each, port) {
			each = append(each, port)
		}
	}
	return each
}

// protocols are all that Apache knows, by what SSLProtocol calls all.
var protocols = []string{"TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"}

// Protocols are the versions of TLS that a host of a name allows, and where that is said; none where it does not encrypt.
func (c *Config) Protocols(name string) (allowed []string, from facts.Origin) {
	hosts := c.encrypting(name)
	if len(hosts) == 0 {
		return nil, facts.Origin{}
	}
	var said *directives.Node
	for _, n := range slices.Concat(hosts[0].base...) {
		if n.Is("SSLProtocol") {
			said = n
		}
	}
	if said == nil {
		return protocols, facts.Origin{Default: "Apache"}
	}
	for _, word := range said.Args {
		bare := strings.TrimLeft(word, "+-")
		if bare == word { // it takes the place of what stands before it
			allowed = nil
		}
		for _, p := range protocols {
			switch {
			case !strings.EqualFold(bare, "all") && !strings.EqualFold(bare, p):
			case strings.HasPrefix(word, "-"):
				allowed = slices.DeleteFunc(allowed, func(a string) bool { return a == p })
			case !slices.Contains(allowed, p):
				allowed = append(allowed, p)
			}
		}
	}
	return allowed, at(said)
}

// Certificates are the files of the certificates that whoever encrypts with is shown, where the configuration names them; none where nobody encrypts.
func (c *Config) Certificates(ask answer.Ask) (files []answer.Named) {
	h, _ := c.choose(ask, &answer.Guess{})
	if !h.ssl {
		return nil
	}
	for _, body := range h.base {
		var here []answer.Named
		for _, n := range body {
			if n.Is("SSLCertificateFile") {
				here = append(here, answer.Named{Path: c.path(n.Arg(0)), At: at(n)})
			}
		}
		if len(here) > 0 { // those of a host take the place of the server's
			files = here
		}
	}
	return files
}

// Overrides is what override files may change in a folder of the host that takes a request; "" when they are not read.
func (c *Config) Overrides(ask answer.Ask, folder string) (allowed string, from facts.Origin) {
	answer.Explore(func(g *answer.Guess) *answer.Answer {
		r := &request{Config: c, g: g, a: answer.New(), method: "GET", env: map[string]string{}, challenged: new(*answer.Told), work: new(int)}
		r.host, _ = c.choose(ask, g)
		s, _ := r.walk(folder, answer.Entry{Is: answer.AFolder})
		allowed, from = strings.Join(append(slices.Clone(s.override.groups), s.override.list...), " "), facts.Origin{Default: "Apache"}
		if s.override.node != nil {
			from = at(s.override.node)
		}
		return answer.New()
	})
	return allowed, from
}

// maxLooked is how many folders are looked into for override files.
const maxLooked = 400

// Shadowed are override files that nobody reads, and rules of rewriting that one of a deeper folder drops.
func (c *Config) Shadowed() (found []facts.Shadowed) {
	answer.Explore(func(g *answer.Guess) *answer.Answer {
		found = nil
		for _, h := range append([]*host{c.main}, c.hosts...) {
			if h.root == nil || h == c.main && len(c.hosts) > 0 {
				continue
			}
			r := &request{Config: c, g: g, a: answer.New(), host: h, method: "GET", env: map[string]string{}, challenged: new(*answer.Told), work: new(int)}
			found = append(found, r.shadowed()...)
		}
		return answer.New()
	})
	seen := map[string]bool{}
	return slices.DeleteFunc(found, func(s facts.Shadowed) bool {
		key := s.Subject() + s.By.String()
		twice := seen[key]
		seen[key] = true
		return twice
	})
}

// shadowed looks through the folders of one host.
func (r *request) shadowed() (found []facts.Shadowed) {
	looked := 0
	var visit func(dir string, depth int)
	visit = func(dir string, depth int) {
		if looked++; looked > maxLooked || depth > 4 {
			return
		}
		name := filepath.Join(dir, r.overrideName())
		s, failed := r.walk(dir, answer.Entry{Is: answer.AFolder})
		if r.disk.Look(name).Is == answer.AFile && failed == nil {
			if above, _ := r.walk(filepath.Dir(dir), answer.Entry{Is: answer.AFolder}); s.override.none() {
				by := facts.Origin{Default: "Apache"}
				if s.override.node != nil {
					by = at(s.override.node)
				} else if above != nil && above.override.node != nil {
					by = at(above.override.node)
				}
				found = append(found, facts.Shadowed{Directive: "the override file " + name, At: facts.Origin{File: name, Line: 1}, By: by, Because: "override files are not read here: " + s.override.says()})
			}
		}
		if failed == nil {
			for _, n := range s.rewrite.dropped {
				if n.Is("RewriteRule") && len(s.rewrite.nodes) > 0 {
					found = append(found, facts.Shadowed{Directive: n.String(), At: at(n), By: at(s.rewrite.nodes[0]), Because: "a directive of rewriting further down, " + (&directives.Node{Name: s.rewrite.nodes[0].Name, Args: s.rewrite.nodes[0].Args}).String() + ", drops all rules above it for " + dir})
				}
			}
		}
		for _, below := range r.disk.Folders(dir) {
			visit(below, depth+1)
		}
	}
	visit(r.root(), 0)
	return found
}

// Places are the addresses of folders that the configuration names.
func (c *Config) Places() (addresses []string) {
	for _, h := range append([]*host{c.main}, c.hosts...) {
		for _, s := range h.places {
			if s.pattern == nil {
				addresses = append(addresses, s.path)
			}
		}
		for _, n := range h.aliases {
			if n.Is("Alias") {
				addresses = append(addresses, n.Arg(0))
			}
		}
	}
	return addresses
}

// Folders are the folders of this machine that the configuration names.
func (c *Config) Folders() (folders []string) {
	for _, h := range append([]*host{c.main}, c.hosts...) {
		for _, s := range h.folders {
			if s.pattern == nil && !strings.ContainsAny(s.path, "*?[") {
				folders = append(folders, s.path)
			}
		}
	}
	return folders
}
