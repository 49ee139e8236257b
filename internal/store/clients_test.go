package store

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
)

// TestClientsOfDatabases: a shell takes each command apart into the words that were meant, whatever the site calls its database.
func TestClientsOfDatabases(t *testing.T) {
	for name, c := range map[string]struct {
		at   dialect.Database
		want []string
	}{
		"a file":                {dialect.Database{SQLite: "data/site.db"}, []string{"sqlite3", "-bail", "-batch", "-cmd", ".timeout 10000", "./data/site.db"}},
		"a file from above":     {dialect.Database{SQLite: "/data/it's $(touch x).db"}, []string{"sqlite3", "-bail", "-batch", "-cmd", ".timeout 10000", "./data/it's $(touch x).db"}},
		"a file like an option": {dialect.Database{Driver: dialect.SQLite, SQLite: "-init.db"}, []string{"sqlite3", "-bail", "-batch", "-cmd", ".timeout 10000", "./-init.db"}},
		"host and port": {dialect.Database{Driver: dialect.MySQL, Host: "db.example:3307", Name: "site", User: "app"},
			[]string{"mysql", "--batch", "--default-character-set=utf8mb4", "--host=db.example", "--port=3307", "--user=app", "--database=site"}},
		"a port of its own": {dialect.Database{Driver: dialect.MySQL, Host: "127.0.0.1", Port: "3307", Name: "site"},
			[]string{"mysql", "--batch", "--default-character-set=utf8mb4", "--host=127.0.0.1", "--port=3307", "--database=site"}},
		"a socket": {dialect.Database{Driver: dialect.MySQL, Socket: "/run/my sql/s", Name: "site"},
			[]string{"mysql", "--batch", "--default-character-set=utf8mb4", "--socket=/run/my sql/s", "--database=site"}},
		"a socket as host": {dialect.Database{Driver: dialect.PostgreSQL, Host: "/run/postgresql", Name: "site"},
			[]string{"psql", "-q", "-X", "-w", "-v", "ON_ERROR_STOP=1", "--host=/run/postgresql", "--dbname=site"}},
		"a socket as port": {dialect.Database{Driver: dialect.MySQL, Host: "localhost:/run/x.sock", Name: "site"},
			[]string{"mysql", "--batch", "--default-character-set=utf8mb4", "--socket=/run/x.sock", "--database=site"}},
		"a socket file": {dialect.Database{Driver: dialect.PostgreSQL, Socket: "/run/postgresql/.s.PGSQL.5433", Name: "site"},
			[]string{"psql", "-q", "-X", "-w", "-v", "ON_ERROR_STOP=1", "--host=/run/postgresql", "--port=5433", "--dbname=site"}},
		"hostile": {dialect.Database{Driver: dialect.PostgreSQL, Host: "h; touch x", Port: "`id`", Name: "-c \\! touch x", User: "a'b\"c\nd"},
			[]string{"psql", "-q", "-X", "-w", "-v", "ON_ERROR_STOP=1", "--host=h; touch x", "--port=`id`", "--username=a'b\"c\nd", "--dbname=-c \\! touch x"}},
		"nothing said": {dialect.Database{Driver: dialect.PostgreSQL}, []string{"psql", "-q", "-X", "-w", "-v", "ON_ERROR_STOP=1"}},
	} {
		s := Installation{Dialect: &dialect.Dialect{Databases: map[string]dialect.Database{"main": c.at}}}
		client := s.Clients()["main"]
		out, err := exec.Command("sh", "-c", `printf '%s\0' `+client.Command).Output()
		require.NoError(t, err, name)
		assert.Equal(t, c.want, strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00"), name)
	}
	secret := Installation{Dialect: &dialect.Dialect{Databases: map[string]dialect.Database{"main": {Driver: dialect.MySQL, Password: "MARKED"}}}}
	assert.NotContains(t, secret.Clients()["main"].Command, "MARKED")
}

// TestWhatLiesInOrAroundAFolder is what no cache may be.
func TestWhatLiesInOrAroundAFolder(t *testing.T) {
	s := Installation{Dialect: &dialect.Dialect{
		Stores:    map[string]dialect.Store{"ini": {File: "conf/site.ini"}, "pages": {Folder: "content/pages/"}},
		Databases: map[string]dialect.Database{"main": {SQLite: "/data/main.db"}, "far": {Driver: dialect.MySQL, Name: "content"}},
	}}
	for folder, want := range map[string]string{
		"conf": "the store ini", "conf/": "the store ini", "./conf": "the store ini", "conf/site.ini": "the store ini", "content": "the store pages", "content/pages": "the store pages",
		"content/pages/deep": "the store pages", "data": "the database main", "data/../conf": "the store ini",
		"con": "", "conf-cache": "", "content/pages-kept": "", "data2": "", "cache": "",
	} {
		assert.Equal(t, want, strings.Join(s.Within(folder), ", "), folder)
	}
	assert.Len(t, s.Within("."), 3)
}
