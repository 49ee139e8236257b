package store

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"net/http"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"al.essio.dev/pkg/shellescape"
	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/format"
	"weltaxis/internal/identity"
	"weltaxis/internal/tree"
)

// ErrChanged says that what is there is not what was there when the edit was worked out.
var ErrChanged = tree.ErrChanged

// Plan works out how to store a value at a place. Nothing is written.
func (s *Installation) Plan(ctx context.Context, place string, value any) (Edit, error) {
	name, key := dialect.SplitPlace(place)
	st := s.Dialect.Stores[name]
	switch st.Kind() {
	case dialect.KindFile:
		return s.planFile(place, st.File, st.Format, key, value)
	case dialect.KindFolder:
		record, path := dialect.SplitRecord(key)
		return s.planFile(place, st.RecordFile(record), st.Format, path, value)
	case dialect.KindTable, dialect.KindRow:
		return s.planCell(place, name, st, key, value)
	case dialect.KindInside:
		return s.planInside(ctx, place, st, key, value)
	case dialect.KindAPI:
		return s.planAPI(ctx, place, st, key, value)
	}
	return nil, fmt.Errorf("there is no store %q", name)
}

func (s *Installation) planFile(place, file, formatName, key string, value any) (Edit, error) {
	file, err := s.files.Real(file)
	if err != nil {
		return nil, err
	}
	before, planned := s.planned[file]
	if !planned {
		if before, err = tree.Read(s.files, file, format.MaxBytes); err != nil {
			return nil, err
		}
	}
	after, err := s.changed(file, formatName, key, before, value)
	return FileEdit{place, file, before, after, 0}, err
}

func (s *Installation) changed(file, formatName, key string, before []byte, value any) ([]byte, error) {
	doc, err := s.parse(file, formatName, before)
	if err != nil {
		return nil, err
	}
	return doc.Set(key, value)
}

func (s *Installation) planCell(place, name string, st dialect.Store, key string, value any) (Edit, error) {
	rows := s.tables[name]
	if rows == nil {
		return nil, ErrUnseen
	}
	table, where, err := s.table(st)
	if err != nil {
		return nil, err
	}
	text, single := dialect.Text(value)
	if !single {
		return nil, errors.New("a table holds single values, not lists")
	}
	edit := RowEdit{Place: place, Kind: st.Kind(), Database: st.Database, Table: table, Where: where, New: &text}
	old, there := rows[key]
	if there {
		edit.Old = &old
	}
	if st.Kind() == dialect.KindRow {
		edit.Column = key
		return edit, nil
	}
	edit.Column, edit.Where[st.Key], edit.Insert = st.Value, key, !there
	return edit, nil
}

// planInside changes a document that is a value, and with it that value.
func (s *Installation) planInside(ctx context.Context, place string, st dialect.Store, key string, value any) (Edit, error) {
	outer, err := s.Look(st.Inside)
	if err != nil {
		return nil, err
	}
	text, single := dialect.Text(outer.Value)
	if !single || !outer.There {
		return nil, errors.New("the value that holds it is not there")
	}
	after, err := s.changed("", st.Format, key, []byte(text), value)
	if err != nil {
		return nil, err
	}
	edit, err := s.Plan(ctx, st.Inside, string(after))
	if err != nil {
		return nil, err
	}
	return edit.at(place), nil
}

func (s *Installation) planAPI(ctx context.Context, place string, st dialect.Store, key string, value any) (Edit, error) {
	before, _, err := s.fetch(ctx, st.API)
	if err != nil {
		return nil, err
	}
	after, err := s.changed("", st.Format, key, before, value)
	return DocumentEdit{place, st.API, before, after}, err
}

// PlanField works out how to store a value in a field of one entry of a list.
func (s *Installation) PlanField(list dialect.List, name string, row Row, field string, value any) (Edit, error) {
	key := row.Key
	column, mapped := list.Columns[field]
	place := name + "/" + key + "/" + field
	switch {
	case !mapped:
		return nil, errors.New("the dialect does not say where it is written")
	case list.From != "":
		storeName, below := dialect.SplitPlace(list.From)
		st := s.Dialect.Stores[storeName]
		if st.Kind() == dialect.KindFolder {
			return s.planFile(place, st.RecordFile(key), st.Format, column.At, value)
		}
		if st.Kind() == dialect.KindFile {
			return s.planFile(place, st.File, st.Format, below+"."+key+"."+column.At, value)
		}
		return nil, errors.New("the dialect does not say where it is written")
	case list.Table == "" || list.Key == "":
		return nil, errors.New("the dialect does not say where it is written")
	}
	table, err := s.fill(list.Table, true)
	text, single := dialect.Text(value)
	if err != nil || !single {
		return nil, errors.Join(err, errors.New("a table holds single values"))
	}
	edit := RowEdit{Place: place, Kind: dialect.KindRow, Database: list.Database, Table: table, Column: column.At,
		Where: map[string]string{list.Key: key}, New: &text}
	if old, there := row.Values[field]; there {
		was, _ := dialect.Text(old)
		edit.Old = &was
	}
	return edit, nil
}

// ValueIn is the value that a file of the store would have at a place if it held data.
func (s *Installation) ValueIn(place string, data []byte) (value any, there bool) {
	name, key := dialect.SplitPlace(place)
	st := s.Dialect.Stores[name]
	if st.Kind() == dialect.KindFolder {
		_, key = dialect.SplitRecord(key)
	}
	doc, err := s.parse(st.File, st.Format, data)
	if err != nil {
		return nil, false
	}
	entry, there := doc.Lookup(key)
	return entry.Value, there && entry.Unresolved == ""
}

// PlanLine works out how a file gets a line that it does not have; see FileEdit.
func (s *Installation) PlanLine(file, start, line string) (Edit, error) {
	return PlanLine(s.files, file, start, line)
}

// PlanWithout works out how a file loses a line that it has; see FileEdit.
func (s *Installation) PlanWithout(file, line string) (Edit, error) {
	return PlanWithout(s.files, file, line)
}

// State tells which of the two values is there now.
type State string

// The states of the place of an edit.
const (
	Before State = "before"
	After  State = "after"
	Other  State = "other"
)

func (e RowEdit) state(value *string, there bool) State {
	rowBefore, rowAfter := true, true
	if e.Insert {
		rowBefore, rowAfter = e.Old != nil, e.New != nil
	}
	switch {
	case there == rowBefore && same(value, e.Old):
		return Before
	case there == rowAfter && same(value, e.New):
		return After
	}
	return Other
}

// Apply makes the edit: where the old value is still there it becomes the new one, in one step. What is the new
// value already is left alone; anything else is ErrChanged.
func (s *Installation) Apply(ctx context.Context, e Edit) error { return e.apply(ctx, s) }

// at tells of a point at which the program may end.
func (s *Installation) at(point string) {
	if s.Step != nil {
		s.Step(point)
	}
}

func (s *Installation) applyAPI(ctx context.Context, e DocumentEdit) error {
	now, tag, err := s.fetch(ctx, e.Address)
	switch {
	case err != nil:
		return err
	case bytes.Equal(now, e.After):
		return nil
	case !bytes.Equal(now, e.Before):
		return ErrChanged
	}
	response, err := s.request(ctx, http.MethodPut, e.Address, e.After, tag)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode == http.StatusPreconditionFailed {
		return ErrChanged
	}
	if response.StatusCode >= 300 {
		return fmt.Errorf("it answers %s to the new document", http.StatusText(response.StatusCode))
	}
	return nil
}

// write opens a database for writing, and runs one transaction on it. The site reads no more of that database
// afterwards than it has read before; for what is there now, open it again.
func (s *Installation) write(ctx context.Context, name string, do func(*database) error) error {
	spec, err := s.resolved(name)
	if err != nil {
		return err
	}
	// The transaction that reads would stand in the way. What it has read is kept.
	if open := s.databases[name]; open != nil {
		open.close()
	}
	var db *database
	if spec.Driver == dialect.SQLite {
		db, err = s.sqliteForWriting(ctx, spec.SQLite)
	} else {
		db, err = s.connect(spec)
	}
	if err != nil {
		return err
	}
	defer db.close()
	ctx, cancel := context.WithTimeout(ctx, queryTime)
	defer cancel()
	tx, err := db.begin(ctx)
	if err != nil {
		return explainWriting(err)
	}
	db.conn, db.writes = tx, true
	if db.driver == dialect.PostgreSQL { // one after the other: whoever asks what became of a row that was put in waits until that is decided
		if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock(hashtext('weltaxis'))"); err != nil {
			_ = tx.Rollback()
			return explainWriting(err)
		}
	}
	if err := do(db); err != nil {
		_ = tx.Rollback()
		return explainWriting(err)
	}
	if err := tx.Commit(); err != nil {
		if refused(err) {
			return explainWriting(err)
		}
		return &lostAnswer{explainWriting(err)}
	}
	return nil
}

// A lostAnswer is the error of a transaction whose end was asked for, where no server says that it was refused.
type lostAnswer struct{ err error }

func (l *lostAnswer) Error() string { return l.err.Error() }
func (l *lostAnswer) Unwrap() error { return l.err }

// refused tells whether an error is a server's own answer, which it gives to what it has not done.
func refused(err error) bool {
	var fromMySQL *mysql.MySQLError
	var fromPostgreSQL *pgconn.PgError
	if errors.As(err, &fromPostgreSQL) {
		return !strings.HasPrefix(fromPostgreSQL.Code, "08") && !strings.HasPrefix(fromPostgreSQL.Code, "57P") // connections; the server ends
	}
	return errors.As(err, &fromMySQL) && fromMySQL.Number != 1053 && fromMySQL.Number != 1180 // it ends; an error while it commits
}

// rollsBackAlone is an error for a journal that a program has left which was killed while it changed several databases in one step: SQLite
// would follow its end, which names a file anywhere, and remove that (https://www.sqlite.org/fileformat.html §3.1, super-journals).
func (s *Installation) rollsBackAlone(at sqliteFile) error {
	if at.beside["-journal"] <= 0 {
		return nil
	}
	real, err := s.files.Real(at.rel)
	if err != nil {
		return err
	}
	journal, err := s.files.Open(real + "-journal")
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer journal.Close()
	const magic = "\xd9\xd5\x05\xf9\x20\xa1\x63\xd7"
	end := make([]byte, len(magic))
	if seeker, is := journal.(io.Seeker); is {
		_, err = seeker.Seek(-int64(len(magic)), io.SeekEnd)
	}
	if err == nil {
		_, err = io.ReadFull(journal, end)
	}
	if err == nil && string(end) == magic {
		return facts.Refusal("a program that changed several databases in one step was killed (" + path.Base(at.rel) + "-journal); let the content system open it first")
	}
	return nil
}

// sqliteForWriting opens a database file so that its rows can be changed.
func (s *Installation) sqliteForWriting(ctx context.Context, name string) (*database, error) {
	at, err := s.sqliteAt(name)
	if err != nil {
		return nil, err
	}
	defer at.file.Close()
	query := url.Values{"mode": {"rw"}, "_txlock": {"immediate"}, "_pragma": {"trusted_schema(0)", "foreign_keys(1)", fmt.Sprintf("busy_timeout(%d)", busyWait.Milliseconds())}}
	if err := s.rollsBackAlone(at); err != nil {
		return nil, err
	}
	db := &database{name: at.rel, driver: dialect.SQLite, check: func() error { return nil }}
	conn, err := db.open(ctx, at.full, query)
	if err != nil {
		return nil, s.notWritten(at, err)
	}
	db.done = func() { conn.Close() }
	db.begin = func(ctx context.Context) (*sql.Tx, error) { return conn.BeginTx(ctx, nil) }
	if err := opened(at.file); err != nil {
		db.close()
		return nil, err
	}
	return db, nil
}

// notWritten says of a database that was looked at and cannot be opened for writing who may.
func (s *Installation) notWritten(at sqliteFile, err error) error {
	if as := identity.ActingName(); as != "" && kept(err) {
		e, lookErr := s.files.Stat(at.rel)
		if lookErr == nil && identity.Name(int(e.UID)) != as {
			owner := identity.Name(int(e.UID))
			return &facts.Denied{Doing: "changing it", Lacks: fmt.Sprintf("it belongs to %s, and SQLite opens by name, which is done as %s alone; start weltaxis fix as %s, or have --script write what to run", owner, as, owner)}
		}
	}
	return err
}

// cell reads the value that an edit is about, and whether its row is there.
func (db *database) cell(ctx context.Context, e RowEdit, lock string) (value *string, there bool, err error) {
	st := db.statement("SELECT %s FROM %s", e.Column, e.Table).where("WHERE", e.Where)
	st.text.WriteString(lock)
	count := 0
	err = db.each(ctx, st.text.String(), st.args, func(_ []string, row []sql.NullString) error {
		if count++; row[0].Valid {
			value = &row[0].String
		}
		return nil
	})
	if err == nil && count > 1 {
		err = errors.New("there are several rows, and nothing says which counts")
	}
	if value != nil {
		copied := *value
		value = &copied
	}
	return value, count == 1, err
}

// apply compares, writes and reads again, all in the transaction. What it counts, the row as a whole, and the tables that the catalogue names tell
// whether anything was changed besides; what was not known before ends the transaction with an error, and what was is given to keep before it counts.
func (db *database) apply(ctx context.Context, e RowEdit, keep func(RowEdit) error) error {
	lock := ""
	if db.driver != dialect.SQLite {
		lock = " FOR UPDATE"
	}
	value, there, err := db.cell(ctx, e, lock)
	if err != nil {
		return err
	}
	switch e.state(value, there) {
	case After:
		return nil
	case Other:
		return ErrChanged
	}
	known, err := db.besides(ctx, e)
	if err != nil {
		return err
	}
	if known.Stays != "" {
		return &facts.Denied{Doing: "changing the row", Lacks: known.Stays + ", so it could not be taken back; have --script write what to run"}
	}
	for _, table := range e.besideTables() {
		if !slices.Contains(known.tables, table) {
			known.tables = append(known.tables, table)
		}
	}
	before, err := db.whole(ctx, e)
	if err == nil {
		err = db.hold(ctx, known.tables)
	}
	if err != nil {
		return err
	}
	images, err := db.images(ctx, known.tables)
	if err == nil && e.back {
		err = stillThere(e.Also, images)
	}
	if err != nil {
		return err
	}
	changed, err := db.run(ctx, db.change(e, there))
	if err != nil {
		return err
	}
	if e.Also, err = db.others(ctx, e, known, images, changed, keep != nil); err != nil {
		return err
	}
	err = db.nothingElse(ctx, e, known, before)
	if err == nil && len(e.Also) > 0 && !e.back {
		err = keep(e)
	}
	return err
}

// run runs a statement, and tells how many rows were changed, as far as that is counted.
func (db *database) run(ctx context.Context, st *statement) (changed int64, err error) {
	counted, err := db.counted(ctx)
	if err != nil {
		return 0, err
	}
	done, err := db.conn.ExecContext(ctx, st.text.String(), st.args...)
	if err == nil && db.driver == dialect.PostgreSQL { // what waits for the end of the transaction happens now
		_, err = db.conn.ExecContext(ctx, "SET CONSTRAINTS ALL IMMEDIATE")
	}
	if err != nil {
		return 0, err
	}
	if changed, err = db.since(ctx, counted); err != nil {
		return 0, err
	}
	if n, err := done.RowsAffected(); err == nil {
		changed = max(n, changed)
	}
	return changed, nil
}

func refusedFor(n int64, because string) error {
	return fmt.Errorf("it would change %d rows besides%s; nothing was changed, and undo could not take that back: have --script write what to run", n, because)
}

// because says what was known of a table before.
func (b Besides) because() string {
	if len(b.Says) == 0 {
		return ""
	}
	return " (" + strings.Join(b.Says, ", ") + ")"
}

// others are the other rows that a statement has changed; where the edit takes one back, they are brought back.
func (db *database) others(ctx context.Context, e RowEdit, known Besides, before map[string]image, changed int64, kept bool) ([]Beside, error) {
	if !e.back {
		if err := db.took(ctx, e, known); err != nil {
			return nil, err
		}
	}
	switch {
	case changed < 1 && known.Other:
		return nil, errors.New("this database does not count what is changed, so what else would be is not known" + known.because() + "; nothing was changed: have --script write what to run")
	case len(known.tables) == 0 && changed > 1:
		return nil, refusedFor(changed-1, known.because())
	case len(known.tables) == 0:
		return nil, nil
	}
	unnamed, err := db.notNamed(ctx, known.tables)
	switch {
	case err != nil:
		return nil, err
	case len(unnamed) > 0:
		return nil, fmt.Errorf("it would change rows of %s, of which nothing had told%s; nothing was changed: have --script write what to run", strings.Join(unnamed, ", "), known.because())
	case e.back:
		return e.Also, db.bringBack(ctx, e, known.table, known.tables, before)
	}
	after, err := db.images(ctx, known.tables)
	if err != nil {
		return nil, err
	}
	also := db.besidesOf(e, known.table, before, after)
	if at := slices.IndexFunc(also, func(b Beside) bool { return !b.kept() }); at >= 0 {
		return nil, fmt.Errorf("it would change a row of %s, whose text is no UTF-8 and could not be kept as it is%s; nothing was changed: have --script write what to run", also[at].Table, known.because())
	}
	switch n := int64(len(also)); {
	case db.driver == dialect.MySQL && changed-1 > n:
		return nil, fmt.Errorf("it would change %d rows besides%s, of which only %d can be found; nothing was changed, and undo could not take that back: have --script write what to run", changed-1, known.because(), n)
	case n > maxBeside || n > 0 && !kept:
		return nil, refusedFor(n, known.because())
	}
	return also, nil
}

// took is an error where the row of an edit does not hold what it was to hold.
func (db *database) took(ctx context.Context, e RowEdit, known Besides) error {
	value, there, err := db.cell(ctx, e, "")
	if err == nil && e.state(value, there) != After {
		err = errors.New("the database took the new value and holds another" + known.because() + "; nothing was changed")
	}
	return err
}

// nothingElse is an error where the row of an edit does not hold what it was to hold, or something else that was not known before.
func (db *database) nothingElse(ctx context.Context, e RowEdit, known Besides, before map[string]*string) error {
	if err := db.took(ctx, e, known); err != nil {
		return err
	}
	after, err := db.whole(ctx, e)
	if err != nil || before == nil || after == nil {
		return err
	}
	allowed := slices.Concat(known.derived, slices.Collect(maps.Keys(e.Rest)), []string{e.Column})
	if others := differing(before, after, allowed...); len(others) > 0 {
		return fmt.Errorf("it would change %s of the same row besides%s; nothing was changed: have --script write what to run", strings.Join(others, ", "), known.because())
	}
	for column, want := range e.Again() {
		if !same(after[column], want) {
			return fmt.Errorf("the database puts something else into %s than was there%s; nothing was taken back", column, known.because())
		}
	}
	return nil
}

// change is the statement for an edit: a row is put in, changed, or taken out.
func (db *database) change(e RowEdit, there bool) *statement {
	switch {
	case e.Insert && !there:
		columns, marks := "", ""
		st := db.statement("INSERT INTO %s", e.Table)
		for _, column := range append(slices.Sorted(maps.Keys(e.Where)), e.Column) {
			value := e.Where[column]
			if column == e.Column {
				value = *e.New
			}
			if columns != "" {
				columns, marks = columns+", ", marks+", "
			}
			columns += db.quoted(column)
			marks += st.mark(value)
		}
		fmt.Fprintf(&st.text, " (%s) VALUES (%s)", columns, marks)
		return st
	case e.Insert && e.New == nil:
		return db.statement("DELETE FROM %s", e.Table).where("WHERE", e.Where)
	}
	st := db.statement("UPDATE %s SET ", e.Table)
	set := func(column string, value *string) {
		st.text.WriteString(db.quoted(column) + " = ")
		if value == nil {
			st.text.WriteString("NULL")
		} else {
			st.text.WriteString(st.mark(*value))
		}
	}
	set(e.Column, e.New)
	for _, column := range slices.Sorted(maps.Keys(e.Again())) {
		st.text.WriteString(", ")
		set(column, e.Rest[column])
	}
	return st.where("WHERE", e.Where)
}

// A Client is the command that takes SQL for a database, for a script that a person runs. The password stands in the
// program's own configuration.
type Client struct {
	Driver, Command string
}

// Clients are those of every database whose place is known.
func (s *Installation) Clients() map[string]Client {
	clients := map[string]Client{}
	for name := range s.Dialect.Databases {
		at, err := s.resolved(name)
		if err != nil {
			continue
		}
		host, port, err := net.SplitHostPort(at.Host)
		if err != nil {
			host, port = at.Host, at.Port
		}
		switch { // a socket may stand where a host or a port does
		case path.IsAbs(host):
			host, port, at.Socket = "", "", host
		case path.IsAbs(port):
			host, port, at.Socket = "", "", port
		}
		var command []string
		option := func(name, value string) {
			if value != "" {
				command = append(command, name+shellescape.Quote(value))
			}
		}
		switch at.Driver {
		case dialect.SQLite:
			command = []string{"sqlite3 -bail -batch -cmd '.timeout 10000' " + shellescape.Quote("./"+strings.TrimLeft(at.SQLite, "/"))}
		case dialect.MySQL:
			command = []string{"mysql --batch --default-character-set=utf8mb4"}
			option("--host=", host)
			option("--port=", port)
			option("--socket=", at.Socket)
			option("--user=", at.User)
			option("--database=", at.Name)
		case dialect.PostgreSQL:
			command = []string{"psql -q -X -w -v ON_ERROR_STOP=1"}
			if folder, file := path.Split(at.Socket); strings.HasPrefix(file, ".s.PGSQL.") { // libpq names the folder
				at.Socket, port = path.Clean(folder), strings.TrimPrefix(file, ".s.PGSQL.")
			}
			option("--host=", cmp.Or(host, at.Socket))
			option("--port=", port)
			option("--username=", at.User)
			option("--dbname=", at.Name)
		}
		clients[name] = Client{at.Driver, strings.Join(command, " ")}
	}
	return clients
}

// Within lists what the dialect names that lies in a folder below the root, or around it: files of stores, folders of
// records, databases.
func (s *Installation) Within(folder string) []string {
	clean := func(name string) string { return path.Clean("/" + filepath.ToSlash(name)) }
	in := func(a, b string) bool { return a == b || strings.HasPrefix(a, strings.TrimSuffix(b, "/")+"/") }
	cache := clean(folder)
	var found []string
	note := func(what, name string) {
		if at := clean(name); name != "" && (in(at, cache) || in(cache, at)) {
			found = append(found, what)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Dialect.Stores)) {
		st := s.Dialect.Stores[name]
		note("the store "+name, st.File)
		note("the store "+name, st.Folder)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Dialect.Databases)) {
		if at, err := s.resolved(name); err == nil && at.Driver == dialect.SQLite {
			note("the database "+name, at.SQLite)
		}
	}
	return found
}
