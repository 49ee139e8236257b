package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/private"
	"weltaxis/internal/query"
)

// A database is a connection that cannot write.
type database struct {
	name    string // for people: a file below the root, or a name and a host
	driver  string
	conn    querier
	writes  bool
	pool    *sql.DB
	done    func()                                 // ends the transaction, and lets go of the connection
	begin   func(context.Context) (*sql.Tx, error) // begins one that changes rows
	private *private.Folder                        // folder of a private copy, removed at the end
	check   func() error                           // whether a file is still the one that was opened
}

// A querier is a connection or a transaction.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// queryTime bounds one query.
const queryTime = 20 * time.Second

// resolved is where a database is: what the configuration says, and what the site file says over it.
func (s *Installation) resolved(name string) (dialect.Database, error) {
	spec, said := s.Dialect.Databases[name], s.Databases[name]
	var failure error
	pick := func(said, spec string) string {
		if said != "" {
			return said
		}
		filled, err := s.fill(spec, false)
		if err != nil {
			failure = err
		}
		return filled
	}
	if said.Driver != "" || said.Name != "" || said.SQLite != "" {
		spec = dialect.Database{Driver: spec.Driver} // another database altogether
	}
	out := dialect.Database{Driver: pick(said.Driver, spec.Driver)}
	if out.Driver == "" {
		out.Driver = dialect.SQLite
	}
	if out.Driver == dialect.SQLite {
		out.SQLite = pick(said.SQLite, spec.SQLite)
		return out, failure
	}
	out.Host, out.Port, out.Socket = pick(said.Host, spec.Host), pick(said.Port, spec.Port), pick(said.Socket, spec.Socket)
	out.Name, out.User, out.Password = pick(said.Name, spec.Name), pick(said.User, spec.User), pick(said.Password, spec.Password)
	if len(out.Password) > 2 {
		s.secrets = append(s.secrets, out.Password)
	}
	return out, failure
}

func (s *Installation) openDatabase(ctx context.Context, name string) {
	spec, err := s.resolved(name)
	what := "the database " + strings.TrimLeft(spec.SQLite+spec.Name, "/")
	var db *database
	switch {
	case err != nil:
		what = "the database"
	case spec.Driver == dialect.SQLite:
		db, err = s.openSQLite(ctx, spec.SQLite)
	case slices.Contains(dialect.Drivers, spec.Driver):
		db, err = s.openServer(ctx, spec)
	default:
		err = fmt.Errorf("the configuration says %q, which is none of %s", facts.Shorten(spec.Driver, 40), strings.Join(dialect.Drivers, ", "))
	}
	if err != nil {
		s.trouble(Trouble{Database: name, What: strings.TrimSpace(what), Err: err})
		for storeName, st := range s.Dialect.Stores {
			if st.Database == name {
				s.failed[storeName] = err
			}
		}
		return
	}
	s.databases[name] = db
}

// readTables reads what the dialect names out of every table.
func (s *Installation) readTables(ctx context.Context) {
	for _, name := range slices.Sorted(maps.Keys(s.Dialect.Stores)) {
		st := s.Dialect.Stores[name]
		db := s.databases[st.Database]
		if st.Table == "" || db == nil {
			continue
		}
		table, where, err := s.table(st)
		if err == nil {
			if st.Kind() == dialect.KindTable {
				s.tables[name], err = db.keyValues(ctx, table, st, where, s.Dialect.KeysIn(name))
			} else {
				s.tables[name], err = db.row(ctx, table, where, s.Dialect.KeysIn(name))
			}
		}
		if err != nil {
			s.trouble(Trouble{Store: name, What: db.name + ", table " + table, Err: err})
		}
	}
}

// table fills in the names of a store's table and of the rows it is about.
func (s *Installation) table(st dialect.Store) (string, map[string]string, error) {
	table, err := s.fill(st.Table, true)
	where := map[string]string{}
	for column, value := range st.Where {
		filled, fillErr := s.fill(value, false)
		err = errors.Join(err, fillErr)
		where[column] = filled
	}
	return table, where, err
}

// quoted is a name in SQL, in the quotes of the server.
func (db *database) quoted(name string) string { return Quoted(db.driver, name) }

// Quoted is the name of a table or a column as a database writes it.
func Quoted(driver, name string) string { return query.Name(servers[driver], name) }

// A statement is put together with its arguments.
type statement struct {
	db   *database
	text strings.Builder
	args []any
}

func (db *database) statement(format string, names ...any) *statement {
	s := &statement{db: db}
	for i, name := range names {
		if text, ok := name.(string); ok {
			names[i] = db.quoted(text)
		}
	}
	fmt.Fprintf(&s.text, format, names...)
	return s
}

// mark adds an argument and gives the mark that stands for it.
func (s *statement) mark(value any) string {
	s.args = append(s.args, value)
	if s.db.driver == dialect.PostgreSQL {
		return fmt.Sprintf("$%d", len(s.args))
	}
	return "?"
}

// column is a column to compare as text, whatever its type is.
func (s *statement) column(name string) string {
	if s.db.driver == dialect.PostgreSQL {
		return "CAST(" + s.db.quoted(name) + " AS TEXT)"
	}
	return s.db.quoted(name)
}

// where adds conditions that columns have values.
func (s *statement) where(start string, values map[string]string) *statement {
	for _, column := range slices.Sorted(maps.Keys(values)) {
		fmt.Fprintf(&s.text, " %s %s = %s", start, s.column(column), s.mark(values[column]))
		start = "AND"
	}
	return s
}

// keyValues reads the rows of the named keys from a table of keys and values.
func (db *database) keyValues(ctx context.Context, table string, st dialect.Store, where map[string]string, keys []string) (map[string]string, error) {
	pairs := map[string]string{}
	if len(keys) == 0 {
		return pairs, nil
	}
	s := db.statement("SELECT %s, %s FROM %s", st.Key, st.Value, table)
	marks := make([]string, len(keys))
	for i, key := range keys {
		marks[i] = s.mark(key)
	}
	fmt.Fprintf(&s.text, " WHERE %s IN (%s)", s.column(st.Key), strings.Join(marks, ", "))
	s.where("AND", where)
	err := db.each(ctx, s.text.String(), s.args, func(_ []string, row []sql.NullString) error {
		if !row[1].Valid {
			return nil // an SQL null is as good as no row
		}
		if _, twice := pairs[row[0].String]; twice {
			return fmt.Errorf("there are several rows for %s, and nothing says which counts", row[0].String)
		}
		pairs[row[0].String] = row[1].String
		return nil
	})
	return pairs, err
}

// row reads the named columns of the one row there is.
func (db *database) row(ctx context.Context, table string, where map[string]string, columns []string) (map[string]string, error) {
	if len(columns) == 0 {
		return map[string]string{}, nil
	}
	names := make([]string, len(columns))
	for i, column := range columns {
		names[i] = db.quoted(column)
	}
	s := db.statement("SELECT "+strings.Join(names, ", ")+" FROM %s", table)
	s.where("WHERE", where)
	var values map[string]string
	err := db.each(ctx, s.text.String(), s.args, func(_ []string, row []sql.NullString) error {
		if values != nil {
			return errors.New("there are several rows, and nothing says which counts")
		}
		values = map[string]string{}
		for i, column := range columns {
			if row[i].Valid {
				values[column] = row[i].String
			}
		}
		return nil
	})
	if err == nil && values == nil {
		err = errors.New("the row is not there")
	}
	return values, err
}

// Query puts a setting's query, whose one value is the answer.
func (s *Installation) Query(ctx context.Context, source string) (Found, error) {
	name := s.Dialect.QueryDatabase()
	db := s.databases[name]
	if db == nil {
		return Found{}, ErrUnseen
	}
	text, args, err := s.printed(db, source)
	if err != nil {
		return Found{}, err
	}
	found := Found{Origin: facts.Origin{File: db.name, Key: source}}
	err = db.asked(ctx, text, args, func(_ []string, row []sql.NullString) error {
		found.There, found.Value = true, row[0].String
		return nil
	})
	return found, s.discreet(err)
}

// printed is a query of the dialect as the database's server takes it.
func (s *Installation) printed(db *database, source string) (text string, args []any, err error) {
	parsed, err := query.Parse(source)
	if err != nil {
		return "", nil, err
	}
	return parsed.Print(servers[db.driver], s.fill)
}

// servers are the drivers as queries are printed for them.
var servers = map[string]query.Server{dialect.SQLite: query.SQLite, dialect.MySQL: query.MySQL, dialect.PostgreSQL: query.PostgreSQL}

// askedTime bounds a query that a dialect puts.
const askedTime = 5 * time.Second

// asked puts a query that comes from a dialect, which may ask for more than anybody has time for.
func (db *database) asked(ctx context.Context, query string, args []any, take func(columns []string, row []sql.NullString) error) error {
	ctx, cancel := context.WithTimeout(ctx, askedTime)
	defer cancel()
	return db.each(ctx, query, args, take)
}

// maxRows is the longest list that is read.
const maxRows = 100_000

func (db *database) each(ctx context.Context, query string, args []any, take func(columns []string, row []sql.NullString) error) error {
	ctx, cancel := context.WithTimeout(ctx, queryTime)
	defer cancel()
	rows, err := db.conn.QueryContext(ctx, query, args...)
	if err != nil {
		return explain(err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	row := make([]sql.NullString, len(columns))
	into := make([]any, len(columns))
	for i := range row {
		into[i] = &row[i]
	}
	for n := 0; rows.Next(); n++ {
		if n == maxRows {
			return fmt.Errorf("it has more than %d rows", maxRows)
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i, column := range columns {
			if len(row[i].String) > maxValue {
				return fmt.Errorf("the column %s holds %d bytes; at most %d are read", column, len(row[i].String), maxValue)
			}
		}
		if err := take(columns, row); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return explain(err)
	}
	return db.check()
}

func (db *database) close() {
	if db.done != nil {
		db.done()
		db.done = nil
	}
	if db.pool != nil {
		db.pool.Close()
	}
	db.removeCopy()
}

// rightShape is how MariaDB and MySQL name the right that is lacking.
var rightShape = regexp.MustCompile(`([A-Z]+(?:, [A-Z]+)*) command denied`)

// explainWriting says of a write that was not allowed which right is lacking.
func explainWriting(err error) error {
	text := err.Error()
	if m := rightShape.FindStringSubmatch(text); m != nil {
		return &facts.Denied{Doing: "changing the row", Lacks: "this user of the database lacks the right to " + m[1] + " there"}
	}
	switch {
	case strings.Contains(text, "42501"):
		return &facts.Denied{Doing: "changing the row", Lacks: "this user of the database lacks the right to change the table (INSERT, UPDATE or DELETE)"}
	case strings.Contains(text, "readonly database"), strings.Contains(text, "SQLITE_READONLY"):
		return &facts.Denied{Doing: "changing the row", Lacks: "this user lacks the right to write to the database file, or to the folder in which it keeps its journal"}
	}
	return explain(err)
}

// explain puts the drivers' words for the usual troubles into plain ones.
func explain(err error) error {
	text := err.Error()
	for _, known := range []struct{ sign, says string }{
		{"SQLITE_BUSY", "it is locked by another program"},
		{"database is locked", "it is locked by another program"},
		{"malformed", "it is damaged"},
		{"not a database", "it is no SQLite database"},
		{"no such table", "the table does not exist"},
		{"Error 1146", "the table does not exist"},
		{"42P01", "the table does not exist"},
		{"no such column", "a column does not exist"},
		{"Error 1054", "a column does not exist"},
		{"42703", "a column does not exist"},
		{"Error 1142", "this user may not read it"},
		{"42501", "this user may not read it"},
		{"Error 1045", "name or password were not accepted"},
		{"28P01", "name or password were not accepted"},
		{"28000", "this user may not sign in"},
		{"Error 1044", "this user may not use that database"},
		{"Error 1049", "there is no database of that name"},
		{"3D000", "there is no database of that name"},
		{"connection refused", "nobody listens there"},
		{"connect: no such file", "nobody listens there"},
		{"too big", "a row of it is longer than is read"},
		{"out of memory", "it wants more memory than it is given"},
		{"57014", "reading it took too long"},
		{"Error 1969", "reading it took too long"},
		{"Error 3024", "reading it took too long"},
		{"interrupted", "reading it took too long"},
		{"deadline", "reading it took too long"},
		{"i/o timeout", "it did not answer in time"},
	} {
		if strings.Contains(text, known.sign) {
			return errors.New(known.says)
		}
	}
	return err
}
