package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
	"weltaxis/internal/servertest"
)

// besidesCases are tables on which a change of one value does more than that, or looks as if it did. Says is in what the catalogue told before,
// wrong in the error when it is made all the same; "" for one that is made.
var besidesCases = []struct {
	name, only  string // one driver; "" for all
	make        []string
	says, wrong string
	other       bool
	back        string // why it is not taken back
	key         string // of the row; title when it is ""
}{
	{name: "nothing else"},
	{name: "a trigger that changes another row", make: []string{
		"sqlite:CREATE TRIGGER noted AFTER UPDATE ON o BEGIN UPDATE o SET v = 'changed besides' WHERE k = 'robots'; END",
		"mysql:CREATE TRIGGER noted AFTER UPDATE ON o FOR EACH ROW INSERT INTO log VALUES (NEW.k)",
		"postgresql:CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN UPDATE o SET v = 'changed besides' WHERE k = 'robots' AND NEW.k <> 'robots'; RETURN NEW; END $$", "postgresql:CREATE TRIGGER noted AFTER UPDATE ON o FOR EACH ROW EXECUTE FUNCTION note()"},
		says: "the trigger noted runs", wrong: "it would change 1 rows besides (the trigger noted runs", other: true},
	{name: "a trigger that waits for the end", only: "postgresql", make: []string{"postgresql:CREATE FUNCTION later() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log VALUES (NEW.k); RETURN NULL; END $$",
		"postgresql:CREATE CONSTRAINT TRIGGER waiting AFTER UPDATE ON o DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION later()"}, says: "the trigger waiting runs", wrong: "it would change 1 rows besides", other: true},
	{name: "a trigger that changes what is written", make: []string{
		"sqlite:CREATE TRIGGER loud AFTER UPDATE OF v ON o WHEN NEW.v <> upper(NEW.v) BEGIN UPDATE o SET v = upper(v) WHERE k = NEW.k; END",
		"mysql:CREATE TRIGGER loud BEFORE UPDATE ON o FOR EACH ROW SET NEW.v = upper(NEW.v)",
		"postgresql:CREATE FUNCTION loud() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.v := upper(NEW.v); RETURN NEW; END $$", "postgresql:CREATE TRIGGER loud BEFORE UPDATE ON o FOR EACH ROW EXECUTE FUNCTION loud()"},
		says: "the trigger loud runs", wrong: "holds another", other: true},
	{name: "a trigger that only looks", make: []string{
		"sqlite:CREATE TRIGGER looks BEFORE UPDATE ON o WHEN NEW.v = 'never' BEGIN SELECT raise(ABORT, 'no'); END",
		"mysql:CREATE TRIGGER looks BEFORE UPDATE ON o FOR EACH ROW BEGIN IF NEW.v = 'never' THEN SIGNAL SQLSTATE '45000'; END IF; END",
		"postgresql:CREATE FUNCTION looks() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.v = 'never' THEN RAISE 'no'; END IF; RETURN NEW; END $$", "postgresql:CREATE TRIGGER looks BEFORE UPDATE ON o FOR EACH ROW EXECUTE FUNCTION looks()"},
		says: "the trigger looks runs", other: true},
	{name: "a trigger that marks the row", make: []string{
		"sqlite:SELECT 1", // an AFTER trigger of SQLite changes the row once more
		"mysql:CREATE TRIGGER marks BEFORE UPDATE ON o FOR EACH ROW BEGIN IF NEW.who <=> OLD.who THEN SET NEW.who = 'database'; END IF; END",
		"postgresql:CREATE FUNCTION marks() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.who IS NOT DISTINCT FROM OLD.who THEN NEW.who := 'database'; END IF; RETURN NEW; END $$", "postgresql:CREATE TRIGGER marks BEFORE UPDATE ON o FOR EACH ROW EXECUTE FUNCTION marks()"}},
	{name: "a trigger that always marks the row", only: "mysql", make: []string{"mysql:CREATE TRIGGER always BEFORE UPDATE ON o FOR EACH ROW SET NEW.who = 'database'"}, says: "the trigger always runs", other: true, back: "the database puts something else into who"},
	{name: "a trigger of another event", make: []string{
		"sqlite:CREATE TRIGGER other AFTER DELETE ON o BEGIN DELETE FROM log; END", "mysql:CREATE TRIGGER other AFTER DELETE ON o FOR EACH ROW DELETE FROM log",
		"postgresql:CREATE FUNCTION other() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN DELETE FROM log; RETURN NULL; END $$", "postgresql:CREATE TRIGGER other AFTER DELETE ON o FOR EACH ROW EXECUTE FUNCTION other()"}},
	{name: "a trigger on a new row", key: "new", make: []string{
		"sqlite:CREATE TRIGGER begins AFTER INSERT ON o BEGIN INSERT INTO log VALUES (NEW.k); END", "mysql:CREATE TRIGGER begins AFTER INSERT ON o FOR EACH ROW INSERT INTO log VALUES (NEW.k)",
		"postgresql:CREATE FUNCTION begins() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log VALUES (NEW.k); RETURN NULL; END $$", "postgresql:CREATE TRIGGER begins AFTER INSERT ON o FOR EACH ROW EXECUTE FUNCTION begins()"},
		says: "the trigger begins runs", wrong: "it would change 1 rows besides (the trigger begins runs", other: true},
	{name: "a new row", key: "new", make: []string{"sqlite:SELECT 1"}},
	{name: "a trigger for each statement", only: "postgresql", make: []string{"postgresql:CREATE FUNCTION each() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN DELETE FROM o WHERE k = 'robots'; RETURN NULL; END $$",
		"postgresql:CREATE TRIGGER statement AFTER UPDATE ON o FOR EACH STATEMENT EXECUTE FUNCTION each()"}, says: "the trigger statement runs", wrong: "it would change 1 rows besides", other: true},
	{name: "a trigger of another column", make: []string{
		"sqlite:CREATE TRIGGER column_of AFTER UPDATE OF who ON o BEGIN DELETE FROM log; END", "mysql:SELECT 1",
		"postgresql:CREATE FUNCTION cof() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN DELETE FROM log; RETURN NULL; END $$", "postgresql:CREATE TRIGGER column_of AFTER UPDATE OF who ON o FOR EACH ROW EXECUTE FUNCTION cof()"}},
	{name: "a column that is worked out", make: []string{"sqlite:ALTER TABLE o ADD COLUMN size INT GENERATED ALWAYS AS (length(v)) VIRTUAL", "mysql:ALTER TABLE o ADD COLUMN size INT GENERATED ALWAYS AS (char_length(v)) STORED", "postgresql:ALTER TABLE o ADD COLUMN size INT GENERATED ALWAYS AS (length(v)) STORED"},
		says: "column size of the row is worked out anew"},
	{name: "the time of the change", only: "mysql", make: []string{"mysql:ALTER TABLE o ADD COLUMN changed DATETIME(6) DEFAULT '2020-01-01' ON UPDATE CURRENT_TIMESTAMP(6)"}, says: "column changed of the row becomes the time of the change"},
	{name: "a rule", only: "postgresql", make: []string{"postgresql:CREATE RULE also AS ON UPDATE TO o DO ALSO INSERT INTO log VALUES ('x')"}, says: "the rule also puts", wrong: "it would change 1 rows besides", other: true},
	{name: "a rule instead", only: "postgresql", make: []string{"postgresql:CREATE RULE instead AS ON UPDATE TO o DO INSTEAD NOTHING"}, says: "the rule instead puts", wrong: "holds another", other: true},
	{name: "rows that refer to it", make: []string{"sqlite:CREATE UNIQUE INDEX one ON o (v)", "sqlite:CREATE TABLE r (v TEXT REFERENCES o (v) ON UPDATE CASCADE)", "mysql:ALTER TABLE o ADD UNIQUE (v)", "mysql:CREATE TABLE r (v VARCHAR(200) REFERENCES o (v) ON UPDATE CASCADE)", "postgresql:ALTER TABLE o ADD UNIQUE (v)", "postgresql:CREATE TABLE r (v TEXT REFERENCES o (v) ON UPDATE CASCADE)"},
		says: "rows of r refer to it", other: true},
	{name: "a table that takes nothing back", only: "mysql", make: []string{"mysql:ALTER TABLE o ENGINE = MyISAM"}, wrong: "which takes nothing back"},
	{name: "a trigger on such a table", only: "mysql", make: []string{"mysql:ALTER TABLE log ENGINE = Aria TRANSACTIONAL = 0", "mysql:CREATE TRIGGER logs AFTER UPDATE ON o FOR EACH ROW INSERT INTO log VALUES (NEW.k)"}, says: "the trigger logs runs", wrong: "the trigger logs changes the table log", other: true},
	{name: "a trigger that calls", only: "mysql", make: []string{"mysql:ALTER TABLE log ENGINE = MyISAM", "mysql:CREATE PROCEDURE p() INSERT INTO log VALUES ('x')", "mysql:CREATE TRIGGER calls AFTER UPDATE ON o FOR EACH ROW CALL p()"}, says: "the trigger calls runs", wrong: "calls something that may change the table log", other: true},
	{name: "a trigger that sets off another", make: []string{
		"sqlite:CREATE TRIGGER first AFTER UPDATE ON o WHEN NEW.k = 'title' BEGIN INSERT INTO log VALUES (NEW.k); END", "sqlite:CREATE TRIGGER second AFTER INSERT ON log BEGIN UPDATE o SET who = NULL WHERE k = 'robots'; INSERT INTO far (what) VALUES (x'00ff'); END",
		"mysql:CREATE TRIGGER first AFTER UPDATE ON o FOR EACH ROW INSERT INTO log VALUES (NEW.k)", "mysql:CREATE TRIGGER second AFTER INSERT ON log FOR EACH ROW CALL further()", "mysql:CREATE PROCEDURE further() BEGIN INSERT INTO far (what) VALUES (x'00ff'); DELETE FROM far WHERE what = 'goes'; END",
		"postgresql:CREATE FUNCTION second() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM further(); RETURN NULL; END $$", "postgresql:CREATE FUNCTION further() RETURNS int LANGUAGE sql AS $$ INSERT INTO far (what) VALUES (decode('00ff', 'hex')); DELETE FROM far WHERE what = 'goes'; UPDATE o SET who = NULL WHERE k = 'robots'; SELECT 1 $$",
		"postgresql:CREATE FUNCTION first() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.k = 'title' THEN INSERT INTO log VALUES (NEW.k); END IF; RETURN NULL; END $$", "postgresql:CREATE TRIGGER first AFTER UPDATE ON o FOR EACH ROW EXECUTE FUNCTION first()", "postgresql:CREATE TRIGGER second AFTER INSERT ON log FOR EACH ROW EXECUTE FUNCTION second()"},
		says: "far", wrong: "rows besides (the trigger first runs", other: true},
	{name: "a row that is thrown away", make: []string{
		"sqlite:CREATE TRIGGER thrown AFTER UPDATE ON o BEGIN DELETE FROM far; DELETE FROM log WHERE k = 'twice'; END", "mysql:CREATE TRIGGER thrown AFTER UPDATE ON o FOR EACH ROW BEGIN DELETE FROM far; DELETE FROM log WHERE k = 'twice'; END",
		"postgresql:CREATE FUNCTION thrown() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN DELETE FROM far; DELETE FROM log WHERE k = 'twice'; RETURN NULL; END $$", "postgresql:CREATE TRIGGER thrown AFTER UPDATE ON o FOR EACH ROW EXECUTE FUNCTION thrown()"},
		says: "rows of", wrong: "it would change 3 rows besides", other: true},
	{name: "rows that follow it", make: []string{"sqlite:CREATE UNIQUE INDEX one ON o (v)", "sqlite:CREATE TABLE r (v TEXT REFERENCES o (v) ON UPDATE CASCADE, n INT)", "sqlite:INSERT INTO r VALUES ('Old', 1), ('Old', 2), ('index', 3)",
		"mysql:ALTER TABLE o ADD UNIQUE (v)", "mysql:CREATE TABLE r (v VARCHAR(200), n INT, FOREIGN KEY (v) REFERENCES o (v) ON UPDATE CASCADE)", "mysql:INSERT INTO r VALUES ('Old', 1), ('Old', 2), ('index', 3)",
		"postgresql:ALTER TABLE o ADD UNIQUE (v)", "postgresql:CREATE TABLE r (v TEXT REFERENCES o (v) ON UPDATE CASCADE, n INT)", "postgresql:INSERT INTO r VALUES ('Old', 1), ('Old', 2), ('index', 3)"},
		says: "rows of r refer to it", wrong: "rows besides (rows of r refer to it", other: true},
	{name: "a view", make: []string{"sqlite:ALTER TABLE o RENAME TO behind", "sqlite:CREATE VIEW o AS SELECT * FROM behind", "sqlite:CREATE TRIGGER through INSTEAD OF UPDATE ON o BEGIN UPDATE behind SET v = NEW.v, who = 'view' WHERE k = NEW.k; END",
		"mysql:RENAME TABLE o TO behind", "mysql:CREATE VIEW o AS SELECT * FROM behind", "postgresql:ALTER TABLE o RENAME TO behind", "postgresql:CREATE VIEW o AS SELECT * FROM behind"},
		says: "is a view", wrong: "it would change 1 rows besides (o is a view", other: true},
	{name: "a search table", only: "sqlite", make: []string{"sqlite:CREATE VIRTUAL TABLE found USING fts5(k, v)", "sqlite:INSERT INTO found (rowid, k, v) SELECT rowid, k, v FROM o", "sqlite:CREATE TRIGGER found_u AFTER UPDATE ON o BEGIN UPDATE found SET v = NEW.v WHERE rowid = NEW.rowid; END"},
		says: "rows of found", wrong: "rows besides", other: true},
	{name: "what nothing had told of", only: "postgresql", make: []string{"postgresql:CREATE FUNCTION hidden() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN EXECUTE 'INSERT INTO l' || 'og VALUES (''x'')'; RETURN NULL; END $$", "postgresql:CREATE TRIGGER hidden AFTER UPDATE ON o FOR EACH ROW EXECUTE FUNCTION hidden()"},
		says: "the trigger hidden runs", wrong: "of which nothing had told", other: true},
	{name: "what comes back", make: []string{"sqlite:CREATE TRIGGER grows AFTER UPDATE ON o BEGIN INSERT INTO log VALUES ('o'); END", "sqlite:CREATE TRIGGER back AFTER DELETE ON log BEGIN INSERT INTO log VALUES ('again'); END",
		"mysql:SELECT 1",
		"postgresql:CREATE FUNCTION grows() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log VALUES (TG_OP); RETURN NULL; END $$", "postgresql:CREATE TRIGGER grows AFTER UPDATE ON o FOR EACH ROW EXECUTE FUNCTION grows()", "postgresql:CREATE TRIGGER back AFTER DELETE ON log FOR EACH ROW EXECUTE FUNCTION grows()"},
		back: "comes back as often as it is taken back", says: "-"},
	{name: "rows of their own", only: "postgresql", make: []string{"postgresql:ALTER TABLE o ENABLE ROW LEVEL SECURITY"}, says: "row-level security"},
}

// besidesTables are in every database of those tests.
var besidesTables = []string{"CREATE TABLE o (k VARCHAR(100) PRIMARY KEY, v VARCHAR(200), who VARCHAR(100))", "CREATE TABLE log (k VARCHAR(100))", "INSERT INTO log VALUES ('twice'), ('twice'), (NULL)", "INSERT INTO o VALUES ('title', 'Old', 'wren'), ('robots', 'index', 'wren')"}

func besidesDialect(t *testing.T) *dialect.Dialect {
	t.Helper()
	return load(t, "databases: {main: {sqlite: x.db}}\nstores: {o: {database: main, table: o, key: k, value: v}}\nsettings: {site.title: {from: o/title}, site.tagline: {from: o/new}}\n")
}

// TestWhatADatabaseDoesBesides is told before, and rolled back with the change where it was not; a change that does nothing besides is made, and taken
// back with all that the row held.
func TestWhatADatabaseDoesBesides(t *testing.T) {
	try := func(t *testing.T, driver string, db *sql.DB, open func() *Installation) {
		for i, c := range besidesCases {
			if c.only != "" && c.only != driver {
				continue
			}
			t.Run(driver+" "+c.name, func(t *testing.T) {
				execute := func(statement string) {
					_, err := db.Exec(statement)
					require.NoError(t, err, statement)
				}
				afresh(t, driver, db)
				for _, statement := range c.make {
					if of, text, _ := strings.Cut(statement, ":"); of == driver {
						execute(text)
					}
				}
				held := func() (all string) {
					for _, query := range []string{"SELECT * FROM o ORDER BY k", "SELECT * FROM log ORDER BY k", "SELECT * FROM far ORDER BY id", "SELECT * FROM r ORDER BY 1", "SELECT * FROM found"} {
						if table := strings.Fields(query)[3]; slices.ContainsFunc(append(c.make, ":CREATE TABLE o (", ":CREATE TABLE log (", ":CREATE TABLE far ("), func(m string) bool {
							return strings.Contains(m, "TABLE "+table+" (") || strings.Contains(m, "TABLE "+table+" USING")
						}) {
							all += dump(t, db, query)
						}
					}
					return all
				}
				before := held()
				s := open()
				defer s.Close()
				planned, err := s.Plan(t.Context(), "o/"+cmp.Or(c.key, "title"), fmt.Sprintf("New %d", i))
				require.NoError(t, err)
				edit, b, err := s.Besides(t.Context(), planned.(RowEdit))
				require.NoError(t, err)
				if c.says != "-" && c.name != "a trigger that marks the row" {
					assert.Contains(t, strings.Join(b.Says, "; "), c.says)
					assert.Equal(t, c.says == "", len(b.Says) == 0)
					assert.Equal(t, c.other, b.Other)
				}
				var made Edit = edit
				keep := func(e RowEdit) error {
					text, err := json.Marshal(Edits{e})
					require.NoError(t, err)
					var back Edits
					require.NoError(t, json.Unmarshal(text, &back))
					made = back[0]
					return nil
				}
				if err = s.Apply(t.Context(), edit); strings.Contains(c.wrong, "rows besides") {
					require.ErrorContains(t, err, c.wrong)
					assert.Equal(t, before, held(), "nothing was changed where nobody keeps what it was")
					s.Keep = func(RowEdit) error { return errors.New("the disk is full") }
					require.ErrorContains(t, s.Apply(t.Context(), edit), "the disk is full")
					assert.Equal(t, before, held(), "nor where it cannot be kept")
					s.Keep = keep
					err = s.Apply(t.Context(), edit)
				} else if c.says == "-" {
					s.Keep = keep
					err = s.Apply(t.Context(), edit)
				} else if c.wrong != "" {
					s.Keep = keep
					require.ErrorContains(t, s.Apply(t.Context(), edit), c.wrong)
					assert.Equal(t, before, held(), "nothing was changed")
					return
				}
				require.NoError(t, err)
				s.Close()
				assert.NotEqual(t, before, held())
				if c.name == "a trigger on a new row" { // others have been at what it had put in
					execute("UPDATE log SET k = 'else' WHERE k = 'new'")
					left, s := held(), open()
					require.ErrorContains(t, s.Apply(t.Context(), made.Reversed()), "has been changed since")
					s.Close()
					assert.Equal(t, left, held(), "nothing was taken back")
					execute("UPDATE log SET k = 'new' WHERE k = 'else'")
				}
				again := open()
				defer again.Close()
				if left := held(); c.back != "" && !(c.says == "-" && driver == "mysql") {
					require.ErrorContains(t, again.Apply(t.Context(), made.Reversed()), c.back)
					assert.Equal(t, left, held(), "nothing was taken back")
					return
				}
				is, err := again.HoldsBefore(t.Context(), made)
				require.NoError(t, err)
				assert.False(t, is)
				require.NoError(t, again.Apply(t.Context(), made.Reversed()))
				assert.Equal(t, before, held(), "all is as it was")
				last := open()
				defer last.Close()
				is, err = last.HoldsBefore(t.Context(), made)
				require.NoError(t, err)
				assert.True(t, is)
			})
		}
	}
	dir := t.TempDir()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "x.db"))
	require.NoError(t, err)
	defer db.Close()
	try(t, "sqlite", db, func() *Installation {
		s, err := Open(t.Context(), besidesDialect(t), Options{Root: dir})
		require.NoError(t, err)
		return s
	})
	for _, server := range servertest.Databases(t) {
		db := server.Database(t, "besides")
		try(t, server.Driver, db, func() *Installation { return onServer(t, server, server.Port, "besides") })
	}
}

// afresh makes the tables of those tests, and nothing else.
func afresh(t *testing.T, driver string, db *sql.DB) {
	t.Helper()
	kinds := map[string]string{"sqlite": "SELECT type, name FROM sqlite_schema WHERE type IN ('view', 'table') AND name NOT LIKE 'found\\_%' ESCAPE '\\'", "mysql": "SELECT CASE TABLE_TYPE WHEN 'VIEW' THEN 'VIEW' ELSE 'TABLE' END, TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() UNION SELECT 'PROCEDURE', ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE()",
		"postgresql": "SELECT 'SCHEMA', 'public'"}
	var statements []string
	rows, err := db.Query(kinds[driver])
	require.NoError(t, err)
	for rows.Next() {
		var kind, name string
		require.NoError(t, rows.Scan(&kind, &name))
		statements = append(statements, "DROP "+kind+" "+name+map[bool]string{true: " CASCADE"}[driver == "postgresql"])
	}
	require.NoError(t, rows.Err())
	if driver == "postgresql" {
		statements = append(statements, "CREATE SCHEMA public", "CREATE TABLE far (id SERIAL PRIMARY KEY, what BYTEA)")
	}
	slices.SortFunc(statements, func(a, b string) int { return cmp.Compare(strings.Index(b, " r"), strings.Index(a, " r")) }) // what refers goes first
	if driver == "mysql" {
		statements = append(statements, "CREATE TABLE far (id INT AUTO_INCREMENT PRIMARY KEY, what VARBINARY(20))")
	}
	if driver == "sqlite" {
		statements = append(statements, "CREATE TABLE far (id INTEGER PRIMARY KEY, what BLOB)")
	}
	for _, statement := range append(statements, append(besidesTables, "INSERT INTO far (what) VALUES ('goes')")...) {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
}

func onServer(t *testing.T, server *servertest.DatabaseServer, port, name string) *Installation {
	t.Helper()
	s, err := Open(t.Context(), besidesDialect(t), Options{Root: t.TempDir(), Databases: map[string]dialect.Database{"main": {Driver: server.Driver, Host: "127.0.0.1", Port: port, Name: name, User: servertest.Owner, Password: servertest.OwnerPassword}}})
	require.NoError(t, err)
	require.Empty(t, s.Troubles())
	return s
}

// dump is what a query gives, as text.
func dump(t *testing.T, db *sql.DB, query string) string {
	t.Helper()
	rows, err := db.Query(query)
	require.NoError(t, err)
	defer rows.Close()
	columns, err := rows.Columns()
	require.NoError(t, err)
	var b strings.Builder
	for rows.Next() {
		cells, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
		for i := range cells {
			into[i] = &cells[i]
		}
		require.NoError(t, rows.Scan(into...))
		fmt.Fprintln(&b, cells)
	}
	require.NoError(t, rows.Err())
	return b.String()
}

// TestTheAnswerIsLost cuts the connection at each message of a change: what is said agrees with the table each time. There are 12 points in each direction of both
// servers, and all there are up to 75 in the long runs.
func TestTheAnswerIsLost(t *testing.T) {
	points := 12
	if os.Getenv("WELTAXIS_SOAK") != "" {
		points = 75
	}
	for _, server := range servertest.Databases(t) {
		db := server.Database(t, "lost")
		for _, statement := range besidesTables {
			_, err := db.Exec(statement)
			require.NoError(t, err)
		}
		for _, answers := range []bool{false, true} {
			c := servertest.NewCutter(t, "127.0.0.1:"+server.Port)
			c.Answers = answers
			port := c.Port()
			value := func() string { return dump(t, db, "SELECT v FROM o WHERE k = 'title'") }
			made, cut, messages := 0, 0, int64(0)
			try := func(name string, at int64) {
				s := onServer(t, server, port, "lost")
				defer s.Close()
				edit, err := s.Plan(t.Context(), "o/title", name)
				require.NoError(t, err)
				was := value()
				c.CutAt(at)
				err = s.Apply(t.Context(), edit)
				cutNow, seen := c.Done()
				messages = max(messages, seen)
				is := value()
				if err == nil {
					assert.Equal(t, "[{"+name+" true}]\n", is, "%s %v %d: it says that it was made", server.Driver, answers, at)
					made++
				} else {
					assert.Equal(t, was, is, "%s %v %d: it says that it was not: %v", server.Driver, answers, at, err)
				}
				if cutNow {
					cut++
				}
			}
			try("whole", -1)
			for _, at := range servertest.Points(messages, points) {
				try(fmt.Sprintf("v%d%v", at, answers), at)
			}
			assert.Greater(t, cut, 5, server.Driver)
			assert.Positive(t, made)
		}
		// Where nobody can look either, it is said not to be known.
		c := servertest.NewCutter(t, "127.0.0.1:"+server.Port)
		port := c.Port()
		s := onServer(t, server, port, "lost")
		edit, err := s.Plan(t.Context(), "o/title", "nobody knows")
		require.NoError(t, err)
		require.NoError(t, s.Apply(t.Context(), edit))
		lost := &lostAnswer{context.DeadlineExceeded}
		c.Shut()
		unsure := (*Unsure)(nil)
		assert.ErrorAs(t, s.settled(t.Context(), edit.(RowEdit), lost), &unsure)
		s.Close()
	}
}
