package audit

import (
	"slices"
	"strings"

	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/secrets"
)

// A Row is one setting with what each side says of it.
type Row struct {
	Setting  string          `json:"setting"`
	Declared []facts.Reading `json:"declared"` // the effective one first
	Served   *facts.Reading  `json:"served"`   // what a visitor gets of it; null when nothing shows it
	// Configured is what the web server's configuration makes of it; null when it has no say, or nobody looked.
	Configured *facts.Reading `json:"configured"`
	Expected   string         `json:"expected"` // what the rules that deviate expect
	Verdict    facts.Verdict  `json:"verdict"`
	Rules      []string       `json:"rules"` // those that deviate, or else those that were asked
	// Differs says how what visitors get differs from what is declared: stale, not written, overridden, served otherwise; "" where it does not.
	Differs string `json:"differs,omitempty"`
	Because string `json:"because,omitempty"`
	// Unjudged says that another rule about the setting could not be judged.
	Unjudged bool `json:"unjudged,omitempty"`
}

// SideBySide lists every setting of the catalogue with its readings and what the rules say of it; with ruled, only
// those that some rule looks at.
func (r *Result) SideBySide(ruled bool) []Row {
	rows := []Row{}
	for _, entry := range facts.Of(facts.Settings) {
		row := Row{Setting: entry.Short(), Declared: filled(r.Snapshot.All(entry.Name)), Verdict: facts.NoRule, Rules: []string{}}
		if len(row.Declared) == 0 {
			row.Because = r.Snapshot.Why(entry.Name)
		}
		if entry.ShownBy != nil {
			if served, seen := r.Snapshot.Effective(entry.ShownBy.Name); seen {
				row.Served = &served
			}
		}
		row.Configured = r.Snapshot.Decided(entry)
		r.verdict(&row, entry.Name)
		if how, because := r.differs(&row, entry); how != "" {
			row.Differs, row.Because = how, because
			if row.Verdict != facts.Deviates {
				row.Verdict = facts.Differs
			}
		}
		if !ruled || row.Verdict != facts.NoRule {
			rows = append(rows, row)
		}
	}
	return rows
}

// verdict is the worst that any rule says: one whose condition mentions the setting, one that would be put right by changing it, and one that
// is about what decides over it elsewhere. A verdict that some rule gave beats that another could not be judged.
func (r *Result) verdict(row *Row, name string) {
	var expected, covered []string
	by := map[facts.Verdict][]string{}
	for _, rule := range r.Rules.Rules {
		mentioned := slices.Contains(rule.Mentions(), name)
		switch d, counts := r.deviationAbout(rule.ID, row, mentioned); {
		case d != nil && counts:
			expected = append(expected, d.Expected)
			by[facts.Deviates] = append(by[facts.Deviates], rule.ID)
		case d != nil:
			covered = append(covered, d.Expected)
			by[facts.Deviates] = append(by[facts.Deviates], rule.ID)
		case mentioned:
			verdict := r.VerdictOf(rule.ID)
			if verdict == facts.Deviates {
				verdict = facts.Holds // what deviates is put right elsewhere, and leaves this one as it is
			}
			by[verdict] = append(by[verdict], rule.ID)
		}
	}
	for _, verdict := range []facts.Verdict{facts.Deviates, facts.Holds, facts.NotJudged} {
		if len(by[verdict]) > 0 {
			if len(expected) == 0 {
				expected = covered
			}
			row.Verdict, row.Rules = verdict, by[verdict]
			row.Expected = strings.Join(slices.Compact(expected), "; ")
			row.Unjudged = verdict != facts.NotJudged && len(by[facts.NotJudged]) > 0
			return
		}
	}
}

// deviationAbout finds the rule's deviation, counted or covered, if it is about a setting: its fix would change it, or it was judged by what decides over
// it elsewhere, or the condition mentions it and no setting is changed at all.
func (r *Result) deviationAbout(rule string, row *Row, mentioned bool) (about *facts.Deviation, counts bool) {
	is := func(d facts.Deviation) bool {
		return d.Rule == rule && (mentioned && len(d.Fix.Changes) == 0 || slices.ContainsFunc(d.Fix.Changes, func(c facts.Target) bool { return c.Name == row.Setting }) ||
			row.Configured != nil && slices.ContainsFunc(d.Readings, func(r facts.Reading) bool { return sameSaid(r, *row.Configured) }))
	}
	if i := slices.IndexFunc(r.Deviations, is); i >= 0 {
		return &r.Deviations[i], true
	}
	if i := slices.IndexFunc(r.Covered, func(c baseline.Covered) bool { return is(c.Deviation) }); i >= 0 {
		return &r.Covered[i].Deviation, false
	}
	return nil, false
}

// sameSaid tells whether two readings are of the same thing at the same place, be it as an item of a list.
func sameSaid(a, b facts.Reading) bool {
	last := func(name string) string { return name[strings.LastIndexByte(name, '.')+1:] }
	return a.Source == b.Source && a.Origin == b.Origin && last(a.Name) == last(b.Name)
}

// VerdictOf is the verdict of one rule. A covered rule deviates.
func (r *Result) VerdictOf(rule string) facts.Verdict {
	switch {
	case slices.Contains(r.Held, rule):
		return facts.Holds
	case slices.Contains(r.NotApplicable, rule):
		return facts.NotApplicable
	case slices.ContainsFunc(r.Deviations, func(d facts.Deviation) bool { return d.Rule == rule }),
		slices.ContainsFunc(r.Covered, func(c baseline.Covered) bool { return c.Rule == rule }):
		return facts.Deviates
	}
	return facts.NotJudged
}

// Exportable divides the settings that say how a site is kept, and not who it is, into those to carry to another
// site and those that deviate.
func (r *Result) Exportable() (kept []facts.Reading, left []string) {
	for _, row := range r.SideBySide(false) {
		entry, _ := facts.Setting(row.Setting)
		switch {
		case len(row.Declared) == 0 || entry.Own || entry.Type == facts.Secret || secrets.Shown(row.Declared[0].Value.String()) != row.Declared[0].Value.String() || row.Declared[0].Origin.Key != "" && row.Declared[0].Origin.Line == 0 && row.Declared[0].Origin.Table == "":
		case row.Verdict == facts.Deviates:
			left = append(left, row.Setting)
		default:
			kept = append(kept, row.Declared[0])
		}
	}
	return kept, left
}

// A ClassRow is one class of the tree with what is expected of it.
type ClassRow struct {
	facts.Class
	Expected string   `json:"expected"` // "" when it is as it should be
	Rules    []string `json:"deviates"`
	Reads    string   `json:"reads"`  // who may read, in words; "" where nobody could tell
	Writes   string   `json:"writes"` // who may write
	Ought    string   `json:"ought"`  // the mode it ought to have, four octal digits; "" when another is no matter
}

// Tree lists the classes with the rules that deviate for each.
func (r *Result) Tree() []ClassRow {
	rows := []ClassRow{}
	for _, class := range r.Snapshot.Classes {
		row := ClassRow{Class: class, Rules: []string{}, Reads: class.WhoMay('r'), Writes: class.WhoMay('w')}
		ought := int64(0o7777)
		for _, d := range r.Deviations {
			if d.Subject != class.Subject() {
				continue
			}
			row.Rules = append(row.Rules, d.Rule)
			expected := d.Expected
			if d.Fix.Mode != nil {
				expected = d.Fix.Mode.To.String()
				ought &= d.Fix.Mode.To.Number()
			}
			if row.Expected == "" {
				row.Expected = expected
			}
		}
		if ought != 0o7777 {
			row.Ought = facts.NumberOf(facts.Mode, ought).String()
		}
		rows = append(rows, row)
	}
	return rows
}
