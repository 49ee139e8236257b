package audit

import (
	"slices"

	"weltaxis/internal/facts"
)

// A PageRow is one page with the rules that deviate for it.
type PageRow struct {
	*facts.Page
	Deviates []string `json:"deviates"`
}

// Pages lists the pages, those with the most trouble first: by the weight of the rules that deviate, then in the
// order in which they were found.
func (r *Result) Pages() []PageRow {
	bySubject := map[string][]string{}
	trouble := map[string]float64{}
	for _, d := range r.Deviations {
		if d.Accepted == nil {
			bySubject[d.Subject] = append(bySubject[d.Subject], d.Rule)
			trouble[d.Subject] += weights[d.Severity] + 0.01
		}
	}
	for _, c := range r.Covered {
		bySubject[c.Subject] = append(bySubject[c.Subject], c.Rule)
		trouble[c.Subject] += weights[c.Deviation.Severity]
	}
	rows := make([]PageRow, 0, len(r.Snapshot.Pages))
	for i := range r.Snapshot.Pages {
		page := &r.Snapshot.Pages[i]
		rows = append(rows, PageRow{page, filled(bySubject[page.Path])})
	}
	slices.SortStableFunc(rows, func(a, b PageRow) int {
		switch x, y := trouble[a.Path], trouble[b.Path]; {
		case x > y:
			return -1
		case x < y:
			return 1
		}
		return 0
	})
	return rows
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
