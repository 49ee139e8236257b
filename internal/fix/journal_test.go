package fix

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
	"weltaxis/internal/store"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func at(moment time.Time) func() time.Time { return func() time.Time { return moment } }

// journal opens the journal of a folder and makes records in it.
func journal(t *testing.T, dir string, moment time.Time, records ...LogLine) *Journal {
	t.Helper()
	j, err := OpenJournal(dir, at(moment))
	require.NoError(t, err)
	t.Cleanup(j.Close)
	for _, r := range records {
		event := r.Event
		r.Kind = Setting
		old := "MARKED-old"
		require.NoError(t, j.begin(&r, before{Edits: store.Edits{store.RowEdit{Place: "a/b", Kind: dialect.KindRow, Table: "t", Column: "c", Where: map[string]string{"k": "v"}, Old: &old}}}, func(string) {}))
		if event != Begun {
			require.NoError(t, j.event(r, event, "says so"))
		}
	}
	return j
}

func TestTheJournalSaysWhatHappened(t *testing.T) {
	dir := t.TempDir()
	journal(t, dir, noon, LogLine{Name: "a", Event: Done, Kind: Setting, From: "x", To: "y"}, LogLine{Name: "b", Event: Begun}, LogLine{Name: "c", Event: Failed}).Close()
	journal(t, dir, noon.Add(time.Hour), LogLine{Name: "d", Event: Done}).Close()
	records, err := ReadJournal(dir)
	require.NoError(t, err)
	var got []string
	for _, r := range records {
		got = append(got, r.Name+" "+r.Event)
	}
	assert.Equal(t, []string{"a done", "b begun", "c failed", "d done"}, got)
	assert.Equal(t, noon.Add(Keep), records[0].Until)
	assert.NotEqual(t, records[0].Run, records[3].Run)

	names := func(c Choice) string {
		var all []string
		for _, r := range Chosen(records, c) {
			all = append(all, r.Name)
		}
		return strings.Join(all, " ")
	}
	assert.Equal(t, "d", names(Choice{}), "the last run")
	assert.Equal(t, "a", names(Choice{ID: 1}))
	assert.Empty(t, names(Choice{ID: 3}), "what was never made is not taken back")
	assert.Equal(t, "d b a", names(Choice{Since: noon}), "backwards, and what was begun may have been made")
	assert.Equal(t, "d", names(Choice{Since: noon.Add(time.Minute)}))
}

func TestTheJournalHoldsNoOldValue(t *testing.T) {
	dir := t.TempDir()
	journal(t, dir, noon, LogLine{Name: "a", Event: Done}).Close()
	lines, err := os.ReadFile(filepath.Join(dir, "journal.jsonl"))
	require.NoError(t, err)
	assert.NotContains(t, string(lines), "MARKED")
	kept, err := os.ReadFile(filepath.Join(dir, "undo", "1.json"))
	require.NoError(t, err)
	assert.Contains(t, string(kept), "MARKED")
	for name, mode := range map[string]os.FileMode{"undo/1.json": 0o600, "journal.jsonl": 0o600, "undo": 0o700 | os.ModeDir, ".": 0o700 | os.ModeDir} {
		stat, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		if name != "." { // the test's own folder
			assert.Equal(t, mode, stat.Mode(), name)
		}
	}
}

func TestWhatUndoNeedsExpires(t *testing.T) {
	dir := t.TempDir()
	journal(t, dir, noon, LogLine{Name: "a", Event: Done}).Close()
	j := journal(t, dir, noon.Add(Keep-time.Hour))
	_, err := j.before(1)
	require.NoError(t, err)
	j.Close()
	j = journal(t, dir, noon.Add(Keep+time.Hour))
	_, err = j.before(1)
	assert.ErrorContains(t, err, "not kept any more")
	records, err := ReadJournal(dir)
	require.NoError(t, err)
	assert.Len(t, records, 1, "that it was done stays known")
}

// TestALineThatAKilledRunLeft was never acted upon, and does not spoil the next one.
func TestALineThatAKilledRunLeft(t *testing.T) {
	dir := t.TempDir()
	journal(t, dir, noon, LogLine{Name: "a", Event: Done}).Close()
	file := filepath.Join(dir, "journal.jsonl")
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, left := range []string{`{"run":"x","id":2,"eve`, "\x00\x00"} {
		require.NoError(t, os.WriteFile(file, append(append([]byte{}, whole...), left...), 0o600))
		journal(t, dir, noon, LogLine{Name: "b", Event: Done}).Close()
		records, err := ReadJournal(dir)
		require.NoError(t, err)
		var names []string
		for _, r := range records {
			names = append(names, r.Name)
		}
		assert.Contains(t, names, "a", left)
		assert.Contains(t, names, "b", left)
	}
}

func TestOnlyOneRunAtATime(t *testing.T) {
	dir := t.TempDir()
	first := journal(t, dir, noon)
	_, err := OpenJournal(dir, at(noon))
	require.ErrorIs(t, err, ErrBusy)
	first.Close()
	journal(t, dir, noon).Close()
}

func TestFoldersOfSitesAreApart(t *testing.T) {
	a := FolderName("Lantern Lane: Théâtre", "/srv/a/weltaxis.yaml")
	assert.True(t, strings.HasPrefix(a, "lantern-lane-th"), a)
	assert.NotEqual(t, a, FolderName("Lantern Lane: Théâtre", "/srv/b/weltaxis.yaml"))
	assert.NotContains(t, FolderName("../../etc", "/x"), "/")
}

func FuzzJournal(f *testing.F) {
	f.Add([]byte(`{"run":"x","id":1,"event":"done"}` + "\n"))
	f.Add([]byte("{\n\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "journal.jsonl"), data, 0o600); err != nil {
			t.Fatal(err)
		}
		records, err := ReadJournal(dir)
		if err == nil {
			Chosen(records, Choice{Since: noon})
		}
	})
}

// TestWhoHasLockedIt is who did last, and nobody once it was taken away.
func TestWhoHasLockedIt(t *testing.T) {
	at := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	server := LogLine{ID: 1, At: at, Event: Done, Kind: Server, Name: ShutName(true)}
	on := LogLine{ID: 2, At: at, Event: Done, Kind: Setting, Name: "lock.on", To: "yes"}
	off, failed, back := on, on, server
	off.To, failed.Event, back.Event = "no", Failed, TakenBackByUndo
	for i, c := range []struct {
		records []LogLine
		locked  bool
	}{{nil, false}, {[]LogLine{server}, true}, {[]LogLine{on}, true}, {[]LogLine{on, off}, false}, {[]LogLine{off, on}, true}, {[]LogLine{failed}, false}, {[]LogLine{back}, false}, {[]LogLine{{ID: 3, At: at, Event: Done, Kind: Server, Name: ShutName(false)}}, false}} {
		assert.Equal(t, c.locked, !Locked(c.records).IsZero(), "%d", i)
	}
}
