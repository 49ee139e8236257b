package steps

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/site"
	"weltaxis/internal/source/live"
	"weltaxis/internal/source/server"
	"weltaxis/internal/tree"
)

// Server reads what the web servers have been told: which there are, and which folder they serve.
var Server = &gather.Step[*server.Source]{
	Name: "server", Source: facts.Server,
	Asked: func(ask gather.Request) bool { return ask.Site.Sources.Server != nil },
	Where: whereServer,
	Gather: func(ctx context.Context, ask gather.Request, _ gather.Results) (*server.Source, facts.Seen, error) {
		servers, gaps := Servers(ask.Site)
		seen, err := servers.Layout(ctx, gaps)
		if outside := ServedOutside(ask.Site, servers); outside != "" {
			seen.AddGap(facts.Gap{Source: facts.Server, What: "which folder is served", Kind: facts.Failed, Because: outside})
		}
		if err == nil && len(servers.Servers) == 0 {
			err = gather.ErrUnseen
		}
		return servers, seen, err
	},
}

// Answers works out what the web servers make of addresses.
var Answers = &gather.Step[nothing]{
	Name: "answers", Source: facts.Server, Requires: []gather.Any{Server}, Uses: []gather.Any{Settings, Live},
	Without: facts.Gap{What: "what the web server answers", Names: []string{facts.ListAnswers, facts.ListShadowed}},
	Gather: func(ctx context.Context, ask gather.Request, of gather.Results) (nothing, facts.Seen, error) {
		servers, _ := Server.Of(of)
		told, _ := Settings.Of(of)
		found, _ := Live.Of(of)
		names, _ := servers.Names()
		seen, err := servers.Answers(ctx, probes(ask.Site, ask.Dialect, told.LoginPath, found, names))
		return nothing{}, seen, err
	},
}

// whereServer is where the configuration of the web server is looked for.
func whereServer(ask gather.Request, found *server.Source) string {
	var files []string
	for _, part := range ask.Site.Sources.Server.Chain {
		files = append(files, part.Nginx+part.Apache)
	}
	if found != nil && len(files) == 0 {
		for _, one := range found.Servers {
			files = append(files, one.File)
		}
	}
	return cmp.Or(strings.Join(files, ", "), "where systems put it")
}

// ServedOutside says that what the servers serve of a site lies outside of the folders that the site file names; "" where it does not, or nobody can tell.
func ServedOutside(s *site.Site, servers *server.Source) string {
	served := servers.Serving()
	roots := s.Roots()
	if served == "" || len(roots) == 0 {
		return ""
	}
	for _, root := range roots {
		in, err := tree.Open(root)
		if err != nil {
			return "" // looking at it says what is wrong
		}
		_, err = tree.Within(in, served)
		in.Close()
		if err == nil {
			return ""
		}
	}
	return fmt.Sprintf("the web server serves the site from %s, which does not lie below %s; where this is a copy, its configuration names the original. What the server is told is not changed", served, roots[0])
}

// Servers are the web servers of a site, and what of their configuration could not be read.
func Servers(s *site.Site) (*server.Source, []facts.Gap) { return ServersWith(nil, s) }

// ServersWith are those with some files as they might be.
func ServersWith(files server.Overlay, s *site.Site) (*server.Source, []facts.Gap) {
	var configs []server.Config
	for _, part := range s.Sources.Server.Chain {
		if part.Nginx != "" {
			configs = append(configs, server.Config{Kind: server.Nginx, File: s.Resolve(part.Nginx)})
		} else {
			configs = append(configs, server.Config{Kind: server.Apache, File: s.Resolve(part.Apache)})
		}
	}
	var address *url.URL
	connect := map[string]string(nil)
	if u, err := url.Parse(s.Address()); err == nil && u.Host != "" {
		address = u
	}
	if s.Sources.Live != nil {
		connect = s.Sources.Live.Connect
	}
	servers, gaps := server.Open(files, configs, address, connect)
	servers.Dir = s.Dir
	servers.Lies(s.Roots())
	servers.Limits = limits(files, s, servers)
	if address == nil {
		gaps = append(gaps, facts.Gap{Source: facts.Server, What: "what the web server answers", Kind: facts.Failed, Because: "the site file does not say the site's address; say intent.address", Names: []string{facts.ListAnswers, facts.ListShadowed}})
	}
	return servers, gaps
}

// probes are the addresses that the server's configuration is asked about: those that others have found, and those that the
// dialect's roles make worth asking.
func probes(s *site.Site, d *dialect.Dialect, login string, found live.Found, names []string) server.Probes {
	p := server.Probes{Login: login, Inner: found.Inner, Served: found.Served, Spellings: found.Spellings, Cookies: found.Cookies}
	matcher := dialect.NewMatcher(d)
	if root := s.Root(); root != "" {
		for _, folder := range matcher.Folders(dialect.Uploads) {
			p.Uploads = append(p.Uploads, filepath.Join(root, folder))
		}
		for _, file := range matcher.Exact(dialect.Config) {
			p.Config = append(p.Config, filepath.Join(root, file))
		}
	}
	p.UsualUploads = matcher.Usual(dialect.Uploads)
	if s.Sources.Files == nil {
		p.Private = func(file string) bool {
			return slices.Contains([]string{dialect.Private, dialect.Backup}, matcher.Role(file, matcher.Folder(path.Dir(file))))
		}
	}
	if u, err := url.Parse(s.Said("address")); err == nil && u.Host != "" {
		p.Hosts = []string{u.Host, otherHost(u.Host)}
		if u.Port() == "" {
			for _, host := range append(s.SaidList("aliases"), names...) {
				if !slices.ContainsFunc(p.Hosts, func(known string) bool { return strings.EqualFold(known, host) }) && len(p.Hosts) < mostHosts {
					p.Hosts = append(p.Hosts, strings.ToLower(host))
				}
			}
		}
	}
	return p
}

// Probes are the addresses that the configuration of a site's servers is asked about, as an earlier look has found them.
func Probes(s *site.Site, d *dialect.Dialect, hints facts.Hints) server.Probes {
	var names []string
	if s.Sources.Server != nil {
		servers, _ := Servers(s)
		names, _ = servers.Names()
	}
	return probes(s, d, hints.First(facts.LoginPathHint), live.Found{Inner: hints[facts.InnerPathHint], Served: hints[facts.ServedPathHint], Spellings: hints[facts.SpellingHint], Cookies: hints[facts.CookieHint]}, names)
}

// mostHosts is how many host names a server's configuration is asked about.
const mostHosts = 12

// otherHost is a host with www in front, or without it.
func otherHost(host string) string {
	if bare, is := strings.CutPrefix(host, "www."); is {
		return bare
	}
	return "www." + host
}
