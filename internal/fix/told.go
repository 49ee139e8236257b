package fix

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"weltaxis/internal/amend"
	"weltaxis/internal/confine"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/orders"
	"weltaxis/internal/site"
	"weltaxis/internal/source/runtime"
	"weltaxis/internal/source/server"
	"weltaxis/internal/steps"
	"weltaxis/internal/trial"
)

// worldOf is what the servers and the runtime of a site have been told; nil where its site file names no server.
func worldOf(s *site.Site, d *dialect.Dialect, hints facts.Hints) *amend.World {
	if s.Sources.Server == nil {
		return nil
	}
	open := func(files server.Overlay) (*server.Source, []facts.Gap) {
		servers, gaps := steps.ServersWith(files, s)
		servers.Dir = "" // files by their own names
		return servers, gaps
	}
	w := &amend.World{Open: open, Probes: steps.Probes(s, d, hints)}
	if s.Sources.Runtime != nil {
		w.Runtime = func(files server.Overlay) (*runtime.Source, []facts.Gap) {
			servers, _ := open(files)
			return steps.RuntimeWith(files, s, servers)
		}
	}
	own := s.SaidList("aliases")
	own = append(append(own, s.SaidList("building_hosts")...), facts.URLHost(s.Address()))
	w.Own = func(name string) bool {
		if strings.HasPrefix(name, "~") {
			return true // an expression may mean this one
		}
		wild := strings.HasPrefix(name, "*.") || strings.HasPrefix(name, ".")
		name = strings.TrimPrefix(strings.TrimLeft(strings.ToLower(name), "*."), "www.")
		return slices.ContainsFunc(own, func(o string) bool {
			o = strings.TrimPrefix(strings.ToLower(o), "www.")
			return o == name || wild && strings.HasSuffix(o, "."+name)
		})
	}
	foreign := sync.OnceValue(func() func(string) string { return foreignTo(s, w) })
	w.Foreign = func(file string) string { return foreign()(file) }
	return w
}

// foreignTo says why files are none of a site's, though its servers' configuration names them: what is changed lies below the site's root, or in
// the servers' and the runtime's own folders, as they were given or found; and what is served lies below the root. A copy of a site says what
// the original does.
func foreignTo(s *site.Site, w *amend.World) func(file string) string {
	servers, _ := w.Open(nil)
	outside := steps.ServedOutside(s, servers)
	var folders []string
	for _, root := range s.Roots() {
		folders = append(folders, amend.Real(root))
	}
	for _, one := range servers.Servers {
		folders = append(folders, amend.Real(filepath.Dir(one.File)))
	}
	if w.Runtime != nil {
		if own, _ := w.Runtime(nil); own != nil && own.Config != nil && own.Config.Folder != "" {
			folders = append(folders, amend.Real(filepath.Dir(own.Config.Folder))) // with what is there for all ways to run it
		}
	}
	return func(file string) string {
		switch {
		case outside != "":
			return outside
		case len(s.Roots()) == 0, slices.ContainsFunc(folders, func(folder string) bool { return strings.HasPrefix(file, strings.TrimSuffix(folder, "/")+"/") }):
			return ""
		}
		return file + " lies neither below the site's root nor in the servers' own folders, as the site file gives them; it may be another site's"
	}
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
		l := Loader{Name: map[string]string{server.Nginx: "nginx", server.Apache: "Apache"}[one.Kind], Files: func(file string) bool { return trial.Holds(one.Tree.Files, file) || inside && ini(file) }}
		if i < len(s.Sources.Server.Chain) {
			l.Command = s.Sources.Server.Chain[i].Reload
		}
		if l.Command == nil {
			l.Command = usualReload(map[string]string{server.Nginx: "nginx", server.Apache: "apache2"}[one.Kind], one.File)
			if err := trial.Others(one); err != nil { // whoever has it read has all obeyed that it says
				l.Command, l.Why = nil, "what it says would be obeyed: "+err.Error()
			}
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

// run starts a program, without a shell, and gives what it says.
func run(ctx context.Context, args []string) (says string, err error) {
	ctx, cancel := context.WithTimeout(ctx, confine.Most)
	defer cancel()
	command, err := orders.Command(ctx, args)
	if err != nil {
		return "", err
	}
	var said orders.Said
	command.Stdout, command.Stderr = &said, &said
	err = orders.Run(command)
	return said.String(), err
}

// tryOf is the test that whoever reads files makes of them itself, with what they are to hold.
func tryOf(w *amend.World) func(context.Context, map[string][]byte) trial.Verdict {
	if w == nil {
		return nil
	}
	return trial.Court{Open: w.Open, Own: func(file string) bool { return strings.HasPrefix(filepath.Base(file), passwordsName) }}.Try
}
