// Package settings is the source that reads what the content system has been told: its configuration files and
// its database, through a dialect. It reads only, and says what it could not read.
//
// It may import facts, dialect and store, and no other source.
package settings

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

// A Source reads the settings of one site.
type Source struct {
	Dialect *dialect.Dialect
	store.Options
}

// Gather adds a reading for every place that holds a mapped setting, the effective one first, and a gap for every
// setting that could not be read. The error is only that of a context that ended.
func (s *Source) Gather(ctx context.Context, into *facts.Snapshot) error {
	site, err := store.Open(ctx, s.Dialect, s.Options)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	into.Dialect = s.Dialect.String()
	if err != nil {
		into.AddGap(gap("the folder "+s.Root, err, facts.Settings+"."))
		return nil
	}
	defer site.Close()
	g := &gathering{Site: site, into: into, version: site.Version()}
	g.troubles()
	for _, name := range s.Dialect.Names() {
		g.setting(ctx, s.Dialect.Settings[name])
	}
	for _, name := range slices.Sorted(maps.Keys(s.Dialect.Lists)) {
		g.list(ctx, name, s.Dialect.Lists[name])
	}
	g.counted()
	g.unmapped()
	return ctx.Err()
}

// A gathering is one run.
type gathering struct {
	*store.Site
	into    *facts.Snapshot
	version string   // of the content system
	told    []string // settings that the lists told
}

// gap makes a failed or refused gap of an error.
func gap(what string, err error, names ...string) facts.Gap {
	kind := facts.Failed
	if errors.Is(err, fs.ErrPermission) || errors.Is(err, store.ErrRefused) {
		kind = facts.Refused
	}
	return facts.Gap{Source: facts.Settings, What: what, Kind: kind, Because: store.Reason(err), Names: names}
}

func full(names []string) []string {
	out := make([]string, len(names))
	for i, name := range names {
		out[i] = facts.Settings + "." + name
	}
	return out
}

func (g *gathering) troubles() {
	for _, t := range g.Troubles() {
		names := g.Dialect.ConcernedBy(t.Store)
		if t.Database != "" {
			names = g.Dialect.ConcernedByDatabase(t.Database)
		}
		g.into.AddGap(gap(t.What, t.Err, full(names)...))
	}
	for _, include := range g.Includes() {
		g.into.AddGap(facts.Gap{Source: facts.Settings, Kind: facts.Unmapped,
			What:    fmt.Sprintf("%s, line %d", include.File, include.Line),
			Because: "it pulls in another file that the dialect does not name; what that file sets is not read"})
	}
}

// setting adds the readings of one setting. When what comes first cannot be told, nothing that comes later may
// pass for the effective value, so there is only a gap.
func (g *gathering) setting(ctx context.Context, s dialect.Setting) {
	name := facts.Settings + "." + s.Name
	if !dialect.In(g.version, s.Since, s.Until) {
		g.into.AddGap(facts.Gap{Source: facts.Settings, Kind: facts.Unmapped, What: s.Name, Names: []string{name}, Because: outOfVersion(s, g.version)})
		return
	}
	readings, err := Readings(ctx, g.Site, s)
	if err != nil {
		if !errors.Is(err, store.ErrUnseen) {
			g.into.AddGap(gap(s.Name, err, name))
		}
		return
	}
	g.into.Add(readings...)
}

func outOfVersion(s dialect.Setting, version string) string {
	switch {
	case version == "":
		return "only some versions of the content system have it, and this one's version is not known"
	case s.Since != "" && facts.CompareVersions(version, s.Since) < 0:
		return fmt.Sprintf("the content system has it from version %s on, and this is %s", s.Since, version)
	}
	return fmt.Sprintf("the content system has it no more since version %s, and this is %s", s.Until, version)
}

// Readings reads one setting: every place that holds it, the effective one first, or else the stated default.
func Readings(ctx context.Context, site *store.Site, s dialect.Setting) ([]facts.Reading, error) {
	stored, err := stored(ctx, site, s)
	if err != nil {
		return nil, err
	}
	var readings []facts.Reading
	for _, f := range stored {
		value, err := s.Value(f.Value)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Origin, err)
		}
		readings = append(readings, facts.Reading{Source: facts.Settings, Name: s.Name, Value: value, Origin: f.Origin, Factory: s.IsFactory(f.Value)})
	}
	if len(readings) > 0 {
		return readings, nil
	}
	if s.Default == nil {
		return nil, errors.New("it is not set, and the dialect states no default")
	}
	value, _ := s.Entry.Type.Parse(string(*s.Default))
	return []facts.Reading{{Source: facts.Settings, Name: s.Name, Value: value,
		Origin: facts.Origin{Default: site.Dialect.Named(), Screen: s.Screen}, Factory: s.IsFactory(string(*s.Default))}}, nil
}

func stored(ctx context.Context, site *store.Site, s dialect.Setting) ([]store.Found, error) {
	switch {
	case s.Query != "":
		found, err := site.Query(ctx, s.Query)
		return []store.Found{found}, err
	case len(s.Parts) > 0:
		return inParts(site, s)
	}
	var list []store.Found
	version := site.Version()
	for i, place := range s.From {
		if !dialect.In(version, place.Since, place.Until) {
			continue
		}
		f, err := site.Look(place.At)
		if err != nil {
			return nil, err
		}
		if text, _ := dialect.Text(f.Value); !f.There || s.EmptyIsUnset && text == "" {
			continue
		}
		if i == len(s.From)-1 { // the places before it override what the administration pages set
			f.Origin.Screen = s.Screen
		}
		list = append(list, f)
	}
	return list, nil
}

// inParts makes one value of several entries; where one of them is not set, the whole is not.
func inParts(site *store.Site, s dialect.Setting) ([]store.Found, error) {
	parts := map[string]string{}
	var origin facts.Origin
	for _, name := range slices.Sorted(maps.Keys(s.Parts)) {
		f, err := site.Look(s.Parts[name].From)
		if err != nil {
			return nil, err
		}
		text, single := dialect.Text(f.Value)
		if !f.There || !single {
			return nil, nil
		}
		parts[name], origin = text, f.Origin
	}
	origin.Screen = s.Screen
	return []store.Found{{There: true, Value: s.Compose(parts), Origin: origin}}, nil
}

// list reads the entries of one neutral list.
func (g *gathering) list(ctx context.Context, name string, list dialect.List) {
	full := facts.Settings + "." + name
	rows, err := g.List(ctx, list)
	if err != nil {
		if !errors.Is(err, store.ErrUnseen) {
			g.into.AddGap(gap(name, err, full))
		}
		return
	}
	records := []facts.Record{}
	for _, row := range rows {
		records = append(records, record(full, list, row))
	}
	if g.into.Records == nil {
		g.into.Records = map[string][]facts.Record{}
	}
	g.into.Records[full] = records
}

// record translates one row; a field whose value means nothing to the dialect is not known.
func record(full string, list dialect.List, row store.Row) facts.Record {
	r := facts.Record{List: full, Values: map[string]facts.Value{}, From: row.Origin}
	for _, field := range facts.Lists[full] {
		stored, there := row.Values[field.Name]
		if !there {
			continue
		}
		entry := facts.Entry{Name: full + "." + field.Name, Type: field.Type, Words: field.Words}
		if value, err := list.Columns[field.Name].Value(entry, stored); err == nil {
			r.Values[field.Name] = value
		}
	}
	return r
}

// counted works out, where the dialect maps no place for them, the settings that the lists tell.
func (g *gathering) counted() {
	add := func(name string, value facts.Value, list string) {
		g.into.Add(facts.Reading{Source: facts.Settings, Name: name, Value: value, Origin: facts.Origin{File: "the list of " + list}})
		g.told = append(g.told, name)
	}
	unmapped := func(name string) bool { _, mapped := g.Dialect.Settings[name]; return !mapped }
	count := func(list, field string, is facts.Value) int64 {
		n := int64(0)
		for _, r := range g.into.Records[list] {
			if field == "" || r.Values[field].Equal(is) {
				n++
			}
		}
		return n
	}
	if _, seen := g.into.Records[facts.ListAccounts]; seen && unmapped("accounts.highest") {
		add("accounts.highest", facts.NumberOf(facts.Int, count(facts.ListAccounts, "role", facts.TextOf(facts.Words, facts.HighestRole))), "accounts")
	}
	if _, seen := g.into.Records[facts.ListScheduled]; seen && unmapped("posts.scheduled") {
		add("posts.scheduled", facts.NumberOf(facts.Int, count(facts.ListScheduled, "", facts.Value{})), "scheduled posts")
	}
	front, known := g.into.Effective("settings.front.page")
	if pages, seen := g.into.Records[facts.ListRecords]; seen && known && unmapped("front.page_published") {
		published := slices.ContainsFunc(pages, func(r facts.Record) bool {
			return r.Values["path"].Text() == front.Value.Text() && r.Values["published"].Bool()
		})
		add("front.page_published", facts.BoolOf(published), "pages")
	}
}

// unmapped says once what the dialect says nothing of.
func (g *gathering) unmapped() {
	names := slices.DeleteFunc(g.Dialect.Unmapped(), func(name string) bool { return slices.Contains(g.told, name) })
	if len(names) == 0 {
		return
	}
	g.into.AddGap(facts.Gap{Source: facts.Settings, Kind: facts.Unmapped, What: strings.Join(names, ", "), Names: full(names),
		Because: "the dialect " + g.Dialect.Name + " does not say where it lives"})
}
