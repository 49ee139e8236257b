package nginx

import (
	"fmt"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

func number(text string) int {
	n, _ := strconv.Atoi(text)
	return n
}

// passing are the directives that hand a request on.
var passing = []string{"proxy_pass", "fastcgi_pass", "uwsgi_pass", "scgi_pass", "grpc_pass", "memcached_pass"}

// passes is the directive that hands requests of a level on. It is not inherited but by an if.
func passes(l *level) *directives.Node {
	for at := l; at != nil; at = at.outer {
		if found := at.own(passing...); len(found) > 0 {
			return found[0]
		}
		if !at.inIf {
			return nil
		}
	}
	return nil
}

// content makes the answer.
func (r *request) content() {
	if why := r.loc.unsure(func(k class) bool { return k == answers }); why != nil && r.g.Either(*why) {
		r.unknown(*why)
		return
	}
	if n := passes(r.loc); n != nil {
		r.pass(n)
		return
	}
	if found := r.loc.own("stub_status", "empty_gif"); len(found) > 0 {
		own := found[0]
		r.a.Say(answer.Handler, at(own), "return")
		body := reply{status: http.StatusOK, kind: "text/plain", origin: at(own)}
		if own.Is("empty_gif") {
			body.kind, body.dated = "image/gif", true
		}
		r.send(body)
		return
	}
	if r.uri.Why != nil {
		r.unknown(*r.uri.Why)
		return
	}
	if r.uri.S == "" || r.uri.S[0] != '/' {
		r.special(http.StatusInternalServerError, r.placeOrigin(), nil)
		return
	}
	if alias := r.loc.aliased(); alias != nil && !r.inPlace && r.aliasPrefix(alias) >= 0 {
		r.special(http.StatusInternalServerError, at(alias), alias)
		return
	}
	if strings.HasSuffix(r.uri.S, "/") {
		r.folder()
		return
	}
	r.static()
}

func (r *request) placeOrigin() facts.Origin { return at(r.loc.node) }

// folder answers for an address that ends in a slash: with an index file, a listing, or not at all.
func (r *request) folder() {
	file, answers := r.fromDisk()
	if !answers {
		return
	}
	indexes, _ := r.loc.list("index")
	names := []string{"index.html"}
	origin := facts.Origin{Default: "nginx"}
	if len(indexes) > 0 {
		names, origin = nil, at(indexes[0])
		for _, n := range indexes {
			names = append(names, n.Args...)
		}
	}
	for i, name := range names {
		if strings.HasPrefix(name, "/") && i == len(names)-1 {
			r.a.Then(origin, "the index is "+name)
			r.goTo(answer.Known(name), r.args.S)
			return
		}
		value := r.expand(name, r.loc.node)
		if value.Why != nil {
			r.unknown(*value.Why)
			return
		}
		entry := r.disk.Look(file.S + value.S)
		if entry.Is == answer.Unseen && r.g.Either(facts.Reason{Because: entry.Why, Origin: origin}) || entry.Is == answer.AFile {
			r.a.Then(origin, "its index is "+value.S)
			r.goTo(answer.Known(r.uri.S+value.S), r.args.S)
			return
		}
		if entry.Is == answer.NoEntry && i == 0 {
			if dir := r.disk.Look(strings.TrimSuffix(file.S, "/")); dir.Is == answer.NoEntry || dir.Is == answer.AFile {
				r.special(http.StatusNotFound, r.rootOrigin(), nil)
				return
			}
		}
	}
	if listed, n := r.loc.on("autoindex", false); listed && r.method != http.MethodPost {
		if dir := r.disk.Look(strings.TrimSuffix(file.S, "/")); dir.Is != answer.AFolder {
			r.special(http.StatusNotFound, r.rootOrigin(), n)
			return
		}
		r.a.Say(answer.Handler, at(n), "listing")
		r.a.Say(answer.File, r.rootOrigin(), file.S)
		r.a.Then(at(n), "its files are listed: autoindex on")
		kind := "text/html"
		if format := r.loc.find("autoindex_format"); format != nil {
			kind = map[string]string{"xml": "text/xml", "json": "application/json", "jsonp": "application/javascript"}[format.Arg(0)]
			if kind == "" {
				kind = "text/html"
			}
		}
		r.send(reply{status: http.StatusOK, kind: kind, length: -1, origin: at(n)})
		return
	}
	r.a.Then(origin, "the folder has no index and is not listed")
	r.special(http.StatusForbidden, origin, nil)
}

func (r *request) rootOrigin() facts.Origin {
	if alias := r.loc.aliased(); alias != nil {
		return at(alias)
	}
	return at(r.loc.find("root"))
}

// fromDisk is the path that an address stands for; false when the request has been answered, since it is none that a file
// answers or the path is not known.
func (r *request) fromDisk() (file answer.Text, answers bool) {
	if r.method != http.MethodGet && r.method != http.MethodHead && r.method != http.MethodPost {
		r.special(http.StatusMethodNotAllowed, r.placeOrigin(), nil)
		return file, false
	}
	if file = r.file(); file.Why != nil {
		r.unknown(*file.Why)
		return file, false
	}
	return file, true
}

// static answers with a file.
func (r *request) static() {
	file, answers := r.fromDisk()
	if !answers {
		return
	}
	entry := r.disk.Look(file.S)
	if entry.Is != answer.Unseen && r.followsNone(file.S) {
		return
	}
	switch entry.Is {
	case answer.Unseen:
		r.unknown(facts.Reason{Because: entry.Why, Origin: r.rootOrigin()})
	case answer.NoEntry:
		r.a.Then(r.rootOrigin(), "there is no file "+file.S)
		r.special(http.StatusNotFound, r.rootOrigin(), nil)
	case answer.AFolder:
		target := escaped(r.uri.S) + "/"
		if r.args.S != "" {
			target += "?" + r.args.S
		}
		r.redirect(http.StatusMovedPermanently, answer.Known(target), r.rootOrigin())
	case answer.AFile:
		if r.method == http.MethodPost {
			r.special(http.StatusMethodNotAllowed, r.placeOrigin(), nil)
			return
		}
		r.a.Then(r.rootOrigin(), "the file "+path.Clean(file.S)+" is served as it is")
		r.a.Say(answer.Handler, r.rootOrigin(), "static")
		r.a.Say(answer.File, r.rootOrigin(), path.Clean(file.S))
		r.a.Lack(answer.Runs, r.placeOrigin(), "no directive here hands it to a runtime")
		kind, origin := r.kind()
		r.send(reply{status: http.StatusOK, kind: kind, kindOrigin: origin, length: entry.Size, static: true, origin: r.rootOrigin()})
	}
}

// followsNone has it refused where it is a link, or lies behind one, that is not to be followed.
func (r *request) followsNone(file string) bool {
	n := r.loc.find("disable_symlinks")
	if n == nil || n.Arg(0) == "off" {
		return false
	}
	from := "/"
	if said, is := strings.CutPrefix(n.Arg(1), "from="); is {
		if folder := r.expand(said, n); folder.Why == nil {
			from = folder.S
		}
	}
	if !answer.Linked(r.disk, from, file) {
		return false
	}
	if n.Arg(0) == "if_not_owner" {
		alike, known := answer.OwnersAlike(r.disk, from, file)
		if !known {
			alike = r.g.Either(facts.Reason{Because: "whose the link and the file are is not known", Origin: at(n)})
		}
		if alike {
			return false
		}
	}
	r.a.Then(at(n), "a link lies on the way to "+file)
	status := http.StatusForbidden
	if n.Arg(0) == "on" && answer.Linked(r.disk, from, path.Dir(path.Clean(file))) { // the system says of a link within that it is no folder
		status = http.StatusNotFound
	}
	r.special(status, at(n), n)
	return true
}

// kind is the type of what is served, by the ending of the address.
func (r *request) kind() (string, facts.Origin) {
	ending := strings.ToLower(strings.TrimPrefix(path.Ext(path.Base(r.uri.S)), "."))
	if path.Base(r.uri.S) == "."+ending && strings.Count(path.Base(r.uri.S), ".") == 1 {
		ending = "" // a dot file has no ending
	}
	types, _ := r.loc.list("types")
	if types == nil && ending != "" {
		if kind, is := map[string]string{"html": "text/html", "gif": "image/gif", "jpg": "image/jpeg"}[ending]; is {
			return kind, facts.Origin{Default: "nginx"}
		}
	}
	for _, block := range types {
		for _, line := range block.Body {
			for _, e := range line.Args {
				if ending != "" && strings.EqualFold(e, ending) {
					return line.Name, at(line)
				}
			}
		}
	}
	if n := r.loc.find("default_type"); n != nil {
		return r.expand(n.Arg(0), n).S, at(n)
	}
	return "text/plain", facts.Origin{Default: "nginx"}
}

// pass hands the request on to a program or to another server.
func (r *request) pass(n *directives.Node) {
	kind := strings.TrimSuffix(n.Name, "_pass")
	handler, what := "proxy", "it is passed on to "+n.Arg(0)
	if kind == "fastcgi" || kind == "uwsgi" || kind == "scgi" {
		handler, what = "program", "it is run as a program, by "+n.Arg(0)
	}
	r.a.Then(at(n), what)
	r.a.Say(answer.Handler, at(n), handler)
	switch kind {
	case "fastcgi":
		r.a.Say(answer.Runs, at(n), "yes")
		r.fastcgi(n)
	case "proxy":
		r.a.Lack(answer.Runs, at(n), "what it is passed on to decides")
		r.proxy(n)
	case "uwsgi", "scgi":
		r.a.Say(answer.Runs, at(n), "yes")
		r.a.Hide(answer.File, facts.Reason{Because: "what " + n.Name + " runs is not evaluated", Origin: at(n)})
	default:
		r.a.Hide(answer.File, facts.Reason{Because: "what " + n.Name + " asks for is not evaluated", Origin: at(n)})
	}
	r.cache(kind)
	program := r.ask.Program
	if program == nil {
		r.fromProgram(n, kind)
		return
	}
	status := program.Status
	intercepts, in := r.loc.on(kind+"_intercept_errors", false)
	if intercepts && status >= 300 && len(r.errorPages(status)) > 0 && !r.errorPage {
		r.a.Then(at(in), fmt.Sprintf("it answers %d, which the server takes over", status))
		r.special(status, at(in), in)
		return
	}
	r.send(reply{status: status, kind: program.Header["content-type"], length: int64(program.Length), header: r.fromHeaders(kind, program), origin: at(n), upstream: n})
}

// letsThrough is the line that lets a header of a program through; nil when there is none.
func (r *request) letsThrough(p reply, header string) *directives.Node {
	if p.upstream == nil {
		return nil
	}
	passed, _ := r.loc.list(strings.TrimSuffix(p.upstream.Name, "_pass") + "_pass_header")
	for _, n := range passed {
		if strings.EqualFold(n.Arg(0), header) {
			return n
		}
	}
	return nil
}

// fromHeaders are the headers of a program that are passed on.
func (r *request) fromHeaders(kind string, program *answer.Program) map[string]string {
	header := map[string]string{}
	hidden, _ := r.loc.list(kind + "_hide_header")
	passed, _ := r.loc.list(kind + "_pass_header")
	drop := map[string]bool{"date": true, "server": true, "x-pad": true, "status": kind == "fastcgi"}
	for name := range program.Header {
		if strings.HasPrefix(name, "x-accel-") {
			drop[name] = true
		}
	}
	for _, n := range hidden {
		drop[strings.ToLower(n.Arg(0))] = true
	}
	for _, n := range passed {
		drop[strings.ToLower(n.Arg(0))] = false
	}
	for name, value := range program.Header {
		if !drop[name] {
			header[name] = value
		}
	}
	return header
}

// script is the path that a program is asked for, and what follows it.
func (r *request) script() (script, info answer.Text) {
	name := r.uri
	if split := r.loc.find("fastcgi_split_path_info"); split != nil && name.Why == nil {
		groups, named := r.groups, r.named
		found, wrong := r.patterns.Compile(split.Arg(0), false).Find(name.S)
		r.groups, r.named = groups, named
		if wrong != "" {
			return answer.Text{Why: &facts.Reason{Because: wrong, Origin: at(split)}}, answer.Known("")
		}
		if found != nil && len(found.Groups) > 2 {
			name, info = answer.Known(found.Groups[1]), answer.Known(found.Groups[2])
		}
	}
	if strings.HasSuffix(name.S, "/") && name.Why == nil && r.loc.find("fastcgi_split_path_info") == nil {
		if index := r.loc.find("fastcgi_index"); index != nil {
			name = name.Plus(answer.Known(index.Arg(0)))
		}
	}
	return name, info
}

// fastcgi is what a program of FastCGI is told: which file it is to run, and values for the runtime.
func (r *request) fastcgi(n *directives.Node) {
	params, beaten := r.loc.list("fastcgi_param")
	for _, p := range beaten {
		if p.Arg(0) == "SCRIPT_FILENAME" && len(params) > 0 {
			break
		}
	}
	found := false
	for _, p := range params {
		value := r.expand(p.Arg(1), p)
		switch name := p.Arg(0); {
		case name == "SCRIPT_FILENAME":
			found = true
			if value.Why != nil {
				r.a.Hide(answer.File, *value.Why)
			} else {
				r.a.Say(answer.File, at(p), value.S)
				r.a.Then(at(p), "the program it runs is "+value.S)
			}
		case slices.Contains(answer.Parameters, name):
			set := answer.Setting{Kind: name, Value: value.S, Origin: at(p)}
			if value.Why != nil {
				set.Unknown = value.Why.Because
			}
			r.a.Runtime = append(r.a.Runtime, set)
		}
	}
	if !found {
		why := "no fastcgi_param says which file is run"
		o := at(n)
		if len(beaten) > 0 && len(params) > 0 {
			why, o = "the list of fastcgi_param here replaces the one of "+at(beaten[0]).String()+", so no SCRIPT_FILENAME is passed", at(params[0])
		}
		r.a.Hide(answer.File, facts.Reason{Because: why, Origin: o})
	}
	r.a.Onward = &answer.Onward{Address: n.Arg(0), Among: r.among(n.Arg(0)), Origin: at(n)}
}

// among are the servers behind a name: its own address where it is none of an upstream.
func (r *request) among(name string) []string {
	up := r.upstr[name]
	if up == nil {
		return []string{name}
	}
	var list []string
	for _, line := range up.Body {
		if line.Is("server") {
			list = append(list, line.Arg(0))
		}
	}
	return list
}

// proxy is the address that another server is asked for.
func (r *request) proxy(n *directives.Node) {
	target := n.Arg(0)
	scheme, rest, is := strings.Cut(target, "://")
	if !is || strings.Contains(target, "$") {
		r.a.Hide(answer.File, facts.Reason{Because: "the address that it is passed on to is made of variables", Origin: at(n)})
		return
	}
	host, path, hasPath := strings.Cut(rest, "/")
	uri := escaped(r.uri.S)
	if r.args.S != "" {
		uri += "?" + r.args.S
	}
	switch {
	case !hasPath && r.asSent:
		uri = r.ask.Target
	case hasPath && r.inPlace:
		uri = "/" + path + strings.TrimPrefix(uri, r.placeName())
	case hasPath:
		uri = "/" + path + uri
	}
	if both := r.uri.Plus(r.args); both.Why != nil {
		r.a.Hide(answer.File, *both.Why)
		return
	}
	r.a.Say(answer.File, at(n), scheme+"://"+host+uri)
	ask := answer.Ask{Method: r.method, Scheme: scheme, Host: strings.Split(host, ":")[0], Target: uri, Header: map[string]string{}, Client: r.ask.Client, Program: r.ask.Program}
	for name, value := range r.ask.Header {
		ask.Header[name] = value
	}
	sets, _ := r.loc.list("proxy_set_header")
	for _, set := range sets {
		name, value := strings.ToLower(set.Arg(0)), r.expand(set.Arg(1), set)
		switch {
		case value.Why != nil:
		case name == "host":
			ask.Host, _, _ = strings.Cut(value.S, ":")
		case value.S == "":
			delete(ask.Header, name)
		default:
			ask.Header[name] = value.S
		}
	}
	if up := r.upstr[host]; up != nil {
		for _, line := range up.Body {
			if line.Is("server") {
				host = line.Arg(0)
				break
			}
		}
	}
	if _, port, both := strings.Cut(host, ":"); both {
		ask.Port = number(port)
	}
	r.a.Onward = &answer.Onward{Address: host, Ask: ask, Origin: at(n)}
}

func (r *request) placeName() string {
	l := r.loc
	for l.inIf {
		l = l.outer
	}
	return l.name
}

// seconds reads a time as nginx writes it; -1 for one that it does not take.
func seconds(text string) int {
	total, n, digits := 0, 0, false
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c >= '0' && c <= '9':
			n, digits = n*10+int(c-'0'), true
			continue
		case c == 'm' && i+1 < len(text) && text[i+1] == 's':
			n, i = n/1000, i+1
		case c == 's':
		case c == 'm':
			n *= 60
		case c == 'h':
			n *= 3600
		case c == 'd':
			n *= 86400
		case c == 'w':
			n *= 604800
		case c == 'M':
			n *= 2592000
		case c == 'y':
			n *= 31536000
		case c == ' ':
			continue
		default:
			return -1
		}
		total, n, digits = total+n, 0, true
	}
	if !digits {
		return -1
	}
	return total + n
}
