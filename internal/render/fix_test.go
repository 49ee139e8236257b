package render

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"weltaxis/internal/dialect"
	"weltaxis/internal/discover"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/report"
	"weltaxis/internal/store"
	"weltaxis/internal/tree"
)

func page() (*bytes.Buffer, Sheet) {
	var b bytes.Buffer
	return &b, Sheet{&b, 80}
}

func text(v string) facts.Value { return facts.TextOf(facts.String, v) }

// hostile is what a site may put into anything that is shown.
const hostile = "x\x1b[31m\u202ey"

func unharmed(t *testing.T, out string) {
	t.Helper()
	assert.NotContains(t, out, "x\x1b[31m")
	assert.NotContains(t, out, "\u202e")
}

func TestAPlanReadsAsOne(t *testing.T) {
	old := "old" + hostile
	now := "new"
	plan := &fix.Plan{Discern: func(s string) string { return s }, Changes: []fix.Change{
		{ID: 1, Kind: fix.Setting, Name: "debug.on", Rules: []string{"hardening.debug-off"}, From: facts.BoolOf(true), To: facts.BoolOf(false), Risk: facts.Safe, Because: "nobody outside notices",
			Edits: []store.Edit{store.FileEdit{File: "config.ini", Before: []byte("a = 1\ndebug = on\nb = 2\n"), After: []byte("a = 1\ndebug = off\nb = 2\n")}}},
		{ID: 2, Kind: fix.Setting, Name: "site.title", From: text(hostile), To: text("New"), Risk: facts.Visible, Because: "seen", Lasting: true, Key: "site.title", Or: "another",
			Edits: []store.Edit{store.RowEdit{Kind: dialect.KindTable, Table: "options", Column: "value", Where: map[string]string{"name": "title"}, Old: &old, New: &now}}},
		{ID: 3, Kind: fix.Modes, Name: "mode", Subject: "config.ini", From: facts.NumberOf(facts.Mode, 0o666), To: facts.NumberOf(facts.Mode, 0o444), Risk: facts.Safe, Because: "locked",
			Members: []tree.Entry{{Path: "a" + hostile}, {Path: "b"}, {Path: "c"}, {Path: "d"}, {Path: "e"}}},
		{ID: 4, Kind: fix.Setting, Name: "mail.admin", Key: "mail.admin", Needs: "a mailbox", Risk: facts.Safe},
		{ID: 5, Kind: fix.Setting, Name: "front.shows", To: text("page"), Needs: "together with front.page", Risk: facts.Visible},
		{ID: 6, Kind: fix.Person, Name: "hardening.secret", Subject: "site", Steps: []string{"Make a key."}},
		{ID: 7, Kind: fix.Setting, Name: "site.icon", Cannot: "it is worked out", Steps: []string{"Set it by hand, at Looks."}},
		{ID: 8, Kind: fix.Field, Name: "title", Subject: "/about/", From: text("a"), To: text("b"), Risk: facts.Disruptive, Because: "why not", Edits: []store.Edit{store.RowEdit{Kind: dialect.KindRow, Table: "pages", Column: "title", New: &now}}},
		{ID: 9, Kind: fix.Purge, Name: "cache/", Risk: facts.Visible, Because: "slower"},
	}}
	plan.Changes = append(plan.Changes, fix.Change{ID: 10, Kind: fix.Person, Name: strings.Repeat("a long name ", 12), Subject: "site", Steps: []string{strings.Repeat("a long step ", 20)}})
	b, p := page()
	Plan(p, "A site"+hostile, plan, facts.Safe)
	for line := range strings.Lines(ansi.Strip(b.String())) {
		assert.LessOrEqual(t, ansi.StringWidth(strings.TrimRight(line, "\n")), 80, line)
	}
	out := ansi.Strip(b.String())
	unharmed(t, b.String())
	for _, want := range []string{"safe: nobody outside notices", "-debug = on", "+debug = off", "the file config.ini", "table options, title, column value", "0666  rw-rw-rw-", "0444  r--r--r--", "and 2 more",
		"browsers and search engines remember it", `or      --value site.title="...": another`, `--value mail.admin="..."`, "waits   together with front.page", "do      Make a key.", "why     it is worked out",
		"the page about: its own title", "the page cache cache/, emptied", "2 safe, 2 visible, 1 disruptive, 2 waiting for a value. Nothing was written."} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "--- a/config.ini", "two lines of the diff say nothing to people")
	b, p = page()
	Plan(p, "A site", &fix.Plan{}, facts.Safe)
	assert.Contains(t, b.String(), "Nothing deviates")
}

func TestAnOutcomeSaysWhatTookAndWhatDidNot(t *testing.T) {
	report := &fix.Report{New: []string{"metadata.canonical"}}
	for _, result := range []string{fix.Took, fix.Stale, fix.NotTook, fix.Left, fix.Broke, fix.Trouble, fix.Waits} {
		report.Outcomes = append(report.Outcomes, fix.Outcome{Change: fix.Change{Kind: fix.Setting, Name: "site.title", From: text(hostile), To: text("b")}, Result: result, Says: "because" + hostile, Record: 3})
	}
	b, p := page()
	Outcome(p, "A site", report, []fix.Change{{Kind: fix.Setting, Risk: facts.Visible}, {Kind: fix.Setting, Risk: facts.Disruptive}, {Kind: fix.Setting, Needs: "x"}, {Kind: fix.Person}, {Kind: fix.Purge}})
	out := ansi.Strip(b.String())
	unharmed(t, b.String())
	assert.Contains(t, out, "1 took, 1 took, not seen yet, 1 did not take, 1 left alone, 1 taken back, 1 failed and 1")
	assert.Contains(t, out, "Not made: 1 visible (--allow visible), 1 disruptive")
	assert.Contains(t, out, "1 for a person")
	assert.Contains(t, out, "metadata.canonical")
	assert.Contains(t, out, "weltaxis undo takes this run back")
	b, p = page()
	Outcome(p, "A site", &fix.Report{}, nil)
	assert.Contains(t, b.String(), "no change that could be made was asked for")
	assert.NotContains(t, b.String(), "undo")
}

func TestHistoryAndUndoAreListed(t *testing.T) {
	moment := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	record := fix.LogLine{Run: "a", ID: 7, At: moment, Event: fix.Done, Kind: fix.Setting, Name: "site.title", From: hostile, To: "b", Until: moment.Add(fix.Keep)}
	modes, purged, undone := record, record, record
	modes.ID, modes.Kind, modes.Name, modes.Subject = 8, fix.Modes, "mode", "config.ini"
	purged.ID, purged.Kind, purged.Name = 9, fix.Purge, "cache/"
	undone.ID, undone.Run, undone.Event = 10, "b", fix.TakenBackByUndo
	b, p := page()
	History(p, "A site", report.Past(nil, []fix.LogLine{record, modes, purged, undone}), moment)
	out := ansi.Strip(b.String())
	unharmed(t, b.String())
	assert.Equal(t, 3, strings.Count(out, "23 Dec 2026"), "what is undone is not undone again")
	assert.Contains(t, out, "permissions of")
	assert.Equal(t, 2, strings.Count(out, "23 November 2026"), "a heading a run")
	b, p = page()
	History(p, "A site", report.Past(nil, nil), moment)
	assert.Contains(t, b.String(), "no change by this program")
	b, p = page()
	Undone(p, "A site", &fix.Undone{Changes: []fix.Undoing{{LogLine: record, Back: true}, {LogLine: modes, Says: "somebody has changed it since" + hostile}},
		New: []string{"a.b"}, Says: hostile})
	assert.Contains(t, b.String(), "1 of 2 are as they were")
	assert.Contains(t, b.String(), "b → x")
	unharmed(t, b.String())
}

func TestDialectsAreShown(t *testing.T) {
	var all []*dialect.Dialect
	for _, name := range dialect.Shipped() {
		d, err := dialect.Load(name, "")
		assert.NoError(t, err)
		all = append(all, d)
	}
	b, p := page()
	Dialects(p, all)
	assert.Contains(t, b.String(), "115\u00a0of\u00a0115")
	assert.Len(t, DialectList(all), 3)

	b, p = page()
	CheckedDialect(p, all[0], "", nil)
	assert.Contains(t, b.String(), "is in order: 115 settings and 8 lists")
	b, p = page()
	CheckedDialect(p, all[0], "/srv"+hostile, []discover.Checked{{Name: "site.title", Value: hostile, Place: "a/b"}, {Name: "site.icon", Wrong: "no such" + hostile}, {Name: "site.logo", Wrong: "x", Unseen: true}})
	out := ansi.Strip(b.String())
	unharmed(t, b.String())
	assert.Contains(t, out, "there and back")
	assert.Contains(t, out, "site.icon  no such")
	assert.Contains(t, out, "1 more entry could not be read")

	b, p = page()
	Draft(p, &discover.Draft{Notes: []string{"the database was not looked at"}, Findings: []discover.Finding{{Setting: "site.title", Place: "a/b", Origin: hostile, Shown: hostile, Sure: 0.9, Certain: true, Because: []string{hostile}},
		{Setting: "site.icon", Place: "a/c", Origin: "x", Next: "y", Sure: 0.4}}}, []discover.Likeness{{Dialect: "ostler", Sure: 0.9, By: []string{"there is a file"}}}, "found.yaml")
	out = ansi.Strip(b.String())
	unharmed(t, b.String())
	for _, want := range []string{"This looks like ostler (sure: 0.90)", "written", "suggested", "1 setting written as sure, 1 suggestion in comments", "weltaxis dialect check ./found.yaml", "the database was not looked at"} {
		assert.Contains(t, strings.Join(strings.Fields(out), " "), want)
	}
}
