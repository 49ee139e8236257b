package amend

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/directives"
)

// sameElsewhere are the other hosts of a server that are the same site, and are not closed with it: they serve the same folder, or have a name of it and
// another address. What only leads elsewhere is none.
func (l *spot) sameElsewhere(host *directives.Node) (gaps []Gap) {
	if host == nil {
		return nil
	}
	root, names := l.folderOf(host), namesOf(host)
	l.tree.Bodies(func(body []*directives.Node) {
		for _, n := range body {
			if n == host || !n.Is(host.Name) || !n.Block || leadsAll(n) {
				continue
			}
			shared := slices.ContainsFunc(namesOf(n), func(name string) bool { return slices.Contains(names, name) })
			if other := l.folderOf(n); shared || root != "" && other == root {
				gaps = append(gaps, Gap{addressOf(n), fmt.Sprintf("%s, line %d, is the same site", n.File, n.Line), false})
			}
		}
	})
	return gaps
}

// folderOf is the folder that a host serves; "" where nothing says which.
func (l *spot) folderOf(host *directives.Node) string {
	for _, block := range []*directives.Node{host, l.host("http")} {
		if block == nil {
			continue
		}
		if root := lastOf(block.Body, func(n *directives.Node) bool { return n.Is("root", "DocumentRoot") }); root != nil {
			return filepath.Clean(root.Arg(0))
		}
	}
	return ""
}

// namesOf are the names of a host.
func namesOf(host *directives.Node) (names []string) {
	for _, n := range host.Body {
		if n.Is("server_name", "ServerName", "ServerAlias") {
			names = append(names, n.Args...)
		}
	}
	return names
}

// leadsAll tells whether a host does nothing but lead elsewhere.
func leadsAll(host *directives.Node) bool {
	return lastOf(host.Body, func(n *directives.Node) bool {
		switch {
		case n.Is("return"):
			return leadsAway(n.Args) || n.Arg(0) >= "400"
		case n.Is("Redirect"):
			return slices.Contains(n.Args[:max(0, len(n.Args)-1)], "/")
		case n.Is("RedirectPermanent", "RedirectTemp"):
			return n.Arg(0) == "/"
		}
		return false
	}) != nil
}

// addressOf is what a host is called: its first name, with what it listens to where that is not encrypted.
func addressOf(host *directives.Node) string {
	name, plain := "_", host.Is("server")
	if names := namesOf(host); len(names) > 0 {
		name = names[0]
	}
	for _, n := range host.Body {
		if n.Is("listen") && slices.Contains(n.Args, "ssl") || n.Is("SSLEngine") && strings.EqualFold(n.Arg(0), "on") {
			plain = false
		}
	}
	if host.Is("VirtualHost") {
		plain = strings.HasSuffix(host.Arg(0), ":80")
	}
	if plain {
		return "http://" + name
	}
	return name
}
