package steps

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/source/server"
	"weltaxis/internal/tree"
)

// Traces looks for what page caches leave in an installation, as the dialect knows them: it takes the files from one source, the
// lines from another, and from a third whether the extension is switched on.
var Traces = &gather.Step[nothing]{
	Name: "traces of caches", Source: facts.Files, Uses: []gather.Any{Settings, Server},
	Asked: func(ask gather.Request) bool {
		return ask.Dialect != nil && len(ask.Dialect.PageCaches) > 0 && (asksFiles(ask) || ask.Site.Sources.Server != nil)
	},
	Gather: func(_ context.Context, ask gather.Request, of gather.Results) (nothing, facts.Seen, error) {
		_, told := Settings.Of(of)
		servers, _ := Server.Of(of)
		return nothing{}, facts.Seen{Traces: traces(ask, told, servers)}, nil
	},
}

func traces(ask gather.Request, told *facts.Seen, servers *server.Source) []facts.Trace {
	found := []facts.Trace{}
	in := tree.Files(nil)
	if f := ask.Site.Sources.Files; f != nil {
		in, _ = tree.Open(ask.Site.Resolve(f.Root)) // in one that cannot be opened nothing lies
		defer in.Close()
	}
	extensions, read := told.Records[facts.ListExtensions]
	for _, c := range ask.Dialect.PageCaches {
		active := ""
		if read {
			active = "no"
			if slices.ContainsFunc(extensions, func(r facts.Record) bool { return r.Subject() == c.Extension && r.Values["active"].Bool() }) {
				active = "yes"
			}
		}
		add := func(kind, path string, at facts.Origin) {
			found = append(found, facts.Trace{Extension: c.Extension, Kind: kind, Path: path, At: at, Active: active})
		}
		if in != nil {
			for kind, names := range map[string][]string{tree.File: c.Files, tree.Folder: c.Folders} {
				for _, name := range names {
					if mode := lies(in, name, kind); mode != "" {
						add(kind, path.Clean(name), facts.Origin{Path: path.Clean(name), Mode: mode})
					}
				}
			}
		}
		if servers != nil && c.Lines != "" {
			for _, at := range servers.Mentions(c.Lines) {
				add("lines", at.String(), at)
			}
		}
	}
	slices.SortFunc(found, func(a, b facts.Trace) int { return strings.Compare(a.Path, b.Path) })
	return found
}

// lies tells whether a file or a folder lies below a root, by its mode; "" when none does. What a link leads to is not looked at.
func lies(in tree.Files, name, kind string) (mode string) {
	e, err := in.Lstat(name)
	if err != nil || e.Kind != kind {
		return ""
	}
	return fmt.Sprintf("%04o", e.Mode&0o777)
}
