package demo

import (
	"crypto/sha256"
	"database/sql"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/servertest"
	"weltaxis/internal/site"
	"weltaxis/internal/source/settings"
	"weltaxis/internal/store"
)

func TestWellKeptSitesOfAllSystemsAreAligned(t *testing.T) {
	for _, in := range []*installation{lanternLaneAligned(), hollin(), copperbeckAligned()} {
		r := auditOf(t, in)
		assert.Empty(t, deviating(r), in.folder)
		assert.Empty(t, r.Covered, in.folder)
		var unjudged []string
		for _, n := range r.NotJudged {
			if in.front == nil && (strings.HasPrefix(n.Missing[0], "server.") || n.Missing[0] == facts.ListClasses+".address" || strings.HasPrefix(n.Missing[0], "runtime.")) {
				continue // nobody shows the configuration of its web server, nor what its runtime was told
			}
			if !ofTime(n) {
				unjudged = append(unjudged, n.Rule)
			}
		}
		if in.folder == "hollin" {
			assert.Equal(t, []string{"identity.form-recipient", "identity.sample-content", "hardening.spam", "aliases.known"}, unjudged, "Ostler says neither whom forms are sent to, nor what an install comes with")
			continue
		}
		assert.Empty(t, unjudged, in.folder)
	}
}

func TestSitesInDisorderShowWhatIsTold(t *testing.T) {
	for _, c := range []struct {
		in    *installation
		story []event
	}{{saltmarsh(), readPlot("saltmarsh").Story}, {copperbeck(), readPlot("copperbeck").Story}} {
		r := auditOf(t, c.in)
		var told []string
		for _, l := range c.story {
			told = append(told, l.NoticedBy...)
		}
		found := deviating(r)
		for _, covered := range r.Covered {
			found = append(found, covered.Rule)
		}
		slices.Sort(found)
		assert.ElementsMatch(t, told, slices.Compact(found), c.in.folder)
	}
}

// A placed installation is one that has been written, with how its stores are opened.
type placed struct {
	*installation
	dir, root string
	dialect   *dialect.Dialect
	options   store.Options
}

func place(t *testing.T, in *installation, spoken string) *placed {
	t.Helper()
	return placeThere(t, in, spoken, inMemory(t))
}

// placeThere writes an installation into a folder, unless it is there already.
func placeThere(t *testing.T, in *installation, spoken, dir string) *placed {
	t.Helper()
	if _, err := os.Stat(filepath.Join(dir, in.folder)); err != nil {
		_, err := in.write(dir)
		require.NoError(t, err)
	}
	d, err := dialect.Load(spoken, "")
	require.NoError(t, err)
	root := filepath.Join(dir, in.folder, "site")
	return &placed{in, dir, root, d, store.Options{Root: root}}
}

func (p *placed) open(t *testing.T) *store.Installation {
	t.Helper()
	s, err := store.Open(t.Context(), p.dialect, p.options)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// sums is a sum of every file, and of every row where the database is on a server.
func (p *placed) sums(t *testing.T) map[string]string {
	t.Helper()
	found := map[string]string{}
	require.NoError(t, filepath.WalkDir(p.root, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !strings.HasSuffix(path, ".db") {
			data, readErr := os.ReadFile(path)
			require.NoError(t, readErr)
			stat, statErr := d.Info()
			require.NoError(t, statErr)
			found[path] = fmt.Sprintf("%x %s", sha256.Sum256(data), stat.Mode())
		}
		return err
	}))
	l := p.system.lore()
	if l.schema == "" {
		return found
	}
	db, err := p.database.openSQL(filepath.Join(p.root, l.Database.File))
	require.NoError(t, err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	for _, m := range regexp.MustCompile(`CREATE TABLE (\w+)`).FindAllStringSubmatch(l.schema, -1) {
		found[m[1]] = rowsOf(t, db, m[1])
	}
	return found
}

// rowsOf is all of a table as text.
func rowsOf(t *testing.T, db *sql.DB, table string) string {
	t.Helper()
	rows, err := db.Query("SELECT * FROM " + table + " ORDER BY 1, 2")
	require.NoError(t, err)
	defer rows.Close()
	columns, err := rows.Columns()
	require.NoError(t, err)
	var all strings.Builder
	for rows.Next() {
		values := make([]any, len(columns))
		for i := range values {
			values[i] = new(sql.RawBytes)
		}
		require.NoError(t, rows.Scan(values...))
		for _, v := range values {
			fmt.Fprintf(&all, "%q ", *v.(*sql.RawBytes))
		}
	}
	require.NoError(t, rows.Err())
	return all.String()
}

// TestEveryStore holds every system to the same, in files and on every server that is there.
func TestEveryStore(t *testing.T) {
	makers := map[string]func() *installation{"brindle": lanternLaneAligned, "ostler": hollin, "hobnail": copperbeckAligned}
	all := func(t *testing.T, at func(*testing.T) *placed) {
		t.Run("settings are written and read back", func(t *testing.T) { settingsAreWrittenAndReadBack(t, at(t)) })
		t.Run("an audit writes nothing", func(t *testing.T) { anAuditWritesNothing(t, at(t)) })
		t.Run("a page's own fields are written", func(t *testing.T) { aPagesOwnFieldsAreWritten(t, at(t)) })
		t.Run("what somebody else changed is left alone", func(t *testing.T) { whatSomebodyElseChangedIsLeftAlone(t, at(t)) })
	}
	for _, spoken := range dialect.Shipped() {
		t.Run(spoken+" in files", func(t *testing.T) {
			all(t, func(t *testing.T) *placed { return place(t, makers[spoken](), spoken) })
		})
	}
	t.Run("on servers", func(t *testing.T) {
		for _, server := range servertest.Databases(t) {
			for _, spoken := range []string{"brindle", "hobnail"} {
				t.Run(spoken+" on "+server.Driver, func(t *testing.T) {
					all(t, func(t *testing.T) *placed { return onServer(t, server, makers[spoken](), spoken) })
				})
			}
		}
	})
}

// onServer places an installation whose configuration names a database on the server.
func onServer(t *testing.T, server *servertest.DatabaseServer, in *installation, spoken string) *placed {
	t.Helper()
	name := fmt.Sprintf("%s_%x", spoken, sha256.Sum256([]byte(t.Name())))[:20]
	server.Database(t, name)
	in.database = &databaseServer{driver: server.Driver, port: server.Port, name: name, user: servertest.Owner, password: servertest.OwnerPassword}
	return place(t, in, spoken)
}

// settingsAreWrittenAndReadBack: each mapped setting takes another value, is read again, and is taken back
// to the byte.
func settingsAreWrittenAndReadBack(t *testing.T, p *placed) {
	t.Helper()
	before := p.sums(t)
	written := 0
	for _, name := range p.dialect.Names() {
		setting := p.dialect.Settings[name]
		s := p.open(t)
		was, err := settings.Readings(t.Context(), s, setting)
		require.NoError(t, err, name)
		if setting.Query != "" || setting.Type == facts.Secret {
			s.Close()
			continue
		}
		to := another(setting, was[0].Value)
		edits, err := s.PlanSetting(t.Context(), setting, to)
		require.NoError(t, err, "%s to %s", name, to)
		for _, e := range edits {
			require.NoError(t, s.Apply(t.Context(), e), name)
			require.NoError(t, s.Apply(t.Context(), e), "what is the new value already is left alone")
		}
		again := p.open(t)
		now, err := settings.Readings(t.Context(), again, setting)
		require.NoError(t, err, name)
		again.Close()
		assert.Equal(t, to, now[0].Value, name)
		assert.NotEqual(t, before, p.sums(t), name)
		for _, e := range slices.Backward(edits) {
			require.NoError(t, s.Apply(t.Context(), e.Reversed()), name)
		}
		s.Close()
		require.Equal(t, before, p.sums(t), "%s is taken back", name)
		written++
	}
	assert.Greater(t, written, 70)
}

// another is a value of the same type that is not this one.
func another(s dialect.Setting, is facts.Value) facts.Value {
	switch s.Type {
	case facts.Bool:
		return facts.BoolOf(!is.Bool())
	case facts.Int:
		return facts.NumberOf(facts.Int, is.Number()+7)
	case facts.Duration:
		return facts.NumberOf(facts.Duration, is.Number()+3600)
	case facts.Date:
		return facts.NumberOf(facts.Date, is.Number()+86400)
	case facts.Size:
		return facts.NumberOf(facts.Size, is.Number()+4<<20)
	case facts.List:
		return facts.ListOf("one", "two")
	case facts.Words:
		for _, word := range s.Entry.Words {
			if v := facts.TextOf(facts.Words, word); !v.Equal(is) {
				return v
			}
		}
	case facts.URL:
		return facts.TextOf(facts.URL, "http://other.example")
	case facts.Version:
		return facts.TextOf(facts.Version, "9.8.7")
	case facts.Mail:
		return facts.TextOf(facts.Mail, "other@name.example")
	case facts.Zone:
		return facts.TextOf(facts.Zone, "Europe/Vienna")
	}
	switch {
	case s.Entry.Name == facts.SiteLanguage.Name:
		return facts.TextOf(s.Type, "cy")
	case s.Entry.NamesPage():
		return facts.TextOf(s.Type, map[bool]string{true: "contact", false: "about"}[is.Text() == "about"])
	}
	return facts.TextOf(s.Type, "it's \"another\" <é> & 漢 #1; $x")
}

// anAuditWritesNothing, with a user of the database who may only SELECT where there are users.
func anAuditWritesNothing(t *testing.T, p *placed) {
	t.Helper()
	text := p.siteFileText()
	if p.database != nil {
		t.Setenv("LOOKER", servertest.ReaderPassword)
		text = strings.Replace(text, "root: ./site}", fmt.Sprintf("root: ./site, databases: {main: {driver: %s, host: 127.0.0.1, port: %q, name: %s, user: %s, password: \"${LOOKER}\"}}}",
			p.database.driver, p.database.port, p.database.name, servertest.Reader), 1)
		require.Contains(t, text, "LOOKER")
	}
	file := filepath.Join(p.dir, p.folder, "weltaxis.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	s, err := site.Load(file)
	require.NoError(t, err)
	s.Sources.Live = nil
	before := p.sums(t)
	r, err := audit.Run(t.Context(), s, time.Now(), audit.Options{Tool: "test"})
	require.NoError(t, err)
	assert.False(t, r.Partial(), "%v", r.Snapshot.Gaps)
	assert.Empty(t, deviating(r))
	assert.Equal(t, before, p.sums(t))
	for list, records := range r.Snapshot.Records {
		if source, _ := facts.SourceOf(list); source != facts.Settings {
			continue // of what is known elsewhere there ought to be none
		}
		assert.NotEmpty(t, records, list)
	}

	r, err = audit.Run(t.Context(), s, time.Now(), audit.Options{Tool: "test", Offline: true})
	require.NoError(t, err)
	assert.Equal(t, p.database != nil, r.Partial(), "--offline connects to no server")
}

// aPagesOwnFieldsAreWritten one by one.
func aPagesOwnFieldsAreWritten(t *testing.T, p *placed) {
	t.Helper()
	before, list := p.sums(t), p.dialect.Lists["pages"]
	s := p.open(t)
	rows, err := s.List(t.Context(), list)
	require.NoError(t, err)
	require.NotEmpty(t, rows)
	for _, field := range []string{"title", "description", "indexable"} {
		entry, _ := facts.Lookup(facts.ListRecords + "." + field)
		was, err := list.Columns[field].Value(entry, rows[1].Values[field])
		require.NoError(t, err)
		to := another(dialect.Setting{Type: entry.Type}, was)
		stored, err := list.Columns[field].Stored(entry, to, dialect.Like{Old: rows[1].Values[field]})
		require.NoError(t, err)
		edit, err := s.PlanField(list, "pages", rows[1], field, stored)
		require.NoError(t, err, field)
		require.NoError(t, s.Apply(t.Context(), edit), field)
		again := p.open(t)
		now, err := again.List(t.Context(), list)
		require.NoError(t, err)
		again.Close()
		is, err := list.Columns[field].Value(entry, now[1].Values[field])
		require.NoError(t, err)
		assert.Equal(t, to, is, field)
		require.NoError(t, s.Apply(t.Context(), edit.Reversed()), field)
		require.Equal(t, before, p.sums(t), field)
	}
}

func whatSomebodyElseChangedIsLeftAlone(t *testing.T, p *placed) {
	t.Helper()
	for _, name := range []string{"site.title", "meta.description"} {
		setting, s := p.dialect.Settings[name], p.open(t)
		to, other := facts.TextOf(facts.String, "Ours"), facts.TextOf(facts.String, "Theirs")
		ours, err := s.PlanSetting(t.Context(), setting, to)
		require.NoError(t, err)
		theirs, err := s.PlanSetting(t.Context(), setting, other)
		require.NoError(t, err)
		require.NoError(t, s.Apply(t.Context(), theirs[0]))
		changed := p.sums(t)
		assert.ErrorIs(t, s.Apply(t.Context(), ours[0]), store.ErrChanged)
		assert.Equal(t, changed, p.sums(t))
		require.NoError(t, s.Apply(t.Context(), theirs[0].Reversed()))
	}
}
