package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
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
	var tables []Table
	_, err = s.rows(ctx, "main", func(table string, columns []string, row []sql.NullString) {
		if n := len(tables); n == 0 || tables[n-1].Name != table {
			tables = append(tables, Table{Name: table, Columns: slices.Clone(columns)})
		}
		values := make([]string, len(row))
		for i := range row {
			values[i] = row[i].String
		}
		last := &tables[len(tables)-1]
		last.Rows = append(last.Rows, values)
	})
	return tables, err
}

// Values gives the values of the first rows of each table of one of the installation's databases, one after the other. More tells that there are more rows, or tables, or some that
// could not be read. The error is that the database could not be asked.
func (s *Installation) Values(ctx context.Context, database string, take func(table, value string)) (more bool, err error) {
	return s.rows(ctx, database, func(table string, _ []string, row []sql.NullString) {
		for i := range row {
			take(table, row[i].String)
		}
	})
}

// firstRows is how many rows of a table are looked at.
const firstRows = 1000

// rows gives the first rows of each table. A table that may not be read is passed over.
func (s *Installation) rows(ctx context.Context, database string, take func(table string, columns []string, row []sql.NullString)) (more bool, err error) {
	db := s.databases[database]
	if db == nil {
		return false, errors.New("the database " + database + " could not be opened")
	}
	names, err := db.tables(ctx)
	if err != nil {
		return false, s.discreet(err)
	}
	more = len(names) > maxTables
	for _, name := range names[:min(len(names), maxTables)] {
		n := 0
		query := db.statement(fmt.Sprintf("SELECT * FROM %%s LIMIT %d", firstRows), name).text.String()
		err := db.each(ctx, query, nil, func(columns []string, row []sql.NullString) error {
			n++
			take(name, columns, row)
			return nil
		})
		if ctx.Err() != nil {
			return more, ctx.Err()
		}
		more = more || err != nil || n == firstRows
	}
	return more, nil
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
