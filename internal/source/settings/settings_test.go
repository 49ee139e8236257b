package settings

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

const configPHP = `<?php
$playhouse = ['aloud' => ['keep_pages' => getenv('KEEP_PAGES') ?: true], 'database' => ['file' => __DIR__ . '/understage/prompt.db', 'company' => 'house'],
  'seal_key' => 'marked-secret-in-config'];
`

// installation writes a small Brindle: a configuration and a database in the given journal mode, and gives its
// root and an open connection to the database.
func installation(t *testing.T, journal string) (root string, db *sql.DB) {
	t.Helper()
	root = t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(root, "understage"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "playhouse.php"), []byte(configPHP), 0o644))
	db = open(t, filepath.Join(root, "understage", "prompt.db"))
	for _, statement := range []string{
		"PRAGMA journal_mode=" + journal, "PRAGMA wal_autocheckpoint=0",
		"CREATE TABLE prompt_house (cue TEXT PRIMARY KEY, line TEXT)",
		"CREATE TABLE scenes_house (no INTEGER PRIMARY KEY, scene TEXT, heading TEXT, sort TEXT, standing TEXT, opened TEXT, crier TEXT, whispered INTEGER)",
		"CREATE TABLE players_house (no INTEGER PRIMARY KEY, stage_name TEXT, part TEXT, joined TEXT, two_keys INTEGER, last_call TEXT)",
		"CREATE TABLE turns_house (no INTEGER PRIMARY KEY, turn TEXT, sort TEXT, on_the_bill INTEGER, version TEXT, newest TEXT, cut_from TEXT)",
		"CREATE TABLE letters_house (no INTEGER PRIMARY KEY, letter TEXT, goes_to TEXT, asks_a_riddle INTEGER)",
		"CREATE TABLE doors_house (no INTEGER PRIMARY KEY, door TEXT, leads_on INTEGER)",
		"CREATE TABLE passes_house (no INTEGER PRIMARY KEY, pass TEXT, handed_to TEXT, sort TEXT, written TEXT, last_shown TEXT)",
		"CREATE TABLE trunks_house (no INTEGER PRIMARY KEY, stands_at TEXT, packed TEXT)",
		"INSERT INTO prompt_house VALUES ('playbill.title', 'First'), ('stagedoor.idle_minutes', '30'), ('office.mailbox_password', 'marked-secret-in-row'), ('feed.items', NULL)",
		"INSERT INTO players_house (stage_name, part) VALUES ('a', 'manager'), ('b', 'janitor')",
	} {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
	return root, db
}

func open(t *testing.T, path string) *sql.DB {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	db.SetMaxOpenConns(1)
	t.Cleanup(func() { db.Close() })
	return db
}

func gather(t *testing.T, root string, environment map[string]string) *facts.Snapshot {
	t.Helper()
	d, err := dialect.Load("brindle", "")
	require.NoError(t, err)
	_, seen, err := Gather(t.Context(), d, store.Options{Root: root, Environment: environment})
	require.NoError(t, err)
	return &facts.Snapshot{Seen: seen}
}

// sums is the content of every file below a folder, by path.
func sums(t *testing.T, root string) map[string]string {
	t.Helper()
	found := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			data, readErr := os.ReadFile(path)
			require.NoError(t, readErr)
			found[path] = fmt.Sprintf("%x", sha256.Sum256(data))
		}
		return err
	}))
	return found
}

func value(t *testing.T, s *facts.Snapshot, name string) facts.Reading {
	t.Helper()
	r, known := s.Effective("settings." + name)
	require.True(t, known, "%s: %v", name, s.Gaps)
	return r
}

func because(s *facts.Snapshot) string {
	var all []string
	for _, g := range s.Gaps {
		all = append(all, g.What+": "+g.Because)
	}
	return strings.Join(all, "\n")
}

func TestReadings(t *testing.T) {
	root, db := installation(t, "delete")
	db.Close()
	s := gather(t, root, nil)

	title := value(t, s, "site.title")
	assert.Equal(t, "First", title.Value.Text())
	assert.Equal(t, facts.Origin{File: "understage/prompt.db", Table: "prompt_house", Row: "playbill.title", Screen: "Prompt corner: Playbill"}, title.Origin)
	assert.Equal(t, "30m", value(t, s, "session.idle").Value.String())

	zone := value(t, s, "site.time_zone")
	assert.Equal(t, "UTC", zone.Value.Text())
	assert.Equal(t, "Brindle", zone.Origin.Default, "what the system leaves unset has the stated default, and says so")
	assert.Equal(t, "20", value(t, s, "feed.items").Value.String(), "an SQL null is not set")
	assert.True(t, value(t, s, "mail.sender_name").Factory, "a default can be the factory's")

	secret := value(t, s, "security.secret")
	assert.Equal(t, facts.SecretOf("marked-secret-in-config"), secret.Value)
	assert.Equal(t, 3, secret.Origin.Line)
	account := func(row string, values map[string]facts.Value) facts.Record {
		return facts.Record{List: facts.ListAccounts, Values: values, From: facts.Origin{File: "understage/prompt.db", Table: "players_house", Row: row}}
	}
	assert.Equal(t, []facts.Record{
		account("1", map[string]facts.Value{"name": facts.TextOf(facts.String, "a"), "role": facts.TextOf(facts.Words, "highest")}),
		account("2", map[string]facts.Value{"name": facts.TextOf(facts.String, "b")}),
	}, s.Records[facts.ListAccounts], "a role the dialect has no word for is not known")
	assert.Equal(t, "0", value(t, s, "posts.scheduled").Value.String())
}

func TestTheEnvironmentIsAGapUntilItIsStated(t *testing.T) {
	root, db := installation(t, "delete")
	_, err := db.Exec("INSERT INTO prompt_house VALUES ('lamps.keep_pages', 'no')")
	require.NoError(t, err)
	db.Close()
	s := gather(t, root, nil)
	_, known := s.Effective("settings.cache.page")
	assert.False(t, known, "the row has no say while the constant before it is not known")
	assert.Contains(t, s.Why("settings.cache.page"), "environment variable KEEP_PAGES")

	s = gather(t, root, map[string]string{"KEEP_PAGES": "1"})
	assert.True(t, value(t, s, "cache.page").Value.Bool())
	assert.Len(t, s.All("settings.cache.page"), 2)
}

// In every state that a database may be found in, its rows are read, and nothing is written beside it.
func TestDatabaseStates(t *testing.T) {
	for _, c := range []struct {
		name    string
		prepare func(t *testing.T) string
	}{
		{"rollback journal, idle", func(t *testing.T) string {
			root, db := installation(t, "delete")
			db.Close()
			return root
		}},
		{"write-ahead log, idle", func(t *testing.T) string {
			root, db := installation(t, "wal")
			db.Close()
			_, err := os.Stat(filepath.Join(root, "understage", "prompt.db-wal"))
			require.ErrorIs(t, err, fs.ErrNotExist)
			return root
		}},
		{"write-ahead log, a writer has it open", func(t *testing.T) string {
			root, _ := installation(t, "wal")
			return root
		}},
		{"write-ahead log without its index", func(t *testing.T) string {
			root, db := installation(t, "wal")
			copied := t.TempDir()
			require.NoError(t, os.CopyFS(copied, os.DirFS(root)))
			db.Close()
			require.NoError(t, os.Remove(filepath.Join(copied, "understage", "prompt.db-shm")))
			return copied
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			root := c.prepare(t)
			before := sums(t, root)
			s := gather(t, root, map[string]string{"KEEP_PAGES": "1"})
			assert.Equal(t, "First", value(t, s, "site.title").Value.Text())
			assert.False(t, s.Partial(), because(s))
			after := sums(t, root)
			delete(before, filepath.Join(root, "understage", "prompt.db-shm")) // the writer's own, which readers mark
			delete(after, filepath.Join(root, "understage", "prompt.db-shm"))
			assert.Equal(t, before, after)
		})
	}
}

func TestALiveWritersRowsAreSeen(t *testing.T) {
	root, db := installation(t, "wal")
	_, err := db.Exec("UPDATE prompt_house SET line = 'Second' WHERE cue = 'playbill.title'")
	require.NoError(t, err)
	assert.Equal(t, "Second", value(t, gather(t, root, nil), "site.title").Value.Text())
}

func TestWhatCannotBeReadIsAGap(t *testing.T) {
	config := func(text string) func(*testing.T, string, *sql.DB) {
		return func(t *testing.T, root string, _ *sql.DB) {
			require.NoError(t, os.WriteFile(filepath.Join(root, "playhouse.php"), []byte(text), 0o644))
		}
	}
	file := func(do func(path string) error) func(*testing.T, string, *sql.DB) {
		return func(t *testing.T, root string, db *sql.DB) {
			db.Close()
			require.NoError(t, do(filepath.Join(root, "understage", "prompt.db")))
		}
	}
	for name, c := range map[string]struct {
		spoil func(*testing.T, string, *sql.DB)
		want  string
	}{
		"missing":     {file(os.Remove), "the database understage/prompt.db: it does not exist"},
		"no database": {file(func(p string) error { return os.WriteFile(p, []byte(strings.Repeat("x", 200)), 0o644) }), "it is no SQLite database"},
		"empty":       {file(func(p string) error { return os.Truncate(p, 0) }), "it is no SQLite database"},
		"truncated":   {file(func(p string) error { return os.Truncate(p, 5000) }), "it is cut short: 5000 of"},
		"a folder":    {file(func(p string) error { _ = os.Remove(p); return os.Mkdir(p, 0o755) }), "the database understage/prompt.db"},
		"locked": {func(t *testing.T, _ string, db *sql.DB) {
			_, err := db.Exec("BEGIN EXCLUSIVE")
			require.NoError(t, err)
		}, "it is locked by another program"},
		"table missing": {func(t *testing.T, _ string, db *sql.DB) {
			_, err := db.Exec("DROP TABLE prompt_house")
			require.NoError(t, err)
		}, "table prompt_house: the table does not exist"},
		"outside the root":    {config(`<?php $playhouse = ['database' => ['file' => '../elsewhere.db']];`), "it lies outside the site's root"},
		"company that is SQL": {config(`<?php $playhouse = ['database' => ['company' => 'x; --']];`), "no part of a table's name"},
		"place not told":      {config(`<?php $playhouse = ['database' => ['file' => getenv('DB')]];`), "the configuration does not tell where it is: playhouse.php, line 1: it comes from"},
		"configuration wrong": {config("<?php\n$playhouse = 'never ends"), "playhouse.php: line 2, column 14: the text that starts here never ends"},
		"a value of another type": {func(t *testing.T, _ string, db *sql.DB) {
			_, err := db.Exec("UPDATE prompt_house SET line = 'soon' WHERE cue = 'stagedoor.idle_minutes'")
			require.NoError(t, err)
		}, `row stagedoor.idle_minutes: "soon" is not a duration`},
		"a value without end": {func(t *testing.T, _ string, db *sql.DB) {
			_, err := db.Exec("UPDATE prompt_house SET line = zeroblob(300000) WHERE cue = 'playbill.title'")
			require.NoError(t, err)
		}, "the column line holds 300000 bytes"},
	} {
		t.Run(name, func(t *testing.T) {
			root, db := installation(t, "delete")
			c.spoil(t, root, db)
			s := gather(t, root, map[string]string{"KEEP_PAGES": "1"})
			assert.Contains(t, because(s), c.want)
			assert.True(t, s.Partial())
		})
	}
}

func TestALinkOutOfTheRootIsRefused(t *testing.T) {
	root, db := installation(t, "delete")
	db.Close()
	elsewhere := filepath.Join(t.TempDir(), "x.db")
	inside := filepath.Join(root, "understage", "prompt.db")
	require.NoError(t, os.Rename(inside, elsewhere))
	require.NoError(t, os.Symlink(elsewhere, inside))
	s := gather(t, root, nil)
	assert.Contains(t, because(s), "outside the site's root")
	i := slices.IndexFunc(s.Gaps, func(g facts.Gap) bool { return strings.Contains(g.What, "database") })
	assert.Equal(t, facts.Refused, s.Gaps[i].Kind)
}

func TestAnEndedContextEndsTheGathering(t *testing.T) {
	root, _ := installation(t, "delete")
	d, err := dialect.Load("brindle", "")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = Gather(ctx, d, store.Options{Root: root})
	assert.ErrorIs(t, err, context.Canceled)
}
