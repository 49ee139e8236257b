package baseline

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/ext"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/internal/width"
)

func TestBuiltInBaselineIsWhole(t *testing.T) {
	b, err := Load()
	require.NoError(t, err)
	require.NoError(t, b.Compile())
	require.NoError(t, b.CheckMessages())
	assert.Len(t, b.Version, 8)
	for _, r := range b.Rules {
		assert.NotEmpty(t, r.Cites, "%s cites its source", r.ID)
		assert.NotEmpty(t, r.Jobs, "%s serves a need", r.ID)
		assert.NotContains(t, r.Why, "  ", r.ID)
	}
}

// TestEveryFunctionIsExplained holds the list of what functions give against those that rules have.
func TestEveryFunctionIsExplained(t *testing.T) {
	with, err := newEnv(nil)
	require.NoError(t, err)
	without, err := cel.NewCustomEnv(cel.StdLib(), ext.Strings())
	require.NoError(t, err)
	for name := range with.Functions() {
		if _, usual := without.Functions()[name]; !usual {
			assert.Contains(t, Functions, name)
		}
	}
	for name := range Functions {
		assert.Contains(t, with.Functions(), name)
	}
}

// own is a baseline of one's own with one rule; parts of it are replaced by the tests.
type own struct{ severity, each, when, holds, says, fix, extra string }

func (o own) load(t *testing.T) (*Baseline, error) {
	t.Helper()
	text := "rules:\n  - id: titles.mine\n    severity: " + or(o.severity, "low") + "\n"
	for key, value := range map[string]string{"each": o.each, "when": o.when, "holds": or(o.holds, `"true"`)} {
		if value != "" {
			text += "    " + key + ": " + value + "\n"
		}
	}
	text += "    says: " + or(o.says, "It is wrong.") + "\n    expected: right\n    why: because\n    fix: " + or(o.fix, "{risk: safe, steps: [mend it]}") + "\n" + o.extra
	name := filepath.Join(t.TempDir(), "own.yaml")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	b, err := Load(name)
	if err != nil {
		return nil, err
	}
	if err := b.Compile("titles.mine"); err != nil {
		return nil, err
	}
	return b, b.CheckMessages()
}

func or(a, b string) string {
	if a == "" {
		return b
	}
	return a
}

func TestAMistakeInARuleIsAnErrorWithItsPlace(t *testing.T) {
	for want, o := range map[string]own{
		`there is nothing called "settings.site.titel" (did you mean "settings.site.title"?)`: {holds: `"settings.site.titel != ''"`},
		`line 4, column 1: rule titles.mine, holds: it gives a string; a bool is needed`:      {holds: `"settings.site.title"`},
		`settings.front.shows is never "paeg" (did you mean "page"?); it is one of posts, page`: {
			holds: `"settings.front.shows == 'paeg'"`},
		`intent.stage is never "lief" (did you mean "live"?)`:                          {when: `"intent.stage in ['live', 'lief']"`},
		`there is nothing called "limits.title_char"`:                                  {holds: `"settings.site.title.size() < limits.title_char"`},
		`there is nothing called "class.moed" (did you mean "class.mode"`:              {each: "files.classes as class", holds: `"class.moed == 1"`},
		`class.kind is never "flie" (did you mean "file"?)`:                            {each: "files.classes as class", holds: `"class.kind != 'flie'"`},
		`there is no list "files.clases" (did you mean "files.classes"?)`:              {each: "files.clases as class"},
		`"hihg" is no severity (did you mean "high"?)`:                                 {severity: "hihg"},
		`every severity but the last has a condition`:                                  {severity: "[{is: low}, {is: high}]"},
		`an expression stands in quotes`:                                               {holds: "true"},
		`rule titles.mine, message: there is nothing called "nothing"`:                 {says: "\"It is {nothing}.\""},
		`found no matching overload`:                                                   {holds: `"settings.feed.items == 'x'"`},
		`covers: there is no rule "titles.site-onw" (did you mean "titles.site-own"?)`: {extra: "    covers: [titles.site-onw]\n"},
		`covers: it covers itself in the end`:                                          {extra: "    covers: [titles.mine]\n"},
		`"purgee" is no kind of change (did you mean "purge"?)`:                        {fix: "{kind: purgee, risk: safe, steps: [x]}"},
		`fix: it does nothing`:                                                         {fix: "{kind: server, risk: safe}"},
		`fix: kind is set, and it says nothing to set`:                                 {fix: "{kind: set, risk: safe, steps: [x]}"},
		`fix: risk is missing`:                                                         {fix: "{steps: [x]}"},
		`"holds_if" is not known here`:                                                 {extra: "    holds_if: x\n"},
	} {
		_, err := o.load(t)
		assert.ErrorContains(t, err, want)
	}
}

func reading(source facts.Source, name string, v facts.Value) facts.Reading {
	return facts.Reading{Source: source, Name: name, Value: v, Origin: facts.Origin{File: source.String(), Line: 1}}
}

func snapshot(readings ...facts.Reading) *facts.Snapshot {
	return &facts.Snapshot{Taken: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), Seen: facts.Seen{Readings: readings, Gaps: []facts.Gap{}},
		Sources: []facts.Asked{{Source: facts.Settings}}}
}

func judge(t *testing.T, o own, s *facts.Snapshot) Judgement {
	t.Helper()
	b, err := o.load(t)
	require.NoError(t, err)
	return b.Judge(s)
}

func TestTheFiveVerdicts(t *testing.T) {
	title := reading(facts.Settings, "site.title", facts.TextOf(facts.String, "A"))
	items := reading(facts.Settings, "feed.items", facts.NumberOf(facts.Int, 5))
	live := reading(facts.Intent, "stage", facts.TextOf(facts.Words, "live"))
	o := own{when: `"intent.stage == 'live'"`, holds: `"settings.site.title == 'A'"`, says: `"It is {settings.site.title}, with {settings.feed.items} and {settings.site.tagline}."`}

	assert.Equal(t, []string{"titles.mine"}, judge(t, o, snapshot(title, live)).Held)

	building := reading(facts.Intent, "stage", facts.TextOf(facts.Words, "building"))
	assert.Equal(t, []string{"titles.mine"}, judge(t, o, snapshot(title, building)).NotApplicable)

	title.Value = facts.TextOf(facts.String, "B")
	j := judge(t, o, snapshot(title, live, items))
	require.Len(t, j.Deviations, 1)
	assert.Equal(t, "It is B, with 5 and unknown.", j.Deviations[0].Says)
	assert.Equal(t, []facts.Reading{title}, j.Deviations[0].Readings, "what the condition used, and nothing of the message")

	j = judge(t, o, snapshot(live))
	require.Len(t, j.NotJudged, 1)
	assert.Equal(t, []string{"settings.site.title"}, j.NotJudged[0].Missing)

	s := snapshot(live)
	s.AddGap(facts.Gap{Source: facts.Settings, What: "the database x.db", Because: "it is locked", Names: []string{"settings.site.title"}})
	assert.Equal(t, "the database x.db: it is locked", judge(t, o, s).NotJudged[0].Because)
	assert.Equal(t, "the site file does not say", judge(t, o, snapshot(title)).NotJudged[0].Because)

	broken := own{holds: `"settings.meta.verification[5] == 'x'"`}
	j = judge(t, broken, snapshot(reading(facts.Settings, "meta.verification", facts.ListOf("a"))))
	require.Len(t, j.Broken, 1)
	assert.Contains(t, j.Broken[0].Because, "index out of bounds")
}

func TestUnknownsOnlyCountWhereTheyMatter(t *testing.T) {
	title := reading(facts.Settings, "site.title", facts.TextOf(facts.String, "A"))
	o := own{holds: `"settings.site.title == 'A' || settings.site.tagline == 'B'"`}
	assert.Len(t, judge(t, o, snapshot(title)).Held, 1)
	o.holds = `"settings.site.title == 'A' && settings.site.tagline == 'B'"`
	assert.Equal(t, []string{"settings.site.tagline"}, judge(t, o, snapshot(title)).NotJudged[0].Missing)
}

func TestTheLimitsOfResultsAreThoseOfThePreview(t *testing.T) {
	b, err := Load()
	require.NoError(t, err)
	assert.EqualValues(t, width.WideTitle, b.Limits["title_px"].Value.Number())
	assert.EqualValues(t, width.WideDescription, b.Limits["description_px"].Value.Number())
}

func TestAnExpensiveRuleIsStopped(t *testing.T) {
	o := own{holds: `"settings.upload.types.all(a, settings.upload.types.all(b, settings.upload.types.all(c, a + b + c != 'x')))"`}
	many := make([]string, 300)
	j := judge(t, o, snapshot(reading(facts.Settings, "upload.types", facts.ListOf(many...))))
	require.Len(t, j.Broken, 1)
	assert.Regexp(t, "it takes longer than 3s|cost limit exceeded", j.Broken[0].Because, "whichever comes first on this machine")
}

func TestEachItemIsJudgedByItself(t *testing.T) {
	o := own{each: "settings.accounts as account", when: `"account.role == 'highest'"`, holds: `"account.name != 'root'"`,
		severity: `[{if: "account.name.size() > 3", is: high}, {is: low}]`, says: `"It is {account.name}."`}
	s := snapshot()
	assert.Equal(t, []string{"settings.accounts"}, judge(t, o, s).NotJudged[0].Missing, "a list that was not seen")
	account := func(name, role string) facts.Record {
		values := map[string]facts.Value{"name": facts.TextOf(facts.String, name), "role": facts.TextOf(facts.Words, role)}
		if role == "" {
			delete(values, "role")
		}
		return facts.Record{List: facts.ListAccounts, Values: values, From: facts.Origin{Table: "t", Row: "1"}}
	}
	s.Records = map[string][]facts.Record{facts.ListAccounts: {}}
	assert.Len(t, judge(t, o, s).NotApplicable, 1, "a list that is empty")
	s.Records[facts.ListAccounts] = []facts.Record{account("root", "highest"), account("root", "lowest"), account("x", "highest")}
	j := judge(t, o, s)
	require.Len(t, j.Deviations, 1)
	d := j.Deviations[0]
	assert.Equal(t, "root", d.Subject)
	assert.Equal(t, facts.High, d.Severity)
	assert.Equal(t, "It is root.", d.Says)
	assert.Equal(t, "1", d.Readings[0].Origin.Row)
	assert.Equal(t, d.Fingerprint, judge(t, o, s).Deviations[0].Fingerprint, "the same from run to run")

	s.Records[facts.ListAccounts] = append(s.Records[facts.ListAccounts], account("y", ""))
	j = judge(t, o, s)
	assert.Len(t, j.Deviations, 1)
	assert.Equal(t, []string{"settings.accounts.role"}, j.NotJudged[0].Missing, "an item of which too little is known is not fine")
}

func TestLimitsCanBeOverridden(t *testing.T) {
	b, err := Load()
	require.NoError(t, err)
	require.NoError(t, b.SetLimit("session_idle", "45m", nil))
	assert.Equal(t, "45m", b.Limits["session_idle"].Value.String())
	require.NoError(t, b.SetLimit("stock_titles", "", []string{"a"}))
	assert.ErrorContains(t, b.SetLimit("sesion_idle", "1m", nil), `did you mean "session_idle"?`)
	assert.ErrorContains(t, b.SetLimit("session_idle", "soon", nil), "is not a duration")
	assert.ErrorContains(t, b.SetLimit("session_idle", "", []string{"a"}), "is a duration")
}

func TestOneMayReplaceARule(t *testing.T) {
	name := filepath.Join(t.TempDir(), "own.yaml")
	require.NoError(t, os.WriteFile(name, []byte(`rules:
  - {id: titles.site-own, severity: note, holds: "true", says: a, expected: b, why: c, fix: {risk: safe, steps: [d]}}
`), 0o600))
	b, err := Load(name)
	require.NoError(t, err)
	r, _ := b.Rule("titles.site-own")
	assert.Equal(t, facts.Note, r.Severity.Worst())
	plain, err := Load()
	require.NoError(t, err)
	assert.Len(t, b.Rules, len(plain.Rules))
	assert.NotEqual(t, plain.Version, b.Version)
	assert.ErrorContains(t, b.Compile("titels"), `there is no area, rule or severity "titels" (did you mean "titles"?)`)
}

func TestSeparators(t *testing.T) {
	for title, want := range map[string]struct {
		signs []string
		loose bool
	}{
		"A | B":     {[]string{"|"}, false},
		"A - B | C": {[]string{"-", "|"}, false},
		"A |":       {[]string{"|"}, true},
		"| A":       {[]string{"|"}, true},
		"A | | B":   {[]string{"|"}, true},
		"Well-kept": {[]string{}, false},
		"":          {[]string{}, true},
		"A:B — C":   {[]string{"—"}, false},
	} {
		assert.Equal(t, want.signs, separators(title), title)
		assert.Equal(t, want.loose, hasLooseSeparator(title), title)
	}
	assert.Equal(t, "Page | S", filled("{page} {separator} {site}", "S", "", "|"))
}

func TestTheBrandAndTheSeparatorOfATitle(t *testing.T) {
	for title, want := range map[string]bool{"Lantern Lane": true, "Lantern Lane | About": true, "lantern  lane - About": true, "Lantern Lane: About": true, "Lantern Laneway walks": false, "Lantern Lane walks | Lantern Lane": false,
		"About | Lantern Lane": false, "": false, "Lantern": false} {
		assert.Equal(t, want, beginsWithBrand(title, "Lantern Lane"), title)
	}
	assert.False(t, beginsWithBrand("Anything", ""))
	for title, want := range map[string]string{"A - b | Site": "|", "A": "", "A – Site": "–", "A-b": ""} {
		assert.Equal(t, want, lastSeparator(title), title)
	}
}

func TestWhatIsAbsentIsKnownToBeSo(t *testing.T) {
	absent := facts.Reading{Source: facts.Settings, Name: "site.tagline", Absent: true, Origin: facts.Origin{File: "a.ini", Line: 4}}
	j := judge(t, own{holds: `"!absent.site.tagline"`}, snapshot(absent))
	require.Len(t, j.Deviations, 1, "a rule may ask whether nothing is there")
	assert.Equal(t, absent, j.Deviations[0].Readings[0])

	j = judge(t, own{holds: `'settings.site.tagline == ""'`}, snapshot(absent))
	require.Len(t, j.NotJudged, 1, "nothing is no empty text")
	assert.Equal(t, "nothing is set there: a.ini, line 4", j.NotJudged[0].Because)

	j = judge(t, own{holds: `"!absent.site.tagline"`}, snapshot(reading(facts.Settings, "site.tagline", facts.TextOf(facts.String, ""))))
	assert.Equal(t, []string{"titles.mine"}, j.Held)
	j = judge(t, own{holds: `"!absent.live.home.title"`}, snapshot())
	assert.Len(t, j.NotJudged, 1, "whether anything is there is not known either")
}

// TestWhatCannotBeMadeFromHereIsAStep in the words of whoever makes it: where the dialect does not map it, or there is none.
func TestWhatCannotBeMadeFromHereIsAStep(t *testing.T) {
	yes := reading(facts.Live, "sitemap.answers", facts.BoolOf(false))
	o := own{holds: `"live.sitemap.answers"`, fix: "{risk: visible, set: {sitemap.offered: \"yes\", site.tagline: \"\"}, ask: {site.title: the name of the site}}"}
	mapped := snapshot(yes)
	fix := judge(t, o, mapped).Deviations[0].Fix
	assert.Equal(t, facts.KindSet, fix.Kind)
	assert.Len(t, fix.Changes, 3)
	assert.Empty(t, fix.Steps)

	gap := snapshot(yes)
	gap.Gaps = []facts.Gap{{Source: facts.Settings, Kind: facts.Unmapped, What: "sitemap.offered", Names: []string{"settings.sitemap.offered", "settings.site.title"}}}
	fix = judge(t, o, gap).Deviations[0].Fix
	assert.Equal(t, facts.KindSet, fix.Kind, "the rest can be made")
	require.Len(t, fix.Changes, 1)
	assert.Equal(t, "site.tagline", fix.Changes[0].Name)
	assert.Equal(t, []string{"By hand, in the content system: “a sitemap is offered” should be yes.", "By hand, in the content system: “the site's title” should be changed: the name of the site."}, fix.Steps)

	none := snapshot(yes)
	none.Sources = []facts.Asked{{Source: facts.Live}}
	fix = judge(t, o, none).Deviations[0].Fix
	assert.Equal(t, facts.KindSteps, fix.Kind)
	assert.Empty(t, fix.Changes)
	assert.Len(t, fix.Steps, 3)
}

func TestOneItemThatCannotBeToldLeavesTheOthersJudged(t *testing.T) {
	page := func(path, works string) facts.Page {
		return facts.Page{Address: "https://a.example" + path, Path: path, Canonical: "https://a.example/x/", CanonicalWorks: works}
	}
	s := snapshot()
	s.Pages = []facts.Page{page("/a", "answers"), page("/b", "not looked at"), page("/c", "answers")}
	rule := own{each: "live.pages as page", holds: `'page.canonical_works == "answers"'`}
	j := judge(t, rule, s)
	assert.Equal(t, []string{"titles.mine"}, j.Held)
	require.Len(t, j.NotJudged, 1)
	assert.Equal(t, 2, j.NotJudged[0].Judged)
	assert.Equal(t, []UnjudgedItem{{"/b", []string{"live.pages.canonical_works"}, "its canonical address, https://a.example/x/, was not looked at", facts.Origin{URL: "https://a.example/b"}}}, j.NotJudged[0].Items)

	s.Pages[2].CanonicalWorks = "redirects"
	j = judge(t, rule, s)
	require.Len(t, j.Deviations, 1)
	assert.Empty(t, j.Held)
	assert.Len(t, j.NotJudged, 1, "what could not be told of /b is still said")

	s.Pages = s.Pages[1:2]
	j = judge(t, rule, s)
	assert.Empty(t, j.Held, "nothing was judged, so nothing holds")
	assert.Zero(t, j.NotJudged[0].Judged)
}

func TestFingerprintsStayWithTheThing(t *testing.T) {
	s := snapshot()
	s.Classes = []facts.Class{{Role: "uploads", Kind: "folder", Content: "none", Mode: "0777", Owner: "a", Group: "a", Count: 1, Paths: []string{"m"}}}
	rule := own{each: "files.classes as class", holds: `"!class.owner_write"`}
	before := judge(t, rule, s).Deviations[0]
	s.Classes[0].Mode = "0775"
	after := judge(t, rule, s).Deviations[0]
	assert.Equal(t, before.Fingerprint, after.Fingerprint, "its mode changed, and it is the same thing")
	assert.NotEqual(t, before.Subject, after.Subject)
	assert.Equal(t, []string{facts.Fingerprint("titles.mine", after.Subject)}, after.Formerly, "as earlier versions had it")
}
