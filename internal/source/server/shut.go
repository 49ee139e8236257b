package server

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/spelt"
	"weltaxis/internal/tree"
)

// How a site is shut by what its server has been told.
const (
	ByLock   = "lock"   // it asks for name and password at the home page
	ByNotice = "notice" // it answers 503 there
	NotShut  = "open"
)

// The bounds of what is worked out for a site that is shut.
const (
	mostPlaces = 60 // addresses, each in every spelling
	fewOpen    = 10 // of those that are open all the same
)

// shut says how the server shuts the site by its configuration, and where a stranger gets something from it all the same: at the addresses of each place that it serves, written in every way, and at the
// site's other hosts. What stays open for everybody's sake (robots.txt, certificate challenges) is none of that, as long as it serves that file.
func (s *Source) shut(ctx context.Context, ask Probes, seen *facts.Seen) {
	home := s.Work(s.Address)
	how := shutBy(home)
	if how == "" {
		return
	}
	at := home.Get(answer.Status).Origin
	if how == ByLock {
		at = home.Get(answer.Login).Origin
	}
	seen.Add(facts.ServerShut.Reading(how, s.near(at)))
	if how == NotShut {
		return
	}
	open, untold := []string{}, ""
	look := func(u *url.URL, method string, assume []string) {
		a := s.asked(u, method, assume)
		status := a.Get(answer.Status)
		switch {
		case !status.Known():
			if untold == "" {
				untold = u.String() + ": " + status.Unknown.Because
			}
		case how == ByNotice && a.Text(answer.Handler) == "static" && !strings.HasPrefix(a.Text(answer.Header("content-type")), "text/html"): // the notice may need it
		case strings.HasPrefix(status.Text(), "2") && a.Text(answer.Login) == "" && !spared(u, a):
			where := s.near(a.Get(answer.Place).Origin)
			text := u.Scheme + "://" + u.Host + u.RequestURI()
			if method != http.MethodGet {
				text = method + " " + text
			}
			if said := where.String(); said != "" {
				text += " (" + said + ")"
			}
			if len(open) < fewOpen && !slices.Contains(open, text) {
				open = append(open, text)
			}
		}
	}
	for _, p := range s.closing(ask) {
		if ctx.Err() != nil {
			return
		}
		for _, method := range []string{http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodPost} {
			look(&p.address, method, p.assume)
		}
		if p.address.Host != s.Address.Host || p.address.Scheme != s.Address.Scheme || p.assume != nil { // what is only taken to be there would be there by every name
			continue
		}
		for _, target := range spelt.Of(p.address.RequestURI()) {
			if u, err := url.Parse(s.Address.Scheme + "://" + s.Address.Host + target); err == nil {
				look(u, http.MethodGet, nil)
			}
		}
	}
	if len(open) == 0 && untold != "" {
		seen.AddGap(facts.Gap{Source: facts.Server, What: "what stays open of a site that is shut", Because: untold, Names: []string{facts.ServerShutOpen.Name}})
		return
	}
	seen.Add(facts.ServerShutOpen.Reading(open, s.near(at)))
}

// shutBy is how an answer at the home page shuts the site; "" where that cannot be told.
func shutBy(a *answer.Answer) string {
	switch status := a.Get(answer.Status); {
	case a.Get(answer.Login).Known() && a.Text(answer.Login) != "":
		return ByLock
	case !status.Known() && slices.Contains([]string{"program", "proxy"}, a.Text(answer.Handler)): // which decides by itself
		return NotShut
	case !status.Known():
		return ""
	case status.Text() == fmt.Sprint(http.StatusServiceUnavailable):
		return ByNotice
	}
	return NotShut
}

// spared tells whether an answer is one of those that stay open: robots.txt itself, or one file straight among the challenges of certificates.
func spared(u *url.URL, a *answer.Answer) bool {
	file := a.Text(answer.File)
	switch {
	case a.Text(answer.Handler) != "static" || file == "":
		return u.EscapedPath() == "/robots.txt" && a.Text(answer.Handler) == "return"
	case path.Base(file) == "robots.txt":
		return true
	}
	return path.Base(path.Dir(file)) == "acme-challenge"
}

// asked works out what is answered to a request of another method.
func (s *Source) asked(u *url.URL, method string, assume []string) *answer.Answer {
	return s.work(probe{address: *u, assume: assume, method: method})
}

// closing are the addresses at which a site that is shut is to be: those that are worked out anyway, and one of each place that the configuration names.
func (s *Source) closing(ask Probes) (list []probe) {
	add := func(p probe) {
		if len(list) < mostPlaces && !slices.ContainsFunc(list, func(o probe) bool { return o.address.String() == p.address.String() }) {
			list = append(list, p)
		}
	}
	for _, p := range s.probes(ask) {
		if slices.Contains([]string{"home", "inner page", "asset", "sitemap", "missing", "spelling", "login", "readme"}, p.kind) {
			add(p)
		}
	}
	for _, file := range s.lyingThere() {
		u := *s.Address
		u.Path, u.RawPath, u.RawQuery = file, "", ""
		add(probe{kind: "file", address: u})
	}
	for _, one := range s.Servers {
		names := []string{"location"}
		if one.Kind == Apache {
			names = []string{"Alias", "ScriptAlias", "Location"}
		}
		for _, n := range one.Tree.All(names...) {
			name, exact := n.Arg(len(n.Args)-1), n.Arg(0) == "="
			if n.Is("Alias", "ScriptAlias") {
				name = n.Arg(0)
			}
			if !strings.HasPrefix(name, "/") || strings.HasPrefix(n.Arg(0), "~") {
				continue
			}
			for _, target := range []string{name, strings.TrimSuffix(name, "/") + "/" + token + ".html"} {
				u := *s.Address
				u.Path, u.RawPath, u.RawQuery = target, "", ""
				if exempt := target == "/robots.txt" || strings.HasPrefix(target, "/.well-known/acme-challenge"); !exempt && (!exact || target == name) {
					add(probe{kind: "place", address: u, assume: []string{target}})
				}
			}
		}
	}
	return list
}

// lyingThere are addresses of files that lie in what is served: one at its top, and one in each of the first folders.
func (s *Source) lyingThere() (addresses []string) {
	first := func(entries []tree.Entry) {
		if i := slices.IndexFunc(entries, func(e tree.Entry) bool {
			return e.Kind == tree.File && !strings.HasPrefix(e.Base(), ".") && e.Base() != "robots.txt"
		}); i >= 0 {
			addresses = append(addresses, "/"+entries[i].Path)
		}
	}
	top := s.top()
	first(top)
	for _, e := range top {
		if e.Kind == tree.Folder && len(addresses) < fewOpen {
			first(s.below(e))
		}
	}
	// Among the challenges of certificates only what lies straight there is to be had, and no program.
	challenges := s.below(tree.Entry{Path: ".well-known/acme-challenge", Kind: tree.Folder})
	for _, e := range challenges {
		switch {
		case e.Kind == tree.Folder:
			first(s.below(e))
		case runtimeFile.MatchString(e.Path):
			addresses = append(addresses, "/"+e.Path)
		}
		if len(addresses) >= 2*fewOpen {
			break
		}
	}
	return addresses
}
