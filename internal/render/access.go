package render

import (
	"fmt"
	"slices"

	"weltaxis/internal/facts"
	"weltaxis/internal/report"
)

// AccessTo writes who has access to a site, way by way.
func AccessTo(p Sheet, a *report.AccessOf) {
	fmt.Fprintln(p, bold.Render(Safe(a.Site)))
	p.block(0, "", 0, Safe(a.Says), plain)
	for _, g := range a.Groups {
		fmt.Fprintln(p)
		p.line(g.Name)
		says := g.About
		switch {
		case g.Intent != "" && g.Said:
			says += "; held against intent." + g.Intent
		case g.Intent != "":
			says += "; the site file does not say who is meant to (intent." + g.Intent + ")"
		}
		p.block(0, "", 0, Safe(says), quiet)
		if len(g.Rows) == 0 {
			none := "none"
			if g.Unseen != "" {
				none = "not seen: " + g.Unseen
			}
			p.block(0, "", 0, Safe(none), plain)
			continue
		}
		head := []string{"who", "meant to", "may"}
		dated := slices.ContainsFunc(g.Rows, func(row report.AccessRow) bool { return row.Since+row.Used != "" })
		if dated {
			head = append(head, "since", "last used")
		}
		var cells [][]string
		for _, row := range g.Rows {
			cell := []string{Safe(facts.Shorten(row.Who, 80)), knownWords[row.Known], Safe(row.May)}
			if dated {
				cell = append(cell, row.Since, row.Used)
			}
			cells = append(cells, cell)
		}
		p.table(head, cells, func(row, column int) Style {
			if column == 1 && row >= 0 && row < len(g.Rows) {
				switch g.Rows[row].Known {
				case "no":
					return verdictStyles[facts.Deviates]
				case "yes":
					return verdictStyles[facts.Holds]
				}
			}
			return plain
		})
	}
}

// knownWords say whether the site file says that somebody is meant to have access.
var knownWords = map[string]string{"yes": "yes", "no": "who\u00a0is\u00a0this?", "unsaid": "not\u00a0said"}
