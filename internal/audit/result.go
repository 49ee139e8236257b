package audit

import (
	"slices"
	"strings"
	"time"

	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// ResultFormat is the version of the result's JSON.
const ResultFormat = 1

// A Result is all that renderers get: what deviates, what holds, what was not judged, what could not be seen.
type Result struct {
	Format        int                    `json:"format"`
	Tool          string                 `json:"tool"`
	Baseline      string                 `json:"baseline"`
	Dialect       string                 `json:"dialect"`
	Site          string                 `json:"site"`
	Stage         string                 `json:"stage"`
	Taken         time.Time              `json:"taken"`
	Sources       []facts.Asked          `json:"sources"`
	Alignment     *float64               `json:"alignment"` // weighted share of judged rules that hold; null when none was judged
	Judged        *float64               `json:"judged"`    // weighted share of applicable rules that could be judged
	Counts        map[facts.Severity]int `json:"counts"`    // deviating rules by severity, without the accepted
	Deviations    []facts.Deviation      `json:"deviations"`
	Held          []string               `json:"held"`
	NotApplicable []string               `json:"not_applicable"`
	Covered       []baseline.Covered     `json:"covered"`
	NotJudged     []baseline.NotJudged   `json:"not_judged"`
	Broken        []baseline.Broken      `json:"broken"`
	Lapsed        []facts.Acceptance     `json:"lapsed"` // acceptances whose last day is over
	Astray        []facts.Acceptance     `json:"astray"` // acceptances that nothing answers to
	Gaps          []facts.Gap            `json:"gaps"`
	// FollowUps are what to come back to, by day: of the rules, of what is accepted, and of the site file.
	FollowUps []facts.FollowUp `json:"follow_ups"`

	// Snapshot and Rules are what the result was made of, for the commands that show more than deviations.
	Snapshot *facts.Snapshot    `json:"-"`
	named    []string           // what Only named
	leftOut  []string           // rules whose deviations Keep left out
	Rules    *baseline.Baseline `json:"-"`
}

// StageOption is where a stage comes from that was asked for in the place of the site file's.
const StageOption = "--stage"

// Judge judges a snapshot. The options' stage replaces that of the intent.
func Judge(rules *baseline.Baseline, snapshot *facts.Snapshot, options Options) *Result {
	if options.Stage != "" {
		stage := facts.IntentStage.Reading(options.Stage, facts.Origin{File: StageOption})
		snapshot.Readings = append([]facts.Reading{stage}, slices.DeleteFunc(snapshot.Readings, func(r facts.Reading) bool { return r.FullName() == facts.IntentStage.Name })...)
	}
	j := rules.Judge(snapshot, func(d facts.Deviation) bool {
		return slices.ContainsFunc(snapshot.Accept, func(a facts.Acceptance) bool { return good(a, snapshot.Taken) && a.Answers(d) })
	})
	stage, _ := snapshot.Effective(facts.IntentStage.Name)
	r := &Result{Format: ResultFormat, Tool: options.Tool, Baseline: rules.Version, Dialect: snapshot.Dialect, Site: snapshot.Site,
		Stage: stage.Value.Text(), Taken: snapshot.Taken, Sources: filled(snapshot.Sources), Counts: map[facts.Severity]int{},
		Deviations: filled(j.Deviations), Held: filled(j.Held), NotApplicable: filled(j.NotApplicable), Covered: filled(j.Covered),
		NotJudged: filled(j.NotJudged), Broken: filled(j.Broken), Lapsed: []facts.Acceptance{}, Astray: []facts.Acceptance{}, Gaps: filled(snapshot.Gaps),
		Snapshot: snapshot, Rules: rules, named: options.Only}
	r.FollowUps = followUps(j.FollowUps, snapshot)
	r.only(options.Only)
	r.accept(snapshot.Accept)
	r.agree()
	r.sort()
	r.count()
	r.measure()
	return r
}

// agree has all rules that would take permissions from the same entries propose one mode, which puts all of them right, with the risk of that.
func (r *Result) agree() {
	to := map[string]int64{}
	each := func(do func(d *facts.Deviation)) {
		for i := range r.Deviations {
			if d := &r.Deviations[i]; d.Fix.Mode != nil && d.Accepted == nil {
				do(d)
			}
		}
		for i := range r.Covered {
			if d := &r.Covered[i].Deviation; d.Fix.Mode != nil {
				do(d)
			}
		}
	}
	each(func(d *facts.Deviation) {
		if most, known := to[d.Subject]; known {
			to[d.Subject] = most & d.Fix.Mode.To.Number()
		} else {
			to[d.Subject] = d.Fix.Mode.To.Number()
		}
	})
	classes := map[string]*facts.Class{}
	for i := range r.Snapshot.Classes {
		classes[r.Snapshot.Classes[i].Subject()] = &r.Snapshot.Classes[i]
	}
	each(func(d *facts.Deviation) {
		class, all := classes[d.Subject], to[d.Subject]
		if class == nil || all == d.Fix.Mode.To.Number() {
			return
		}
		mode := *d.Fix.Mode
		mode.To = facts.NumberOf(facts.Mode, all)
		d.Fix.Mode = &mode
		d.Fix.Risk, d.Fix.Because, d.Fix.Noticed = baseline.ModeChangeOf(class, mode.From, mode.To, r.Snapshot.WebUser()).Risk()
	})
}

// filled makes an empty list of nil, so that JSON says [] and not null.
func filled[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// only keeps the deviations of the severities that were named, if any was. A rule may have several.
func (r *Result) only(names []string) {
	severities := baseline.SeveritiesAmong(names)
	other := func(s facts.Severity) bool { return len(severities) > 0 && !slices.Contains(severities, s) }
	r.Deviations = slices.DeleteFunc(r.Deviations, func(d facts.Deviation) bool { return other(d.Severity) })
	r.Covered = slices.DeleteFunc(r.Covered, func(c baseline.Covered) bool { return other(c.Deviation.Severity) })
}

// Keep keeps the deviations that are wanted, and counts anew. Which rules deviate besides is known by LeftOut.
func (r *Result) Keep(wanted func(facts.Deviation) bool) {
	all := r.Entries()
	r.Deviations = slices.DeleteFunc(r.Deviations, func(d facts.Deviation) bool { return !wanted(d) })
	r.count()
	r.leftOut = []string{}
	for _, e := range all {
		rule := e.First().Rule
		if !slices.Contains(r.leftOut, rule) && !slices.ContainsFunc(r.Entries(), func(e Entry) bool { return e.First().Rule == rule }) {
			r.leftOut = append(r.leftOut, rule)
		}
	}
}

// LeftOut are the rules that deviate and of which nothing was wanted; nil when all was.
func (r *Result) LeftOut() []string { return r.leftOut }

// good tells whether an acceptance is good on the day of the snapshot. The last day counts in full, in universal time.
func good(a facts.Acceptance, taken time.Time) bool {
	return taken.Before(time.Unix(a.Until.Number(), 0).Add(24 * time.Hour))
}

// accept marks what somebody has decided to live with.
func (r *Result) accept(accepted []facts.Acceptance) {
	for _, a := range accepted {
		if !good(a, r.Taken) {
			r.Lapsed = append(r.Lapsed, a)
			continue
		}
		answers := slices.ContainsFunc(r.Covered, func(c baseline.Covered) bool { return a.Answers(c.Deviation) })
		for i := range r.Deviations {
			if d := &r.Deviations[i]; a.Answers(*d) {
				d.Accepted, answers = &a, true
			}
		}
		if _, chosen := r.Rules.Rule(a.Rule); chosen && !answers {
			r.Astray = append(r.Astray, a)
		}
	}
}

// sort puts deviations in the order of work: by area, then the worst first.
func (r *Result) sort() {
	slices.SortStableFunc(r.Deviations, func(a, b facts.Deviation) int {
		if x, y := slices.Index(baseline.Areas, a.Area), slices.Index(baseline.Areas, b.Area); x != y {
			return x - y
		}
		return int(a.Severity) - int(b.Severity)
	})
}

// count counts deviating rules by severity. A rule that deviates for 300 pages counts once.
func (r *Result) count() {
	for _, severity := range facts.Severities() {
		r.Counts[severity] = 0
	}
	for _, e := range r.Entries() {
		r.Counts[e.First().Severity]++
	}
}

// weights are what a rule counts for, by its worst severity.
var weights = map[facts.Severity]float64{facts.Critical: 8, facts.High: 4, facts.Medium: 2, facts.Low: 1, facts.Note: 0}

// measure works out alignment and judged. Covered and accepted deviations are on neither side of the share.
func (r *Result) measure() {
	weigh := func(ids []string) (sum float64) {
		for _, id := range ids {
			if rule, ok := r.Rules.Rule(id); ok {
				sum += weights[rule.Severity.Worst()]
			}
		}
		return sum
	}
	var deviating, unseen []string
	for _, e := range r.Entries() {
		if !slices.Contains(deviating, e.First().Rule) {
			deviating = append(deviating, e.First().Rule)
		}
	}
	for _, n := range r.Unjudged() {
		if n.Judged == 0 && !slices.Contains(deviating, n.Rule) {
			unseen = append(unseen, n.Rule)
		}
	}
	for _, b := range r.Broken {
		unseen = append(unseen, b.Rule)
	}
	held, judged := weigh(r.Held), weigh(r.Held)+weigh(deviating)
	r.Alignment, r.Judged = share(held, judged), share(judged, judged+weigh(unseen))
}

// Unjudged lists the rules that were not judged and whose question was not answered from another side either: a
// declaration nobody could read is not missed where its effect was seen.
func (r *Result) Unjudged() []baseline.NotJudged {
	var answered []string
	for _, rule := range r.Rules.Rules {
		if verdict := r.VerdictOf(rule.ID); verdict == facts.Holds || verdict == facts.Deviates {
			answered = append(answered, rule.Covers...)
		}
	}
	return slices.DeleteFunc(slices.Clone(r.NotJudged), func(n baseline.NotJudged) bool {
		return strings.HasSuffix(n.Rule, "-declared") && slices.Contains(answered, n.Rule)
	})
}

func share(part, whole float64) *float64 {
	if whole == 0 {
		return nil
	}
	s := part / whole
	return &s
}

// An Entry is one rule's deviations of one severity, as a person is told of them.
type Entry []facts.Deviation

// First stands for all.
func (e Entry) First() facts.Deviation { return e[0] }

// Entries groups the deviations that count by rule and severity, keeping their order.
func (r *Result) Entries() []Entry {
	var entries []Entry
	for _, d := range r.Deviations {
		if d.Accepted != nil {
			continue
		}
		i := slices.IndexFunc(entries, func(e Entry) bool { return e[0].Rule == d.Rule && e[0].Severity == d.Severity })
		if i < 0 {
			entries = append(entries, nil)
			i = len(entries) - 1
		}
		entries[i] = append(entries[i], d)
	}
	return entries
}

// Worst is the worst severity that counts, 0 when nothing does.
func (r *Result) Worst() facts.Severity {
	for _, severity := range facts.Severities() {
		if r.Counts[severity] > 0 {
			return severity
		}
	}
	return 0
}

// AtOrAbove tells whether anything that counts is at least as bad as the severity.
func (r *Result) AtOrAbove(severity facts.Severity) bool {
	worst := r.Worst()
	return worst != 0 && worst <= severity
}

// Partial tells whether something that was asked for could not be seen or judged: a source, or a rule that was named.
func (r *Result) Partial() bool {
	named := slices.ContainsFunc(r.NotJudged, func(n baseline.NotJudged) bool { return slices.Contains(r.named, n.Rule) && n.Judged == 0 })
	return r.Snapshot.Partial() || len(r.Broken) > 0 || named
}

// Named is the part that was asked for: areas, rules and severities; nothing for all.
func (r *Result) Named() []string { return r.named }
