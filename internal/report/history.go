package report

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/audit"
	"weltaxis/internal/compare"
	"weltaxis/internal/facts"
	"weltaxis/internal/history"
)

// A News is what came, went or is worse, of one rule.
type News = Judged

// Since puts a result into words together with what is new in it.
// PutRight says when this program had put a deviation right before it was seen again; nil where it had not.
func Since(r *audit.Result, news *history.News, putRight func(facts.Deviation) *time.Time) *Report {
	for i := range r.Deviations {
		if since, known := news.Since[r.Deviations[i].Fingerprint]; known {
			r.Deviations[i].Since = &since
			since.PutRight = putRight(r.Deviations[i])
		}
	}
	r.SetDays(news.Days)
	report := New(r)
	report.History = news
	if news.Before == nil {
		return report
	}
	w := &report.Words
	w.Since = fmt.Sprintf("audit %d of %s", news.Before.ID, moment(news.Before.Taken))
	if news.Backwards {
		w.Since += ", which is later by the clock of then"
	}
	w.News = judgedAs(&compare.Comparison{New: news.New, Worse: news.Worse, Gone: news.Gone})
	w.Other = (&wording{&compare.Comparison{Aside: news.Aside}}).aside()
	return report
}

func moment(at time.Time) string { return at.UTC().Format("2 January 2006, 15:04 MST") }

// Unheard are the deviations of an audit that no earlier one could see, so that nobody was told of them.
func Unheard(news *history.News) []compare.Verdict {
	untold := []compare.Verdict{}
	for _, d := range news.Aside {
		if d.Now && d.Cause == compare.NotJudged {
			untold = append(untold, d)
		}
	}
	return untold
}

// OnlyNew leaves in a result what is new or worse, and what nobody can have been told before: all where there is no earlier audit to compare with, and what no earlier one could see.
func OnlyNew(r *audit.Result, news *history.News) {
	if news.Before == nil {
		return
	}
	fresh := map[string]bool{}
	for _, list := range [][]compare.Verdict{news.New, news.Worse, Unheard(news)} {
		for _, d := range list {
			fresh[d.Fingerprint] = true
		}
	}
	r.Keep(func(d facts.Deviation) bool { return fresh[d.Fingerprint] })
}

// due are the follow-ups whose day has come, but for acceptances that are over, which are told by themselves.
func due(r *audit.Result) []string {
	said := []string{}
	for _, f := range r.FollowUps {
		if !f.Due(r.Taken) || f.Accepted && f.On < facts.DayOf(r.Taken) {
			continue
		}
		said = append(said, fmt.Sprintf("%s: %s", f.On, FollowUp(f)))
	}
	return said
}

// FollowUp says what to come back to.
func FollowUp(f facts.FollowUp) string {
	what := f.What
	if f.Rule != "" {
		what += " (" + f.Rule
		if f.Subject != "" && !strings.Contains(what, f.Subject) {
			what += ", " + f.Subject
		}
		what += ")"
	}
	return what
}

// since says since when the deviations of an entry are there: the one that is there for longest.
func since(e audit.Entry, taken time.Time) string {
	var first *facts.Since
	different := false
	for _, d := range e {
		if d.Since == nil {
			return ""
		}
		different = different || first != nil && !first.Seen.Equal(d.Since.Seen)
		if first == nil || d.Since.Seen.Before(first.Seen) {
			first = d.Since
		}
	}
	if first == nil || first.Lacked == nil && first.Seen.Equal(taken) {
		return "" // this is the first look
	}
	said := "at the first look that judged it, " + moment(first.Seen)
	if first.Lacked != nil {
		said = "between " + moment(*first.Lacked) + " and " + moment(first.Seen)
		if first.Seen.Equal(taken) {
			said = "after " + moment(*first.Lacked)
		}
	}
	if different {
		said += ", some later"
	}
	for _, d := range e {
		if at := d.Since.PutRight; at != nil {
			return said + "; put right from here on " + moment(*at) + ", so something makes it as it was again, as a deploy, a panel or somebody does"
		}
	}
	return said
}

// Trend are numbers of a site's audits, one after the other.
type Trend struct {
	What   string     `json:"what"`
	Values []*float64 `json:"values"` // null where it was not seen
}

// Known are the values that were seen.
func (t Trend) Known() (known []float64) {
	for _, v := range t.Values {
		if v != nil {
			known = append(known, *v)
		}
	}
	return known
}

// A Course is how a site has fared from audit to audit.
type Course struct {
	Audits []history.Audit
	Trends []Trend // a value for each of them; those of which two are known
}

// What a course is made of: so many audits at least, and at most.
const (
	leastCourse = 3
	mostCourse  = 40
)

// courseOf is the course of audits; nil when it is too short to be one.
func courseOf(audits []history.Audit) *Course {
	of := slices.DeleteFunc(slices.Clone(audits), func(a history.Audit) bool { return !whole(a) })
	if len(of) < leastCourse {
		return nil
	}
	c := &Course{Audits: of[max(len(of)-mostCourse, 0):]}
	c.Trends = slices.DeleteFunc(Trends(c.Audits), func(t Trend) bool { return len(t.Known()) < 2 })
	return c
}

// whole tells whether an audit was of all, as the site file says.
func whole(a history.Audit) bool { return a.Part == "" && !a.Aside }

// Trends are the numbers that are worth following.
func Trends(audits []history.Audit) []Trend {
	audits = slices.DeleteFunc(slices.Clone(audits), func(a history.Audit) bool { return !whole(a) })
	number := func(of func(history.Audit) *int) []*float64 {
		var values []*float64
		for _, a := range audits {
			var v *float64
			if n := of(a); n != nil {
				f := float64(*n)
				v = &f
			}
			values = append(values, v)
		}
		return values
	}
	bad := func(a history.Audit) *int {
		n := a.Counts[facts.Critical] + a.Counts[facts.High]
		return &n
	}
	rest := func(a history.Audit) *int {
		n := a.Counts[facts.Medium] + a.Counts[facts.Low]
		return &n
	}
	var alignment []*float64
	for _, a := range audits {
		var percent *float64
		if a.Alignment != nil {
			p := math.Floor(*a.Alignment * 100)
			percent = &p
		}
		alignment = append(alignment, percent)
	}
	return []Trend{{"aligned, %", alignment}, {"critical and high", number(bad)}, {"medium and low", number(rest)},
		{"first byte, ms", number(func(a history.Audit) *int { return a.Measures.FirstByte })},
		{"weight of a page, KiB", number(func(a history.Audit) *int { return a.Measures.Weight })}}
}
