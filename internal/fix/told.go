package fix

import (
	"bytes"
	"context"
	"errors"
	"fmt"
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
	for i, one := range servers.Servers {
		l := Loader{Name: map[string]string{server.Nginx: "nginx", server.Apache: "Apache"}[one.Kind], Files: func(file string) bool { return holdsFile(one.Tree.Files, file) }}
		if i < len(s.Sources.Server.Chain) {
			l.Command = s.Sources.Server.Chain[i].Reload
		}
		if l.Command == nil {
			l.Command = usualReload(map[string]string{server.Nginx: "nginx", server.Apache: "apache2"}[one.Kind], one.File)
		}
		list = append(list, l)
	}
	if s.Sources.Runtime != nil && w.Runtime != nil {
		if source, _ := w.Runtime(nil); source != nil && !source.Places[0].Module {
			folder := source.Config.Folder
			l := Loader{Name: "PHP-FPM", Command: s.Sources.Runtime.Reload, Files: func(file string) bool {
				return strings.HasPrefix(file, folder+"/") || strings.HasPrefix(file, realPath(folder)+"/")
			}}
			if l.Command == nil {
				if found := regexp.MustCompile(`/php/(\d+\.\d+)/`).FindStringSubmatch(folder + "/"); found != nil {
					l.Command = usualReload("php"+found[1]+"-fpm", "")
				}
			}
			list = append(list, l)
		}
	}
	return list
}

func realPath(name string) string {
	if resolved, err := filepath.EvalSymlinks(name); err == nil {
		return resolved
	}
	return name
}

func holdsFile(files []string, file string) bool {
	return slices.ContainsFunc(files, func(one string) bool {
		absolute, err := filepath.Abs(realPath(one))
		return err == nil && absolute == file
	})
}

// usualReload is how the system has a service read its configuration again; nil when nobody knows.
func usualReload(service, config string) []string {
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

// tryOf is the servers' own test of an amendment, in a private copy: what it says against it, "" for nothing. Of no amendment it says what
// is against what is there already; then it says nothing of any, and what is planned says so.
func tryOf(w *amend.World) func(context.Context, *amend.Amendment) string {
	if w == nil {
		return nil
	}
	return func(ctx context.Context, am *amend.Amendment) string {
		overlay, overrides := server.Overlay{}, map[string][]byte{}
		for _, f := range am.Files {
			overlay[f.Path] = f.After
			switch base := filepath.Base(f.Path); {
			case base == ".htaccess":
				overrides[f.Path] = f.After
			case strings.HasSuffix(base, ".ini"):
				if says := tryINI(ctx, f.Before, f.After); says != "" {
					return f.Path + ": " + says
				}
			}
		}
		servers, _ := w.Open(byName(w, overlay))
		was, _ := w.Open(nil)
		for i, one := range servers.Servers {
			says := tryServer(ctx, one, overrides)
			if says != "" && len(am.Files) > 0 && tryServer(ctx, was.Servers[i], nil) != "" {
				continue // the test refuses what is there: it cannot be made here
			}
			if says != "" {
				return says
			}
		}
		return ""
	}
}

// byName gives the files of an overlay the names by which the configuration calls them.
func byName(w *amend.World, overlay server.Overlay) server.Overlay {
	servers, _ := w.Open(nil)
	named := server.Overlay{}
	for path, data := range overlay {
		named[path] = data
		for _, one := range servers.Servers {
			for _, file := range one.Tree.Files {
				if absolute, err := filepath.Abs(realPath(file)); err == nil && absolute == path {
					named[file] = data
				}
			}
		}
	}
	return named
}

// lineSaid is how the servers' tests name a line of the copy.
var lineSaid = regexp.MustCompile(`(?: in \S*/test\.conf:(\d+)|on line (\d+) of \S*/test\.conf)`)

// tryServer tests one configuration in a private copy; what it says against it, "" for nothing.
func tryServer(ctx context.Context, s *server.Server, overrides map[string][]byte) string {
	program := programs[s.Kind]
	if _, err := exec.LookPath(program); err != nil {
		if _, err := os.Stat("/usr/sbin/" + program); err != nil {
			return ""
		}
	}
	if why := othersWrite(s.Tree.Files); why != "" {
		return "it cannot be tested: " + why
	}
	private, err := os.MkdirTemp("", "weltaxis-test-")
	if err != nil {
		return ""
	}
	defer os.RemoveAll(private)
	flat, err := amend.Flatten(s, private, overrides)
	if err != nil {
		return "it cannot be tested: " + err.Error()
	}
	file := filepath.Join(private, "test.conf")
	if err := os.WriteFile(file, flat.Text, 0o600); err != nil {
		return ""
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
	for _, line := range strings.Split(says, "\n") {
		if strings.Contains(line, "[emerg]") || strings.Contains(line, "error") || strings.Contains(line, "Invalid") {
			says = line
			break
		}
	}
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

// tryINI reads a file of the runtime with the runtime itself: what it says against it that it did not say before.
func tryINI(ctx context.Context, before, after []byte) string {
	said := func(data []byte) string {
		dir, err := os.MkdirTemp("", "weltaxis-test-")
		if err != nil {
			return ""
		}
		defer os.RemoveAll(dir)
		file := filepath.Join(dir, "php.ini")
		if os.WriteFile(file, data, 0o600) != nil {
			return ""
		}
		says, _ := run(ctx, []string{"php", "-n", "-d", "display_errors=1", "-r", "parse_ini_file($argv[1], true);", file}) // read, and nothing of it loaded
		for _, line := range strings.Split(says, "\n") {
			if strings.Contains(line, "syntax error") {
				return strings.ReplaceAll(line, file, "")
			}
		}
		return ""
	}
	if _, err := exec.LookPath("php"); err != nil {
		return ""
	}
	if now := said(after); now != "" && now != said(before) {
		return facts.Shorten(now, 300)
	}
	return ""
}
