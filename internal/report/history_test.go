package report

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/compare"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/history"
)

func TestSinceWhenInWords(t *testing.T) {
	first, second, third := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC), time.Date(2026, 3, 8, 9, 0, 0, 0, time.UTC), time.Date(2026, 3, 15, 9, 0, 0, 0, time.UTC)
	one := func(s *facts.Since) audit.Entry { return audit.Entry{{Rule: "a.b", Since: s}} }
	for says, e := range map[string]audit.Entry{
		"": one(nil),
		"between 1 March 2026, 09:00 UTC and 8 March 2026, 09:00 UTC":             one(&facts.Since{Lacked: &first, Seen: second}),
		"after 8 March 2026, 09:00 UTC":                                           one(&facts.Since{Lacked: &second, Seen: third}),
		"at the first look that judged it, 1 March 2026, 09:00 UTC":               one(&facts.Since{Seen: first}),
		"at the first look that judged it, 1 March 2026, 09:00 UTC, some later":   {{Since: &facts.Since{Lacked: &second, Seen: third}}, {Since: &facts.Since{Seen: first}}},
		"between 1 March 2026, 09:00 UTC and 8 March 2026, 09:00 UTC, some later": {{Since: &facts.Since{Lacked: &first, Seen: second}}, {Since: &facts.Since{Lacked: &second, Seen: third}}},
	} {
		assert.Equal(t, says, since(e, third), says)
	}
	assert.Empty(t, since(one(&facts.Since{Seen: third}), third), "this is the first look")
}

func TestValuesInSentences(t *testing.T) {
	for value, says := range map[string]string{"": "nothing", "yes": "yes", "404": "404", "0644": "0644", "1.2.3": "1.2.3", "30m": "30m", "1h30m": "1h30m", "8 MiB": "8 MiB", "A title": "“A title”", "no such": "“no such”", "5 things": "“5 things”"} {
		assert.Equal(t, says, quoted(value))
	}
	assert.Equal(t, ": new in it is “a”", fromTo(compare.Item{To: "a", List: true}))
	assert.Equal(t, ": “a” is not in it any more", fromTo(compare.Item{From: "a", List: true}))
}

func TestWhoseVersionsChanged(t *testing.T) {
	programs := compare.Change{Source: facts.Files, Name: facts.ListPrograms, Field: "changed", What: compare.Changed, Items: []compare.Item{{Subject: "a.php"}, {Subject: "b.php"}}}
	settings := compare.Side{Sources: []facts.Asked{{Source: facts.Settings}}}
	says := func(c *compare.Comparison) string { return Compare(c).Words.Groups[0].Lines[0].Says }
	assert.Equal(t, "2 program files changed and no version did: a.php; b.php", says(&compare.Comparison{Facts: true, Changes: []compare.Change{programs}, After: settings}))
	assert.Contains(t, says(&compare.Comparison{Facts: true, Changes: []compare.Change{programs}}), "whether a version did was not seen", "nobody read the settings")
	assert.Contains(t, says(&compare.Comparison{Facts: true, Changes: []compare.Change{programs}, After: settings, Unseen: []compare.Unseen{{Now: true, Names: []string{facts.SystemVersion.Name}}}}), "was not seen")
}

func TestWhatIsKeptOfARun(t *testing.T) {
	before := &audit.Result{Snapshot: &facts.Snapshot{}, Deviations: []facts.Deviation{{Rule: "a.one", Severity: facts.High, Says: "One."}, {Rule: "a.two", Severity: facts.Low, Says: "Two."}}}
	after := &audit.Result{Snapshot: &facts.Snapshot{}, Deviations: []facts.Deviation{{Rule: "a.two", Severity: facts.Low, Says: "Two."}, {Rule: "a.three", Severity: facts.Note, Says: "Three."}}}
	discern := func(text string) string { return "<" + text + ">" }
	made := fix.Change{Kind: fix.Setting, Name: "site.title", From: facts.TextOf(facts.String, "a"), To: facts.TextOf(facts.String, "b"), Rules: []string{"a.one"}}
	w := WorkOf("A", before, &fix.Report{Run: "r", Outcomes: []fix.Outcome{{Change: made, Result: fix.Took, Record: 3}}, After: after}, []fix.Change{
		{Kind: fix.Person, Name: "a.two", Rules: []string{"a.two"}, Steps: []string{"Do it."}}, {Kind: fix.Setting, Name: "x", Needs: "a name"}, {Kind: fix.Setting, Name: "y", Risk: facts.Disruptive, Because: "it breaks"},
		{Kind: fix.Setting, Name: "z", Risk: facts.Visible}, {Kind: fix.Setting, Name: "q", Cannot: "nobody can"}}, discern, time.Now())
	rules := func(list []Brief) (names []string) {
		for _, b := range list {
			names = append(names, b.Rule)
		}
		return names
	}
	assert.Equal(t, []string{"a.one", "a.two"}, rules(w.Found))
	assert.Equal(t, []string{"a.one"}, rules(w.Settled))
	assert.Equal(t, []string{"a.three"}, rules(w.New))
	assert.Equal(t, []string{"a.two"}, rules(w.Left))
	require.Len(t, w.Changes, 1)
	assert.Equal(t, "<b>", w.Changes[0].To, "what may be a secret is taken out")
	var whom []string
	for _, waits := range w.Waits {
		whom = append(whom, waits.For)
	}
	assert.Equal(t, []string{"a person", "a value: a name", "a yes, since it is disruptive: it breaks", "leave to make it (--allow visible)", "a person: nobody can"}, whom)

	unseen := WorkOf("A", before, &fix.Report{Run: "r"}, nil, discern, time.Now())
	assert.Empty(t, append(unseen.Settled, unseen.Left...), "nobody looked")
}

func TestWhatIsDue(t *testing.T) {
	now := time.Date(2026, 3, 5, 9, 0, 0, 0, time.UTC)
	r := &audit.Result{Taken: now, FollowUps: []facts.FollowUp{facts.StatedFollowUp("2026-03-05", "today", 0), facts.StatedFollowUp("2026-03-06", "tomorrow", 0), {Rule: "a.b", Subject: "/x/", On: "2026-02-01", What: "look"},
		{Rule: "a.c", On: "2026-02-01", What: "over", Accepted: true}, {Rule: "a.d", On: "2026-03-05", What: "ends today", Accepted: true}}}
	assert.Equal(t, []string{"2026-03-05: today", "2026-02-01: look (a.b, /x/)", "2026-03-05: ends today (a.d)"}, due(r))
}

func TestTrendsLeaveOutParts(t *testing.T) {
	share, ms := 0.5, 80
	whole := history.Audit{Alignment: &share, Counts: map[facts.Severity]int{facts.Critical: 1, facts.High: 2, facts.Low: 4}, Measures: history.Measures{FirstByte: &ms}}
	part, aside := whole, whole
	part.Part, aside.Aside = "titles", true
	trends := Trends([]history.Audit{whole, part, aside, whole})
	require.Len(t, trends[0].Values, 2)
	assert.InDelta(t, 50, *trends[0].Values[0], 0)
	assert.InDelta(t, 3, *trends[1].Values[0], 0)
	assert.InDelta(t, 4, *trends[2].Values[0], 0)
	assert.InDelta(t, 80, *trends[3].Values[1], 0)
	assert.Nil(t, trends[4].Values[0], "weights were not seen")
}
