// Package settings is the source that reads what the content system has been told: its configuration files and
// its database, through a dialect. It reads only, and says what it could not read.
//
// It may import facts, dialect and format, and no other source.
package settings

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/format"
)

// A Source reads the settings of one site.
type Source struct {
	Dialect     *dialect.Dialect
	Root        string            // folder of the installation
	Environment map[string]string // what the site file says of the environment the site runs in
}

// maxValue is the longest stored value that is read, in bytes.
const maxValue = 64 << 10

// Gather adds a reading for every place that holds a mapped setting, the effective one first, and a gap for every
// setting that could not be read. The error is only that of a context that ended.
func (s *Source) Gather(ctx context.Context, into *facts.Snapshot) error {
	root, err := os.OpenRoot(s.Root)
	if err != nil {
		into.AddGap(gap("the folder "+s.Root, err, facts.Settings+"."))
		return nil
	}
	defer root.Close()
	g := &gathering{Source: s, root: root, into: into, files: map[string]*format.Document{},
		failed: map[string]error{}, variables: map[string]string{}, unusable: map[string]error{}, databases: map[string]*database{}}
	defer g.close()
	into.Dialect = s.Dialect.String()
	g.readFiles()
	g.resolveVariables()
	g.openDatabases(ctx)
	g.readTables(ctx)
	for _, name := range s.Dialect.Names() {
		g.setting(ctx, s.Dialect.Settings[name])
	}
	for _, name := range slices.Sorted(maps.Keys(s.Dialect.Lists)) {
		g.list(ctx, name, s.Dialect.Lists[name])
	}
	g.unmapped()
	return ctx.Err()
}

// A gathering is one run: what was opened, and what could not be.
type gathering struct {
	*Source
	root      *os.Root
	into      *facts.Snapshot
	files     map[string]*format.Document  // by store
	failed    map[string]error             // by store: why it could not be read
	variables map[string]string            //
	unusable  map[string]error             // by variable: why it has no value
	databases map[string]*database         //
	tables    map[string]map[string]string // by store: key and value
}

func (g *gathering) close() {
	for _, db := range g.databases {
		db.close()
	}
}

// gap makes a failed or refused gap of an error.
func gap(what string, err error, names ...string) facts.Gap {
	kind := facts.Failed
	if errors.Is(err, fs.ErrPermission) || errors.Is(err, errOutside) {
		kind = facts.Refused
	}
	return facts.Gap{Source: facts.Settings, What: what, Kind: kind, Because: reason(err), Names: names}
}

// reason is an error without the path that the gap names already.
func reason(err error) string {
	var pathErr *fs.PathError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "it does not exist"
	case errors.Is(err, fs.ErrPermission):
		return "reading it was refused"
	case errors.As(err, &pathErr):
		return pathErr.Err.Error()
	}
	return err.Error()
}

func (g *gathering) readFiles() {
	for _, name := range slices.Sorted(maps.Keys(g.Dialect.Stores)) {
		store := g.Dialect.Stores[name]
		if store.File == "" {
			continue
		}
		doc, err := g.readFile(store)
		if err != nil {
			g.failed[name] = err
			g.into.AddGap(gap("the file "+store.File, err, g.settingsIn(name)...))
			continue
		}
		g.files[name] = doc
		for _, include := range doc.Includes {
			g.into.AddGap(facts.Gap{Source: facts.Settings, Kind: facts.Unmapped,
				What:    fmt.Sprintf("%s, line %d", store.File, include.Line),
				Because: "it pulls in another file that the dialect does not name; what that file sets is not read"})
		}
	}
}

func (g *gathering) readFile(store dialect.Store) (*format.Document, error) {
	file, err := g.root.Open(store.File)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if stat, err := file.Stat(); err != nil || !stat.Mode().IsRegular() {
		return nil, errors.Join(err, errors.New("it is no ordinary file"))
	}
	data, err := io.ReadAll(io.LimitReader(file, format.MaxBytes+1))
	if err != nil {
		return nil, err
	}
	return format.Read(store.Format, data, format.Options{
		Dir: path.Join("/", path.Dir(store.File)), // the root stands for /, so that no path outside can be made
		Env: func(name string) (string, bool) { value, ok := g.Environment[name]; return value, ok },
	})
}

// settingsIn lists the full names of settings and lists that a store has a say in.
func (g *gathering) settingsIn(store string) []string {
	var names []string
	for name, setting := range g.Dialect.Settings {
		if slices.ContainsFunc(setting.From, func(place string) bool { s, _ := dialect.SplitPlace(place); return s == store }) {
			names = append(names, facts.Settings+"."+name)
		}
	}
	slices.Sort(names)
	return names
}

func (g *gathering) resolveVariables() {
	for name, variable := range g.Dialect.Variables {
		store, key := dialect.SplitPlace(variable.From)
		doc := g.files[store]
		if doc == nil {
			g.unusable[name] = fmt.Errorf("the configuration that names it could not be read")
			continue
		}
		entry, there := doc.Lookup(key)
		text, single := dialect.Text(entry.Value)
		switch {
		case entry.Unresolved != "":
			g.unusable[name] = fmt.Errorf("%s, line %d, does not tell where it is: %s", g.Dialect.Stores[store].File, entry.Line, entry.Unresolved)
		case there && single:
			g.variables[name] = text
		default:
			g.variables[name] = variable.Default
		}
	}
}

var (
	variableShape   = regexp.MustCompile(`\{([a-z_]+)\}`)
	identifierShape = regexp.MustCompile(`^[A-Za-z0-9_]*$`)
)

// fill puts variables into a text. With identifier, a value may only be part of a name in SQL.
func (g *gathering) fill(text string, identifier bool) (string, error) {
	var failure error
	filled := variableShape.ReplaceAllStringFunc(text, func(mark string) string {
		name := mark[1 : len(mark)-1]
		value, ok := g.variables[name]
		switch {
		case g.unusable[name] != nil:
			failure = g.unusable[name]
		case !ok:
			failure = fmt.Errorf("the dialect has no variable {%s}", name)
		case identifier && !identifierShape.MatchString(value):
			failure = fmt.Errorf("the configuration's %s is no part of a table's name", name)
		}
		return value
	})
	return filled, failure
}

func (g *gathering) openDatabases(ctx context.Context) {
	for name, spec := range g.Dialect.Databases {
		file, err := g.fill(spec.SQLite, false)
		var db *database
		if err == nil {
			db, err = openSQLite(ctx, g.root, file)
		}
		if err != nil {
			what := "the database"
			if file != "" {
				what += " " + strings.TrimLeft(file, "/")
			}
			g.into.AddGap(gap(what, err, g.settingsOf(name)...))
			g.failed[name] = err
			continue
		}
		g.databases[name] = db
	}
}

// settingsOf lists the full names of what a database has a say in.
func (g *gathering) settingsOf(database string) []string {
	var names []string
	for name, store := range g.Dialect.Stores {
		if store.Database == database {
			names = append(names, g.settingsIn(name)...)
		}
	}
	for name, setting := range g.Dialect.Settings {
		if setting.Query != "" {
			names = append(names, facts.Settings+"."+name)
		}
	}
	for name, list := range g.Dialect.Lists {
		if list.Database == database {
			names = append(names, facts.Settings+"."+name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// readTables reads the rows that the dialect names out of every table of keys and values.
func (g *gathering) readTables(ctx context.Context) {
	g.tables = map[string]map[string]string{}
	for name, store := range g.Dialect.Stores {
		db := g.databases[store.Database]
		if store.Table == "" || db == nil {
			continue
		}
		table, err := g.fill(store.Table, true)
		if err == nil {
			g.tables[name], err = db.keyValues(ctx, table, store.Key, store.Value, g.keysIn(name))
		}
		if err != nil {
			g.failed[name] = err
			g.into.AddGap(gap(db.file+", table "+table, err, g.settingsIn(name)...))
		}
	}
}

func (g *gathering) keysIn(store string) []string {
	var keys []string
	for _, setting := range g.Dialect.Settings {
		for _, place := range setting.From {
			if s, key := dialect.SplitPlace(place); s == store {
				keys = append(keys, key)
			}
		}
	}
	slices.Sort(keys)
	return slices.Compact(keys)
}

// A found is one stored value, or the news that there is none.
type found struct {
	there  bool
	value  any
	origin facts.Origin
}

// errUnseen means that the gap has been added already, for the whole store.
var errUnseen = errors.New("the store could not be read")

func (g *gathering) look(place string) (found, error) {
	name, key := dialect.SplitPlace(place)
	store := g.Dialect.Stores[name]
	if store.File != "" {
		doc := g.files[name]
		if doc == nil {
			return found{}, errUnseen
		}
		entry, there := doc.Lookup(key)
		if entry.Unresolved != "" {
			return found{}, fmt.Errorf("%s, line %d: %s", store.File, entry.Line, entry.Unresolved)
		}
		return found{there, entry.Value, facts.Origin{File: store.File, Line: entry.Line, Key: key}}, nil
	}
	rows := g.tables[name]
	if rows == nil {
		return found{}, errUnseen
	}
	value, there := rows[key]
	table, _ := g.fill(store.Table, true)
	return found{there, value, facts.Origin{File: g.databases[store.Database].file, Table: table, Row: key}}, nil
}

// setting adds the readings of one setting. When what comes first cannot be told, nothing that comes later may
// pass for the effective value, so there is only a gap.
func (g *gathering) setting(ctx context.Context, s dialect.Setting) {
	name := facts.Settings + "." + s.Name
	stored, err := g.stored(ctx, s)
	if err != nil {
		if !errors.Is(err, errUnseen) {
			g.into.AddGap(gap(s.Name, err, name))
		}
		return
	}
	var readings []facts.Reading
	for _, f := range stored {
		value, err := s.Value(f.value)
		if err != nil {
			g.into.AddGap(gap(s.Name, fmt.Errorf("%s: %w", f.origin, err), name))
			return
		}
		readings = append(readings, facts.Reading{Source: facts.Settings, Name: s.Name, Value: value, Origin: f.origin, Factory: s.IsFactory(f.value)})
	}
	if len(readings) == 0 {
		if s.Default == nil {
			g.into.AddGap(gap(s.Name, errors.New("it is not set, and the dialect states no default"), name))
			return
		}
		value, _ := s.Type.Parse(string(*s.Default))
		readings = append(readings, facts.Reading{Source: facts.Settings, Name: s.Name, Value: value,
			Origin: facts.Origin{Default: g.Dialect.Title, Screen: s.Screen}, Factory: s.IsFactory(string(*s.Default))})
	}
	g.into.Add(readings...)
}

func (g *gathering) stored(ctx context.Context, s dialect.Setting) ([]found, error) {
	if s.Query != "" {
		db := g.databases[g.Dialect.QueryDatabase()]
		if db == nil {
			return nil, errUnseen
		}
		query, err := g.fill(s.Query, true)
		if err != nil {
			return nil, err
		}
		value, err := db.single(ctx, query)
		return []found{{true, value, facts.Origin{File: db.file, Key: query}}}, err
	}
	var list []found
	for i, place := range s.From {
		f, err := g.look(place)
		if err != nil {
			return nil, err
		}
		if f.there {
			if i == len(s.From)-1 { // the places before it override what the administration pages set
				f.origin.Screen = s.Screen
			}
			list = append(list, f)
		}
	}
	return list, nil
}

// list reads the entries of one neutral list.
func (g *gathering) list(ctx context.Context, name string, list dialect.List) {
	full := facts.Settings + "." + name
	db := g.databases[list.Database]
	if db == nil {
		return
	}
	table, _ := g.fill(list.Table, true)
	query, err := g.fill(list.Query, true)
	var rows []map[string]string
	if err == nil {
		rows, err = db.rows(ctx, query)
	}
	if err != nil {
		g.into.AddGap(gap(name, err, full))
		return
	}
	for _, row := range rows {
		for field, words := range list.Words {
			row[field] = words[row[field]]
		}
	}
	if full == facts.ListAccounts {
		g.into.Accounts = accounts(rows, db.file, table)
	}
}

func accounts(rows []map[string]string, file, table string) []facts.Account {
	list := []facts.Account{}
	for _, row := range rows {
		list = append(list, facts.Account{Name: row["name"], Role: row["role"],
			From: facts.Origin{File: file, Table: table, Row: row["row"]}})
	}
	return list
}

// unmapped says once what the dialect says nothing of.
func (g *gathering) unmapped() {
	names := g.Dialect.Unmapped()
	if len(names) == 0 {
		return
	}
	full := make([]string, len(names))
	for i, name := range names {
		full[i] = facts.Settings + "." + name
	}
	g.into.AddGap(facts.Gap{Source: facts.Settings, Kind: facts.Unmapped, What: strings.Join(names, ", "), Names: full,
		Because: "the dialect " + g.Dialect.Name + " does not say where it lives"})
}
