package fix

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

// A pebbles is a site of that dialect that a test changes.
type pebbles struct {
	t       *testing.T
	dialect *dialect.Dialect
	options store.Options
	state   string
}

func changing(t *testing.T) *pebbles {
	t.Helper()
	d, options := pebbleSite(t)
	return &pebbles{t, d, options, t.TempDir()}
}

// cached is one with a folder for kept pages that holds a page and an override file.
func cached(t *testing.T, more string) *pebbles {
	t.Helper()
	dir := t.TempDir()
	text := pebble + "public: public\nroles: {cache: [public/kept/], uploads: [public/pictures/]}\ncaches: [{folder: public/kept}]\n" + more
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pebble.yaml"), []byte(text), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pebble.ini"), []byte(pebbleINI), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "public", "kept", "deep"), 0o755))
	for name, text := range map[string]string{"public/kept/a.html": "old a", "public/kept/deep/b.html": "old b", "public/kept/.htaccess": "deny"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	d, err := dialect.Load("./pebble.yaml", dir)
	require.NoError(t, err)
	return &pebbles{t, d, store.Options{Root: dir}, t.TempDir()}
}

func (s *pebbles) env() Env {
	s.t.Helper()
	j, err := OpenJournal(s.state, time.Now)
	require.NoError(s.t, err)
	s.t.Cleanup(j.Close)
	return Env{Dialect: s.dialect, Stores: s.options, FilesRoot: s.options.Root, Journal: j}
}

func (s *pebbles) plan(deviations ...facts.Deviation) []Change {
	s.t.Helper()
	p, err := New(s.t.Context(), Wishes{Deviations: deviations, Dialect: s.dialect, Stores: s.options, Pages: len(s.dialect.Caches) > 0})
	require.NoError(s.t, err)
	return p.Changes
}

func (s *pebbles) write(changes []Change) *Report {
	s.t.Helper()
	env := s.env()
	defer env.Journal.Close()
	r, err := Write(s.t.Context(), changes, Seen{}, env)
	require.NoError(s.t, err)
	return r
}

func (s *pebbles) undo(c Choice) *Undone {
	s.t.Helper()
	env := s.env()
	defer env.Journal.Close()
	records, err := ReadJournal(s.state)
	require.NoError(s.t, err)
	return Undo(s.t.Context(), Chosen(records, c), env)
}

func (s *pebbles) read(name string) string {
	s.t.Helper()
	data, err := os.ReadFile(filepath.Join(s.options.Root, name))
	require.NoError(s.t, err)
	return string(data)
}

func (s *pebbles) put(name, text string) {
	s.t.Helper()
	require.NoError(s.t, os.WriteFile(filepath.Join(s.options.Root, name), []byte(text), 0o644))
}

var (
	newTitle = set("titles.site-own", facts.Visible, "site.title", "New")
	debugOff = set("hardening.debug-off", facts.Safe, "debug.on", "no")
	shorter  = set("hardening.session", facts.Safe, "session.idle", "30m")
	everyOne = Choice{Since: time.Unix(1, 0)}
)

// TestUndoRefusesWhatItDoesNotUnderstand: half of it, or nothing at all, is not called back.
func TestUndoRefusesWhatItDoesNotUnderstand(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func([]byte) []byte
		says  string
	}{
		"another name":       {func(b []byte) []byte { return bytes.Replace(b, []byte(`"edits"`), []byte(`"server_edits"`), 1) }, "not understood"},
		"a name in an edit":  {func(b []byte) []byte { return bytes.Replace(b, []byte(`"before"`), []byte(`"previously"`), 1) }, "not understood"},
		"another kind":       {func(b []byte) []byte { return bytes.Replace(b, []byte(`"set"`), []byte(`"purge"`), 1) }, "of the kind purge"},
		"an unknown kind":    {func(b []byte) []byte { return bytes.Replace(b, []byte(`"set"`), []byte(`"moon"`), 1) }, "moon"},
		"a newer format":     {func(b []byte) []byte { return bytes.Replace(b, []byte(`"format":2`), []byte(`"format":3`), 1) }, "format 3"},
		"an empty payload":   {func([]byte) []byte { return []byte(`{"format":2,"kind":"set","edits":[]}`) }, "says nothing of what was before"},
		"no payload":         {func([]byte) []byte { return []byte(`{"format":2,"kind":"set"}`) }, "says nothing of what was before"},
		"nothing":            {func([]byte) []byte { return nil }, "not understood"},
		"an old one, empty":  {func([]byte) []byte { return []byte(`{}`) }, "says nothing of what was before"},
		"cut off":            {func(b []byte) []byte { return b[:len(b)/2] }, "not understood"},
		"a type of its own":  {func([]byte) []byte { return []byte(`{"format":2,"kind":"set","edits":"all"}`) }, "not understood"},
		"an edit of nothing": {func([]byte) []byte { return []byte(`{"format":2,"kind":"set","edits":[{}]}`) }, `no kind of place ""`},
		"an unknown place": {func(b []byte) []byte {
			return bytes.Replace(b, []byte(`"kind":"file"`), []byte(`"kind":"registry"`), 1)
		}, `no kind of place "registry"`},
		"no file": {func([]byte) []byte { return []byte(`{"format":2,"kind":"set","edits":[{"kind":"file"}]}`) }, "names none"},
		"no row": {func([]byte) []byte {
			return []byte(`{"format":2,"kind":"set","edits":[{"kind":"row","table":"t"}]}`)
		}, "does not say of which"},
		"neither old nor new": {func([]byte) []byte {
			return []byte(`{"format":2,"kind":"set","edits":[{"place":"ini/title","kind":"file","file":"pebble.ini"}]}`)
		}, "somebody has changed it since"},
		"modes of a setting": {func([]byte) []byte {
			return []byte(`{"format":2,"kind":"set","modes":[{"path":"pebble.ini","from":511}]}`)
		}, "says nothing of what was before"},
	} {
		t.Run(name, func(t *testing.T) {
			s := changing(t)
			require.Equal(t, Took, s.write(s.plan(newTitle)).Outcomes[0].Result)
			changed, file := s.read("pebble.ini"), filepath.Join(s.state, "undo", "1.json")
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(file, c.spoil(data), 0o600))
			undone := s.undo(Choice{})
			require.Len(t, undone.Changes, 1)
			assert.False(t, undone.Changes[0].Back)
			assert.Contains(t, undone.Changes[0].Says, c.says)
			assert.Equal(t, changed, s.read("pebble.ini"))
			require.NoError(t, os.WriteFile(file, data, 0o600))
			assert.True(t, s.undo(Choice{}).Changes[0].Back, "and it can still be taken back when it is whole")
		})
	}
}

// TestAJournalOfANewerProgramIsRefused, and so is a kind that nobody knows: with the line, and nothing is opened.
func TestAJournalOfANewerProgramIsRefused(t *testing.T) {
	for line, says := range map[string]string{
		`{"format":3,"run":"x","id":1,"event":"done","kind":"set"}`:     "line 2: it has format 3",
		`{"format":2,"run":"x","id":1,"event":"done","kind":"moon"}`:    "line 2: ",
		`{"format":2,"run":"x","id":1,"event":"done","kind":"setting"}`: "line 2: ",
		`{"run":"x","id":"one","event":"done","kind":"set"}`:            "line 2: ",
	} {
		dir := t.TempDir()
		first := `{"run":"x","id":1,"event":"done","kind":"setting"}` + "\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, "journal.jsonl"), []byte(first+line+"\n"), 0o600))
		_, err := ReadJournal(dir)
		assert.ErrorContains(t, err, says)
		_, err = OpenJournal(dir, time.Now)
		assert.ErrorContains(t, err, says)
	}
}

// TestUndoOfOneOfSeveralEditsOfAFile, in any order, with what somebody has written in between: each takes back its own.
func TestUndoOfOneOfSeveralEditsOfAFile(t *testing.T) {
	for _, order := range [][]int{{1, 2, 3}, {1, 3, 2}, {2, 1, 3}, {2, 3, 1}, {3, 1, 2}, {3, 2, 1}} {
		for _, theirs := range []string{"", "; somebody was here\n"} {
			t.Run(fmt.Sprint(order, theirs), func(t *testing.T) {
				s := changing(t)
				for _, o := range s.write(s.plan(newTitle, debugOff, shorter)).Outcomes {
					require.Equal(t, Took, o.Result, o.Says)
				}
				require.NotContains(t, s.read("pebble.ini"), "debug = on")
				s.put("pebble.ini", theirs+s.read("pebble.ini")+theirs)
				for _, id := range order {
					undone := s.undo(Choice{ID: id})
					require.Len(t, undone.Changes, 1)
					require.True(t, undone.Changes[0].Back, "%d: %s", id, undone.Changes[0].Says)
				}
				assert.Equal(t, theirs+pebbleINI+theirs, s.read("pebble.ini"))
			})
		}
	}
}

// TestUndoLeavesWhatSomebodyHasChanged in the same line.
func TestUndoLeavesWhatSomebodyHasChanged(t *testing.T) {
	s := changing(t)
	s.write(s.plan(newTitle, debugOff))
	theirs := strings.Replace(s.read("pebble.ini"), "title = New", "title = Theirs", 1)
	s.put("pebble.ini", theirs)
	undone := s.undo(Choice{})
	require.Len(t, undone.Changes, 2)
	assert.False(t, undone.Changes[0].Back, "the title")
	assert.Contains(t, undone.Changes[0].Says, "somebody has changed it since")
	assert.True(t, undone.Changes[1].Back)
	assert.Equal(t, strings.Replace(pebbleINI, "title = Old", "title = Theirs", 1), s.read("pebble.ini"))
}

// TestAKindOfItsOwnFits: a finisher that is made up here runs last, is journalled, and is repeated at the end of undo.
func TestAKindOfItsOwnFits(t *testing.T) {
	const bell = facts.KindReload // in its place, for as long as this test takes
	was := rows[bell]
	var rung []string
	rows[bell] = row{
		rank: always(95), title: named, ready: func(Change) bool { return true }, finisher: true,
		apply: func(_ context.Context, e *Env, c Change) Outcome {
			return e.journalled(Outcome{Change: c}, c.logLine(), before{}, func(int) error { rung = append(rung, "rung"); return nil })
		},
		revert: func(context.Context, *Env, before) (string, error) {
			rung = append(rung, "rung again")
			return "it was rung again", nil
		},
	}
	t.Cleanup(func() { rows[bell] = was })

	s := changing(t)
	p := &Plan{Discern: func(text string) string { return text }, Changes: append(s.plan(newTitle), Change{Kind: bell, Name: "the bell", Risk: facts.Safe})}
	chosen, rest, err := p.Gate(Consent{Upto: facts.Visible})
	require.NoError(t, err)
	assert.Empty(t, rest)
	chosen, _, err = (&Plan{Changes: chosen[1:]}).Gate(Consent{Upto: facts.Visible})
	require.NoError(t, err)
	assert.Empty(t, chosen, "what ends a run is made only after something else")
	report := s.write(p.Changes)
	assert.Equal(t, []string{Took, Took}, []string{report.Outcomes[0].Result, report.Outcomes[1].Result})
	records, err := ReadJournal(s.state)
	require.NoError(t, err)
	assert.Equal(t, bell, records[1].Kind)
	assert.Equal(t, "the bell", records[1].Title())
	undone := s.undo(Choice{})
	assert.Equal(t, bell, undone.Changes[1].Kind, "last, though it was the newest")
	assert.Equal(t, []string{"rung", "rung again"}, rung)
	text, err := p.Script("x", s.options.Root, p.Changes, nil)
	require.NoError(t, err)
	assert.Contains(t, text, "the bell")
	assert.Equal(t, Shown{}, p.Show(p.Changes[1]))
	assert.Equal(t, pebbleINI, s.read("pebble.ini"))
}

// TestAGroupIsMadeAndTakenBackTogether: one that cannot be made whole is not made, and undo of one change takes all back.
func TestAGroupIsMadeAndTakenBackTogether(t *testing.T) {
	grouped := func(s *pebbles) []Change {
		changes := s.plan(newTitle, debugOff, shorter)
		for i := range changes {
			if changes[i].Name != "session.idle" {
				changes[i].Group = "both"
			}
		}
		return changes
	}
	results := func(r *Report) map[string]string {
		all := map[string]string{}
		for _, o := range r.Outcomes {
			all[o.Name] = o.Result
		}
		return all
	}
	t.Run("undo of one", func(t *testing.T) {
		s := changing(t)
		s.write(grouped(s))
		records, err := ReadJournal(s.state)
		require.NoError(t, err)
		i := slices.IndexFunc(records, func(r LogLine) bool { return r.Name == "site.title" })
		assert.Equal(t, "both", records[i].Group)
		assert.Len(t, s.undo(Choice{ID: records[i].ID}).Changes, 2)
		assert.Equal(t, strings.Replace(pebbleINI, "idle = 480", "idle = 30", 1), s.read("pebble.ini"), "what stands alone stays")
	})
	t.Run("one cannot be made", func(t *testing.T) {
		s := changing(t)
		changes := grouped(s)
		s.put("pebble.ini", strings.Replace(pebbleINI, "title = Old", "title = Theirs", 1))
		r := results(s.write(changes))
		assert.Equal(t, map[string]string{"debug.on": Broke, "session.idle": Took, "site.title": Left}, r)
		assert.Contains(t, s.read("pebble.ini"), "debug = on")
		assert.Contains(t, s.read("pebble.ini"), "idle = 30")
	})
	t.Run("the first cannot be made", func(t *testing.T) {
		s := changing(t)
		changes := grouped(s)
		s.put("pebble.ini", strings.Replace(pebbleINI, "debug = on", "debug = maybe", 1))
		r := results(s.write(changes))
		assert.Equal(t, Waits, r["site.title"])
		assert.Contains(t, s.read("pebble.ini"), "title = Old")
	})
	t.Run("one lets an address fall silent", func(t *testing.T) {
		s := changing(t)
		env := s.env()
		env.Ask = func(context.Context, []string) map[string]int {
			if strings.Contains(s.read("pebble.ini"), "title = New") {
				return map[string]int{"/form": 500}
			}
			return map[string]int{"/form": 200}
		}
		report, err := Write(t.Context(), grouped(s), Seen{Answers: map[string]int{"/form": 200}}, env)
		require.NoError(t, err)
		env.Journal.Close()
		assert.Equal(t, Broke, results(report)["debug.on"], "it goes with the title")
		assert.Equal(t, strings.Replace(pebbleINI, "idle = 480", "idle = 30", 1), s.read("pebble.ini"))
	})
}

// TestWhatStoppedAnsweringIsTakenBack, the newest change first, until everything answers that did.
func TestWhatStoppedAnsweringIsTakenBack(t *testing.T) {
	s := changing(t)
	env := s.env()
	env.Ask = func(_ context.Context, addresses []string) map[string]int {
		answers := map[string]int{}
		for _, address := range addresses {
			answers[address] = 200
			if address == "/form" && strings.Contains(s.read("pebble.ini"), "title = New") {
				answers[address] = 500
			}
		}
		return answers
	}
	was := Seen{Answers: map[string]int{"/": 200, "/form": 200, "/gone": 404}}
	env.Home = "/"
	changes := s.plan(newTitle, debugOff, shorter)
	report, err := Write(t.Context(), changes, was, env)
	require.NoError(t, err)
	env.Journal.Close()
	results := map[string]string{}
	for _, o := range report.Outcomes {
		results[o.Name] = o.Result
	}
	assert.Equal(t, Broke, results["site.title"])
	assert.Equal(t, Took, results["debug.on"], "it came before, and everything answers with it")
	assert.Contains(t, s.read("pebble.ini"), "title = Old")
	for _, o := range report.Outcomes {
		if o.Result == Broke && o.Name == "site.title" {
			assert.Contains(t, o.Says, "afterwards /form answered 500, which it did not before")
		}
	}
}

// TestWhatIsMeantIsNotTakenBack: a maintenance notice, a lock and another address are what was asked for; what is an error
// beside them is one still.
func TestWhatIsMeantIsNotTakenBack(t *testing.T) {
	for _, c := range []struct {
		name, value  string
		answers, now int
		want         string
	}{
		{"maintenance.on", "yes", 200, 503, Took}, {"maintenance.on", "yes", 200, 500, Broke}, {"maintenance.on", "yes", 200, 0, Broke},
		{"lock.on", "yes", 200, 401, Took}, {"lock.on", "yes", 200, 403, Took}, {"lock.on", "yes", 200, 502, Broke},
		{"login.path", "/side/", 200, 404, Took}, {"permalink.pattern", "/{name}/", 200, 410, Took}, {"permalink.pattern", "/{name}/", 200, 500, Broke},
		{"site.title", "New", 200, 404, Broke}, {"site.title", "New", 200, 503, Broke}, {"site.title", "New", 503, 503, Took},
	} {
		s := changing(t)
		p, err := New(t.Context(), Wishes{Dialect: s.dialect, Stores: s.options, Values: map[string]string{c.name: c.value}})
		require.NoError(t, err)
		require.True(t, p.Changes[0].Makeable(), "%s: %s", c.name, p.Changes[0].Cannot)
		env := s.env()
		env.Ask = func(context.Context, []string) map[string]int { return map[string]int{"/a": c.now} }
		report, err := Write(t.Context(), p.Changes, Seen{Answers: map[string]int{"/a": c.answers}}, env)
		require.NoError(t, err)
		assert.Equal(t, c.want, report.Outcomes[0].Result, "%+v: %s", c, report.Outcomes[0].Says)
		env.Journal.Close()
	}
}

// TestOneSilenceIsNoFault: what answers when it is asked a second time is left as it is.
func TestOneSilenceIsNoFault(t *testing.T) {
	s := changing(t)
	env, asked := s.env(), 0
	env.Ask = func(context.Context, []string) map[string]int {
		if asked++; asked == 1 {
			return map[string]int{}
		}
		return map[string]int{"/a": 200}
	}
	report, err := Write(t.Context(), s.plan(newTitle), Seen{Answers: map[string]int{"/a": 200}}, env)
	require.NoError(t, err)
	assert.Equal(t, Took, report.Outcomes[0].Result, report.Outcomes[0].Says)
	assert.Equal(t, 2, asked)
}

// TestWhatNothingBringsBackIsSaid.
func TestWhatNothingBringsBackIsSaid(t *testing.T) {
	s := changing(t)
	env := s.env()
	env.Ask = func(context.Context, []string) map[string]int { return map[string]int{} }
	report, err := Write(t.Context(), s.plan(newTitle), Seen{Answers: map[string]int{"/form": 200}}, env)
	require.NoError(t, err)
	assert.Equal(t, Broke, report.Outcomes[0].Result)
	assert.Contains(t, report.Outcomes[0].Says, "/form answered nothing")
	assert.Contains(t, report.Outcomes[0].Says, "whatever is taken back")
	assert.Equal(t, pebbleINI, s.read("pebble.ini"))
}

// TestACacheIsBroughtBack, with what it held, and without what it has kept meanwhile.
func TestACacheIsBroughtBack(t *testing.T) {
	s := cached(t, "")
	changes := s.plan(newTitle)
	require.Len(t, changes, 2)
	for _, o := range s.write(changes).Outcomes {
		require.Equal(t, Took, o.Result, o.Says)
	}
	kept := filepath.Join(s.options.Root, "public", "kept")
	assert.NoFileExists(t, filepath.Join(kept, "a.html"))
	assert.Equal(t, "deny", s.read("public/kept/.htaccess"), "what rules the folder stays")
	aside, err := filepath.Glob(filepath.Join(s.options.Root, ".weltaxis-aside", "*"))
	require.NoError(t, err)
	require.Len(t, aside, 1)
	for _, name := range []string{filepath.Dir(aside[0]), aside[0]} {
		stat, err := os.Stat(name)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o700)|os.ModeDir, stat.Mode(), name)
	}
	s.put("public/kept/a.html", "new a")
	s.put("public/kept/c.html", "new c")
	undone := s.undo(Choice{})
	require.Len(t, undone.Changes, 2)
	assert.Equal(t, Purge, undone.Changes[1].Kind, "last")
	assert.Equal(t, "old a", s.read("public/kept/a.html"))
	assert.Equal(t, "old b", s.read("public/kept/deep/b.html"))
	assert.NoFileExists(t, filepath.Join(kept, "c.html"))
	assert.NoDirExists(t, filepath.Join(s.options.Root, ".weltaxis-aside"))
}

// TestACacheThatIsFilledWhileItIsEmptied: what it held is kept, and not what has come in the place of it meanwhile.
func TestACacheThatIsFilledWhileItIsEmptied(t *testing.T) {
	s := cached(t, "")
	changes := s.plan(newTitle)
	env := s.env()
	moved := 0
	env.Step = func(point string) {
		if _, err := os.Stat(filepath.Join(s.options.Root, "public", "kept", "a.html")); point == "after an edit" && err != nil && moved < 3 {
			moved++
			s.put("public/kept/a.html", "new a")
		}
	}
	report, err := Write(t.Context(), changes, Seen{}, env)
	require.NoError(t, err)
	env.Journal.Close()
	assert.Equal(t, Took, report.Outcomes[1].Result, report.Outcomes[1].Says)
	assert.Equal(t, 3, moved)
	assert.NoFileExists(t, filepath.Join(s.options.Root, "public", "kept", "a.html"))
	s.undo(Choice{})
	assert.Equal(t, "old a", s.read("public/kept/a.html"))
}

// TestTheCacheOfAPurgeTakenBackAlone stays empty, while what its run has made stays; and comes back with it.
func TestTheCacheOfAPurgeTakenBackAlone(t *testing.T) {
	s := cached(t, "")
	s.write(s.plan(newTitle))
	undone := s.undo(Choice{ID: 2})
	require.Equal(t, Purge, undone.Changes[0].Kind)
	assert.False(t, undone.Changes[0].Back)
	assert.NoFileExists(t, filepath.Join(s.options.Root, "public", "kept", "a.html"), "it shows the old title")
	assert.True(t, s.undo(Choice{ID: 1}).Changes[0].Back)
	assert.True(t, s.undo(Choice{ID: 2}).Changes[0].Back)
	assert.Equal(t, "old a", s.read("public/kept/a.html"))
}

// TestAScriptEmptiesTheCacheLast, on the way there and on the way back.
func TestAScriptEmptiesTheCacheLast(t *testing.T) {
	s := cached(t, "")
	p := &Plan{Discern: func(text string) string { return text }, Changes: s.plan(newTitle, debugOff)}
	text, err := p.Script("x", s.options.Root, p.Changes, nil)
	require.NoError(t, err)
	do, undo, _ := strings.Cut(text, "\nundo() {")
	for _, part := range []string{do, undo} {
		assert.Greater(t, strings.Index(part, "find ./public/kept "), strings.LastIndex(part, "into ./pebble.ini <<"))
	}
	require.NoError(t, ran(t, text, "apply"))
	s.put("public/kept/c.html", "new c")
	require.NoError(t, ran(t, text, "undo"))
	assert.Equal(t, pebbleINI, s.read("pebble.ini"))
	assert.NoFileExists(t, filepath.Join(s.options.Root, "public", "kept", "c.html"))
	assert.FileExists(t, filepath.Join(s.options.Root, "public", "kept", ".htaccess"))
}

// TestWhatSomebodyHasDoneIsNotTakenBack: permissions that were right already when the run came are not undone with it.
func TestWhatSomebodyHasDoneIsNotTakenBack(t *testing.T) {
	root, class := classed(t, "a.css", "a{}", 0o666)
	s, p := modesOf(t, root, class, 0o644)
	require.NoError(t, os.Chmod(filepath.Join(root, "a.css"), 0o644))
	report := s.write(p.Changes)
	assert.Equal(t, Took, report.Outcomes[0].Result)
	assert.Equal(t, "it was so already", report.Outcomes[0].Says)
	assert.Empty(t, s.undo(everyOne).Changes)
	m, _ := modeIn(root, "a.css")
	assert.Equal(t, uint32(0o644), m)
}

// TestACacheStaysEmptyWhereSomethingStays: what it held shows the site as it was, and the site is not.
func TestACacheStaysEmptyWhereSomethingStays(t *testing.T) {
	s := cached(t, "")
	s.write(s.plan(newTitle))
	s.put("pebble.ini", strings.Replace(s.read("pebble.ini"), "title = New", "title = Theirs", 1))
	s.put("public/kept/c.html", "new c")
	undone := s.undo(Choice{})
	assert.False(t, undone.Changes[0].Back)
	assert.False(t, undone.Changes[1].Back)
	assert.Contains(t, undone.Changes[1].Says, "comes back when the rest of the run does")
	assert.NoFileExists(t, filepath.Join(s.options.Root, "public", "kept", "a.html"))
	assert.NoFileExists(t, filepath.Join(s.options.Root, "public", "kept", "c.html"))
	s.put("pebble.ini", strings.Replace(s.read("pebble.ini"), "title = Theirs", "title = New", 1))
	for _, u := range s.undo(Choice{}).Changes {
		assert.True(t, u.Back, u.Says)
	}
	assert.Equal(t, "old a", s.read("public/kept/a.html"), "and now it does")
	assert.NoDirExists(t, filepath.Join(s.options.Root, ".weltaxis-aside"))
}

// TestUndoOfOneChangeEmptiesWhatWasKeptSince, though the emptying of its run is not taken back with it.
func TestUndoOfOneChangeEmptiesWhatWasKeptSince(t *testing.T) {
	s := cached(t, "")
	changes := s.plan(newTitle)
	s.write(changes[:1]) // nobody has emptied the cache
	later := time.Now().Add(time.Second)
	s.put("public/kept/c.html", "new c")
	require.NoError(t, os.Chtimes(filepath.Join(s.options.Root, "public", "kept", "c.html"), later, later))
	assert.Empty(t, s.undo(Choice{}).Says)
	assert.Equal(t, "old a", s.read("public/kept/a.html"), "it was kept before")
	assert.NoFileExists(t, filepath.Join(s.options.Root, "public", "kept", "c.html"))
}

// TestWhatWasMovedAsideExpires with what undo needs; what another journal may still want stays.
func TestWhatWasMovedAsideExpires(t *testing.T) {
	s := cached(t, "")
	old, young := time.Now().UTC().Add(-Keep-time.Hour).Format(runStamp)+"x-3", time.Now().UTC().Format(runStamp)+"-4"
	for _, name := range []string{old, young, "by hand"} {
		require.NoError(t, os.MkdirAll(filepath.Join(s.options.Root, ".weltaxis-aside", name), 0o700))
	}
	s.write(s.plan(debugOff))
	assert.NoDirExists(t, filepath.Join(s.options.Root, ".weltaxis-aside", old))
	assert.DirExists(t, filepath.Join(s.options.Root, ".weltaxis-aside", young))
	assert.DirExists(t, filepath.Join(s.options.Root, ".weltaxis-aside", "by hand"))
	env := s.env()
	defer env.Journal.Close()
	assert.Equal(t, 0, env.ForgetAside(time.Hour))
	assert.Equal(t, 2, env.ForgetAside(-time.Hour), "as history prune does it: of this run, and the young one")
	assert.NoDirExists(t, filepath.Join(s.options.Root, ".weltaxis-aside", young))
}

// TestAFolderThatIsNoCacheIsNotEmptied: what has come to lie there between the reading of the dialect and the run decides.
func TestAFolderThatIsNoCacheIsNotEmptied(t *testing.T) {
	for name, spoil := range map[string]func(t *testing.T, s *pebbles){
		"a database": func(_ *testing.T, s *pebbles) {
			s.dialect.Databases["main"] = dialect.Database{SQLite: "public/kept/deep/main.db"}
		},
		"a store":    func(_ *testing.T, s *pebbles) { s.dialect.Stores["other"] = dialect.Store{Folder: "public/kept/deep"} },
		"the public": func(_ *testing.T, s *pebbles) { s.dialect.Caches[0].Folder = "public" },
		"uploads":    func(_ *testing.T, s *pebbles) { s.dialect.Roles[dialect.Uploads] = []string{"public/kept/deep/"} },
		"a backup":   func(_ *testing.T, s *pebbles) { s.put("public/kept/deep/all.sql.gz", "x") },
		"a pipe": func(t *testing.T, s *pebbles) {
			require.NoError(t, pipe(filepath.Join(s.options.Root, "public", "kept", "p")))
		},
		"a link to elsewhere": func(t *testing.T, s *pebbles) {
			kept := filepath.Join(s.options.Root, "public", "kept")
			require.NoError(t, os.Rename(kept, kept+"-really"))
			require.NoError(t, os.Symlink("kept-really", kept))
		},
		"a role of its own": func(_ *testing.T, s *pebbles) { s.dialect.Roles[dialect.Cache] = []string{"elsewhere/"} },
	} {
		t.Run(name, func(t *testing.T) {
			s := cached(t, "")
			changes := s.plan(newTitle)
			require.True(t, changes[1].Makeable())
			spoil(t, s)
			later := s.plan(newTitle)
			require.Equal(t, Purge, later[len(later)-1].Kind)
			assert.NotEmpty(t, later[len(later)-1].Cannot, "when it is planned")
			changes[1].Name = s.dialect.Caches[0].Folder
			assert.Equal(t, Trouble, s.write(changes).Outcomes[1].Result, "and when it is made")
			assert.Equal(t, "old a", s.read("public/kept/a.html"))
			assert.Equal(t, "old b", s.read("public/kept/deep/b.html"))
		})
	}
}

// TestACacheOfAnotherFileSystem cannot be moved out of it: it is emptied for good, and that is said.
func TestACacheOfAnotherFileSystem(t *testing.T) {
	s := cached(t, "")
	kept := filepath.Join(s.options.Root, "public", "kept")
	if out, err := exec.Command("mount", "-t", "tmpfs", "none", kept).CombinedOutput(); err != nil {
		t.Skipf("nothing can be mounted here: %s", out)
	}
	defer func() { _ = exec.Command("umount", kept).Run() }()
	s.put("public/kept/a.html", "old a")
	report := s.write(s.plan(newTitle))
	assert.Equal(t, Took, report.Outcomes[1].Result, report.Outcomes[1].Says)
	assert.Contains(t, report.Outcomes[1].Says, "what it held is not kept: it cannot be moved out of its folder")
	assert.NoFileExists(t, filepath.Join(kept, "a.html"))
	assert.NoDirExists(t, filepath.Join(s.options.Root, ".weltaxis-aside"))
	assert.Contains(t, s.undo(Choice{}).Changes[1].Says, "was not kept")
}

// TestACacheWithoutAPlaceAside is emptied for good, and that is said before and afterwards.
func TestACacheWithoutAPlaceAside(t *testing.T) {
	s := cached(t, "")
	changes := s.plan(newTitle)
	assert.NotContains(t, changes[1].Because, "not kept")
	s.dialect.Public = ""
	assert.Contains(t, s.plan(newTitle)[1].Because, "what it held is not kept: the whole root is served")
	report := s.write(changes)
	assert.Contains(t, report.Outcomes[1].Says, "what it held is not kept: the whole root is served")
	assert.NoFileExists(t, filepath.Join(s.options.Root, "public", "kept", "a.html"))
	assert.Contains(t, s.undo(Choice{}).Changes[1].Says, "was not kept")
}

// TestUndoSaysWhatItCouldNotEmpty: a cache that is called, without a way to call it.
func TestUndoSaysWhatItCouldNotEmpty(t *testing.T) {
	s := cached(t, "")
	s.write(s.plan(newTitle)[:1])
	s.dialect.Caches = append(s.dialect.Caches, dialect.Kept{Purge: "/empty"})
	assert.Contains(t, s.undo(Choice{}).Says, "A cache may still hold pages as they were before: there is no live source to call it through.")
}

// TestUndoLooksAgain, and says what deviates that did not before the run.
func TestUndoLooksAgain(t *testing.T) {
	s := changing(t)
	env := s.env()
	_, err := Write(t.Context(), s.plan(newTitle), Seen{Deviating: map[string][]string{"titles.site-own": {"site"}}}, env)
	require.NoError(t, err)
	env.Journal.Close()
	again := func(now Seen, err error) *Undone {
		env := s.env()
		defer env.Journal.Close()
		env.Recheck = func(context.Context) (Seen, error) { return now, err }
		records, readErr := ReadJournal(s.state)
		require.NoError(t, readErr)
		return Undo(t.Context(), records, env)
	}
	assert.Empty(t, again(Seen{Deviating: map[string][]string{"titles.site-own": {"site"}}}, nil).New, "that was so before")
	assert.Equal(t, []string{"titles.served"}, again(Seen{Deviating: map[string][]string{"titles.served": {"/"}}}, nil).New)
	assert.Contains(t, again(Seen{}, errors.New("gone")).Says, "Nobody could look at it afterwards: gone.")
}

// TestAClockThatJumps takes nothing back in the wrong order, and keeps runs apart: the last run is the last, whatever its
// hour.
func TestAClockThatJumps(t *testing.T) {
	s := changing(t)
	at := time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC)
	run := func(jump time.Duration, d facts.Deviation) {
		at = at.Add(jump)
		j, err := OpenJournal(s.state, func() time.Time { return at })
		require.NoError(t, err)
		defer j.Close()
		_, err = Write(t.Context(), s.plan(d), Seen{}, Env{Dialect: s.dialect, Stores: s.options, FilesRoot: s.options.Root, Journal: j})
		require.NoError(t, err)
	}
	run(0, newTitle)
	run(-400*24*time.Hour, debugOff) // the clock was wrong, and is set back
	run(0, set("titles.site-own", facts.Safe, "site.title", "Newer"))
	records, err := ReadJournal(s.state)
	require.NoError(t, err)
	var last []string
	for _, r := range Chosen(records, Choice{}) {
		last = append(last, r.To)
	}
	assert.Equal(t, []string{"Newer"}, last, "two runs of the same second are two")
	j, err := OpenJournal(s.state, func() time.Time { return at })
	require.NoError(t, err)
	defer j.Close()
	undone := Undo(t.Context(), Chosen(records, Choice{Since: at}), Env{Dialect: s.dialect, Stores: s.options, FilesRoot: s.options.Root, Journal: j})
	for _, u := range undone.Changes {
		assert.True(t, u.Back, u.Says)
	}
	assert.Len(t, undone.Changes, 3, "all since then, by their hours")
}
