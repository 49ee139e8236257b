package render

import (
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/report"
)

// riskTexts head the groups of a plan.
var riskTexts = []struct {
	risk facts.Risk
	says string
}{
	{facts.Safe, "safe: nobody outside notices"},
	{facts.Visible, "visible: visitors or search engines notice"},
	{facts.Disruptive, "disruptive: it can lock somebody out, or break the site"},
}

var (
	added   = plain.in(ansi.Green)
	removed = plain.in(ansi.Red)
)

// Plan writes what would be done, grouped by risk, each change in its place.
func Plan(p Sheet, site string, plan *fix.Plan, allow facts.Risk) {
	fmt.Fprintf(p, "%s\n", bold.Render("What would put "+Safe(site)+" right"))
	p.madeAs(plan)
	for _, already := range plan.Already {
		p.block(0, "", 0, Safe(already)+".", plain)
	}
	if len(plan.Changes) == 0 {
		if len(plan.Already) > 0 {
			return
		}
		fmt.Fprintln(p, "Nothing deviates that anything could be done about.")
		return
	}
	counts := map[facts.Risk]int{}
	for _, group := range riskTexts {
		changes := slices.DeleteFunc(slices.Clone(plan.Changes), func(c fix.Change) bool { return !c.Makeable() || c.Risk != group.risk })
		if counts[group.risk] = len(changes); len(changes) == 0 {
			continue
		}
		fmt.Fprintln(p)
		p.line(group.says)
		for _, c := range changes {
			p.change(plan, c)
		}
	}
	waits := slices.DeleteFunc(slices.Clone(plan.Changes), func(c fix.Change) bool { return c.Needs == "" || c.Cannot != "" || c.ForPerson() })
	if len(waits) > 0 {
		fmt.Fprintln(p)
		p.line("needs a value from you")
		for _, c := range waits {
			fmt.Fprintln(p)
			p.heading(c)
			p.block(4, "is", 8, Safe(shortly(c.From.String())), plain)
			if c.To.Type() == "" {
				p.block(4, "say", 8, fmt.Sprintf("--value %s=\"...\"", c.Key), bold)
				p.block(4, "which", 8, Safe(c.Needs), plain)
			} else {
				p.block(4, "waits", 8, Safe(c.Needs), plain)
			}
		}
	}
	p.forPerson(plan.Changes)
	fmt.Fprintln(p)
	p.line("in all")
	p.block(0, "", 0, fmt.Sprintf("%d safe, %d visible, %d disruptive, %d waiting for a value. Nothing was written.", counts[facts.Safe], counts[facts.Visible], counts[facts.Disruptive], len(waits)), plain)
	if slices.ContainsFunc(plan.Changes, func(c fix.Change) bool { return c.Kind == fix.Modes && c.Makeable() }) {
		p.block(0, "", 0, "A deploy, a panel or a umask may give old permissions again: look on the day after (weltaxis follow-ups says so).", plain)
	}
	if unloaded := plan.Unloaded(); len(unloaded) > 0 {
		p.block(0, "", 0, "What is told to "+report.List(unloaded)+" counts only when it is read again: add --reload, or do it in the server's own way.", plain)
	}
	p.block(0, "", 0, "--write makes the safe ones; --write --allow visible those that are noticed too. A disruptive one is named, with --allow disruptive. weltaxis undo takes all of it back.", quiet)
}

// madeAs says as whom changes are made, where that is not whoever asks for them.
func (p Sheet) madeAs(plan *fix.Plan) {
	if plan.As != "" {
		p.block(0, "", 0, "Made as "+Safe(plan.As)+"; root changes modes and places of what is somebody else's, and what servers are told in files that are root's alone.", quiet)
	}
}

// titled heads a change: its number, what came of it, and what it is about.
func (p Sheet) titled(number int, result string, style Style, title string) {
	label := ""
	if number > 0 {
		label = fmt.Sprintf("%2d", number)
	}
	if result != "" {
		result += "  "
	}
	before := quiet.Render(pad(label, 4)) + style.Render(result)
	for _, line := range wrap(Safe(title), p.width()-4-columnsOf(result)) {
		fmt.Fprintf(p, "%s%s\n", before, bold.Render(line))
		before = strings.Repeat(" ", 4)
	}
}

func (p Sheet) heading(c fix.Change) {
	p.titled(c.ID, "", plain, c.Title())
	if len(c.Rules) > 0 {
		p.block(4, "for", 8, strings.Join(c.Rules, ", "), quiet)
	}
}

func (p Sheet) change(plan *fix.Plan, c fix.Change) {
	fmt.Fprintln(p)
	p.heading(c)
	shown := plan.Show(c)
	if shown.From != "" || shown.To != "" {
		if shown.From != "" || c.Kind != fix.Reload {
			p.block(4, "-", 2, escaped(shortly(shown.From)), removed)
		}
		p.block(4, "+", 2, escaped(shortly(shown.To)), added)
	}
	for _, diff := range shown.Diffs {
		p.diff(diff)
	}
	for _, cell := range shown.Cells {
		p.block(4, "in", 8, escaped(fmt.Sprintf("%s: %s becomes %s", cell.Where, quote(shortly(cell.From)), quote(shortly(cell.To)))), quiet)
	}
	p.members(shown.Members)
	if c.Or != "" && shown.Command {
		p.block(4, "or", 8, fmt.Sprintf("--value %s=\"...\": %s", c.Key, Safe(c.Or)), quiet)
	}
	if len(c.After) > 0 {
		p.block(4, "after", 8, few(c.After)+", which search engines would see", plain)
	}
	if len(c.Also) > 0 {
		p.block(4, "also", 8, "changes "+Safe(few(c.Also)), plain)
	}
	p.block(4, "risk", 8, Safe(c.Because), plain)
	switch {
	case c.Untested != "":
		p.block(4, "test", 8, "tells nothing of this: "+Safe(c.Untested), plain)
	case c.Trial != nil && c.Trial.By != "":
		p.block(4, "test", 8, "passed by "+Safe(trialled(c.Trial)), plain)
	}
	for _, says := range c.Besides {
		p.block(4, "also", 8, Safe(says), plain)
	}
	for _, says := range c.Mind {
		if says != c.Because {
			p.block(4, "mind", 8, Safe(says), plain)
		}
	}
	for _, says := range c.Judged {
		p.block(4, "with it", 8, Safe(says), plain)
	}
	if c.RunAs != "" {
		p.block(4, "who", 8, Safe(c.RunAs), plain)
	}
	if c.Lasting {
		p.block(4, "lasting", 8, "browsers and search engines remember it; undo cannot take that back", plain)
	}
}

// trialled says by whom something was tested, in what kind of copy.
func trialled(t *fix.Trial) string {
	says := t.By
	if len(t.Replaced) > 0 {
		says += ", in a private copy; replaced in it: " + strings.Join(t.Replaced, ", ")
	}
	if len(t.Left) > 0 {
		says += "; not tested: " + few(t.Left)
	}
	return says
}

func quote(text string) string { return "“" + text + "”" }

func shortly(text string) string {
	if text == "" {
		return "(empty)"
	}
	return facts.Shorten(text, 200)
}

// members names the first few entries whose permissions change.
func (p Sheet) members(paths []string) {
	for i, path := range paths {
		if i == 3 {
			p.block(4, "", 8, fmt.Sprintf("and %d more", len(paths)-i), quiet)
			break
		}
		label := ""
		if i == 0 {
			label = "of"
		}
		p.block(4, label, 8, Safe(path), plain)
	}
}

// diff writes a unified diff without its first two lines, in the usual colours.
func (p Sheet) diff(text string) {
	for i, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		style := quiet
		switch {
		case i == 0:
			continue
		case i == 1:
			p.block(4, "in", 8, "the file "+Safe(strings.TrimPrefix(strings.TrimPrefix(line, "+++ "), "b/")), quiet)
			continue
		case strings.HasPrefix(line, "+"):
			style = added
		case strings.HasPrefix(line, "-"):
			style = removed
		}
		text := []rune(escaped(facts.Shorten(strings.TrimRight(line, "\r"), 400)))
		for room := max(p.width()-12, 20); ; text = text[room:] { // goes on below, where it is too long
			fmt.Fprintf(p, "            %s\n", style.Render(string(text[:min(room, len(text))])))
			if len(text) <= room {
				break
			}
		}
	}
}

// forPerson lists what is not made from here.
func (p Sheet) forPerson(changes []fix.Change) {
	first := true
	for _, c := range changes {
		if !c.ForPerson() && c.Cannot == "" {
			continue
		}
		if first {
			fmt.Fprintln(p)
			p.line("for a person")
			first = false
		}
		fmt.Fprintln(p)
		p.heading(c)
		if c.Subject != "" && c.Subject != "site" && c.ForPerson() {
			p.block(4, "at", 8, Safe(facts.Shorten(c.Subject, 300)), plain)
		}
		if c.Cannot != "" {
			p.block(4, "why", 8, Safe(c.Cannot), plain)
		}
		for _, step := range c.Steps {
			p.block(4, "do", 8, Safe(step), plain)
		}
	}
}

var resultStyles = map[string]Style{fix.Took: added, fix.Stale: severityStyles[facts.Medium], fix.NotTook: severityStyles[facts.High], fix.Unread: severityStyles[facts.Medium], fix.Unseen: severityStyles[facts.Medium], fix.Left: severityStyles[facts.Medium],
	fix.Broke: severityStyles[facts.Critical], fix.Trouble: severityStyles[facts.Critical], fix.Waits: quiet}

// Outcome writes what was done and whether it took, and what is left.
func Outcome(p Sheet, site string, r *fix.Report, rest []fix.Change) {
	fmt.Fprintf(p, "%s\n", bold.Render("What was done at "+Safe(site)))
	if len(r.Outcomes) == 0 {
		fmt.Fprintln(p, "Nothing: no change that could be made was asked for.")
	}
	counts := map[string]int{}
	for _, o := range r.Outcomes {
		counts[o.Result]++
		fmt.Fprintln(p)
		p.titled(o.Record, o.Result, resultStyles[o.Result], o.Title())
		if !o.Finisher() {
			p.block(4, "", 0, Safe(shortly(o.From.String())+" → "+shortly(o.To.String())), quiet)
		}
		if o.Says != "" {
			p.block(4, "", 0, Safe(o.Says), plain)
		}
	}
	fmt.Fprintln(p)
	p.line("in all")
	var said []string
	for _, result := range []string{fix.Took, fix.Stale, fix.Unseen, fix.Unread, fix.NotTook, fix.Left, fix.Broke, fix.Trouble, fix.Waits} {
		if counts[result] > 0 {
			said = append(said, fmt.Sprintf("%d %s", counts[result], result))
		}
	}
	if len(said) > 0 {
		fmt.Fprintln(p, report.List(said)+".")
	}
	if len(r.New) > 0 {
		p.block(0, "", 0, "Deviates now and did not before: "+strings.Join(r.New, ", ")+". What was hidden behind a cause that is gone may show itself now.", plain)
	}
	for _, c := range rest {
		switch {
		case len(c.After) > 0 && c.Needs != "":
			p.block(0, "", 0, Safe(c.Title())+" waits: "+Safe(c.Needs)+".", plain)
		case c.Finisher() && c.Cannot != "":
			p.block(0, "", 0, Safe(c.Title())+": not from here, since "+Safe(c.Cannot)+".", plain)
		}
	}
	var visible, disruptive, waiting, persons int
	for _, c := range rest {
		switch {
		case c.Finisher(): // goes with what is seen
		case c.ForPerson() || c.Cannot != "":
			persons++
		case c.Needs != "":
			waiting++
		case c.Risk == facts.Disruptive:
			disruptive++
		default:
			visible++
		}
	}
	if visible+disruptive+waiting+persons > 0 {
		p.block(0, "", 0, fmt.Sprintf("Not made: %d visible (--allow visible), %d disruptive (--allow disruptive, each by its name), %d waiting for a value, %d for a person. weltaxis fix shows them.", visible, disruptive, waiting, persons), plain)
	}
	if counts[fix.Took]+counts[fix.Stale]+counts[fix.Unseen]+counts[fix.NotTook] > 0 {
		p.block(0, "", 0, "weltaxis undo takes this run back.", quiet)
	}
}

// Undone writes what was taken back, and what was not and why.
func Undone(p Sheet, site string, undone *fix.Undone) {
	fmt.Fprintf(p, "%s\n\n", bold.Render("Taken back at "+Safe(site)))
	back := 0
	for _, u := range undone.Changes {
		result, style := "back", added
		if !u.Back {
			result, style = "left", severityStyles[facts.High]
		} else {
			back++
		}
		p.titled(u.ID, result, style, u.Title())
		if !u.Finisher() {
			p.block(4, "", 0, Safe(shortly(u.To)+" → "+shortly(u.From)), quiet)
		}
		if u.Says != "" {
			p.block(4, "", 0, Safe(u.Says), plain)
		}
	}
	fmt.Fprintf(p, "\n%d of %d are as they were.\n", back, len(undone.Changes))
	if undone.Says != "" {
		p.block(0, "", 0, Safe(undone.Says), plain)
	}
	if len(undone.New) > 0 {
		p.block(0, "", 0, "What deviates now and did not before the run: "+report.List(undone.New)+".", plain)
	}
}
