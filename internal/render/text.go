package render

import (
	"cmp"
	"fmt"
	"strings"
	"unicode"

	"weltaxis/internal/facts"
	"weltaxis/internal/report"
)

// A Detail says how much of a report is wanted.
type Detail uint8

// The details: a line for each deviation; what decides; all there is.
const (
	Usual Detail = iota
	Brief
	Full
)

// The columns of a deviation: under its head the label and what it says.
const (
	severityWidth = 11
	labelWidth    = 10
)

// Text writes the report a person reads.
func Text(p Sheet, r *report.Report, detail Detail) {
	p.head(r, detail)
	p.news(r)
	p.first(r)
	if len(r.Words.First) > 0 {
		fmt.Fprintln(p)
	}
	area, longest := "", 0
	for _, e := range r.Words.Entries {
		longest = max(longest, len(e.Rule))
	}
	for _, e := range r.Words.Entries {
		if detail == Brief {
			p.brief(e, longest)
			continue
		}
		if e.Area != area {
			if area != "" {
				fmt.Fprintln(p)
			}
			area = e.Area
			p.line(area)
		} else {
			fmt.Fprintln(p)
		}
		p.entry(e, detail)
	}
	p.unseen(r, detail)
	p.accepted(r)
	p.section("to come back to, now", r.Words.Due)
	p.end(r, detail)
}

// head says whose site it is, whether it is there, where was looked and how it stands.
func (p Sheet) head(r *report.Report, detail Detail) {
	p.title(r)
	p.block(0, "", 0, Safe(r.Words.There), plain)
	p.block(0, "", 0, Safe(r.Words.Looked), plain)
	if r.Words.Read != "" && r.Words.As != "root" {
		p.block(0, "", 0, Safe(r.Words.Read), plain)
	}
	p.block(0, "", 0, r.Words.Stands, bold)
}

// title says whose site it is, in which stage, and when it was looked at.
func (p Sheet) title(r *report.Report) {
	stage := r.Stage
	if stage == "" {
		stage = "stage unknown"
	}
	p.block(0, "", 0, Safe(r.Site), bold)
	p.block(0, "", 0, stage+", looked at on "+r.Taken.Format("2 January 2006, 15:04 MST"), quiet)
	if r.Words.Presumed {
		p.block(0, "", 0, "without a site file it is taken to be live at this address; what else it is meant to be is not known", quiet)
	}
}

// news says what came and went since the last look.
func (p Sheet) news(r *report.Report) {
	w := r.Words
	if w.Since == "" {
		for _, other := range w.Other {
			p.block(0, "", 0, Safe(other), quiet)
		}
		return
	}
	if len(w.News) == 0 {
		p.block(0, "", 0, "Nothing came or went since "+w.Since+".", quiet)
	} else {
		fmt.Fprintln(p)
		p.line("since " + w.Since)
		for i, n := range w.News {
			if i == mostNews {
				p.block(2, "", 0, fmt.Sprintf("and for %s; weltaxis compare lists them", report.Count(len(w.News)-i, "more rule", "more rules")), quiet)
				break
			}
			text := times(n.Rule, n.Count)
			if len(n.Says) > 0 && n.Says[0] != "" {
				text += ": " + n.Says[0]
			}
			p.block(0, n.Became, 6, severityWord(n)+Safe(text), plain)
		}
	}
	for _, other := range w.Other {
		p.block(0, "", 0, Safe(other), quiet)
	}
}

// mostNews is how many rules are named on top.
const mostNews = 8

func severityWord(j report.Judged) string {
	if j.Severity == 0 {
		return ""
	}
	return severityStyles[j.Severity].Render(j.Severity.String()) + " "
}

// first says what to do first.
func (p Sheet) first(r *report.Report) {
	if len(r.Words.First) == 0 {
		return
	}
	fmt.Fprintln(p)
	p.line("do first")
	for i, f := range r.Words.First {
		p.block(0, fmt.Sprintf("%2d", i+1), 4, Safe(f.Says), bold)
		does := f.Rule
		if f.Do != "" {
			does += ": " + f.Do
		}
		if len(f.After) > 0 {
			does = strings.TrimSuffix(does, ".") + ", after " + few(f.After)
		}
		p.block(0, "", 4, Safe(does), plain)
	}
}

// few names the first few of many.
func few(words []string) string { return report.List(report.FirstFew(words)) }

// brief is one line, with so many columns for the rule.
func (p Sheet) brief(e report.Entry, columns int) {
	name, said := pad(e.Rule, columns), Safe(strings.Join(e.Says, " "))
	if room := p.width() - severityWidth - len(name) - 1; room >= 10 {
		fmt.Fprintf(p, "%s%s %s\n", severityLabel(e.Severity), bold.Render(name), cut(said, room))
		return
	}
	fmt.Fprintf(p, "%s%s\n", severityLabel(e.Severity), bold.Render(e.Rule)) // too narrow for both
}

func severityLabel(s facts.Severity) string {
	return severityStyles[s].Render(" "+s.String()+" ") + strings.Repeat(" ", max(1, severityWidth-len(s.String())-2))
}

// entry is one rule's deviations: how bad, which rule, what its fix risks and who notices; then what is so, who said it
// where, what ought to be, and the fix.
func (p Sheet) entry(e report.Entry, detail Detail) {
	p.headline(e)
	for _, sentence := range e.Says {
		p.block(1, "", 0, Safe(sentence), plain)
	}
	lines := e.Readings
	if detail == Full {
		lines = e.All
	}
	for i, l := range lines {
		if i == 6 && detail != Full {
			p.block(1, "", labelWidth, fmt.Sprintf("and %d more; --full lists them", len(lines)-i), quiet)
			break
		}
		p.reading(l)
	}
	if e.Since != "" && (detail == Full || !strings.HasPrefix(e.Since, "at the first look")) {
		p.block(1, "since", labelWidth, e.Since, quiet)
	}
	p.fix(e, detail)
	if detail == Full {
		p.more(e)
	}
}

// fix is what ought to be and what makes it so, in one line where both fit.
func (p Sheet) fix(e report.Entry, detail Detail) {
	fix := Safe(joined(e.Fix))
	if n := len(e.Settles); n > 0 && detail != Full {
		fix = strings.TrimSuffix(fix, ".") + fmt.Sprintf(" (settles %d more)", n)
	}
	expected := Safe(e.Expected)
	if e.FixSays && detail != Full {
		expected = ""
	}
	if both := "  expected: " + expected; expected != "" && columnsOf(fix)+columnsOf(both) <= p.width()-labelWidth-1 {
		fmt.Fprintf(p, " %s%s%s\n", quiet.Render(pad("fix", labelWidth)), fix, quiet.Render(both))
		return
	}
	if expected != "" {
		p.labelled("expected", expected)
	}
	p.labelled("fix", fix)
}

// joined puts what is to be done into one paragraph.
func joined(steps []string) string {
	var b strings.Builder
	for i, step := range steps {
		switch {
		case i == 0:
		case strings.HasSuffix(steps[i-1], "."):
			b.WriteString(" ")
		case unicode.IsUpper([]rune(step)[0]):
			b.WriteString(". ")
		default:
			b.WriteString("; ")
		}
		b.WriteString(step)
	}
	return b.String()
}

// more is what only the full report says.
func (p Sheet) more(e report.Entry) {
	for i, subject := range e.AcceptAs {
		p.labelled(map[bool]string{true: "subject", false: ""}[i == 0], Safe(subject))
	}
	for i, place := range e.ByHand {
		p.labelled(map[bool]string{true: "by hand", false: ""}[i == 0], Safe(place))
	}
	if len(e.Settles) > 0 {
		p.labelled("settles", report.List(e.Settles)+" too; the cause is the same")
	}
	why := e.Why
	if e.Lasting {
		why = strings.TrimPrefix(why+"; it stays with visitors' browsers after it is taken back", "; ")
	}
	if why != "" {
		p.labelled("risk", Safe(why))
	}
}

// times is a rule with how often it deviates, where that is more than once.
func times(rule string, n int) string {
	if n < 2 {
		return rule
	}
	return fmt.Sprintf("%s ×%d", rule, n)
}

// headline has on its right the risk of the fix and who notices it.
func (p Sheet) headline(e report.Entry) {
	name, risk := times(e.Rule, e.Count), riskText(e)
	if e.Lasting {
		risk += ", lasting"
	}
	room := p.width() - severityWidth - len([]rune(name))
	if len([]rune(risk)) >= room {
		fmt.Fprintf(p, "%s%s\n", severityLabel(e.Severity), bold.Render(name))
		p.block(severityWidth, "", 0, risk, quiet)
		return
	}
	fmt.Fprintf(p, "%s%s%s%s\n", severityLabel(e.Severity), bold.Render(name), strings.Repeat(" ", room-len([]rune(risk))), quiet.Render(risk))
}

// riskText is what a fix risks, with those who notice it.
func riskText(e report.Entry) string {
	return "fix " + e.Risk.String() + map[bool]string{true: " at least"}[e.Least] + ": " + whoText(e.Noticed)
}

// whoText says who notices something.
func whoText(noticed []facts.Who) string {
	if len(noticed) == 0 {
		return "nobody"
	}
	var words []string
	for _, w := range noticed {
		words = append(words, w.String())
	}
	return report.List(words)
}

func (p Sheet) labelled(label, text string) { p.block(1, label, labelWidth, text, plain) }

// reading is what one place said, and the place.
func (p Sheet) reading(l report.Line) {
	said, place := Safe(l.Said), Safe(l.Place)
	bright := len(strings.Join(strings.Fields(said), "")) // how much stands before the place, without spaces
	label := l.Source.String()
	for _, line := range wrap(strings.Trim(said+"  "+place, " "), p.width()-labelWidth-1) {
		at := 0
		for at < len(line) && bright > 0 {
			if line[at] != ' ' {
				bright--
			}
			at++
		}
		fmt.Fprintf(p, " %s%s%s\n", quiet.Render(pad(label, labelWidth)), line[:at], quiet.Render(line[at:]))
		label = ""
	}
}

// unseen lists what was not judged and what could not be seen.
func (p Sheet) unseen(r *report.Report, detail Detail) {
	w := r.Words
	if len(w.Unseen) > 0 {
		fmt.Fprintln(p)
		p.line("not judged")
		for i, u := range w.Unseen {
			if i == 4 && detail != Full {
				p.block(0, "", 2, fmt.Sprintf("and for %s; --full lists them", report.Count(len(w.Unseen)-i, "more reason", "more reasons")), quiet)
				break
			}
			p.block(0, "", 2, fmt.Sprintf("%s: %s", report.Count(len(u.Rules), "rule", "rules"), Safe(u.Because)), plain)
			if detail == Full {
				p.block(0, "", 4, Safe(report.List(u.Rules)), quiet)
			}
		}
		if w.Lacking != "" {
			p.block(0, "", 2, w.Lacking, bold)
		}
	}
	p.section("could not be seen", w.Gaps)
}

// section writes sentences under a line across.
func (p Sheet) section(title string, sentences []string) {
	if len(sentences) == 0 {
		return
	}
	fmt.Fprintln(p)
	p.line(title)
	for _, s := range sentences {
		p.block(0, "", 2, Safe(s), plain)
	}
}

// accepted lists what somebody has decided to live with.
func (p Sheet) accepted(r *report.Report) {
	var lived []string
	for _, a := range r.Words.Accepted {
		about := ""
		if a.Subject != "*" && a.Subject != "" && a.Subject != "site" {
			about = " (" + a.Subject + ")"
		}
		lived = append(lived, fmt.Sprintf("%s%s until %s, because %s: %s", a.Rule, about, a.Until, a.Because, a.Says))
	}
	p.section("accepted", lived)
	p.section("lapsed", r.Words.Lapsed)
	p.section("accepted in vain", r.Words.Astray)
}

// Note writes what there is to say of the keeping of a report.
func Note(p Sheet, note string) {
	if note != "" {
		p.block(0, "", 0, Safe(note), quiet)
	}
}

// end says how to go on.
func (p Sheet) end(r *report.Report, detail Detail) {
	var next []string
	if r.Words.Fixable {
		next = append(next, "weltaxis fix shows what would put this right")
	}
	if len(r.Words.Entries) > 0 {
		next = append(next, "weltaxis explain RULE says why")
		if detail != Full {
			next = append(next, "--full says where by hand")
		}
	}
	if r.Words.As == "root" && detail == Full { // what is root's own is read as root by nobody's surprise
		fmt.Fprintln(p)
		p.block(0, "", 0, cmp.Or(Safe(r.Words.Read), "Read as root."), plain)
	}
	if len(next) > 0 {
		fmt.Fprintln(p)
		p.block(0, "", 0, "To go on: "+strings.Join(next, "; ")+".", quiet)
	}
}
