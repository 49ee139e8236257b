package fix

import (
	"database/sql"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/servertest"
	"weltaxis/internal/store"
)

// onDatabase is a site whose title a database holds.
func onDatabase(t *testing.T, at dialect.Database) *pebbles {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pebble.yaml"), []byte("dialect: pebble\nversion: 1\ndatabases: {main: {sqlite: x.db}}\nstores: {o: {database: main, table: o, key: k, value: v}}\nsettings: {site.title: {from: o/title}}\n"), 0o600))
	d, err := dialect.Load("./pebble.yaml", dir)
	require.NoError(t, err)
	return &pebbles{t, d, store.Options{Root: dir, Databases: map[string]dialect.Database{"main": at}}, t.TempDir()}
}

// TestARunWhoseConnectionIsCut at each of 24 messages (300 in the long runs): table, report, journal and undo agree each time, also where nobody could look
// until the next command did.
func TestARunWhoseConnectionIsCut(t *testing.T) {
	points := 6 // in each direction, of both servers
	if os.Getenv("WELTAXIS_SOAK") != "" {
		points = 75
	}
	for _, server := range servertest.Databases(t) {
		db := server.Database(t, "cut")
		for _, statement := range []string{"CREATE TABLE o (k VARCHAR(100) PRIMARY KEY, v VARCHAR(200))", "INSERT INTO o VALUES ('title', 'Old')"} {
			_, err := db.Exec(statement)
			require.NoError(t, err)
		}
		for _, answers := range []bool{false, true} {
			c := servertest.NewCutter(t, "127.0.0.1:"+server.Port)
			c.Answers = answers
			at := dialect.Database{Driver: server.Driver, Host: "127.0.0.1", Port: c.Port(), Name: "cut", User: servertest.Owner, Password: servertest.OwnerPassword}
			try := func(point int64) (messages int64) {
				s := onDatabase(t, at)
				changes := s.plan(newTitle)
				require.Len(t, changes, 1)
				c.CutAt(point)
				report := s.write(changes)
				_, messages = c.Done()
				name := []any{"%s %v %d: %+v", server.Driver, answers, point, report.Outcomes}
				title := titleIn(t, db)
				event := s.event()
				switch report.Outcomes[0].Result {
				case Took:
					assert.Equal(t, "New", title, name...)
					assert.Equal(t, Done, event, name...)
				default:
					assert.Equal(t, "Old", title, name...)
					assert.Contains(t, []string{Failed, ""}, event, name...)
				}
				if title == "New" {
					undone := s.undo(everyOne)
					require.Len(t, undone.Changes, 1, name...)
					assert.True(t, undone.Changes[0].Back, name...)
				}
				require.Equal(t, "Old", titleIn(t, db), name...)
				return messages
			}
			messages := try(-1)
			assert.Greater(t, messages, int64(6), server.Driver)
			for _, point := range servertest.Points(messages, points) {
				try(point)
			}
		}
		// What nobody could look at is begun, until somebody can.
		for title, event := range map[string]string{"New": Done, "Old": Failed, "Another": Begun} {
			s := onDatabase(t, dialect.Database{Driver: server.Driver, Host: "127.0.0.1", Port: server.Port, Name: "cut", User: servertest.Owner, Password: servertest.OwnerPassword})
			changes := s.plan(newTitle)
			env := s.env()
			record := changes[0].logLine()
			require.NoError(t, env.Journal.begin(&record, before{Edits: changes[0].Edits}, env.at))
			env.Journal.Close()
			_, err := db.Exec("UPDATE o SET v = '" + title + "'")
			require.NoError(t, err)
			env = s.env()
			env.Journal.run = "another"
			env.Settle(t.Context())
			env.Journal.Close()
			assert.Equal(t, event, s.event(), title)
			_, err = db.Exec("UPDATE o SET v = 'Old'")
			require.NoError(t, err)
		}
	}
}

// event is what last happened to the last change of the journal; "" where it has none.
func (s *pebbles) event() string {
	s.t.Helper()
	records, err := ReadJournal(s.state)
	require.NoError(s.t, err)
	records = slices.DeleteFunc(records, func(r LogLine) bool { return r.Event == lookedAt })
	if len(records) == 0 {
		return ""
	}
	return records[len(records)-1].Event
}

func titleIn(t *testing.T, db *sql.DB) (title string) {
	t.Helper()
	require.NoError(t, db.QueryRow("SELECT v FROM o WHERE k = 'title'").Scan(&title))
	return title
}

// TestATriggerMakesAChangeDisruptive: what runs besides is in the plan, with the tables that it may change; what it changed is said, and undo brings it
// back with the rest, also what undoing has it write again.
func TestATriggerMakesAChangeDisruptive(t *testing.T) {
	s := onDatabase(t, dialect.Database{SQLite: "x.db"})
	db, err := sql.Open("sqlite", "file:"+filepath.Join(s.options.Root, "x.db"))
	require.NoError(t, err)
	defer db.Close()
	for _, statement := range []string{"CREATE TABLE o (k TEXT PRIMARY KEY, v TEXT)", "CREATE TABLE log (id INTEGER PRIMARY KEY, what TEXT)", "INSERT INTO o VALUES ('title', 'Old'), ('robots', 'index')", "INSERT INTO log VALUES (4, 'begun')",
		"CREATE TRIGGER noted AFTER UPDATE ON o WHEN NEW.k = 'title' BEGIN UPDATE o SET v = 'none' WHERE k = 'robots'; INSERT INTO log (what) VALUES (NEW.v); END"} {
		_, err := db.Exec(statement)
		require.NoError(t, err)
	}
	rows := func() (all string) {
		require.NoError(t, db.QueryRow("SELECT (SELECT group_concat(k || '=' || v, ' ' ORDER BY k) FROM o) || '; ' || (SELECT group_concat(id || ' ' || what, ', ') FROM log)").Scan(&all))
		return all
	}
	before := rows()
	changes := s.plan(newTitle)
	require.Len(t, changes, 1)
	assert.Equal(t, facts.Disruptive, changes[0].Risk)
	assert.Equal(t, []string{"the trigger noted runs", "rows of log, o may change with it"}, changes[0].Besides)
	report := s.write(changes)
	assert.Equal(t, Took, report.Outcomes[0].Result)
	assert.Equal(t, "besides it the database changed rows: 1 of log, 1 of o", report.Outcomes[0].Says)
	assert.Equal(t, "robots=none title=New; 4 begun, 5 New", rows())
	assert.Equal(t, Done, s.event())
	undone := s.undo(everyOne)
	require.Len(t, undone.Changes, 1)
	assert.True(t, undone.Changes[0].Back, undone.Changes[0].Says)
	assert.Equal(t, before, rows())
}
