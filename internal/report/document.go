package report

import (
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// A Document is a report as one reads it on paper: the same words, area by area, with why each rule is there, and what holds.
type Document struct {
	*Report
	Areas []DocumentArea
	Pages []audit.PageRow // those with the most trouble first
	Home  *facts.Page     // nil when it was not seen
	// Exposure is what a stranger can tell.
	Exposure *Exposure
}

// A DocumentArea is one area of a document.
type DocumentArea struct {
	Name     string
	About    string
	Entries  []DocumentEntry
	Held     []DocumentHeld
	Deviate  int // rules
	Unjudged int // rules
}

// A DocumentEntry is an entry with why its rule is there, and on whose word.
type DocumentEntry struct {
	Entry
	Because string
	Cites   []string
}

// A DocumentHeld is a rule that holds.
type DocumentHeld struct {
	Rule, Expected string
}

// DocumentOf puts a report into a document.
func DocumentOf(r *Report) *Document {
	d := &Document{Report: r, Pages: r.Result.Pages(), Exposure: ExposureOf(r.Result, nil)}
	for i := range r.Snapshot.Pages {
		if page := &r.Snapshot.Pages[i]; page.Path == "/" && page.Status == 200 {
			d.Home = page
			break
		}
	}
	for _, name := range baseline.Areas {
		area := DocumentArea{Name: name, About: r.Rules.About(name)}
		rules := map[string]bool{}
		for _, e := range r.Words.Entries {
			if e.Area != name {
				continue
			}
			rules[e.Rule] = true
			entry := DocumentEntry{Entry: e}
			if rule, known := r.Rules.Rule(e.Rule); known {
				entry.Because, entry.Cites = rule.Why, rule.Cites
			}
			area.Entries = append(area.Entries, entry)
		}
		area.Deviate = len(rules)
		for _, id := range r.Held {
			if rule, known := r.Rules.Rule(id); known && rule.Area == name {
				area.Held = append(area.Held, DocumentHeld{id, plainExpected(WithLimits(r.Rules, rule.Expected))})
			}
		}
		unjudged := map[string]bool{}
		for _, n := range r.Unjudged() {
			if strings.HasPrefix(n.Rule, name+".") && !rules[n.Rule] && !slices.Contains(r.Held, n.Rule) {
				unjudged[n.Rule] = true
			}
		}
		if area.Unjudged = len(unjudged); len(area.Entries)+len(area.Held)+area.Unjudged > 0 {
			d.Areas = append(d.Areas, area)
		}
	}
	return d
}

// siteSpecific finds, in what ought to be, what would be worked out of a site's values.
var siteSpecific = regexp.MustCompile(`\{[^}]*\}`)

// plainExpected is what ought to be, without what would be worked out of a site's values.
func plainExpected(expected string) string { return siteSpecific.ReplaceAllString(expected, "…") }
