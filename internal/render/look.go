package render

import (
	"fmt"

	"weltaxis/internal/report"
)

// Look writes a short look at a site: a line each, the worst first, with the command that goes deeper.
func Look(p Sheet, l *report.Look) {
	fmt.Fprintln(p, bold.Render(Safe(l.Site))+quiet.Render("  "+Safe(l.Address)))
	took := fmt.Sprintf("%.1f s", l.Took/1000)
	if l.Took < 1000 {
		took = fmt.Sprintf("%.0f ms", l.Took)
	}
	head := fmt.Sprintf("looked at on %s, with %s, in %s", l.Taken.UTC().Format("2 January 2006, 15:04 MST"), report.Count(l.Requests, "request", "requests"), took)
	if l.Before != nil {
		head += "; the look before was on " + l.Before.UTC().Format("2 January 2006, 15:04 MST")
	}
	p.block(0, "", 0, head, quiet)
	p.block(0, "", 0, Safe(l.Says), plain)
	fmt.Fprintln(p)
	const label = 16
	for _, line := range l.Lines {
		switch line.State {
		case report.LookWrong:
			word := line.Severity.String()
			fmt.Fprint(p, severityStyles[*line.Severity].Render(" "+word+" "), "  ", bold.Render(Safe(line.What)), "\n")
			p.block(1, "", 0, Safe(line.Says), plain)
			if line.Deeper != "" {
				p.block(1, "deeper", 8, Safe(line.Deeper), quiet)
			}
			fmt.Fprintln(p)
		case report.LookUnknown:
			p.block(1, Safe(line.What), label, "not seen: "+Safe(line.Says), severityStyles[3])
		default:
			p.block(1, Safe(line.What), label, Safe(line.Says), plain)
		}
	}
}
