package baseline

import (
	"slices"

	"weltaxis/internal/facts"
)

// seenAreas are those whose rules are about what search engines would see of the pages.
var seenAreas = []string{"titles", "identity", "metadata", "permalinks"}

// SeenFirst lists the rules that are to be put right before search engines are let in: what deviates, counts for much,
// and is what they would see. The first crawl decides the first impression.
func SeenFirst(deviations []facts.Deviation) []string {
	rules := []string{}
	for _, d := range deviations {
		seen := slices.Contains(seenAreas, d.Area) && slices.Contains(d.Fix.Noticed, facts.Engines)
		if d.Accepted == nil && d.Severity <= facts.High && seen && !d.Opens && !slices.Contains(rules, d.Rule) {
			rules = append(rules, d.Rule)
		}
	}
	return rules
}
