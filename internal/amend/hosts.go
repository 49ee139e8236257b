package amend

import (
	"fmt"
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
	was, _ := w.Open(nil)
	is, _ := w.Open(overlay)
	if was == nil || is == nil || len(was.Servers) != len(is.Servers) {
		return nil
	}
	var others []string
	for i, one := range was.Servers {
		before, after := hostsOf(one), hostsOf(is.Servers[i])
		for place, host := range before {
			if now, there := after[place]; (!there || now.told != host.told) && len(host.names) > 0 && !slices.ContainsFunc(host.names, w.Own) {
				others = append(others, fmt.Sprintf("%s (%s)", host.names[0], host.at))
			}
		}
	}
	slices.Sort(others)
	return slices.Compact(others)
}

// A host is one that a configuration has, and what it is told, as text.
type host struct {
	names    []string
	at, told string
}

// hostsOf are the hosts of a server, by their place among one another.
func hostsOf(one *server.Server) map[int]host {
	hosts := map[int]host{}
	var forAll strings.Builder
	is := func(n *directives.Node) bool {
		return one.Kind == server.Nginx && n.Is("server") || one.Kind == server.Apache && n.Is("VirtualHost")
	}
	var inner func(nodes []*directives.Node)
	inner = func(nodes []*directives.Node) {
		for _, n := range nodes {
			switch {
			case is(n):
				h := host{at: n.Place()}
				for _, d := range n.Body {
					if d.Is("server_name", "ServerName", "ServerAlias") {
						h.names = append(h.names, d.Args...)
					}
				}
				h.names = slices.DeleteFunc(h.names, func(name string) bool { return name == "" || name == "_" })
				var own strings.Builder
				written(&own, n.Body)
				h.told = own.String()
				hosts[len(hosts)] = h
			case one.Kind == server.Nginx && n.Is("http"):
				inner(n.Body)
			default:
				written(&forAll, []*directives.Node{n})
			}
		}
	}
	inner(one.Tree.Root)
	for i, h := range hosts {
		h.told += "\x00" + forAll.String()
		hosts[i] = h
	}
	return hosts
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
