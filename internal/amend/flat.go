package amend

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/source/server"
)

// A Flat is a whole configuration as one file, that a server can test without touching what its own would: files that it writes lie in
// a folder apart, and those that it reads are named in full.
type Flat struct {
	Kind string
	Text []byte
	from []place // of each line
}

type place struct {
	file string
	line int
}

// At is the file and line that a line of it stands for.
func (f *Flat) At(line int) (file string, at int) {
	if line < 1 || line > len(f.from) {
		return "", 0
	}
	return f.from[line-1].file, f.from[line-1].line
}

// writes are the directives by which nginx names what it writes, and their place among the words; readsBeside those whose file is
// relative to the folder of the configuration.
var (
	writes      = []string{"pid", "error_log", "access_log", "lock_file", "client_body_temp_path", "proxy_temp_path", "fastcgi_temp_path", "uwsgi_temp_path", "scgi_temp_path", "proxy_cache_path", "fastcgi_cache_path", "uwsgi_cache_path", "scgi_cache_path"}
	readsBeside = []string{"ssl_certificate", "ssl_certificate_key", "ssl_trusted_certificate", "ssl_client_certificate", "ssl_dhparam", "ssl_crl", "ssl_password_file", "ssl_session_ticket_key", "auth_basic_user_file", "proxy_ssl_certificate", "proxy_ssl_certificate_key",
		"proxy_ssl_trusted_certificate", "grpc_ssl_certificate", "grpc_ssl_certificate_key"}
	apacheWrites = []string{"PidFile", "ErrorLog", "CustomLog", "TransferLog", "Mutex", "ScoreBoardFile", "DefaultRuntimeDir", "RewriteLog", "SSLSessionCache", "GlobalLog"}
)

// Flatten makes one of what a server has been told. Overrides are override files that change, tested in a section of their folder. The
// error is that of a configuration that was not read whole.
func Flatten(s *server.Server, private string, overrides map[string][]byte) (*Flat, error) {
	if len(s.Tree.Gaps) > 0 {
		return nil, fmt.Errorf("not all of the configuration could be read: %w", s.Tree.Gaps[0])
	}
	f := &flattening{flat: &Flat{Kind: s.Kind}, private: private, dir: filepath.Dir(s.File)}
	if s.Kind == server.Nginx {
		f.line(place{}, fmt.Sprintf("pid %s/pid; error_log %s/log;", private, private))
		f.nginx(s.Tree.Root, "")
	} else {
		f.line(place{}, fmt.Sprintf("PidFile %q\nErrorLog %q", private+"/pid", private+"/log"))
		f.apache(s.Tree.Root)
		for _, name := range slices.Sorted(maps.Keys(overrides)) {
			f.line(place{name, 1}, fmt.Sprintf("<Directory %q>", filepath.Dir(name)))
			for i, line := range strings.Split(string(overrides[name]), "\n") {
				f.line(place{name, i + 1}, line)
			}
			f.line(place{name, 1}, "</Directory>")
		}
	}
	f.flat.Text = []byte(strings.Join(f.lines, "\n") + "\n")
	return f.flat, nil
}

type flattening struct {
	flat    *Flat
	private string
	dir     string
	lines   []string
	logs    int
}

// line adds lines, which all stand for one of a file.
func (f *flattening) line(at place, text string) {
	for _, one := range strings.Split(text, "\n") {
		f.lines = append(f.lines, one)
		f.flat.from = append(f.flat.from, at)
	}
}

// word is a word in quotes, as nginx takes it.
func word(w string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(w) + `"`
}

func (f *flattening) nginx(body []*directives.Node, outer string) {
	for _, n := range body {
		at := place{n.File, n.Line}
		if n.Hole != "" || n.Is("include") {
			continue
		}
		args := slices.Clone(n.Args)
		switch {
		case n.Is("pid", "error_log") && outer == "", n.Is("user") && outer == "":
			continue
		case n.Is("error_log", "access_log") && (n.Arg(0) == "off" || strings.HasPrefix(n.Arg(0), "syslog:") || n.Arg(0) == "stderr"):
		case n.Is(writes...) && len(args) > 0:
			f.logs++
			args[0] = fmt.Sprintf("%s/%d", f.private, f.logs)
		case n.Is(readsBeside...) && len(args) > 0 && !filepath.IsAbs(args[0]) && !strings.Contains(args[0], "$") && !strings.Contains(args[0], ":"):
			args[0] = filepath.Join(f.dir, args[0])
		}
		text := n.Name
		if outer == "types" || outer == "map" || outer == "geo" || outer == "split_clients" {
			text = word(n.Name)
		}
		if n.Is("if") && len(args) > 0 { // its words stand in brackets
			text += " " + strings.Join(bracketed(args), " ")
		} else {
			for _, arg := range args {
				text += " " + word(arg)
			}
		}
		if !n.Block {
			f.line(at, text+";")
			continue
		}
		f.line(at, text+" {")
		f.nginx(n.Body, n.Name)
		f.line(at, "}")
	}
}

// bracketed are the words of an if as nginx takes them.
func bracketed(args []string) []string {
	out := make([]string, len(args))
	for i, arg := range args {
		lead, tail := "", ""
		if i == 0 && strings.HasPrefix(arg, "(") {
			lead, arg = "(", arg[1:]
		}
		if i == len(args)-1 && strings.HasSuffix(arg, ")") {
			tail, arg = ")", strings.TrimSuffix(arg, ")")
		}
		if arg != "" && (i > 1 || strings.ContainsAny(arg, " \t;{}\"'")) { // the variable and the sign stand without quotes
			arg = word(arg)
		}
		out[i] = lead + arg + tail
	}
	if !strings.HasPrefix(out[0], "(") {
		out[0] = "(" + out[0]
		out[len(out)-1] += ")"
	}
	return out
}

func (f *flattening) apache(body []*directives.Node) {
	for _, n := range body {
		at := place{n.File, n.Line}
		switch {
		case n.Hole != "", n.Skipped != "", n.Is("Include", "IncludeOptional"):
			continue
		case n.Is(apacheWrites...):
			continue
		case n.Is("IfModule", "IfDefine", "IfVersion", "IfFile"):
			f.apache(n.Body)
			continue
		}
		text := n.Name
		for _, arg := range n.Args {
			text += " " + plainly(arg)
		}
		if !n.Block {
			f.line(at, text)
			continue
		}
		f.line(at, "<"+text+">")
		f.apache(n.Body)
		f.line(at, "</"+n.Name+">")
	}
}

// plainly is a word as Apache takes it, in quotes only where it needs them.
func plainly(w string) string {
	if w != "" && !strings.ContainsAny(w, " \t\"'<>") {
		return w
	}
	return `"` + strings.ReplaceAll(w, `"`, `\"`) + `"`
}
