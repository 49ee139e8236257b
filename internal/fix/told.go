package fix

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"weltaxis/internal/amend"
	"weltaxis/internal/audit"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/site"
	"weltaxis/internal/source/runtime"
	"weltaxis/internal/source/server"
)

// worldOf is what the servers and the runtime of a site have been told; nil where its site file names no server.
func worldOf(s *site.Site, d *dialect.Dialect, hints facts.Hints) *amend.World {
	if s.Sources.Server == nil {
		return nil
	}
	open := func(files server.Overlay) (*server.Source, []facts.Gap) {
		servers, gaps := audit.ServersWith(files, s)
		servers.Dir = "" // files by their own names
		return servers, gaps
	}
	w := &amend.World{Open: open, Probes: audit.Probes(s, d, hints)}
	if s.Sources.Runtime != nil {
		w.Runtime = func(files server.Overlay) (*runtime.Source, []facts.Gap) {
			servers, _ := open(files)
			return audit.RuntimeWith(files, s, servers)
		}
	}
	return w
}

// loadersOf are the servers of a site, and how each is told to read its configuration again: as the site file says, or else in the way
// of the system.
func loadersOf(s *site.Site, w *amend.World) (list []Loader) {
	if w == nil {
		return nil
	}
	servers, _ := w.Open(nil)
	var own *runtime.Source // the runtime, where its files are looked at
	if s.Sources.Runtime != nil {
		own, _ = w.Runtime(nil)
	}
	ini := func(file string) bool {
		return strings.HasPrefix(file, amend.Real(own.Config.Folder)+"/")
	}
	for i, one := range servers.Servers {
		inside := own != nil && own.Places[0].Module && one.Kind == server.Apache // which reads php.ini then
		l := Loader{Name: map[string]string{server.Nginx: "nginx", server.Apache: "Apache"}[one.Kind], Files: func(file string) bool { return holdsFile(one.Tree.Files, file) || inside && ini(file) }}
		if i < len(s.Sources.Server.Chain) {
			l.Command = s.Sources.Server.Chain[i].Reload
		}
		if l.Command == nil {
			l.Command = usualReload(map[string]string{server.Nginx: "nginx", server.Apache: "apache2"}[one.Kind], one.File)
		}
		list = append(list, l)
	}
	if own != nil && !own.Places[0].Module {
		l := Loader{Name: "PHP-FPM", Command: s.Sources.Runtime.Reload, Files: ini}
		if found := regexp.MustCompile(`/php/(\d+\.\d+)/`).FindStringSubmatch(own.Config.Folder + "/"); found != nil && l.Command == nil {
			l.Command = usualReload("php"+found[1]+"-fpm", "")
		}
		list = append(list, l)
	}
	return list
}

func holdsFile(files []string, file string) bool {
	return slices.ContainsFunc(files, func(one string) bool { return amend.Real(one) == file })
}

// usualReload is how the system has a service read its configuration again; nil when nobody knows.
func usualReload(service, config string) []string {
	if absolute, err := filepath.Abs(config); err == nil && config != "" {
		config = absolute
	}
	if _, err := os.Stat("/run/systemd/system"); err == nil {
		return []string{"systemctl", "reload", service}
	}
	switch {
	case service == "nginx":
		return []string{"nginx", "-s", "reload", "-c", config}
	case service == "apache2" && config == "/etc/apache2/apache2.conf":
		return []string{"apache2ctl", "graceful"}
	case service == "apache2":
		return []string{"apache2", "-k", "graceful", "-f", config}
	}
	return nil
}

// programTime is how long a program may take that is started from here.
const programTime = 30 * time.Second

// maxSaid is how much of what a program says is kept.
const maxSaid = 16 << 10

// run starts a program, without a shell, and gives what it says.
func run(ctx context.Context, args []string) (says string, err error) {
	ctx, cancel := context.WithTimeout(ctx, programTime)
	defer cancel()
	if len(args) == 0 {
		return "", errors.New("nobody knows the command")
	}
	name := args[0]
	if path, err := exec.LookPath(name); err == nil {
		name = path
	} else if _, err := os.Stat("/usr/sbin/" + name); err == nil {
		name = "/usr/sbin/" + name
	}
	command := exec.CommandContext(ctx, name, args[1:]...)
	command.WaitDelay = time.Second
	var said limited
	command.Stdout, command.Stderr = &said, &said
	err = command.Run()
	return strings.TrimSpace(said.String()), err
}

// limited keeps the beginning of what is written to it.
type limited struct{ bytes.Buffer }

func (l *limited) Write(p []byte) (int, error) {
	if room := maxSaid - l.Len(); room > 0 {
		l.Buffer.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

// programs are what the configuration of each kind of server is tested with.
var programs = map[string]string{server.Nginx: "nginx", server.Apache: "apache2"}

// tryOf is the test that whoever reads files makes of them itself, in a private copy, with what they are to hold: what it says against them,
// or why nobody can test them here; "" for nothing. What it says of files as they are, it says whatever is changed in them.
func tryOf(w *amend.World) func(context.Context, map[string][]byte) string {
	if w == nil {
		return nil
	}
	return func(ctx context.Context, files map[string][]byte) string {
		servers, _ := w.Open(byName(w, files))
		var concerned []*server.Server
		overrides := map[string][]byte{}
		for _, name := range slices.Sorted(maps.Keys(files)) {
			i := slices.IndexFunc(servers.Servers, func(s *server.Server) bool { return holdsFile(s.Tree.Files, name) })
			switch base := filepath.Base(name); {
			case i >= 0:
				concerned = append(concerned, servers.Servers[i])
			case strings.HasPrefix(base, passwordsName): // a list of passwords is read with the first request
			case base == ".htaccess":
				overrides[name] = files[name]
			case strings.HasSuffix(base, ".ini"):
				if says := tryINI(ctx, files[name]); says != "" {
					return name + ": " + says
				}
			default:
				return "PHP-FPM tests what its pools say only when it reads it"
			}
		}
		for _, one := range servers.Servers {
			if slices.Contains(concerned, one) || one.Kind == server.Apache && len(overrides) > 0 {
				if says := tryServer(ctx, one, overrides); says != "" {
					return says
				}
			}
		}
		return ""
	}
}

// byName gives the files of an overlay the names by which the configuration calls them.
func byName(w *amend.World, files map[string][]byte) server.Overlay {
	servers, _ := w.Open(nil)
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

// noCopy says that there is no place for a private copy.
func noCopy(err error) string {
	return fmt.Sprintf("no private copy can be made in %s: %s", os.TempDir(), facts.InWords(err))
}

// inDetail is what the library for encryption adds to what a test says.
var inDetail = regexp.MustCompile(`:? \w+\(\) failed \(SSL: .*\)$`)

// lineSaid is how the servers' tests name a line of the copy.
var lineSaid = regexp.MustCompile(`(?: in \S*/test\.conf:(\d+)|on line (\d+) of \S*/test\.conf)`)

// tryServer tests one configuration in a private copy; what it says against it, "" for nothing.
func tryServer(ctx context.Context, s *server.Server, overrides map[string][]byte) string {
	program := programs[s.Kind]
	if _, err := exec.LookPath(program); err != nil {
		if _, err := os.Stat("/usr/sbin/" + program); err != nil {
			return program + " is not on this machine"
		}
	}
	if why := othersWrite(s.Tree.Files); why != "" {
		return why
	}
	private, err := os.MkdirTemp("", "weltaxis-test-")
	if err != nil {
		return noCopy(err)
	}
	defer os.RemoveAll(private)
	flat, err := amend.Flatten(s, private, overrides)
	if err != nil {
		return err.Error()
	}
	file := filepath.Join(private, "test.conf")
	if err := os.WriteFile(file, flat.Text, 0o600); err != nil {
		return noCopy(err)
	}
	args := []string{program, "-t", "-q", "-c", file, "-e", filepath.Join(private, "errors")}
	if filepath.Dir(s.File) != "/etc/nginx" { // there its own prefix holds, where its modules are
		args = append(args, "-p", filepath.Dir(s.File))
	}
	if s.Kind == server.Apache {
		args = []string{program, "-t", "-f", file}
	}
	says, err := run(ctx, args)
	if err == nil {
		return ""
	}
	lines := strings.Split(says, "\n")
	for i, line := range lines {
		if strings.Contains(line, "[emerg]") || strings.Contains(line, "error") || strings.Contains(line, "Invalid") {
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
		if name, at := flat.At(n); name != "" {
			return fmt.Sprintf(" in %s:%d", name, at)
		}
		return part
	})
	return facts.Shorten(says, 300)
}

// tryINI reads a file of the runtime with the runtime itself, and loads nothing that it names: what it says against it.
func tryINI(ctx context.Context, data []byte) string {
	if _, err := exec.LookPath("php"); err != nil {
		return "php is not on this machine"
	}
	dir, err := os.MkdirTemp("", "weltaxis-test-")
	if err != nil {
		return noCopy(err)
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "php.ini")
	if err := os.WriteFile(file, data, 0o600); err != nil {
		return noCopy(err)
	}
	says, _ := run(ctx, []string{"php", "-n", "-d", "display_errors=1", "-r", "parse_ini_file($argv[1], true);", file})
	for _, line := range strings.Split(says, "\n") {
		if strings.Contains(line, "syntax error") {
			return facts.Shorten(strings.ReplaceAll(line, file, ""), 300)
		}
	}
	return ""
}
