package fix

import (
	"cmp"

	"weltaxis/internal/facts"
)

// whyRisk says in one line what a change can break.
func whyRisk(risk facts.Risk, setting facts.Term) string {
	if why := cmp.Or(setting.Danger, setting.Noticed); why != "" {
		return why
	}
	switch risk {
	case facts.Safe:
		return "nobody outside notices"
	case facts.Visible:
		return "visitors or search engines see it"
	}
	return "it can lock somebody out, or break the site"
}
