package demo

import (
	"encoding/json"
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/compare"
	"weltaxis/internal/facts"
	"weltaxis/internal/history"
	"weltaxis/internal/report"
)

// unseen are ways in which a site is not seen as it is, by nobody's repair: outages, closings, and looks that saw less. What is wrong with what stands there is news, and passes.
var unseenLooks = []struct {
	name string
	do   func(*installation)
}{
	{"closed by its own switch", announced},
	{"closed by its own switch, and nobody said until when", func(b *installation) { b.set("closed", "yes") }},
	{"a notice of the web server's", after(until, with(isPage, gives(503, retryAfter, "3600", "Cache-Control", noStore)))},
	{"a notice that answers 200", after(until, with(isPage, gives(200, "Cache-Control", noStore)))},
	{"an outage: 500 everywhere", with(func(*http.Request) bool { return true }, gives(500))},
	{"an outage: 502 for pages", with(isPage, gives(502))},
	{"an outage: 504 with robots.txt", with(not(isRobots), gives(504))},
	{"the home page answers 500", with(isHome, gives(500))},
	{"the home page answers 404", with(isHome, gives(404))},
	{"too many requests", with(isPage, gives(429, retryAfter, "60"))},
	{"a lock before everything", with(func(*http.Request) bool { return true }, asks)},
	{"refused", with(isPage, gives(403))},
	{"inner pages answer 503", with(func(r *http.Request) bool { return isPage(r) && !isHome(r) }, gives(503, retryAfter, "60"))},
	{"empty pages", with(isPage, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(200) })},
}

func TestAnOutageRepairsNothing(t *testing.T) {
	open := lookOf(t, auditOf(t, lanternLane()))
	for _, c := range unseenLooks {
		t.Run(c.name, func(t *testing.T) {
			b := lanternLane()
			c.do(b)
			shut := lookOf(t, auditOf(t, b))
			closing, opening := compare.Of(open, shut), compare.Of(shut, open)
			assert.Empty(t, rulesOf(closing.Gone), "nothing was repaired by that")
			assert.Empty(t, rulesOf(closing.Better), "nothing is better by that")
			assert.Empty(t, rulesOf(closing.Worse), "nothing is worse by that")
			assert.Empty(t, rulesOf(opening.New), "nothing is new, since it was there before")
			assert.Empty(t, rulesOf(opening.Worse), "nothing is worse")
			assert.Empty(t, rulesOf(opening.Better), "nothing is better by that")
			if c.name != "inner pages answer 503" { // there more than the state is gone: what was wrong with the pages themselves
				assert.Empty(t, rulesOf(opening.Gone), "nothing was repaired by that")
			}

			// The same as it is kept: open, so twice, and open again.
			store, _, err := history.Make(t.Context(), t.TempDir())
			require.NoError(t, err)
			defer store.Close()
			began := map[string]facts.Since{}
			for i, look := range []compare.Look{open, shut, shut, open} {
				look = again(t, look)
				look.Verdicts.Taken = open.Snapshot.Taken.Add(time.Duration(i) * time.Hour)
				look.Snapshot.Taken = look.Verdicts.Taken
				written, err := json.Marshal(look.Verdicts)
				require.NoError(t, err)
				news, err := store.Keep(t.Context(), history.Entry{Site: history.Site{Name: "theatre"}, Snapshot: look.Snapshot, Result: written, Audit: history.Audit{Taken: look.Verdicts.Taken, Stage: "live", Baseline: look.Verdicts.Baseline}}, false)
				require.NoError(t, err)
				if i > 0 {
					assert.Empty(t, rulesOf(report.Unheard(news)), "look %d: nothing is told as if nobody had heard of it", i)
				}
				switch i {
				case 0:
					began = news.Since
				case 1:
					assert.Empty(t, rulesOf(news.Gone), "closing: nothing was repaired by that")
					assert.ElementsMatch(t, rulesOf(closing.New), rulesOf(news.New), "what is wrong while it is so is told")
				case 2:
					assert.Empty(t, rulesOf(news.Gone), "still: nothing was repaired by that")
					assert.Empty(t, rulesOf(news.New))
				case 3:
					assert.Empty(t, rulesOf(news.New), "opening: what was there before is not new")
					assert.Len(t, news.Gone, len(opening.Gone))
					for _, d := range look.Verdicts.Deviations {
						assert.Equal(t, began[d.Fingerprint], news.Since[d.Fingerprint], "%s is there since the first look", d.Rule)
					}
				}
			}
		})
	}
}

// TestWhatIsGoneIsSaid: what is seen to be another is, though the site is closed, or one of its pages never lets visitors in.
func TestWhatIsGoneIsSaid(t *testing.T) {
	open := lookOf(t, auditOf(t, lanternLane()))
	b := lanternLane()
	announced(b)
	require.Contains(t, b.files, "foyer/posters/winter/upload-test.php")
	delete(b.files, "foyer/posters/winter/upload-test.php")
	c := compare.Of(open, lookOf(t, auditOf(t, b)))
	assert.Equal(t, []string{"permissions.uploads-inert"}, rulesOf(c.Gone), "it was taken away while the site was closed")

	// A page that never lets visitors in hides no other.
	kept := with(func(r *http.Request) bool { return r.URL.Path == "/join/" }, asks)
	before, after := lanternLane(), lanternLane()
	kept(before)
	kept(after)
	i := slices.IndexFunc(after.pages, func(p page) bool { return p.Kind == "post" })
	require.GreaterOrEqual(t, i, 0)
	after.pages = slices.Delete(after.pages, i, i+1)
	c = compare.Of(lookOf(t, auditOf(t, before)), lookOf(t, auditOf(t, after)))
	assert.Contains(t, rulesOf(c.Gone), "delivery.asset-owner", "what was wrong with the page is gone with it")
	assert.NotContains(t, rulesOf(c.Aside), "delivery.asset-owner")
}

func rulesOf(list []compare.Verdict) (rules []string) {
	for _, d := range list {
		rules = append(rules, d.Rule)
	}
	return rules
}
