package apache

import (
	"net/http"
	"path"
	"strconv"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// rewriting is what mod_rewrite is told at one level.
type rewriting struct {
	on      bool
	onAt    *directives.Node
	said    bool // RewriteEngine stands here
	base    string
	folder  string // that patterns are relative to; "" for the server
	rules   []*rule
	conds   []*directives.Node // that wait for their rule
	nodes   []*directives.Node
	dropped []*directives.Node // of sections around it, which this one replaces
	options *directives.Node
}

type rule struct {
	node    *directives.Node
	conds   []*directives.Node
	pattern *answer.Pattern
	not     bool
	to      string
	flags   map[string]string
}

func (w *rewriting) add(n *directives.Node, patterns *answer.Patterns) {
	w.nodes = append(w.nodes, n)
	switch {
	case n.Is("RewriteEngine"):
		w.on, w.onAt, w.said = strings.EqualFold(n.Arg(0), "on"), n, true
	case n.Is("RewriteBase"):
		w.base = n.Arg(0)
	case n.Is("RewriteCond"):
		w.conds = append(w.conds, n)
	case n.Is("RewriteOptions", "RewriteMap"):
		w.options = n
	case n.Is("RewriteRule"):
		expression, not := strings.CutPrefix(n.Arg(0), "!")
		r := &rule{node: n, conds: w.conds, not: not, to: n.Arg(1), flags: flagsOf(n.Arg(2))}
		_, anyCase := r.flags["nc"]
		r.pattern = patterns.Compile(expression, anyCase)
		w.conds = nil
		w.rules = append(w.rules, r)
	}
}

var longFlags = map[string]string{"last": "l", "redirect": "r", "forbidden": "f", "gone": "g", "nocase": "nc", "qsappend": "qsa", "qsdiscard": "qsd", "qslast": "qsl", "passthrough": "pt", "skip": "s", "chain": "c", "next": "n", "env": "e", "noescape": "ne", "type": "t", "handler": "h", "cookie": "co", "proxy": "p", "ornext": "or"}

func flagsOf(text string) map[string]string {
	flags := map[string]string{}
	text = strings.TrimSuffix(strings.TrimPrefix(text, "["), "]")
	for _, flag := range strings.Split(text, ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(flag), "=")
		if name = strings.ToLower(name); longFlags[name] != "" {
			name = longFlags[name]
		}
		if name != "" {
			flags[name] = value
		}
	}
	return flags
}

// rewritten is what rules made of an address.
type rewritten struct {
	status   int // of an external redirect, 403, 410 or another; 0 for none
	target   string
	changed  bool
	passes   bool // [PT]
	ends     bool // [END]
	node     *directives.Node
	handler  string
	proxied  bool
	absolute bool
}

// rules runs the rules of a level on an address, or on what is left of a path below a folder.
func (r *request) rules(w *rewriting, perFolder bool) (out rewritten) {
	uri := r.uri
	filename := r.uri
	if perFolder {
		filename = r.file + r.info
	}
	initial := filename
	skip, chained, rounds := 0, false, 0
	for i := 0; i < len(w.rules); i++ {
		rule := w.rules[i]
		if skip > 0 {
			skip--
			continue
		}
		if chained { // the rule before, to which this one is chained, did not match
			_, chained = rule.flags["c"]
			continue
		}
		_, notSub := rule.flags["ns"]
		_, redirects := rule.flags["r"]
		if r.sub && (notSub || redirects) { // what is only looked up is not sent elsewhere
			continue
		}
		subject := filename
		if perFolder {
			folder := strings.TrimSuffix(w.folder, "/") + "/"
			switch {
			case out.absolute: // no longer below the folder
			case strings.HasPrefix(filename, folder):
				subject = filename[len(folder):]
			}
		}
		groups, matched := r.matches(rule, subject)
		if !matched {
			_, chained = rule.flags["c"]
			continue
		}
		node := rule.node
		if rule.to != "-" {
			target := r.expand(rule.to, groups, r.condGroups, node, w)
			query, has := "", false
			if _, asIs := rule.flags["qsd"]; asIs {
				r.args = ""
			}
			if target, query, has = strings.Cut(target, "?"); has {
				if _, add := rule.flags["qsa"]; add && r.args != "" && query != "" {
					query += "&" + r.args
				} else if add && query == "" {
					query = r.args
				}
				r.args = query
			}
			out.absolute = strings.Contains(strings.SplitN(target, "/", 2)[0], ":") && strings.Contains(target, "://")
			if perFolder && !strings.HasPrefix(target, "/") && !out.absolute {
				target = strings.TrimSuffix(w.folder, "/") + "/" + target
			}
			if len(target) > maxText {
				r.unseen = &facts.Reason{Because: "what the rule makes of the address grows without end", Origin: at(node)}
				return out
			}
			filename = target
			out.changed = true
			if !perFolder {
				r.a.Then(at(node), "the address is rewritten to "+target)
			} else {
				r.a.Then(at(node), "the path is rewritten to "+target)
			}
		}
		out.node = node
		if handler, is := rule.flags["h"]; is {
			out.handler = handler
		}
		if env, is := rule.flags["e"]; is {
			name, value, _ := strings.Cut(env, ":")
			r.env[name] = r.expand(value, groups, r.condGroups, node, w)
		}
		if _, is := rule.flags["f"]; is {
			out.status = http.StatusForbidden
			return out
		}
		if _, is := rule.flags["g"]; is {
			out.status = http.StatusGone
			return out
		}
		if code, is := rule.flags["r"]; is || out.absolute {
			out.status = http.StatusFound
			switch {
			case code == "permanent":
				out.status = http.StatusMovedPermanently
			case code == "seeother":
				out.status = http.StatusSeeOther
			case code != "" && code != "temp":
				out.status, _ = strconv.Atoi(code)
			}
			if out.status < 300 || out.status > 399 {
				return out
			}
			if perFolder && w.base != "" && !out.absolute && rule.to != "-" {
				filename = substituted(filename, w)
			}
			out.target = filename
			if !out.absolute {
				out.target = r.self() + "/" + strings.TrimPrefix(escapedUnless(filename, rule), "/")
			} else if _, asIs := rule.flags["ne"]; !asIs {
				scheme, rest, _ := strings.Cut(filename, "://")
				host, rest, slash := strings.Cut(rest, "/")
				out.target = scheme + "://" + host
				if slash {
					out.target += escaped("/" + rest)
				}
			}
			if r.args != "" {
				out.target += "?" + r.args
			}
			return out
		}
		if _, is := rule.flags["p"]; is {
			out.proxied, out.target = true, filename
			return out
		}
		if _, is := rule.flags["pt"]; is {
			out.passes = true
		}
		_, last := rule.flags["l"]
		if _, end := rule.flags["end"]; end {
			out.ends, last = true, true
		}
		if last || out.passes {
			break
		}
		if _, next := rule.flags["n"]; next {
			if rounds++; rounds < 100 {
				i = -1
				continue
			}
			break
		}
		if n, is := rule.flags["s"]; is {
			skip, _ = strconv.Atoi(n)
		}
	}
	out.target = filename
	if perFolder && filename == initial {
		out.changed = false
	}
	_ = uri
	return out
}

// substituted puts RewriteBase in the place of the folder.
func substituted(filename string, w *rewriting) string {
	folder := strings.TrimSuffix(w.folder, "/") + "/"
	if rest, is := strings.CutPrefix(filename, folder); is {
		return strings.TrimSuffix(w.base, "/") + "/" + rest
	}
	return filename
}

func escapedUnless(text string, rule *rule) string {
	if _, asIs := rule.flags["ne"]; asIs {
		return text
	}
	return escaped(text)
}

// matches tells whether a rule matches, its conditions too.
func (r *request) matches(rule *rule, subject string) (groups []string, matched bool) {
	found, wrong := rule.pattern.Find(subject)
	if wrong != "" {
		return nil, r.g.Either(facts.Reason{Because: wrong, Origin: at(rule.node)})
	}
	if (found != nil) == rule.not {
		return nil, false
	}
	if found != nil {
		groups = found.Groups
	}
	r.condGroups, r.askedFor = nil, nil
	for i := 0; i < len(rule.conds); i++ {
		cond := rule.conds[i]
		_, or := flagsOf(cond.Arg(2))["or"]
		if r.condition(cond, groups) {
			for or && i+1 < len(rule.conds) { // the others of this either-or do not matter
				i++
				_, or = flagsOf(rule.conds[i].Arg(2))["or"]
			}
			continue
		}
		if !or { // one that another may stand in for is no obstacle, even where there is no other
			return nil, false
		}
	}
	r.varies = append(r.varies, r.askedFor...)
	return groups, true
}

// condition is one RewriteCond.
func (r *request) condition(n *directives.Node, groups []string) bool {
	if strings.EqualFold(n.Arg(0), "expr") {
		return r.expression(n.Arg(1), n)
	}
	test := r.expand(n.Arg(0), groups, r.condGroups, n, nil)
	if r.unseen != nil {
		why := *r.unseen
		r.unseen = nil
		return r.g.Either(why)
	}
	pattern, not := strings.CutPrefix(n.Arg(1), "!")
	flags := flagsOf(n.Arg(2))
	_, anyCase := flags["nc"]
	switch {
	case pattern == "-f" || pattern == "-d" || pattern == "-s" || pattern == "-e" || pattern == "-F" && false:
		entry := r.disk.Look(test)
		if entry.Is == answer.Unseen {
			return r.g.Either(facts.Reason{Because: entry.Why, Origin: at(n)})
		}
		is := entry.Is == answer.AFile
		switch pattern {
		case "-d":
			is = entry.Is == answer.AFolder
		case "-s":
			is = is && entry.Size > 0
		case "-e":
			is = entry.Is != answer.NoEntry
		}
		return is != not
	case len(pattern) == 2 && pattern[0] == '-' || strings.HasPrefix(pattern, "-eq") || strings.HasPrefix(pattern, "-lt") || strings.HasPrefix(pattern, "-gt") || strings.HasPrefix(pattern, "-ne") || strings.HasPrefix(pattern, "-le") || strings.HasPrefix(pattern, "-ge"):
		return r.g.Either(facts.Reason{Because: "the condition " + pattern + " is not evaluated", Origin: at(n)})
	case strings.HasPrefix(pattern, "="):
		want := strings.Trim(pattern[1:], `"`)
		if anyCase {
			return strings.EqualFold(test, want) != not
		}
		return (test == want) != not
	case strings.HasPrefix(pattern, "<"), strings.HasPrefix(pattern, ">"):
		less := pattern[0] == '<'
		want := pattern[1:]
		if rest, equal := strings.CutPrefix(want, "="); equal {
			return (test == rest || (test < rest) == less) != not
		}
		return (test != want && (test < want) == less) != not
	}
	found, wrong := r.patterns.Compile(pattern, anyCase).Find(test)
	if wrong != "" {
		return r.g.Either(facts.Reason{Because: wrong, Origin: at(n)})
	}
	if found != nil && !not {
		r.condGroups = found.Groups
	}
	return (found != nil) != not
}

// maxText is the longest text that is made of an address, in bytes.
const maxText = 1 << 16

// expand puts variables and what stood in parentheses into a text.
func (r *request) expand(text string, groups, conds []string, n *directives.Node, w *rewriting) string {
	var out strings.Builder
	for i := 0; i < len(text) && out.Len() <= maxText; i++ {
		c := text[i]
		switch {
		case c == '\\' && i+1 < len(text):
			i++
			out.WriteByte(text[i])
		case (c == '$' || c == '%') && i+1 < len(text) && text[i+1] >= '0' && text[i+1] <= '9':
			list := groups
			if c == '%' {
				list = conds
			}
			i++
			if g := int(text[i] - '0'); g < len(list) {
				out.WriteString(list[g])
			}
		case c == '%' && i+1 < len(text) && text[i+1] == '{':
			end := strings.IndexByte(text[i:], '}')
			if end < 0 {
				out.WriteByte(c)
				continue
			}
			name := text[i+2 : i+end]
			value, known := r.variable(name)
			if !known {
				r.unseen = &facts.Reason{Because: "the variable %{" + name + "} is not known", Origin: at(n)}
			}
			out.WriteString(value)
			i += end
		case c == '$' && i+1 < len(text) && text[i+1] == '{':
			r.unseen = &facts.Reason{Because: "RewriteMap is not evaluated", Origin: at(n)}
			if end := strings.IndexByte(text[i:], '}'); end > 0 {
				i += end
			}
		default:
			out.WriteByte(c)
		}
	}
	_ = w
	return out.String()
}

// variable is a variable of the server.
func (r *request) variable(name string) (string, bool) {
	lower := strings.ToLower(name)
	switch lower {
	case "request_uri":
		return r.uri, true
	case "request_filename", "script_filename":
		if r.file != "" {
			return r.file, true
		}
		return r.uri, true
	case "query_string":
		return r.args, true
	case "request_method":
		return r.method, true
	case "request_scheme":
		return r.scheme(), true
	case "https":
		if r.host.ssl {
			return "on", true
		}
		return "off", true
	case "http_host":
		return r.hostAsked(r.ask.Scheme), true
	case "server_name":
		if r.canonical() {
			return r.host.called, true
		}
		return r.ask.Host, true
	case "server_port":
		return strconv.Itoa(portOf(r.ask)), true
	case "document_root":
		return r.root(), true
	case "the_request":
		method := r.ask.Method
		if method == "" {
			method = http.MethodGet
		}
		return method + " " + r.ask.Target + " HTTP/1.1", true
	case "remote_addr":
		return r.ask.Client.String(), r.ask.Client.IsValid()
	case "path_info":
		return r.info, true
	case "http_cookie", "http_user_agent", "http_referer", "http_accept", "http_forwarded":
		r.askedFor = append(r.askedFor, map[string]string{"http_cookie": "Cookie", "http_user_agent": "User-Agent", "http_referer": "Referer", "http_accept": "Accept", "http_forwarded": "Forwarded"}[lower])
		return r.ask.Header[strings.ReplaceAll(strings.TrimPrefix(lower, "http_"), "_", "-")], true
	case "remote_user", "auth_type", "is_subreq":
		return map[string]string{"is_subreq": "false"}[lower], true
	case "server_protocol":
		return "HTTP/1.1", true
	}
	switch prefix, rest, _ := strings.Cut(name, ":"); strings.ToUpper(prefix) {
	case "HTTP":
		if strings.EqualFold(rest, "host") {
			return r.hostAsked(r.ask.Scheme), true
		}
		return r.ask.Header[strings.ToLower(rest)], true
	case "ENV":
		return r.env[rest], true
	}
	return "", false
}

// translate finds what an address stands for: rules of the server, aliases and redirects, and last the root.
func (r *request) translate() bool {
	if w := r.host.rewrite; w.on && len(w.rules) > 0 && !r.done {
		if w.options != nil && r.g.Either(facts.Reason{Because: w.options.Name + " is not evaluated", Origin: at(w.options)}) {
			r.unknown(facts.Reason{Because: w.options.Name + " is not evaluated", Origin: at(w.options)})
			return false
		}
		out := r.rules(w, false)
		if r.unseen != nil {
			r.unknown(*r.unseen)
			return false
		}
		r.done = r.done || out.ends
		if out.status != 0 && !r.sub {
			r.status = 0 // a rule's answer is no error of an error's page
		}
		switch {
		case out.status >= 300 && out.status < 400:
			r.redirect(out.status, out.target, at(out.node))
			return false
		case out.status != 0:
			r.shut(out.status, at(out.node), out.node.String())
			return false
		case out.proxied:
			r.proxied(out.target, out.node)
			return false
		case out.changed && out.passes:
			r.uri, _ = normalised(escaped(out.target), r.host.said("AllowEncodedSlashes"))
		case out.changed:
			if !strings.HasPrefix(out.target, "/") {
				r.fail(http.StatusBadRequest, at(out.node), "what the address is rewritten to does not begin with a slash")
				return false
			}
			r.file = out.target
			first := "/" + strings.SplitN(strings.TrimPrefix(out.target, "/"), "/", 2)[0]
			// What begins with something that lies on the disk is a file there, unless it begins with what was asked for (RewriteRule, UnsafePrefixStat).
			open := strings.HasPrefix(strings.TrimPrefix(out.node.Arg(1), "/"), "$") || strings.HasPrefix(strings.TrimPrefix(out.node.Arg(1), "/"), "%")
			if first == "/" || r.disk.Look(first).Is == answer.NoEntry || open && !strings.HasPrefix(out.target, r.root()) {
				r.file = r.root() + path.Clean(out.target)
				if strings.HasSuffix(out.target, "/") && !strings.HasSuffix(r.file, "/") {
					r.file += "/"
				}
			}
			return true
		}
	}
	for _, n := range r.host.aliases {
		if !n.Is("ProxyPass") || len(n.Args) < 2 {
			continue
		}
		if rest, is := below(r.uri, n.Arg(0)); is {
			if n.Arg(1) == "!" { // what is excepted
				break
			}
			r.proxied(n.Arg(1)+rest, n)
			return false
		}
	}
	for _, n := range r.host.aliases {
		if n.Is("Redirect", "RedirectMatch", "RedirectPermanent", "RedirectTemp") {
			if status, target, is := r.redirects(n, ""); is {
				return r.sendTo(status, target, n)
			}
		}
	}
	for _, n := range r.host.aliases {
		if n.Is("Alias", "ScriptAlias") && len(n.Args) == 2 {
			if rest, is := below(r.uri, n.Arg(0)); is {
				r.aliased, r.prefix, r.prefixTo = n, strings.TrimSuffix(n.Arg(0), "/"), strings.TrimSuffix(r.path(n.Arg(1)), "/")
				r.file = r.path(n.Arg(1)) + map[bool]string{true: "/", false: ""}[strings.HasSuffix(n.Arg(1), "/") && n.Arg(1) != "/"] + rest
				r.a.Then(at(n), "the address stands for "+r.file)
				return true
			}
		}
		if n.Is("AliasMatch", "ScriptAliasMatch") {
			found, wrong := r.patterns.Compile(n.Arg(0), false).Find(r.uri)
			if wrong != "" {
				r.unknown(facts.Reason{Because: wrong, Origin: at(n)})
				return false
			}
			if found != nil {
				r.aliased = n
				r.file = r.path(r.expand(n.Arg(1), found.Groups, nil, n, nil))
				return true
			}
		}
	}
	r.file = r.root() + r.uri
	return true
}

// below is what follows a prefix of whole segments, as alias_matches does.
func below(uri, prefix string) (rest string, is bool) {
	if strings.HasSuffix(prefix, "/") {
		return strings.CutPrefix(uri, prefix)
	}
	rest, is = strings.CutPrefix(uri, prefix)
	return rest, is && (rest == "" || rest[0] == '/')
}

// redirects tells whether a Redirect takes an address, and where it leads.
func (r *request) redirects(n *directives.Node, _ string) (status int, target string, is bool) {
	words := n.Args
	status = http.StatusFound
	switch {
	case n.Is("RedirectPermanent"):
		status = http.StatusMovedPermanently
	case n.Is("RedirectTemp"):
	case len(words) > 1 && !strings.HasPrefix(words[0], "/") && !n.Is("RedirectMatch") || n.Is("RedirectMatch") && len(words) > 1 && statusWord(words[0]) != 0:
		if status = statusWord(words[0]); status == 0 {
			return 0, "", false
		}
		words = words[1:]
	}
	if len(words) == 0 {
		return 0, "", false
	}
	to := ""
	if len(words) > 1 {
		to = words[1]
	}
	if n.Is("RedirectMatch") {
		found, wrong := r.patterns.Compile(words[0], false).Find(r.uri)
		if wrong != "" {
			return 0, "", r.g.Either(facts.Reason{Because: wrong, Origin: at(n)})
		}
		if found == nil {
			return 0, "", false
		}
		return status, escapedURL(r.expand(to, found.Groups, nil, n, nil)), true
	}
	rest, is := below(r.uri, words[0])
	if !is {
		return 0, "", false
	}
	return status, to + escaped(rest), true
}

func escapedURL(target string) string {
	if scheme, rest, is := strings.Cut(target, "://"); is {
		host, path, slash := strings.Cut(rest, "/")
		if slash {
			return scheme + "://" + host + escaped("/"+path)
		}
		return target
	}
	return escaped(target)
}

func statusWord(word string) int {
	switch strings.ToLower(word) {
	case "permanent":
		return 301
	case "temp":
		return 302
	case "seeother":
		return 303
	case "gone":
		return 410
	}
	n, err := strconv.Atoi(word)
	if err != nil {
		return 0
	}
	return n
}

// sendTo carries out a Redirect.
func (r *request) sendTo(status int, target string, n *directives.Node) bool {
	if status < 300 || status > 399 {
		r.shut(status, at(n), n.String())
		return false
	}
	if strings.HasPrefix(target, "/") {
		target = r.self() + target
	}
	if r.args != "" && !strings.Contains(target, "?") {
		target += "?" + r.args
	}
	r.redirect(status, target, at(n))
	return false
}
