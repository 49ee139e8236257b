// Package store opens the places where a content system keeps its settings, as a dialect names them: configuration
// files, folders of records, tables, documents inside other values, documents over HTTP. It looks up one value at
// a place, and changes one.
//
// Looking never writes: files are opened for reading, databases in a read-only transaction. What a value means is
// the dialect's business, and what ought to be changed that of package fix. It may import dialect, facts, format and orders.
package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net/http"
	"path"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/format"
	"weltaxis/internal/tree"
)

// maxValue is the longest stored value that is read, in bytes.
const maxValue = 256 << 10

// Options say what the dialect and the configuration do not.
type Options struct {
	Root        string            // folder of the installation; "" when its files cannot be reached
	Environment map[string]string // variables of the site's own process
	Offline     bool              // connect to nothing
	Hosts       []string          // hosts, besides this one, whose databases may be connected to
	Databases   map[string]dialect.Database
	API         string       // the address below which the system offers its settings
	Token       string       // for that address (RFC 6750)
	Client      *http.Client // that makes the requests; nil for none

	// Keep is given an edit whose transaction has not ended yet, with the rows that the database has changed besides; its error takes all of it back.
	// Without it such an edit is not made.
	Keep func(RowEdit) error
	// Step is told of every point at which the program may end while it writes, so that a test can end it there.
	Step func(point string)
}

// A Installation is one installation with its stores open.
type Installation struct {
	Dialect *dialect.Dialect
	Options

	files     tree.Files
	failed    map[string]error             // by store or database: why it could not be opened
	documents map[string]*format.Document  // by store, or by file in a folder
	variables map[string]string            //
	unusable  map[string]error             // by variable: why it has no value
	secrets   []string                     // passwords, which no error may quote
	databases map[string]*database         //
	tables    map[string]map[string]string // by store: key and value, or column and value
	planned   map[string][]byte            // by file: what earlier edits of the same plan make of it
	troubles  []Trouble
	includes  []Include
}

// A Trouble is a store or a database that could not be opened or read.
type Trouble struct {
	Store, Database string // the one it is about
	What            string // for people: the file, table or database
	Err             error
}

// An Include is a line of a configuration file that pulls in another one.
type Include struct {
	File string
	Line int
}

// ErrUnseen means that the place lies in a store with a Trouble of its own.
var ErrUnseen = errors.New("the store could not be read")

// Open opens all that the dialect names. What cannot be opened is a Trouble; the error is that of a context that
// ended, or of a root that cannot be opened.
func Open(ctx context.Context, d *dialect.Dialect, options Options) (*Installation, error) {
	s := &Installation{Dialect: d, Options: options, failed: map[string]error{}, documents: map[string]*format.Document{}, variables: map[string]string{},
		unusable: map[string]error{}, databases: map[string]*database{}, tables: map[string]map[string]string{}}
	var err error
	if s.files, err = tree.Open(options.Root); err != nil && options.Root != "" {
		return nil, err
	}
	s.openFiles()
	s.resolveVariables()
	for _, name := range slices.Sorted(maps.Keys(d.Databases)) {
		s.openDatabase(ctx, name)
	}
	s.readTables(ctx)
	s.openAPIs(ctx)
	s.noteSecrets()
	for _, name := range slices.Sorted(maps.Keys(d.Stores)) {
		if s.failed[name] == nil {
			slog.Debug("opened", "store", name, "kind", d.Stores[name].Kind())
		}
	}
	for _, t := range s.troubles {
		slog.Debug("not opened", "what", t.What, "because", t.Err)
	}
	return s, ctx.Err()
}

// noteSecrets remembers the text of every stored secret, so that nothing that is shown quotes it.
func (s *Installation) noteSecrets() {
	for _, setting := range s.Dialect.Settings {
		if setting.Type != facts.Secret {
			continue
		}
		for _, place := range setting.Places() {
			if found, err := s.Look(place); err == nil {
				if text, _ := dialect.Text(found.Value); len(text) > 2 {
					s.secrets = append(s.secrets, text)
				}
			}
		}
	}
}

// Discreet takes every secret that the site is known to hold out of a text.
func (s *Installation) Discreet(text string) string {
	for _, secret := range s.secrets {
		text = strings.ReplaceAll(text, secret, "…")
	}
	return text
}

// Close lets go of everything.
func (s *Installation) Close() {
	for _, db := range s.databases {
		db.close()
	}
	s.files.Close()
}

// Troubles lists what could not be opened or read.
func (s *Installation) Troubles() []Trouble { return s.troubles }

// Includes lists the lines that pull in files which are not read.
func (s *Installation) Includes() []Include { return s.includes }

func (s *Installation) trouble(t Trouble) {
	t.Err = s.discreet(t.Err)
	s.failed[t.Store] = t.Err
	s.failed[t.Database] = t.Err
	s.troubles = append(s.troubles, t)
}

// discreet takes passwords out of an error.
func (s *Installation) discreet(err error) error {
	if err == nil {
		return nil
	}
	text := err.Error()
	for _, secret := range s.secrets {
		if secret != "" && strings.Contains(text, secret) {
			return errors.New(strings.ReplaceAll(text, secret, "…"))
		}
	}
	return err
}

func (s *Installation) openFiles() {
	for _, name := range slices.Sorted(maps.Keys(s.Dialect.Stores)) {
		st := s.Dialect.Stores[name]
		switch st.Kind() {
		case dialect.KindFile:
			doc, err := s.readFile(st.File, st.Format)
			if err != nil {
				s.trouble(Trouble{Store: name, What: "the file " + st.File, Err: err})
				continue
			}
			s.documents[name] = doc
			for _, include := range doc.Includes {
				s.includes = append(s.includes, Include{st.File, include.Line})
			}
		case dialect.KindFolder:
			if err := tree.IsFolder(s.files, st.Folder); err != nil {
				s.trouble(Trouble{Store: name, What: "the folder " + st.Folder, Err: err})
			}
		}
	}
}

func (s *Installation) readFile(name, formatName string) (*format.Document, error) {
	data, err := tree.Read(s.files, name, format.MaxBytes)
	if err != nil {
		return nil, err
	}
	return s.parse(name, formatName, data)
}

func (s *Installation) parse(name, formatName string, data []byte) (*format.Document, error) {
	return format.Read(formatName, data, format.Options{
		Dir: path.Join("/", path.Dir(name)), // the root stands for /, so that no path outside can be made
		Env: func(name string) (string, bool) { value, ok := s.Environment[name]; return value, ok },
	})
}

func (s *Installation) resolveVariables() {
	for name, variable := range s.Dialect.Variables {
		found, err := s.Look(variable.From)
		text, single := dialect.Text(found.Value)
		word, translated := variable.Words[text]
		switch {
		case errors.Is(err, ErrUnseen):
			s.unusable[name] = errors.New("the configuration that names it could not be read")
		case err != nil:
			s.unusable[name] = fmt.Errorf("the configuration does not tell where it is: %w", err)
		case found.There && single && translated:
			s.variables[name] = word
		case found.There && single:
			s.variables[name] = text
		default:
			s.variables[name] = variable.Default
		}
	}
}

var identifierShape = regexp.MustCompile(`^[A-Za-z0-9_]*$`)

// fill puts variables into a text. With identifier, a value may only be part of a name in SQL.
func (s *Installation) fill(text string, identifier bool) (string, error) {
	var failure error
	filled := dialect.Fill(text, func(name string) string {
		value, ok := s.variables[name]
		switch {
		case s.unusable[name] != nil:
			failure = s.unusable[name]
		case !ok:
			failure = fmt.Errorf("the dialect has no variable {%s}", name)
		case identifier && !identifierShape.MatchString(value):
			failure = fmt.Errorf("the configuration's %s is no part of a table's name", name)
		}
		return value
	})
	return filled, failure
}

// A Found is one stored value, or the news that there is none.
type Found struct {
	There  bool
	Value  any // nil, bool, int64, float64, string or []any
	Origin facts.Origin
}

// Look finds the value at a place, store/key. An error is a reason for which it cannot be told.
func (s *Installation) Look(place string) (Found, error) {
	name, key := dialect.SplitPlace(place)
	st := s.Dialect.Stores[name]
	if s.failed[name] != nil {
		return Found{}, ErrUnseen
	}
	switch st.Kind() {
	case dialect.KindFolder:
		return s.lookInFolder(st, key)
	case dialect.KindTable, dialect.KindRow:
		return s.lookInTable(name, st, key)
	case dialect.KindInside:
		return s.lookInside(name, st, key)
	}
	doc := s.documents[name]
	if doc == nil {
		return Found{}, ErrUnseen
	}
	if st.Kind() == dialect.KindAPI {
		return lookup(doc, key, facts.Origin{URL: s.API + st.API, Key: key}, s.API+st.API)
	}
	return lookup(doc, key, facts.Origin{File: st.File, Key: key}, st.File)
}

func lookup(doc *format.Document, key string, origin facts.Origin, what string) (Found, error) {
	entry, there := doc.Lookup(key)
	if entry.Unresolved != "" {
		return Found{}, fmt.Errorf("%s, line %d: %s", what, entry.Line, entry.Unresolved)
	}
	origin.Line = entry.Line
	return Found{there, entry.Value, origin}, nil
}

func (s *Installation) lookInFolder(st dialect.Store, key string) (Found, error) {
	record, path := dialect.SplitRecord(key)
	doc, file, err := s.record(st, record)
	if errors.Is(err, fs.ErrNotExist) {
		return Found{Origin: facts.Origin{File: file, Key: path}}, nil
	}
	if err != nil {
		return Found{}, fmt.Errorf("%s: %w", file, err)
	}
	return lookup(doc, path, facts.Origin{File: file, Key: path}, file)
}

// record reads one record of a folder, once.
func (s *Installation) record(st dialect.Store, record string) (*format.Document, string, error) {
	file := st.RecordFile(record)
	if doc := s.documents[file]; doc != nil {
		return doc, file, nil
	}
	doc, err := s.readFile(file, st.Format)
	if err == nil {
		s.documents[file] = doc
	}
	return doc, file, err
}

func (s *Installation) lookInTable(name string, st dialect.Store, key string) (Found, error) {
	rows := s.tables[name]
	if rows == nil {
		return Found{}, ErrUnseen
	}
	value, there := rows[key]
	table, _ := s.fill(st.Table, true)
	origin := facts.Origin{File: s.databases[st.Database].name, Table: table, Row: key}
	if st.Kind() == dialect.KindRow {
		origin.Row, origin.Column = "", key
	}
	found := Found{There: there, Origin: origin}
	if there {
		found.Value = value
	}
	return found, nil
}

// lookInside reads the document that a value of another store is.
func (s *Installation) lookInside(name string, st dialect.Store, key string) (Found, error) {
	outer, err := s.Look(st.Inside)
	if err != nil || !outer.There {
		return Found{Origin: outer.Origin}, err
	}
	doc := s.documents[name]
	if doc == nil {
		text, single := dialect.Text(outer.Value)
		if !single {
			return Found{}, fmt.Errorf("%s: it holds no text to read", outer.Origin)
		}
		if doc, err = format.Read(st.Format, []byte(text), format.Options{}); err != nil {
			return Found{}, fmt.Errorf("%s, read as %s: %w", outer.Origin, st.Format, err)
		}
		s.documents[name] = doc
	}
	origin := outer.Origin
	found, err := lookup(doc, key, facts.Origin{Key: key}, origin.String())
	if origin.Table != "" {
		origin.Key = key
	}
	found.Origin = origin
	return found, err
}

// Version is the content system's own version where the dialect maps it and it can be read; "" otherwise.
func (s *Installation) Version() string {
	for _, place := range s.Dialect.Settings["system.version"].From {
		if found, err := s.Look(place.At); err == nil && found.There {
			text, _ := dialect.Text(found.Value)
			return text
		}
	}
	return ""
}
