package server

import (
	"cmp"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// A Run is what the servers make of a program in a folder.
type Run struct {
	Address string   // of the folder below the site's, ending in a slash
	Script  string   // the file that is run
	Module  bool     // by a module of Apache; else by FastCGI
	Listen  []string // where that is asked; several where they take turns
	Told    []answer.Setting
	Unsure  *facts.Reason // why what is told cannot be known
}

// Root is the folder that the site's address is served from, "" when it cannot be told.
func (s *Source) Root() string {
	root, _ := s.root()
	return root
}

// Runs tells which program is run for addresses of a folder, "/" for the site's own; false when none is, and why where something of it
// cannot be told.
func (s *Source) Runs(folder string) (run Run, runs bool, why *facts.Reason) {
	names := []string{token + ".php", "index.php"}
	if folder == "/" {
		names = append([]string{""}, names...)
	}
	base := strings.TrimSuffix(s.Address.Path, "/")
	for _, name := range names {
		u := *s.Address
		u.Path, u.RawPath, u.RawQuery = base+folder+name, "", ""
		if decoded, err := url.PathUnescape(u.Path); err == nil {
			u.Path = decoded
		}
		var assume []string
		if name != "" {
			assume = []string{folder + name}
		}
		a := s.behind(&u, assume...)
		handler, file := a.Get(answer.Handler), a.Get(answer.File)
		switch {
		case !handler.Known():
			why = cmp.Or(why, handler.Unknown)
			continue
		case handler.Text() != "program":
			continue
		case !file.Known():
			why = cmp.Or(why, file.Unknown)
			continue
		case folder != "/" && path.Base(file.Text()) != name: // handed to a program elsewhere
			continue
		}
		run = Run{Address: folder, Script: file.Text(), Told: a.Runtime, Unsure: a.RuntimeUnsure, Module: a.Onward == nil}
		if a.Onward != nil {
			run.Listen = a.Onward.Among
		}
		return run, true, nil
	}
	return run, false, why
}

// runtimeFile is how files are called that a runtime reads and runs, for which they need no permission to be run themselves.
var runtimeFile = regexp.MustCompile(`(?i)\.(?:php[0-9]?|phtml|phar|phps|pht)$`)

// Started tells whether the file at an address is a program that the operating system starts for the server (RFC 3875), or that what it is handed to may have started, and by
// which line; at is "" where that cannot be told.
func (s *Source) Started(u *url.URL) (started bool, at string) {
	a := s.Work(u)
	handler := a.Get(answer.Handler)
	if !handler.Known() {
		return false, ""
	}
	at = cmp.Or(handler.Origin.String(), "the web server's configuration")
	if handler.Text() != "program" || !a.Get(answer.File).Known() || path.Base(a.Text(answer.File)) != path.Base(u.Path) {
		return false, at
	}
	gateway := len(a.Way) > 0 && strings.HasSuffix(a.Way[len(a.Way)-1].Says, " cgi-script")
	return gateway || !runtimeFile.MatchString(u.Path), at
}

// Handed are all values of FastCGI for the runtime, wherever in the configuration they are sent: a worker that has been told one keeps it.
// Of several of a kind in one place only the last is.
func (s *Source) Handed() (list []answer.Setting) {
	for _, server := range s.Servers {
		server.Tree.Bodies(func(body []*directives.Node) {
			last := map[string]answer.Setting{}
			for _, n := range body {
				kind := n.Arg(0)
				if !n.Is("fastcgi_param", "SetEnv") || kind != "PHP_VALUE" && kind != "PHP_ADMIN_VALUE" {
					continue
				}
				set := answer.Setting{Kind: kind, Value: n.Arg(1), Origin: s.near(facts.Origin{File: n.File, Line: n.Line})}
				if strings.Contains(set.Value, "$") && server.Kind == Nginx {
					set.Unknown = "it is made of variables"
				}
				last[kind] = set
			}
			for _, kind := range []string{"PHP_VALUE", "PHP_ADMIN_VALUE"} {
				if set, sent := last[kind]; sent && !slices.Contains(list, set) { // a file that is included in several places is one line
					list = append(list, set)
				}
			}
		})
	}
	return list
}

// IniDir is the folder of php.ini that Apache is told, and else the one that the name of its module leads to; "" for neither.
func (s *Source) IniDir() (folder string) {
	for _, server := range s.Servers {
		server.Tree.Bodies(func(body []*directives.Node) {
			for _, n := range body {
				switch {
				case n.Is("PHPIniDir"):
					folder = n.Arg(0)
				case n.Is("LoadModule") && folder == "" && slices.Contains([]string{"php_module", "php7_module"}, n.Arg(0)):
					branch := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(n.Arg(1)), "libphp"), ".so")
					if strings.Contains(branch, ".") {
						folder = "/etc/php/" + branch + "/apache2"
					}
				}
			}
		})
	}
	return folder
}
