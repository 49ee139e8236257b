package settings

import (
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// parts says what is installed, and works out of the list of extensions which of them are in one another's way, and which themes lie about.
func (g *gathering) parts() {
	system := facts.Part{Kind: "system", Name: g.Dialect.Name, Active: true, Known: true, From: facts.Settings, Origin: facts.Origin{File: "the content system"}}
	if r, known := g.seen.Effective(facts.SystemVersion.Name); known && !r.Absent {
		system.Version, system.Origin = r.Value.Text(), r.Origin
	}
	g.found.Parts = append(g.found.Parts, system)
	extensions, read := g.seen.Records[facts.ListExtensions]
	if !read {
		return
	}
	columns := g.Dialect.Lists["extensions"].Columns
	last := facts.Origin{File: "the list of extensions"}
	does, rivals, spare := map[string][]string{}, []string{}, []string{}
	parents := map[string]bool{}
	for _, r := range extensions {
		kind, known := r.Values["kind"]
		part := facts.Part{Kind: "extension", Name: r.Subject(), Version: r.Values["version"].Text(), From: facts.Settings, Origin: r.From}
		if known {
			part.Kind = kind.Text()
		}
		if active, known := r.Values["active"]; known {
			part.Active, part.Known = active.Bool(), true
		}
		g.found.Parts = append(g.found.Parts, part)
		if part.Active {
			parents[r.Values["parent"].Text()] = true
		}
		if what := r.Values["does"].Text(); part.Active && slices.Contains(g.Dialect.Parts.Alone, what) {
			does[what] = append(does[what], part.Name)
			if len(does[what]) > 1 {
				last = r.From
			}
		}
	}
	for _, what := range slices.Sorted(slices.Values(g.Dialect.Parts.Alone)) {
		if names := does[what]; len(names) > 1 {
			rivals = append(rivals, strings.Join(names, " and ")+" ("+what+")")
		}
	}
	if columns["does"].At != "" && columns["active"].At != "" && g.Dialect.Parts.Alone != nil {
		g.work(facts.ExtensionsRival.Reading(rivals, last))
	}
	if columns["kind"].At == "" || columns["active"].At == "" {
		return
	}
	at := facts.Origin{File: "the list of extensions"}
	for _, r := range extensions {
		active, told := r.Values["active"]
		if r.Values["kind"].Text() == "theme" && told && !active.Bool() && !parents[r.Subject()] {
			spare = append(spare, r.Subject())
			at = r.From
		}
	}
	g.work(facts.ThemesSpare.Reading(spare, at))
}

// work adds a setting that is worked out of others.
func (g *gathering) work(r facts.Reading) {
	g.seen.Add(r)
	g.told = append(g.told, r.Name)
}
