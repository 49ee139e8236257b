package report

import (
	"slices"
	"strings"
	"time"

	"weltaxis/internal/audit"
	"weltaxis/internal/compare"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
)

// WorkFormat is the version of what is kept of a run of fix.
const WorkFormat = 1

// Work is a run of fix: what was found, what was changed, what was seen afterwards, and what is left for whom.
type Work struct {
	Format  int       `json:"format"`
	Run     string    `json:"run"`
	Site    string    `json:"site"`
	At      time.Time `json:"at"`
	Before  int64     `json:"before"`  // the audit before it; 0 when none was kept
	After   int64     `json:"after"`   // and after it; 0 when nobody could look
	Found   []Brief   `json:"found"`   // what deviated
	Changes []Made    `json:"changes"` //
	Settled []Brief   `json:"settled"` // what deviates no more
	New     []Brief   `json:"new"`     // what deviates now and did not
	Left    []Brief   `json:"left"`    // what still does
	Waits   []Waiting `json:"waits"`   // changes that were not made, and for whom they wait
}

// Unseen says whether nobody could look afterwards.
func (w *Work) Unseen() bool { return w.After == 0 && len(w.Left)+len(w.New)+len(w.Settled) == 0 }

// Took is how many changes were seen to have taken.
func (w *Work) Took() int {
	n := 0
	for _, m := range w.Changes {
		if m.Result == fix.Took {
			n++
		}
	}
	return n
}

// A Brief is a rule that deviates, in one line.
type Brief struct {
	Rule     string         `json:"rule"`
	Severity facts.Severity `json:"severity"`
	Count    int            `json:"count"` // of subjects
	Says     string         `json:"says"`
}

// A Made is a change of a run.
type Made struct {
	Change int        `json:"change"` // its number in the journal, 0 when it was not written
	What   string     `json:"what"`
	Place  string     `json:"place"`
	From   string     `json:"from"`
	To     string     `json:"to"`
	Risk   facts.Risk `json:"risk"`
	Rules  []string   `json:"rules"`
	Result string     `json:"result"`
	Says   string     `json:"says"`
}

// A Waiting is a change that was not made.
type Waiting struct {
	What  string   `json:"what"`
	Rules []string `json:"rules"`
	For   string   `json:"for"` // whom, or what
	Steps []string `json:"steps"`
}

// WorkOf is what a run was. After is nil when nobody could look afterwards; discern takes secrets out of what is kept.
func WorkOf(site string, before *audit.Result, r *fix.Report, rest []fix.Change, discern func(string) string, at time.Time) *Work {
	w := &Work{Format: WorkFormat, Run: r.Run, Site: site, At: at.UTC().Truncate(time.Second), Found: briefs(before), Changes: []Made{}, Settled: []Brief{}, New: []Brief{}, Left: []Brief{}, Waits: []Waiting{}}
	for _, o := range r.Outcomes {
		m := Made{Change: o.Record, What: o.Title(), Place: o.Origin.String(), Risk: o.Risk, Rules: filled(o.Rules), Result: o.Result, Says: discern(o.Says)}
		if !o.Finisher() {
			m.From, m.To = discern(o.From.String()), discern(o.To.String())
		}
		w.Changes = append(w.Changes, m)
	}
	if r.After != nil {
		now := briefs(r.After)
		w.Left = filled(slices.DeleteFunc(slices.Clone(now), func(b Brief) bool { return !among(w.Found, b) }))
		w.New = filled(slices.DeleteFunc(slices.Clone(now), func(b Brief) bool { return among(w.Found, b) }))
		w.Settled = filled(slices.DeleteFunc(slices.Clone(w.Found), func(b Brief) bool { return among(now, b) }))
	}
	for _, c := range rest {
		if !c.Finisher() {
			w.Waits = append(w.Waits, Waiting{What: c.Title(), Rules: filled(c.Rules), For: waitsFor(c), Steps: filled(c.Steps)})
		}
	}
	return w
}

func filled[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func among(list []Brief, b Brief) bool {
	return slices.ContainsFunc(list, func(o Brief) bool { return o.Rule == b.Rule })
}

// briefs are the rules that deviate, each in a line.
func briefs(r *audit.Result) []Brief {
	all := []Brief{}
	for _, e := range r.Entries() {
		all = append(all, Brief{Rule: e.First().Rule, Severity: e.First().Severity, Count: len(e), Says: strings.Join(entrySays(e), " ")})
	}
	return all
}

// Briefs are the rules that deviated in an audit that was kept.
func Briefs(v *compare.Verdicts) []Brief {
	all := []Brief{}
	for _, j := range judgedAs(&compare.Comparison{New: slices.DeleteFunc(slices.Clone(v.Deviations), func(d compare.Verdict) bool { return d.Accepted != nil })}) {
		all = append(all, Brief{Rule: j.Rule, Severity: j.Severity, Says: strings.Join(j.Says, " ")})
	}
	return all
}

// waitsFor says whom or what a change waits for.
func waitsFor(c fix.Change) string {
	switch {
	case c.Cannot != "":
		return "a person: " + c.Cannot
	case c.ForPerson():
		return "a person"
	case c.RunAs != "":
		return c.RunAs
	case c.Needs != "":
		return "a value: " + c.Needs
	case c.Risk == facts.Disruptive:
		return "a yes, since it is disruptive: " + c.Because
	}
	return "leave to make it (--allow " + c.Risk.String() + ")"
}
