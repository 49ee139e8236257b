package server

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"

	"weltaxis/internal/directives"
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
	mostPlaces = 300 // addresses, each in every spelling
	fewOpen    = 10  // of those that are open all the same
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
		case strings.HasPrefix(status.Text(), "2") && a.Text(answer.Login) == "" && !s.spared(u, a):
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
	places, unseen := s.closing(ask)
	for _, p := range places {
		if ctx.Err() != nil {
			return
		}
		for _, method := range []string{http.MethodGet, http.MethodHead, http.MethodPost} {
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
	if untold = cmp.Or(untold, unseen); len(open) == 0 && untold != "" {
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

// oneChallenge is what the answer to a challenge of a certificate is called (RFC 8555 §8.3): one name, by which it is no program.
var oneChallenge = regexp.MustCompile(`^[A-Za-z0-9_-]+$`)

// Where the challenges of certificates lie (RFC 8555 §8.3).
const challenges = "/.well-known/acme-challenge/"

// spared tells whether an answer is one of those that stay open: the site's robots.txt itself, or one file straight among the challenges of certificates.
func (s *Source) spared(u *url.URL, a *answer.Answer) bool {
	file := a.Text(answer.File)
	if a.Text(answer.Handler) != "static" || file == "" {
		return u.EscapedPath() == "/robots.txt" && a.Text(answer.Handler) == "return"
	}
	if path.Base(file) == "robots.txt" {
		return u.Path == "/robots.txt" || path.Dir(file) == s.Root()
	}
	return oneChallenge.MatchString(path.Base(file)) && strings.HasSuffix(path.Dir(file)+"/", challenges)
}

// asked works out what is answered to a request of another method.
func (s *Source) asked(u *url.URL, method string, assume []string) *answer.Answer {
	return s.work(probe{address: *u, assume: assume, method: method})
}

// closing are the addresses at which a site that is shut is to be: those that are worked out anyway, and one of each place that the configuration names. Unseen are places of which none can be made up, or that are
// more than are looked at.
func (s *Source) closing(ask Probes) (list []probe, unseen string) {
	add := func(p probe) {
		switch {
		case slices.ContainsFunc(list, func(o probe) bool { return o.address.String() == p.address.String() }):
		case len(list) < mostPlaces:
			list = append(list, p)
		default:
			unseen = fmt.Sprintf("it has more than %d places", mostPlaces)
		}
	}
	at := func(kind, target string, assume ...string) {
		u := *s.Address
		u.Path, u.RawPath, u.RawQuery = target, "", ""
		add(probe{kind: kind, address: u, assume: assume})
	}
	for _, p := range s.probes(ask) {
		if slices.Contains([]string{"home", "inner page", "asset", "sitemap", "missing", "spelling", "login", "readme"}, p.kind) {
			add(p)
		}
	}
	for _, file := range s.lyingThere() {
		at("file", file)
	}
	unseen = cmp.Or(unseen, s.places(func(target string) { at("place", target, target) }))
	return list, unseen
}

// places gives an address for each place that the configuration names, but for those that are meant to be open to all. Unseen is one of which none can be made up.
func (s *Source) places(give func(target string)) (unseen string) {
	for _, one := range s.Servers {
		for _, n := range one.Tree.All(placed[one.Kind]...) {
			targets, understood := s.targets(n)
			if !understood && unseen == "" && lifts(n.Body) { // what stands there else is asked for as all is
				unseen = "no address can be made up that " + n.String() + " (" + s.nearIn(n.Place()) + ") is meant for"
			}
			for _, target := range targets {
				if !meantOpen(target) {
					give(target)
				}
			}
		}
	}
	return unseen
}

// lifts tells whether something in a place may take the question for name and password away, or answers before it.
func lifts(body []*directives.Node) bool {
	return slices.ContainsFunc(body, func(n *directives.Node) bool {
		return n.Hole != "" || strings.Contains(n.Name, "_by_") ||
			n.Is("auth_basic", "auth_request", "satisfy", "return", "rewrite", "include", "Require", "RequireAny", "RequireAll", "RequireNone", "Satisfy", "AuthMerging", "AuthType", "Allow", "Order") || lifts(n.Body)
	})
}

// meantOpen tells whether an address is one that a lock leaves open, or what an expression for such a one begins with.
func meantOpen(target string) bool {
	return strings.HasPrefix(target, "/robots") && strings.HasPrefix("/robots.txt", target) || strings.HasPrefix(target, "/.well-known/acme") && strings.HasPrefix(challenges, target) || strings.HasPrefix(target, challenges)
}

// placed are the directives of each server that name a place.
var placed = map[string][]string{Nginx: {"location"}, Apache: {"Alias", "ScriptAlias", "AliasMatch", "ScriptAliasMatch", "Location", "LocationMatch", "Directory", "DirectoryMatch", "Files", "FilesMatch"}}

// targets are addresses that a directive is meant for, as they might be called; understood is false where none could be made up.
func (s *Source) targets(n *directives.Node) (all []string, understood bool) {
	name, words := n.Arg(len(n.Args)-1), n.Args
	if n.Is("Alias", "ScriptAlias", "AliasMatch", "ScriptAliasMatch") {
		name = n.Arg(0)
	}
	expression := len(words) > 1 && strings.HasPrefix(words[0], "~") || n.Is("LocationMatch", "FilesMatch", "DirectoryMatch", "AliasMatch", "ScriptAliasMatch")
	if glued, is := strings.CutPrefix(name, "~"); is && len(words) == 1 { // location ~^/x
		name, expression = strings.TrimPrefix(glued, "*"), true
	}
	if expression {
		sample, known := sampleOf(name)
		switch {
		case !known:
			return nil, false
		case n.Is("Directory", "DirectoryMatch"):
			name = sample
		case strings.HasSuffix(sample, "/") && strings.HasPrefix(sample, "/"): // and what lies there
			return []string{sample, sample + token + ".html"}, true
		case strings.HasPrefix(sample, "/"):
			return []string{sample}, true
		default:
			return []string{"/" + token + sample, "/" + sample}, true
		}
	}
	switch {
	case n.Is("Files", "FilesMatch"):
		return []string{"/" + strings.NewReplacer("*", token, "?", "a").Replace(name)}, true
	case n.Is("Directory", "DirectoryMatch"):
		below, err := filepath.Rel(s.Root(), strings.NewReplacer("*", token, "?", "a").Replace(name))
		if s.Root() == "" || err != nil || below == ".." || strings.HasPrefix(below, "../") {
			return nil, true // it is not what is served, or an Alias leads there
		}
		return []string{path.Join("/", filepath.ToSlash(below), token+".html")}, true
	case !strings.HasPrefix(name, "/"): // a named location, which nobody asks for
		return nil, true
	case n.Arg(0) == "=":
		return []string{name}, true
	}
	return []string{name, strings.TrimSuffix(name, "/") + "/" + token + ".html"}, true
}

// maxSample is how long a text is at most that is made up for an expression.
const maxSample = 200

// sampleOf is a text that an expression fits, the shortest that its first ways lead to; known is false for one that is not understood here.
func sampleOf(expression string) (sample string, known bool) { return sampleWith(expression, nil) }

// sampleWith is that, with what some of its groups are to hold, by their numbers.
func sampleWith(expression string, groups map[int]string) (sample string, known bool) {
	parsed, err := syntax.Parse(expression, syntax.Perl)
	if err != nil {
		return "", false
	}
	var b strings.Builder
	var write func(e *syntax.Regexp)
	write = func(e *syntax.Regexp) {
		if held, is := groups[e.Cap]; is && e.Op == syntax.OpCapture {
			b.WriteString(held)
			return
		}
		switch times := 1; e.Op {
		case syntax.OpLiteral:
			b.WriteString(string(e.Rune))
		case syntax.OpCharClass:
			b.WriteRune(oneOf(e.Rune))
		case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
			b.WriteByte('a')
		case syntax.OpAlternate:
			write(e.Sub[0])
		case syntax.OpRepeat, syntax.OpPlus, syntax.OpConcat, syntax.OpCapture:
			if e.Op == syntax.OpRepeat {
				times = e.Min
			}
			for range min(times, maxSample) {
				for _, part := range e.Sub {
					if b.Len() < maxSample {
						write(part)
					}
				}
			}
		}
	}
	write(parsed)
	re, err := regexp.Compile(expression)
	return b.String(), err == nil && re.MatchString(b.String())
}

// oneOf is a sign of a class, a plain one where there is one.
func oneOf(pairs []rune) rune {
	for _, plain := range "a0A_-" {
		for i := 0; i+1 < len(pairs); i += 2 {
			if pairs[i] <= plain && plain <= pairs[i+1] {
				return plain
			}
		}
	}
	if len(pairs) == 0 {
		return 'a'
	}
	return pairs[0]
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
	for _, e := range s.below(tree.Entry{Path: strings.Trim(challenges, "/"), Kind: tree.Folder}) {
		switch {
		case len(addresses) >= 2*fewOpen:
			return addresses
		case e.Kind == tree.Folder:
			first(s.below(e))
		case !oneChallenge.MatchString(e.Base()):
			addresses = append(addresses, "/"+e.Path)
		}
	}
	return addresses
}
