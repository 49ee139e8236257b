package baseline

import (
	"slices"

	"weltaxis/internal/facts"
)

// fold takes out the deviations that others cover, so that one cause counts once. A deviation is covered by one of
// a covering rule about the same subject, or by one about the whole site.
func (b *Baseline) fold(j *Judgement) {
	covers := map[string][]string{} // rule: all that it covers
	for _, r := range b.Rules {
		covers[r.ID] = b.coveredBy(r, nil)
	}
	by := func(d facts.Deviation) string {
		for _, other := range j.Deviations {
			same := other.Subject == d.Subject || other.Subject == SiteSubject || d.Subject == SiteSubject
			if same && slices.Contains(covers[other.Rule], d.Rule) {
				return other.Rule
			}
		}
		return ""
	}
	var count []facts.Deviation
	for _, d := range j.Deviations {
		if cover := by(d); cover != "" {
			j.Covered = append(j.Covered, Covered{d.Rule, d.Subject, cover, d})
			continue
		}
		count = append(count, d)
	}
	j.Deviations = count
}
