package nginx

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// A request is one on its way through the phases.
type request struct {
	*Config
	g   *answer.Guess
	ask answer.Ask
	a   *answer.Answer

	host   *host
	listen listen
	loc    *level // the level whose directives apply

	uri, args answer.Text
	method    string
	vars      map[string]answer.Text
	groups    []string
	named     map[string]string

	internal   bool
	asSent     bool // the address is still as it was sent
	inPlace    bool // it still begins with the name of the location
	changes    int
	errorPage  bool // an error page is being made
	errStatus  int  // that the answer gets whatever the page says
	errOrigin  facts.Origin
	recursion  int
	mapping    int // maps that are being looked up, one inside the other
	addToAlias bool
	tried      *directives.Node // the try_files that found something

	discarded  bool             // the body is thrown away
	location   *answer.Text     // where the visitor is sent; it stays when an error page is made
	asked      *directives.Node // the directive that asks for name and password
	challenges []string         // as often as they have been asked for
}

// maxChanges is how often nginx lets an address change within one request.
const maxChanges = 11

// Answer works out what a configuration makes of a request.
func (c *Config) Answer(ask answer.Ask) *answer.Answer {
	return answer.Explore(func(g *answer.Guess) *answer.Answer {
		r := &request{Config: c, g: g, ask: ask, a: answer.New(), method: ask.Method, vars: map[string]answer.Text{}, changes: maxChanges, asSent: true, inPlace: true}
		if r.method == "" {
			r.method = http.MethodGet
		}
		r.answer()
		return r.a
	})
}

// all are the fields that an answer may have beside headers that the configuration names.
var all = []answer.Field{answer.Status, answer.Location, answer.Handler, answer.File, answer.Runs, answer.Login, answer.Denied, answer.Place, answer.Server,
	answer.Zone, answer.Valid, answer.Bypass, answer.Private, answer.Body, answer.Rate,
	answer.Header("content-type"), answer.Header("content-encoding"), answer.Header("vary"), answer.Header("cache-control"), answer.Header("expires"),
	answer.Header("etag"), answer.Header("last-modified"), answer.Header("server"), answer.Header("www-authenticate"), answer.Header("x-powered-by"), answer.Header("set-cookie")}

func (r *request) answer() {
	if broken := r.Tree.Broken(); broken != nil {
		r.unknown(facts.Reason{Because: broken.Because, Origin: facts.Origin{File: broken.File, Line: broken.Line}})
		return
	}
	if hole := r.http.unsure(func(k class) bool { return k == unheard }); hole != nil && len(r.servers) == 0 {
		r.unknown(*hole)
		return
	}
	var stages []answer.Stage
	var first *host
	r.host, r.listen, stages, first = r.choose(r.ask, r.g)
	r.a.Way = append(r.a.Way, stages...)
	if r.host == nil && len(r.Tree.Gaps) > 0 {
		gap := r.Tree.Gaps[0]
		r.unknown(facts.Reason{Because: gap.Because, Origin: facts.Origin{File: gap.File, Line: gap.Line}})
		return
	}
	if r.host == nil {
		r.unknown(facts.Reason{Because: "no server of this configuration listens there", Origin: facts.Origin{File: r.Tree.Main}})
		return
	}
	if hole := r.hostsHole(); hole != nil && r.g.Either(*hole) {
		r.unknown(*hole)
		return
	}
	r.loc = r.host.level
	r.a.Say(answer.Server, at(r.host.nameNode(r.ask.Host)), r.serverName())
	path, args, asks := strings.Cut(r.ask.Target, "?")
	if path, _, _ = strings.Cut(path, "#"); !asks {
		args = ""
	}
	merges, _ := first.on("merge_slashes", true)
	clean, ok := normalised(path, merges)
	if !ok {
		r.special(http.StatusBadRequest, facts.Origin{Default: "nginx"}, nil)
		return
	}
	r.uri, r.args = answer.Known(clean), answer.Known(args)
	r.fromServer()
}

// hostsHole is what stands in the way of knowing that there is no better host: something between the hosts that could not be
// read. Only a host that is not found by its exact name may be another one.
func (r *request) hostsHole() *facts.Reason {
	for _, n := range r.http.body {
		if n.Hole != "" && r.host.named(r.ask.Host) < 4000 {
			return &facts.Reason{Because: n.Hole, Origin: originOf(n)}
		}
	}
	return nil
}

func (r *request) serverName() string {
	for _, s := range r.host.names {
		if s.text != "" {
			return strings.TrimPrefix(s.text, ".")
		}
	}
	return ""
}

// normalised decodes a path and takes out what leads back, as ngx_http_parse_complex_uri does.
func normalised(path string, merge bool) (string, bool) {
	if path == "" || path[0] != '/' {
		return "", false
	}
	var out []byte
	for i := 0; i < len(path); i++ {
		c := path[i]
		if c == '%' {
			if i+2 >= len(path) {
				return "", false
			}
			n, err := strconv.ParseUint(path[i+1:i+3], 16, 8)
			if err != nil || n == 0 {
				return "", false
			}
			c, i = byte(n), i+2
		}
		out = append(out, c)
	}
	var parts []string
	segments := strings.Split(string(out[1:]), "/")
	for i, s := range segments {
		last := i == len(segments)-1
		switch {
		case s == "." && last:
			parts = append(parts, "")
		case s == ".":
		case s == "..":
			if len(parts) == 0 {
				return "", false
			}
			parts = parts[:len(parts)-1]
			if last {
				parts = append(parts, "")
			}
		case s == "" && !last && merge:
		default:
			parts = append(parts, s)
		}
	}
	return "/" + strings.Join(parts, "/"), true
}

// fromServer begins with the rewriting of the server, as every request and every internal redirect does.
func (r *request) fromServer() {
	r.loc = r.host.level
	if end := r.rewrites(r.host.level, true); end != nil {
		r.finish(*end)
		return
	}
	r.find()
}

// find looks for the location, and goes on there.
func (r *request) find() {
	for {
		if !r.spend() {
			return
		}
		r.loc = r.host.level
		redirect := r.search(r.host.level) == searchRedirect
		place := r.loc
		if place != r.host.level {
			r.a.Then(at(place.node), "the "+place.Place()+" takes "+r.uri.S)
		} else {
			r.a.Then(at(r.host.node), "no location takes "+r.uri.S+"; what the server says applies")
		}
		if n := place.find("internal"); n != nil && !r.internal {
			r.a.Then(at(n), "visitors do not get here: internal")
			r.special(http.StatusNotFound, at(n), n)
			return
		}
		if redirect {
			target := r.uri.S + "/"
			if r.args.S != "" {
				target += "?" + r.args.S
			}
			r.redirect(http.StatusMovedPermanently, answer.Known(target), at(place.node))
			return
		}
		if r.tooLarge() {
			return
		}
		before := r.uri.S
		again, done := r.inLocation(place)
		if done {
			return
		}
		if !again {
			break
		}
		r.a.Then(at(place.node), fmt.Sprintf("the address is %s now, and is looked for again (it was %s)", r.uri.S, before))
	}
	r.access()
}

// spend counts a change of the address; false when there have been too many, which has been answered.
func (r *request) spend() bool {
	if r.recursion++; r.recursion > 40 {
		r.special(http.StatusInternalServerError, facts.Origin{Default: "nginx"}, nil)
		return false
	}
	return true
}

// tooLarge tells whether the body is larger than the place takes, which has been answered then.
func (r *request) tooLarge() bool {
	most, n := int64(1<<20), r.loc.find("client_max_body_size")
	if n != nil {
		most = size(n.Arg(0))
	}
	if most <= 0 || r.discarded || r.ask.Length <= most {
		return false
	}
	r.discarded = true
	r.special(http.StatusRequestEntityTooLarge, at(n), n)
	return true
}

// inLocation runs the rewriting of a location. Again is set when the address has changed.
func (r *request) inLocation(place *level) (again, done bool) {
	if place == r.host.level { // its rewriting is done already
		return false, false
	}
	end, changed := r.run(place.body, place)
	if end != nil {
		r.finish(*end)
		return false, true
	}
	if !changed {
		return false, false
	}
	if r.changes--; r.changes == 0 {
		r.special(http.StatusInternalServerError, at(place.node), place.node)
		return false, true
	}
	return true, false
}

type searched int

const (
	searchDeclined searched = iota
	searchAgain
	searchOK
	searchRedirect
)

// search looks for a location as ngx_http_core_find_location does: the longest prefix, what is nested in it, and then this
// level's expressions, unless the prefix of this level shields from them.
func (r *request) search(in *level) searched {
	rc := r.searchPrefix(in)
	shielded := false
	switch rc {
	case searchAgain:
		shielded = r.loc.shields
		rc = r.search(r.loc)
	}
	if rc == searchOK || rc == searchRedirect {
		return rc
	}
	if shielded {
		return rc
	}
	for _, l := range in.locations {
		if l.pattern == nil {
			continue
		}
		if found := r.match(l.pattern, r.uri, l.node); found {
			r.loc = l
			if rc := r.search(l); rc == searchRedirect {
				return rc
			}
			return searchOK
		}
	}
	return rc
}

func (r *request) searchPrefix(in *level) searched {
	var best *level
	for _, l := range in.locations {
		switch {
		case l.pattern != nil || l.named:
		case l.exact:
			if r.uri.S == l.name {
				r.loc = l
				return searchOK
			}
		case strings.HasPrefix(r.uri.S, l.name) && (best == nil || len(l.name) > len(best.name)):
			best = l
		}
	}
	if best == nil || best.name != r.uri.S {
		if slashed := in.program(r.uri.S + "/"); slashed != nil {
			r.loc = slashed
			return searchRedirect
		}
	}
	if best == nil {
		return searchDeclined
	}
	r.loc = best
	return searchAgain
}

// program is the location of a name where a program answers: it takes the address without its last slash as well, and leads on.
func (l *level) program(name string) (found *level) {
	passing := false
	for _, inner := range l.locations {
		if inner.pattern == nil && !inner.named && inner.name == name {
			passing = passing || passes(inner) != nil
			if found == nil || inner.exact {
				found = inner
			}
		}
	}
	if !passing {
		return nil
	}
	return found
}

// match looks for an expression, and keeps what stood in its parentheses.
func (r *request) match(p *answer.Pattern, text answer.Text, n *directives.Node) bool {
	if text.Why != nil {
		return r.g.Either(*text.Why)
	}
	found, wrong := p.Find(text.S)
	if wrong != "" {
		return r.g.Either(facts.Reason{Because: wrong, Origin: at(n)})
	}
	if found == nil {
		return false
	}
	r.groups = found.Groups
	for name, value := range found.Named {
		r.vars[name] = answer.Known(value)
	}
	return true
}

// goTo is an internal redirect to an address.
func (r *request) goTo(target answer.Text, args string) {
	if r.changes--; r.changes <= 0 {
		r.special(http.StatusInternalServerError, facts.Origin{Default: "nginx"}, nil)
		return
	}
	r.uri, r.args = target, answer.Known(args)
	r.internal, r.asSent, r.inPlace, r.addToAlias, r.tried = true, false, true, false, nil
	r.fromServer()
}

// goNamed goes on in a named location; the rewriting of the server is not done again.
func (r *request) goNamed(name string, from *directives.Node) {
	if r.changes--; r.changes <= 0 || !r.spend() {
		r.special(http.StatusInternalServerError, at(from), from)
		return
	}
	for _, l := range r.host.locations {
		if !l.named || l.name != name {
			continue
		}
		r.internal, r.addToAlias, r.tried = true, false, nil
		r.loc = l
		r.a.Then(at(l.node), "the "+l.Place()+" takes over")
		again, done := r.inLocation(l)
		switch {
		case done:
		case again:
			r.find()
		default:
			r.access()
		}
		return
	}
	r.special(http.StatusInternalServerError, at(from), from)
}
