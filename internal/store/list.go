package store

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/format"
	"weltaxis/internal/tree"
)

// A Row is one entry of a list as it is stored.
type Row struct {
	Key    string         // what tells it from the others: for Write
	Values map[string]any // by field; a field that the entry does not have is not there
	Origin facts.Origin
}

// List reads the entries of a list.
func (s *Installation) List(ctx context.Context, list dialect.List) ([]Row, error) {
	if list.From != "" {
		name, below := dialect.SplitPlace(list.From)
		st := s.Dialect.Stores[name]
		switch {
		case s.failed[name] != nil:
			return nil, ErrUnseen
		case st.Kind() == dialect.KindFolder:
			return s.folderList(st, list)
		case s.documents[name] == nil && st.Kind() != dialect.KindInside:
			return nil, ErrUnseen
		}
		if st.Kind() == dialect.KindInside {
			// Looked at once, so that the document is there. Where the value around it is not set, nothing is.
			if _, err := s.lookInside(name, st, below); s.documents[name] == nil {
				return []Row{}, err
			}
		}
		return documentList(s.documents[name], below, list, facts.Origin{File: st.File}), nil
	}
	db := s.databases[list.Database]
	if db == nil {
		return nil, ErrUnseen
	}
	rows, err := s.tableList(ctx, db, list)
	return rows, s.discreet(err)
}

func (s *Installation) tableList(ctx context.Context, db *database, list dialect.List) ([]Row, error) {
	table, err := s.fill(list.Table, true)
	if err != nil {
		return nil, err
	}
	var text string
	var args []any
	each, fields := db.asked, []string{}
	if list.Query == "" {
		each = db.each
		fields = slices.Sorted(maps.Keys(list.Columns))
		columns := []string{db.quoted(list.Key)}
		for _, field := range fields {
			columns = append(columns, db.quoted(list.Columns[field].At))
		}
		where := map[string]string{}
		for column, value := range list.Where {
			if where[column], err = s.fill(value, false); err != nil {
				return nil, err
			}
		}
		st := db.statement("SELECT "+strings.Join(columns, ", ")+" FROM %s", table)
		st.where("WHERE", where)
		st.text.WriteString(" ORDER BY " + db.quoted(list.Key))
		text, args = st.text.String(), st.args
	} else if text, args, err = s.printed(db, list.Query); err != nil {
		return nil, err
	}
	rows := []Row{}
	err = each(ctx, text, args, func(names []string, row []sql.NullString) error {
		if list.Query == "" {
			names = append([]string{"key"}, fields...)
		}
		item := Row{Values: map[string]any{}, Origin: facts.Origin{File: db.name, Table: table}}
		for i, name := range names {
			switch {
			case name == "key":
				item.Key, item.Origin.Row = row[i].String, row[i].String
			case row[i].Valid:
				item.Values[name] = row[i].String
			}
		}
		rows = append(rows, item)
		return nil
	})
	return rows, err
}

// folderList takes every record of a folder for an entry.
func (s *Installation) folderList(st dialect.Store, list dialect.List) ([]Row, error) {
	ending := strings.TrimPrefix(st.RecordFile("x"), path.Join(st.Folder, "x"))
	names, err := tree.Names(s.files, st.Folder, maxRows)
	if err != nil {
		return nil, err
	}
	rows := []Row{}
	for _, name := range names {
		record, is := strings.CutSuffix(name, ending)
		if !is || strings.HasPrefix(name, ".") {
			continue
		}
		doc, file, err := s.record(st, record)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if wanted(doc, "", list.Where) {
			rows = append(rows, documentRow(doc, "", record, list, facts.Origin{File: file}))
		}
	}
	return rows, nil
}

// documentList takes everything directly below a path for an entry.
func documentList(doc *format.Document, below string, list dialect.List, origin facts.Origin) []Row {
	rows, seen := []Row{}, map[string]bool{}
	for _, entry := range doc.Entries() {
		rest, inside := strings.CutPrefix(entry.Path, below+".")
		if below == "" {
			rest, inside = entry.Path, entry.Path != ""
		}
		key, _, _ := strings.Cut(rest, ".")
		if !inside || seen[key] {
			continue
		}
		seen[key] = true
		at := strings.TrimPrefix(below+"."+key, ".")
		origin.Line = entry.Line
		if wanted(doc, at, list.Where) {
			rows = append(rows, documentRow(doc, at, key, list, origin))
		}
	}
	return rows
}

// wanted tells whether an entry has the values that the list asks for.
func wanted(doc *format.Document, at string, where map[string]string) bool {
	for path, value := range where {
		entry, _ := doc.Lookup(strings.TrimPrefix(at+"."+path, "."))
		if text, _ := dialect.Text(entry.Value); text != value {
			return false
		}
	}
	return true
}

func documentRow(doc *format.Document, at, key string, list dialect.List, origin facts.Origin) Row {
	row := Row{Key: key, Values: map[string]any{}, Origin: origin}
	first := 0 // of the lines that it stands in, where nobody has said one
	for field, column := range list.Columns {
		if column.At == "key" {
			row.Values[field] = key
			continue
		}
		if entry, there := doc.Lookup(strings.TrimPrefix(at+"."+column.At, ".")); there && entry.Unresolved == "" {
			row.Values[field] = entry.Value
			if first == 0 || entry.Line > 0 && entry.Line < first {
				first = entry.Line
			}
		}
	}
	row.Origin.Line = cmp.Or(row.Origin.Line, first)
	return row
}
