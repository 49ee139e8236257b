package compare

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

var day = time.Date(2026, 3, 5, 9, 0, 0, 0, time.UTC)

// seen is a snapshot of a day, with what a test puts into it.
func seen(days int, fill func(*facts.Snapshot)) *facts.Snapshot {
	s := &facts.Snapshot{Format: facts.SnapshotFormat, Tool: "1", Site: "A", Taken: day.AddDate(0, 0, days), Limits: map[string]facts.Value{}}
	for _, source := range []facts.Source{facts.Settings, facts.Live, facts.Files} {
		s.Sources = append(s.Sources, facts.Asked{Source: source, Where: "."})
	}
	if fill != nil {
		fill(s)
	}
	return s
}

// between compares two snapshots.
func between(before, after func(*facts.Snapshot)) *Comparison {
	return Of(Look{Snapshot: seen(0, before)}, Look{Snapshot: seen(7, after)})
}

// fields are the changes, each with its field and what became of it.
func fields(changes []Change) (names []string) {
	for _, c := range changes {
		names = append(names, c.Name+"."+c.Field+" "+string(c.What))
	}
	return names
}

func classes(list ...facts.Class) func(*facts.Snapshot) {
	return func(s *facts.Snapshot) { s.Classes = list }
}

func many(role, mode string, count int) facts.Class {
	return facts.Class{Role: role, Kind: "file", Content: "page", Mode: mode, Owner: "web", Group: "web", Count: count, Paths: []string{role + "/a.css"}}
}

func alone(path, mode string) facts.Class {
	return facts.Class{Role: "config", Kind: "file", Content: "program", Mode: mode, Owner: "web", Group: "web", Count: 1, Paths: []string{path}, Single: true}
}

func TestTheTree(t *testing.T) {
	for name, c := range map[string]struct {
		before, after []facts.Class
		want          []string
		count         int
	}{
		"nothing":                     {[]facts.Class{many("code", "0644", 9)}, []facts.Class{many("code", "0644", 9)}, nil, 0},
		"some have another mode":      {[]facts.Class{many("code", "0644", 9)}, []facts.Class{many("code", "0644", 7), many("code", "0666", 2)}, []string{"files.classes.mode changed"}, 2},
		"all have another mode":       {[]facts.Class{many("code", "0644", 9)}, []facts.Class{many("code", "0600", 9)}, []string{"files.classes.mode changed"}, 9},
		"three more":                  {[]facts.Class{many("code", "0644", 9)}, []facts.Class{many("code", "0644", 12)}, []string{"files.classes. new"}, 3},
		"three fewer":                 {[]facts.Class{many("code", "0644", 9)}, []facts.Class{many("code", "0644", 6)}, []string{"files.classes. gone"}, 3},
		"the last of a kind":          {[]facts.Class{many("code", "0644", 9)}, []facts.Class{}, []string{"files.classes. gone"}, 9},
		"what a cache keeps":          {[]facts.Class{many("cache", "0644", 9)}, []facts.Class{many("cache", "0644", 400)}, nil, 0},
		"a cache that others write":   {[]facts.Class{many("cache", "0644", 9)}, []facts.Class{many("cache", "0666", 9)}, []string{"files.classes.mode changed"}, 9},
		"one file by its path":        {[]facts.Class{alone("a.ini", "0440")}, []facts.Class{alone("a.ini", "0644")}, []string{"files.classes.mode changed"}, 0},
		"one file that is new":        {[]facts.Class{}, []facts.Class{alone("a.ini", "0440")}, []string{"files.classes. new"}, 0},
		"one that is gone, one comes": {[]facts.Class{alone("a.ini", "0440")}, []facts.Class{alone("b.ini", "0440")}, []string{"files.classes. new", "files.classes. gone"}, 0},
	} {
		t.Run(name, func(t *testing.T) {
			changes := between(classes(c.before...), classes(c.after...)).Changes
			assert.ElementsMatch(t, c.want, fields(changes))
			if c.count > 0 && assert.Len(t, changes, 1) {
				assert.Equal(t, c.count, changes[0].Items[0].Count)
			}
		})
	}
}

func programs(list ...facts.Program) func(*facts.Snapshot) {
	return func(s *facts.Snapshot) { s.Programs = list }
}

func TestProgramFiles(t *testing.T) {
	old := facts.Program{Path: "a.php", Size: 10, Changed: 100, Touched: 100}
	with := func(change func(*facts.Program)) facts.Program {
		p := old
		change(&p)
		return p
	}
	for name, c := range map[string]struct {
		after facts.Program
		want  []string
	}{
		"the same":                     {old, nil},
		"written":                      {with(func(p *facts.Program) { p.Changed, p.Touched = 200, 200 }), []string{"files.programs.changed changed"}},
		"larger, by the time of then":  {with(func(p *facts.Program) { p.Size = 11 }), []string{"files.programs.changed changed"}},
		"the time was set back":        {with(func(p *facts.Program) { p.Touched = 200 }), []string{"files.programs.touched changed"}},
		"a system that keeps no ctime": {with(func(p *facts.Program) { p.Touched = 0 }), nil},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, fields(between(programs(old), programs(c.after)).Changes))
		})
	}
	// Of a large installation those that changed last are listed: what is not among them may be there all the same.
	part := func(list ...facts.Program) func(*facts.Snapshot) {
		return func(s *facts.Snapshot) {
			s.Programs = list
			s.Gaps = append(s.Gaps, facts.Gap{Source: facts.Files, What: "program files", Kind: facts.Unmapped, Names: []string{facts.ListPrograms}})
		}
	}
	fresh := facts.Program{Path: "b.php", Size: 1, Changed: day.AddDate(0, 0, 3).Unix(), Touched: day.AddDate(0, 0, 3).Unix()}
	assert.Equal(t, []string{"files.programs.changed changed"}, fields(between(part(old), part(fresh)).Changes), "it is newer than the first look; the other may have made room for it")
	assert.Empty(t, between(part(fresh), part(old)).Changes)
}

func pages(list ...facts.Page) func(*facts.Snapshot) {
	return func(s *facts.Snapshot) { s.Pages = list }
}

func TestWhatFollowsStandsWithIt(t *testing.T) {
	before := facts.Page{Address: "https://a.example/a/", Path: "/a/", Title: "A", TitlePixels: 10, TitleShared: 0, Status: 200}
	other := facts.Page{Address: "https://a.example/b/", Path: "/b/", Title: "B", TitlePixels: 10, TitleShared: 0, Status: 200}
	after, twin := before, other
	after.Title, after.TitlePixels, after.TitleShared, twin.TitleShared = "B", 11, 1, 1
	changes := between(pages(before, other), pages(after, twin)).Changes
	require.Equal(t, []string{"live.pages.title changed"}, fields(changes))
	assert.ElementsMatch(t, []string{"live.pages.title_pixels changed", "live.pages.title_shared changed"}, fields(changes[0].With))

	// Alone, it is a change of its own: what is worked out does not change by itself.
	alone := before
	alone.TitlePixels = 12
	assert.Equal(t, []string{"live.pages.title_pixels changed"}, fields(between(pages(before), pages(alone)).Changes))
}

func TestAPartOfAListIsNoList(t *testing.T) {
	a, b := facts.Page{Address: "https://a.example/a/", Path: "/a/"}, facts.Page{Address: "https://a.example/b/", Path: "/b/"}
	cut := func(s *facts.Snapshot) {
		s.Pages = []facts.Page{a}
		s.Gaps = []facts.Gap{{Source: facts.Live, What: "the site", Kind: facts.Unmapped, Because: "no more than 1 page is looked at", Names: []string{facts.ListPages}}}
	}
	c := between(pages(a, b), cut)
	assert.Empty(t, c.Changes)
	require.Len(t, c.Unseen, 1)
	assert.True(t, c.Unseen[0].Now)
}

func TestFilesWithAVersionInTheirName(t *testing.T) {
	asset := func(address string) func(*facts.Snapshot) {
		return func(s *facts.Snapshot) {
			s.Assets = []facts.Asset{{Address: "https://a.example/" + address, Kind: "style", Status: 200}}
		}
	}
	for _, pair := range [][2]string{{"a.css?v=1", "a.css?v=2"}, {"a-3f9a2c1b.css", "a-77aa2c1b.css"}, {"a.css", "a.css?v=2"}} {
		assert.Equal(t, []string{"live.assets.address changed"}, fields(between(asset(pair[0]), asset(pair[1])).Changes), pair)
	}
	assert.ElementsMatch(t, []string{"live.assets. new", "live.assets. gone"}, fields(between(asset("a.css"), asset("b.css")).Changes))
}

func TestHeadersThatPass(t *testing.T) {
	said := func(lines ...string) func(*facts.Snapshot) {
		return func(s *facts.Snapshot) {
			s.Add(facts.HomeHeaders.Reading(lines, facts.Origin{URL: "https://a.example/"}))
		}
	}
	before := said("Date: Thu, 05 Mar 2026 09:00:00 GMT", "Age: 5", `ETag: "a"`, "X-Cache: MISS", "Content-Security-Policy: script-src 'nonce-c3R1ZmZzdHVmZg=='", "X-Trace: 3f9a2c1b3f9a2c1b")
	assert.Empty(t, between(before, said("Date: Thu, 12 Mar 2026 09:00:00 GMT", "Age: 7", `ETag: "b"`, "X-Cache: HIT", "Content-Security-Policy: script-src 'nonce-b3RoZXJzdHVmZg=='", "X-Trace: 77aa2c1b3f9a2c1b")).Changes)
	assert.Len(t, between(before, said("X-Frame-Options: DENY")).Changes, 1)
}

func deviating(rule string, severity facts.Severity, readings ...facts.Reading) Verdict {
	return Verdict{Rule: rule, Severity: severity, Subject: "site", Says: rule, Fingerprint: facts.Fingerprint(rule, "site"), Readings: readings}
}

func TestWhyADeviationIsThereInOneLookOnly(t *testing.T) {
	title := func(text string) facts.Reading { return facts.SiteTitle.Reading(text, facts.Origin{File: "a.ini"}) }
	words := func(text string) facts.Reading {
		return facts.IntentBrand.Reading(text, facts.Origin{File: "weltaxis.yaml"})
	}
	look := func(s *facts.Snapshot, v Verdicts) Look {
		v.Format, v.Site, v.Dialect, v.Tool = 1, s.Site, s.Dialect, s.Tool
		return Look{Snapshot: s, Verdicts: &v}
	}
	says := func(readings ...facts.Reading) *facts.Snapshot {
		return seen(0, func(s *facts.Snapshot) { s.Add(readings...) })
	}
	held := Verdicts{Held: []string{"a.rule"}, Baseline: "b"}
	for name, c := range map[string]struct {
		before, after Look
		cause         Cause
	}{
		"the site changed":              {look(says(title("A")), held), look(says(title("B")), Verdicts{Baseline: "b", Deviations: []Verdict{deviating("a.rule", facts.High, title("B"))}}), ""},
		"the rule is new":               {look(says(title("A")), Verdicts{Baseline: "a", Held: []string{"b.rule"}}), look(says(title("A")), Verdicts{Baseline: "b", Deviations: []Verdict{deviating("a.rule", facts.High, title("A"))}}), NewRule},
		"it could not be judged":        {look(says(), Verdicts{Baseline: "b", NotJudged: []Unjudged{{Rule: "a.rule"}}}), look(says(title("A")), Verdicts{Baseline: "b", Deviations: []Verdict{deviating("a.rule", facts.High, title("A"))}}), NotJudged},
		"it was broken":                 {look(says(title("A")), Verdicts{Baseline: "b", Broken: []Broken{{"a.rule"}}}), look(says(title("A")), Verdicts{Baseline: "b", Deviations: []Verdict{deviating("a.rule", facts.High, title("A"))}}), NotJudged},
		"the rule is stricter":          {look(says(title("A")), Verdicts{Baseline: "a", Held: []string{"a.rule"}}), look(says(title("A")), Verdicts{Baseline: "b", Deviations: []Verdict{deviating("a.rule", facts.High, title("A"))}}), Rejudged},
		"the wish is another":           {look(says(title("A"), words("X")), held), look(says(title("A"), words("Y")), Verdicts{Baseline: "b", Deviations: []Verdict{deviating("a.rule", facts.High, title("A"), words("Y"))}}), Wished},
		"both are others":               {look(says(title("A"), words("X")), held), look(says(title("B"), words("Y")), Verdicts{Baseline: "b", Deviations: []Verdict{deviating("a.rule", facts.High, title("B"), words("Y"))}}), ""},
		"another had covered it":        {look(says(title("A")), Verdicts{Baseline: "b", Covered: []Covered{{"a.rule", "site", facts.Fingerprint("a.rule", "site")}}}), look(says(title("A")), Verdicts{Baseline: "b", Deviations: []Verdict{deviating("a.rule", facts.High, title("A"))}}), "still"},
		"it has another name by now":    {look(says(title("A")), Verdicts{Baseline: "b", Deviations: []Verdict{{Rule: "a.rule", Severity: facts.High, Fingerprint: "old"}}}), look(says(title("A")), Verdicts{Baseline: "b", Deviations: []Verdict{{Rule: "a.rule", Severity: facts.High, Fingerprint: "new", Formerly: []string{"old"}}}}), "still"},
		"only results, and it was held": {Look{Verdicts: &Verdicts{Site: "A", Held: []string{"a.rule"}}}, Look{Verdicts: &Verdicts{Site: "A", Deviations: []Verdict{deviating("a.rule", facts.High)}}}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			forth, back := Of(c.before, c.after), Of(c.after, c.before)
			switch c.cause {
			case "still":
				assert.Len(t, forth.Still, 1)
				assert.Empty(t, append(forth.New, forth.Aside...))
			case "":
				assert.Len(t, forth.New, 1)
				assert.Len(t, back.Gone, 1)
			default:
				require.Len(t, forth.Aside, 1)
				assert.Equal(t, c.cause, forth.Aside[0].Cause)
				assert.True(t, forth.Aside[0].Now)
				assert.Empty(t, append(forth.New, back.Gone...))
			}
		})
	}
}

func TestWorseAndBetter(t *testing.T) {
	with := func(severity facts.Severity) Look {
		return Look{Verdicts: &Verdicts{Site: "A", Deviations: []Verdict{deviating("a.rule", severity)}}}
	}
	c := Of(with(facts.Low), with(facts.Critical))
	require.Len(t, c.Worse, 1)
	assert.Equal(t, facts.Low, c.Worse[0].Was)
	assert.Len(t, Of(with(facts.Critical), with(facts.Low)).Better, 1)
	assert.Len(t, Of(with(facts.Low), with(facts.Low)).Still, 1)
	assert.False(t, c.Facts)
	assert.True(t, c.Judged)
}

func TestTwoSites(t *testing.T) {
	c := Of(Look{Snapshot: seen(0, nil)}, Look{Snapshot: seen(0, func(s *facts.Snapshot) { s.Site = "B"; s.Sources = nil })})
	assert.True(t, c.Another)
	assert.Empty(t, c.Unseen, "of another site nothing is missed")
}

func FuzzReadResult(f *testing.F) {
	f.Add([]byte(`{"format":1,"site":"A","deviations":[{"rule":"a.b","severity":"high","fingerprint":"x","readings":[{"source":"settings","name":"site.title","value":"a","origin":{}}]}],"held":["c.d"]}`))
	f.Add([]byte(`{"format":1,"held":[],"covered":[{"rule":"a","fingerprint":"x"}],"not_judged":[{"rule":"b","judged":3}],"broken":[{"rule":"c"}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		v, err := ReadResult(data)
		if err != nil {
			return
		}
		c := Of(Look{Verdicts: v}, Look{Verdicts: v})
		assert.Empty(t, c.New)
		assert.Empty(t, c.Gone)
	})
}

// TestExamplesAreOfThoseThatChanged: of entries of which only some became something else nobody knows which they are, and none is named.
func TestExamplesAreOfThoseThatChanged(t *testing.T) {
	for name, c := range map[string]struct {
		before, after []facts.Class
		example       string
	}{
		"all of those after":  {[]facts.Class{many("code", "0644", 9)}, []facts.Class{many("code", "0644", 7), many("code", "0666", 2)}, "code/a.css and 1 more"},
		"all of those before": {[]facts.Class{many("code", "0666", 2), many("code", "0644", 7)}, []facts.Class{many("code", "0644", 9)}, "code/a.css and 1 more"},
		"some of both":        {[]facts.Class{many("code", "0666", 4), many("code", "0644", 7)}, []facts.Class{many("code", "0666", 2), many("code", "0644", 9)}, ""},
	} {
		changes := between(classes(c.before...), classes(c.after...)).Changes
		require.Len(t, changes, 1, name)
		assert.Equal(t, c.example, changes[0].Items[0].Note, name)
		assert.Equal(t, 2, changes[0].Items[0].Count, name)
	}
}

func TestFollowUpsThatAreStated(t *testing.T) {
	says := func(on facts.Day, what ...string) func(*facts.Snapshot) {
		return func(s *facts.Snapshot) {
			for _, w := range what {
				s.FollowUps = append(s.FollowUps, facts.StatedFollowUp(on, w, 0))
			}
		}
	}
	c := between(says("2026-03-05", "a", "b"), says("2026-04-05", "a", "c"))
	assert.Equal(t, []string{"follow_ups.on changed", "follow_ups. new", "follow_ups. gone"}, fields(c.Wishes))
	assert.Equal(t, "2026-03-05", c.Wishes[0].Items[0].From)
	assert.Equal(t, "2026-04-05", c.Wishes[0].Items[0].To)
}
