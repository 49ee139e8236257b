package apache

import (
	"fmt"
	"net/http"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// settings are what applies to one path, the sections merged in their order.
type settings struct {
	options  map[string]bool // Indexes, FollowSymLinks, ...
	override overriding

	handler      *directives.Node // SetHandler
	byEnding     map[string]ending
	charset      *directives.Node
	etag         *directives.Node
	indexes      []string
	indexesAt    *directives.Node
	slash        *directives.Node
	fallback     *directives.Node
	indexMoves   *directives.Node
	canonical    *directives.Node
	errors       map[int]*directives.Node
	requires     []*directives.Node
	order        *directives.Node
	allows       []*directives.Node
	satisfy      *directives.Node
	authType     *directives.Node
	authName     *directives.Node
	headers      []*directives.Node // Header of both tables, in order
	expiresOn    *directives.Node
	expires      *directives.Node
	expiresBy    map[string]*directives.Node
	filters      map[string][]*directives.Node // AddOutputFilterByType, by type
	setFilter    *directives.Node
	rewrite      *rewriting
	redirects    []*directives.Node
	files        []*section
	ifs          []*directives.Node
	pathInfo     *directives.Node
	bodyLimit    *directives.Node
	forceType    *directives.Node
	unsure       []unsure
	optionAt     *directives.Node
	indexOptions []*directives.Node
	applied      []any            // the sections and files that are merged, to tell whether two requests have the same
	engine       *directives.Node // php_flag engine
	runtime      []answer.Setting // what the runtime is told
}

// An ending is what is known of files with an ending.
type ending struct {
	kind, handler, charset, encoding *directives.Node
}

// unsure is something in a section that is not evaluated, and what it touches.
type unsure struct {
	kind class
	why  facts.Reason
}

func newSettings() *settings {
	return &settings{options: map[string]bool{"FollowSymLinks": true}, byEnding: map[string]ending{}, errors: map[int]*directives.Node{},
		expiresBy: map[string]*directives.Node{}, filters: map[string][]*directives.Node{}, rewrite: &rewriting{}}
}

// apply merges what stands in one section. Folder is the path that rules of rewriting in it are relative to.
func (r *request) apply(s *settings, body []*directives.Node, folder string) {
	own := &merging{settings: s, folder: folder, r: r, runtimeFrom: len(s.runtime)}
	own.each(body)
	own.done()
	if len(body) > 0 {
		s.applied = append(s.applied, body[0])
	}
}

// merging is one section on its way into the settings.
type merging struct {
	*settings
	r      *request
	folder string

	options   map[string]bool // of this section
	absolute  bool            // it sets options without a sign
	rewrite   *rewriting
	requires  []*directives.Node
	joined    string // by And or Or with what was required before; "" for in its place
	filters   map[string][]*directives.Node
	redirects []*directives.Node
	allows    []*directives.Node
	indexes   []string
	indexesAt *directives.Node

	runtimeFrom int // where this section's own part of what the runtime is told begins
}

func (m *merging) each(body []*directives.Node) {
	for _, n := range body {
		m.one(n)
	}
}

var singles = map[string]func(*settings) **directives.Node{
	"sethandler":             func(s *settings) **directives.Node { return &s.handler },
	"adddefaultcharset":      func(s *settings) **directives.Node { return &s.charset },
	"fileetag":               func(s *settings) **directives.Node { return &s.etag },
	"directoryslash":         func(s *settings) **directives.Node { return &s.slash },
	"fallbackresource":       func(s *settings) **directives.Node { return &s.fallback },
	"usecanonicalname":       func(s *settings) **directives.Node { return &s.canonical },
	"directoryindexredirect": func(s *settings) **directives.Node { return &s.indexMoves },
	"satisfy":                func(s *settings) **directives.Node { return &s.satisfy },
	"order":                  func(s *settings) **directives.Node { return &s.order },
	"authtype":               func(s *settings) **directives.Node { return &s.authType },
	"authname":               func(s *settings) **directives.Node { return &s.authName },
	"expiresactive":          func(s *settings) **directives.Node { return &s.expiresOn },
	"expiresdefault":         func(s *settings) **directives.Node { return &s.expires },
	"acceptpathinfo":         func(s *settings) **directives.Node { return &s.pathInfo },
	"limitrequestbody":       func(s *settings) **directives.Node { return &s.bodyLimit },
	"forcetype":              func(s *settings) **directives.Node { return &s.forceType },
	"setoutputfilter":        func(s *settings) **directives.Node { return &s.setFilter },
}

// withBefore are the requirements of a section, with those that applied before it (AuthMerging).
func (m *merging) withBefore(before []*directives.Node) []*directives.Node {
	if m.joined != "and" && m.joined != "or" || before == nil {
		return m.requires
	}
	group := func(name string, body []*directives.Node) *directives.Node {
		n := *body[0]
		n.Name, n.Body, n.Block = name, body, true
		return &n
	}
	return []*directives.Node{group(map[string]string{"and": "RequireAll", "or": "RequireAny"}[m.joined], []*directives.Node{group("RequireAny", m.requires), group("RequireAny", before)})}
}

// one merges a directive.
func (m *merging) one(n *directives.Node) {
	if n.Hole != "" {
		m.unsure = append(m.unsure, unsure{unheard, facts.Reason{Because: n.Hole, Origin: at(n)}})
		return
	}
	name := strings.ToLower(n.Name)
	if field := singles[name]; field != nil {
		*field(m.settings) = n
		return
	}
	switch name {
	case "options":
		m.option(n)
	case "allowoverride", "allowoverridelist":
		m.override = m.override.with(n)
	case "directoryindex":
		if len(n.Args) == 1 && strings.EqualFold(n.Args[0], "disabled") {
			m.indexes = nil
		} else {
			m.indexes = append(m.indexes, n.Args...)
		}
		m.indexesAt = n
	case "errordocument":
		if code, err := strconv.Atoi(n.Arg(0)); err == nil {
			m.errors[code] = n
		}
	case "require", "requireany", "requireall", "requirenone":
		m.requires = append(m.requires, n)
	case "authmerging":
		m.joined = strings.ToLower(n.Arg(0))
	case "allow", "deny":
		m.allows = append(m.allows, n)
	case "limit", "limitexcept":
		listed := slices.ContainsFunc(n.Args, func(method string) bool {
			return strings.EqualFold(method, m.r.method) || strings.EqualFold(method, "GET") && m.r.method == "HEAD"
		})
		if listed == n.Is("Limit") {
			m.each(n.Body)
		}
	case "indexoptions", "indexignore", "indexignorereset":
		m.indexOptions = append(m.indexOptions, n)
	case "header":
		m.headers = append(m.headers, n)
	case "expiresbytype":
		m.expiresBy[strings.ToLower(n.Arg(0))] = n
	case "addoutputfilterbytype":
		if m.filters == nil {
			m.filters = map[string][]*directives.Node{}
		}
		for _, kind := range n.Args[min(1, len(n.Args)):] {
			m.filters[strings.ToLower(kind)] = append(m.filters[strings.ToLower(kind)], n)
		}
	case "rewriteengine", "rewriterule", "rewritecond", "rewritebase", "rewriteoptions":
		if m.rewrite == nil {
			m.rewrite = &rewriting{folder: m.folder}
		}
		m.rewrite.add(n, &m.r.patterns)
	case "redirect", "redirectmatch", "redirectpermanent", "redirecttemp":
		m.redirects = append(m.redirects, n)
	case "addtype", "addhandler", "addcharset", "addencoding", "removehandler", "removetype":
		m.endings(name, n)
	case "files", "filesmatch":
		m.files = append(m.files, m.r.newSection(n))
	case "if", "elseif", "else":
		m.ifs = append(m.ifs, n)
	case "php_value", "php_flag", "php_admin_value", "php_admin_flag":
		before, own := m.runtime[:m.runtimeFrom:m.runtimeFrom], m.runtime[m.runtimeFrom:]
		for _, set := range own { // of two in one section the last counts, be the other an administrator's
			if set.Name != n.Arg(0) || set.Name == "" {
				before = append(before, set)
			}
		}
		m.runtime = append(before, answer.Setting{Kind: name, Name: n.Arg(0), Value: n.Arg(1), Override: m.fromOverride(n), Origin: at(n)})
		if name == "php_flag" || name == "php_admin_flag" {
			if n.Arg(0) == "engine" {
				m.engine = n
			}
		}
	case "setenv", "setenvif", "setenvifnocase", "setenvifexpr", "proxyfcgisetenvif", "unsetenv", "passenv":
		m.environment(name, n)
	default:
		if kind := classOfNode(n); kind != evaluated && kind != harmless {
			m.unsure = append(m.unsure, unsure{kind, facts.Reason{Because: n.Name + " is not evaluated", Origin: at(n)}})
		}
	}
}

// fromOverride tells whether a directive stands in an override file.
func (m *merging) fromOverride(n *directives.Node) bool {
	return filepath.Base(n.File) == m.r.overrideName()
}

// environment notes what of a program's environment a runtime goes by.
func (m *merging) environment(name string, n *directives.Node) {
	for _, parameter := range answer.Parameters {
		switch {
		case name == "setenv" && n.Arg(0) == parameter:
			m.runtime = append(m.runtime, answer.Setting{Kind: parameter, Value: n.Arg(1), Origin: at(n)})
		case strings.Contains(" "+strings.Join(n.Args, " "), " "+parameter):
			m.runtime = append(m.runtime, answer.Setting{Kind: parameter, Unknown: n.Name + " is not evaluated", Origin: at(n)})
		}
	}
}

func (m *merging) option(n *directives.Node) {
	if m.options == nil {
		m.options = map[string]bool{}
	}
	for _, word := range n.Args {
		sign := byte(0)
		if word[0] == '+' || word[0] == '-' {
			sign, word = word[0], word[1:]
		}
		names := map[string][]string{"all": {"Indexes", "FollowSymLinks", "ExecCGI", "Includes"}, "none": {}, "includesnoexec": {"Includes"}, "symlinksifownermatch": {"SymLinksIfOwnerMatch"},
			"indexes": {"Indexes"}, "followsymlinks": {"FollowSymLinks"}, "execcgi": {"ExecCGI"}, "includes": {"Includes"}, "multiviews": {"MultiViews"}}[strings.ToLower(word)]
		switch sign {
		case 0:
			if !m.absolute {
				m.absolute = true
				m.options = map[string]bool{}
			}
			if strings.EqualFold(word, "none") {
				m.options = map[string]bool{}
			}
			for _, name := range names {
				m.options[name] = true
			}
		default:
			for _, name := range names {
				m.options[name] = sign == '+'
			}
		}
	}
	m.settings.optionAt = n
}

// endings are directives that say what files with an ending are.
func (m *merging) endings(name string, n *directives.Node) {
	words := n.Args
	if strings.HasPrefix(name, "add") {
		words = n.Args[min(1, len(n.Args)):]
	}
	for _, word := range words {
		e := m.byEnding[strings.ToLower(strings.TrimPrefix(word, "."))]
		switch name {
		case "addtype":
			e.kind = n
		case "addhandler":
			e.handler = n
		case "addcharset":
			e.charset = n
		case "addencoding":
			e.encoding = n
		case "removehandler":
			e.handler = nil
		case "removetype":
			e.kind = nil
		}
		m.byEnding[strings.ToLower(strings.TrimPrefix(word, "."))] = e
	}
}

// done merges what replaces the list of the section around it as a whole.
func (m *merging) done() {
	s := m.settings
	if m.options != nil {
		if m.absolute {
			s.options = m.options
		} else {
			for name, on := range m.options {
				if on {
					s.options[name] = true
				} else {
					delete(s.options, name)
				}
			}
		}
	}
	if m.indexesAt != nil {
		s.indexes, s.indexesAt = m.indexes, m.indexesAt
	}
	if m.requires != nil || m.joined == "off" { // which takes away what was required, also where nothing is required in its place
		s.requires = m.withBefore(s.requires)
	}
	if m.allows != nil {
		s.allows = m.allows
	}
	if m.filters != nil {
		s.filters = m.filters
	}
	if m.redirects != nil {
		s.redirects = append(m.redirects, s.redirects...)
	}
	if m.rewrite != nil {
		if !m.rewrite.said {
			m.rewrite.on, m.rewrite.onAt = s.rewrite.on, s.rewrite.onAt
		}
		if len(s.rewrite.rules) > 0 && len(m.rewrite.nodes) > 0 {
			m.rewrite.dropped = append(slices.Clone(s.rewrite.dropped), s.rewrite.nodes...)
		}
		s.rewrite = m.rewrite
	}
}

// walk merges everything that applies to a path: what stands in the server, the folders from the outermost in with the override
// file of each, the sections with expressions, the files, the addresses, and the conditions.
func (r *request) walk(path string, entry answer.Entry) (*settings, *failure) {
	s := r.basic()
	parts := strings.Split(strings.Trim(path, "/"), "/")
	at := ""
	folders, missed := len(parts), false
	for i := 0; i <= folders; i++ {
		if i > 0 {
			at += "/" + parts[i-1]
		}
		whole := at
		if whole == "" {
			whole = "/"
		}
		if fail := r.followsNot(s, at); fail != nil {
			return s, fail
		}
		if entry.Is == answer.NoEntry && at != "" && !missed && r.disk.Look(at).Is == answer.NoEntry { // from here on there is nothing
			if missed = true; answer.Linked(r.disk, filepath.Dir(at), at) {
				return s, &failure{http.StatusForbidden, r.rootOrigin(), "the link " + at + " leads nowhere"}
			}
		}
		isFolder := i < folders || entry.Is == answer.AFolder
		if i == folders && !isFolder && (entry.Is != answer.AFile || r.info != "" || !s.options["FollowSymLinks"]) {
			break
		}
		for _, section := range r.host.folders {
			if section.pattern != nil || section.depth != i && !(i == 0 && section.path == "") {
				continue
			}
			if section.covers(at) && (isFolder || r.walkedBefore(section)) {
				r.apply(s, section.node.Body, section.directory())
			}
		}
		if !isFolder {
			break
		}
		if fail := r.overrideIn(s, whole); fail != nil {
			return s, fail
		}
	}
	for _, section := range r.host.folders {
		if section.pattern == nil {
			continue
		}
		found, wrong := section.pattern.Find(path)
		if wrong != "" && r.g.Either(facts.Reason{Because: wrong, Origin: originOf(section.node)}) || found != nil {
			r.apply(s, section.node.Body, section.directory())
		}
	}
	name := path[strings.LastIndexByte(path, '/')+1:]
	for i := 0; i < len(s.files) && name != ""; i++ {
		if r.names(s.files[i], name) {
			r.apply(s, s.files[i].node.Body, s.files[i].directory())
		}
	}
	return s, nil
}

// followsNot refuses what is a link where none is followed, by what holds in the folder that it lies in.
func (r *request) followsNot(s *settings, name string) *failure {
	if name == "" || s.options["FollowSymLinks"] || !answer.Linked(r.disk, path.Dir(name), name) {
		return nil
	}
	if s.options["SymLinksIfOwnerMatch"] {
		same, known := answer.SameOwner(r.disk, name)
		if !known {
			same = r.g.Either(facts.Reason{Because: "whose the link " + name + " and the file are is not known", Origin: at(s.optionAt)})
		}
		if same {
			return nil
		}
	}
	return &failure{http.StatusForbidden, at(s.optionAt), "a link lies on the way, " + name + ", and none is followed here"}
}

// walkedBefore tells whether a section of folders takes a file as well: the one that is asked for, as measured, and not one that
// is looked up or redirected to, unless the section has applied already.
func (r *request) walkedBefore(s *section) bool {
	from := r.before
	if r.sub {
		from = r.whole
	}
	return from == nil || from.set != nil && len(s.node.Body) > 0 && slices.Contains(from.set.applied, any(s.node.Body[0]))
}

// directory is what rules of rewriting in a section take for their folder: what the section says, be it an expression.
func (s *section) directory() string {
	if s.pattern != nil || !s.node.Is("Directory") {
		return s.node.Arg(len(s.node.Args) - 1)
	}
	return s.path + "/"
}

// covers tells whether a section is one of a folder.
func (s *section) covers(folder string) bool {
	if s.glob {
		return globMatch(s.path, folder, true)
	}
	return s.path == folder
}

// names tells whether a section of files is one of a file.
func (r *request) names(s *section, name string) bool {
	switch {
	case s.pattern != nil:
		found, wrong := s.pattern.Find(name)
		return found != nil || wrong != "" && r.g.Either(facts.Reason{Because: wrong, Origin: originOf(s.node)})
	case s.glob:
		return globMatch(s.path, name, true)
	}
	return s.path == name
}

// located merges the sections of addresses, and the conditions, which come last.
func (r *request) located(s *settings, uri string) {
	for _, place := range r.host.places {
		if r.takes(place, uri) {
			r.apply(s, place.node.Body, "")
		}
	}
	held := false
	for i := 0; i < len(s.ifs); i++ {
		n := s.ifs[i]
		switch {
		case n.Is("Else"):
			if !held {
				r.apply(s, n.Body, "")
			}
			continue
		case n.Is("ElseIf") && held:
			continue
		}
		if held = r.holds(n); held {
			r.a.Then(at(n), "the condition holds: "+n.String())
			r.apply(s, n.Body, "")
		}
	}
}

// takes tells whether a Location is one of an address.
func (r *request) takes(place *section, uri string) bool {
	switch {
	case place.pattern != nil:
		found, wrong := place.pattern.Find(uri)
		return found != nil || wrong != "" && r.g.Either(facts.Reason{Because: wrong, Origin: originOf(place.node)})
	case place.glob:
		return globMatch(place.path, uri, true)
	}
	base := strings.TrimSuffix(place.path, "/")
	if strings.HasSuffix(place.path, "/") && place.path != "/" {
		return strings.HasPrefix(uri, place.path)
	}
	return uri == base || strings.HasPrefix(uri, base+"/") || place.path == "/"
}

func originOf(n *directives.Node) facts.Origin { return facts.Origin{File: n.File, Line: n.Line} }

// unsureOf is why something of a kind is not known here.
func (s *settings) unsureOf(kinds ...class) *facts.Reason {
	for _, u := range s.unsure {
		if u.kind == unheard || slices.Contains(kinds, u.kind) {
			return &u.why
		}
	}
	return nil
}

// A failure ends a request while its settings are merged.
type failure struct {
	status int
	origin facts.Origin
	says   string
}

// An override is an override file, read.
type override struct {
	nodes []*directives.Node
	gap   *directives.Gap
	there bool
	why   string // why it could not be read
}

// overrideIn merges the override file of a folder, where it is read.
func (r *request) overrideIn(s *settings, folder string) *failure {
	name := strings.TrimSuffix(folder, "/") + "/" + r.overrideName()
	o := r.asked[name]
	if o == nil {
		o = &override{}
		r.asked[name] = o
		switch entry := r.disk.Look(name); entry.Is {
		case answer.Unseen:
			o.why = entry.Why
		case answer.AFile:
			o.there = true
			data, err := r.disk.Read(name)
			if err != nil {
				o.why = fmt.Sprintf("%s cannot be read: %s", name, err)
				break
			}
			tree := directives.ApacheOverride(name, data, r.Tree)
			notKnown(tree.Root)
			o.nodes, o.gap = tree.Root, tree.Broken()
		}
	}
	if o.why == "" && !o.there {
		return nil
	}
	if s.override.none() {
		if o.there {
			r.a.Then(facts.Origin{File: name, Line: 1}, "the override file "+name+" is not read: "+s.override.says())
		}
		return nil
	}
	if o.why != "" {
		s.unsure = append(s.unsure, unsure{unheard, facts.Reason{Because: o.why, Origin: facts.Origin{File: name}}})
		return nil
	}
	for _, n := range o.nodes {
		if why := unknownDirective(n); why != nil {
			s.unsure = append(s.unsure, unsure{unheard, *why})
		}
	}
	nodes, down := s.override.permitted(o.nodes, r.Tree)
	if down != nil {
		return &failure{500, at(down.at), down.because}
	}
	if o.gap != nil {
		return &failure{500, facts.Origin{File: o.gap.File, Line: o.gap.Line}, o.gap.Because}
	}
	r.a.Then(facts.Origin{File: name, Line: 1}, "the override file "+name+" is read")
	r.apply(s, nodes, folder)
	s.applied = append(s.applied, o)
	return nil
}

func (r *request) overrideName() string {
	name := ".htaccess"
	for _, base := range r.host.base {
		for _, n := range base {
			if n.Is("AccessFileName") {
				name = n.Arg(0)
			}
		}
	}
	return name
}
