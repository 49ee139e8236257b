package apache

import (
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
	length     int64
	static     bool
	listing    bool
	origin     facts.Origin
	program    map[string]string
	inAlways   bool // what the program says sits among those that are sent always
	filters    bool // it goes through the filters of a handler: both tables of headers, compression, expiry
	built      bool
}

// A table of headers, as the server keeps two of: for answers that went well, and for all.
type table map[string]answer.Told

func (t table) set(name string, origin facts.Origin, values ...string) {
	t[strings.ToLower(name)] = answer.Told{Values: values, Origin: origin}
}

func (r *request) send(p reply) {
	status := p.status
	if r.status != 0 && !p.built && p.program == nil && status == http.StatusOK { // a program says its own
		status = r.status
	}
	p.status = status
	r.a.Say(answer.Status, r.statusOrigin(p), strconv.Itoa(status))
	r.a.Then(r.statusOrigin(p), "the answer is "+strconv.Itoa(status))
	for at := r; at != nil; at = at.before {
		if at.location != "" {
			r.a.Say(answer.Location, at.locationAt, at.location)
			break
		}
	}
	r.limits()
	r.headers(p)
}

func (r *request) statusOrigin(p reply) facts.Origin {
	if r.status != 0 {
		return r.origin
	}
	return p.origin
}

func (r *request) limits() {
	most, n := "1073741824", r.set.bodyLimit
	if n != nil {
		most = n.Arg(0)
	}
	r.a.Say(answer.Body, at(n), most)
}

// headers works out each header from the two tables.
func (r *request) headers(p reply) {
	good, always := table{}, table{}
	if p.kind != "" && p.status != http.StatusNoContent && p.status != http.StatusNotModified {
		good.set("content-type", p.kindOrigin, r.withCharset(p))
	}
	if p.static {
		if r.encoding != nil {
			good.set("content-encoding", at(r.encoding), r.encoding.Arg(0))
		}
		if r.set.etag == nil || !strings.EqualFold(r.set.etag.Arg(0), "none") {
			good.set("etag", at(r.set.etag), "set")
		} else {
			good["etag"] = answer.Told{Origin: at(r.set.etag), Because: r.set.etag.String()}
		}
		good.set("last-modified", p.origin, "set")
	}
	for name, value := range p.program {
		switch {
		case name == "content-type" || name == "location" || name == "content-length":
		case p.inAlways:
			always.set(name, p.origin, value)
		default:
			good.set(name, p.origin, value)
		}
	}
	if p.program["location"] != "" {
		r.a.Say(answer.Location, p.origin, p.program["location"])
	}
	if *r.challenged != nil {
		always["www-authenticate"] = **r.challenged
	}
	r.expires(p, good, always)
	if p.filters {
		if len(r.varies) > 0 {
			good.set("vary", p.origin, strings.Join(distinct(r.varies), ", "))
		}
		r.deflate(p, good)
		r.carryOut(good, false, p)
	} else {
		r.forgone(good)
	}
	r.carryOut(always, true, p)
	r.serverHeader()
	// What stands in both is sent twice.
	for name, told := range always {
		if good[name].Unknown != nil && told.Unknown == nil {
			continue
		}
		if len(told.Values) > 0 && len(good[name].Values) > 0 {
			told.Values = append(slices.Clone(told.Values), good[name].Values...)
			told.Beaten = append(told.Beaten, good[name].Origin)
		} else if len(told.Values) == 0 && told.Unknown == nil {
			if _, is := good[name]; is {
				continue
			}
		}
		good[name] = told
	}
	if vary := good["vary"]; len(vary.Values) > 0 {
		vary.Values = []string{strings.Join(distinct(vary.Values), ",")}
		good["vary"] = vary
	}
	for name, told := range good {
		if _, said := r.a.Fields[answer.Header(name)]; said && name == "server" {
			continue
		}
		r.a.Fields[answer.Header(name)] = told
	}
	r.rest()
}

// distinct are the names in a Vary, each once, as the server sends them.
func distinct(values []string) (names []string) {
	for _, name := range strings.Split(strings.Join(values, ","), ",") {
		name = strings.TrimSpace(name)
		if !slices.ContainsFunc(names, func(other string) bool { return strings.EqualFold(name, other) }) {
			names = append(names, name)
		}
	}
	return names
}

// rest takes back what directives that are not evaluated may have changed.
func (r *request) rest() {
	if why := r.set.unsureOf(heads); why != nil {
		r.a.Others = why
		for f := range r.a.Fields {
			if name, is := f.IsHeader(); is && name != "server" {
				r.a.Hide(f, *why)
			}
		}
	}
	if why := r.set.unsureOf(cookies); why != nil {
		r.a.Hide(answer.Header("set-cookie"), *why)
	}
	if why := r.set.unsureOf(bodies); why != nil {
		r.a.Hide(answer.Header("etag"), *why)
		r.a.Hide(answer.Header("last-modified"), *why)
	}
}

func (r *request) serverHeader() {
	n := (*directives.Node)(nil)
	for _, base := range r.host.base {
		for _, d := range base {
			if d.Is("ServerTokens") {
				n = d
			}
		}
	}
	word := "full"
	if n != nil {
		word = strings.ToLower(n.Arg(0))
	}
	major, rest, _ := strings.Cut(r.Version, ".")
	minor, _, _ := strings.Cut(rest, ".")
	header := answer.Header("server")
	switch {
	case word == "prod" || word == "productonly":
		r.a.Say(header, at(n), "Apache")
	case r.Version == "":
		r.a.Hide(header, facts.Reason{Because: "the version of Apache is not known; it is sent, since ServerTokens is not Prod", Origin: at(n)})
	case word == "major":
		r.a.Say(header, at(n), "Apache/"+major)
	case word == "minor":
		r.a.Say(header, at(n), "Apache/"+major+"."+minor)
	case word == "min" || word == "minimal":
		r.a.Say(header, at(n), "Apache/"+r.Version)
	case word == "os":
		r.a.Say(header, at(n), "Apache/"+r.Version+" ("+r.System+")")
	default:
		r.a.Hide(header, facts.Reason{Because: "which modules name themselves depends on how they were built; the version is sent, since ServerTokens is Full", Origin: at(n)})
	}
}

// withCharset is the type with its charset.
func (r *request) withCharset(p reply) string {
	if strings.Contains(p.kind, ";") && !p.built {
		return p.kind
	}
	if p.built {
		return p.kind
	}
	charset := ""
	if r.charset != nil && p.static {
		return p.kind + "; charset=" + strings.ToLower(r.charset.Arg(0))
	}
	if n := r.set.charset; n != nil && !strings.EqualFold(n.Arg(0), "off") && (p.kind == "text/html" || p.kind == "text/plain") {
		charset = n.Arg(0)
		if strings.EqualFold(charset, "on") {
			charset = "iso-8859-1"
		}
	}
	if charset == "" {
		return p.kind
	}
	return p.kind + "; charset=" + charset
}

// expires carries out mod_expires, which is silent where an expiry is said already, and on errors.
func (r *request) expires(p reply, good, always table) {
	on := r.set.expiresOn
	if on == nil || !strings.EqualFold(on.Arg(0), "on") {
		return
	}
	if p.status >= 400 || r.status >= 400 || len(good["expires"].Values) > 0 || len(always["expires"].Values) > 0 {
		return
	}
	kind, _, _ := strings.Cut(p.kind, ";")
	kind = strings.ToLower(strings.TrimSpace(kind))
	n := r.set.expiresBy[kind]
	if major, _, is := strings.Cut(kind, "/"); n == nil && is {
		n = r.set.expiresBy[major+"/*"]
	}
	code := ""
	if n != nil {
		code = strings.Join(n.Args[1:], " ")
	} else if n = r.set.expires; n != nil {
		code = strings.Join(n.Args, " ")
	}
	if n == nil {
		return
	}
	s, fromChange, ok := duration(code)
	told := good["cache-control"]
	if !ok || fromChange {
		why := facts.Reason{Because: "it goes by when the file was changed", Origin: at(n)}
		if !ok {
			why.Because = code + " is not understood"
		}
		good["cache-control"], good["expires"] = answer.Told{Unknown: &why, Origin: at(n)}, answer.Told{Unknown: &why, Origin: at(n)}
		return
	}
	if len(told.Values) > 0 {
		told.Values = []string{strings.Join(told.Values, ", ") + ", max-age=" + strconv.Itoa(s)}
	} else {
		told.Values = []string{"max-age=" + strconv.Itoa(s)}
	}
	told.Origin = at(n)
	good["cache-control"] = told
	good.set("expires", at(n), "set")
}

var units = map[string]int{"second": 1, "minute": 60, "hour": 3600, "day": 86400, "week": 604800, "month": 2592000, "year": 31536000}

// duration reads an expiry in either of its spellings.
func duration(code string) (seconds int, fromChange, ok bool) {
	code = strings.ToLower(strings.TrimSpace(code))
	if len(code) > 1 && (code[0] == 'a' || code[0] == 'm') && code[1] >= '0' && code[1] <= '9' {
		n, err := strconv.Atoi(code[1:])
		return n, code[0] == 'm', err == nil
	}
	words := strings.Fields(code)
	if len(words) == 0 {
		return 0, false, false
	}
	fromChange = strings.HasPrefix(words[0], "m")
	for i := 1; i < len(words); i++ {
		if words[i] == "plus" {
			continue
		}
		n, err := strconv.Atoi(words[i])
		if err != nil || i+1 >= len(words) {
			return 0, fromChange, false
		}
		unit := units[strings.TrimSuffix(words[i+1], "s")]
		if unit == 0 {
			return 0, fromChange, false
		}
		seconds += n * unit
		i++
	}
	return seconds, fromChange, true
}

// leastDeflated is how many bytes Apache thinks not worth compressing, as measured.
const leastDeflated = 68

// deflate tells whether the answer is compressed.
func (r *request) deflate(p reply, good table) {
	kind, _, _ := strings.Cut(p.kind, ";")
	var by *directives.Node
	for _, n := range r.set.filters[strings.ToLower(strings.TrimSpace(kind))] {
		if strings.Contains(strings.ToUpper(n.Arg(0)), "DEFLATE") {
			by = n
		}
	}
	if n := r.set.setFilter; n != nil && strings.Contains(strings.ToUpper(n.Arg(0)), "DEFLATE") {
		by = n
	}
	if by == nil {
		if _, said := good["content-encoding"]; !said {
			good["content-encoding"] = answer.Told{Origin: facts.Origin{Default: "Apache"}, Because: "no filter compresses " + kind + " here"}
		}
		return
	}
	absent := func(because string) {
		good["content-encoding"] = answer.Told{Origin: at(by), Because: because}
	}
	switch {
	case len(good["content-encoding"].Values) > 0:
		return
	case p.status != http.StatusOK:
		absent("an answer with status " + strconv.Itoa(p.status) + " is not compressed")
		return
	case p.listing && r.method == http.MethodHead:
		absent("an answer to HEAD has no listing to compress")
		return
	case p.length >= 0 && p.length <= leastDeflated:
		absent("it is too short to be compressed")
		return
	}
	vary := good["vary"]
	vary.Values, vary.Origin = append(slices.Clone(vary.Values), "Accept-Encoding"), at(by)
	good["vary"] = vary
	if !strings.Contains(r.ask.Header["accept-encoding"], "gzip") {
		absent("the request does not ask for compression")
		return
	}
	good.set("content-encoding", at(by), "gzip")
}

// headerRule is a directive Header, taken apart.
type headerRule struct {
	always      bool
	action      string
	name, value string
	replacement string // of edit
	condition   string
	node        *directives.Node
}

func newHeaderRule(n *directives.Node) headerRule {
	words := n.Args
	h := headerRule{node: n}
	if len(words) > 0 && (strings.EqualFold(words[0], "always") || strings.EqualFold(words[0], "onsuccess")) {
		h.always = strings.EqualFold(words[0], "always")
		words = words[1:]
	}
	if len(words) < 2 {
		return h
	}
	h.action, h.name = strings.ToLower(words[0]), strings.ToLower(strings.TrimSuffix(words[1], ":"))
	words = words[2:]
	if h.action != "unset" && len(words) > 0 {
		h.value, words = words[0], words[1:]
	}
	if (h.action == "edit" || h.action == "edit*") && len(words) > 0 {
		h.replacement, words = words[0], words[1:]
	}
	if len(words) > 0 && !strings.HasPrefix(words[0], "early") {
		h.condition = strings.Join(words, " ")
	}
	return h
}

// carryOut carries out the directives Header of one table.
func (r *request) carryOut(t table, always bool, p reply) {
	for _, n := range r.set.headers {
		h := newHeaderRule(n)
		if h.always != always || h.name == "" {
			continue
		}
		if h.condition != "" {
			expr, is := strings.CutPrefix(h.condition, "expr=")
			if !is || strings.Contains(expr, "resp(") || strings.Contains(expr, "CONTENT_TYPE") {
				why := facts.Reason{Because: "it depends on a condition that is not evaluated: " + h.condition, Origin: at(n)}
				t[h.name] = answer.Told{Unknown: &why, Origin: at(n)}
				continue
			}
			if !r.expression(strings.ReplaceAll(expr, "%{REQUEST_STATUS}", "'"+strconv.Itoa(p.status)+"'"), n) {
				continue
			}
		}
		told := t[h.name]
		value, why := headerValue(h.value, n)
		if told.Unknown != nil && h.action != "set" && h.action != "unset" {
			continue
		}
		if why != nil && h.action != "unset" {
			t[h.name] = answer.Told{Unknown: why, Origin: at(n)}
			continue
		}
		before := told
		told.Unknown, told.Because = nil, ""
		switch h.action {
		case "set":
			if len(before.Values) > 0 {
				told.Beaten = append(slices.Clone(told.Beaten), before.Origin)
			}
			told.Values, told.Origin = []string{value}, at(n)
		case "setifempty":
			if len(told.Values) == 0 {
				told.Values, told.Origin = []string{value}, at(n)
			}
		case "add":
			told.Values, told.Origin = append(slices.Clone(told.Values), value), at(n)
		case "append", "merge":
			joined := strings.Join(told.Values, ", ")
			if h.action == "merge" && slices.Contains(strings.Split(strings.ReplaceAll(joined, " ", ""), ","), strings.ReplaceAll(value, " ", "")) {
				continue
			}
			if joined != "" {
				value = joined + ", " + value
			}
			told.Values, told.Origin = []string{value}, at(n)
		case "unset":
			told = answer.Told{Origin: at(n), Because: "it is taken away: " + n.String()}
			if len(before.Values) > 0 {
				told.Beaten = []facts.Origin{before.Origin}
			}
		case "edit", "edit*":
			if len(told.Values) == 0 {
				continue
			}
			told.Origin = at(n)
			if told.Values, why = r.edited(h, told.Values, n); why != nil {
				told = answer.Told{Unknown: why, Origin: at(n)}
			}
		default:
			why := facts.Reason{Because: n.String() + " is not evaluated", Origin: at(n)}
			told = answer.Told{Unknown: &why, Origin: at(n)}
		}
		t[h.name] = told
	}
}

// edited are values of a header, each with the first place that an expression finds replaced, or with edit* all of them.
func (r *request) edited(h headerRule, values []string, n *directives.Node) (edited []string, _ *facts.Reason) {
	replacement, why := headerValue(h.replacement, n)
	if why != nil {
		return nil, why
	}
	pattern := r.patterns.Compile(h.value, false)
	for _, value := range values {
		done := ""
		for {
			found, wrong := pattern.Find(value)
			if wrong != "" {
				return nil, &facts.Reason{Because: wrong, Origin: at(n)}
			}
			if found == nil {
				break
			}
			done += value[:found.Start] + filled(replacement, found.Groups)
			value = value[found.End:]
			if h.action == "edit" || found.Start == found.End {
				break
			}
		}
		edited = append(edited, done+value)
	}
	return edited, nil
}

// filled is a replacement with what an expression found in the place of $0 to $9; a backslash takes the meaning from a dollar.
func filled(replacement string, groups []string) string {
	var b strings.Builder
	for i := 0; i < len(replacement); i++ {
		c := replacement[i]
		switch {
		case c == '$' && i+1 < len(replacement) && replacement[i+1] >= '0' && replacement[i+1] <= '9':
			if i++; int(replacement[i]-'0') < len(groups) {
				b.WriteString(groups[replacement[i]-'0'])
			}
		case c == '\\' && i+1 < len(replacement) && (replacement[i+1] == '$' || replacement[i+1] == '&'):
			i++
			b.WriteByte(replacement[i])
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// headerValue is the value of a header, where it is made of nothing that is only known when it is sent.
func headerValue(text string, n *directives.Node) (string, *facts.Reason) {
	if !strings.Contains(text, "%") {
		return text, nil
	}
	plain := strings.ReplaceAll(text, "%%", "")
	if strings.Contains(plain, "%") {
		return "", &facts.Reason{Because: "its value is made when it is sent: " + text, Origin: at(n)}
	}
	return strings.ReplaceAll(text, "%%", "%"), nil
}

// forgone notes which headers would be sent with an answer that went well.
func (r *request) forgone(good table) {
	for _, n := range r.set.headers {
		if h := newHeaderRule(n); !h.always && h.name != "" && h.action != "unset" && len(good[h.name].Values) == 0 {
			good[h.name] = answer.Told{Origin: at(n), Because: "Header without \"always\" is not carried out for errors and redirects that the server makes"}
		}
	}
}

// fromProgram is an answer of which only what the configuration adds is known.
func (r *request) fromProgram(where facts.Origin) {
	why := facts.Reason{Because: "what the program answers is not in the configuration", Origin: where}
	r.limits()
	good, always := table{}, table{}
	r.carryOut(good, false, reply{})
	r.carryOut(always, true, reply{})
	r.serverHeader()
	for name := range good {
		if _, also := always[name]; !also {
			always[name] = answer.Told{Unknown: &facts.Reason{Because: "it is added to what went well, and the program may send it as well", Origin: good[name].Origin}}
			if told := good[name]; len(told.Values) > 0 && name != "cache-control" && name != "vary" && newActions(r.set.headers, name) {
				told.Because = "the program may send one of its own beside it"
				always[name] = told
			}
		}
	}
	for name, told := range always {
		if name == "content-type" || name == "vary" {
			continue
		}
		r.a.Fields[answer.Header(name)] = told
	}
	for _, f := range all {
		if _, said := r.a.Fields[f]; !said && f != answer.Login && f != answer.Denied {
			r.a.Hide(f, why)
		}
	}
	r.a.Others = &why
	r.rest()
}

// newActions tells whether a header is set for good by "set".
func newActions(nodes []*directives.Node, name string) bool {
	return slices.ContainsFunc(nodes, func(n *directives.Node) bool {
		h := newHeaderRule(n)
		return h.name == name && h.action == "set" && h.condition == ""
	})
}
