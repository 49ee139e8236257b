// Package site reads the site file: what a site is meant to be, where to look, and what somebody has decided to
// live with.
//
// It looks at no site. It may import facts, orders, strict and nearest.
package site

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net"
	"net/url"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/text/language"

	"weltaxis/internal/announce"
	"weltaxis/internal/facts"
	"weltaxis/internal/nearest"
	"weltaxis/internal/orders"
	"weltaxis/internal/strict"
)

// FileName is what a site file is called when only its folder is named.
const FileName = "weltaxis.yaml"

// A Site is one site file, checked. Paths in it are as written; Dir is what they are relative to.
type Site struct {
	Name     string           `yaml:"site"`
	Intent   Intent           `yaml:"intent"`
	Sources  Sources          `yaml:"sources"`
	Baseline []string         `yaml:"baseline"` // files with rules of one's own, added to the built-in ones
	Limits   map[string]Limit `yaml:"limits"`
	Accept   []Acceptance     `yaml:"accept"`
	// FollowUps are what to come back to, and when.
	FollowUps []FollowUp `yaml:"follow_ups"`
	History   History    `yaml:"history"` // how much of it is kept
	Upkeep    *Upkeep    `yaml:"upkeep"`
	Announce  *Announce  `yaml:"announce"`

	Path string `yaml:"-"` // of the site file
	Dir  string `yaml:"-"`
}

// Sources says where to look. Each is optional.
type Sources struct {
	Settings *Settings `yaml:"settings"`
	Live     *Live     `yaml:"live"`
	Files    *Files    `yaml:"files"`
	Server   *Server   `yaml:"server"`
	Runtime  *Runtime  `yaml:"runtime"`
}

// Runtime says which folder holds what the language runtime has been told; {} for the one that the web server's configuration leads to.
type Runtime struct {
	Reload  []string `yaml:"reload"`  // the command that has PHP-FPM read its files again
	Version string   `yaml:"version"` // its version, where the name of the folder does not tell
	From    string   `yaml:"from"`    // whose it is: a distribution with its version, or makers; where no package tells
	PHP     string   `yaml:"php"`     // that of php.ini, or the one of a version, above those for each way of running it
	Pos     strict.Pos
}

// Server says where the configuration of the web server is, of several the outermost first; {} for where systems put it.
type Server struct {
	Chain []ServerFile
	Pos   strict.Pos
}

// A ServerFile is the file that a configuration begins with.
type ServerFile struct {
	Nginx  string   `yaml:"nginx"`
	Apache string   `yaml:"apache"`
	Reload []string `yaml:"reload"` // the command that has it read its configuration again; the system's own when it says none
	Pos    strict.Pos
}

// UnmarshalNode takes one file, a list of them, or none.
func (s *Server) UnmarshalNode(n strict.Node) error {
	s.Pos = n.Pos()
	if n.IsSequence() {
		return n.Into(&s.Chain)
	}
	var one ServerFile
	if err := n.Into(&one); err != nil {
		return err
	}
	if one.Nginx != "" || one.Apache != "" || one.Reload != nil {
		s.Chain = []ServerFile{one}
	}
	return nil
}

// Live says how the site is looked at from outside. What is left out has the live source's defaults.
type Live struct {
	URL         string            `yaml:"url"`      // instead of intent.address
	Referrer    string            `yaml:"referrer"` // where somebody comes from who follows a search result
	Own         bool              `yaml:"own"`      // paths that nobody links to may be probed
	Connect     map[string]string `yaml:"connect"`
	Trust       string            `yaml:"trust"`   // file of certificates in PEM
	User        string            `yaml:"user"`    // name:password for a locked site; ${NAME} stands for an environment variable
	Session     string            `yaml:"session"` // name=value of a cookie that carries a session, to look as somebody who is signed in; ${NAME} stands for an environment variable
	Pages       *int              `yaml:"pages"`
	Depth       *int              `yaml:"depth"`
	Seconds     *int              `yaml:"seconds"`
	Rate        *int              `yaml:"rate"` // requests a second; 0 for as many as answers allow
	Concurrency *int              `yaml:"concurrency"`
	List        []string          `yaml:"list"` // further paths or addresses to look at
	Pos         strict.Pos
}

// Settings says where the content system is installed and how it spells things.
type Settings struct {
	Dialect     string            `yaml:"dialect"` // a shipped one's name, or a file
	Root        string            `yaml:"root"`
	Environment map[string]string `yaml:"environment"` // variables of the site's own process
	// Hosts are those, besides this one, whose databases may be connected to.
	Hosts     []string            `yaml:"hosts"`
	Databases map[string]Database `yaml:"databases"` // where they are, over what the configuration says
	API       string              `yaml:"api"`       // where the content system offers its settings over HTTP
	Token     Secret              `yaml:"token"`     // for it
	Pos       strict.Pos
}

// A Database says where one is and who looks at it. What is left out is taken from the configuration.
type Database struct {
	Driver   string `yaml:"driver"` // sqlite, mysql or postgresql
	SQLite   string `yaml:"sqlite"`
	Host     string `yaml:"host"`
	Port     string `yaml:"port"`
	Socket   string `yaml:"socket"`
	Name     string `yaml:"name"`
	User     string `yaml:"user"`
	Password Secret `yaml:"password"`
}

// A Secret is written as ${NAME}, an environment variable, or as file:path, the first line of a file beside the
// site file. Written out it is an error: site files are shared and kept.
type Secret struct {
	Stands string
	Pos    strict.Pos
}

var secretShape = regexp.MustCompile(`^(\$\{[A-Za-z_][A-Za-z0-9_]*\}|file:.+)$`)

// UnmarshalNode takes one of the two spellings.
func (s *Secret) UnmarshalNode(n strict.Node) error {
	text, _, err := n.Scalar()
	if err != nil {
		return err
	}
	if !secretShape.MatchString(text) {
		return n.Errorf("a secret does not stand in the site file; write ${NAME}, an environment variable, or file:path")
	}
	*s = Secret{text, n.Pos()}
	return nil
}

// Reveal gives the secret itself, "" for one that is not written.
func (s *Site) Reveal(secret Secret) (string, error) {
	if file, is := strings.CutPrefix(secret.Stands, "file:"); is {
		data, err := orders.ReadNamed(s.Resolve(file), maxFile)
		if err != nil {
			return "", s.ErrorAt(secret.Pos, "the secret's file %s cannot be read", file)
		}
		line, _, _ := strings.Cut(string(data), "\n")
		return strings.TrimSpace(line), nil
	}
	if secret.Stands == "" {
		return "", nil
	}
	name := strings.Trim(secret.Stands, "${}")
	value, there := os.LookupEnv(name)
	if !there {
		return "", s.ErrorAt(secret.Pos, "the environment variable %s is not set", name)
	}
	return value, nil
}

// Files says where the tree is.
type Files struct {
	Root   string `yaml:"root"`
	Public string `yaml:"public"` // the folder below the root that the web server serves; "." for all of it
	Pos    strict.Pos
}

// An Acceptance is a deviation to live with until a day.
type Acceptance struct {
	Rule    string      `yaml:"rule"`
	Subject string      `yaml:"subject"`
	Because string      `yaml:"because"`
	Until   strict.Date `yaml:"until"`
	// Severity is that of the deviation that is accepted; worse ones count.
	Severity facts.Severity `yaml:"severity"`
	Pos      strict.Pos
}

// A FollowUp is something to come back to on a day.
type FollowUp struct {
	On   strict.Date `yaml:"on"`
	What string      `yaml:"what"`
	Pos  strict.Pos
}

// History says how much of a site's audits is kept.
type History struct {
	Audits *int `yaml:"audits"` // at most
	Days   *int `yaml:"days"`   // and for how long
	Pos    strict.Pos
}

// Upkeep says where it is to be looked up what others know of programs: each a file, a folder, or an address that it is fetched from.
type Upkeep struct {
	Versions   string `yaml:"versions"`   // the newest versions that there are
	Advisories string `yaml:"advisories"` // known flaws, in OSV format: a folder, an archive (zip), or one file
	Checksums  string `yaml:"checksums"`  // what the files of programs ought to hold
	Pos        strict.Pos
}

// Announce says where search engines are told of new and changed addresses.
type Announce struct {
	Endpoint string `yaml:"endpoint"` // of the IndexNow protocol
	Key      string `yaml:"key"`      // by which they know that the site's keeper speaks; made when there is none. It is no secret: the site shows it
	Pos      strict.Pos
}

// checkAnnounce refuses what nothing can be told to.
func (s *Site) checkAnnounce() error {
	a := s.Announce
	if a == nil {
		return nil
	}
	if err := announce.CheckEndpoint(a.Endpoint); err != nil {
		return s.ErrorAt(a.Pos, "announce: endpoint: %s", err)
	}
	if a.Key == "" {
		return nil
	}
	if err := announce.CheckKey(a.Key); err != nil {
		return s.ErrorAt(a.Pos, "announce: key: %s", err)
	}
	return nil
}

// A Limit is an overridden parameter of the baseline, as text; the baseline knows its type.
type Limit struct {
	Text string
	List []string
	Pos  strict.Pos
}

// UnmarshalNode takes a single value or a list of texts.
func (l *Limit) UnmarshalNode(n strict.Node) (err error) {
	l.Pos = n.Pos()
	if n.IsSequence() {
		return n.Into(&l.List)
	}
	l.Text, _, err = n.Scalar()
	return err
}

// Intent is what the site is meant to be: readings whose origin is the site file. Their names and types are the
// catalogue's.
type Intent []facts.Reading

// UnmarshalNode reads a mapping of names in the catalogue.
func (i *Intent) UnmarshalNode(n strict.Node) error {
	values := map[string]intentValue{}
	if err := n.Into(&values); err != nil {
		return err
	}
	for _, term := range facts.Of(facts.Intent) {
		name := term.Short()
		if v, there := values[name]; there {
			delete(values, name)
			reading, err := v.reading(name)
			if err != nil {
				return err
			}
			*i = append(*i, reading)
		} else if term.Unsaid.Type() != "" {
			*i = append(*i, facts.Reading{Source: facts.Intent, Name: name, Value: term.Unsaid, Origin: facts.Origin{Default: "the site file"}})
		}
	}
	for name, v := range values {
		return v.node.Errorf("%q is not known under intent%s; known are %s", name, nearest.Hint(name, facts.Names(facts.Intent)), strings.Join(facts.Names(facts.Intent), ", "))
	}
	return nil
}

type intentValue struct{ node strict.Node }

// UnmarshalNode keeps the node until its type is known.
func (v *intentValue) UnmarshalNode(n strict.Node) error {
	v.node = n
	return nil
}

func (v intentValue) reading(name string) (facts.Reading, error) {
	entry, _ := facts.Lookup(facts.Intent.Name(name))
	value, err := v.value(name, entry)
	return facts.Reading{Source: facts.Intent, Name: name, Value: value,
		Origin: facts.Origin{File: FileName, Line: v.node.Pos().Line}}, err
}

func (v intentValue) value(name string, entry facts.Term) (facts.Value, error) {
	if v.node.IsNothing() {
		return facts.Value{}, v.node.Errorf("%s: nothing stands here; write a value, or leave the line out", name)
	}
	if sign, is := v.node.IsEmptyBlock(); is {
		return facts.Value{}, v.node.Errorf("%s: %s begins a block in YAML; if the sign is meant, put it in quotes: %s: %q", name, sign, name, sign)
	}
	if name == facts.IntentGroups.Short() {
		return v.groups()
	}
	if entry.Type == facts.List {
		var list []string
		if !v.node.IsSequence() {
			text, _, _ := v.node.Scalar()
			return facts.Value{}, v.node.Errorf("%s: a list is expected here; write it as [%s]", name, cmp.Or(text, "..."))
		}
		if err := v.node.Into(&list); err != nil {
			return facts.Value{}, err
		}
		return facts.ListOf(list...), v.checkList(name, list)
	}
	if entry.Type == facts.Date {
		var day strict.Date
		err := v.node.Into(&day)
		return facts.NumberOf(facts.Date, day.Unix()), err
	}
	text, kind, err := v.node.Scalar()
	switch {
	case err != nil:
		return facts.Value{}, err
	case entry.Type == facts.Bool && kind != "bool":
		return facts.Value{}, v.node.Errorf("%s: true or false is expected here, and %s is neither", name, text)
	case entry.Type == facts.Words && kind != "string":
		return facts.Value{}, v.node.Errorf("%s: %s is not one of %s", name, text, strings.Join(entry.Words, ", "))
	case entry.Type != facts.Bool && kind != "string":
		return facts.Value{}, v.node.Errorf("%s: a text is expected here; put it in quotes: %s: %q", name, name, text)
	case text == "":
		return facts.Value{}, v.node.Errorf("%s: nothing stands here; write a value, or leave the line out", name)
	case entry.Type == facts.URL:
		text = WithScheme(text)
	}
	value, err := entry.Type.Parse(text)
	if err != nil {
		return value, v.node.Errorf("%s: %s", name, err)
	}
	return value, v.check(name, entry, value)
}

var (
	groupPath = regexp.MustCompile(`^/\S*$`)
	groupType = regexp.MustCompile(`^[A-Z][A-Za-z]+$`)
)

// groups reads which type of structured data pages below a path carry.
func (v intentValue) groups() (facts.Value, error) {
	types := map[string]string{}
	if err := v.node.Into(&types); err != nil {
		return facts.Value{}, err
	}
	var list []string
	for _, path := range slices.Sorted(maps.Keys(types)) {
		switch kind := types[path]; {
		case !groupPath.MatchString(path):
			return facts.Value{}, v.node.Errorf("groups: %q is no path; write it as /shop/", path)
		case !groupType.MatchString(kind):
			return facts.Value{}, v.node.Errorf("groups: %q is no type of schema.org; write it as Product or Event", kind)
		default:
			list = append(list, path+" "+kind)
		}
	}
	return facts.ListOf(list...), nil
}

// hostShape is a host with a dot, and what may follow it in an address.
var hostShape = regexp.MustCompile(`^([A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?\.)+[A-Za-z0-9-]*[A-Za-z0-9](:[0-9]+)?(/.*)?$`)

// WithScheme is an address with the scheme that is meant when none is said, https; what is no address is as it was.
func WithScheme(text string) string {
	if hostShape.MatchString(text) {
		return "https://" + text
	}
	return text
}

// checkList holds the items of a list against what the name promises.
func (v intentValue) checkList(name string, list []string) error {
	for _, item := range list {
		switch host := strings.TrimPrefix(item[strings.LastIndex(item, "@")+1:], "https://"); name {
		case "languages":
			if err := languageTag(item); err != nil {
				return v.node.Errorf("%s: %s", name, err)
			}
		case "token_files":
			if strings.ContainsAny(item, "/\\?#% ") || item == "" || strings.HasPrefix(item, ".") {
				return v.node.Errorf("%s: %q is no name of a file at the top of the site", name, item)
			}
		case "mail_domains", "building_hosts", "aliases":
			if host = strings.Trim(strings.TrimPrefix(host, "http://"), "/"); host != item {
				return v.node.Errorf("%s: %q is no host; write it as %s", name, item, host)
			}
		}
	}
	return nil
}

// languageTag tells what is wrong with a language that is no tag of RFC 5646, or one that nobody has registered.
func languageTag(text string) error {
	if _, err := language.Parse(text); err != nil || strings.Contains(text, "_") {
		return fmt.Errorf("%q is no language tag (RFC 5646); write it as en-GB, de or pt-BR", text)
	}
	return nil
}

// check holds a value against what its type promises; the site file is the one place where that is an error.
func (v intentValue) check(name string, entry facts.Term, value facts.Value) error {
	text := value.Text()
	switch {
	case !entry.Check(value):
		return v.node.Errorf("%s: %q is not one of %s%s", name, text, strings.Join(entry.Words, ", "), nearest.Hint(text, entry.Words))
	case name == facts.IntentLanguage.Short():
		if err := languageTag(text); err != nil {
			return v.node.Errorf("%s: %s", name, err)
		}
	case name == facts.IntentWebUser.Short() && text != "":
		if _, err := user.Lookup(text); err != nil {
			slog.Warn(v.node.Errorf("%s: there is no user %q on this machine; what the web server may do to the files is worked out for somebody of that name all the same", name, text).Error())
		}
	case entry.Type == facts.Zone && !facts.IsZone(text):
		return v.node.Errorf("%s: %q is no time zone of the IANA database; write it as Europe/London", name, text)
	case entry.Type == facts.URL && facts.URLHost(text) == "":
		return v.node.Errorf("%s: %q is no address; write it as https://www.name.example", name, text)
	}
	return nil
}

// checkUpkeep refuses what is not there, before anything is looked at.
func (s *Site) checkUpkeep() error {
	u := s.Upkeep
	if u == nil {
		return nil
	}
	if u.Versions+u.Advisories+u.Checksums == "" {
		return s.ErrorAt(u.Pos, "upkeep: says nothing; name one of versions, advisories and checksums, or leave it out")
	}
	for _, list := range []struct{ what, place string }{{"versions", u.Versions}, {"advisories", u.Advisories}, {"checksums", u.Checksums}} {
		switch {
		case list.place == "" || strings.HasPrefix(list.place, "https://"):
		case strings.HasPrefix(list.place, "http://"):
			if address, err := url.Parse(list.place); err != nil || !facts.IsThisMachine(address.Hostname()) {
				return s.ErrorAt(u.Pos, "upkeep: %s: %s is not encrypted, and whoever sits in between could say that all is well; write https://", list.what, list.place)
			}
		default:
			if _, err := os.Stat(s.Resolve(list.place)); err != nil {
				return s.ErrorAt(u.Pos, "upkeep: %s: %s: %s", list.what, list.place, facts.Plainly(err))
			}
		}
	}
	return nil
}

// NotFoundError says that there is no site file where one was looked for.
type NotFoundError struct{ Path string }

func (e *NotFoundError) Error() string {
	return fmt.Sprintf("there is no site file %s; name a site file, or a folder that holds %s", e.Path, FileName)
}

// maxFile is the largest site file that is read, in bytes.
const maxFile = 1 << 20

// Load reads a site file, or the one in a folder.
func Load(path string) (*Site, error) {
	if stat, err := os.Stat(path); err == nil && stat.IsDir() {
		path = filepath.Join(path, FileName)
	}
	data, err := orders.Read(path, maxFile)
	switch fault := (*orders.Fault)(nil); {
	case errors.Is(err, fs.ErrNotExist):
		return nil, &NotFoundError{path}
	case errors.As(err, &fault):
		return nil, fmt.Errorf("the site file %s is not obeyed: %w", path, err)
	case err != nil:
		return nil, fmt.Errorf("reading the site file %s: %w", path, facts.Plainly(err))
	}
	return Parse(path, data)
}

// Parse reads the text of a site file; path is where it lies, or would.
func Parse(path string, data []byte) (*Site, error) {
	s := &Site{Path: path, Dir: filepath.Dir(path)}
	if err := strict.Decode(path, data, s); err != nil {
		return nil, err
	}
	return s, s.check()
}

// ErrorAt is an error in the site file.
func (s *Site) ErrorAt(at strict.Pos, format string, args ...any) error {
	return strict.Errorf(s.Path, at, format, args...)
}

func (s *Site) check() error {
	if s.Name == "" {
		return s.ErrorAt(strict.Pos{}, "site is missing: the name of the site")
	}
	if set := s.Sources.Settings; set != nil {
		switch {
		case set.Dialect == "":
			return s.ErrorAt(set.Pos, "settings: dialect is missing: how the content system spells its settings")
		case set.Root == "" && set.API == "" && len(set.Databases) == 0:
			return s.ErrorAt(set.Pos, "settings: root is missing: the folder of the installation")
		case set.API != "" && facts.URLHost(set.API) == "":
			return s.ErrorAt(set.Pos, "settings: api: %q is no address; write it as https://www.name.example", set.API)
		}
		if set.Root != "" {
			if err := s.checkRoot(set.Pos, "settings", set.Root); err != nil {
				return err
			}
		}
	}
	if err := s.checkAnnounce(); err != nil {
		return err
	}
	if err := s.checkUpkeep(); err != nil {
		return err
	}
	if f := s.Sources.Files; f != nil {
		if f.Root == "" {
			return s.ErrorAt(f.Pos, "files: root is missing: the folder of the site")
		}
		if err := s.checkRoot(f.Pos, "files", f.Root); err != nil {
			return err
		}
	}
	if err := s.checkServer(); err != nil {
		return err
	}
	if err := s.checkRuntime(); err != nil {
		return err
	}
	if err := s.checkLive(); err != nil {
		return err
	}
	if s.Sources == (Sources{}) {
		return s.ErrorAt(strict.Pos{}, "sources is missing: where to look (settings, live, files, server, runtime)")
	}
	if err := s.checkFollowUps(); err != nil {
		return err
	}
	return s.checkAccept()
}

// Address is the address that the live source looks at, "" when neither live.url nor the intent says.
func (s *Site) Address() string {
	if s.Sources.Live != nil && s.Sources.Live.URL != "" {
		return s.Sources.Live.URL
	}
	return s.Said("address")
}

// Said is the text of something that the intent says, "" when it does not.
func (s *Site) Said(name string) string {
	for _, r := range s.Intent {
		if r.Name == name {
			return r.Value.Text()
		}
	}
	return ""
}

// SaidList is a list that the intent says, nil when it does not.
func (s *Site) SaidList(name string) []string {
	for _, r := range s.Intent {
		if r.Name == name {
			return r.Value.List()
		}
	}
	return nil
}

func (s *Site) checkLive() error {
	l := s.Sources.Live
	if l == nil {
		return nil
	}
	if facts.URLHost(s.Address()) == "" {
		return s.ErrorAt(l.Pos, "live: there is no address to look at; say intent.address, or live.url, as https://www.name.example")
	}
	for name, value := range map[string]*int{"pages": l.Pages, "depth": l.Depth, "seconds": l.Seconds, "concurrency": l.Concurrency} {
		if value != nil && *value < 1 {
			return s.ErrorAt(l.Pos, "live: %s is at least 1", name)
		}
	}
	if _, password, _ := strings.Cut(l.User, ":"); password != "" && !strings.Contains(password, "${") {
		return s.ErrorAt(l.Pos, "live: user: a secret does not stand in the site file; write name:${NAME}, with the password in an environment variable")
	}
	if l.Session != "" && !strings.Contains(l.Session, "${") {
		return s.ErrorAt(l.Pos, "live: session: a secret does not stand in the site file; write ${NAME}, with name=value of the cookie in an environment variable")
	}
	if l.Rate != nil && *l.Rate < 0 {
		return s.ErrorAt(l.Pos, "live: rate is at least 0")
	}
	for from, to := range l.Connect {
		for _, end := range append(facts.Mapped(to), from) {
			if host, port, err := net.SplitHostPort(end); err != nil || host == "" || port == "" {
				return s.ErrorAt(l.Pos, "live: connect: %q is no name or address with a port", end)
			}
		}
	}
	return nil
}

// checkServer holds each part of the chain against what it can be: one server, whose file is there.
func (s *Site) checkServer() error {
	if s.Sources.Server == nil {
		return nil
	}
	for _, part := range s.Sources.Server.Chain {
		file := part.Nginx + part.Apache
		switch {
		case part.Nginx != "" && part.Apache != "":
			return s.ErrorAt(part.Pos, "server: a part of the chain is nginx or Apache; write [{nginx: FILE}, {apache: FILE}], the outermost first")
		case file == "":
			return s.ErrorAt(part.Pos, "server: a part of the chain names no file; write nginx: FILE or apache: FILE")
		}
		switch stat, err := os.Stat(s.Resolve(file)); {
		case errors.Is(err, fs.ErrNotExist):
			return s.ErrorAt(part.Pos, "server: the configuration %s does not exist", s.Resolve(file))
		case err == nil && stat.IsDir():
			return s.ErrorAt(part.Pos, "server: %s is a folder; name the file that the configuration begins with, as %s", s.Resolve(file), filepath.Join(file, "nginx.conf"))
		}
	}
	return nil
}

var branchShape = regexp.MustCompile(`^\d+\.\d+$`)

// checkRuntime holds what is said of the runtime against what it can be.
func (s *Site) checkRuntime() error {
	r := s.Sources.Runtime
	switch {
	case r == nil:
		return nil
	case s.Sources.Server == nil:
		return s.ErrorAt(r.Pos, "runtime: which of its settings count is decided by the web server; say server: {nginx: FILE}, server: {apache: FILE} or server: {} as well")
	case r.Version != "" && !branchShape.MatchString(r.Version):
		return s.ErrorAt(r.Pos, "runtime: version: %q is no branch; write it as \"8.4\"", r.Version)
	case r.PHP == "":
		return nil
	}
	switch stat, err := os.Stat(s.Resolve(r.PHP)); {
	case errors.Is(err, fs.ErrNotExist):
		return s.ErrorAt(r.Pos, "runtime: the folder %s does not exist", s.Resolve(r.PHP))
	case err == nil && !stat.IsDir():
		return s.ErrorAt(r.Pos, "runtime: %s is a file; name the folder that it lies in, %s", s.Resolve(r.PHP), filepath.Dir(r.PHP))
	}
	return nil
}

func (s *Site) checkRoot(at strict.Pos, source, root string) error {
	full := s.Resolve(root)
	stat, err := os.Stat(full)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return s.ErrorAt(at, "%s: the root %s does not exist", source, full)
	case err != nil:
		return s.ErrorAt(at, "%s: the root %s cannot be read: %s", source, full, errors.Unwrap(err))
	case !stat.IsDir():
		return s.ErrorAt(at, "%s: the root %s is no folder", source, full)
	}
	return nil
}

func (s *Site) checkFollowUps() error {
	for _, f := range s.FollowUps {
		if f.On.IsZero() || f.What == "" {
			return s.ErrorAt(f.Pos, "follow_ups: on is a day, as 2027-01-15, and what says what to do then")
		}
	}
	for name, n := range map[string]*int{"audits": s.History.Audits, "days": s.History.Days} {
		if n != nil && *n < 1 {
			return s.ErrorAt(s.History.Pos, "history: %s is at least 1", name)
		}
	}
	return nil
}

func (s *Site) checkAccept() error {
	for _, a := range s.Accept {
		for _, field := range []struct{ name, value string }{{"rule", a.Rule}, {"subject", a.Subject}, {"because", a.Because}} {
			if field.value == "" {
				return s.ErrorAt(a.Pos, "accept: %s is missing", field.name)
			}
		}
		if !doublestar.ValidatePattern(a.Subject) {
			return s.ErrorAt(a.Pos, "accept: %q is no subject: a path with * for a part of a name and ** for any folders, as uploads/**, or what the report says with --full", a.Subject)
		}
		if a.Until.IsZero() {
			return s.ErrorAt(a.Pos, "accept: until is missing: the last day it is good")
		}
	}
	return nil
}

// Resolve makes a path of the site file one that can be opened.
func (s *Site) Resolve(path string) string {
	if filepath.IsAbs(path) {
		return filepath.Clean(path)
	}
	return filepath.Join(s.Dir, path)
}

// Roots are the folders that hold the site's own files, as they can be opened; of the settings first.
func (s *Site) Roots() (roots []string) {
	if set := s.Sources.Settings; set != nil && set.Root != "" {
		roots = append(roots, s.Resolve(set.Root))
	}
	if f := s.Sources.Files; f != nil {
		roots = append(roots, s.Resolve(f.Root))
	}
	return roots
}

// Root is the folder of the installation, "" when the site file names none.
func (s *Site) Root() string {
	if roots := s.Roots(); len(roots) > 0 {
		return roots[0]
	}
	return ""
}

// Accepted lists the acceptances as facts.
func (s *Site) Accepted() []facts.Acceptance {
	var list []facts.Acceptance
	for _, a := range s.Accept {
		list = append(list, facts.Acceptance{Rule: a.Rule, Subject: a.Subject, Because: a.Because, Until: facts.NumberOf(facts.Date, a.Until.Unix()), Severity: a.Severity})
	}
	return list
}

// Stated lists what the site file wants somebody to come back to.
func (s *Site) Stated() []facts.FollowUp {
	var list []facts.FollowUp
	times := map[string]int{}
	for _, f := range s.FollowUps {
		list = append(list, facts.StatedFollowUp(facts.DayOf(f.On.Time), f.What, times[f.What]))
		times[f.What]++
	}
	return list
}

// Stages lists the stages a site may be in.
func Stages() []string {
	entry, _ := facts.Lookup(facts.Intent.Name("stage"))
	return slices.Clone(entry.Words)
}

// Bare is the site file of a site that has none: only an address, taken to be live. Nothing on it is one's own.
func Bare(address string) (*Site, error) {
	address = WithScheme(address)
	if facts.URLHost(address) == "" {
		return nil, fmt.Errorf("%q is no address; write it as https://www.name.example", address)
	}
	guess := func(name string, t facts.Type, value string) facts.Reading {
		return facts.Reading{Source: facts.Intent, Name: name, Value: facts.TextOf(t, value), Origin: facts.Origin{Default: Guess}}
	}
	s := &Site{Name: facts.URLHost(address), Dir: ".", Path: address, Sources: Sources{Live: &Live{}}}
	s.Intent = Intent{guess("stage", facts.Words, "live"), guess("address", facts.URL, address)}
	for _, term := range facts.Of(facts.Intent) {
		if term.Unsaid.Type() != "" {
			s.Intent = append(s.Intent, facts.Reading{Source: facts.Intent, Name: term.Short(), Value: term.Unsaid, Origin: facts.Origin{Default: Guess}})
		}
	}
	return s, nil
}

// Guess is the origin of an intent that nobody stated.
const Guess = "an audit without a site file"

// LoadValues reads a file of neutral values, as settings --export writes it: names with a value, or a list of texts.
func LoadValues(path string) (map[string]string, error) {
	data, err := orders.Read(path, maxFile)
	if fault := (*orders.Fault)(nil); errors.As(err, &fault) {
		return nil, fmt.Errorf("%s is not obeyed: %w", path, err)
	}
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, facts.Plainly(err))
	}
	var file struct {
		Values map[string]Limit `yaml:"values"`
	}
	if err := strict.Decode(path, data, &file); err != nil {
		return nil, err
	}
	values := map[string]string{}
	for name, v := range file.Values {
		if now, changed := facts.PresentSetting(name); changed {
			slog.Warn((&strict.Error{File: path, Pos: v.Pos, Says: facts.Renamed(name, now)}).Error())
			name = now
		}
		if _, known := facts.Lookup(facts.Settings.Name(name)); !known {
			return nil, &strict.Error{File: path, Pos: v.Pos, Says: fmt.Sprintf("there is no setting %q%s", name, nearest.Hint(name, facts.Names(facts.Settings)))}
		}
		values[name] = v.Text
		if v.List != nil {
			values[name] = strings.Join(v.List, ", ")
		}
	}
	return values, nil
}
