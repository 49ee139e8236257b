package amend

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/source/server"
)

// othersTold are the hosts of the servers that are none of the site's and are told something else with some files as they might be: they include what
// changes, or it stands where it is for all.
func (w World) othersTold(overlay server.Overlay) []string {
	if w.Own == nil {
		return nil
	}
	foreign := func(h host) bool { return len(h.names) > 0 && !slices.ContainsFunc(h.names, w.Own) }
	was, _ := w.Open(nil)
	if !slices.ContainsFunc(was.Servers, func(one *server.Server) bool { return slices.ContainsFunc(hostsOf(one), foreign) }) {
		return nil
	}
	is, _ := w.Open(overlay)
	var others []string
	for i, one := range was.Servers {
		after := hostsOf(is.Servers[i])
		for place, h := range hostsOf(one) {
			if foreign(h) && (place >= len(after) || after[place].told() != h.told()) {
				others = append(others, fmt.Sprintf("%s (%s)", h.names[0], h.at))
			}
		}
	}
	slices.Sort(others)
	return slices.Compact(others)
}

// A host is one that a configuration has: what stands in it, and what stands outside of all and counts for it.
type host struct {
	names    []string
	at       string
	own, all []*directives.Node
}

// hostsOf are the hosts of a server, in their order.
func hostsOf(one *server.Server) (hosts []host) {
	var all []*directives.Node
	var inner func(nodes []*directives.Node)
	inner = func(nodes []*directives.Node) {
		for _, n := range nodes {
			switch {
			case one.Kind == server.Nginx && n.Is("server"), one.Kind == server.Apache && n.Is("VirtualHost"):
				h := host{at: n.Place(), own: n.Body}
				for _, d := range n.Body {
					if d.Is("server_name", "ServerName", "ServerAlias") {
						h.names = append(h.names, d.Args...)
					}
				}
				h.names = slices.DeleteFunc(h.names, func(name string) bool { return name == "" || name == "_" })
				hosts = append(hosts, h)
			case one.Kind == server.Nginx && n.Is("http"):
				inner(n.Body)
			default:
				all = append(all, n)
			}
		}
	}
	inner(one.Tree.Root)
	for i := range hosts {
		hosts[i].all = all
	}
	return hosts
}

// told is what a host is told, as text.
func (h host) told() string {
	var folders []string // that it serves
	for _, n := range slices.Concat(h.all, h.own) {
		if n.Is("DocumentRoot") {
			folders = append(folders, n.Arg(0))
		}
		if n.Is("Alias", "ScriptAlias") {
			folders = append(folders, n.Arg(1))
		}
	}
	var b strings.Builder
	written(&b, h.own)
	for _, n := range h.all {
		if !n.Is("Directory") || strings.ContainsAny(n.Arg(0), "*?[~") || slices.ContainsFunc(folders, func(folder string) bool { return within(folder, n.Arg(0)) || within(n.Arg(0), folder) }) {
			written(&b, []*directives.Node{n})
		}
	}
	return b.String()
}

// within tells whether a folder lies in another, or is it.
func within(folder, in string) bool {
	return strings.HasPrefix(filepath.Clean(folder)+"/", strings.TrimSuffix(filepath.Clean(in), "/")+"/")
}

// written are directives as text, wherever they stand.
func written(b *strings.Builder, nodes []*directives.Node) {
	for _, n := range nodes {
		if n.Is("include", "Include", "IncludeOptional") {
			continue // what it brings stands beside it
		}
		fmt.Fprintf(b, "%s %q %s{", n.Name, n.Args, n.Hole)
		written(b, n.Body)
		b.WriteString("}")
	}
}
