package render

import (
	"fmt"
	"slices"

	"weltaxis/internal/fix"
	"weltaxis/internal/report"
)

// shutHead is what is done, or would be.
func shutHead(s *report.Shut) string {
	switch {
	case s.Lock && s.Open:
		return "taking the lock of " + s.Site + " away"
	case s.Lock:
		return "locking " + s.Site
	case s.Open:
		return "taking the notice of " + s.Site + " down"
	}
	return "putting the notice of " + s.Site + " up"
}

// ShutPlan writes what would close a site, lock it, or open it again.
func ShutPlan(p Sheet, s *report.Shut, plan *fix.Plan) {
	head := shutHead(s)
	fmt.Fprintln(p, bold.Render("For "+Safe(head)))
	if !s.Lock && !s.Open {
		p.block(0, "", 0, "It is to be back on "+s.Until.Format("2 January 2006, 15:04 MST")+" (--until says another time).", plain)
	}
	p.madeAs(plan)
	made := false
	for _, title := range s.Back {
		p.block(2, "taken back", 12, Safe(title), plain)
		made = true
	}
	for _, c := range plan.Changes {
		if c.Cannot != "" {
			fmt.Fprintln(p)
			p.heading(c)
			p.block(4, "cannot", 8, Safe(c.Cannot), plain)
			continue
		}
		made = true
		p.change(plan, c)
	}
	fmt.Fprintln(p)
	if !made {
		p.block(0, "", 0, "Nothing can be done from here.", plain)
		return
	}
	if unloaded := plan.Unloaded(); len(unloaded) > 0 {
		p.block(0, "", 0, "What is told to "+report.List(unloaded)+" counts only when it is read again: add --reload, or do it in the server's own way.", plain)
	}
	p.block(0, "", 0, "Nothing was written; --write does it, and looks from outside whether it is so. weltaxis undo takes it back.", quiet)
}

// Shut writes what came of it, and what a stranger gets now.
func Shut(p Sheet, s *report.Shut, done *fix.Report, rest []fix.Change) {
	if done == nil {
		what := map[bool]string{true: "lock", false: "notice"}[s.Lock]
		fmt.Fprintln(p, bold.Render(Safe(s.Site)))
		p.block(0, "", 0, "No "+what+" is up that this program knows how to take away.", plain)
	} else {
		if len(s.Gaps) > 0 {
			fmt.Fprintln(p, bold.Render("Taken back for "+Safe(s.Site)))
			p.block(0, "", 0, Safe("It is not closed: a stranger still gets "+report.List(s.Gaps)+". What was done is taken back; --leave-open ADDRESS leaves one open by name."), plain)
		} else {
			fmt.Fprintln(p, bold.Render(map[bool]string{true: "Done for ", false: "Not done: "}[wasDone(s, done, rest)]+Safe(shutHead(s))))
		}
		for _, title := range s.Back {
			p.block(2, "", 0, Safe(title), plain)
		}
		if len(done.Outcomes)+len(rest)+len(s.Back) == 0 {
			p.block(0, "", 0, "It was so already.", plain)
		}
		for _, o := range done.Outcomes {
			fmt.Fprintln(p)
			p.titled(o.Record, o.Result, resultStyles[o.Result], o.Title())
			if o.Says != "" {
				p.block(4, "", 0, Safe(o.Says), plain)
			}
		}
		for _, c := range rest {
			if c.Cannot != "" {
				fmt.Fprintln(p)
				p.heading(c)
				p.block(4, "not made", 10, Safe(c.Cannot), plain)
			}
		}
	}
	fmt.Fprintln(p)
	p.line("what a stranger gets")
	if len(s.Doors) == 0 {
		p.block(0, "", 0, "Nobody looked.", severityStyles[3])
	}
	for _, d := range s.Doors {
		says := d.Says
		if d.Staff != "" {
			says += "; " + map[bool]string{true: "with them: ", false: "staff: "}[s.Lock] + d.Staff
		}
		p.block(1, "", 0, Safe(d.What)+": "+Safe(says), plain)
	}
	p.shutWrong(s)
	p.shutEnd(s, done)
}

func (p Sheet) shutWrong(s *report.Shut) {
	if len(s.Wrong) == 0 {
		return
	}
	fmt.Fprintln(p)
	p.line("what is not as it should be")
	for _, w := range s.Wrong {
		fmt.Fprint(p, severityStyles[w.Severity].Render(" "+w.Severity.String()+" "), "  ", bold.Render(Safe(w.Rule)), "\n")
		p.block(1, "", 0, Safe(w.Says), plain)
		if w.Fix != "" {
			p.block(1, "fix", 5, Safe(w.Fix), quiet)
		}
	}
}

// shutEnd is what is to be kept in mind.
func (p Sheet) shutEnd(s *report.Shut, done *fix.Report) {
	if done == nil {
		return
	}
	fmt.Fprintln(p)
	p.line("to keep in mind")
	if s.Password != "" {
		p.block(0, "name", 10, Safe(s.Name), bold)
		p.block(0, "password", 10, Safe(s.Password), bold)
		p.block(0, "", 0, "It is shown this once, and kept nowhere but as bcrypt has it.", plain)
	}
	for _, stops := range s.Stops {
		p.block(0, "", 0, Safe(stops), plain)
	}
	switch {
	case s.Open && s.Took:
		p.block(0, "", 0, "It is open at every kind of address that was tried.", plain)
	case s.Open:
		p.block(0, "", 0, "It is not seen to be open.", severityStyles[2])
	case !s.Took:
		p.block(0, "", 0, "It is not seen to be closed.", severityStyles[2])
	case s.Lock:
		p.block(0, "", 0, "weltaxis lock off takes it away.", plain)
	default:
		p.block(0, "", 0, "It is to be back on "+s.Until.Format("2 January 2006, 15:04 MST")+"; audits and weltaxis follow-ups know it. weltaxis maintenance off takes the notice down.", plain)
	}
	if len(done.Outcomes) > 0 {
		p.block(0, "", 0, "weltaxis undo takes this run back.", quiet)
	}
}

// wasDone tells whether something was done, or was so already.
func wasDone(s *report.Shut, done *fix.Report, rest []fix.Change) bool {
	return len(done.Outcomes)+len(s.Back) > 0 || !slices.ContainsFunc(rest, func(c fix.Change) bool { return c.Cannot != "" })
}
