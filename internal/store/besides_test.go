package store

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
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
		says: "the trigger noted runs", wrong: "it would change 1 rows besides (the trigger noted runs)", other: true},
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
		says: "the trigger begins runs", wrong: "it would change 1 rows besides (the trigger begins runs)", other: true},
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
	{name: "rows that refer to it", make: []string{"sqlite:CREATE TABLE r (v TEXT REFERENCES o (v) ON UPDATE CASCADE)", "mysql:ALTER TABLE o ADD UNIQUE (v)", "mysql:CREATE TABLE r (v VARCHAR(200) REFERENCES o (v) ON UPDATE CASCADE)", "postgresql:ALTER TABLE o ADD UNIQUE (v)", "postgresql:CREATE TABLE r (v TEXT REFERENCES o (v) ON UPDATE CASCADE)"},
		says: "rows of r refer to it", other: true},
	{name: "a table that takes nothing back", only: "mysql", make: []string{"mysql:ALTER TABLE o ENGINE = MyISAM"}, wrong: "which takes nothing back"},
	{name: "a trigger on such a table", only: "mysql", make: []string{"mysql:ALTER TABLE log ENGINE = Aria TRANSACTIONAL = 0", "mysql:CREATE TRIGGER logs AFTER UPDATE ON o FOR EACH ROW INSERT INTO log VALUES (NEW.k)"}, says: "the trigger logs runs", wrong: "the trigger logs changes the table log", other: true},
	{name: "a trigger that calls", only: "mysql", make: []string{"mysql:ALTER TABLE log ENGINE = MyISAM", "mysql:CREATE PROCEDURE p() INSERT INTO log VALUES ('x')", "mysql:CREATE TRIGGER calls AFTER UPDATE ON o FOR EACH ROW CALL p()"}, says: "the trigger calls runs", wrong: "calls something that may change the table log", other: true},
	{name: "rows of their own", only: "postgresql", make: []string{"postgresql:ALTER TABLE o ENABLE ROW LEVEL SECURITY"}, says: "row-level security"},
}

// besidesTables are in every database of those tests.
var besidesTables = []string{"CREATE TABLE o (k VARCHAR(100) PRIMARY KEY, v VARCHAR(200), who VARCHAR(100))", "CREATE TABLE log (k VARCHAR(100))", "INSERT INTO o VALUES ('title', 'Old', 'wren'), ('robots', 'index', 'wren')"}

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
				for _, table := range []string{"r", "o", "log"} {
					execute("DROP TABLE IF EXISTS " + table)
				}
				for _, statement := range besidesTables {
					execute(statement)
				}
				for _, statement := range c.make {
					if of, text, _ := strings.Cut(statement, ":"); of == driver {
						execute(text)
					}
				}
				held := func() string {
					return dump(t, db, "SELECT * FROM o ORDER BY k") + dump(t, db, "SELECT * FROM log ORDER BY k")
				}
				before := held()
				s := open()
				defer s.Close()
				planned, err := s.Plan(t.Context(), "o/"+cmp.Or(c.key, "title"), fmt.Sprintf("New %d", i))
				require.NoError(t, err)
				edit, b, err := s.Besides(t.Context(), planned.(RowEdit))
				require.NoError(t, err)
				assert.Contains(t, strings.Join(b.Says, "; "), c.says)
				if c.says == "" && c.name != "a trigger that marks the row" {
					assert.Empty(t, b.Says)
				}
				if c.name != "a trigger that marks the row" {
					assert.Equal(t, c.other, b.Other)
				}
				err = s.Apply(t.Context(), edit)
				if c.wrong != "" {
					require.ErrorContains(t, err, c.wrong)
					assert.Equal(t, before, held(), "nothing was changed")
					return
				}
				require.NoError(t, err)
				assert.NotEqual(t, before, held())
				again := open()
				defer again.Close()
				if made := held(); c.back != "" {
					require.ErrorContains(t, again.Apply(t.Context(), edit.Reversed()), c.back)
					assert.Equal(t, made, held(), "nothing was taken back")
					return
				}
				require.NoError(t, again.Apply(t.Context(), edit.Reversed()))
				assert.Equal(t, before, held(), "all is as it was")
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
