package audit

import (
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// A PageRow is one page with the rules that deviate for it.
type PageRow struct {
	*facts.Page
	Deviates []string `json:"deviates"`
}

// Pages lists the pages: the home page with all that deviates on it, what is about the site and shows there included;
// then those with the most trouble first, by the weight of the rules that deviate and in the order in which they were
// found.
func (r *Result) Pages() []PageRow {
	homePath := "/"
	if home := r.Snapshot.HomePage(); home != nil {
		homePath = home.Path
	}
	bySubject := map[string][]string{}
	trouble := map[string]float64{}
	note := func(rule, subject string, d facts.Deviation, weight float64) {
		if slices.ContainsFunc(d.Readings, aboutHome) && d.Item == nil {
			subject = homePath
		}
		if !slices.Contains(bySubject[subject], rule) {
			bySubject[subject] = append(bySubject[subject], rule)
		}
		trouble[subject] += weight
	}
	for _, d := range r.Deviations {
		if d.Accepted == nil {
			note(d.Rule, d.Subject, d, weights[d.Severity]+0.01)
		}
	}
	for _, c := range r.Covered {
		note(c.Rule, c.Subject, c.Deviation, weights[c.Deviation.Severity])
	}
	rows := make([]PageRow, 0, len(r.Snapshot.Pages))
	for i := range r.Snapshot.Pages {
		page := &r.Snapshot.Pages[i]
		rows = append(rows, PageRow{page, filled(bySubject[page.Path])})
	}
	slices.SortStableFunc(rows, func(a, b PageRow) int {
		switch x, y := trouble[a.Path], trouble[b.Path]; {
		case a.Path == homePath != (b.Path == homePath):
			return map[bool]int{true: -1, false: 1}[a.Path == homePath]
		case x > y:
			return -1
		case x < y:
			return 1
		}
		return 0
	})
	return rows
}

// aboutHome tells whether a reading is one of the home page.
func aboutHome(r facts.Reading) bool {
	return r.Source == facts.Live && strings.HasPrefix(r.Name, "home.")
}

// Shared groups the indexable pages that share a title or a description, by that text; the largest groups first.
func Shared(rows []PageRow, text func(*facts.Page) string) [][]PageRow {
	groups := map[string][]PageRow{}
	var order []string
	for _, row := range rows {
		key := text(row.Page)
		if key == "" || !row.Indexable {
			continue
		}
		if groups[key] == nil {
			order = append(order, key)
		}
		groups[key] = append(groups[key], row)
	}
	var shared [][]PageRow
	for _, key := range order {
		if len(groups[key]) > 1 {
			shared = append(shared, groups[key])
		}
	}
	slices.SortStableFunc(shared, func(a, b []PageRow) int { return len(b) - len(a) })
	return shared
}
