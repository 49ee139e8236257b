// Package settings is the source that reads what the content system has been told: its configuration files and
// its database, through a dialect. It reads only, and says what it could not read.
//
// It may import facts, dialect and store, and no other source.
package settings

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

// Gather sees a reading for every place that holds a mapped setting, the effective one first, and a gap for every
// setting that could not be read. The error is only that of a context that ended.
func Gather(ctx context.Context, spoken *dialect.Dialect, stores store.Options) (Told, facts.Seen, error) {
	g := &gathering{seen: facts.Seen{Dialect: spoken.String()}}
	site, err := store.Open(ctx, spoken, stores)
	if ctx.Err() != nil {
		return g.found, g.seen, ctx.Err()
	}
	if err != nil {
		g.seen.AddGap(gap("the folder "+stores.Root, err, facts.Settings.All()))
		return g.found, g.seen, nil
	}
	defer site.Close()
	g.Installation, g.version = site, site.Version()
	g.troubles()
	for _, name := range spoken.Names() {
		g.setting(ctx, spoken.Settings[name])
	}
	for _, name := range slices.Sorted(maps.Keys(spoken.Lists)) {
		g.list(ctx, name, spoken.Lists[name])
	}
	g.counted()
	g.parts()
	g.headCode()
	g.unmapped()
	if login, known := g.seen.Is(facts.LoginPath.Term); known {
		g.found.LoginPath = login.Text()
	}
	if message, known := g.seen.Is(facts.MaintenanceMessage.Term); known {
		g.found.Notice = message.Text()
	}
	for _, shuts := range []struct {
		by  *facts.Term
		how string
	}{{facts.MaintenanceOn.Term, facts.ShowsNotice}, {facts.LockOn.Term, facts.ShowsLock}} {
		if on, known := g.seen.Is(shuts.by); known && on.Bool() {
			g.found.Closed = append(g.found.Closed, shuts.how)
		}
	}
	return g.found, g.seen, ctx.Err()
}

// Told is what the content system has been told that others look by.
type Told struct {
	LoginPath string       // where one signs in, "" when nobody says
	Notice    string       // the words of the notice that the site is down
	Closed    []string     // how the site has been closed: notice, lock
	Parts     []facts.Part // what is installed, the system first
}

// A gathering is one run.
type gathering struct {
	*store.Installation
	seen    facts.Seen
	found   Told
	version string   // of the content system
	told    []string // settings that the lists told
}

func gap(what string, err error, names ...string) facts.Gap {
	return facts.GapOf(facts.Settings, what, err, names...)
}

func full(names []string) []string {
	out := make([]string, len(names))
	for i, name := range names {
		out[i] = facts.Settings.Name(name)
	}
	return out
}

func (g *gathering) troubles() {
	for _, t := range g.Troubles() {
		names := g.Dialect.ConcernedBy(t.Store)
		if t.Database != "" {
			names = g.Dialect.ConcernedByDatabase(t.Database)
		}
		g.seen.AddGap(gap(t.What, t.Err, full(names)...))
	}
	for _, include := range g.Includes() {
		g.seen.AddGap(facts.Gap{Source: facts.Settings, Kind: facts.Unmapped,
			What:    fmt.Sprintf("%s, line %d", include.File, include.Line),
			Because: "it pulls in another file that the dialect does not name; what that file sets is not read"})
	}
}

// setting adds the readings of one setting. When what comes first cannot be told, nothing that comes later may
// pass for the effective value, so there is only a gap.
func (g *gathering) setting(ctx context.Context, s dialect.Setting) {
	name := facts.Settings.Name(s.Name)
	if !dialect.In(g.version, s.Since, s.Until) {
		g.seen.AddGap(facts.Gap{Source: facts.Settings, Kind: facts.Unmapped, What: s.Name, Names: []string{name}, Because: outOfVersion(s, g.version)})
		return
	}
	readings, err := Readings(ctx, g.Installation, s)
	if err != nil {
		if !errors.Is(err, store.ErrUnseen) {
			g.seen.AddGap(gap(s.Name, err, name))
		}
		return
	}
	g.seen.Add(readings...)
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
func Readings(ctx context.Context, site *store.Installation, s dialect.Setting) ([]facts.Reading, error) {
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
	if s.Depends != nil {
		f, err := site.Look(s.Depends.On)
		if err != nil {
			return nil, err
		}
		if !f.There || !s.Depends.Holds(f.Value) {
			value, _ := s.Entry.Type.Parse(string(s.Depends.Else))
			if !f.There {
				f.Origin = facts.Origin{Default: site.Dialect.Named(), Screen: s.Screen}
			}
			return append([]facts.Reading{{Source: facts.Settings, Name: s.Name, Value: value, Origin: f.Origin}}, readings...), nil
		}
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

func stored(ctx context.Context, site *store.Installation, s dialect.Setting) ([]store.Found, error) {
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
func inParts(site *store.Installation, s dialect.Setting) ([]store.Found, error) {
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
	full := facts.Settings.Name(name)
	rows, err := g.List(ctx, list)
	if err != nil {
		if !errors.Is(err, store.ErrUnseen) {
			g.seen.AddGap(gap(name, err, full))
		}
		return
	}
	records := []facts.Record{}
	for _, row := range rows {
		records = append(records, record(full, list, row))
	}
	if g.seen.Records == nil {
		g.seen.Records = map[string][]facts.Record{}
	}
	g.seen.Records[full] = records
}

// record translates one row; a field whose value means nothing to the dialect is not known.
func record(full string, list dialect.List, row store.Row) facts.Record {
	r := facts.Record{List: full, Values: map[string]facts.Value{}, From: row.Origin}
	for _, field := range facts.Lists[full] {
		stored, there := row.Values[field.Name]
		if !there {
			continue
		}
		entry := facts.Term{Name: full + "." + field.Name, Type: field.Type, Words: field.Words}
		if value, err := list.Columns[field.Name].Value(entry, stored); err == nil {
			r.Values[field.Name] = value
		}
	}
	return r
}

// counted works out, where the dialect maps no place for them, the settings that the lists tell.
func (g *gathering) counted() {
	add := func(r facts.Reading) {
		g.seen.Add(r)
		g.told = append(g.told, r.Name)
	}
	of := func(list string) facts.Origin { return facts.Origin{File: "the list of " + list} }
	unmapped := func(t *facts.Term) bool { _, mapped := g.Dialect.Settings[t.Short()]; return !mapped }
	count := func(list, field string, is facts.Value) int {
		n := 0
		for _, r := range g.seen.Records[list] {
			if field == "" || r.Values[field].Equal(is) {
				n++
			}
		}
		return n
	}
	if _, seen := g.seen.Records[facts.ListAccounts]; seen && unmapped(facts.AccountsHighest.Term) {
		add(facts.AccountsHighest.Reading(count(facts.ListAccounts, "role", facts.TextOf(facts.Words, facts.HighestRole)), of("accounts")))
	}
	if extensions, seen := g.seen.Records[facts.ListExtensions]; seen && unmapped(facts.CacheKeepers.Term) && len(g.Dialect.Lists["extensions"].Columns["keeps_pages"].At) > 0 {
		keepers, last := 0, of("extensions")
		for _, r := range extensions {
			if r.Values["keeps_pages"].Bool() && r.Values["active"].Bool() {
				keepers++
				last = r.From
			}
		}
		add(facts.CacheKeepers.Reading(keepers, last))
	}
	if _, seen := g.seen.Records[facts.ListScheduled]; seen && unmapped(facts.PostsScheduled.Term) {
		add(facts.PostsScheduled.Reading(count(facts.ListScheduled, "", facts.Value{}), of("scheduled posts")))
	}
	if aliases, seen := g.seen.Records[facts.ListAliases]; seen {
		hosts := []string{}
		for _, r := range aliases {
			hosts = append(hosts, r.Subject())
		}
		g.work(facts.AliasesHosts.Reading(hosts, of("aliases")))
	}
	front, known := g.seen.Is(facts.FrontPage.Term)
	if pages, seen := g.seen.Records[facts.ListRecords]; seen && known && unmapped(facts.FrontPagePublished.Term) {
		published := slices.ContainsFunc(pages, func(r facts.Record) bool {
			return r.Values["path"].Text() == front.Text() && r.Values["published"].Bool()
		})
		add(facts.FrontPagePublished.Reading(published, of("pages")))
	}
}

// unmapped says once what the dialect says nothing of.
func (g *gathering) unmapped() {
	names := slices.DeleteFunc(g.Dialect.Unmapped(), func(name string) bool { return slices.Contains(g.told, name) })
	for list := range facts.Lists {
		if name, is := strings.CutPrefix(list, facts.Settings.All()); is && g.seen.Records[list] == nil {
			if _, mapped := g.Dialect.Lists[name]; !mapped {
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	if len(names) == 0 {
		return
	}
	g.seen.AddGap(facts.Gap{Source: facts.Settings, Kind: facts.Unmapped, What: strings.Join(names, ", "), Names: full(names),
		Because: "the dialect " + g.Dialect.Name + " does not say where it lives"})
}
