package render

import (
	"fmt"

	"weltaxis/internal/facts"
	"weltaxis/internal/report"
)

// Exposure writes what a stranger can tell of a site, with the signs.
func Exposure(p Sheet, e *report.Exposure) {
	fmt.Fprintln(p, bold.Render(Safe(e.Site)))
	p.block(0, "", 0, Safe(e.Says), plain)
	if e.Worth != "" {
		p.block(0, "", 0, Safe(e.Worth), plain)
	}
	var rows [][]string
	var sure []string
	for _, t := range e.Tells {
		what := t.Gives + " " + t.Name
		for _, c := range t.Clues {
			rows = append(rows, []string{Safe(what), Safe(c.Version), c.Sure, c.Place, Safe(facts.Shorten(c.Says, 80)), Safe(facts.Shorten(c.URL, 80))})
			sure = append(sure, c.Sure)
			what = ""
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(p)
		p.table([]string{"what", "version", "sure", "sign", "as it is written", "where"}, rows, func(row, column int) Style {
			if column == 2 && row >= 0 && row < len(sure) && sure[row] == "certain" {
				return verdictStyles[facts.Deviates]
			}
			return plain
		})
	}
	if e.Before != "" {
		fmt.Fprintln(p)
		p.line("since the look of " + e.Before)
		if len(e.Gone)+len(e.New) == 0 {
			p.block(0, "", 0, "The same signs as then.", quiet)
		}
		p.clues("gone", e.Gone)
		p.clues("new", e.New)
	}
	if e.Unseen != "" {
		fmt.Fprintln(p)
		p.block(0, "", 0, "Not all was looked at: "+Safe(e.Unseen)+".", quiet)
	}
}

func (p Sheet) clues(label string, clues []report.Clue) {
	for _, c := range clues {
		text := c.Gives + " " + c.Name
		if c.Version != "" {
			text += " " + c.Version
		}
		p.block(0, label, 6, Safe(text+", by "+c.Place+": "+c.Says), plain)
	}
}
