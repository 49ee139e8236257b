package store

import (
	"database/sql"
	"fmt"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
	"weltaxis/internal/servertest"
)

func fill(t *testing.T, db *sql.DB) {
	t.Helper()
	for _, statement := range []string{"CREATE TABLE settings (word VARCHAR(50) PRIMARY KEY, content TEXT)", "CREATE TABLE people (id INTEGER PRIMARY KEY, nick TEXT)",
		"INSERT INTO settings VALUES ('title', 'Old'), ('empty', NULL)", "INSERT INTO people VALUES (1, 'a')"} {
		_, err := db.Exec(statement)
		require.NoError(t, err)
	}
}

// TestADatabaseIsExplored wherever it is, by a user who may only read.
func TestADatabaseIsExplored(t *testing.T) {
	held := func(t *testing.T, at dialect.Database, options Options) {
		t.Helper()
		tables, err := Explore(t.Context(), at, options)
		require.NoError(t, err)
		require.Len(t, tables, 2)
		assert.Equal(t, "people", tables[0].Name)
		assert.Equal(t, Table{Name: "settings", Columns: []string{"word", "content"}, Rows: tables[1].Rows}, tables[1])
		assert.ElementsMatch(t, [][]string{{"title", "Old"}, {"empty", ""}}, tables[1].Rows)
	}
	dir := t.TempDir()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "x.db"))
	require.NoError(t, err)
	fill(t, db)
	require.NoError(t, db.Close())
	held(t, dialect.Database{SQLite: "x.db"}, Options{Root: dir})
	for _, server := range servertest.Databases(t) {
		fill(t, server.Database(t, "explored"))
		at := dialect.Database{Driver: server.Driver, Host: "127.0.0.1", Port: server.Port, Name: "explored", User: servertest.Reader, Password: servertest.ReaderPassword}
		held(t, at, Options{})
		for name, c := range map[string]struct {
			spoil func(*dialect.Database)
			want  string
		}{
			"password": {func(d *dialect.Database) { d.Password = "MARKED-wrong" }, "name or password were not accepted"},
			"database": {func(d *dialect.Database) { d.Name = "none" }, "that database"},
			"nobody":   {func(d *dialect.Database) { d.Port = "1" }, "nobody listens there"},
			"host":     {func(d *dialect.Database) { d.Host = "192.0.2.1" }, "hosts: [192.0.2.1]"},
		} {
			wrong := at
			c.spoil(&wrong)
			_, err := Explore(t.Context(), wrong, Options{})
			require.Error(t, err, server.Driver+" "+name)
			assert.NotContains(t, err.Error(), "MARKED")
			if name != "database" {
				assert.ErrorContains(t, err, c.want, server.Driver+" "+name)
			}
		}
		_, err := Explore(t.Context(), at, Options{Offline: true})
		assert.ErrorContains(t, err, "--offline")
		readsOnly(t, server, at)
		queriesMeanTheSame(t, at, Options{})
		queriesEnd(t, server, at)
		saysWhichRightIsLacking(t, at)
	}
	queriesMeanTheSame(t, dialect.Database{Driver: dialect.SQLite, SQLite: "x.db"}, Options{Root: dir})
}

// asking opens an installation whose one database that is.
func asking(t *testing.T, at dialect.Database, options Options) *Installation {
	t.Helper()
	s, err := Open(t.Context(), &dialect.Dialect{Name: "own", Version: 1, Databases: map[string]dialect.Database{"main": at}}, options)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// queriesMeanTheSame holds that a query of a dialect gives the same on every server.
func queriesMeanTheSame(t *testing.T, at dialect.Database, options Options) {
	t.Helper()
	s := asking(t, at, options)
	for query, want := range map[string]string{
		"SELECT count(*) FROM settings WHERE content IS NULL": "1", "SELECT content FROM settings WHERE word = 'title'": "Old", "SELECT coalesce(content, 'none') FROM settings WHERE word = 'empty'": "none",
		"SELECT CAST(count(DISTINCT nick) AS TEXT) FROM people": "1", "SELECT upper(trim(replace(content, 'l', 'L '))) FROM settings WHERE word = 'title'": "OL D", "SELECT substr(content, 2, 1) FROM settings WHERE word = 'title'": "l",
		"SELECT CASE WHEN EXISTS (SELECT 1 FROM people WHERE id = 1) THEN 'yes' ELSE 'no' END FROM settings WHERE word = 'title'": "yes", "SELECT p.nick FROM people p JOIN settings s ON s.word = 'title' AND p.id = 1": "a",
		`SELECT count(*) FROM settings WHERE word = 'it''s \'`: "0", "SELECT nick FROM people WHERE id IN (1, 2) ORDER BY id DESC LIMIT 1": "a", "SELECT sum(id) + 2 * 3 - 1 FROM people WHERE id = 1": "6", "SELECT abs(-3) FROM people WHERE id = 1": "3",
		"SELECT max(id) FROM people WHERE id BETWEEN 0 AND 1 AND NOT id = 0": "1", "SELECT coalesce(nullif(nick, 'a'), 'same') FROM people WHERE id = 1": "same", "SELECT count(*) FROM people WHERE id <> 1 AND (nick = 'b' OR TRUE) AND FALSE": "0",
		"SELECT CAST('12' AS INTEGER) + 1 FROM people WHERE id = 1": "13", "SELECT lower(Content) FROM settings LEFT JOIN people ON people.id = 99 WHERE word = 'title' AND people.id IS NULL GROUP BY content": "old",
	} {
		found, err := s.Query(t.Context(), query)
		require.NoError(t, err, "%s: %s", at.Driver, query)
		assert.Equal(t, want, found.Value, "%s: %s", at.Driver, query)
	}
}

// queriesEnd holds that one without an end is ended, by the server too.
func queriesEnd(t *testing.T, server *servertest.DatabaseServer, at dialect.Database) {
	t.Helper()
	owner := server.Open(t, servertest.Owner, servertest.OwnerPassword, at.Name)
	var rows strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&rows, ",(%d,'n')", i+100)
	}
	_, err := owner.Exec("INSERT INTO people VALUES " + rows.String()[1:])
	require.NoError(t, err)
	began := time.Now()
	_, err = asking(t, at, Options{}).Query(t.Context(), "SELECT count(*) FROM people a JOIN people b ON a.id <> b.id JOIN people c ON c.id <> a.id JOIN people d ON d.id <> c.id")
	assert.ErrorContains(t, err, "too long", server.Driver)
	assert.Less(t, time.Since(began), 4*askedTime)
	running := "SELECT count(*) FROM information_schema.processlist WHERE info LIKE '%JOIN%people%' AND info NOT LIKE '%processlist%'"
	if server.Driver == dialect.PostgreSQL {
		running = "SELECT count(*) FROM pg_stat_activity WHERE state = 'active' AND query LIKE '%JOIN%people%' AND query NOT LIKE '%pg_stat_activity%'"
	}
	assert.Eventually(t, func() bool {
		var n int
		return owner.QueryRow(running).Scan(&n) == nil && n == 0
	}, 4*askedTime, 100*time.Millisecond, "%s goes on with it", server.Driver)
}

// saysWhichRightIsLacking of somebody who may only read.
func saysWhichRightIsLacking(t *testing.T, at dialect.Database) {
	t.Helper()
	db, err := (&Installation{Dialect: &dialect.Dialect{}}).connect(at)
	require.NoError(t, err)
	defer db.close()
	_, err = db.pool.Exec("UPDATE settings SET content = 'x'")
	require.Error(t, err)
	assert.ErrorContains(t, explainWriting(err), "changing the row was refused: this user of the database lacks the right to", at.Driver)
	assert.ErrorContains(t, explainWriting(err), "UPDATE")
	assert.ErrorIs(t, explainWriting(err), fs.ErrPermission)
}

// readsOnly holds that what reads cannot write, even as the owner.
func readsOnly(t *testing.T, server *servertest.DatabaseServer, at dialect.Database) {
	t.Helper()
	at.User, at.Password = servertest.Owner, servertest.OwnerPassword
	s := &Installation{Dialect: &dialect.Dialect{}}
	db, err := s.openServer(t.Context(), at)
	require.NoError(t, err)
	defer db.close()
	_, err = db.conn.ExecContext(t.Context(), "UPDATE settings SET content = 'New'")
	assert.Error(t, err, server.Driver)
}

func TestDocumentsInsideValues(t *testing.T) {
	for text, want := range map[string]string{`{"a": 1}`: "json", `[1, 2]`: "json", `a:1:{i:0;i:1;}`: "serialised", `{broken`: "", "about": "", "": "", "[x]": "", strconv.Quote("text"): ""} {
		name, is := IsDocument(text)
		assert.Equal(t, want != "", is, text)
		if is {
			assert.Equal(t, want, name)
		}
	}
}
