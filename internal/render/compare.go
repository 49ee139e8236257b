package render

import (
	"fmt"

	"weltaxis/internal/report"
)

// Compare writes what changed between two looks.
func Compare(p Sheet, c *report.Compared, full bool) {
	w := c.Words
	if !c.Another {
		p.block(0, "", 0, Safe(c.After.Site), bold)
	}
	p.block(0, "before", labelWidth, Safe(w.Before), plain)
	p.block(0, "after", labelWidth, Safe(w.After), plain)
	p.block(0, "", 0, w.Stands, bold)
	for _, g := range w.Groups {
		fmt.Fprintln(p)
		p.line(g.Title)
		for _, l := range g.Lines {
			p.changed(l, full)
		}
	}
	became := ""
	for _, j := range w.Judged {
		if j.Became != became {
			became = j.Became
			fmt.Fprintln(p)
			p.line(became)
		}
		p.judged(j)
	}
	if full && len(w.Still) > 0 {
		fmt.Fprintln(p)
		p.line("as before")
		for _, j := range w.Still {
			p.judged(j)
		}
	}
	p.section("not the site's doing", w.Aside)
	p.section("seen in one look only", w.Unseen)
}

// changed is one change: the sentence, then where, then what changed with it.
func (p Sheet) changed(c report.Change, full bool) {
	p.block(0, "", 2, Safe(c.Says), plain)
	if c.Means != "" {
		p.block(2, "", 2, c.Means, quiet)
	}
	if full || len(c.Places) == 1 {
		for _, place := range c.Places {
			p.block(2, "", 2, Safe(place), quiet)
		}
	}
	if c.With != "" {
		p.block(2, "with it", labelWidth, Safe(c.With), quiet)
	}
}

// judged is deviations of one rule.
func (p Sheet) judged(j report.Judged) {
	fmt.Fprintf(p, "%s%s\n", severityLabel(j.Severity), bold.Render(times(j.Rule, j.Count)))
	for _, sentence := range j.Says {
		p.block(1, "", 0, Safe(sentence), plain)
	}
}
