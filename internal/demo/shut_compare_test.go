package demo

import (
	"encoding/json"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/compare"
	"weltaxis/internal/facts"
	"weltaxis/internal/history"
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
			names := func(list []compare.Verdict) (rules []string) {
				for _, d := range list {
					rules = append(rules, d.Rule)
				}
				return rules
			}
			assert.Empty(t, names(closing.Gone), "nothing was repaired by that")
			assert.Empty(t, names(closing.Better), "nothing is better by that")
			assert.Empty(t, names(closing.Worse), "nothing is worse by that")
			assert.Empty(t, names(opening.New), "nothing is new, since it was there before")
			assert.Empty(t, names(opening.Worse), "nothing is worse")
			assert.Empty(t, names(opening.Better), "nothing is better by that")
			if c.name != "inner pages answer 503" { // there more than the state is gone: what was wrong with the pages themselves
				assert.Empty(t, names(opening.Gone), "nothing was repaired by that")
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
				switch i {
				case 0:
					began = news.Since
				case 1:
					assert.Empty(t, names(news.Gone), "closing: nothing was repaired by that")
					assert.ElementsMatch(t, names(closing.New), names(news.New), "what is wrong while it is so is told")
				case 2:
					assert.Empty(t, names(news.Gone), "still: nothing was repaired by that")
					assert.Empty(t, names(news.New))
				case 3:
					assert.Empty(t, names(news.New), "opening: what was there before is not new")
					assert.Len(t, news.Gone, len(opening.Gone))
					for _, d := range look.Verdicts.Deviations {
						assert.Equal(t, began[d.Fingerprint], news.Since[d.Fingerprint], "%s is there since the first look", d.Rule)
					}
				}
			}
		})
	}
}
