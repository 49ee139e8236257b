package apache

import (
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// types tells what kind of thing a file is, and which handler it gets: one that is set beats those of its endings.
func (r *request) types() {
	name := path.Base(r.file)
	r.kind, r.kindAt, r.handler, r.handlerAt, r.charset, r.encoding = "", nil, "", nil, nil, nil
	if r.entry.Is != answer.AFolder {
		endings := strings.Split(name, ".")
		for _, e := range endings[min(1, len(endings)):] {
			e = strings.ToLower(e)
			known := r.set.byEnding[e]
			if kind := r.types1(e, known); kind != "" {
				r.kind, r.kindAt = kind, known.kind
			}
			if known.handler != nil {
				r.handler, r.handlerAt = known.handler.Arg(0), known.handler
			}
			if known.charset != nil {
				r.charset = known.charset
			}
			if known.encoding != nil {
				r.encoding = known.encoding
			}
		}
	}
	if n := r.set.forceType; n != nil && !strings.EqualFold(n.Arg(0), "none") {
		r.kind, r.kindAt, r.charset = n.Arg(0), n, nil
	}
	if n := r.set.handler; n != nil && !strings.EqualFold(n.Arg(0), "none") {
		r.handler, r.handlerAt = n.Arg(0), n
	}
	if r.handler == "" && strings.HasPrefix(r.kind, "application/x-httpd-php") {
		r.handler, r.handlerAt = r.kind, r.kindAt
	}
	if r.aliased != nil && r.aliased.Is("ScriptAlias", "ScriptAliasMatch") && r.handler == "" {
		r.handler, r.handlerAt = "cgi-script", r.aliased
	}
}

func (r *request) types1(ending string, known ending) string {
	if known.kind != nil {
		return known.kind.Arg(0)
	}
	return r.Config.types[ending]
}

// fixups are what is done after access has been granted: redirects of folders, rewriting, and what stands for a folder.
func (r *request) fixups() bool {
	if !r.rewriteHere() {
		return false
	}
	if !r.sub {
		for _, n := range r.set.redirects {
			if status, target, is := r.redirects(n, ""); is {
				return r.sendTo(status, target, n)
			}
		}
	}
	switch r.entry.Is {
	case answer.NoEntry:
		if r.set.options["MultiViews"] && r.Tree.Modules["mod_negotiation.c"] != "" {
			if why := (facts.Reason{Because: "with Options MultiViews a file of another name may answer", Origin: at(r.set.optionAt)}); r.g.Either(why) {
				r.unknown(why)
				return false
			}
		}
		return r.fallback()
	case answer.AFolder:
		return r.folder()
	}
	return true
}

// rewriteHere carries out the rules of the folder.
func (r *request) rewriteHere() bool {
	w := r.set.rewrite
	if !w.on || w.folder == "" || r.done {
		return true
	}
	if r.entry.Is == answer.AFolder && !strings.HasSuffix(r.file, "/") && strings.TrimSuffix(w.folder, "/") == r.file {
		return true // rules of a folder are not for its own address without the slash
	}
	if !r.set.options["FollowSymLinks"] && !r.set.options["SymLinksIfOwnerMatch"] {
		if r.sub {
			r.status = http.StatusForbidden
			return false
		}
		r.fail(http.StatusForbidden, at(r.set.optionAt), "rewriting in a folder needs Options FollowSymLinks, which is off")
		return false
	}
	if len(w.rules) == 0 {
		return true
	}
	if w.options != nil && r.g.Either(facts.Reason{Because: w.options.Name + " is not evaluated", Origin: at(w.options)}) {
		r.unknown(facts.Reason{Because: w.options.Name + " is not evaluated", Origin: at(w.options)})
		return false
	}
	out := r.rules(w, true)
	if r.unseen != nil {
		r.unknown(*r.unseen)
		return false
	}
	r.done = r.done || out.ends
	switch {
	case out.status >= 300 && out.status < 400:
		if r.sub {
			r.status = out.status
		} else {
			r.status = 0 // a rule's answer is no error of an error's page
		}
		r.redirect(out.status, out.target, at(out.node))
		return false
	case out.status != 0:
		if r.sub {
			r.status = out.status
			return false
		}
		r.status = 0
		r.shut(out.status, at(out.node), out.node.String())
		return false
	case out.proxied:
		r.proxied(out.target, out.node)
		return false
	}
	if out.handler != "" {
		r.handler, r.handlerAt = out.handler, out.node
	}
	if !out.changed {
		return true
	}
	if !strings.HasPrefix(out.target, "/") {
		r.fail(http.StatusBadRequest, at(out.node), "what the path is rewritten to does not begin with a slash")
		return false
	}
	target := out.target
	switch {
	case w.base != "":
		target = substituted(target, w)
	case r.prefixTo != "" && strings.HasPrefix(target, r.prefixTo+"/"):
		target = r.prefix + strings.TrimPrefix(target, r.prefixTo)
	case strings.HasPrefix(target, r.root()+"/"):
		target = strings.TrimPrefix(target, r.root())
	}
	if r.args != "" {
		target += "?" + r.args
	}
	if r.entry.Is == answer.AFolder && !strings.HasSuffix(r.uri, "/") { // the slash comes first
		if r.set.slash == nil || !strings.EqualFold(r.set.slash.Arg(0), "off") {
			return r.folder()
		}
	}
	if r.sub { // whoever looks it up goes on there, if it takes this one
		r.leads = target
		return true
	}
	r.again(target)
	return false
}

// fallback is what FallbackResource puts in the place of what is not there.
func (r *request) fallback() bool {
	n := r.set.fallback
	if n == nil || strings.EqualFold(n.Arg(0), "disabled") || r.handler != "" {
		return true
	}
	if r.depth > 8 { // what it names is not there, and leads to itself
		r.fail(http.StatusInternalServerError, at(n), n.String()+" leads to itself, since there is no such file")
		return false
	}
	address := n.Arg(0)
	if !strings.HasPrefix(address, "/") {
		address = r.uri[:strings.LastIndexByte(r.uri, '/')+1] + address
	}
	other := r.lookUp(address)
	switch {
	case other.answered:
		r.unknown(*other.why)
		return false
	case other.status >= 300 && other.status != http.StatusNotFound:
		r.fail(other.status, at(n), "what stands in its place may not be looked at: "+n.String())
		return false
	case other.status != 0 || other.entry.Is != answer.AFile:
		return true
	}
	r.a.Then(at(n), "in its place "+address+" answers: "+n.String())
	return r.take(other)
}

// lookUp finds out what an address of this server stands for, without answering.
func (r *request) lookUp(address string) *request {
	uri, args, _ := strings.Cut(address, "?")
	other := &request{Config: r.Config, g: r.g, ask: r.ask, a: answer.New(), host: r.host, method: http.MethodGet, depth: r.depth + 1, sub: true, env: r.env, challenged: new(*answer.Told), work: r.work, uri: path.Clean(uri), args: args, done: r.done}
	if strings.HasSuffix(uri, "/") && uri != "/" {
		other.uri += "/"
	}
	if args == "" {
		other.args = r.args
	}
	other.whole = r
	other.process()
	return other
}

// take goes on as the other one; false when that leads on, and has been answered.
func (r *request) take(other *request) bool {
	r.uri, r.args, r.file, r.info, r.entry, r.set = other.uri, other.args, other.file, other.info, other.entry, other.set
	r.kind, r.kindAt, r.handler, r.handlerAt, r.charset, r.encoding = other.kind, other.kindAt, other.handler, other.handlerAt, other.charset, other.encoding
	r.varies = append(r.varies, other.varies...)
	r.aliased, r.prefix, r.prefixTo = other.aliased, other.prefix, other.prefixTo
	r.a.Way = append(r.a.Way, other.a.Way...)
	if r.leads = other.leads; r.leads == "" || r.sub {
		return true
	}
	r.again(r.leads)
	return false
}

// folder is what answers for a folder.
func (r *request) folder() bool {
	if !strings.HasSuffix(r.uri, "/") {
		slash := r.set.slash == nil || !strings.EqualFold(r.set.slash.Arg(0), "off")
		if !slash {
			return true
		}
		if r.sub {
			r.status = http.StatusMovedPermanently
			return false
		}
		target := r.self() + escaped(r.uri) + "/"
		if r.args != "" {
			target += "?" + r.args
		}
		r.a.Then(at(r.set.slash), "it is a folder, and its address ends in a slash")
		r.redirect(http.StatusMovedPermanently, target, at(r.set.slash))
		return false
	}
	names, from := []string{"index.html"}, facts.Origin{Default: "Apache"}
	if r.set.indexesAt != nil {
		names, from = r.set.indexes, at(r.set.indexesAt)
	}
	refused, challenge := 0, (*answer.Told)(nil)
	for i, name := range names {
		address := name
		if !strings.HasPrefix(name, "/") {
			address = r.uri + name
		}
		if r.depth > 8 {
			break
		}
		other := r.lookUp(address)
		if other.answered {
			r.unknown(*other.why)
			return false
		}
		switch {
		case other.status >= 300 && other.status < 400:
			r.fail(other.status, from, "its index "+address+" leads elsewhere")
			return false
		case other.status == http.StatusNotFound || other.entry.Is == answer.NoEntry && other.status == 0:
		case other.status != 0:
			refused, challenge = other.status, nil
			if i == len(names)-1 { // of the last one alone the server passes on how to answer
				challenge = other.challenge
			}
		case other.entry.Is == answer.AFile:
			if status := redirectStatus(r.set.indexMoves); status != 0 {
				r.a.Then(at(r.set.indexMoves), "its index has an address of its own")
				r.redirect(status, r.self()+other.uri, at(r.set.indexMoves))
				return false
			}
			r.a.Then(from, "its index is "+address)
			return r.take(other)
		}
	}
	if refused != 0 {
		*r.challenged = challenge
		r.fail(refused, from, "its index may not be looked at")
		return false
	}
	return true
}

// redirectStatus is that of DirectoryIndexRedirect; 0 when an index is served where its folder was asked for.
func redirectStatus(n *directives.Node) int {
	if n == nil {
		return 0
	}
	status := map[string]int{"on": http.StatusFound, "temp": http.StatusFound, "permanent": http.StatusMovedPermanently, "seeother": http.StatusSeeOther}[strings.ToLower(n.Arg(0))]
	if code, err := strconv.Atoi(n.Arg(0)); err == nil && code >= 300 && code < 400 {
		status = code
	}
	return status
}

// handle makes the answer.
func (r *request) handle() {
	r.place()
	if why := r.set.unsureOf(bodies); why != nil {
		r.hidden = why
	}
	handler := r.handler
	switch {
	case handler == "" || handler == "default-handler":
	case strings.HasPrefix(handler, "proxy:"):
		r.program(handler)
		return
	case strings.HasPrefix(handler, "application/x-httpd-php") || handler == "php-script" || handler == "php7-script":
		if r.Tree.Modules["mod_php.c"] != "" {
			if r.set.engine != nil && strings.EqualFold(r.set.engine.Arg(1), "off") {
				r.a.Then(at(r.set.engine), "its runtime is switched off here, so its source is served")
				break
			}
			r.program(handler)
			return
		}
		r.a.Then(at(r.handlerAt), "no module carries out "+handler+", so its source is served")
	case handler == "cgi-script":
		if !r.set.options["ExecCGI"] && (r.aliased == nil || !r.aliased.Is("ScriptAlias", "ScriptAliasMatch")) {
			r.fail(http.StatusForbidden, at(r.handlerAt), "programs may not be run here: Options ExecCGI is off")
			return
		}
		if r.entry.Is == answer.NoEntry {
			r.fail(http.StatusNotFound, at(r.handlerAt), "there is no program "+r.file)
			return
		}
		r.program(handler)
		return
	case handler == "server-status" || handler == "server-info" || handler == "balancer-manager" || handler == "ldap-status":
		r.a.Say(answer.Handler, at(r.handlerAt), "return")
		r.a.Say(answer.File, at(r.handlerAt))
		r.send(reply{status: 200, kind: "text/html", length: -1, origin: at(r.handlerAt), filters: true})
		return
	case handler == "httpd/unix-directory" || handler == "type-map" || handler == "send-as-is":
	default:
		// A handler that no module has falls through to the default one.
	}
	r.static()
}

func (r *request) place() {
	n := r.host.node
	for _, s := range r.host.folders {
		if s.pattern == nil && (strings.HasPrefix(r.file, s.path+"/") || s.path == r.file || s.path == "") {
			n = s.node
		}
	}
	for _, s := range r.host.places {
		if s.pattern == nil && r.takes(s, r.uri) {
			n = s.node
		}
	}
	if n != nil {
		r.a.Say(answer.Place, at(n), strings.Join(append([]string{n.Name}, n.Args...), " "))
	} else {
		r.a.Lack(answer.Place, facts.Origin{File: r.Tree.Main}, "no section")
	}
}

// static is the default handler, and that of listings.
func (r *request) static() {
	where := r.rootOrigin()
	if r.entry.Is == answer.AFolder {
		if r.method != http.MethodGet && r.method != http.MethodHead {
			r.fail(http.StatusNotFound, where, "a folder without an index takes only GET")
			return
		}
		if r.handler == "default-handler" {
			r.fail(http.StatusNotFound, at(r.handlerAt), "a folder without an index is nothing for the default handler")
			return
		}
		if r.set.options["Indexes"] && r.Tree.Modules["mod_autoindex.c"] != "" {
			r.a.Say(answer.Handler, at(r.set.optionAt), "listing")
			r.a.Say(answer.File, where, strings.TrimSuffix(r.file, "/"))
			if n := r.ignoresAll(); n != nil {
				r.a.Say(answer.Bare, at(n), "yes")
				r.a.Then(at(n), "its files are listed, and all of them left out: "+n.String())
			} else {
				r.a.Then(at(r.set.optionAt), "its files are listed: Options Indexes")
			}
			r.send(reply{status: 200, kind: "text/html;charset=" + r.listingCharset(), length: -1, origin: at(r.set.optionAt), filters: true, listing: true})
			return
		}
		if r.Tree.Modules["mod_autoindex.c"] == "" {
			r.fail(http.StatusNotFound, where, "the folder has no index, and no module lists it")
			return
		}
		r.fail(http.StatusForbidden, at(r.set.optionAt), "the folder has no index and is not listed")
		return
	}
	if r.entry.Is == answer.NoEntry {
		r.fail(http.StatusNotFound, where, "there is no file "+r.file)
		return
	}
	if r.info != "" && (r.set.pathInfo == nil || !strings.EqualFold(r.set.pathInfo.Arg(0), "on")) {
		r.fail(http.StatusNotFound, where, r.file+" is a file, and "+r.info+" follows it")
		return
	}
	if !slices.Contains([]string{http.MethodGet, http.MethodHead, http.MethodPost}, r.method) {
		r.fail(http.StatusMethodNotAllowed, where, "a file only takes GET")
		return
	}
	r.a.Then(where, "the file "+r.file+" is served as it is")
	r.a.Say(answer.Handler, where, "static")
	r.a.Say(answer.File, where, r.file)
	lacks := "nothing here hands it to a runtime"
	if r.handlerAt != nil && r.handler != "" && r.handler != "default-handler" {
		lacks = r.handler + " is carried out by no module"
	}
	r.a.Lack(answer.Runs, at(r.handlerAt), lacks)
	r.send(reply{status: 200, kind: r.kind, kindOrigin: at(r.kindAt), length: r.entry.Size, static: true, origin: where, filters: true})
}

// program runs a file as a program, or hands it on.
func (r *request) program(handler string) {
	where := at(r.handlerAt)
	r.a.Then(where, "it is run as a program, by "+handler)
	if strings.HasPrefix(handler, "proxy:") && !strings.HasPrefix(handler, "proxy:fcgi:") && !strings.HasPrefix(handler, "proxy:unix:") {
		r.a.Say(answer.Handler, where, "proxy")
	} else {
		r.a.Say(answer.Handler, where, "program")
	}
	r.a.Say(answer.Runs, where, "yes")
	r.a.Say(answer.File, where, r.file)
	mod := !strings.HasPrefix(handler, "proxy:")
	r.a.Runtime = r.set.runtime
	if backend, is := fastCGI(handler); is {
		r.a.Runtime = append([]answer.Setting{r.documentRoot(), r.serverName()}, r.set.runtime...)
		r.a.Onward = &answer.Onward{Address: backend, Among: []string{backend}, Origin: where}
	}
	if mod && r.entry.Is == answer.NoEntry {
		r.a.Lack(answer.Runs, where, "there is no file "+r.file)
		r.fail(http.StatusNotFound, where, "there is no program "+r.file)
		return
	}
	if r.ask.Program == nil {
		r.fromProgram(where)
		return
	}
	r.send(reply{status: r.ask.Program.Status, kind: r.ask.Program.Header["content-type"], length: int64(r.ask.Program.Length), program: r.ask.Program.Header, inAlways: !mod, origin: where, filters: true})
}

// fastCGI is where a handler asks FastCGI.
func fastCGI(handler string) (address string, is bool) {
	target := strings.TrimPrefix(handler, "proxy:")
	if socket, rest, two := strings.Cut(target, "|"); two {
		return socket, strings.HasPrefix(target, "unix:") && strings.HasPrefix(rest, "fcgi:")
	}
	if target, is = strings.CutPrefix(target, "fcgi://"); is {
		target, _, _ = strings.Cut(target, "/")
	}
	return target, is
}

// documentRoot is the parameter for the host's root.
func (r *request) documentRoot() answer.Setting {
	if n := r.host.root; n != nil {
		return answer.Setting{Kind: "DOCUMENT_ROOT", Value: strings.TrimSuffix(n.Arg(0), "/"), Origin: at(n)}
	}
	return answer.Setting{Kind: "DOCUMENT_ROOT", Unknown: "no DocumentRoot is said", Origin: facts.Origin{File: r.Tree.Main}}
}

// serverName is the parameter for the host's name: what was asked for, unless only the configured name counts.
func (r *request) serverName() answer.Setting {
	if n := r.set.canonical; n != nil && strings.EqualFold(n.Arg(0), "on") {
		return answer.Setting{Kind: "SERVER_NAME", Value: r.host.called, Origin: at(n)}
	}
	return answer.Setting{Kind: "SERVER_NAME", Value: r.ask.Host, Origin: facts.Origin{File: r.Tree.Main}}
}

// proxied is a request that a rule hands to another server.
func (r *request) proxied(target string, n *directives.Node) {
	r.a.Say(answer.Handler, at(n), "proxy")
	r.a.Say(answer.File, at(n), target)
	r.a.Then(at(n), "it is passed on to "+target)
	why := facts.Reason{Because: "what " + target + " answers is not in the configuration", Origin: at(n)}
	for _, f := range all {
		if _, said := r.a.Fields[f]; !said {
			r.a.Hide(f, why)
		}
	}
	r.a.Others = &why
}

// redirect sends the visitor somewhere else.
func (r *request) redirect(status int, target string, origin facts.Origin) {
	if r.sub {
		r.status = status
		return
	}
	r.location, r.locationAt = target, origin
	r.fail(status, origin, "the visitor is sent to "+target)
}

// fail answers with a status: with the page that ErrorDocument names, or the server's own.
func (r *request) fail(status int, origin facts.Origin, says string) {
	if r.sub {
		r.status = status
		return
	}
	if r.set == nil {
		r.bare()
	}
	r.a.Then(origin, says)
	if r.status == 0 { // the first one counts
		r.status, r.origin = status, origin
	} else { // a page of an error that cannot be made: the first status with the server's own page
		first := r
		for first.before != nil && first.before.status != 0 {
			first = first.before
		}
		first.own(r.status)
		return
	}
	n := r.set.errors[status]
	if n == nil || len(n.Args) < 2 || strings.EqualFold(n.Arg(1), "default") {
		r.own(status)
		return
	}
	page := n.Arg(1)
	switch {
	case strings.HasPrefix(page, "/"):
		r.a.Then(at(n), "its error page is "+page)
		r.again(page)
	case strings.Contains(page, "://"):
		if status == http.StatusUnauthorized {
			r.own(status)
			return
		}
		r.location, r.locationAt = page, at(n)
		r.status = http.StatusFound
		r.origin = at(n)
		r.own(http.StatusFound)
	default:
		r.text = true
		r.own(status)
	}
}

// own answers with a page that the server makes itself.
func (r *request) own(status int) {
	handler := "error"
	if status < 400 {
		handler = "return"
	}
	r.a.Say(answer.Handler, r.origin, handler)
	if status >= 400 {
		r.a.Lack(answer.File, r.origin, "nothing is served")
	}
	r.place()
	r.send(reply{status: status, kind: "text/html; charset=iso-8859-1", length: 200, origin: r.origin, built: true})
}

// listingCharset is the charset that listings say of themselves.
func (r *request) listingCharset() string {
	for _, n := range r.set.indexOptions {
		for _, word := range n.Args {
			if name, value, is := strings.Cut(word, "="); is && strings.EqualFold(strings.TrimPrefix(name, "+"), "charset") {
				return value
			}
		}
	}
	return "ISO-8859-1"
}

// ignoresAll is the line that leaves every file out of lists; nil when there is none. What IndexIgnoreReset leaves of it is not
// looked into.
func (r *request) ignoresAll() (all *directives.Node) {
	for _, n := range r.set.indexOptions {
		switch {
		case n.Is("IndexIgnoreReset"):
			return nil
		case n.Is("IndexIgnore") && slices.Contains(n.Args, "*"):
			all = n
		}
	}
	return all
}

// shut is a failure that a line asks for.
func (r *request) shut(status int, origin facts.Origin, says string) {
	if status == http.StatusForbidden {
		r.a.Say(answer.Denied, origin, "yes")
	}
	r.fail(status, origin, says)
}
