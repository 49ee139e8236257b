package report

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// judged judges readings by rules of one's own.
func judged(t *testing.T, rules string, seen facts.Seen, accept ...facts.Acceptance) *audit.Result {
	t.Helper()
	file := filepath.Join(t.TempDir(), "own.yaml")
	require.NoError(t, os.WriteFile(file, []byte("rules:\n"+rules), 0o600))
	b, err := baseline.Load(file)
	require.NoError(t, err)
	var own []string
	for _, r := range b.Rules {
		if r.Why == "so" {
			own = append(own, r.ID)
		}
	}
	require.NoError(t, b.Compile(own...))
	s := &facts.Snapshot{Taken: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), Seen: seen, Accept: accept, Sources: []facts.Asked{{Source: facts.Settings, Where: "./site"}}}
	return audit.Judge(b, s, audit.Options{})
}

// rule is a rule of one's own.
func rule(id, severity, more string) string {
	return "  - {id: " + id + ", severity: " + severity + ", expected: better, why: so, " + more + "}\n"
}

func saying(title, tagline string) facts.Seen {
	at := func(row string) facts.Origin {
		return facts.Origin{File: "site.db", Table: "options", Row: row, Screen: "Screen " + row}
	}
	var s facts.Seen
	s.Add(facts.SiteTitle.Reading(title, at("title")), facts.SiteTitle.Reading("older", facts.Origin{File: "old.php", Line: 3}), facts.SiteTagline.Reading(tagline, at("tagline")),
		facts.IntentBrand.Reading("Brand", facts.Origin{File: "weltaxis.yaml", Line: 2}))
	return s
}

func TestAnEntrySaysWhatDecidesAndWhere(t *testing.T) {
	r := New(judged(t, rule("titles.mine", "high", `holds: 'settings.site.title == intent.brand && settings.site.tagline == "fine"', says: "The title is “{settings.site.title}”.", fix: {risk: visible, set_to: {site.title: "intent.brand"}}`), saying("Wrong", "fine")))
	require.Len(t, r.Words.Entries, 1)
	e := r.Words.Entries[0]
	assert.Equal(t, []string{"The title is “Wrong”."}, e.Says)
	require.Len(t, e.Readings, 3)
	assert.Equal(t, "site.db, table options, row title", e.Readings[0].Place)
	assert.Empty(t, e.Readings[0].Said, "the sentence has said it")
	assert.Equal(t, "site.title: older", e.Readings[1].Said)
	assert.Equal(t, "old.php, line 3; overridden by the line above", e.Readings[1].Place)
	assert.Equal(t, "brand: Brand", e.Readings[2].Said)
	assert.Len(t, e.All, 4, "the tagline, which is as it should be, is among all")
	assert.Equal(t, []string{"set site.title to Brand"}, e.Fix)
	assert.Equal(t, []facts.Who{facts.Visitors, facts.Engines}, e.Noticed)
	assert.Equal(t, []string{"Screen title"}, e.ByHand)
	assert.Equal(t, "1 high; 0 of 1 rule holds.", r.Words.Stands)
	assert.Equal(t, "Nobody asked whether it answers: no live source was looked at.", r.Words.There)
	assert.True(t, r.Words.Fixable)
}

func TestFirstThingsComeFirst(t *testing.T) {
	fix := `fix: {risk: safe, steps: [do]}`
	rules := rule("titles.worst", "critical", `holds: 'settings.site.title == "x"', says: worst, `+fix) +
		rule("titles.seen", "high", `holds: 'settings.site.title == "x"', harm: losing, says: seen, fix: {risk: visible, ask: {site.title: title}}`) +
		rule("visibility.opening", "critical", `holds: 'settings.site.title == "x"', harm: hidden, says: hidden, fix: {risk: visible, set: {meta.robots_index: "yes"}}`) +
		rule("permissions.door", "low", `holds: 'settings.site.title == "x"', harm: open door, says: small, `+fix) +
		rule("permissions.inside", "high", `holds: 'settings.site.title == "x"', harm: intrusion, says: inside, `+fix)
	r := New(judged(t, rules, saying("Wrong", "")))
	var order []string
	for _, f := range r.Words.First {
		order = append(order, f.Rule)
	}
	assert.Equal(t, []string{"permissions.inside", "visibility.opening", "titles.worst"}, order)
	assert.Equal(t, []string{"titles.seen"}, r.Words.First[1].After, "what search engines would see is put right before")
	assert.Equal(t, "do", r.Words.First[0].Do)
}

func TestFolded(t *testing.T) {
	for _, c := range []struct{ in, want []string }{
		{[]string{"a b c d", "a b c d"}, []string{"a b c d"}},
		{[]string{"The account “a” is bad.", "The account “b” is bad.", "The account “c” is bad."}, []string{"The account “a” is bad. The same: “b” and “c”."}},
		{[]string{"The group may write to x.", "The group may write to y and 2 more."}, []string{"The group may write to x. The same: y and 2 more."}},
		{[]string{"One thing.", "Quite another matter."}, []string{"One thing.", "Quite another matter."}},
		{[]string{"a", "b", "c", "d", "e"}, []string{"a", "b", "c", "And 2 more like these."}},
		{nil, nil},
	} {
		assert.Equal(t, c.want, folded(c.in))
	}
}

func TestWhatIsAcceptedIsListedAndWhatMatchesNothingIsPointedOut(t *testing.T) {
	until, err := facts.Date.Parse("2027-01-31")
	require.NoError(t, err)
	rules := rule("titles.mine", "high", `holds: 'settings.site.title == "x"', says: It is long., fix: {risk: safe, steps: [do]}`) +
		rule("titles.fine", "high", `holds: "true", says: s, fix: {risk: safe, steps: [do]}`) +
		rule("titles.unseen", "high", `holds: "settings.debug.on", says: s, fix: {risk: safe, steps: [do]}`)
	r := New(judged(t, rules, saying("Wrong", ""), facts.Acceptance{Rule: "titles.mine", Subject: "site", Because: "we like it", Until: until},
		facts.Acceptance{Rule: "titles.mine", Subject: "/about/", Because: "b", Until: until}, facts.Acceptance{Rule: "titles.fine", Subject: "*", Because: "b", Until: until},
		facts.Acceptance{Rule: "titles.unseen", Subject: "*", Because: "b", Until: until}))
	assert.Empty(t, r.Words.Entries)
	assert.Equal(t, []Accepted{{"titles.mine", "site", "It is long.", "we like it", "2027-01-31"}}, r.Words.Accepted)
	assert.Equal(t, []string{"titles.mine is accepted for /about/, and nothing deviates there; it deviates for site.",
		"titles.fine is accepted for everything, and deviates nowhere; the line can go from the site file.",
		"titles.unseen is accepted for everything, and deviates nowhere; it could not be judged this time."}, r.Words.Astray)
	assert.Equal(t, "1 rule could be judged if the dialect said where these settings are kept.", r.Words.Lacking)
	assert.Equal(t, "Nothing deviates; 1 of 2 rules hold, and 1 could not be judged.", r.Words.Stands)
}

func TestModesAreShownAsCommandsASafeShellTakes(t *testing.T) {
	for path, want := range map[string]string{
		"config.php": "chmod 0440 config.php", "my site/it's.php": `chmod 0440 'my site/it'"'"'s.php'`, "-rf": "chmod 0440 ./-rf",
		"new\nline": `its name needs typing with care`,
	} {
		m := facts.ModeTarget{From: facts.NumberOf(facts.Mode, 0o666), To: facts.NumberOf(facts.Mode, 0o440), Origin: facts.Origin{Path: path, Count: 1}}
		assert.Contains(t, fixLines(audit.Entry{{Fix: facts.Proposal{Mode: &m}}})[0], want)
	}
}

func TestCountsAndLists(t *testing.T) {
	assert.Equal(t, "1 rule", Count(1, "rule", "rules"))
	assert.Equal(t, "2 rules", Count(2, "rule", "rules"))
	assert.Equal(t, "a, b and c", List([]string{"a", "b", "c"}))
	assert.Equal(t, "", List(nil))
}
