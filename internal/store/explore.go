package store

import (
	"context"
	"database/sql"
	"errors"
	"slices"

	"weltaxis/internal/dialect"
	"weltaxis/internal/format"
)

// A Table is one table of a database, with its first rows as text.
type Table struct {
	Name    string
	Columns []string
	Rows    [][]string // an SQL null is ""
}

// maxTables bounds how many tables are looked at.
const maxTables = 500

// Explore lists the tables of a database that no dialect describes yet. It writes nothing, and connects to what
// the options allow.
func Explore(ctx context.Context, at dialect.Database, options Options) ([]Table, error) {
	d := &dialect.Dialect{Databases: map[string]dialect.Database{"main": at}}
	s, err := Open(ctx, d, options)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	for _, t := range s.Troubles() {
		return nil, t.Err
	}
	return s.Tables(ctx, "main")
}

// Tables lists the tables of one of the installation's databases, with their first rows. The error is that it could not be opened, or asked.
func (s *Installation) Tables(ctx context.Context, database string) ([]Table, error) {
	db := s.databases[database]
	if db == nil {
		return nil, errors.New("the database " + database + " could not be opened")
	}
	names, err := db.tables(ctx)
	if err != nil {
		return nil, s.discreet(err)
	}
	var tables []Table
	for _, name := range names[:min(len(names), maxTables)] {
		t := Table{Name: name}
		query := db.statement("SELECT * FROM %s LIMIT 1000", name).text.String()
		err := db.each(ctx, query, nil, func(columns []string, row []sql.NullString) error {
			t.Columns = slices.Clone(columns)
			values := make([]string, len(row))
			for i := range row {
				values[i] = row[i].String
			}
			t.Rows = append(t.Rows, values)
			return nil
		})
		if err == nil && len(t.Columns) > 0 { // a table that may not be read is no candidate
			tables = append(tables, t)
		}
	}
	return tables, nil
}

func (db *database) tables(ctx context.Context) ([]string, error) {
	query := map[string]string{
		dialect.SQLite:     "SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name",
		dialect.MySQL:      "SELECT table_name FROM information_schema.tables WHERE table_schema = database() ORDER BY table_name",
		dialect.PostgreSQL: "SELECT table_name FROM information_schema.tables WHERE table_schema = current_schema() ORDER BY table_name",
	}[db.driver]
	if query == "" {
		return nil, errors.New("there is no such kind of database")
	}
	var names []string
	err := db.each(ctx, query, nil, func(_ []string, row []sql.NullString) error {
		names = append(names, row[0].String)
		return nil
	})
	return names, err
}

// IsDocument tells whether a text is a document in one of the formats that values hold: json or serialised.
func IsDocument(text string) (formatName string, is bool) {
	if len(text) < 4 {
		return "", false
	}
	name := map[byte]string{'{': "json", '[': "json", 'a': "serialised", 'O': "serialised"}[text[0]]
	if name == "" {
		return "", false
	}
	doc, err := format.Read(name, []byte(text), format.Options{})
	return name, err == nil && len(doc.Entries()) > 1
}
