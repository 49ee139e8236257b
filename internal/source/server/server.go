// Package server is the source that looks at what the web server has been told: it reads the configuration of nginx, of Apache,
// or of one before the other, and works out what it makes of addresses, each field with its line or the reason why it cannot be
// told. It asks no server and starts no program.
//
// It may import directives, facts, ordinary and what lies below it, and no other source.
package server

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/ordinary"
	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/source/server/apache"
	"weltaxis/internal/source/server/nginx"
	"weltaxis/internal/tree"
)

// A Config names a configuration.
type Config struct {
	Kind string // nginx or apache
	File string
}

// The kinds of servers.
const (
	Nginx  = "nginx"
	Apache = "apache"
)

// usual are the files that a configuration begins with where systems put it.
var usual = []Config{
	{Nginx, "/etc/nginx/nginx.conf"}, {Nginx, "/usr/local/etc/nginx/nginx.conf"}, {Nginx, "/usr/local/nginx/conf/nginx.conf"},
	{Apache, "/etc/apache2/apache2.conf"}, {Apache, "/etc/httpd/conf/httpd.conf"}, {Apache, "/usr/local/etc/apache24/httpd.conf"},
}

// A Server answers by its configuration.
type Server struct {
	Config
	Tree    *directives.Tree
	Version string
	Answer  func(answer.Ask) *answer.Answer
	// Serves tells whether a host of it has a name, and on which ports.
	Serves func(name string) []int
	// Encrypts are those of the ports on which it encrypts. Listens tells whether any host listens on a port.
	Encrypts func(name string) []int
	Listens  func(port int) bool
	// Shadowed are directives without effect.
	Shadowed func() []facts.Shadowed
	// Protocols are the versions of TLS that a host of a name allows; Overrides what override files may change in a folder of the one that takes a request.
	Protocols func(name string) ([]string, facts.Origin)
	Overrides func(ask answer.Ask, folder string) (string, facts.Origin)
	// Certificates are the files of the certificates that are shown to whoever asks.
	Certificates func(ask answer.Ask) []answer.Named
	// Places are addresses of folders that the configuration names, and Folders folders of this machine.
	Places  func() []string
	Folders func() []string
	assumed *assumed
}

// A Source is the servers of a site, the outermost first. Once its fields are set it may be asked side by side.
type Source struct {
	Servers []*Server
	Address *url.URL          // of the site
	Connect map[string]string // host:port that is asked for, and where that really is
	Dir     string            // files below it are named from it
	files   Overlay
	// Limits tells which files a runtime runs that listens somewhere; nil where nobody looks. It is not known of every one.
	Limits func(listen []string) (l Limit, known bool)

	asking   sync.Mutex   // held while servers are asked: what is taken to be there is so for one request
	rooting  sync.Once    // finds what follows
	served   string       // the folder that the address is served from
	servedAt facts.Origin //
	lies     sync.Once    // opens what follows
	serves   tree.Files
	naming   sync.Once // finds what follows
	sure     []string
	perhaps  []string
	tried    atomic.Int64 // addresses at which files might be
	opening  sync.Once    // finds what follows
	ways     ways
}

// Worker is whom a server that root starts does its work as, user and group, as its configuration says; "" where it does not.
func (one *Server) Worker() (user, group string) {
	for _, n := range one.Tree.Root {
		switch {
		case one.Kind == Nginx && n.Is("user") && n.Arg(0) != "":
			if user, group = n.Arg(0), n.Arg(1); group == "" {
				group = user // http://nginx.org/en/docs/ngx_core_module.html#user
			}
		case one.Kind == Apache && n.Is("User"):
			user = n.Arg(0)
		case one.Kind == Apache && n.Is("Group"):
			group = n.Arg(0)
		}
	}
	return user, group
}

// Open reads configurations; some files may be given as they might be. Without any configuration it looks where systems put them, and takes the one that has a host of the site's
// name.
func Open(files Overlay, configs []Config, address *url.URL, connect map[string]string) (*Source, []facts.Gap) {
	s := &Source{Address: address, Connect: connect, files: files}
	if len(configs) > 0 {
		var gaps []facts.Gap
		for _, c := range configs {
			server := s.read(c)
			s.Servers = append(s.Servers, server)
			gaps = append(gaps, gapsOf(server)...)
		}
		if because := s.another(); because != "" {
			s.Servers = nil
			gaps = append(gaps, facts.Gap{Source: facts.Server, What: configs[0].File, Kind: facts.Failed, Because: because, Names: []string{facts.Server.All()}})
		}
		return s, gaps
	}
	return s, s.find()
}

// Elsewhere tells whether the configuration lies elsewhere than beside the site file, where one keeps a copy of it.
func (s *Source) Elsewhere() bool {
	return len(s.Servers) > 0 && !slices.ContainsFunc(s.Servers, func(one *Server) bool { return !filepath.IsAbs(s.near(facts.Origin{File: one.File}).File) })
}

// Lies says below which folders the site lies: no link leads out of them to what a server is told.
func (s *Source) Lies(roots []string) {
	for _, server := range s.Servers {
		server.assumed.roots = roots
	}
}

// another says why the outermost server is that of other sites: its hosts have names, and the site's is none of them. The default one, which
// would answer all the same, is then another's; without any names it is everybody's.
func (s *Source) another() string {
	if s.Address == nil {
		return ""
	}
	host := s.Address.Hostname()
	if host == "localhost" || net.ParseIP(host) != nil || len(s.Servers[0].Serves(host)) > 0 { // a number is no host's name, and the default one's
		return ""
	}
	names := s.Servers[0].names()
	hosts := s.Servers[0].Kind != Nginx // Apache answers without one
	directives.Walk(s.Servers[0].Tree.Root, func(n *directives.Node) bool {
		hosts = hosts || n.Is("server") && n.Block
		return true
	})
	switch {
	case !hosts:
		return "it has no host, so it serves nothing"
	case len(names) == 0:
		return ""
	}
	if len(names) > 3 {
		names = append(names[:3], fmt.Sprintf("%d more", len(names)-3))
	}
	return fmt.Sprintf("it has no host of the site's name, %s; its hosts are %s, of which the default one would answer, and nothing says that this is the site's", host, strings.Join(names, ", "))
}

// names are those that hosts of a server have, but for expressions and numbers.
func (one *Server) names() (names []string) {
	directives.Walk(one.Tree.Root, func(n *directives.Node) bool {
		if n.Is("server_name") || n.Is("ServerName") || n.Is("ServerAlias") {
			for _, name := range n.Args {
				if _, after, is := strings.Cut(name, "://"); is { // Apache takes a scheme before it
					name = after
				}
				name, _, _ = strings.Cut(name, ":")
				if strings.Contains(name, ".") && !strings.ContainsAny(name, "~$") && !slices.Contains(names, name) && net.ParseIP(name) == nil {
					names = append(names, name)
				}
			}
		}
		return true
	})
	return names
}

// maxNames is how many names are held against the site.
const maxNames = 2000

// Names are further host names that the outermost server has for the site, without those that stand for many. Sure are those that lead to the site, page
// by page or to its front, and those at which the same file is served; perhaps are those that lead to one page of it, and those that are handed to the same
// programs, which may show another site by another name.
func (s *Source) Names() (sure, perhaps []string) {
	s.naming.Do(func() {
		if len(s.Servers) == 0 || s.Address == nil {
			return
		}
		names := s.Servers[0].names()
		for _, name := range names[:min(len(names), maxNames)] {
			if name = strings.ToLower(strings.TrimSuffix(name, ".")); name == strings.ToLower(s.Address.Hostname()) || strings.ContainsAny(name, "*?/_") || strings.HasPrefix(name, ".") {
				continue
			}
			switch own, certain := s.named(name); {
			case own && certain:
				s.sure = append(s.sure, name)
			case own:
				s.perhaps = append(s.perhaps, name)
			}
		}
	})
	return s.sure, s.perhaps
}

// named tells whether a name is one of the site's, as Names does.
func (s *Source) named(name string) (own, certain bool) {
	ports := s.Servers[0].Serves(name)
	made := "/" + token + ".txt"
	base := strings.TrimSuffix(s.Address.Path, "/")
	for _, scheme := range []string{"https", "http"} {
		u := *s.Address
		u.Scheme, u.Host, u.Path, u.RawQuery = scheme, name, base+made, ""
		if !slices.Contains(ports, portOf(s.ask(&u))) { // the default host, which answers for all names
			continue
		}
		a := s.behind(&u, made)
		if location := a.Get(answer.Location).Text(); location != "" {
			to, err := u.Parse(location)
			if err == nil && strings.EqualFold(to.Hostname(), s.Address.Hostname()) {
				return true, to.Path == u.Path || strings.TrimSuffix(to.Path, "/") == base
			}
		}
		at := *s.Address
		at.Path, at.RawQuery = base+made, ""
		if file := a.Get(answer.File); file.Known() && file.Text() != "" && file.Text() == s.behind(&at, made).Text(answer.File) {
			u.Path = base + "/"
			return true, s.behind(&u).Text(answer.Handler) == "static"
		}
	}
	return false, false
}

// find looks where systems put configurations.
func (s *Source) find() []facts.Gap {
	var there, named []*Server
	for _, c := range usual {
		if _, err := tree.Machine().Stat(tree.Full(c.File)); err != nil {
			continue
		}
		server := s.read(c)
		there = append(there, server)
		if s.Address != nil && len(server.Serves(s.Address.Hostname())) > 0 {
			named = append(named, server)
		}
	}
	fail := func(because string) []facts.Gap {
		return []facts.Gap{{Source: facts.Server, What: "the web server's configuration", Kind: facts.Failed, Because: because, Names: []string{facts.Server.All()}}}
	}
	switch {
	case len(there) == 0:
		return fail("there is none where systems put it; write server: {nginx: FILE} or server: {apache: FILE} in the site file")
	case len(named) == 0 && len(there) > 1:
		return fail(fmt.Sprintf("there are %s and %s, and neither has a host of the site's name; say in the site file which it is", there[0].File, there[1].File))
	case len(named) == 0:
		if s.Servers = there; s.another() != "" {
			because := s.another()
			s.Servers = nil
			return fail(there[0].File + " was found, and " + because + "; say in the site file which it is")
		}
	case len(named) == 1:
		s.Servers = named
	default: // both know the name: one may stand before the other
		s.Servers = named[:2]
		if s.chained(named[1], named[0]) {
			s.Servers = []*Server{named[1], named[0]}
		} else if !s.chained(named[0], named[1]) {
			return fail(fmt.Sprintf("%s and %s both have a host of the site's name; say in the site file which answers", named[0].File, named[1].File))
		}
	}
	var gaps []facts.Gap
	for _, server := range s.Servers {
		gaps = append(gaps, gapsOf(server)...)
	}
	return gaps
}

// chained tells whether one server hands the home page on to the other.
func (s *Source) chained(outer, inner *Server) bool {
	a := outer.Answer(s.ask(s.Address))
	return a.Onward != nil && slices.Contains(inner.Serves(s.Address.Hostname()), a.Onward.Ask.Port)
}

// read reads one configuration.
func (source *Source) read(c Config) *Server {
	s := &Server{Config: c, Version: packaged(c), assumed: &assumed{files: source.files}}
	switch c.Kind {
	case Nginx:
		s.Tree = directives.Nginx(c.File, source.files)
		config := nginx.New(s.Tree, nginx.Options{Version: s.Version, Disk: s.assumed})
		s.Answer, s.Serves, s.Encrypts, s.Listens, s.Shadowed, s.Protocols, s.Overrides, s.Certificates = config.Answer, config.Serves, config.Encrypts, config.Listens, config.Shadowed, config.Protocols, config.Overrides, config.Certificates
		s.Places, s.Folders = config.Places, func() []string { return nil }
	default:
		s.Tree = directives.Apache(c.File, source.files, directives.ApacheOptions{Version: s.Version})
		config := apache.New(s.Tree, apache.Options{Version: s.Version, System: system(), Disk: s.assumed})
		s.Answer, s.Serves, s.Encrypts, s.Listens, s.Shadowed, s.Protocols, s.Overrides, s.Certificates = config.Answer, config.Serves, config.Encrypts, config.Listens, config.Shadowed, config.Protocols, config.Overrides, config.Certificates
		s.Places, s.Folders = config.Places, config.Folders
	}
	return s
}

// unread tells whether nothing of a configuration could be read: then it says nothing, and not that nothing is told.
func (one *Server) unread() bool { return len(one.Tree.Root) == 0 && len(one.Tree.Gaps) > 0 }

func gapsOf(s *Server) (gaps []facts.Gap) {
	const most = 10
	for i, g := range s.Tree.Gaps {
		if i == most {
			gaps = append(gaps, facts.Gap{Source: facts.Server, What: "more of the configuration", Kind: facts.Failed, Because: fmt.Sprintf("%d more places could not be read", len(s.Tree.Gaps)-most)})
			break
		}
		gap := facts.Gap{Source: facts.Server, What: fmt.Sprintf("%s, line %d", g.File, g.Line), Kind: facts.Failed, Because: g.Because}
		if g.Broken || s.unread() {
			gap.Names = []string{facts.Server.All()}
		}
		gaps = append(gaps, gap)
	}
	return gaps
}

var debianVersion = regexp.MustCompile(`(?m)^Version: (?:\d+:)?([0-9.]+)`)

// packaged is the version of a server that Debian's package system has installed, "" when it has none or the configuration is
// not the package's.
func packaged(c Config) string {
	name := map[string]string{"/etc/nginx": "nginx", "/etc/apache2": "apache2"}[filepath.Dir(c.File)]
	if name == "" {
		return ""
	}
	status, err := ordinary.Read("/var/lib/dpkg/status", 64<<20)
	if err != nil {
		return ""
	}
	for _, entry := range strings.Split(string(status), "\n\n") {
		if strings.HasPrefix(entry, "Package: "+name+"\n") && strings.Contains(entry, "\nStatus: install ok installed\n") {
			if found := debianVersion.FindStringSubmatch(entry); found != nil {
				return strings.TrimSuffix(found[1], ".")
			}
		}
	}
	return ""
}

// system is what Apache calls the system it was built for.
func system() string {
	data, err := ordinary.Read("/etc/os-release", 1<<16)
	if err != nil {
		return ""
	}
	for _, line := range strings.Split(string(data), "\n") {
		if name, is := strings.CutPrefix(line, "NAME="); is {
			return strings.Fields(strings.Trim(name, `"`) + " ")[0]
		}
	}
	return ""
}

// ask is a visitor's request for an address.
func (s *Source) ask(u *url.URL) answer.Ask {
	port, _ := strconv.Atoi(u.Port())
	a := answer.Ask{Method: "GET", Scheme: u.Scheme, Host: u.Hostname(), HostPort: port, Port: port, Target: u.RequestURI(), Header: map[string]string{"accept-encoding": "gzip"}}
	asked := portOf(a)
	if len(s.Servers) == 0 {
		return a
	}
	ports := s.Servers[0].Serves(u.Hostname())
	if slices.Contains(ports, asked) {
		return a
	}
	for _, name := range []string{u.Host, u.Hostname() + ":" + strconv.Itoa(asked), u.Hostname()} {
		if really, is := s.Connect[name]; is {
			if address, err := netip.ParseAddrPort(facts.Mapped(really)[0]); err == nil && slices.Contains(s.Servers[0].Serves(u.Hostname()), int(address.Port())) {
				a.Port, a.Local = int(address.Port()), address.Addr()
				return a
			}
		}
	}
	if u.Scheme != "https" || len(ports) == 0 {
		return a
	}
	if encrypted := s.Servers[0].Encrypts(u.Hostname()); len(encrypted) > 0 { // something leads the usual port to another
		a.Port = encrypted[0]
		return a
	}
	a.Port, a.Secure = ports[0], true // encryption ends before it gets here
	a.Header["x-forwarded-proto"] = "https"
	return a
}

// portOf is the port that a request arrives at.
func portOf(a answer.Ask) int {
	switch {
	case a.Port != 0:
		return a.Port
	case a.Scheme == "https":
		return 443
	}
	return 80
}

// within is the request for the site's address as it reaches the last server.
func (s *Source) within() answer.Ask {
	ask := s.ask(s.Address)
	for i, server := range s.Servers {
		if i > 0 {
			if a := s.Servers[i-1].Answer(ask); a.Onward != nil {
				ask = a.Onward.Ask
			}
		}
		if ports := server.Serves(ask.Host); len(ports) > 0 && !slices.Contains(ports, portOf(ask)) {
			ask.Port = ports[0]
		}
	}
	return ask
}

// near names files from the site's folder, where they lie below it.
func (s *Source) near(o facts.Origin) facts.Origin {
	if s.Dir == "" || o.File == "" {
		return o
	}
	dir, err := filepath.Abs(s.Dir)
	if err != nil {
		return o
	}
	full, err := filepath.Abs(o.File)
	if rel, relErr := filepath.Rel(dir, full); err == nil && relErr == nil && rel != ".." && !strings.HasPrefix(rel, "../") {
		o.File = filepath.ToSlash(rel)
	}
	return o
}

// nearIn names the files of configurations so in a sentence.
func (s *Source) nearIn(text string) string {
	if !strings.Contains(text, "/") {
		return text
	}
	if s.Dir == "" {
		return text
	}
	if absolute, err := filepath.Abs(s.Dir); err == nil && absolute != "/" {
		text = strings.ReplaceAll(text, absolute+"/", "")
	}
	if dir := filepath.Clean(s.Dir); dir != "." && dir != "/" {
		text = strings.ReplaceAll(text, dir+"/", "")
	}
	return text
}

// Mentions are the first lines in the servers' files, and in the override file of the folder that they serve, that hold a text.
func (s *Source) Mentions(text string) (found []facts.Origin) {
	look := func(file string, data []byte, err error) {
		if err != nil {
			return
		}
		if i := bytes.Index(bytes.ToLower(data), []byte(strings.ToLower(text))); i >= 0 {
			found = append(found, s.near(facts.Origin{File: file, Line: 1 + bytes.Count(data[:i], []byte("\n"))}))
		}
	}
	for _, server := range s.Servers {
		for _, file := range server.Tree.Files {
			data, err := s.files.Bytes(file)
			look(file, data, err)
		}
		if root, _ := s.root(); root != "" && server.Kind == Apache {
			file := filepath.Join(root, ".htaccess")
			data, err := server.assumed.Read(file)
			look(file, data, err)
		}
	}
	return found
}

// Near names the files of a gap from the site's folder.
func (s *Source) Near(gap facts.Gap) facts.Gap {
	gap.What, gap.Because = s.nearIn(gap.What), s.nearIn(gap.Because)
	return gap
}

// nearBy names the files of an answer so.
func (s *Source) nearBy(a *answer.Answer) *answer.Answer {
	for f, told := range a.Fields {
		told.Origin, told.Because = s.near(told.Origin), s.nearIn(told.Because)
		if told.Unknown != nil {
			told.Unknown = &facts.Reason{Because: s.nearIn(told.Unknown.Because), Origin: s.near(told.Unknown.Origin)}
		}
		a.Fields[f] = told
	}
	if a.Others != nil {
		a.Others = &facts.Reason{Because: s.nearIn(a.Others.Because), Origin: s.near(a.Others.Origin)}
	}
	for i := range a.Way {
		a.Way[i] = answer.Stage{Says: s.nearIn(a.Way[i].Says), Origin: s.near(a.Way[i].Origin)}
	}
	if k := a.Keeping; k != nil {
		k.Origin = s.near(k.Origin)
		for i := range k.Valid {
			k.Valid[i].Origin = s.near(k.Valid[i].Origin)
		}
	}
	for i := range a.Runtime {
		a.Runtime[i].Origin = s.near(a.Runtime[i].Origin)
	}
	return a
}

// Work works out what the servers make of an address. Assume are paths below the folder it serves that are taken to be there.
func (s *Source) Work(u *url.URL, assume ...string) *answer.Answer {
	return s.work(probe{address: *u, assume: assume})
}

// behind works out what somebody gets at an address who has signed in, where a lock stands before it.
func (s *Source) behind(u *url.URL, assume ...string) *answer.Answer {
	return s.work(probe{address: *u, assume: assume, signedIn: true})
}

// alone does something that asks a server while no other does.
func alone[T any](s *Source, do func() T) T {
	s.asking.Lock()
	defer s.asking.Unlock()
	return do()
}

func (s *Source) work(p probe) *answer.Answer {
	s.asking.Lock()
	defer s.asking.Unlock()
	for _, server := range s.Servers {
		server.assumed.paths = p.assume
	}
	defer func() {
		for _, server := range s.Servers {
			server.assumed.paths = nil
		}
	}()
	ask := s.ask(&p.address)
	if p.posted {
		ask.Method = http.MethodPost
	}
	ask.Method, ask.SignedIn = cmp.Or(p.method, ask.Method), p.signedIn
	if p.cookie != "" {
		ask.Header["cookie"] = p.cookie
	}
	a := s.nearBy(s.through(s.Servers, ask))
	s.limit(p.address.Path, a)
	return a
}

// A Limit is which files a runtime runs, whatever is handed to it.
type Limit struct {
	Endings []string // the only ones that are run; none where all are
	At      facts.Origin
	Literal bool   // a path is that of a file as it stands: what follows a file in it is none of that one's business
	Unsure  string // why that cannot be told, "" where it can
}

// runs tells whether a file is run.
func (l Limit) runs(file string) bool {
	return len(l.Endings) == 0 || slices.ContainsFunc(l.Endings, func(ending string) bool { return len(file) > len(ending) && strings.HasSuffix(file, ending) })
}

// limitOf is that of the runtime which the answer at a path comes from, with the file that it would run: the one that is named, or the one that is, of what stands before it in the path.
func (s *Source) limitOf(asked string, a *answer.Answer, is func(file string) bool) (l Limit, script string, known bool) {
	file := a.Get(answer.File)
	if s.Limits == nil || a.Onward == nil || a.Text(answer.Handler) != "program" || !file.Known() || file.Text() == "" {
		return l, "", false
	}
	if l, known = s.Limits(a.Onward.Among); !known {
		return l, "", false
	}
	script = file.Text()
	if _, more, follows := strings.Cut(asked, "/"+path.Base(script)+"/"); follows && s.Servers[len(s.Servers)-1].Kind == Apache {
		script += "/" + more // it hands on the path as it was asked for
	}
	if l.Literal {
		return l, script, true
	}
	for named := script; !is(script); {
		if script = path.Dir(script); script == "/" || script == "." {
			return l, named, false
		}
	}
	return l, script, script == file.Text() || l.Unsure == ""
}

// limit has a program refused that the runtime does not run by its ending.
func (s *Source) limit(asked string, a *answer.Answer) {
	l, script, known := s.limitOf(asked, a, func(file string) bool { return s.Servers[0].assumed.Look(file).Is == answer.AFile })
	if !known || l.runs(script) {
		return
	}
	at := s.near(l.At)
	at.Because = "the runtime runs what ends in " + facts.Shorten(strings.Join(l.Endings, " or "), 80) + " alone (security.limit_extensions)"
	a.Refuse(at)
	a.Say(answer.Runs, at)
}

// through asks one server, and where it hands the request on, the next.
func (s *Source) through(servers []*Server, ask answer.Ask) *answer.Answer {
	outer := servers[0].Answer(ask)
	if outer.Onward == nil || outer.Onward.Ask.Target == "" || len(servers) < 2 {
		return outer
	}
	next := outer.Onward.Ask
	next.Program = nil
	if !slices.Contains(servers[1].Serves(next.Host), next.Port) {
		outer.Then(outer.Onward.Origin, fmt.Sprintf("no server of %s listens on port %d", servers[1].File, next.Port))
		return outer
	}
	inner := s.through(servers[1:], next)
	way := append(slices.Clone(outer.Way), inner.Way...)
	if status := inner.Get(answer.Status); status.Known() {
		program := &answer.Program{Header: map[string]string{}, Length: -1}
		program.Status, _ = strconv.Atoi(status.Text())
		for f, told := range inner.Fields {
			if name, is := f.IsHeader(); is && told.Known() && len(told.Values) > 0 {
				program.Header[name] = told.Text()
			}
		}
		if location := inner.Get(answer.Location); len(location.Values) > 0 {
			program.Header["location"] = location.Text()
		}
		ask.Program = program
		outer = servers[0].Answer(ask)
	}
	for f, told := range inner.Fields {
		here, there := outer.Fields[f]
		name, header := f.IsHeader()
		switch {
		case f == answer.Server || f == answer.Body || f == answer.Rate || header && name == "server":
		case !told.Known() && there && !here.Known(), !there:
			outer.Fields[f] = told
		case f == answer.Handler || f == answer.File || f == answer.Runs || f == answer.Place || f == answer.Login || f == answer.Denied:
			outer.Fields[f] = told
		case there && here.Known() && told.Known() && slices.Equal(here.Values, told.Values): // its own line says more
			outer.Fields[f] = told
		case header && !told.Known() && there && here.Known() && len(here.Values) == 0:
			outer.Fields[f] = told
		}
	}
	outer.Others = cmp.Or(inner.Others, outer.Others)
	outer.Way = way
	return outer
}

// assumed is the disk of this machine, with some files taken to be there.
type assumed struct {
	roots []string
	paths []string // ends of paths
	files Overlay
}

// Look implements answer.Disk.
func (a *assumed) Look(path string) answer.Entry {
	e := answer.OS{}.Look(path)
	if data, changed := a.files[path]; changed && data != nil {
		return answer.Entry{Is: answer.AFile, Size: int64(len(data))}
	}
	if e.Is != answer.NoEntry {
		return e
	}
	clean := filepath.Clean(path)
	for _, p := range a.paths {
		folder := strings.HasSuffix(p, "/")
		switch full := strings.TrimSuffix(p, "/"); {
		case !strings.HasSuffix(clean, full):
			if !folder && strings.HasSuffix(clean, filepath.Dir(full)) && filepath.Dir(full) != "/" {
				return answer.Entry{Is: answer.AFolder, Run: true}
			}
		case folder:
			return answer.Entry{Is: answer.AFolder, Run: true}
		default:
			return answer.Entry{Is: answer.AFile, Size: 4096}
		}
	}
	return e
}

// Linked tells whether a link lies between a folder and what is below it.
func (a *assumed) Linked(from, path string) bool { return answer.OS{}.Linked(from, path) }

// SameOwner tells whether a link belongs to whom what it leads to belongs to.
func (a *assumed) SameOwner(path string) (same, known bool) { return answer.OS{}.SameOwner(path) }

// Read implements answer.Disk.
func (a *assumed) Read(path string) ([]byte, error) {
	if data, changed := a.files[path]; changed {
		return data, nil
	}
	return answer.OS{Roots: a.roots}.Read(path)
}

// Folders implements answer.Disk.
func (a *assumed) Folders(path string) []string { return answer.OS{}.Folders(path) }

// An Overlay is the disk of this machine with some files as they might be, by their names.
type Overlay map[string][]byte

// ReadBy implements directives.Disk.
func (o Overlay) ReadBy(name string, by directives.By) ([]byte, error) {
	if data, changed := o[name]; changed {
		return data, nil
	}
	return directives.OS{}.ReadBy(name, by)
}

// Bytes are those of a file that was read before: with the rights of whoever may change it, where its links lead no further than the folder beside its own.
func (o Overlay) Bytes(name string) ([]byte, error) {
	return o.ReadBy(name, directives.By{File: name, Main: filepath.Dir(name)})
}

// NamesBy implements directives.Disk.
func (o Overlay) NamesBy(dir string, by directives.By) ([]string, error) {
	return directives.OS{}.NamesBy(dir, by)
}

// kind is which servers answer, in words.
func (s *Source) kind() string {
	var names []string
	for _, server := range s.Servers {
		names = append(names, map[string]string{Nginx: "nginx", Apache: "Apache"}[server.Kind])
	}
	return strings.Join(names, " before ")
}

// Layout sees which servers there are, which folder they serve, and whether they read override files: what other steps need.
func (s *Source) Layout(ctx context.Context, gaps []facts.Gap) (facts.Seen, error) {
	var seen facts.Seen
	for _, gap := range gaps {
		seen.AddGap(s.Near(gap))
	}
	if len(s.Servers) == 0 {
		return seen, nil
	}
	at := s.near(facts.Origin{File: s.Servers[0].File, Line: 1})
	seen.Add(facts.ServerKind.Reading(s.kind(), at))
	for _, server := range s.Servers {
		if server.Version != "" {
			seen.Add(facts.ServerVersion.Reading(server.Version, facts.Origin{Path: "/var/lib/dpkg/status"}))
			break
		}
	}
	if s.Address == nil {
		return seen, ctx.Err()
	}
	root, from := s.root()
	if root != "" {
		seen.Add(facts.ServerRoot.Reading(root, from))
		last := s.Servers[len(s.Servers)-1]
		allowed, at := last.Overrides(s.within(), root)
		seen.Add(facts.ServerOverrideAllowed.Reading(allowed, s.near(at)))
	}
	if protocols, at := s.Servers[0].Protocols(s.Address.Hostname()); len(protocols) > 0 {
		seen.Add(facts.ServerTLSProtocols.Reading(protocols, s.near(at)))
	}
	return seen, ctx.Err()
}

// Serving is the folder that the site's address is served from; "" where nobody can tell.
func (s *Source) Serving() string {
	if len(s.Servers) == 0 || s.Address == nil {
		return ""
	}
	root, _ := s.root()
	return root
}

// root is the folder that the site's address is served from: that in which a file of a name that cannot be there would lie.
func (s *Source) root() (string, facts.Origin) {
	s.rooting.Do(func() {
		u := *s.Address
		u.Path, u.RawQuery = strings.TrimSuffix(cmp.Or(u.Path, "/"), "/")+"/"+token+".txt", ""
		file := s.behind(&u, "/"+token+".txt").Get(answer.File)
		if file.Known() && strings.HasSuffix(file.Text(), token+".txt") && !strings.Contains(file.Text(), "://") {
			s.served, s.servedAt = filepath.Dir(file.Text()), file.Origin
		}
	})
	return s.served, s.servedAt
}

// Token is the name of what is made up for the question: a page, a file, a folder.
const Token = "made-up"

const token = Token
