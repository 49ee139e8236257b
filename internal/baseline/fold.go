package baseline

import (
	"slices"

	"weltaxis/internal/facts"
)

// fold takes out the deviations that others cover, so that one cause counts once. A deviation is covered by one of
// a covering rule about the same subject, or by one about the whole site.
func (b *Baseline) fold(j *Judgement, accepted []func(facts.Deviation) bool) {
	coveredBy := map[string][]string{} // rule: all rules that cover it
	for _, r := range b.Rules {
		for _, covered := range b.coveredBy(r, nil) {
			coveredBy[covered] = append(coveredBy[covered], r.ID)
		}
	}
	type place struct{ rule, subject string }
	deviates, anywhere := map[place]bool{}, map[string]bool{}
	for _, d := range j.Deviations {
		if slices.ContainsFunc(accepted, func(is func(facts.Deviation) bool) bool { return is(d) }) {
			continue
		}
		deviates[place{d.Rule, d.Subject}], anywhere[d.Rule] = true, true
	}
	by := func(d facts.Deviation) string {
		for _, rule := range coveredBy[d.Rule] {
			if deviates[place{rule, d.Subject}] || deviates[place{rule, SiteSubject}] || d.Subject == SiteSubject && anywhere[rule] {
				return rule
			}
		}
		return ""
	}
	count := make([]facts.Deviation, 0, len(j.Deviations))
	for _, d := range j.Deviations {
		if cover := by(d); cover != "" {
			j.Covered = append(j.Covered, Covered{d.Rule, d.Subject, cover, d.Fingerprint, d})
			continue
		}
		count = append(count, d)
	}
	j.Deviations = count
}
