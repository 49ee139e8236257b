package audit

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/site"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// rulesOf loads a baseline of one's own with a rule of each severity, which deviate when a setting says so.
func rulesOf(t *testing.T) *baseline.Baseline {
	t.Helper()
	text := "rules:\n"
	for id, rule := range map[string][2]string{
		"titles.one": {"critical", "settings.site.title == 'A'"}, "titles.two": {"high", "settings.site.tagline == 'A'"},
		"identity.three": {"medium", "settings.meta.rights == 'A'"}, "hardening.four": {"note", "settings.site.title == 'A'"},
	} {
		text += "  - {id: " + id + ", severity: " + rule[0] + ", holds: \"" + rule[1] + "\", says: s, expected: e, why: w, fix: {risk: safe, steps: [f]}}\n"
	}
	name := filepath.Join(t.TempDir(), "own.yaml")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	b, err := baseline.Load(name)
	require.NoError(t, err)
	require.NoError(t, b.Compile("titles.one", "titles.two", "identity.three", "hardening.four"))
	return b
}

func said(name, text string) facts.Reading {
	entry, _ := facts.Lookup("settings." + name)
	return facts.Reading{Source: facts.Settings, Name: name, Value: facts.TextOf(entry.Type, text), Origin: facts.Origin{File: "f", Line: 1}}
}

func snapshotOf(readings ...facts.Reading) *facts.Snapshot {
	return &facts.Snapshot{Taken: noon, Seen: facts.Seen{Readings: readings, Gaps: []facts.Gap{}}, Sources: []facts.Asked{{Source: facts.Settings}}}
}

func TestAlignmentIsWeighed(t *testing.T) {
	rules := rulesOf(t)
	r := Judge(rules, snapshotOf(said("site.title", "A"), said("site.tagline", "B")), Options{})
	assert.InDelta(t, 8.0/12, *r.Alignment, 0.001, "critical holds, high deviates, notes weigh nothing")
	assert.InDelta(t, 12.0/14, *r.Judged, 0.001, "medium was not judged")
	assert.Equal(t, map[facts.Severity]int{facts.Critical: 0, facts.High: 1, facts.Medium: 0, facts.Low: 0, facts.Note: 0}, r.Counts)
	assert.True(t, r.AtOrAbove(facts.High))
	assert.True(t, r.AtOrAbove(facts.Low))
	assert.False(t, r.AtOrAbove(facts.Critical))

	none := Judge(rules, snapshotOf(), Options{})
	assert.Nil(t, none.Alignment, "nothing judged is not everything fine")
	assert.Equal(t, 0.0, *none.Judged)
	assert.False(t, none.AtOrAbove(facts.Note))
}

func TestADeclarationIsNotMissedWhereItsEffectWasSeen(t *testing.T) {
	b, err := baseline.Load()
	require.NoError(t, err)
	require.NoError(t, b.Compile("visibility.index-live", "visibility.index-declared"))
	s := snapshotOf(facts.Reading{Source: facts.Intent, Name: "stage", Value: facts.TextOf(facts.Words, "live")})
	s.Add(facts.Reading{Source: facts.Intent, Name: "audience", Value: facts.TextOf(facts.Words, "public")})
	s.Add(facts.Reading{Source: facts.Live, Name: "home.hidden_by", Value: facts.TextOf(facts.String, "")})
	r := Judge(b, s, Options{})
	assert.Len(t, r.NotJudged, 1, "it is still told")
	assert.Empty(t, r.Unjudged())
	assert.Equal(t, 1.0, *r.Judged)
}

func TestDeviationsComeInTheOrderOfWork(t *testing.T) {
	r := Judge(rulesOf(t), snapshotOf(said("site.title", "B"), said("site.tagline", "B"), said("meta.rights", "B")), Options{})
	var order []string
	for _, d := range r.Deviations {
		order = append(order, d.Rule)
	}
	assert.Equal(t, []string{"titles.one", "titles.two", "identity.three", "hardening.four"}, order)
	assert.Equal(t, 1, r.Counts[facts.Note])
}

func TestWhatIsAcceptedDoesNotCountUntilItsLastDayIsOver(t *testing.T) {
	for _, c := range []struct {
		until    string
		subject  string
		accepted bool
	}{{"2026-11-23", "*", true}, {"2026-11-22", "*", false}, {"2027-01-01", "site", true}, {"2027-01-01", "other", false}} {
		until, err := facts.Date.Parse(c.until)
		require.NoError(t, err)
		s := snapshotOf(said("site.title", "B"), said("site.tagline", "A"))
		s.Accept = []facts.Acceptance{{Rule: "titles.one", Subject: c.subject, Because: "so", Until: until}}
		r := Judge(rulesOf(t), s, Options{})
		assert.Equal(t, c.accepted, r.Counts[facts.Critical] == 0, "%+v", c)
		assert.Equal(t, c.until == "2026-11-22", len(r.Lapsed) == 1)
		assert.Equal(t, c.subject == "other", len(r.Astray) == 1, "nothing answers to it")
		assert.Equal(t, c.accepted, !slices.ContainsFunc(r.Entries(), func(e Entry) bool { return e.First().Rule == "titles.one" }), "what is accepted is no entry")
		if c.accepted {
			assert.InDelta(t, 1.0, *r.Alignment, 0.001, "an accepted deviation is on neither side")
		}
	}
}

// TestAcceptingOneThingHidesNothingWorse: a worse deviation of the rule counts, and so does what else has the same cause.
func TestAcceptingOneThingHidesNothingWorse(t *testing.T) {
	until, err := facts.Date.Parse("2027-01-01")
	require.NoError(t, err)
	class := func(mode string) facts.Class {
		return facts.Class{Role: "config", Kind: "file", Content: "data", Mode: mode, Owner: "app", Group: "app", Count: 1, Paths: []string{"config.php"}, Single: true}
	}
	judge := func(mode string, accept ...facts.Acceptance) *Result {
		b, err := baseline.Load()
		require.NoError(t, err)
		require.NoError(t, b.Compile("permissions"))
		s := snapshotOf()
		s.Classes, s.Accept = []facts.Class{class(mode)}, accept
		return Judge(b, s, Options{})
	}
	locked := facts.Acceptance{Rule: "permissions.config-locked", Subject: "*", Because: "so", Until: until, Severity: facts.Medium}
	r := judge("0640", locked)
	assert.Empty(t, r.Entries(), "it is what was accepted")
	r = judge("0662", locked)
	require.NotEmpty(t, r.Entries())
	assert.Equal(t, "permissions.config-locked", r.Entries()[0].First().Rule, "everybody may write now, which is worse")
	locked.Severity = 0
	r = judge("0662", locked)
	var counts []string
	for _, e := range r.Entries() {
		counts = append(counts, e.First().Rule)
	}
	assert.Equal(t, []string{"permissions.not-world-writable"}, counts, "what is accepted hides nothing with the same cause")
}

// TestARuleThatWasNamedAndCouldNotBeJudgedIsMissed, though no source failed.
func TestARuleThatWasNamedAndCouldNotBeJudgedIsMissed(t *testing.T) {
	for _, only := range []string{"titles.two", "titles"} {
		r := Judge(rulesOf(t), snapshotOf(said("site.title", "A")), Options{Only: []string{only}})
		assert.Equal(t, only == "titles.two", r.Partial(), only)
	}
}

func TestTheStageMayBeAnother(t *testing.T) {
	s := snapshotOf(facts.Reading{Source: facts.Intent, Name: "stage", Value: facts.TextOf(facts.Words, "building")})
	r := Judge(rulesOf(t), s, Options{Stage: "live"})
	assert.Equal(t, "live", r.Stage)
	stage, _ := s.Effective("intent.stage")
	assert.Equal(t, "--stage", stage.Origin.File)
}

func TestEntriesGroupWhatIsAlike(t *testing.T) {
	r := &Result{Deviations: []facts.Deviation{{Rule: "a.b", Severity: facts.Low, Subject: "1"}, {Rule: "a.b", Severity: facts.High, Subject: "2"}, {Rule: "a.b", Severity: facts.Low, Subject: "3"}}}
	entries := r.Entries()
	require.Len(t, entries, 2)
	assert.Len(t, entries[0], 2)
}

func TestPagesWithTheMostTroubleComeFirst(t *testing.T) {
	page := func(path, title string) facts.Page { return facts.Page{Path: path, Title: title, Indexable: true} }
	r := &Result{Snapshot: &facts.Snapshot{Seen: facts.Seen{Pages: []facts.Page{page("/a", "x"), page("/b", "y"), page("/c", "x")}}},
		Deviations: []facts.Deviation{{Rule: "a.low", Severity: facts.Low, Subject: "/c"}, {Rule: "a.high", Severity: facts.High, Subject: "/b"},
			{Rule: "a.fine", Severity: facts.Critical, Subject: "/a", Accepted: &facts.Acceptance{}}},
		Covered: []baseline.Covered{{Rule: "a.under", Subject: "/c", Deviation: facts.Deviation{Severity: facts.Low}}}}
	rows := r.Pages()
	assert.Equal(t, []string{"/b", "/c", "/a"}, []string{rows[0].Path, rows[1].Path, rows[2].Path})
	assert.Equal(t, []string{"a.low", "a.under"}, rows[1].Deviates, "what is settled with others is this page's trouble too")
	assert.Empty(t, rows[2].Deviates)
	shared := Shared(rows, func(page *facts.Page) string { return page.Title })
	require.Len(t, shared, 1)
	assert.Len(t, shared[0], 2)
}

func TestSettingsSideBySide(t *testing.T) {
	s := snapshotOf(said("site.title", "B"), said("site.title", "C"), said("site.tagline", "A"))
	s.Add(facts.Reading{Source: facts.Live, Name: "home.title", Value: facts.TextOf(facts.String, "served")})
	r := Judge(rulesOf(t), s, Options{})
	rows := map[string]Row{}
	for _, row := range r.SideBySide(false) {
		rows[row.Setting] = row
	}
	assert.Len(t, rows, len(facts.Of(facts.Settings)))
	title := rows["site.title"]
	assert.Equal(t, facts.Deviates, title.Verdict)
	assert.Len(t, title.Declared, 2)
	assert.Equal(t, "served", title.Served.Value.Text())
	assert.Equal(t, "e", title.Expected)
	assert.Equal(t, facts.Holds, rows["site.tagline"].Verdict)
	assert.Equal(t, facts.NotJudged, rows["meta.rights"].Verdict)
	assert.NotEmpty(t, rows["meta.rights"].Because)
	assert.Equal(t, facts.NoRule, rows["feed.items"].Verdict)
	assert.Len(t, r.SideBySide(true), 3)
}

func TestTreeSaysWhatIsExpectedOfEachClass(t *testing.T) {
	class := facts.Class{Role: "config", Kind: "file", Mode: "0666", Count: 1, Paths: []string{"config.php"}, Single: true}
	r := &Result{Snapshot: &facts.Snapshot{Seen: facts.Seen{Classes: []facts.Class{class, {Role: "code", Kind: "file", Paths: []string{"a"}}}}},
		Deviations: []facts.Deviation{{Rule: "p.a", Subject: "config.php", Expected: "closed", Fix: facts.Proposal{Kind: facts.KindMode, Mode: &facts.ModeTarget{To: facts.NumberOf(facts.Mode, 0o444)}}}}}
	rows := r.Tree()
	assert.Equal(t, "0444", rows[0].Expected)
	assert.Equal(t, []string{"p.a"}, rows[0].Rules)
	assert.Empty(t, rows[1].Expected)
}

func TestASiteFileThatCannotBeUsedIsAnError(t *testing.T) {
	load := func(text string) error {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "bad.yaml"), []byte("dialect: x\n"), 0o600))
		s, err := site.Parse(filepath.Join(dir, "weltaxis.yaml"), []byte(text))
		require.NoError(t, err)
		_, err = Run(t.Context(), s, noon, Options{Offline: true})
		return err
	}
	assert.ErrorContains(t, load("site: A\nsources: {settings: {dialect: ./bad.yaml, root: .}}\n"), "./bad.yaml: version is missing")
	assert.ErrorContains(t, load("site: A\nsources: {files: {root: .}}\nbaseline: [none.yaml]\n"), "reading the baseline")
	assert.ErrorContains(t, load("site: A\nsources: {files: {root: .}}\nlimits: {file_mode: '9'}\n"), "line 3, column 21: limits: limit file_mode")
	dir := t.TempDir()
	s, err := site.Parse(filepath.Join(dir, "weltaxis.yaml"), []byte("site: A\nintent: {address: 'https://a.example'}\nsources: {live: {trust: none.pem}}\n"))
	require.NoError(t, err)
	_, err = Run(t.Context(), s, noon, Options{})
	assert.ErrorContains(t, err, "live: trust:")
	s.Sources.Live.Trust, s.Sources.Live.User = "", "a:${WELTAXIS_NOT_SET}"
	_, err = Run(t.Context(), s, noon, Options{})
	assert.ErrorContains(t, err, "WELTAXIS_NOT_SET is not set")
}

func TestASnapshotsLimitsAreKept(t *testing.T) {
	b, err := RulesFor(&facts.Snapshot{Limits: map[string]facts.Value{"session_idle": facts.NumberOf(facts.Duration, 60)}}, Options{Only: []string{"hardening.session"}})
	require.NoError(t, err)
	assert.Equal(t, "1m", b.Limits["session_idle"].Value.String())
	_, err = RulesFor(&facts.Snapshot{Limits: map[string]facts.Value{"session_idle": facts.NumberOf(facts.Int, 60)}}, Options{})
	assert.ErrorContains(t, err, "session_idle")
}

// TestSettingsOverHTTPThroughASiteFile: a system that offers its settings over HTTP needs no folder; the token comes
// from the environment, and --offline asks nobody.
func TestSettingsOverHTTPThroughASiteFile(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer MARKED" || r.URL.Path != "/v1/settings" {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		_, _ = io.WriteString(w, `{"title": "My Brook", "debug": true}`)
	}))
	defer server.Close()
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("brook.yaml", "dialect: brook\nversion: 1\nstores: {api: {api: /v1/settings, format: json}}\nsettings:\n  site.title: {from: api/title, factory: [My Brook]}\n  debug.on: {from: api/debug}\n")
	write(site.FileName, "site: S\nintent: {stage: live, address: "+server.URL+"}\nsources: {settings: {dialect: ./brook.yaml, api: "+server.URL+"/, token: \"${BROOK_TOKEN}\"}}\n")
	t.Setenv("BROOK_TOKEN", "MARKED")
	s, err := site.Load(dir)
	require.NoError(t, err)
	run := func(options Options) *Result {
		options.Tool = "test"
		r, err := Run(t.Context(), s, time.Now(), options)
		require.NoError(t, err)
		return r
	}
	r := run(Options{})
	title, known := r.Snapshot.Effective("settings.site.title")
	require.True(t, known, "%v", r.Gaps)
	assert.Equal(t, "My Brook", title.Value.Text())
	assert.True(t, title.Factory)
	assert.Equal(t, server.URL+"/v1/settings", title.Origin.URL)
	assert.False(t, r.Partial())
	assert.True(t, run(Options{Offline: true}).Partial())
	t.Setenv("BROOK_TOKEN", "MARKED-wrong")
	r = run(Options{})
	assert.True(t, r.Partial())
	assert.Contains(t, r.Gaps[0].Because, "Forbidden")
	text, err := json.Marshal(r)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "MARKED")
}

func TestAContextThatEndsIsTheOnlyErrorOfAStep(t *testing.T) {
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	s, err := site.Bare("http://127.0.0.1:1")
	require.NoError(t, err)
	_, err = Look(ended, s, noon, Options{})
	assert.ErrorIs(t, err, context.Canceled)
	seen, err := Look(t.Context(), s, noon, Options{})
	require.NoError(t, err)
	assert.Contains(t, seen.Gaps[0].Because, "refused", "all else is a gap")
}

// TestASettingHasTheVerdictOfItsWorstSide: what the audit says deviates holds in no list of settings, be it said of another place or put right by changing this one.
func TestASettingHasTheVerdictOfItsWorstSide(t *testing.T) {
	b, err := baseline.Load()
	require.NoError(t, err)
	require.NoError(t, b.Compile("hardening.firewall", "hardening.firewall-learning", "hardening.errors-hidden", "runtime.errors-hidden"))
	at := facts.Origin{File: ".user.ini", Line: 2}
	for _, c := range []struct {
		shown    bool // by the runtime
		learning int  // for how many days
		want     map[string]facts.Verdict
	}{
		{true, 60, map[string]facts.Verdict{"firewall.mode": facts.Deviates, "debug.errors_shown": facts.Deviates}},
		{false, 2, map[string]facts.Verdict{"firewall.mode": facts.Holds, "debug.errors_shown": facts.Holds}},
	} {
		s := snapshotOf(facts.IntentStage.Reading("live", facts.Origin{}), said("firewall.mode", "learning"),
			facts.FirewallLearning.Reading(noon.AddDate(0, 0, -c.learning).Unix(), facts.Origin{File: "f", Line: 2}), facts.DebugErrorsShown.Reading(false, facts.Origin{File: "f", Line: 3}),
			facts.Reading{Source: facts.Runtime, Name: "errors_shown", Value: facts.BoolOf(c.shown), Origin: at})
		s.Folders = []facts.Folder{{Address: "/", Cells: map[string]facts.Cell{"errors_shown": {Value: facts.BoolOf(c.shown), Origin: at}}}}
		r := Judge(b, s, Options{})
		is := map[string]facts.Verdict{}
		for _, row := range r.SideBySide(true) {
			is[row.Setting] = row.Verdict
		}
		for setting, want := range c.want {
			assert.Equal(t, want, is[setting], "%s %+v", setting, c)
		}
	}
}

// TestOneFileHasOneMode: rules that take different permissions from a file propose one mode, with its risk, after which none of them deviates.
func TestOneFileHasOneMode(t *testing.T) {
	b, err := baseline.Load()
	require.NoError(t, err)
	require.NoError(t, b.Compile("permissions"))
	for _, mode := range []string{"0666", "0664", "0660", "0662", "0646", "0777", "4755", "0640"} {
		judge := func(mode string) *Result {
			s := snapshotOf(facts.IntentStage.Reading("live", facts.Origin{}), facts.IntentWebUser.Reading("www", facts.Origin{}))
			s.Classes = []facts.Class{{Role: "config", Kind: "file", Content: "program", Mode: mode, Owner: "app", Group: "app", Count: 1, Paths: []string{"config.php"}, Single: true}}
			return Judge(b, s, Options{})
		}
		r := judge(mode)
		to := map[string]bool{}
		risks := map[facts.Risk]bool{}
		for _, d := range r.Deviations {
			if d.Fix.Mode != nil {
				to[d.Fix.Mode.To.String()], risks[d.Fix.Risk] = true, true
			}
		}
		for _, c := range r.Covered {
			if c.Deviation.Fix.Mode != nil {
				to[c.Deviation.Fix.Mode.To.String()], risks[c.Deviation.Fix.Risk] = true, true
			}
		}
		require.Len(t, to, 1, "%s: %v", mode, to)
		assert.Len(t, risks, 1, "%s: %v", mode, risks)
		for after := range to {
			for _, d := range judge(after).Deviations {
				assert.Nil(t, d.Fix.Mode, "%s, then %s: %s", mode, after, d.Rule)
			}
		}
	}
}
