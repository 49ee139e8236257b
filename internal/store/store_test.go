package store

import (
	"database/sql"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
)

func load(t *testing.T, text string) *dialect.Dialect {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "d.yaml"), []byte("dialect: d\nversion: 1\n"+text), 0o600))
	d, err := dialect.Load("./d.yaml", dir)
	require.NoError(t, err)
	return d
}

// An offering is a content system that gives and takes its settings over HTTP.
type offering struct {
	document, token, tag string
	puts                 int
}

func (o *offering) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Header.Get("Authorization") != "Bearer "+o.token {
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	switch {
	case r.URL.Path == "/moved":
		http.Redirect(w, r, "/v1/settings", http.StatusFound)
	case r.Method == http.MethodPut && r.Header.Get("If-Match") != o.tag:
		w.WriteHeader(http.StatusPreconditionFailed)
	case r.Method == http.MethodPut:
		data, _ := io.ReadAll(r.Body)
		o.document, o.puts = string(data), o.puts+1
	default:
		w.Header().Set("ETag", o.tag)
		_, _ = io.WriteString(w, o.document)
	}
}

const overHTTP = "stores:\n  api: {api: /v1/settings, format: json}\n  moved: {api: /moved, format: json}\nsettings:\n  site.title: {from: api/site.title}\n"

func TestSettingsOverHTTP(t *testing.T) {
	o := &offering{document: `{"site": {"title": "Old"}, "n": 1}`, token: "marked-token", tag: `"1"`}
	server := httptest.NewServer(o)
	defer server.Close()
	d := load(t, overHTTP)
	s, err := Open(t.Context(), d, Options{API: server.URL, Token: "marked-token", Client: server.Client()})
	require.NoError(t, err)
	defer s.Close()
	found, err := s.Look("api/site.title")
	require.NoError(t, err)
	assert.Equal(t, "Old", found.Value)
	_, err = s.Look("moved/site.title")
	assert.ErrorIs(t, err, ErrUnseen, "a redirect is not followed: the token is for one address")

	edit, err := s.Plan(t.Context(), "api/site.title", "New")
	require.NoError(t, err)
	require.NoError(t, s.Apply(t.Context(), edit))
	assert.JSONEq(t, `{"site": {"title": "New"}, "n": 1}`, o.document)
	require.NoError(t, s.Apply(t.Context(), edit))
	assert.Equal(t, 1, o.puts, "what is there already is not put again")
	require.NoError(t, s.Apply(t.Context(), edit.Reversed()))
	assert.JSONEq(t, `{"site": {"title": "Old"}, "n": 1}`, o.document)
	o.document = `{"site": {"title": "Theirs"}}`
	assert.ErrorIs(t, s.Apply(t.Context(), edit), ErrChanged)

	for name, c := range map[string]struct {
		options Options
		want    string
	}{
		"wrong token": {Options{API: server.URL, Token: "wrong", Client: server.Client()}, "Unauthorized"},
		"offline":     {Options{API: server.URL, Client: server.Client(), Offline: true}, "--offline"},
		"nowhere":     {Options{}, "api under sources.settings"},
	} {
		s, err := Open(t.Context(), d, c.options)
		require.NoError(t, err, name)
		require.NotEmpty(t, s.Troubles(), name)
		assert.ErrorContains(t, s.Troubles()[0].Err, c.want, name)
	}
}

// TestTwoEditsOfADocumentOverHTTP: each is taken back by itself, with what somebody has changed in between; and what
// somebody has changed in the same line stays.
func TestTwoEditsOfADocumentOverHTTP(t *testing.T) {
	const start = "{\n  \"site\": {\"title\": \"Old\"},\n  \"lines\": 7,\n  \"n\": 1\n}\n"
	o := &offering{document: start, token: "marked-token", tag: `"1"`}
	server := httptest.NewServer(o)
	defer server.Close()
	d := load(t, overHTTP)
	open := func() *Installation {
		s, err := Open(t.Context(), d, Options{API: server.URL, Token: "marked-token", Client: server.Client()})
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		return s
	}
	first, err := open().Plan(t.Context(), "api/site.title", "New")
	require.NoError(t, err)
	require.NoError(t, open().Apply(t.Context(), first))
	second, err := open().Plan(t.Context(), "api/n", int64(2))
	require.NoError(t, err)
	require.NoError(t, open().Apply(t.Context(), second))
	o.document = strings.Replace(o.document, "7", "8", 1)

	back, err := open().Rebase(t.Context(), first.Reversed())
	require.NoError(t, err)
	require.NoError(t, open().Apply(t.Context(), back))
	back, err = open().Rebase(t.Context(), second.Reversed())
	require.NoError(t, err)
	require.NoError(t, open().Apply(t.Context(), back))
	assert.Equal(t, strings.Replace(start, "7", "8", 1), o.document)

	require.NoError(t, open().Apply(t.Context(), back.Reversed()))
	o.document = strings.Replace(o.document, `"n": 2`, `"n": 3`, 1)
	_, err = open().Rebase(t.Context(), second.Reversed())
	assert.ErrorIs(t, err, ErrChanged)
	row := RowEdit{Old: new(string)}
	_, err = open().Rebase(t.Context(), row)
	assert.ErrorIs(t, err, ErrChanged, "a row has no lines")
	_, err = open().Rebase(t.Context(), FileEdit{Before: []byte("a")})
	assert.ErrorIs(t, err, ErrChanged, "nor has what is made or removed")
}

func TestAddressesOfDatabases(t *testing.T) {
	s := &Installation{Options: Options{Hosts: []string{"db.internal.example"}}}
	for _, c := range []struct {
		at   dialect.Database
		want string // network and address, or the error
	}{
		{dialect.Database{Driver: dialect.MySQL, Host: "127.0.0.1"}, "tcp 127.0.0.1:3306"},
		{dialect.Database{Driver: dialect.PostgreSQL, Host: "::1", Port: "5433"}, "tcp [::1]:5433"},
		{dialect.Database{Driver: dialect.MySQL, Host: "127.0.0.1:3307"}, "tcp 127.0.0.1:3307"},
		{dialect.Database{Driver: dialect.MySQL, Host: "localhost", Port: "3306"}, "tcp localhost:3306"},
		{dialect.Database{Driver: dialect.MySQL, Host: "localhost:/run/x.sock"}, "unix /run/x.sock"},
		{dialect.Database{Driver: dialect.PostgreSQL, Socket: "/run/nowhere/.s.PGSQL.5432"}, "unix /run/nowhere/.s.PGSQL.5432"},
		{dialect.Database{Driver: dialect.MySQL, Host: "db.internal.example"}, "tcp db.internal.example:3306"},
		{dialect.Database{Driver: dialect.MySQL, Host: "db.elsewhere.example"}, "hosts: [db.elsewhere.example]"},
		{dialect.Database{Driver: dialect.MySQL, Host: "192.0.2.7"}, "hosts: [192.0.2.7]"},
		{dialect.Database{Driver: dialect.MySQL, Host: "127.0.0.1", Port: "0"}, "no port that exists"},
		{dialect.Database{Driver: dialect.MySQL, Host: "127.0.0.1", Port: "x"}, "no port that exists"},
	} {
		network, address, err := s.address(c.at)
		if err != nil {
			assert.ErrorContains(t, err, c.want)
			continue
		}
		assert.Equal(t, c.want, network+" "+address)
	}
}

func TestSeveralRowsForOneKeyAreNotGuessedAt(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "x.db"))
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE o (k TEXT, v TEXT); INSERT INTO o VALUES ('title', 'one'), ('title', 'two')")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	d := load(t, "databases: {main: {sqlite: x.db}}\nstores: {o: {database: main, table: o, key: k, value: v}}\nsettings: {site.title: {from: o/title}}\n")
	s, err := Open(t.Context(), d, Options{Root: dir})
	require.NoError(t, err)
	defer s.Close()
	require.Len(t, s.Troubles(), 1)
	assert.True(t, strings.Contains(s.Troubles()[0].Err.Error(), "several rows for title"))
}
