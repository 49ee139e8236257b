//go:build linux

package store

import (
	"database/sql"
	"encoding/binary"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"weltaxis/internal/dialect"
)

const oneTable = "databases: {main: {sqlite: data/x.db}}\nstores: {o: {database: main, table: o, key: k, value: v}}\nsettings: {site.title: {from: o/title}}\n"

// ledger makes a database with a title in it.
func ledger(t *testing.T, file, title string, logged bool) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	db, err := sql.Open("sqlite", "file:"+file)
	require.NoError(t, err)
	if logged {
		_, err = db.Exec("PRAGMA journal_mode=WAL")
		require.NoError(t, err)
	}
	_, err = db.Exec("CREATE TABLE o (k TEXT, v TEXT); INSERT INTO o VALUES ('title', ?)", title)
	require.NoError(t, err)
	require.NoError(t, db.Close())
}

// lying is what lies in a folder, to the byte.
func lying(t *testing.T, dir string) (text string) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		data, err := os.ReadFile(filepath.Join(dir, e.Name()))
		require.NoError(t, err)
		info, err := e.Info()
		require.NoError(t, err)
		text += fmt.Sprintf("%s %s %q\n", e.Name(), info.Mode(), data)
	}
	return text
}

// superJournal is what a program leaves that was killed while it changed several databases: its end names a file, which SQLite removes
// (https://www.sqlite.org/fileformat.html §3.1).
func superJournal(names string) []byte {
	const magic = "\xd9\xd5\x05\xf9\x20\xa1\x63\xd7"
	journal := make([]byte, 512)
	copy(journal, magic)
	binary.BigEndian.PutUint32(journal[20:], 512)
	binary.BigEndian.PutUint32(journal[24:], 4096)
	sum := uint32(0)
	for _, b := range []byte(names) {
		sum += uint32(b)
	}
	journal = binary.BigEndian.AppendUint32(journal, 0)
	journal = append(journal, names...)
	journal = binary.BigEndian.AppendUint32(journal, uint32(len(names)))
	journal = binary.BigEndian.AppendUint32(journal, sum)
	return append(journal, magic...)
}

// tried reads the title from a database below a root, and writes another.
func tried(t *testing.T, d *dialect.Dialect, root string) (title string, applied error) {
	t.Helper()
	s, err := Open(t.Context(), d, Options{Root: root})
	require.NoError(t, err)
	defer s.Close()
	value, err := s.Look("o/title")
	if err != nil {
		value.Value = ""
	}
	title, _ = dialect.Text(value.Value)
	old, changed := title, "changed"
	return title, s.Apply(t.Context(), RowEdit{Place: "o/title", Kind: dialect.KindTable, Database: "main", Table: "o", Column: "v", Where: map[string]string{"k": "title"}, Old: &old, New: &changed})
}

// What SQLite opens by name is what was looked at, and nothing that lies outside.
func TestSQLiteIsHandedNothingElse(t *testing.T) {
	d := load(t, oneTable)
	link := func(to, name string) func(*testing.T, string, string) {
		return func(t *testing.T, root, outside string) {
			name := filepath.Join(root, name)
			require.NoError(t, os.RemoveAll(name))
			require.NoError(t, os.Symlink(strings.NewReplacer("ROOT", root, "OUT", outside).Replace(to), name))
		}
	}
	for name, c := range map[string]struct {
		logged bool
		do     func(t *testing.T, root, outside string)
	}{
		"a database that is a link":               {do: link("OUT/x.db", "data/x.db")},
		"a link by way of the process itself":     {do: link("/proc/self/rootOUT/x.db", "data/x.db")},
		"a link up and out":                       {do: link("../../outside/x.db", "data/x.db")},
		"a folder that is a link":                 {do: link("OUT", "data")},
		"a log that is a link":                    {true, link("OUT/x.db-wal", "data/x.db-wal")},
		"an index that is a link":                 {true, link("OUT/file", "data/x.db-shm")},
		"a journal that is a link":                {do: link("OUT/x.db-journal", "data/x.db-journal")},
		"a journal that is a link to what is not": {do: link("OUT/none", "data/x.db-journal")},
		"a log that is a link to what is not":     {true, link("OUT/none", "data/x.db-wal")},
		"a journal that has a name elsewhere": {do: func(t *testing.T, root, outside string) {
			require.NoError(t, os.Link(filepath.Join(outside, "file"), filepath.Join(root, "data/x.db-journal")))
		}},
		"an index that has a name elsewhere": {true, func(t *testing.T, root, outside string) {
			require.NoError(t, os.Link(filepath.Join(outside, "file"), filepath.Join(root, "data/x.db-shm")))
		}},
		"a pipe":                   {do: func(t *testing.T, root, _ string) { pipe(t, filepath.Join(root, "data/x.db")) }},
		"a journal that is a pipe": {do: func(t *testing.T, root, _ string) { pipe(t, filepath.Join(root, "data/x.db-journal")) }},
		"a log that is a pipe":     {true, func(t *testing.T, root, _ string) { pipe(t, filepath.Join(root, "data/x.db-wal")) }},
		"a socket": {do: func(t *testing.T, root, _ string) {
			require.NoError(t, os.Remove(filepath.Join(root, "data/x.db")))
			listener, err := net.Listen("unix", filepath.Join(root, "data/x.db"))
			require.NoError(t, err)
			t.Cleanup(func() { listener.Close() })
		}},
		"a journal of several databases": {do: func(t *testing.T, root, outside string) {
			require.NoError(t, os.WriteFile(filepath.Join(root, "data/x.db-journal"), superJournal(filepath.Join(outside, "file")), 0o600))
		}},
	} {
		t.Run(name, func(t *testing.T) {
			dir, err := filepath.EvalSymlinks(t.TempDir())
			require.NoError(t, err)
			root, outside := filepath.Join(dir, "root"), filepath.Join(dir, "outside")
			ledger(t, filepath.Join(outside, "x.db"), "outside", c.logged)
			ledger(t, filepath.Join(root, "data/x.db"), "inside", c.logged)
			for _, file := range []string{"x.db-wal", "x.db-journal", "file"} {
				require.NoError(t, os.WriteFile(filepath.Join(outside, file), []byte("of somebody else"), 0o644))
			}
			before := lying(t, outside)
			c.do(t, root, outside)
			title, applied := tried(t, d, root)
			assert.NotEqual(t, "outside", title)
			require.Error(t, applied)
			t.Log(applied)
			assert.Equal(t, before, lying(t, outside))
		})
	}
}

func pipe(t *testing.T, name string) {
	t.Helper()
	_ = os.Remove(name)
	require.NoError(t, syscall.Mkfifo(name, 0o666))
}

// A folder that somebody exchanges with one outside while its database is written to: 100 times in the tests, 1 000 in scripts/soak.
func TestAFolderIsExchangedAroundSQLite(t *testing.T) {
	d := load(t, oneTable)
	times := 100
	if os.Getenv("WELTAXIS_SOAK") != "" {
		times = 1_000
	}
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	root, outside := filepath.Join(dir, "root"), filepath.Join(dir, "outside")
	ledger(t, filepath.Join(outside, "x.db"), "the same", false)
	ledger(t, filepath.Join(root, "data/x.db"), "the same", false)
	before := lying(t, outside)
	decoy := filepath.Join(dir, "decoy")
	require.NoError(t, os.Symlink(outside, decoy))
	done, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		for i := 0; ; i++ {
			select {
			case <-done:
				return
			case <-time.After(time.Duration(i%7) * time.Millisecond):
				_ = unix.Renameat2(unix.AT_FDCWD, decoy, unix.AT_FDCWD, filepath.Join(root, "data"), unix.RENAME_EXCHANGE)
			}
		}
	}()
	made := 0
	for range times {
		s, err := Open(t.Context(), d, Options{Root: root})
		require.NoError(t, err)
		old, changed := "the same", "changed"
		edit := RowEdit{Place: "o/title", Kind: dialect.KindTable, Database: "main", Table: "o", Column: "v", Where: map[string]string{"k": "title"}, Old: &old, New: &changed}
		if s.Apply(t.Context(), edit) == nil {
			made++
			_ = s.Apply(t.Context(), edit.Reversed())
		}
		s.Close()
		require.Equal(t, before, lying(t, outside))
	}
	close(done)
	<-stopped
	t.Logf("%d of %d changes were made, in the folder itself", made, times)
}
