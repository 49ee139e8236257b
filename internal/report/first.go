package report

import (
	"cmp"
	"slices"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// A First is one of the first things to do.
type First struct {
	Rule  string   `json:"rule"`
	Says  string   `json:"says"`
	Do    string   `json:"do"`    // the first step
	After []string `json:"after"` // rules to put right before, since search engines would see what they are about
}

// first says what to do first: what does harm now, then what hides the site, then what is worst; and within one of
// these what is worse first, in the order of work.
func first(r *audit.Result) []First {
	entries := r.Entries()
	rank := func(e audit.Entry) int {
		d := e.First()
		if d.Severity > facts.High || d.Harm.Rank() >= facts.Losing.Rank() {
			return facts.Losing.Rank()
		}
		return d.Harm.Rank()
	}
	slices.SortStableFunc(entries, func(a, b audit.Entry) int {
		x, y := a.First(), b.First()
		return cmp.Or(rank(a)-rank(b), int(x.Severity)-int(y.Severity), x.Harm.Rank()-y.Harm.Rank())
	})
	all := []First{}
	for _, e := range entries[:min(len(entries), shown)] {
		d := e.First()
		if d.Severity == facts.Note {
			break
		}
		f := First{Rule: d.Rule, Says: entrySays(e)[0], After: []string{}}
		if does := fixLines(e[:1]); len(does) > 0 {
			f.Do = does[0]
		}
		if d.Opens {
			f.After = append(f.After, baseline.SeenFirst(r.Deviations)...)
		}
		all = append(all, f)
	}
	return all
}
