package render

import (
	"fmt"

	"weltaxis/internal/report"
)

// someShown is how many addresses of a kind are written out.
const someShown = 8

// Announcement writes what search engines are told, or what has to be right before.
func Announcement(p Sheet, a *report.Announcement) {
	fmt.Fprintln(p, bold.Render(Safe(a.Site))+quiet.Render("  "+Safe(a.Address)))
	p.block(0, "", 0, Safe(a.Says), plain)
	if len(a.Refused) > 0 {
		fmt.Fprintln(p)
		p.line("what has to be right before")
		for _, o := range a.Refused {
			p.block(1, "", 0, Safe(o.Says), plain)
			p.block(3, "", 0, Safe(o.Do), quiet)
		}
	}
	if len(a.Proofs) > 0 {
		fmt.Fprintln(p)
		p.line("whose the site is")
		for _, proof := range a.Proofs {
			style := plain
			if !proof.Found {
				style = severityStyles[3]
			}
			p.block(1, "", 0, Safe(proof.What)+" "+Safe(proof.Says), style)
		}
	}
	for _, group := range []struct {
		what      string
		addresses []string
	}{{"new", a.News.New}, {"changed", a.News.Changed}, {"gone", a.News.Gone}} {
		if len(group.addresses) == 0 || len(a.Refused) > 0 {
			continue
		}
		fmt.Fprintln(p)
		p.line(fmt.Sprintf("%s: %s", group.what, report.Count(len(group.addresses), "address", "addresses")))
		for i, address := range group.addresses {
			if i == someShown && len(group.addresses) > someShown+1 {
				p.block(1, "", 0, fmt.Sprintf("and %d more", len(group.addresses)-someShown), quiet)
				break
			}
			p.block(1, "", 0, Safe(address), plain)
		}
	}
	if len(a.Answers) > 0 {
		fmt.Fprintln(p)
		p.line("what the engine answers")
		for _, answer := range a.Answers {
			style := plain
			if !answer.Took {
				style = severityStyles[2]
			}
			p.block(1, "", 0, Safe(report.Count(answer.Count, "address", "addresses")+": "+answer.Says), style)
		}
	}
}
