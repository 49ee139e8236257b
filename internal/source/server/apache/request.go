package apache

import (
	"fmt"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"strconv"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// A request is one on its way through the hooks.
type request struct {
	*Config
	g    *answer.Guess
	ask  answer.Ask
	a    *answer.Answer
	host *host

	method    string
	uri       string // as sections of addresses see it
	args      string
	file      string // what it stands for
	info      string // what follows the file
	entry     answer.Entry
	set       *settings
	kind      string // its type
	kindAt    *directives.Node
	charset   *directives.Node
	encoding  *directives.Node
	handler   string
	handlerAt *directives.Node // what gave it the handler

	leads      string // of one that is looked up: where its rules lead
	location   string // where the visitor is sent
	locationAt facts.Origin
	challenge  *answer.Told  // of the name and password that are asked for
	challenged **answer.Told // what is sent of it, whatever becomes of the request; shared by all it is redirected to
	text       bool          // the error page is a text of the configuration
	hidden     *facts.Reason
	whole      *request // the one that this is looked up for
	answered   bool
	why        *facts.Reason
	aliased    *directives.Node
	prefix     string // the address that the alias stands for, and its folder
	prefixTo   string
	env        map[string]string

	work       *int     // how much has been looked up for the request and all it leads to
	before     *request // the one that an internal redirect comes from
	status     int      // of the error whose page is being made
	origin     facts.Origin
	depth      int
	sub        bool // looked up only, as DirectoryIndex does
	done       bool // rewriting has said END
	condGroups []string
	askedFor   []string      // the fields of the request that the conditions asked for
	varies     []string      // those that the answer depends on
	unseen     *facts.Reason // why the text made last cannot be told
}

// maxWork is how many addresses are looked up for one: what DirectoryIndex, FallbackResource and ErrorDocument name.
const maxWork = 300

// maxRedirects is how often Apache lets a request be redirected within itself.
const maxRedirects = 10

// all are the fields that an answer may have beside headers that the configuration names.
var all = []answer.Field{answer.Status, answer.Location, answer.Handler, answer.File, answer.Runs, answer.Login, answer.Denied, answer.Place, answer.Server, answer.Body,
	answer.Header("content-type"), answer.Header("content-encoding"), answer.Header("vary"), answer.Header("cache-control"), answer.Header("expires"),
	answer.Header("etag"), answer.Header("last-modified"), answer.Header("server"), answer.Header("www-authenticate"), answer.Header("x-powered-by"), answer.Header("set-cookie")}

// Answer works out what a configuration makes of a request.
func (c *Config) Answer(ask answer.Ask) *answer.Answer {
	return answer.Explore(func(g *answer.Guess) *answer.Answer {
		r := &request{Config: c, g: g, ask: ask, a: answer.New(), method: ask.Method, env: map[string]string{}, challenged: new(*answer.Told), work: new(int)}
		if r.method == "" {
			r.method = http.MethodGet
		}
		r.start()
		return r.a
	})
}

func (r *request) unknown(why facts.Reason) {
	if r.sub {
		r.answered, r.why = true, &why
		return
	}
	r.a.Others = &why
	for _, f := range all {
		r.a.Hide(f, why)
	}
}

func (r *request) start() {
	if broken := r.Tree.Broken(); broken != nil {
		r.unknown(facts.Reason{Because: broken.Because, Origin: facts.Origin{File: broken.File, Line: broken.Line}})
		return
	}
	var stages []answer.Stage
	r.host, stages = r.choose(r.ask, r.g)
	r.a.Way = append(r.a.Way, stages...)
	r.a.Say(answer.Server, at(r.host.node), r.host.name())
	if hole := r.host.hole(); hole != nil {
		r.unknown(*hole)
		return
	}
	sent, args, _ := strings.Cut(r.ask.Target, "?")
	r.args = args
	if n := r.host.said("MergeSlashes"); n != nil && strings.EqualFold(n.Arg(0), "off") && strings.Contains(encodedSlash.ReplaceAllString(sent, "/"), "//") {
		r.unknown(facts.Reason{Because: "what becomes of slashes that are not merged is not told", Origin: at(n)})
		return
	}
	slashes := r.host.said("AllowEncodedSlashes")
	clean, status := normalised(sent, slashes)
	switch status {
	case http.StatusNotFound:
		at := facts.Origin{Default: "Apache"}
		if slashes != nil {
			at = originOf(slashes)
		}
		r.fail(status, at, "an escaped slash, or a zero, in an address is not allowed")
		return
	case http.StatusBadRequest:
		r.fail(status, facts.Origin{Default: "Apache"}, "the address leads out of the site, or is written wrongly")
		return
	}
	r.uri = clean
	if r.process() {
		r.handle()
	}
}

// encodedSlash is a slash that is escaped.
var encodedSlash = regexp.MustCompile(`(?i)%(2f)`)

// normalised takes out of a path what leads back, and decodes what is left, as ap_normalize_path and ap_unescape_url do: slashes and zeros that are escaped go
// with a segment that is taken out, and are not allowed in one that stays, but for slashes where AllowEncodedSlashes says so: with On they are slashes, with
// NoDecode they stay as they are. The status is 0 where it may be asked for.
func normalised(sent string, slashes *directives.Node) (clean string, status int) {
	allowed := ""
	if slashes != nil {
		allowed = strings.ToLower(slashes.Arg(0))
	}
	return normalisedAs(sent, allowed, false)
}

// normalisedAs does so; where it is done again, what leads out of the site is left out.
func normalisedAs(sent, allowed string, again bool) (clean string, status int) {
	if _, err := url.PathUnescape(sent); err != nil || !strings.HasPrefix(sent, "/") {
		return "", http.StatusBadRequest
	}
	var parts []string
	segments := strings.Split(sent[1:], "/")
	for i, s := range segments {
		last := i == len(segments)-1
		switch dots := strings.ReplaceAll(strings.ToLower(s), "%2e", "."); {
		case dots == ".." && len(parts) == 0 && again:
		case dots == ".." && len(parts) == 0:
			return "", http.StatusBadRequest
		case dots == "." || dots == "..":
			if dots == ".." {
				parts = parts[:len(parts)-1]
			}
			if last {
				parts = append(parts, "")
			}
		case s == "" && !last:
		default:
			parts = append(parts, s)
		}
	}
	left := strings.Join(parts, "/")
	escaped := strings.ToLower(left)
	switch {
	case strings.Contains(escaped, "%00"), strings.Contains(escaped, "%2f") && allowed != "on" && allowed != "nodecode":
		return "", http.StatusNotFound
	case allowed == "nodecode":
		left = encodedSlash.ReplaceAllString(left, "%25$1")
	}
	decoded, _ := url.PathUnescape(left)
	if allowed == "on" && strings.Contains(escaped, "%2f") { // what was hidden by them may lead back
		return normalisedAs("/"+strings.ReplaceAll(url.PathEscape(decoded), "%2F", "/"), "", true)
	}
	return "/" + decoded, 0
}

// trace answers TRACE.
func (r *request) trace() {
	for _, base := range r.host.base {
		for _, n := range base {
			if n.Is("TraceEnable") && strings.EqualFold(n.Arg(0), "off") {
				r.bare()
				r.fail(http.StatusMethodNotAllowed, at(n), "TRACE is switched off")
				return
			}
		}
	}
	r.a.Say(answer.Status, facts.Origin{Default: "Apache"}, "200")
	r.a.Say(answer.Header("content-type"), facts.Origin{Default: "Apache"}, "message/http")
	r.serverHeader()
}

// process takes a request to where it would be handled; false when it has been answered before.
func (r *request) process() bool {
	if *r.work++; *r.work > maxWork {
		r.unknown(facts.Reason{Because: fmt.Sprintf("more than %d addresses would have to be looked up for this one", maxWork), Origin: r.rootOrigin()})
		return false
	}
	if r.depth > maxRedirects {
		r.fail(http.StatusInternalServerError, facts.Origin{Default: "Apache"}, "it is redirected within the server without end")
		return false
	}
	r.bare()
	r.located(r.set, r.uri)
	if !r.translate() {
		return false
	}
	if r.method == http.MethodTrace {
		r.trace()
		return false
	}
	r.find()
	merged, failed := r.walk(r.file, r.entry)
	if failed != nil {
		r.bare()
		r.fail(failed.status, failed.origin, failed.says)
		return false
	}
	r.set = merged
	r.located(r.set, r.uri)
	if why := r.set.unsureOf(decides); why != nil && r.g.Either(*why) {
		r.unknown(*why)
		return false
	}
	if r.entry.Is == answer.Unseen {
		r.unknown(facts.Reason{Because: r.entry.Why, Origin: r.rootOrigin()})
		return false
	}
	if !r.access() {
		return false
	}
	r.types()
	return r.fixups()
}

// bare leaves what applies to everything the host answers.
func (r *request) bare() { r.set = r.basic() }

// basic is what applies to everything the host answers. Switching rewriting on for the server switches it on for every folder.
func (r *request) basic() *settings {
	s := newSettings()
	for _, base := range r.host.base {
		r.apply(s, base, "")
	}
	for _, w := range []*rewriting{r.main.rewrite, r.host.rewrite} {
		if w.said {
			s.rewrite = &rewriting{on: w.on, onAt: w.onAt}
		}
	}
	return s
}

// find tells what lies at the path, and what of it is information for a program.
func (r *request) find() {
	r.info = ""
	r.file = path.Clean(r.file) + map[bool]string{true: "/", false: ""}[strings.HasSuffix(r.file, "/") && r.file != "/"]
	at := strings.TrimSuffix(r.file, "/")
	for {
		r.entry = r.disk.Look(at)
		if r.entry.Is != answer.NoEntry || at == "" || at == "/" {
			break
		}
		up := at[:strings.LastIndexByte(at, '/')]
		if e := r.disk.Look(up); e.Is == answer.AFolder || e.Is == answer.Unseen {
			r.entry = answer.Entry{}
			// The first name that is not there ends the path; what follows is information.
			r.file, r.info = at, r.file[len(at):]
			if e.Is == answer.Unseen {
				r.entry = e
			}
			return
		}
		at = up
	}
	if r.entry.Is == answer.AFile {
		r.info = r.file[len(at):]
		r.file = at
	}
	if r.entry.Is == answer.AFolder && !strings.HasSuffix(r.file, "/") && strings.HasSuffix(r.uri, "/") {
		r.file += "/"
	}
}

func (r *request) rootOrigin() facts.Origin {
	if r.aliased != nil {
		return at(r.aliased)
	}
	return at(r.host.root)
}

// root is the folder that addresses are looked for in.
func (r *request) root() string {
	if r.host.root == nil {
		return "/usr/local/apache2/htdocs"
	}
	return strings.TrimSuffix(r.path(r.host.root.Arg(0)), "/")
}

// again is an internal redirect to an address.
func (r *request) again(target string) {
	next := &request{Config: r.Config, g: r.g, ask: r.ask, a: r.a, host: r.host, method: r.method, before: r, depth: r.depth + 1, status: r.status, origin: r.origin, env: map[string]string{}, done: r.done, challenged: r.challenged, work: r.work}
	if r.status != 0 && next.method != http.MethodHead {
		next.method = http.MethodGet
	}
	for name, value := range r.env {
		next.env["REDIRECT_"+name] = value
	}
	if r.status != 0 {
		next.env["REDIRECT_STATUS"] = strconv.Itoa(r.status)
	} else {
		next.env["REDIRECT_STATUS"] = "200"
	}
	uri, args, _ := strings.Cut(target, "?")
	clean, status := normalised((&url.URL{Path: uri}).EscapedPath(), nil)
	if status != 0 {
		r.fail(status, facts.Origin{Default: "Apache"}, "the address leads out of the site")
		return
	}
	next.uri, next.args = clean, args
	r.a.Then(facts.Origin{Default: "Apache"}, "it goes on as "+target)
	if next.process() {
		next.handle()
	}
}

// escaped is a path as it is sent.
func escaped(path string) string { return (&url.URL{Path: path}).EscapedPath() }

// hostAsked is the host as the visitor names it, with the port where that is not the one of the scheme.
func (r *request) hostAsked(scheme string) string {
	if p := r.ask.HostPort; p != 0 && !(p == 80 && scheme == "http" || p == 443 && scheme == "https") {
		return r.ask.Host + ":" + strconv.Itoa(p)
	}
	return r.ask.Host
}

// canonical tells whether the server goes by its own name. Of DNS nobody here knows what that would say.
func (r *request) canonical() bool {
	n := r.set.canonical
	return r.host.called != "" && n != nil && (strings.EqualFold(n.Arg(0), "on") ||
		strings.EqualFold(n.Arg(0), "dns") && r.g.Either(facts.Reason{Because: n.String() + " is not evaluated", Origin: at(n)}))
}

// self is how this server names itself in addresses that lead to it (ap_construct_url).
func (r *request) self() string {
	host := r.hostAsked(r.scheme())
	if r.canonical() {
		host = r.host.called
		if p := r.host.calledPort; p != "" && p != map[string]string{"http": "80", "https": "443"}[r.scheme()] {
			host += ":" + p
		}
	}
	return r.scheme() + "://" + host
}

func (r *request) scheme() string {
	if r.host.ssl || r.host.secure {
		return "https"
	}
	return "http"
}
