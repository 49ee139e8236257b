package render

import (
	"fmt"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/report"
)

// Way writes an address that was followed through the web server's configuration.
func Way(p Sheet, w *report.Way) {
	fmt.Fprintln(p, bold.Render(Safe(w.Address)))
	for _, gap := range w.Gaps {
		p.block(0, "unread", 8, Safe(gap), quiet)
	}
	fmt.Fprintln(p)
	p.line("its way")
	if len(w.Stages) == 0 {
		fmt.Fprintln(p, "It cannot be followed.")
	}
	for i, stage := range w.Stages {
		p.block(0, fmt.Sprintf("%2d", i+1), 4, Safe(stage.Says), plain)
		if stage.Place != "" {
			p.block(0, "", 4, Safe(stage.Place), quiet)
		}
	}
	if len(w.Fields) == 0 && len(w.Untold) == 0 {
		return
	}
	if len(w.Fields) > 0 {
		fmt.Fprintln(p)
		p.line("the answer")
	}
	head := []string{"", "configured", "where", "a visitor gets"}
	if w.Unseen != "" {
		head = head[:3]
	}
	var rows [][]string
	for _, f := range w.Fields {
		where := f.Place
		if where == "" && f.From != "" {
			where = "said by " + f.From
			if f.From == "not known" {
				where = "nobody knows who says it"
			}
		}
		row := []string{f.Field, Safe(facts.Shorten(f.Configured, 160)), Safe(where)}
		if w.Unseen == "" {
			served := Safe(facts.Shorten(f.Served, 160))
			if f.Differs {
				served += "\n(differs)"
			}
			row = append(row, served)
		}
		rows = append(rows, row)
	}
	if len(rows) > 0 {
		p.answers(w, head, rows)
	}
	if len(w.Untold) > 0 {
		fmt.Fprintln(p)
		p.line("what cannot be told")
	}
	for _, u := range w.Untold {
		p.block(0, "", 0, strings.Join(u.Fields, ", ")+": "+Safe(u.Because)+".", plain)
		if u.Place != "" {
			p.block(0, "", 4, Safe(u.Place), quiet)
		}
	}
	if w.Unseen != "" {
		fmt.Fprintln(p)
		p.block(0, "", 0, "What a visitor gets was not looked at: "+Safe(w.Unseen)+".", quiet)
	}
}

// answers writes the fields of an answer from both sides.
func (p Sheet) answers(w *report.Way, head []string, rows [][]string) {
	p.table(head, rows, func(row, column int) Style {
		switch f := w.Fields[row]; {
		case column == 3 && f.Differs:
			return severityStyles[facts.High]
		case column == 1 && !f.Told:
			return severityStyles[facts.Medium]
		case column == 2:
			return quiet
		}
		return plain
	})
}
