package store

import (
	"database/sql"
	"path/filepath"
	"strconv"
	"testing"

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
	}
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
