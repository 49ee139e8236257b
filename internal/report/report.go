// Package report puts a result into words: what stands on top, the first things to do, one entry for each rule that
// deviates, and what was not judged.
//
// The words are as they are: what comes from a site is in them untouched, and each renderer escapes it once by its own
// rules. The package lays out nothing and colours nothing. It may import audit, baseline and facts.
package report

import (
	"fmt"
	"slices"
	"strings"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/history"
)

// A Report is a result in words. As JSON it is the result with them added.
type Report struct {
	*audit.Result
	Words Words `json:"words"`
	// History is what is new beside the audits before; nil when none was looked at.
	History *history.News `json:"history,omitempty"`
}

// Words are what a person is told, in the order in which they are told it.
type Words struct {
	There   string   `json:"there"`          // whether the site answers
	Looked  string   `json:"looked"`         // where was looked
	As      string   `json:"as,omitempty"`   // the users that it was read as, where root looked
	Read    string   `json:"read,omitempty"` // what there is to say of that
	Stands  string   `json:"stands"`         // how it stands, in counts
	First   []First  `json:"first"`          // what to do first, three at most
	Entries []Entry  `json:"entries"`
	Unseen  []Unseen `json:"unseen"` // why rules were not judged
	// Lacking is the one thing that would let most of the rest be judged; "" when all was.
	Lacking  string     `json:"lacking"`
	Gaps     []string   `json:"gaps"` // what was asked for and could not be seen
	Accepted []Accepted `json:"accepted"`
	// Since is what is new is compared with, and News what came and went; "" and nothing when nothing is.
	Since    string   `json:"since"`
	News     []News   `json:"news"`
	Other    []string `json:"other"`    // what is told now for another reason than that the site changed
	Due      []string `json:"due"`      // what to come back to, now
	Lapsed   []string `json:"lapsed"`   // acceptances whose last day is over
	Astray   []string `json:"astray"`   // acceptances that nothing answers to
	Fixable  bool     `json:"fixable"`  // weltaxis fix has something to show
	Presumed bool     `json:"presumed"` // nobody has said what the site is meant to be
}

// New puts a result into words.
func New(r *audit.Result) *Report {
	report := &Report{Result: r}
	w := &report.Words
	w.There, _ = there(r)
	w.Looked, w.Stands = looked(r), stands(r, List(r.Named()))
	w.Entries = []Entry{}
	for _, e := range r.Entries() {
		w.Entries = append(w.Entries, entry(r, e))
	}
	w.First, w.As, w.Read = first(r), r.Snapshot.As, readAs(r.Snapshot)
	w.News, w.Other, w.Due = []News{}, []string{}, due(r)
	w.Unseen, w.Lacking, w.Gaps = unseen(r), lacking(r), gaps(r)
	w.Accepted, w.Lapsed, w.Astray = accepted(r), lapsed(r), astray(r)
	stored, told := r.Snapshot.Asked(facts.Settings) || r.Snapshot.Asked(facts.Files), r.Snapshot.Asked(facts.Server)
	w.Fixable = slices.ContainsFunc(r.Deviations, func(d facts.Deviation) bool {
		return d.Accepted == nil && (stored && (len(d.Fix.Changes) > 0 || d.Fix.Mode != nil || d.Fix.Write != nil) || told && d.Fix.Wish != nil)
	})
	stage, known := r.Snapshot.Effective(facts.IntentStage.Name)
	w.Presumed = known && stage.Origin.Default != ""
	return report
}

// readAs says as whom the site was read, where root looked; nothing where that is root, as is to be expected of what is root's own, unless its web
// server is root's too.
func readAs(s *facts.Snapshot) string {
	switch {
	case s.As == "":
		return ""
	case s.As != "root":
		return "Read as " + s.As + "; root looked at no more than what lies there, and who may do what with it."
	case s.WebUser() == "root":
		return "Read as root, as whom the web server runs too: whatever it can be got to do, it does with all rights there are."
	}
	return ""
}

// there says whether the site answers, from what was seen of its home page, and tells whether it does.
func there(r *audit.Result) (says string, answers bool) {
	s := r.Snapshot
	if !s.Asked(facts.Live) {
		return "Nobody asked whether it answers: no live source was looked at.", false
	}
	address, _ := s.Is(facts.LiveAddress.Term)
	if page := s.HomePage(); page != nil {
		switch page.Status {
		case 200:
			return fmt.Sprintf("It answers at %s.", page.Address), true
		case 503:
			return fmt.Sprintf("It answers 503 at %s: visitors are told to come back later.", page.Address), true
		case 401:
			return fmt.Sprintf("It asks for name and password at %s.", page.Address), true
		}
		return fmt.Sprintf("It answers %d at %s, and not with its home page.", page.Status, page.Address), true
	}
	if notice, known := s.Is(facts.LiveNotice.Term); known && notice.Text() != "" {
		return fmt.Sprintf("It answers at %s with a notice, “%s”, in the place of its home page.", address.Text(), notice.Text()), true
	}
	if status, known := s.Is(facts.HomeStatus.Term); known && status.Number() == 503 {
		return fmt.Sprintf("It answers 503 at %s: visitors are told to come back later.", address.Text()), true
	}
	if status, known := s.Is(facts.HomeStatus.Term); known {
		return fmt.Sprintf("It answers %s at %s, and not with its home page.", status, address.Text()), true
	}
	for _, gap := range s.Gaps {
		if gap.Source == facts.Live && gap.Kind != facts.Unmapped {
			return fmt.Sprintf("It does not answer: %s: %s.", gap.What, gap.Because), false
		}
	}
	return fmt.Sprintf("Whether it answers at %s could not be told.", address.Text()), false
}

func looked(r *audit.Result) string {
	var places []string
	for _, s := range r.Sources {
		text := s.Source.String() + " in " + s.Where
		switch {
		case s.Source == facts.Live:
			text = "no page live"
			if n := len(r.Snapshot.Pages); n > 0 {
				text = Count(n, "page", "pages") + " live"
			}
		case s.Source == facts.Settings && r.Dialect != "":
			text += " (" + r.Dialect + ")"
		}
		places = append(places, text)
	}
	if len(places) == 0 {
		return "Nothing was looked at."
	}
	said := "Looked at " + List(places) + "."
	address, _ := r.Snapshot.Is(facts.LiveAddress.Term)
	for _, gap := range r.Gaps {
		if gap.Kind == facts.Unmapped && len(gap.Names) == 0 && facts.SameAddress(gap.What, address.Text()) { // a bound that was reached
			said += " " + Capital(gap.Because) + "."
		}
	}
	return said
}

// stands says how it stands: what deviates, how many rules hold of those that could be judged, and how many could not. A part is
// what they are of, "" for all.
func stands(r *audit.Result, part string) string {
	var counts []string
	for _, severity := range facts.Severities() {
		if n := r.Counts[severity]; n > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", n, severity))
		}
	}
	fresh := ""
	if r.LeftOut() != nil {
		fresh = "new "
	}
	said := "Nothing " + fresh + "deviates"
	switch {
	case len(counts) > 0:
		said = List(counts)
		if fresh != "" {
			said = "New: " + said
		}
	case isDown(r):
		said = "What it serves could not be judged"
	case r.Partial():
		said += " in what could be seen"
	}
	if n := len(r.LeftOut()); n > 0 {
		said += fmt.Sprintf("; %s as before", Count(n, "rule deviates", "rules deviate"))
	}
	if part != "" {
		said = "Of " + part + ": " + strings.ToLower(said[:1]) + said[1:]
	}
	judged := map[string]bool{}
	for _, id := range r.Held {
		judged[id] = true
	}
	for _, d := range r.Deviations {
		judged[d.Rule] = true
	}
	for _, c := range r.Covered {
		judged[c.Rule] = true
	}
	for _, id := range r.LeftOut() {
		judged[id] = true
	}
	unjudged := 0
	for _, n := range r.Unjudged() {
		if !judged[n.Rule] {
			unjudged++
		}
	}
	said += fmt.Sprintf("; %d of %s", len(r.Held), Count(len(judged), "rule holds", "rules hold"))
	unjudged += len(r.Broken)
	switch {
	case len(judged)+unjudged == 0:
		return "No rule applies."
	case len(judged) == 0:
		return fmt.Sprintf("None of %s could be judged.", Count(unjudged, "rule", "rules"))
	case unjudged > 0:
		return said + fmt.Sprintf(", and %d could not be judged.", unjudged)
	}
	return said + "."
}

// isDown tells whether no page was had, or a notice in its place.
func isDown(r *audit.Result) bool {
	if reached, known := r.Snapshot.Is(facts.LiveReached.Term); known && !reached.Bool() {
		return true
	}
	if notice, known := r.Snapshot.Is(facts.LiveNotice.Term); known && notice.Text() != "" {
		return true
	}
	status, known := r.Snapshot.Is(facts.HomeStatus.Term)
	return known && status.Number() != 200
}

// An Accepted is a deviation that somebody has decided to live with.
type Accepted struct {
	Rule    string `json:"rule"`
	Subject string `json:"subject"`
	Says    string `json:"says"`
	Because string `json:"because"`
	Until   string `json:"until"` // the last day
}

// accepted lists what somebody lives with, each decision once.
func accepted(r *audit.Result) []Accepted {
	all := []Accepted{}
	var of [][]string // the sentences of each
	for _, d := range r.Deviations {
		if d.Accepted == nil {
			continue
		}
		a := Accepted{Rule: d.Rule, Subject: d.Accepted.Subject, Because: d.Accepted.Because, Until: d.Accepted.Until.String()}
		i := slices.Index(all, a)
		if i < 0 {
			i = len(all)
			all, of = append(all, a), append(of, nil)
		}
		of[i] = append(of[i], d.Says)
	}
	for i := range all {
		all[i].Says = strings.Join(folded(of[i]), " ")
	}
	return all
}

func lapsed(r *audit.Result) []string {
	said := []string{}
	for _, a := range r.Lapsed {
		said = append(said, fmt.Sprintf("%s was accepted until %s: %s", a.Rule, a.Until, a.Because))
	}
	return said
}

// astray lists acceptances that match nothing, and why that may be.
func astray(r *audit.Result) []string {
	said := []string{}
	for _, a := range r.Astray {
		text := fmt.Sprintf("%s is accepted for %s, and nothing deviates there", a.Rule, a.Subject)
		if a.Subject == "*" {
			text = fmt.Sprintf("%s is accepted for everything, and deviates nowhere", a.Rule)
		}
		var subjects []string
		for _, d := range r.Deviations {
			if d.Rule == a.Rule && !slices.Contains(subjects, d.Subject) {
				subjects = append(subjects, d.Subject)
			}
		}
		switch {
		case len(subjects) > 0:
			text += "; it deviates for " + List(FirstFew(subjects))
		case r.VerdictOf(a.Rule) == facts.NotJudged:
			text += "; it could not be judged this time"
		default:
			text += "; the line can go from the site file"
		}
		said = append(said, text+".")
	}
	return said
}

// An Unseen is one reason why rules were not judged, and which.
type Unseen struct {
	Because string   `json:"because"`
	Rules   []string `json:"rules"` // each with the items it is about, if it was judged of others
}

// unseen lists the reasons why rules were not judged, those of most rules first.
func unseen(r *audit.Result) []Unseen {
	all := []Unseen{}
	for _, n := range r.Unjudged() {
		i := slices.IndexFunc(all, func(u Unseen) bool { return u.Because == n.Because })
		if i < 0 {
			i = len(all)
			all = append(all, Unseen{Because: n.Because})
		}
		all[i].Rules = append(all[i].Rules, unjudged(n))
	}
	slices.SortStableFunc(all, func(a, b Unseen) int { return len(b.Rules) - len(a.Rules) })
	for _, b := range r.Broken {
		all = append(all, Unseen{"the rule itself is broken: " + b.Because, []string{b.Rule}})
	}
	return all
}

// unjudged names a rule that was not judged, and of how many items it was not.
func unjudged(n baseline.NotJudged) string {
	if n.Judged == 0 || len(n.Items) == 0 {
		return n.Rule
	}
	more := ""
	if len(n.Items) > 1 {
		more = fmt.Sprintf(" and %d more", len(n.Items)-1)
	}
	return fmt.Sprintf("%s for %s%s (it was for %d)", n.Rule, n.Items[0].Subject, more, n.Judged)
}

// lacking says what would let most of what was not judged be judged.
func lacking(r *audit.Result) string {
	if len(r.Unjudged()) == 0 {
		return ""
	}
	of := map[facts.Source]int{}
	most, next := facts.Source(0), 0
	for _, n := range r.Unjudged() {
		if n.Missing[0] == facts.ListStrange { // nothing that anybody could do about it but look again
			next++
			continue
		}
		source, _ := facts.SourceOf(n.Missing[0])
		if of[source]++; most == 0 || of[source] > of[most] {
			most = source
		}
	}
	if most == 0 {
		return Count(next, "rule", "rules") + " can be judged at the next look."
	}
	asked := r.Snapshot.Asked(most)
	rules := Count(of[most], "rule", "rules")
	switch {
	case most == facts.Upkeep && !asked:
		return fmt.Sprintf("%s could be judged with lists of versions, of known flaws and of checksums, which a site file names under upkeep.", rules)
	case most == facts.Upkeep:
		return fmt.Sprintf("%s could be judged if the lists under upkeep said more.", rules)
	case most == facts.Intent:
		return fmt.Sprintf("%s could be judged if the site file said more under intent.", rules)
	case most == facts.Settings && asked:
		return fmt.Sprintf("%s could be judged if the dialect said where these settings are kept.", rules)
	case most == facts.Live && asked:
		return fmt.Sprintf("%s could be judged if the site answered.", rules)
	case asked:
		return fmt.Sprintf("%s could be judged if all of the %s could be read.", rules, most)
	}
	return fmt.Sprintf("%s could be judged with the %s source, which a site file names.", rules, most)
}

// gaps lists what was asked for and could not be seen.
func gaps(r *audit.Result) []string {
	said := []string{}
	for _, gap := range r.Gaps {
		if gap.Kind != facts.Unmapped {
			said = append(said, fmt.Sprintf("%s: %s: %s", gap.Source, facts.Shorten(gap.What, 200), gap.Because))
		}
	}
	return said
}
