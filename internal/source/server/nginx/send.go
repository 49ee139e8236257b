package nginx

import (
	"cmp"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// A reply is an answer before its headers are worked out.
type reply struct {
	status     int
	kind       string
	kindOrigin facts.Origin
	length     int64 // -1 when it is not known beforehand
	static     bool
	origin     facts.Origin
	header     map[string]string // of a program
	upstream   *directives.Node
	dated      bool // it says when it was last changed
	built      bool // a page that the server makes itself
}

// finish ends a request as return and redirecting rewrites do.
func (r *request) finish(e ending) {
	r.a.Then(at(e.node), "it ends here: "+e.node.String())
	switch {
	case e.status == 444:
		r.a.Say(answer.Handler, at(e.node), "return")
		for _, f := range all {
			if _, said := r.a.Fields[f]; !said {
				r.a.Lack(f, at(e.node), "the connection is closed without an answer")
			}
		}
	case isRedirect(e.status) && (e.has || e.status < 400):
		r.redirect(e.status, e.text, at(e.node))
	case e.status < 400 || e.has:
		kind, origin := r.kind()
		r.a.Say(answer.Handler, at(e.node), "return")
		length := int64(len(e.text.S))
		if e.text.Why != nil {
			length = -1
		}
		r.send(reply{status: e.status, kind: kind, kindOrigin: origin, length: length, origin: at(e.node)})
	default:
		if e.status == http.StatusForbidden {
			r.a.Say(answer.Denied, at(e.node), "yes")
		}
		r.special(e.status, at(e.node), e.node)
	}
}

// redirect sends the visitor somewhere else.
func (r *request) redirect(status int, target answer.Text, origin facts.Origin) {
	if target.Why != nil {
		r.a.Hide(answer.Location, *target.Why)
	}
	r.location = &target
	r.special(status, origin, nil)
}

func (r *request) errorPages(status int) []*directives.Node {
	pages, _ := r.loc.list("error_page")
	for _, n := range pages {
		for _, code := range n.Args[:max(len(n.Args)-1, 0)] {
			if number(code) == status {
				return []*directives.Node{n}
			}
		}
	}
	return nil
}

// special answers with a status: with an error page that the configuration names, or one that the server makes itself.
func (r *request) special(status int, origin facts.Origin, _ *directives.Node) {
	r.errStatus, r.errOrigin = status, origin
	if pages := r.errorPages(status); !r.errorPage && len(pages) > 0 && r.changes > 0 {
		if recursive, _ := r.loc.on("recursive_error_pages", false); !recursive {
			r.errorPage = true
		}
		r.page(pages[0])
		return
	}
	if _, said := r.a.Fields[answer.Handler]; !said || status >= 400 {
		handler := "error"
		if status < 400 {
			handler = "return"
		}
		r.a.Say(answer.Handler, origin, handler)
	}
	if status >= 400 {
		r.a.Lack(answer.File, origin, "nothing is served")
	}
	r.send(reply{status: status, kind: "text/html", kindOrigin: facts.Origin{Default: "nginx"}, length: builtLength(status), origin: origin, built: true})
}

// builtLength is how long the pages are that nginx makes itself, about; only whether they are shorter than the least that is
// compressed depends on it.
func builtLength(status int) int64 { return 150 }

// page goes to an error page.
func (r *request) page(n *directives.Node) {
	words := n.Args
	target := r.expand(words[len(words)-1], n)
	r.a.Then(at(n), "its error page is "+words[len(words)-1])
	overwrite := -1
	if len(words) > 2 && strings.HasPrefix(words[len(words)-2], "=") {
		overwrite = number(words[len(words)-2][1:])
	}
	if overwrite >= 0 {
		r.errStatus, r.errOrigin = overwrite, at(n)
	}
	switch {
	case strings.HasPrefix(target.S, "/"):
		path, args, _ := strings.Cut(target.S, "?")
		if r.method != http.MethodHead {
			r.method = http.MethodGet
		}
		r.goTo(answer.Text{S: path, Why: target.Why}, args)
	case strings.HasPrefix(target.S, "@"):
		r.goNamed(target.S, n)
	default:
		if !isRedirect(overwrite) {
			r.errStatus = http.StatusFound
		}
		r.a.Say(answer.Handler, at(n), "return")
		r.location = &target
		r.send(reply{status: r.errStatus, kind: "text/html", length: builtLength(r.errStatus), origin: at(n), built: true})
	}
}

// send works the headers out.
func (r *request) send(p reply) {
	if r.errStatus != 0 {
		p.status = r.errStatus
		p.origin = r.errOrigin
	}
	r.a.Say(answer.Status, p.origin, strconv.Itoa(p.status))
	r.a.Then(p.origin, "the answer is "+strconv.Itoa(p.status))
	if r.location != nil && r.location.Why == nil {
		r.a.Say(answer.Location, p.origin, r.absolute(r.location.S))
	} else if r.location == nil && p.header["location"] != "" {
		if p.upstream.Is("proxy_pass") {
			r.a.Hide(answer.Location, facts.Reason{Because: "addresses that the other server leads to are rewritten on the way (proxy_redirect)", Origin: at(p.upstream)})
		} else {
			r.a.Say(answer.Location, p.origin, p.header["location"])
		}
	}
	r.a.Say(answer.Place, r.placeOrigin(), r.loc.Place())
	r.limits()
	r.headers(p)
	r.rest()
}

// absolute is a location as it is sent.
func (r *request) absolute(location string) string {
	is, _ := r.loc.on("absolute_redirect", true)
	if !is || !strings.HasPrefix(location, "/") {
		return location
	}
	host := strings.TrimSuffix(strings.ToLower(r.ask.Host), ".")
	if named, _ := r.loc.on("server_name_in_redirect", false); named {
		host = r.serverName()
	}
	if ports, _ := r.loc.on("port_in_redirect", true); ports && !r.ownPort() {
		host += ":" + strconv.Itoa(r.port())
	}
	return r.scheme() + "://" + host + location
}

// limits are those of the place.
func (r *request) limits() {
	n := r.loc.find("client_max_body_size")
	most := int64(1 << 20)
	if n != nil {
		most = size(n.Arg(0))
	}
	if hole := r.loc.hole(n); hole != nil {
		r.a.Hide(answer.Body, *hole)
	} else if most < 0 {
		r.a.Hide(answer.Body, facts.Reason{Because: n.String() + " is no size", Origin: at(n)})
	} else {
		r.a.Say(answer.Body, at(n), strconv.FormatInt(most, 10))
	}
	if rates, _ := r.loc.list("limit_req"); len(rates) > 0 {
		r.a.Say(answer.Rate, at(rates[0]), "yes")
	} else {
		r.a.Lack(answer.Rate, facts.Origin{Default: "nginx"}, "no limit_req applies here")
	}
}

// size reads a size as nginx writes it; -1 for one that it does not take.
func size(text string) int64 {
	factor := int64(1)
	switch {
	case strings.HasSuffix(strings.ToLower(text), "k"):
		factor = 1 << 10
	case strings.HasSuffix(strings.ToLower(text), "m"):
		factor = 1 << 20
	case strings.HasSuffix(strings.ToLower(text), "g"):
		factor = 1 << 30
	}
	if factor > 1 {
		text = text[:len(text)-1]
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return -1
	}
	return n * factor
}

// safe are the statuses with which headers are added without "always".
var safe = []int{200, 201, 204, 206, 301, 302, 303, 304, 307, 308}

// headers works out each header: what the answer itself brings, what the place adds, and what is not sent.
func (r *request) headers(p reply) {
	h := map[string]answer.Told{}
	set := func(name string, origin facts.Origin, values ...string) {
		h[name] = answer.Told{Values: values, Origin: origin}
	}
	for name, value := range p.header {
		if name != "location" && name != "content-length" {
			set(name, p.origin, value)
		}
	}
	if p.kind != "" && p.status != 204 && p.status != 304 {
		set("content-type", cmp.Or(p.kindOrigin, p.origin), r.charset(p, h))
	}
	if p.static {
		if on, n := r.loc.on("etag", true); on {
			set("etag", at(n), "set")
		} else {
			h["etag"] = answer.Told{Origin: at(n), Because: "etag off"}
		}
		if p.status == http.StatusOK {
			set("last-modified", p.origin, "set")
		}
	}
	if len(r.challenges) > 0 { // it stays, whatever status the answer gets in the end
		set("www-authenticate", at(r.asked), r.challenges...)
	}
	if p.dated {
		set("last-modified", p.origin, "set")
	}
	r.server(p, set)
	r.expires(p, h)
	r.added(p, h)
	r.gzip(p, h)
	for name, told := range h {
		r.a.Fields[answer.Header(name)] = told
	}
}

// server is how nginx names itself, unless the place lets through how the program does. One behind proxy_pass that does not say
// is then not named at all (ngx_http_proxy_process_header adds an empty line); of other programs nginx takes its own name.
func (r *request) server(p reply, set func(string, facts.Origin, ...string)) {
	if lets := r.letsThrough(p, "server"); lets != nil {
		switch name, said := p.header["server"]; {
		case p.header == nil:
			r.a.Hide(answer.Header("server"), facts.Reason{Because: "the program says how it is named", Origin: at(lets)})
			return
		case said:
			set("server", at(lets), name)
			return
		case p.upstream.Is("proxy_pass"):
			set("server", at(lets))
			return
		}
	}
	tokens := r.loc.find("server_tokens")
	hole := r.loc.hole(tokens)
	switch {
	case hole != nil:
		r.a.Hide(answer.Header("server"), *hole)
	case tokens != nil && tokens.Arg(0) == "off":
		set("server", at(tokens), "nginx")
	case r.Version == "":
		r.a.Hide(answer.Header("server"), facts.Reason{Because: "the version of nginx is not known; it is sent, since server_tokens is not off", Origin: at(tokens)})
	case tokens == nil || tokens.Arg(0) == "on":
		set("server", at(tokens), "nginx/"+r.Version)
	default:
		r.a.Hide(answer.Header("server"), facts.Reason{Because: tokens.String() + " is not evaluated", Origin: at(tokens)})
	}
}

// charsetTypes are those that get a charset unless the configuration says otherwise.
var charsetTypes = []string{"text/html", "text/xml", "text/plain", "text/vnd.wap.wml", "application/javascript", "application/rss+xml"}

// charset is the type with the charset, if it gets one.
func (r *request) charset(p reply, h map[string]answer.Told) string {
	kind, _, said := strings.Cut(p.kind, ";")
	n := r.loc.find("charset")
	bare := p.status == http.StatusMovedPermanently || p.status == http.StatusFound // for the sake of browsers long gone
	if n == nil || n.Arg(0) == "off" || said || bare || len(h["content-encoding"].Values) > 0 {
		return p.kind
	}
	types := charsetTypes
	if list, _ := r.loc.list("charset_types"); len(list) > 0 {
		types = append([]string{"text/html"}, list[0].Args...)
	}
	value := r.expand(n.Arg(0), n)
	if !slices.Contains(types, strings.ToLower(kind)) && !slices.Contains(types, "*") || value.S == "" {
		return p.kind
	}
	return p.kind + "; charset=" + value.S
}

// expires carries out expires, which takes the place of the program's own Cache-Control.
func (r *request) expires(p reply, h map[string]answer.Told) {
	n := r.loc.find("expires")
	if n == nil || n.Arg(0) == "off" {
		return
	}
	if !slices.Contains(safe, p.status) {
		h["cache-control"] = orAbsent(h["cache-control"], at(n), "expires is not carried out with status "+strconv.Itoa(p.status))
		return
	}
	word := n.Arg(0)
	if word == "modified" {
		r.a.Hide(answer.Header("cache-control"), facts.Reason{Because: "expires modified goes by when the file was changed", Origin: at(n)})
		delete(h, "cache-control")
		return
	}
	value := r.expand(word, n)
	if value.Why != nil {
		r.a.Hide(answer.Header("cache-control"), *value.Why)
		r.a.Hide(answer.Header("expires"), *value.Why)
		delete(h, "cache-control")
		delete(h, "expires")
		return
	}
	told := answer.Told{Origin: at(n)}
	if before := h["cache-control"]; len(before.Values) > 0 {
		told.Beaten = append(told.Beaten, before.Origin)
	}
	switch text := strings.TrimPrefix(value.S, "@"); {
	case value.S == "off" || value.S == "":
		return
	case value.S == "epoch":
		told.Values = []string{"no-cache"}
	case value.S == "max":
		told.Values = []string{"max-age=315360000"}
	case text != value.S:
		r.a.Hide(answer.Header("cache-control"), facts.Reason{Because: "expires goes by the hour of the day", Origin: at(n)})
		delete(h, "cache-control")
		h["expires"] = answer.Told{Values: []string{"set"}, Origin: at(n)}
		return
	case strings.HasPrefix(text, "-"):
		told.Values = []string{"no-cache"}
	default:
		s := seconds(text)
		if s < 0 {
			return // nginx takes what is no time for off, when it comes from a variable
		}
		told.Values = []string{"max-age=" + strconv.Itoa(s)}
	}
	h["cache-control"] = told
	h["expires"] = answer.Told{Values: []string{"set"}, Origin: at(n)}
}

func orAbsent(t answer.Told, origin facts.Origin, because string) answer.Told {
	if len(t.Values) > 0 {
		return t
	}
	return answer.Told{Origin: origin, Because: because}
}

// added are the headers of add_header: those of the nearest level that has any, and no others.
func (r *request) added(p reply, h map[string]answer.Told) {
	own, beaten := r.loc.list("add_header")
	for _, n := range own {
		name, always := strings.ToLower(n.Arg(0)), n.Arg(2) == "always"
		if !always && !slices.Contains(safe, p.status) {
			h[name] = orAbsent(h[name], at(n), "add_header without \"always\" is not carried out with status "+strconv.Itoa(p.status))
			continue
		}
		value := r.expand(n.Arg(1), n)
		switch {
		case value.Why != nil:
			delete(h, name)
			r.a.Hide(answer.Header(name), *value.Why)
			continue
		case value.S == "":
			continue
		}
		told := h[name]
		switch name {
		case "last-modified", "etag":
			told.Values = []string{value.S}
		default:
			told.Values = append(slices.Clone(told.Values), value.S)
		}
		told.Origin, told.Because = at(n), ""
		h[name] = told
	}
	for _, n := range beaten {
		name := strings.ToLower(n.Arg(0))
		if told := h[name]; len(told.Values) == 0 && told.Because == "" {
			if _, hidden := r.a.Fields[answer.Header(name)]; !hidden {
				h[name] = answer.Told{Origin: at(own[0]), Because: "the headers added here replace the list of the level above, so the one of " + at(n).String() + " is not sent", Beaten: []facts.Origin{at(n)}}
			}
		} else if len(told.Values) > 0 && told.Origin != at(n) {
			told.Beaten = append(told.Beaten, at(n))
			h[name] = told
		}
	}
}

// gzip tells whether the answer is compressed.
func (r *request) gzip(p reply, h map[string]answer.Told) {
	on, n := r.loc.on("gzip", false)
	if !on {
		h["content-encoding"] = orAbsent(h["content-encoding"], at(n), "gzip is off")
		return
	}
	absent := func(origin facts.Origin, because string) {
		h["content-encoding"] = orAbsent(h["content-encoding"], origin, because)
	}
	switch {
	case len(h["content-encoding"].Values) > 0:
		return
	case p.status != 200 && p.status != 403 && p.status != 404:
		absent(at(n), "nginx compresses no answer with status "+strconv.Itoa(p.status))
		return
	}
	least, leastNode := int64(20), r.loc.find("gzip_min_length")
	if leastNode != nil {
		least = size(leastNode.Arg(0))
	}
	if p.length >= 0 && p.length < least && !p.built {
		absent(at(leastNode), "it is shorter than what is compressed")
		return
	}
	if p.built && least > 20 && least < 400 {
		r.a.Hide(answer.Header("content-encoding"), facts.Reason{Because: "how long the server's own error page is depends on its version", Origin: at(leastNode)})
		r.a.Hide(answer.Header("vary"), facts.Reason{Because: "how long the server's own error page is depends on its version", Origin: at(leastNode)})
		delete(h, "vary")
		return
	}
	if p.built && p.length < least {
		absent(at(leastNode), "it is shorter than what is compressed")
		return
	}
	types, typesNode := []string{"text/html"}, (*directives.Node)(nil)
	if list, _ := r.loc.list("gzip_types"); len(list) > 0 {
		types, typesNode = append(types, list[0].Args...), list[0]
	}
	kind, _, _ := strings.Cut(p.kind, ";")
	if !slices.Contains(types, strings.ToLower(strings.TrimSpace(kind))) && !slices.Contains(types, "*") {
		absent(at(typesNode), kind+" is not among the types that are compressed")
		return
	}
	if vary, v := r.loc.on("gzip_vary", false); vary {
		told := h["vary"]
		told.Values, told.Origin = append([]string{"Accept-Encoding"}, told.Values...), at(v)
		h["vary"] = told
	}
	accepts := strings.Contains(r.ask.Header["accept-encoding"], "gzip")
	if accepts {
		if via, viaNode := r.ask.Header["via"], r.loc.find("gzip_proxied"); via != "" && (viaNode == nil || viaNode.Arg(0) == "off") {
			absent(at(viaNode), "the request came through a proxy")
			return
		} else if via != "" && viaNode.Arg(0) != "any" {
			r.a.Hide(answer.Header("content-encoding"), facts.Reason{Because: viaNode.String() + " is not evaluated", Origin: at(viaNode)})
			return
		}
		if disable := r.loc.find("gzip_disable"); disable != nil && r.disables(disable) {
			absent(at(disable), "gzip_disable names this browser")
			return
		}
		h["content-encoding"] = answer.Told{Values: []string{"gzip"}, Origin: at(n)}
		return
	}
	absent(at(n), "the request does not ask for compression")
}

// disables tells whether gzip is not given to this browser.
func (r *request) disables(n *directives.Node) bool {
	agent := r.ask.Header["user-agent"]
	for _, word := range n.Args {
		if word == "msie6" {
			if strings.Contains(agent, "MSIE 4.") || strings.Contains(agent, "MSIE 5.") || strings.Contains(agent, "MSIE 6.") && !strings.Contains(agent, "SV1") {
				return true
			}
			continue
		}
		if found, _ := r.patterns.Compile(word, true).Find(agent); found != nil {
			return true
		}
	}
	return false
}

// fromProgram is an answer of which only what the configuration adds is known.
func (r *request) fromProgram(n *directives.Node, kind string) {
	why := facts.Reason{Because: "what " + n.Arg(0) + " answers is not in the configuration", Origin: at(n)}
	r.a.Say(answer.Place, r.placeOrigin(), r.loc.Place())
	r.limits()
	known := r.a.Fields
	// Worked out as if it answered well; what depends on that is not told.
	r.a.Fields = map[answer.Field]answer.Told{}
	r.headers(reply{status: http.StatusOK, kind: "text/html", length: -1, origin: at(n), upstream: n})
	good := r.a.Fields
	r.a.Fields = map[answer.Field]answer.Told{}
	r.headers(reply{status: http.StatusNotFound, kind: "text/html", length: -1, origin: at(n), upstream: n})
	bad := r.a.Fields
	r.a.Fields = known
	for f, told := range good {
		name, _ := f.IsHeader()
		switch {
		case name == "server" && kind != "memcached" && told.Known():
			r.a.Fields[f] = told
		case len(told.Values) > 0 && slices.Equal(told.Values, bad[f].Values) && name != "content-type" && name != "vary" && name != "content-encoding" && name != "cache-control" && name != "expires":
			told.Because = "whatever the program answers"
			r.a.Fields[f] = told
		case len(told.Values) > 0 && name != "content-type" && name != "content-encoding" && name != "vary":
			r.a.Hide(f, facts.Reason{Because: "it is added when the program answers with a success or a redirect, and not to its errors", Origin: told.Origin})
		default:
			r.a.Hide(f, why)
		}
	}
	r.a.Others = &why
	hidden, _ := r.loc.list(kind + "_hide_header")
	for _, h := range hidden {
		if f := answer.Header(h.Arg(0)); r.a.Fields[f].Origin == (facts.Origin{}) && r.a.Fields[f].Known() {
			r.a.Lack(f, at(h), "what the program says of it is not passed on")
		}
	}
	for _, f := range []answer.Field{answer.Status, answer.Location, answer.Header("content-type"), answer.Header("etag"), answer.Header("last-modified"), answer.Header("cache-control"), answer.Header("expires"),
		answer.Header("vary"), answer.Header("content-encoding"), answer.Header("set-cookie"), answer.Header("x-powered-by")} {
		if _, said := r.a.Fields[f]; !said {
			r.a.Hide(f, why)
		}
	}
	r.rest()
}

// rest takes back what directives that are not evaluated may have changed.
func (r *request) rest() {
	if why := r.loc.unsure(func(k class) bool { return k == heads }); why != nil {
		r.a.Others = why
		for f := range r.a.Fields {
			if name, is := f.IsHeader(); is && name != "server" {
				r.a.Hide(f, *why)
			}
		}
	}
	if why := r.loc.unsure(func(k class) bool { return k == bodies }); why != nil {
		for _, name := range []string{"etag", "last-modified", "content-encoding", "vary"} { // its length is not known either
			r.a.Hide(answer.Header(name), *why)
		}
	}
	if why := r.loc.unsure(func(k class) bool { return k == cookies }); why != nil {
		r.a.Hide(answer.Header("set-cookie"), *why)
	}
}
