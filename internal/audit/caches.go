package audit

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/tree"
)

// traces looks for what page caches leave in an installation, as the dialect knows them: it takes the files from one source, the
// lines from another, and from a third whether the extension is switched on.
func (ask *Request) traces(seen *facts.Seen) {
	if ask.Dialect == nil || len(ask.Dialect.PageCaches) == 0 || ask.Site.Sources.Files == nil && ask.servers == nil {
		return
	}
	seen.Traces = []facts.Trace{}
	in := tree.Files(nil)
	if f := ask.Site.Sources.Files; f != nil {
		in, _ = tree.Open(ask.Site.Resolve(f.Root)) // in one that cannot be opened nothing lies
		defer in.Close()
	}
	extensions, read := seen.Records[facts.ListExtensions]
	for _, c := range ask.Dialect.PageCaches {
		active := ""
		if read {
			active = "no"
			if slices.ContainsFunc(extensions, func(r facts.Record) bool { return r.Subject() == c.Extension && r.Values["active"].Bool() }) {
				active = "yes"
			}
		}
		add := func(kind, path string, at facts.Origin) {
			seen.Traces = append(seen.Traces, facts.Trace{Extension: c.Extension, Kind: kind, Path: path, At: at, Active: active})
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
		if ask.servers != nil && c.Lines != "" {
			for _, at := range ask.servers.Mentions(c.Lines) {
				add("lines", at.String(), at)
			}
		}
	}
	slices.SortFunc(seen.Traces, func(a, b facts.Trace) int { return strings.Compare(a.Path, b.Path) })
}

// lies tells whether a file or a folder lies below a root, by its mode; "" when none does. What a link leads to is not looked at.
func lies(in tree.Files, name, kind string) (mode string) {
	e, err := in.Lstat(name)
	if err != nil || e.Kind != kind {
		return ""
	}
	return fmt.Sprintf("%04o", e.Mode&0o777)
}

// relied joins the modules of the runtime with the settings: those that are switched on, and rely on one that is not loaded.
func (ask *Request) relied(seen *facts.Seen) {
	modules, known := seen.Effective(facts.RuntimeModules.Name)
	if !known || ask.Dialect == nil || len(ask.Dialect.Relies) == 0 {
		return
	}
	missing := []string{}
	for name, needs := range ask.Dialect.Relies {
		term, _ := facts.Lookup(facts.Settings.Name(name))
		on, known := seen.Effective(facts.Settings.Name(name))
		if !known || term.Type != facts.Bool || !on.Value.Bool() {
			continue
		}
		loaded := slices.ContainsFunc(needs, func(module string) bool {
			return slices.ContainsFunc(modules.Value.List(), func(have string) bool { return strings.EqualFold(have, module) })
		})
		if !loaded {
			missing = append(missing, name+" needs "+strings.Join(needs, " or "))
		}
	}
	slices.Sort(missing)
	seen.Add(facts.RuntimeRelied.Reading(missing, modules.Origin))
}
