// Package trial has web servers and the runtime test what they might be told, before it is written: in a private copy that is made of what
// this program has read and understood, by a program that may do nothing (package confine). The copy is tested as it is too: one that does
// not pass then proves nothing.
//
// Nothing that a site's owner may write to is obeyed by it: of an override file only directives that may stand in one are handed over, by
// their names in the table; a configuration that others may write to is not tested at all.
//
// It may import amend, confine, directives, facts, orders, ordinary, and source/server with what lies below it.
package trial

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/amend"
	"weltaxis/internal/confine"
	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/orders"
	"weltaxis/internal/secrets"
	"weltaxis/internal/source/server"
)

// A Verdict is what came of a trial.
type Verdict struct {
	Says     string   // what speaks against it; "" for nothing
	Untested string   // why nobody can test it here; "" where it was tested
	By       string   // who tested it, and as whom
	Replaced []string // what stood in the copy in place of what is there
	Left     []string // what was not tested
}

func untested(format string, args ...any) Verdict {
	return Verdict{Untested: fmt.Sprintf(format, args...)}
}

// passed tells whether nothing speaks against it, as far as could be tested.
func (v Verdict) passed() bool { return v.Says == "" && v.Untested == "" }

// with is both together.
func (v Verdict) with(other Verdict) Verdict {
	add := func(a, b []string) []string {
		for _, one := range b {
			if !slices.Contains(a, one) {
				a = append(a, one)
			}
		}
		return a
	}
	if v.Says == "" {
		v.Says = other.Says
	}
	if v.Untested == "" {
		v.Untested = other.Untested
	}
	if v.By == "" {
		v.By = other.By
	} else if other.By != "" && other.By != v.By {
		v.By += ", and by " + other.By
	}
	v.Replaced, v.Left = add(v.Replaced, other.Replaced), add(v.Left, other.Left)
	return v
}

// A Court tries files as they might be.
type Court struct {
	// Open reads the servers' configurations anew, with some files as they might be.
	Open func(server.Overlay) (*server.Source, []facts.Gap)
	// Own tells whether a file is read by none of the servers, and tested by nobody: a list of passwords of this program's own.
	Own func(file string) bool
}

// programs are what the configuration of each kind of server is tested with.
var programs = map[string][]string{server.Nginx: {"nginx"}, server.Apache: {"apache2", "httpd"}}

// Try has whoever reads files test them, with what they are to hold.
func (c Court) Try(ctx context.Context, files map[string][]byte) (v Verdict) {
	servers, _ := c.Open(c.named(files))
	var concerned []*server.Server
	overrides := map[string][]byte{}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		i := slices.IndexFunc(servers.Servers, func(s *server.Server) bool { return Holds(s.Tree.Files, name) })
		switch {
		case i >= 0:
			concerned = append(concerned, servers.Servers[i])
		case c.Own != nil && c.Own(name): // a list of passwords is read with the first request
		case filepath.Base(name) == ".htaccess":
			overrides[name] = files[name]
		case strings.HasSuffix(name, ".ini"):
			v = v.with(tryINI(ctx, name, files[name]))
		default:
			return untested("PHP-FPM tests what its pools say only when it reads it")
		}
	}
	for _, one := range servers.Servers {
		if slices.Contains(concerned, one) || one.Kind == server.Apache && len(overrides) > 0 {
			v = v.with(tryServer(ctx, one, overrides))
		}
		if !v.passed() {
			break
		}
	}
	return v
}

// Holds tells whether a file is one of those, whatever links lead to it.
func Holds(files []string, file string) bool {
	return slices.ContainsFunc(files, func(one string) bool { return amend.Real(one) == file })
}

// named gives the files of an overlay the names by which the configuration calls them.
func (c Court) named(files map[string][]byte) server.Overlay {
	servers, _ := c.Open(nil)
	named := server.Overlay{}
	for path, data := range files {
		named[path] = data
		for _, one := range servers.Servers {
			for _, file := range one.Tree.Files {
				if amend.Real(file) == path {
					named[file] = data
				}
			}
		}
	}
	return named
}

// Others says which part of a configuration somebody else may write to, nil for none: whoever reads it obeys him, as whoever reads it.
func Others(s *server.Server) error {
	files := s.Tree.Files
	if s.Kind == server.Apache { // the file beside the main one, of which the words come that it was read with
		files = append(slices.Clone(files), filepath.Join(filepath.Dir(s.File), "envvars"))
	}
	for _, name := range files {
		var fault *orders.Fault
		if _, err := orders.Own().Check(name); errors.As(err, &fault) {
			return fault
		}
	}
	return nil
}

// inDetail is what the library for encryption adds to what a test says.
var inDetail = regexp.MustCompile(`:? \w+\(\) failed \(SSL: .*\)$`)

// lineSaid is how the servers' tests name a line of the copy.
var lineSaid = regexp.MustCompile(`(?: in /proc/self/fd/\d+:(\d+)| on line (\d+) of /proc/self/fd/\d+)`)

// tryServer tests one configuration in a private copy.
func tryServer(ctx context.Context, s *server.Server, overrides map[string][]byte) Verdict {
	program := programOf(s.Kind)
	if program == "" {
		return untested("no program of a server of the kind %s is on this machine", s.Kind)
	}
	if err := Others(s); err != nil {
		return untested("what it says would be obeyed by the test: %s", err)
	}
	room, err := confine.Enter()
	if err != nil {
		return untested("%s", err)
	}
	defer room.Leave()
	certificate, key, err := makePair()
	if err != nil {
		return untested("no pair of certificate and key could be made for the copy: %s", err)
	}
	in := setting{dir: room.Dir, apart: room.Apart, cert: room.Name(1), key: room.Name(2)}
	if s.Kind == server.Nginx {
		in.prefix, in.lacks = built(ctx, room, program, filepath.Dir(s.File))
	}
	read := map[string]*directives.Tree{}
	for name, data := range overrides {
		read[name] = directives.ApacheOverride(name, data, s.Tree)
	}
	copied, err := copyOf(s, in, read)
	if err != nil {
		return untested("%s", err)
	}
	v := Verdict{By: fmt.Sprintf("%s itself, as %s", map[string]string{server.Nginx: "nginx", server.Apache: "Apache"}[s.Kind], room.As), Replaced: copied.replaced, Left: copied.left}
	if !room.Apart && s.Kind == server.Nginx {
		v.Left = append(v.Left, "addresses and ports")
	}
	for _, p := range copied.pairs {
		says, left := p.wrong()
		if left != "" && !slices.Contains(v.Left, left) {
			v.Left = append(v.Left, left)
		}
		if says != "" {
			v.Says = says
			return v
		}
	}
	args := []string{program, "-t", "-q", "-c", room.Name(0), "-p", room.Dir + "/", "-e", room.Dir + "/errors"}
	if s.Kind == server.Apache {
		args = []string{program, "-t", "-f", room.Name(0)}
	}
	says, err := room.Run(ctx, args, copied.text, certificate, key)
	if err == nil {
		return v
	}
	if v.Says = secrets.Without(copied.inWords(says), string(copied.text)); v.Says == "" {
		v.Says = facts.InWords(err)
	}
	return v
}

// programOf is how a kind of server is called here, "" where there is none.
func programOf(kind string) string {
	for _, name := range programs[kind] {
		if _, err := orders.Program(name); err == nil {
			return name
		}
	}
	return ""
}

// inWords is what a server says against a copy, with the lines of what was copied.
func (c *copied) inWords(says string) string {
	lines := strings.Split(says, "\n")
	for i, line := range lines {
		if strings.Contains(line, "[emerg]") || strings.Contains(line, "rror") || strings.Contains(line, "Invalid") {
			says = line
			if strings.HasSuffix(line, ":") && i+1 < len(lines) { // Apache says on the next what is wrong
				says += " " + lines[i+1]
			}
			break
		}
	}
	says = inDetail.ReplaceAllString(says, "")
	says = lineSaid.ReplaceAllStringFunc(says, func(part string) string {
		found := lineSaid.FindStringSubmatch(part)
		n, _ := strconv.Atoi(found[1] + found[2])
		if name, at := c.at(n); name != "" {
			return fmt.Sprintf(" in %s:%d", name, at)
		}
		return part
	})
	return facts.Shorten(says, 300)
}

// made are the words of nginx -V that are of use here.
var (
	prefixSaid  = regexp.MustCompile(`--prefix=(\S+)`)
	withoutSaid = regexp.MustCompile(`--without-http_(fastcgi|uwsgi|scgi|proxy)_module`)
)

// built is what an nginx says of itself, for which it needs no configuration: what relative names of modules are relative to, and what it
// lacks. A configuration that is not where the system has its own is taken to be started with its own folder for a prefix.
func built(ctx context.Context, room *confine.Room, program, dir string) (prefix string, lacks []string) {
	says, _ := room.Run(ctx, []string{program, "-V"})
	for _, found := range withoutSaid.FindAllStringSubmatch(says, -1) {
		lacks = append(lacks, found[1])
	}
	if found := prefixSaid.FindStringSubmatch(says); found != nil && dir == "/etc/nginx" {
		return found[1], lacks
	}
	return dir, lacks
}

// tryINI reads a file of the runtime with the runtime itself, and loads nothing that it names.
func tryINI(ctx context.Context, name string, data []byte) Verdict {
	if _, err := orders.Program("php"); err != nil {
		return untested("php is not on this machine")
	}
	room, err := confine.Enter()
	if err != nil {
		return untested("%s", err)
	}
	defer room.Leave()
	says, err := room.Run(ctx, []string{"php", "-n", "-d", "display_errors=1", "-d", "memory_limit=256M", "-r", "echo parse_ini_string(file_get_contents('php://fd/3'), true) === false ? 'refused' : 'read';"}, data)
	v := Verdict{By: "PHP itself, as " + room.As}
	for line := range strings.SplitSeq(says, "\n") {
		if strings.Contains(line, "syntax error") {
			v.Says = name + ": " + facts.Shorten(strings.TrimPrefix(strings.ReplaceAll(line, " in Unknown on line", " on line"), "Warning: "), 300)
			return v
		}
	}
	if err != nil || !strings.HasSuffix(says, "read") {
		return untested("php did not read %s to its end", name)
	}
	return v
}
