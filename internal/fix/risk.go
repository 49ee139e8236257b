package fix

import (
	"cmp"
	"strings"

	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// whyRisk says in one line what a change can break.
func whyRisk(risk facts.Risk, setting facts.Term, noticed []facts.Who) string {
	if why := cmp.Or(setting.Danger, setting.Noticed); why != "" {
		return why
	}
	switch risk {
	case facts.Safe:
		return "nobody outside notices"
	case facts.Visible:
		who := map[facts.Who]string{facts.Visitors: "visitors", facts.Engines: "search engines", facts.Members: "members", facts.Staff: "staff"}
		var words []string
		for _, w := range baseline.NoticedAt(risk, noticed) {
			words = append(words, who[w])
		}
		if len(words) > 0 {
			return strings.Join(words, " and ") + " see it"
		}
		return "visitors or search engines see it"
	}
	return "it can lock somebody out, or break the site"
}
