package steps

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/site"
	"weltaxis/internal/source/runtime"
	"weltaxis/internal/source/server"
	"weltaxis/internal/source/server/answer"
)

// Runtime reads what the language runtime has been told.
var Runtime = &gather.Step[*runtime.Source]{
	Name: "runtime", Source: facts.Runtime, Requires: []gather.Any{Server},
	Asked: func(ask gather.Request) bool { return ask.Site.Sources.Runtime != nil },
	Where: func(ask gather.Request, found *runtime.Source) string {
		set := ask.Site.Sources.Runtime
		if found != nil && set.PHP == "" {
			return found.Config.Folder
		}
		return cmp.Or(set.PHP, "where the web server's configuration leads to")
	},
	Without: unseenRuntime("which of its settings count is decided by the web server, and that was not seen"),
	Gather: func(ctx context.Context, ask gather.Request, of gather.Results) (*runtime.Source, facts.Seen, error) {
		servers, _ := Server.Of(of)
		source, gaps := RuntimeOf(ask.Site, servers)
		if source == nil {
			return nil, facts.Seen{Gaps: gaps}, gather.ErrUnseen
		}
		seen, err := source.Gather(ctx)
		lacking(ask, &seen)
		return source, seen, err
	},
}

func unseenRuntime(because string) facts.Gap {
	return facts.Gap{Source: facts.Runtime, What: "what the runtime has been told", Kind: facts.Failed, Because: because, Names: []string{facts.Runtime.All()}}
}

// lacking says which of the modules that the dialect asks for the runtime does not load.
func lacking(ask gather.Request, seen *facts.Seen) {
	modules, known := seen.Effective(facts.RuntimeModules.Name)
	if !known || ask.Dialect == nil || ask.Dialect.Modules == nil {
		return
	}
	missing := []string{}
	for _, name := range ask.Dialect.Modules {
		if !loaded(modules, name) {
			missing = append(missing, name)
		}
	}
	seen.Add(facts.RuntimeMissing.Reading(missing, modules.Origin))
}

// RuntimeOf is the language runtime of a site, as its web servers run it; nil with the reason as a gap when it cannot be found.
func RuntimeOf(s *site.Site, servers *server.Source) (*runtime.Source, []facts.Gap) {
	return RuntimeWith(nil, s, servers)
}

// RuntimeWith is that with some files as they might be; the servers are as they might be, too.
func RuntimeWith(files map[string][]byte, s *site.Site, servers *server.Source) (*runtime.Source, []facts.Gap) {
	lack := func(because string, args ...any) []facts.Gap {
		return []facts.Gap{unseenRuntime(fmt.Sprintf(because, args...))}
	}
	if servers == nil || len(servers.Servers) == 0 || servers.Address == nil {
		return nil, lack("which of its settings count is decided by the web server, and that was not seen")
	}
	root, runs, why := servers.Runs("/")
	switch {
	case !runs && why != nil:
		return nil, lack("which program answers cannot be told: %s (%s)", why.Because, why.Origin)
	case !runs:
		return nil, lack("the web server hands nothing of the site to a runtime")
	}
	folder, because := runtimeFolder(s, servers, root)
	if because != "" {
		return nil, lack("%s", because)
	}
	source := &runtime.Source{Config: runtime.Read(files, folder, root.Module), Dir: s.Dir, Places: []runtime.Place{placeOf(root)}, Elsewhere: toldBy(servers.Handed()), Version: s.Sources.Runtime.Version, From: s.Sources.Runtime.From, SaidAt: facts.Origin{File: site.FileName, Line: s.Sources.Runtime.Pos.Line}}
	source.Config.Roots = s.Roots()
	addresses := source.Config.Below(servers.Root())
	for _, address := range servers.Folders() {
		if !slices.Contains(addresses, address) {
			addresses = append(addresses, address)
		}
	}
	slices.Sort(addresses)
	for _, address := range addresses {
		if run, runs, _ := servers.Runs(address); runs && run.Module == root.Module {
			source.Places = append(source.Places, placeOf(run))
		}
	}
	return source, nil
}

// runtimeFolder is the folder of the runtime's files: what the site file says, or else where the web server's configuration leads to.
func runtimeFolder(s *site.Site, servers *server.Source, root server.Run) (folder, because string) {
	kind := map[bool]string{false: "fpm", true: "apache2"}[root.Module]
	if said := s.Sources.Runtime.PHP; said != "" {
		folder = s.Resolve(said)
		if runtime.Holds(filepath.Join(folder, kind)) {
			folder = filepath.Join(folder, kind)
		}
		return folder, ""
	}
	if root.Module {
		if folder = servers.IniDir(); folder == "" {
			return "", "the web server's configuration does not say where php.ini is; write runtime: {php: FOLDER} in the site file"
		}
		return folder, ""
	}
	if folder = runtime.Find(root.Listen); folder == "" {
		return "", fmt.Sprintf("no pool of PHP-FPM where systems put them listens at %s; write runtime: {php: FOLDER} in the site file", strings.Join(root.Listen, " or "))
	}
	return folder, ""
}

// placeOf is what the servers make of a program, as the runtime needs to know it.
func placeOf(run server.Run) runtime.Place {
	p := runtime.Place{Address: run.Address, Script: run.Script, Module: run.Module, Listen: run.Listen, Unsure: run.Unsure}
	for _, set := range run.Told {
		switch {
		case set.Kind == "DOCUMENT_ROOT":
			p.Root = set.Value
		case set.Kind == "SERVER_NAME":
			p.Host = set.Value
		}
		if set.Unknown != "" && slices.Contains([]string{"DOCUMENT_ROOT", "SERVER_NAME"}, set.Kind) {
			p.Unsure = &facts.Reason{Because: "what " + set.Kind + " is cannot be told: " + set.Unknown, Origin: set.Origin}
		}
	}
	p.Told = toldBy(run.Told)
	return p
}

func toldBy(list []answer.Setting) (told []runtime.Told) {
	for _, set := range list {
		told = append(told, runtime.Told{Kind: set.Kind, Name: set.Name, Value: set.Value, Unknown: set.Unknown, Override: set.Override, Origin: set.Origin})
	}
	return told
}

// Relied tells which settings are switched on and rely on a module that the runtime does not load.
var Relied = &gather.Step[nothing]{
	Name: "relied on", Source: facts.Runtime, Requires: []gather.Any{Runtime, Settings},
	Without: facts.Gap{What: "which settings rely on modules", Names: []string{facts.RuntimeRelied.Name}},
	Gather: func(_ context.Context, ask gather.Request, of gather.Results) (_ nothing, seen facts.Seen, _ error) {
		_, loads := Runtime.Of(of)
		_, told := Settings.Of(of)
		modules, known := loads.Effective(facts.RuntimeModules.Name)
		if !known || len(ask.Dialect.Relies) == 0 {
			return nothing{}, seen, nil
		}
		missing := []string{}
		for name, needs := range ask.Dialect.Relies {
			term, _ := facts.Lookup(facts.Settings.Name(name))
			on, known := told.Effective(facts.Settings.Name(name))
			if !known || term.Type != facts.Bool || !on.Value.Bool() {
				continue
			}
			if !slices.ContainsFunc(needs, func(module string) bool { return loaded(modules, module) }) {
				missing = append(missing, name+" needs "+strings.Join(needs, " or "))
			}
		}
		slices.Sort(missing)
		seen.Add(facts.RuntimeRelied.Reading(missing, modules.Origin))
		return nothing{}, seen, nil
	},
}

// loaded tells whether a module is among those that the runtime loads, in whatever case.
func loaded(modules facts.Reading, name string) bool {
	return slices.ContainsFunc(modules.Value.List(), func(have string) bool { return strings.EqualFold(have, name) })
}

// limits tells which files a runtime runs that the web server hands something: by the pools of PHP-FPM in the folder that the site file names, or where systems put them. Of a server's copy that lies beside
// the site file, and no runtime, nobody knows. What is asked for once is kept; it may be asked side by side.
func limits(files map[string][]byte, s *site.Site, servers *server.Source) func([]string) (server.Limit, bool) {
	type kept struct {
		server.Limit
		known bool
	}
	var mu sync.Mutex
	all := map[string]kept{}
	return func(listen []string) (server.Limit, bool) {
		mu.Lock()
		defer mu.Unlock()
		key := strings.Join(listen, "\n")
		k, done := all[key]
		if !done {
			if folder := poolFolder(s, servers, listen); folder != "" {
				limit, known := runtime.Read(files, folder, false).Limit(listen)
				k = kept{server.Limit(limit), known}
			}
			all[key] = k
		}
		return k.Limit, k.known
	}
}

// poolFolder is the folder of the files of the PHP-FPM that listens somewhere; "" where nobody can tell.
func poolFolder(s *site.Site, servers *server.Source, listen []string) string {
	switch {
	case s.Sources.Runtime != nil:
		folder, _ := runtimeFolder(s, servers, server.Run{Listen: listen})
		return folder
	case servers.Elsewhere():
		return runtime.Find(listen)
	}
	return ""
}
