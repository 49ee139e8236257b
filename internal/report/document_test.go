package report

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/history"
	"weltaxis/internal/pace"
)

var noon = time.Date(2026, 3, 5, 12, 0, 0, 0, time.UTC)

// change is one of the journal, of the run that began so long before noon.
func change(ago time.Duration, id int, event string) fix.LogLine {
	return fix.LogLine{Run: noon.Add(-ago).Format("20060102T150405"), ID: id, At: noon, Event: event, Kind: fix.Setting, Name: "debug.on", From: "yes", To: "no"}
}

func TestWhatWasDone(t *testing.T) {
	const day = 24 * time.Hour
	last := change(day, 1, "").Run
	took := func(results ...string) (made []Made) {
		for _, r := range results {
			made = append(made, Made{Result: r})
		}
		return made
	}
	for name, of := range map[string]struct {
		kept Kept
		want []string
	}{
		"nothing":            {Kept{}, nil},
		"nothing that stood": {Kept{Changes: []fix.LogLine{change(day, 1, fix.Failed), change(day, 2, fix.Begun)}}, nil},
		"no word of it":      {Kept{Changes: []fix.LogLine{change(day, 1, fix.Done)}}, []string{"1 change was made."}},
		"seen": {Kept{Changes: []fix.LogLine{change(day, 1, fix.Done), change(day, 2, fix.Done)}, Runs: []*Work{{Run: last, After: 2, Changes: took(fix.Took, fix.Failed), Settled: []Brief{{Rule: "a.b"}}}}},
			[]string{"2 changes were made, 1 seen to have taken; 1 matter deviated no more."}},
		"unseen": {Kept{Changes: []fix.LogLine{change(day, 1, fix.Done)}, Runs: []*Work{{Run: last, Changes: took(fix.Took)}}}, []string{"1 change was made; nobody could look afterwards."}},
		"taken back": {Kept{Changes: []fix.LogLine{change(day, 1, fix.TakenBackByUndo), change(day, 2, fix.TakenBack), change(day, 3, fix.Done)}},
			[]string{"3 changes were made; 1 taken back at once, since something broke; 1 taken back since."}},
		"long ago":         {Kept{Changes: []fix.LogLine{change(40*day, 1, fix.Done)}}, nil},
		"the newest first": {Kept{Changes: []fix.LogLine{change(3*day, 1, fix.Done), change(day, 2, fix.Done), change(day, 3, fix.Done)}}, []string{"2 changes were made.", "1 change was made."}},
	} {
		var said []string
		for _, d := range DoneOf(of.kept, noon) {
			said = append(said, d.Says)
		}
		assert.Equal(t, of.want, said, name)
	}
	done := DoneOf(Kept{Changes: []fix.LogLine{change(day, 1, fix.Done), change(day, 2, fix.TakenBackByUndo)}}, noon)
	assert.Equal(t, []string{"debug.on: yes → no"}, done[0].Changes, "what was taken back does not stand")

	// An audit before a run and one after it may be of the same second.
	quick := Kept{Changes: []fix.LogLine{change(0, 1, fix.Done)}}
	quick.Audits = []history.Audit{{ID: 7, Run: quick.Changes[0].Run}, {ID: 8, Run: quick.Changes[0].Run}}
	for audit, runs := range map[int64]int{6: 0, 7: 0, 8: 1, 9: 1, 0: 1} {
		quick.Audit = audit
		assert.Len(t, DoneOf(quick, noon), runs, audit)
	}
	assert.Empty(t, DoneOf(Kept{Audit: 3, Changes: []fix.LogLine{change(-day, 1, fix.Done)}}, noon), "it came later")

	var many []fix.LogLine
	for i := range 20 {
		many = append(many, change(time.Duration(i+1)*time.Hour, i+1, fix.Done))
	}
	assert.Len(t, DoneOf(Kept{Changes: many}, noon), doneRuns)
}

func TestACourseIsOfWholeAudits(t *testing.T) {
	var audits []history.Audit
	for i := range 60 {
		audits = append(audits, history.Audit{ID: int64(i), Taken: noon.Add(time.Duration(i-60) * time.Hour), Part: map[bool]string{true: "titles"}[i%2 == 1]})
	}
	c := courseOf(audits)
	require.NotNil(t, c)
	assert.Len(t, c.Audits, 30)
	for _, trend := range c.Trends {
		assert.Len(t, trend.Values, len(c.Audits), trend.What)
		assert.NotEqual(t, "first byte, ms", trend.What, "it was never seen")
	}
	assert.Nil(t, courseOf(audits[:4]), "two that are whole are no course")
	now := &audit.Result{Taken: noon, Snapshot: &facts.Snapshot{}, Counts: map[facts.Severity]int{facts.High: 7}}
	assert.Len(t, courseOf(Kept{Audit: 9, Audits: audits}.upTo(now)).Audits, 5)
	with := Kept{Audits: audits}.upTo(now)
	assert.Equal(t, 7, with[len(with)-1].Counts[facts.High], "it ends with the look, though that is not kept")
	assert.Len(t, with, 61)
	assert.Len(t, Kept{Audits: with}.upTo(now), 61, "and not twice")
	now.Snapshot.Readings = []facts.Reading{facts.IntentStage.Reading("live", facts.Origin{File: audit.StageOption})}
	assert.Len(t, Kept{Audits: audits}.upTo(now), 60, "as if in another stage it is no part of the course")
	assert.Empty(t, Kept{}.upTo(now), "one look is no course")
	assert.Len(t, courseOf(append(audits, audits...)).Audits, mostCourse)
}

func TestTheHeaviestPages(t *testing.T) {
	var pages []*facts.Page
	for i := range 20 {
		pages = append(pages, &facts.Page{Path: string(rune('a' + i)), Status: 200, Sent: 1500, Weight: i})
	}
	pages[19].Status = 404
	list := weightsOf(pages, nil)
	require.Len(t, list, heaviest)
	assert.Equal(t, "s", list[0].Path)
	assert.Equal(t, []int{2, 16}, []int{list[0].Markup, list[0].Rest})
	assert.Equal(t, []int{1, 0}, []int{weightsOf(pages[:2], nil)[0].Markup, weightsOf(pages[:2], nil)[0].Rest}, "no part is more than the whole")
	var old facts.Page
	require.NoError(t, old.UnmarshalJSON([]byte(`{"status":200}`)))
	assert.Empty(t, weightsOf([]*facts.Page{&old}, nil), "a snapshot that does not hold it says nothing")
	assert.Equal(t, []string{"", "1", ""}, []string{weight(&old), weight(pages[1]), weight(pages[19])}, "and nought is not said for it")
}

func TestTimesThatWereMeasured(t *testing.T) {
	s := &facts.Snapshot{Seen: facts.Seen{Repeats: []facts.Repeat{
		{Path: "/", Kind: "home", Asks: 4, Hits: 3, Then: "hit", FirstBytes: []float64{1, 3, 2}, AroundBytes: []float64{9}, GainWhy: "the cache is faster"},
		{Path: "/few", Kind: "content", FirstBytes: []float64{1, 2}}, {Path: "/none", Kind: "missing", FirstBytes: []float64{1, 2, 3}}, {Path: "/dumb", Kind: "content", Asks: 3, Then: "untold", FirstBytes: []float64{1, 2, 3}}}}}
	list := timesOf(s, nil)
	require.Len(t, list, 2)
	assert.Equal(t, "3 of 4 answered by a cache", list[0].Kept)
	assert.Equal(t, "The cache is faster.", list[0].Says)
	assert.InDelta(t, 2, list[0].Sum.Median, 0)
	assert.Equal(t, "no header tells of a cache", list[1].Kept)

	// What pace has measured stands beside it, of pages that the look did not ask for as often.
	s.Pages = []facts.Page{{Path: "/", Address: "a/"}, {Path: "/about/", Address: "a/about/"}, {Path: "/slow/", Address: "a/slow/"}}
	s.Repeats[0].Address = "a/"
	lap := func(outcome string, around bool, ms float64) pace.Lap {
		return pace.Lap{Outcome: outcome, Around: around, First: ms}
	}
	laps := []pace.Lap{lap("hit", false, 1), lap("miss", true, 9), lap("stale", false, 2), lap("miss", true, 9), lap("miss", false, 30)}
	run := &pace.Run{Taken: noon, Pages: []pace.Page{{Path: "/", Laps: laps}, {Path: "/about/", Laps: laps}, {Path: "/gone/", Laps: laps}, {Path: "/slow/", Laps: laps[:2]}}}
	paced := pacedOf(run, s, timesOf(s, namesOf(s)), namesOf(s))
	require.Len(t, paced, 1)
	assert.Equal(t, []any{"/about/", noon, "2 of 3 answered by a cache", 2, 3}, []any{paced[0].Name, paced[0].At, paced[0].Kept, paced[0].Beside.Count, paced[0].Sum.Count})
	assert.Empty(t, pacedOf(nil, s, nil, nil))
}

func TestRolesOfATree(t *testing.T) {
	row := func(role string, count int, expected string) audit.ClassRow {
		return audit.ClassRow{Class: facts.Class{Role: role, Count: count}, Expected: expected}
	}
	roles := RolesOf([]audit.ClassRow{row("config", 1, "0640"), row("code", 4, ""), row("code", 2, "0644"), row("posters", 1, "")})
	require.Len(t, roles, 3)
	assert.Equal(t, []int{1, 1, 6, 1}, []int{roles[0].Entries, roles[0].Wrong, roles[1].Entries, roles[1].Wrong})
	assert.Equal(t, "what is run and what pages are made of", roles[1].Means)
	assert.Empty(t, roles[2].Means)
	assert.Nil(t, RolesOf(nil))

	var many []audit.ClassRow
	for i := range 100 {
		many = append(many, row("code", i, map[bool]string{true: "0644"}[i > 95]))
	}
	short := inShort(RolesOf(many))[0]
	assert.Len(t, short.Classes, mostClasses)
	assert.Equal(t, []int{96, 97, 98, 99, 0}, []int{short.Classes[0].Count, short.Classes[1].Count, short.Classes[2].Count, short.Classes[3].Count, short.Classes[4].Count}, "what is amiss comes first")
	assert.Equal(t, []int{40, 4950}, []int{short.Left, short.Entries})
}

func TestWhereNobodyLooked(t *testing.T) {
	r := &Report{Result: &audit.Result{Snapshot: &facts.Snapshot{}}}
	for _, source := range []facts.Source{facts.Live, facts.Settings, facts.Files, facts.Server, facts.Upkeep} {
		r.Snapshot.Sources = append(r.Snapshot.Sources, facts.Asked{Source: source})
	}
	assert.Equal(t, "Not looked at: the language runtime's configuration.", notLooked(r))
	r.Words.Gaps = []string{"x"}
	assert.Equal(t, "Not looked at: the language runtime's configuration. 1 thing that was asked for could not be seen.", notLooked(r))
	r.Snapshot.Sources = append(r.Snapshot.Sources, facts.Asked{Source: facts.Runtime})
	r.Words.Gaps = nil
	assert.Empty(t, notLooked(r))
}

func TestWhetherItIsAllRight(t *testing.T) {
	for want, r := range map[string]*audit.Result{
		"Nothing could be judged.":                                            {},
		"All is as it should be.":                                             {Held: []string{"a.b"}},
		"Nothing was found that is not right; not all could be seen.":         {Held: []string{"a.b"}, Gaps: []facts.Gap{{Source: facts.Live, Kind: facts.Failed}}},
		"Nothing is urgent; 2 smaller matters could be better.":               {Counts: map[facts.Severity]int{facts.Medium: 1, facts.Note: 1}},
		"Nothing is urgent; 1 matter wants doing soon.":                       {Counts: map[facts.Severity]int{facts.High: 1, facts.Low: 4}},
		"Nothing is urgent in what could be seen; 1 matter wants doing soon.": {Counts: map[facts.Severity]int{facts.High: 1}, Gaps: []facts.Gap{{Source: facts.Live, Kind: facts.Failed}}},
		"Not all is right: 3 matters are urgent.":                             {Counts: map[facts.Severity]int{facts.Critical: 3, facts.High: 1}},
	} {
		r.Snapshot, r.Rules = &facts.Snapshot{Seen: facts.Seen{Gaps: r.Gaps}}, &baseline.Baseline{}
		assert.Equal(t, want, clientRight(&Report{Result: r}))
	}
}

func TestAPageAsItIsFound(t *testing.T) {
	p := PreviewOf(&facts.Page{Address: "https://www.a.example/x/", Title: "Lamps and puppets, a house of evenings where every lamp has a tale of its own to tell", Indexable: true, CardText: "Come", CardImage: "https://www.a.example/i.png", CardWidth: 8, CardHeight: 4})
	assert.Empty(t, p.Hidden)
	assert.Equal(t, "www.a.example › x", p.Crumbs)
	assert.NotEqual(t, p.Wide.Title, p.Page.Title, "it is cut")
	assert.Equal(t, noDescription, p.Wide.About)
	assert.Equal(t, Card{"www.a.example", p.Page.Title, "Come", "https://www.a.example/i.png", "a picture of 8 × 4 pixels", ""}, p.Card)
	assert.Equal(t, "Search engines do not show it: the tag says so", PreviewOf(&facts.Page{HiddenBy: "tag", Robots: "not listed: the tag says so"}).Hidden)
}
