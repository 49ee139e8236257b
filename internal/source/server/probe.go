package server

import (
	"cmp"
	"context"
	"net/http"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"weltaxis/internal/facts"
	"weltaxis/internal/progress"
	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/tree"
)

// Probes says which addresses are worked out beside those that every site has.
type Probes struct {
	Login   string   // path of the login page
	Inner   []string // paths of inner pages that others have seen
	Served  []string // paths of files that the server serves
	Uploads []string // folders of this machine that are for uploads
	Config  []string // configuration files, likewise
	// UsualUploads are names that folders for uploads usually have, at the top of what is served or one folder down.
	UsualUploads []string
	Hosts        []string // spellings of the site's host
	Cookies      []string // names of cookies that the site sets
	// Spellings are further spellings of addresses, in full.
	Spellings []string
	// Private tells of a file below what is served whether nobody outside should see it; nil where others look for those.
	Private func(file string) bool
}

// A probe is an address that is worked out, and why.
type probe struct {
	kind     string
	address  url.URL
	assume   []string // paths that are taken to be there
	signedIn bool     // with name and password that are right
	posted   bool     // a form is sent there
	method   string   // another than GET, or than POST where a form is sent
	cookie   string   // of somebody with a session
}

// programs are names that programs among the uploads may have; * stands for a made-up one. What shields one of them may forget another.
var programs = []string{"*.php", "*/*.php", "*.php.jpg", "*.PHP", "*.phtml", "*.phar", "*.pht", "*.php5", "*.php7", "*.php8", "*.cgi", "*.pl", "*.py", ".*.php"}

const (
	mostApart  = 60   // places that the server tells apart, each with and without encryption
	maxFolders = 40   // folders at the top that are asked whether they are listed, and as many more of either other kind
	maxLooked  = 2000 // folders that are looked into for that
)

// probes are all that are worked out.
func (s *Source) probes(ask Probes) (list []probe) {
	base := strings.TrimSuffix(s.Address.Path, "/")
	add := func(kind, target string, assume ...string) {
		u := *s.Address
		if reference, err := url.Parse(target); err == nil {
			u.Path, u.RawPath, u.RawQuery = reference.Path, reference.RawPath, reference.RawQuery
		}
		for _, p := range list {
			if p.address.String() == u.String() {
				return
			}
		}
		list = append(list, probe{kind: kind, address: u, assume: assume})
	}
	at := func(name string) string { return base + name }
	add("home", base+"/")
	for _, inner := range ask.Inner {
		add("inner page", inner)
	}
	if len(ask.Inner) == 0 {
		add("inner page", at("/"+token+"-page/"))
	}
	add("robots", "/robots.txt")
	add("sitemap", at("/sitemap.xml"))
	add("missing", at("/"+token+"/missing"))
	for i, served := range ask.Served {
		if i < 3 {
			add("asset", served)
		}
	}
	if len(ask.Served) == 0 {
		add("asset", at("/"+token+".css"), "/"+token+".css")
	}
	for _, folder := range s.uploads(ask) {
		for _, name := range programs {
			script := path.Join(folder, strings.ReplaceAll(name, "*", token))
			add("uploaded script", at(script), script)
		}
		picture := path.Join(folder, token+".jpg")
		add("uploaded picture", at(picture), picture)
		add(uploadedBehind, at(picture+"/"+token+".php"), picture)
	}
	hidden := at("/." + token)
	add("hidden file", hidden, "/."+token)
	for _, config := range ask.Config {
		if address := s.addressOf(config); address != "" {
			add("configuration", at(address), address)
		}
	}
	for _, name := range s.privates(ask.Private) {
		add("private file", at(name))
	}
	add("override file", at("/.htaccess"), "/.htaccess")
	add("back-up", at("/"+token+".sql"), "/"+token+".sql")
	for _, name := range s.readmes(s.uploads(ask)) {
		add("readme", at(name))
	}
	add("script with path", at("/"+token+".php/x"), "/"+token+".php")
	if ask.Login != "" {
		add("login", ask.Login)
	}
	folders := s.Folders()
	for _, f := range folders {
		add("folder", at(f))
	}
	if len(folders) == 0 {
		folder := "/" + token + "-folder/"
		add("folder", at(folder), folder)
	}
	for _, spelling := range ask.Spellings {
		if u, err := url.Parse(spelling); err == nil && !slices.ContainsFunc(list, func(p probe) bool { return p.address.String() == spelling }) {
			list = append(list, probe{kind: "spelling", address: *u})
		}
	}
	for _, host := range ask.Hosts {
		for _, scheme := range []string{"http", "https"} {
			u := *s.Address
			for _, kind := range []string{"spelling", "inner spelling"} { // what leads on at the front door may lead home from further in
				u.Scheme, u.Host, u.Path, u.RawQuery = scheme, host, at(map[string]string{"spelling": "/", "inner spelling": "/" + token + "-page/"}[kind]), ""
				if (scheme != s.Address.Scheme || host != s.Address.Host) && !slices.ContainsFunc(list, func(p probe) bool { return p.address.String() == u.String() }) {
					list = append(list, probe{kind: kind, address: u})
				}
			}
		}
	}
	room := mostApart
	apart := func(target string) {
		room--
		u, err := url.Parse(escaped(target))
		if err != nil || room < 0 {
			return
		}
		u = s.Address.ResolveReference(&url.URL{Path: at(u.Path)})
		for _, scheme := range []string{s.Address.Scheme, "http"} { // what leads on at the front door may not further in
			u := *u
			u.Scheme = scheme
			if !slices.ContainsFunc(list, func(p probe) bool { return p.address.String() == u.String() }) {
				list = append(list, probe{kind: facts.Place, address: u, assume: []string{target}})
			}
		}
	}
	apart("/" + token + ".css") // what is no page may stay where pages lead on
	s.places(apart)
	inner := false
	for _, p := range slices.Clone(list) {
		if main := p.kind == "home" || p.kind == "inner page" && !inner; main || p.kind == "login" {
			inner = inner || p.kind == "inner page"
			list = append(list, probe{kind: "posted", address: p.address, assume: p.assume, posted: true})
			if main && len(ask.Cookies) > 0 {
				list = append(list, probe{kind: "with a session", address: p.address, assume: p.assume, cookie: strings.Join(ask.Cookies, "="+token+"; ") + "=" + token})
			}
		}
	}
	return list
}

// readme is how files are called that come with a system and tell of it; the ending says that people are to read it.
var readme = regexp.MustCompile(`(?i)^((readme|read-me|licen[cs]e|copying|change-?log|release-?notes)([._-][a-z0-9-]+)?\.?(txt|md|markdown|rst|html?|xml)?|(changes|history|install|upgrad(e|ing)|version)([_-][a-z0-9-]+)?((\.[a-z]{2}|\.\d[\d.]*)?\.(txt|md|markdown|rst|xml))?)$`)

// maxReadmes is how many such files are asked about.
const maxReadmes = 20

// readmes are the addresses of such files, at the top of what is served and one folder down, but for those that somebody has uploaded.
func (s *Source) readmes(uploads []string) (found []string) {
	add := func(entries []tree.Entry) {
		for _, e := range entries {
			address := "/" + e.Path
			own := !slices.ContainsFunc(uploads, func(folder string) bool { return strings.HasPrefix(address, strings.TrimSuffix(folder, "/")+"/") })
			if own && e.Kind == tree.File && readme.MatchString(e.Base()) && len(found) < maxReadmes {
				found = append(found, escaped(address))
			}
		}
	}
	top := s.top()
	add(top)
	for _, e := range top {
		add(s.below(e))
	}
	return found
}

// maxPrivate is how many private files are asked about.
const maxPrivate = 40

// privates are the addresses of files that lie where the server serves and that nobody outside should see.
func (s *Source) privates(private func(file string) bool) (found []string) {
	if private == nil || s.Serving() == "" {
		return nil
	}
	queue := []string{""}
	for looked := 0; len(queue) > 0 && looked < maxLooked; looked++ {
		folder := queue[0]
		queue = queue[1:]
		entries, _ := s.lying().ReadDir(cmp.Or(folder, "."))
		for _, e := range entries {
			name := path.Join(folder, e.Base())
			switch {
			case e.Kind == tree.Folder:
				queue = append(queue, name)
			case e.Kind == tree.File && private(name):
				if found = append(found, escaped("/"+name)); len(found) == maxPrivate {
					return found
				}
			}
		}
	}
	return found
}

// lying are the files that the web server serves, nowhere when it is not known where they lie.
func (s *Source) lying() tree.Files {
	s.lies.Do(func() {
		root, _ := s.root()
		s.serves, _ = tree.Open(root) // in one that cannot be opened nothing lies that could be asked for
	})
	return s.serves
}

// top are the entries of the folder that is served; below, those of one of them, if it is a folder or leads to one.
func (s *Source) top() (entries []tree.Entry) {
	return s.below(tree.Entry{Path: ".", Kind: tree.Folder})
}

func (s *Source) below(folder tree.Entry) []tree.Entry {
	if folder.Kind != tree.Folder && folder.Kind != tree.Link {
		return nil
	}
	real, err := s.lying().Real(folder.Path)
	if err != nil {
		return nil
	}
	entries, _ := s.lying().ReadDir(real)
	return entries
}

// uploads are the addresses of the folders for uploads that are served.
func (s *Source) uploads(ask Probes) (found []string) {
	for _, folder := range ask.Uploads {
		if address := s.addressOf(folder); address != "" && !slices.Contains(found, address) {
			found = append(found, address)
		}
	}
	for _, name := range ask.UsualUploads {
		for _, e := range append([]tree.Entry{{Path: "."}}, s.top()...) {
			at, err := s.lying().Real(path.Join(e.Path, name))
			if err == nil && at != "." && !slices.Contains(found, "/"+at) {
				if _, err = s.lying().Lstat(at); err == nil {
					found = append(found, "/"+at)
				}
			}
		}
	}
	return found
}

// addressOf is the address below the site's of a path of this machine, "" when it is not below what is served.
func (s *Source) addressOf(p string) string {
	below, err := tree.Within(s.lying(), p)
	if err != nil || below == "." {
		return ""
	}
	return "/" + below
}

// Folders are the addresses of the site's folders, each ending in a slash, below the site's own: those at the top and one below, and deeper ones that have an override file or
// that the configuration names.
func (s *Source) Folders() (found []string) {
	if root, _ := s.root(); root == "" {
		return nil
	}
	add := func(address string, most int) {
		address = strings.TrimSuffix(address, "/") + "/"
		if len(found) < most && address != "/" && strings.HasPrefix(address, "/") && !slices.Contains(found, address) {
			found = append(found, address)
		}
	}
	type folder struct {
		address string
		depth   int
	}
	for queue, looked := []folder{{"/", 0}}, 0; len(queue) > 0 && looked < maxLooked; looked++ {
		at := queue[0]
		queue = queue[1:]
		entries, _ := s.lying().ReadDir(at.address)
		for _, e := range entries {
			switch {
			case e.Kind == tree.Folder && !strings.HasPrefix(e.Base(), "."):
				queue = append(queue, folder{at.address + e.Base() + "/", at.depth + 1})
				if at.depth < 2 {
					add(escaped(at.address+e.Base()), maxFolders)
				}
			case e.Base() == ".htaccess":
				add(escaped(at.address), 2*maxFolders)
			}
		}
	}
	for _, server := range s.Servers {
		for _, place := range server.Places() {
			if below, is := strings.CutPrefix(place, strings.TrimSuffix(s.Address.Path, "/")); is {
				add(escaped(below), 3*maxFolders)
			}
		}
		for _, name := range alone(s, server.Folders) {
			if address := s.addressOf(name); address != "" {
				add(escaped(address), 3*maxFolders)
			}
		}
	}
	return found
}

func escaped(path string) string { return (&url.URL{Path: path}).EscapedPath() }

// Served is what the servers make of a file of this machine, by the address it lies at: served, run, refused or elsewhere; "" when
// it lies nowhere that is served, or it cannot be told.
func (s *Source) Served(file string) (what string, at facts.Origin) {
	if len(s.Servers) == 0 || s.Address == nil {
		return "", at
	}
	address := s.addressOf(file)
	if address == "" {
		return "", at
	}
	u := *s.Address
	u.Path, u.RawPath, u.RawQuery = strings.TrimSuffix(u.Path, "/")+address, "", ""
	a := s.Work(&u)
	handler, status, found := a.Get(answer.Handler), a.Get(answer.Status), a.Get(answer.File)
	switch {
	case !handler.Known():
		return "", at
	case a.Text(answer.Denied) != "" || a.Text(answer.Login) != "":
		return "refused", cmp.Or(a.Get(answer.Denied).Origin, a.Get(answer.Login).Origin)
	case handler.Text() == "static" && status.Text() == "200":
		return "served", handler.Origin
	case handler.Text() == "program" && found.Known() && filepath.Base(found.Text()) == filepath.Base(file):
		return "run", handler.Origin
	case handler.Text() == "error":
		return "refused", handler.Origin
	case handler.Text() == "proxy":
		return "", at
	}
	return "elsewhere", handler.Origin
}

// uploadedBehind is a program's name behind that of a picture: a runtime that finds no such program runs the picture (cgi.fix_pathinfo), unless it goes by endings.
const uploadedBehind = "uploaded picture, with more behind it"

// runsBehind tells whether an answer comes of a runtime that is known to run a picture by a program's name behind it.
func (s *Source) runsBehind(p probe, a *answer.Answer) bool {
	picture := func(file string) bool { return strings.HasSuffix(file, p.assume[0]) }
	l, script, known := s.limitOf(p.address.Path, a, picture)
	return known && picture(script) && l.runs(script)
}

// Answers sees what the servers make of addresses.
func (s *Source) Answers(ctx context.Context, ask Probes) (facts.Seen, error) {
	var seen facts.Seen
	if len(s.Servers) == 0 || s.Address == nil || slices.ContainsFunc(s.Servers, (*Server).unread) {
		return seen, nil
	}
	seen.Answers, seen.Shadowed = []facts.Answer{}, []facts.Shadowed{}
	probes := s.probes(ask)
	for i, p := range probes {
		if ctx.Err() != nil {
			return seen, ctx.Err()
		}
		progress.Tell(ctx, "working out what the web server answers", i, len(probes))
		worked := s.work(p)
		if p.kind == uploadedBehind {
			if !s.runsBehind(p, worked) { // where it is not known to be otherwise, a runtime runs its own endings alone
				continue
			}
			p.kind = "uploaded picture"
			fact := s.Fact(p.kind, &p.address, worked)
			seen.Answers = append(seen.Answers, fact) // by another file than the one that is named
			continue
		}
		fact := s.Fact(p.kind, &p.address, worked)
		switch {
		case strings.HasPrefix(p.kind, "uploaded "):
			itself(&fact)
		case slices.Contains([]string{"home", "inner page", "spelling", "inner spelling", facts.Place}, p.kind):
			s.leads(&p.address, worked, fact.Cells)
			if p.kind == "home" || p.kind == "spelling" {
				s.certified(&p.address, fact.Cells)
			}
			fact.Cells["listens"] = s.listens(&p.address)
		}
		seen.Answers = append(seen.Answers, fact)
	}
	for _, server := range s.Servers {
		for _, shadowed := range alone(s, server.Shadowed) {
			shadowed.At, shadowed.By = s.near(shadowed.At), s.near(shadowed.By)
			shadowed.Directive, shadowed.Because = s.nearIn(shadowed.Directive), s.nearIn(shadowed.Because)
			seen.Shadowed = append(seen.Shadowed, shadowed)
		}
	}
	home := &seen.Answers[0]
	if v, known := home.Field("server_header"); known {
		seen.Add(facts.ServerTokens.Reading(v.Text(), home.OriginOf("server_header")))
	}
	if v, known := home.Field("body_limit"); known {
		seen.Add(facts.ServerBodyLimit.Reading(v.Number(), home.OriginOf("body_limit")))
	}
	s.about(&seen)
	s.shut(ctx, ask, &seen)
	return seen, nil
}

// itself tells apart what is run where it lies from an address that another program answers for: one that everything is
// handed to, as a site's only entry, runs nothing that somebody has uploaded.
func itself(a *facts.Answer) {
	runs, known := a.Field("runs_code")
	if !known || !runs.Bool() {
		return
	}
	switch file, known := a.Field("file"); {
	case !known:
		why := a.Why("file")
		a.Cells["runs_code"] = facts.Cell{Unknown: "it is run as a program if it is the one that is named: " + why.Because, Origin: why.Origin}
	case file.Text() == "":
		a.Cells["runs_code"] = facts.Cell{Unknown: "it is handed to a program, and nothing says which", Origin: a.OriginOf("runs_code")}
	case path.Base(file.Text()) != path.Base(strings.SplitN(a.Path(), "?", 2)[0]):
		origin := a.OriginOf("file")
		origin.Because = "another program answers for it: " + file.Text()
		a.Cells["runs_code"] = facts.Cell{Value: facts.BoolOf(false), Origin: origin}
	}
}

// about is what is told of the server as a whole.
func (s *Source) about(seen *facts.Seen) {
	for _, server := range s.Servers {
		if server.Kind != Apache {
			continue
		}
		a := s.ask(s.Address)
		a.Method = "TRACE"
		if status := alone(s, func() *answer.Answer { return server.Answer(a) }).Get(answer.Status); status.Known() {
			seen.Add(facts.ServerTrace.Reading(status.Text() == "200", s.near(status.Origin)))
		}
	}
}

// Fact is an answer as a fact. Files are named from the site's folder.
func (s *Source) Fact(kind string, u *url.URL, a *answer.Answer) facts.Answer {
	f := factOf(kind, u, a)
	if a.Keeping != nil {
		f.Cells["key_shared"] = s.sharesKey(u, a.Keeping)
	}
	for _, name := range []string{"file", "place"} {
		if cell, there := f.Cells[name]; there && cell.Unknown == "" {
			cell.Value = facts.TextOf(facts.String, s.nearIn(cell.Value.Text()))
			f.Cells[name] = cell
		}
	}
	return f
}

// sharesKey tells whether a cache of the server tells an address from another that comes to it by the same way. What a key is after
// addresses were rewritten within the server may be the same for all of them.
func (s *Source) sharesKey(u *url.URL, k *answer.Keeping) facts.Cell {
	other := *u
	other.Path = strings.TrimSuffix(u.Path, "/") + "/" + token + "/"
	other.RawPath = ""
	there := s.Work(&other).Keeping
	at := s.near(k.Origin)
	switch {
	case k.Unsure != nil:
		return facts.Cell{Unknown: s.nearIn(k.Unsure.Because), Origin: at}
	case there == nil: // no other address comes here
		return facts.Cell{Value: facts.BoolOf(false), Origin: at}
	case there.Unsure != nil:
		return facts.Cell{Unknown: s.nearIn(there.Unsure.Because), Origin: at}
	}
	return facts.Cell{Value: facts.BoolOf(there.Zone == k.Zone && there.Key.S == k.Key.S), Origin: at}
}

func factOf(kind string, u *url.URL, a *answer.Answer) facts.Answer {
	f := facts.Answer{Kind: kind, Address: u.String(), Cells: map[string]facts.Cell{}}
	put := func(name string, told answer.Told, value func(string) (facts.Value, bool)) {
		if told.Unknown != nil {
			f.Cells[name] = facts.Cell{Unknown: told.Unknown.Because, Origin: told.Unknown.Origin}
			return
		}
		if v, ok := value(told.Text()); ok {
			told.Origin.Because = told.Because
			f.Cells[name] = facts.Cell{Value: v, Origin: told.Origin}
		}
	}
	text := func(s string) (facts.Value, bool) { return facts.TextOf(facts.String, s), true }
	yes := func(s string) (facts.Value, bool) { return facts.BoolOf(s != ""), true }
	number := func(s string) (facts.Value, bool) {
		n, err := strconv.ParseInt(s, 10, 64)
		return facts.NumberOf(facts.Int, n), err == nil
	}
	orMinus := func(s string) (facts.Value, bool) {
		n, err := strconv.ParseInt(s, 10, 64)
		if err != nil {
			n = -1
		}
		return facts.NumberOf(facts.Int, n), true
	}
	put("server", a.Get(answer.Server), text)
	put("place", a.Get(answer.Place), text)
	put("status", a.Get(answer.Status), number)
	put("location", a.Get(answer.Location), text)
	handler := a.Get(answer.Handler)
	put("handler", handler, func(s string) (facts.Value, bool) { return facts.TextOf(facts.Words, s), s != "" })
	put("file", a.Get(answer.File), text)
	runs := a.Get(answer.Runs)
	if handler.Known() && handler.Text() == "proxy" { // whoever it is handed to decides
		runs = answer.Told{Unknown: &facts.Reason{Because: "it is handed to another server, which decides", Origin: handler.Origin}}
	}
	put("runs_code", runs, yes)
	leaks := answer.Told{Origin: cmp.Or(runs.Origin, handler.Origin), Because: runs.Because}
	if !handler.Known() {
		leaks = handler
	} else if handler.Text() == "static" && isProgram(a.Text(answer.File)) {
		leaks.Values = []string{"yes"}
	}
	put("leaks_source", leaks, yes)
	put("asks_login", a.Get(answer.Login), yes)
	put("denied", a.Get(answer.Denied), yes)
	listed := handler
	if bare := a.Get(answer.Bare); handler.Known() && len(bare.Values) > 0 {
		listed = answer.Told{Origin: bare.Origin, Because: "every file is left out of the list"}
	} else if handler.Known() && handler.Text() != "listing" {
		listed.Values = nil
	}
	put("listed", listed, yes)
	header := func(name string) answer.Told { return a.Get(answer.Header(name)) }
	put("compressed", header("content-encoding"), yes)
	put("vary", header("vary"), text)
	put("cache_control", header("cache-control"), text)
	put("max_age", header("cache-control"), func(s string) (facts.Value, bool) { return orMinus(maxAge(s)) })
	put("etag", header("etag"), yes)
	put("content_type", header("content-type"), text)
	put("hsts", header("strict-transport-security"), text)
	put("nosniff", header("x-content-type-options"), text)
	put("framing", header("x-frame-options"), text)
	put("referrer", header("referrer-policy"), text)
	put("content_policy", header("content-security-policy"), text)
	put("permissions_policy", header("permissions-policy"), text)
	put("robots_header", header("x-robots-tag"), text)
	put("server_header", header("server"), text)
	derived(a, f.Cells)
	put("zone", a.Get(answer.Zone), text)
	put("valid_seconds", a.Get(answer.Valid), orMinus)
	if k := a.Keeping; k != nil {
		put("error_seconds", keepsErrors(k), number)
	}
	put("cache_key", a.Get(answer.Key), text)
	put("bypass_on", a.Get(answer.Bypass), text)
	put("stores_private", a.Get(answer.Private), yes)
	put("body_limit", a.Get(answer.Body), func(s string) (facts.Value, bool) {
		n, err := strconv.ParseInt(s, 10, 64)
		return facts.NumberOf(facts.Size, n), err == nil
	})
	put("rate_limited", a.Get(answer.Rate), yes)
	return f
}

// keepsErrors is how long a cache keeps that an address is not there, or that the site is closed, the longer of both.
func keepsErrors(k *answer.Keeping) answer.Told {
	if k.Unsure != nil {
		return answer.Told{Unknown: k.Unsure, Origin: k.Unsure.Origin}
	}
	var longest answer.Kept
	for _, status := range []int{http.StatusNotFound, http.StatusServiceUnavailable} {
		if kept := k.Keeps(&answer.Program{Status: status, Header: map[string]string{}}, time.Time{}); kept.Lifetime >= longest.Lifetime {
			longest = kept
		}
	}
	return answer.Told{Values: []string{strconv.Itoa(int(longest.Lifetime.Seconds()))}, Origin: longest.Origin, Because: longest.Because}
}

// isProgram tells whether a file's name is that of a program.
func isProgram(file string) bool {
	return slices.Contains(strings.Fields(facts.ProgramEndings), strings.ToLower(strings.TrimPrefix(path.Ext(file), ".")))
}

// maxAge is the max-age of a Cache-Control (RFC 9111 §5.2.2.1).
func maxAge(header string) string {
	for _, part := range strings.Split(header, ",") {
		if n, is := strings.CutPrefix(strings.ToLower(strings.TrimSpace(part)), "max-age="); is {
			return strings.Trim(n, `"`)
		}
	}
	return ""
}
