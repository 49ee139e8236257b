package report

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/pace"
)

const pageAt = "https://theatre.example/about/"

// kept is a result of which a page is known, with what is said of it.
func kept(change func(*facts.Snapshot, *facts.Page, *facts.Repeat, *facts.Answer)) *audit.Result {
	s := &facts.Snapshot{}
	page := facts.Page{Address: pageAt, Path: "/about/", Kind: "content", Status: 200, Fresh: -1}
	repeat := facts.Repeat{Address: pageAt, Path: "/about/", Asks: 2, Then: "untold", Fresh: -1}
	answer := facts.Answer{Kind: "inner page", Address: pageAt, Cells: facts.Cells{"zone": {Value: facts.TextOf(facts.String, "")}}}
	s.Add(facts.CachePage.Reading(true, facts.Origin{File: "lamps"}), facts.CacheLifetime.Reading(3600, facts.Origin{File: "lamps"}))
	change(s, &page, &repeat, &answer)
	s.Pages, s.Repeats, s.Answers = []facts.Page{page}, []facts.Repeat{repeat}, []facts.Answer{answer}
	return &audit.Result{Snapshot: s}
}

// TestCacheOf: what becomes of a page in each layer, and for whom.
func TestCacheOf(t *testing.T) {
	hit := func(r *facts.Repeat) { r.Hits, r.Then, r.Says = 2, "hit", "Cache-Status: lamp; hit" }
	for name, c := range map[string]struct {
		change       func(*facts.Snapshot, *facts.Page, *facts.Repeat, *facts.Answer)
		does         map[string]string // of layers
		second       string
		signedIn     string
		together     string
		lastObserved string
	}{
		"the page cache answers": {func(_ *facts.Snapshot, _ *facts.Page, r *facts.Repeat, _ *facts.Answer) { hit(r) },
			map[string]string{"page": "gives it to everybody for 1h", "server": "keeps nothing", "browser": "is told nothing"}, "the page cache answers", "not looked at", "up to 1h for", ""},
		"it is on, and no header tells": {func(*facts.Snapshot, *facts.Page, *facts.Repeat, *facts.Answer) {},
			map[string]string{"page": "is on; whether it keeps this page no header tells"}, "cannot be told", "as everybody", "so a change is seen at once", ""},
		"it is on, and misses": {func(_ *facts.Snapshot, _ *facts.Page, r *facts.Repeat, _ *facts.Answer) { r.Then = "miss" },
			map[string]string{"page": "did not answer for it, though it is on"}, "it is made anew once more", "as everybody", "so a change is seen at once", ""},
		"private": {func(_ *facts.Snapshot, p *facts.Page, r *facts.Repeat, _ *facts.Answer) {
			p.CacheControl, p.Private, p.Fresh, r.Then = "private, no-store", true, 0, "bypass"
		}, map[string]string{"browser": "keeps nothing", "network": "is not to keep it", "page": "leaves it out"}, "it is made anew once more", "as everybody", "seen at once", ""},
		"the server keeps it, for those without a session": {func(s *facts.Snapshot, p *facts.Page, r *facts.Repeat, a *facts.Answer) {
			hit(r)
			a.Cells = facts.Cells{"zone": {Value: facts.TextOf(facts.String, "kept")}, "valid_seconds": {Value: facts.NumberOf(facts.Int, 600)}, "bypass_on": {Value: facts.TextOf(facts.String, "$cookie_house")}, "stores_private": {Value: facts.BoolOf(false)}}
		}, map[string]string{"server": "gives it to everybody for 10m"}, "the server cache answers; were that empty, the page cache would", "the server's cache is passed over where $cookie_house is set", "up to 1h10m", ""},
		"the server goes by what the page says": {func(_ *facts.Snapshot, p *facts.Page, r *facts.Repeat, a *facts.Answer) {
			p.CacheControl, p.Fresh = "max-age=120", 120
			a.Cells = facts.Cells{"zone": {Value: facts.TextOf(facts.String, "kept")}, "valid_seconds": {Value: facts.NumberOf(facts.Int, 600)}, "stores_private": {Value: facts.BoolOf(false)}}
		}, map[string]string{"server": "gives it to everybody for 2m", "browser": "shows it again for 2m"}, "the server cache answers", "not looked at", "up to 4m", ""},
		"the server does not keep what sets a session": {func(_ *facts.Snapshot, p *facts.Page, r *facts.Repeat, a *facts.Answer) {
			p.SetsSession = true
			a.Cells = facts.Cells{"zone": {Value: facts.TextOf(facts.String, "kept")}, "valid_seconds": {Value: facts.NumberOf(facts.Int, 600)}, "stores_private": {Value: facts.BoolOf(false)}}
		}, map[string]string{"server": "does not keep it"}, "cannot be told", "as everybody", "seen at once", ""},
		"what the server makes of it cannot be told": {func(_ *facts.Snapshot, _ *facts.Page, _ *facts.Repeat, a *facts.Answer) {
			a.Cells = facts.Cells{"zone": {Unknown: "a script of Lua decides"}}
		}, map[string]string{"server": "cannot be told"}, "cannot be told", "as everybody", "seen at once", ""},
		"asked with a session": {func(_ *facts.Snapshot, _ *facts.Page, r *facts.Repeat, _ *facts.Answer) {
			hit(r)
			r.Session, r.SessionSame = "bypass", false
		}, map[string]string{}, "the page cache answers", "it was sent around the cache; the text was another", "up to 1h", ""},
		"two page caches, and objects without their module": {func(s *facts.Snapshot, _ *facts.Page, r *facts.Repeat, _ *facts.Answer) {
			hit(r)
			s.Add(facts.CacheKeepers.Reading(2, facts.Origin{}), facts.CacheObject.Reading(true, facts.Origin{}), facts.RuntimeRelied.Reading([]string{"cache.object needs apcu"}, facts.Origin{}))
		}, map[string]string{"object": "is on, and does nothing: the runtime does not have apcu", "database": "cannot be told", "byte-code": "cannot be told"}, "the page cache answers", "not looked at", "up to 1h", ""},
	} {
		t.Run(name, func(t *testing.T) {
			way, err := CacheOf(kept(c.change), "/about/")
			require.NoError(t, err)
			require.Len(t, way.Layers, 7)
			for _, l := range way.Layers {
				require.NotEmpty(t, l.Does, l.Name)
				require.NotEmpty(t, l.Observed, l.Name)
				if does, said := c.does[l.Name]; said {
					assert.Contains(t, l.Does, does, l.Name)
				}
			}
			assert.Contains(t, way.Visits[1].Says, c.second)
			assert.Contains(t, way.Visits[3].Says, c.signedIn)
			assert.Contains(t, way.OldPages[len(way.OldPages)-1].Says, c.together)
		})
	}
	_, err := CacheOf(kept(func(*facts.Snapshot, *facts.Page, *facts.Repeat, *facts.Answer) {}), "/nowhere/")
	require.ErrorContains(t, err, "there is no page at /nowhere/ that answers")
	_, err = CacheOf(&audit.Result{Snapshot: &facts.Snapshot{}}, "/")
	require.ErrorContains(t, err, "no page was seen")
}

// laps are requests in both ways, with what became of the plain ones.
func laps(outcome string, plain, around []float64) (list []pace.Lap) {
	for _, ms := range plain {
		list = append(list, pace.Lap{Outcome: outcome, Status: 200, First: ms, Whole: ms + 1})
	}
	for _, ms := range around {
		list = append(list, pace.Lap{Around: true, Outcome: "miss", Status: 200, First: ms, Whole: ms + 1})
	}
	return list
}

// TestPaceInWords: what is said of requests, and of the time before.
func TestPaceInWords(t *testing.T) {
	fast, slow := []float64{10, 11, 12, 11, 10, 12}, []float64{40, 44, 41, 43, 42, 45}
	run := pace.New("Theatre", 6, time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC))
	run.Pages = []pace.Page{
		{Path: "/", Way: "a query of its own", Laps: laps("hit", fast, slow)},
		{Path: "/quiet/", Way: "a query of its own", Laps: laps("untold", slow, slow)},
		{Path: "/miss/", Way: "a query of its own", Laps: laps("miss", slow, slow)},
		{Path: "/none/", Laps: laps("hit", fast, nil)},
		{Path: "/gone/", Failed: "it answers 404", Laps: []pace.Lap{}},
		{Path: "/half/", Way: "a query of its own", Failed: "it took too long", Laps: laps("stale", fast[:2], slow[:1])},
	}
	before := pace.Run{Taken: run.Taken.Add(-time.Hour), Pages: []pace.Page{{Path: "/", Laps: laps("miss", slow, slow)}}}
	said := PaceOf(run, &before, 3)
	for i, wants := range [][]string{
		{"Of 6 requests after a warm-up: 6 answered by a cache.", "The cache is faster than what is around it, by 32 ms: chance alone would do that in 3 of 1000 cases."},
		{"6 answered without a word about caches", "No header says whether a cache answers. The page as visitors get it is as fast as the page around any cache, to a tenth: 42 ms and 42 ms."},
		{"6 made anew, since the cache did not have it", "No cache answered, so there is nothing to compare"},
		{"6 answered by a cache", "No way around a cache was found"},
		{"It could not be asked for: it answers 404."},
		{"2 answered by a cache with an old page", "cannot be told with 2 and 1", "It was not asked for to the end: it took too long."},
	} {
		require.Len(t, said.Pages[i].Says, len(wants), said.Pages[i].Path)
		for n, want := range wants {
			assert.Contains(t, said.Pages[i].Says[n], want)
		}
	}
	require.NotNil(t, said.Pages[0].Before)
	assert.Equal(t, "It is faster than before, by 32 ms: chance alone would do that in 3 of 1000 cases. In between weltaxis fix made 3 changes.", said.Pages[0].Before.Says)
	assert.Nil(t, said.Pages[1].Before)
	assert.Equal(t, "one change.", PaceOf(run, &before, 1).Pages[0].Before.Says[len("It is faster than before, by 32 ms: chance alone would do that in 3 of 1000 cases. In between weltaxis fix made "):])
	assert.Equal(t, 11.0, said.Pages[0].First.Plain.Median)
	assert.Equal(t, 12.0, said.Pages[0].Whole.Plain.Median)
}

// TestRunsAreKept: the last fifty, and one that is damaged or newer is refused.
func TestRunsAreKept(t *testing.T) {
	dir := t.TempDir()
	none, err := pace.Read(dir)
	require.NoError(t, err)
	require.Empty(t, none)
	for i := range pace.MostKept + 3 {
		runs, err := pace.Read(dir)
		require.NoError(t, err)
		require.NoError(t, pace.Keep(dir, runs, pace.New("Theatre", i+1, time.Now())))
	}
	runs, err := pace.Read(dir)
	require.NoError(t, err)
	require.Len(t, runs, pace.MostKept)
	require.Equal(t, pace.MostKept+3, runs[len(runs)-1].Times)
	newer := pace.New("Theatre", 1, time.Now())
	newer.Format = 9
	require.NoError(t, pace.Keep(dir, nil, newer))
	_, err = pace.Read(dir)
	require.ErrorContains(t, err, "newer version")
}
