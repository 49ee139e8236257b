package render

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/compare"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/history"
	"weltaxis/internal/report"
)

func snapshotWith(title string, taken time.Time) *facts.Snapshot {
	s := &facts.Snapshot{Format: facts.SnapshotFormat, Tool: "test", Site: "A site", Taken: taken, Sources: []facts.Asked{{Source: facts.Settings, Where: "."}}}
	s.Add(facts.SiteTitle.Reading(title, facts.Origin{File: hostile}))
	return s
}

func TestAComparisonIsShown(t *testing.T) {
	day := time.Date(2026, 3, 5, 9, 0, 0, 0, time.UTC)
	before := compare.Look{Called: "audit 1", Snapshot: snapshotWith("Before", day), Verdicts: &compare.Verdicts{Format: 1, Site: "A site", Baseline: "b1", Held: []string{"a.new", "a.worse"},
		Deviations: []compare.Verdict{{Rule: "a.worse", Severity: facts.Low, Fingerprint: "1", Says: "bad"}, {Rule: "a.gone", Severity: facts.High, Fingerprint: "2", Says: hostile}}}}
	after := compare.Look{Called: hostile, Snapshot: snapshotWith(hostile, day.AddDate(0, 0, 7)), Verdicts: &compare.Verdicts{Format: 1, Site: "A site", Baseline: "b1", Held: []string{"a.gone"},
		Deviations: []compare.Verdict{{Rule: "a.worse", Severity: facts.Critical, Fingerprint: "1", Says: "worse" + hostile}, {Rule: "a.new", Severity: facts.Medium, Fingerprint: "3", Says: hostile}}}}
	b, p := page()
	Compare(p, report.Compare(compare.Of(before, after)), true)
	unharmed(t, b.String())
	out := ansi.Strip(b.String())
	for _, says := range []string{"audit 1; 5 March 2026, 09:00 UTC", "site.title changed from “Before” to", "a.new", "(it was low)", "a.gone", "1 thing changed; deviations: 1 new, 1 worse and 1 gone"} {
		assert.Contains(t, strings.Join(strings.Fields(out), " "), says)
	}
	b, p = page()
	Compare(p, report.Compare(compare.Of(before, before)), false)
	assert.Contains(t, b.String(), "Nothing of the site changed that was seen both times")
}

func TestAHistoryIsShown(t *testing.T) {
	day := time.Date(2026, 3, 5, 9, 0, 0, 0, time.UTC)
	share, weight := 0.756, 120
	var audits []history.Audit
	for n := range 4 {
		audits = append(audits, history.Audit{ID: int64(n + 1), Taken: day.AddDate(0, 0, n), Stage: "live", Tool: hostile, Alignment: &share, Counts: map[facts.Severity]int{facts.High: n}, Measures: history.Measures{Weight: &weight}})
	}
	audits[1].Part, audits[2].Partial, audits[3].Taken = "titles"+hostile, true, day.AddDate(0, 0, -9) // the clock went back
	changes := []fix.LogLine{{Run: "20260306T120000", ID: 1, At: day.AddDate(0, 0, 1).Add(time.Hour), Event: fix.Done, Kind: fix.Setting, Name: "site.title", From: hostile, To: "b"}}
	past := report.Past(audits, changes)
	require.Len(t, past.Events, 3)
	assert.Equal(t, "20260306T120000", past.Events[1].Run)
	b, p := page()
	History(p, "A site"+hostile, past, day)
	unharmed(t, b.String())
	out := ansi.Strip(b.String())
	assert.Contains(t, out, "critical and high")
	assert.Contains(t, out, "75\u00a0%")
	assert.Contains(t, out, "5\u00a0Mar,\u00a009:00")

	var written bytes.Buffer
	require.NoError(t, HistoryCSV(&written, audits))
	rows, err := csv.NewReader(&written).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 5)
	assert.Equal(t, "120", rows[1][len(rows[1])-2])
	assert.Equal(t, "", rows[1][len(rows[1])-3], "what was not seen is empty")
}

func TestARunIsShown(t *testing.T) {
	b, p := page()
	Work(p, &report.Work{Run: "20260306T120000", Site: "A site" + hostile, Before: 1, After: 2, Found: []report.Brief{{Rule: "a.one", Severity: facts.High, Says: hostile}}, Settled: []report.Brief{{Rule: "a.one", Severity: facts.High}},
		Changes: []report.Made{{Change: 3, What: hostile, From: "a", To: hostile, Result: fix.Took}}, Waits: []report.Waiting{{What: "b", For: "root", Steps: []string{hostile}}}})
	unharmed(t, b.String())
	out := ansi.Strip(b.String())
	for _, says := range []string{"found", "changed", "deviates no more", "left, and for whom", "b: root", "weltaxis compare SITE 1 2"} {
		assert.Contains(t, out, says)
	}
}

// TestTheCalendarIsReadBack by a library, with the same UIDs each time.
func TestTheCalendarIsReadBack(t *testing.T) {
	now := time.Date(2026, 3, 5, 9, 0, 0, 0, time.UTC)
	f := &report.FollowUps{Site: "A site, with; signs\\", Address: "https://www.name.example", Now: now, Looked: &now, All: []report.Again{
		facts.StatedFollowUp("2026-03-05", "two\nlines, and a very long one that goes on and on until it has to be folded somewhere (ä ö ü)", 0),
		{UID: "u2", Rule: "a.one", Subject: "/about/", On: "2027-01-15", What: "look" + hostile}}}
	assert.Equal(t, 1, f.Due())
	var uids []string
	for range 2 {
		var written bytes.Buffer
		require.NoError(t, Calendar(&written, f))
		assert.NotContains(t, strings.ReplaceAll(written.String(), "\r\n", ""), "\n", "lines end in CR LF (RFC 5545 §3.1)")
		for _, line := range strings.Split(written.String(), "\r\n") {
			assert.LessOrEqual(t, len(line), 76, line)
		}
		calendar, err := ics.ParseCalendar(&written)
		require.NoError(t, err)
		require.Len(t, calendar.Events(), 2)
		for _, event := range calendar.Events() {
			uids = append(uids, event.Id())
		}
		first := calendar.Events()[0]
		start, err := first.GetAllDayStartAt()
		require.NoError(t, err)
		assert.Equal(t, "2026-03-05", start.Format(time.DateOnly))
		assert.Contains(t, first.GetProperty(ics.ComponentPropertySummary).Value, "two\nlines, and a very long one")
		assert.NotContains(t, calendar.Events()[1].GetProperty(ics.ComponentPropertySummary).Value, "\x1b")
	}
	assert.Equal(t, uids[:2], uids[2:])
	assert.Equal(t, "u2@www.name.example", uids[1])
	assert.Error(t, Calendar(&bytes.Buffer{}, &report.FollowUps{All: []report.Again{{On: "soon"}}}))

	b, p := page()
	FollowUps(p, f)
	unharmed(t, b.String())
	assert.Contains(t, ansi.Strip(b.String()), "2027-01-15  look")
}
