package render

import (
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/history"
	"weltaxis/internal/report"
)

// History writes what was seen of a site and changed on it, one after the other.
func History(p Sheet, site string, h *report.History, now time.Time) {
	p.block(0, "", 0, "What was seen of "+Safe(site)+", and changed", bold)
	if len(h.Events) == 0 {
		fmt.Fprintln(p, "Nothing is kept: no audit, and no change by this program and from this account.")
		return
	}
	p.trends(h.Trends)
	for _, e := range h.Events {
		fmt.Fprintln(p)
		if e.Run == "" {
			p.audits(e.Audits, now)
			continue
		}
		p.line("fix, " + e.Changes[0].At.UTC().Format("2 January 2006, 15:04 MST") + ", run " + e.Run)
		var rows [][]string
		for _, c := range e.Changes {
			until := ""
			if (c.Event == fix.Done || c.Event == fix.Begun) && now.Before(c.Until) {
				until = c.Until.UTC().Format("2 Jan 2006")
			}
			rows = append(rows, []string{fmt.Sprint(c.ID), Safe(c.Title()), Safe(shortly(c.From)), Safe(shortly(c.To)), Safe(c.Event), until})
		}
		p.table([]string{"", "what", "from", "to", "now", "undo until"}, rows, func(int, int) Style { return plain })
	}
}

// audits is a table of audits.
func (p Sheet) audits(audits []history.Audit, now time.Time) {
	p.line("audits")
	head := []string{"", "taken, UTC", "stage", "critical", "high", "medium", "low", "aligned", ""}
	var rows [][]string
	for _, a := range audits {
		var notes []string
		if a.Part != "" {
			notes = append(notes, "only "+facts.Shorten(a.Part, 12))
		}
		if a.Partial {
			notes = append(notes, "in part")
		}
		if a.Aside {
			notes = append(notes, "as if in another stage")
		}
		if a.Run != "" {
			notes = append(notes, "for fix")
		}
		row := []string{fmt.Sprint(a.ID), strings.ReplaceAll(day(a.Taken, now), " ", "\u00a0"), a.Stage}
		for _, s := range []facts.Severity{facts.Critical, facts.High, facts.Medium, facts.Low} {
			row = append(row, count(a.Counts[s]))
		}
		rows = append(rows, append(row, share(a.Alignment), Safe(strings.Join(notes, ", "))))
	}
	p.table(head, rows, func(row, column int) Style {
		severities := map[int]facts.Severity{3: facts.Critical, 4: facts.High, 5: facts.Medium}
		if s, is := severities[column]; is && rows[row][column] != "·" {
			if column == 3 {
				return plain.bold().in(ansi.Magenta)
			}
			return severityStyles[s]
		}
		if column == 8 {
			return quiet
		}
		return plain
	})
}

// day is when an audit was made: of another year without the hour.
func day(at, now time.Time) string {
	if at.UTC().Year() != now.UTC().Year() {
		return at.UTC().Format("2 Jan 2006")
	}
	return at.UTC().Format("2 Jan, 15:04")
}

func count(n int) string {
	if n == 0 {
		return "·"
	}
	return strconv.Itoa(n)
}

// share is a share in per cent.
func share(of *float64) string {
	if of == nil {
		return ""
	}
	return strconv.Itoa(int(math.Floor(*of*100))) + "\u00a0%"
}

// trends are a line for each number that is followed, where there are at least three of it.
func (p Sheet) trends(trends []report.Trend) {
	longest := 0
	for _, t := range trends {
		longest = max(longest, len(t.What))
	}
	for _, t := range trends {
		if len(t.Known()) < 3 {
			continue
		}
		room := max(p.width()-longest-24, 8)
		values := t.Values[max(len(t.Values)-room, 0):]
		fmt.Fprintf(p, "%s  %s  %s\n", quiet.Render(pad(t.What, longest)), spark(values), fromTo(t))
	}
}

func number(v float64) string {
	if v == math.Trunc(v) {
		return strconv.Itoa(int(v))
	}
	return strconv.FormatFloat(v, 'f', 2, 64)
}

// steps are columns of growing height.
var steps = []rune("▁▂▃▄▅▆▇█")

// spark draws numbers as columns from nothing to the largest; what was not seen is a point.
func spark(values []*float64) string {
	most := 0.0
	for _, v := range values {
		if v != nil {
			most = max(most, *v)
		}
	}
	var b strings.Builder
	for _, v := range values {
		switch {
		case v == nil:
			b.WriteRune('·')
		case most == 0:
			b.WriteRune(steps[0])
		default:
			b.WriteRune(steps[int(*v/most*float64(len(steps)-1)+0.5)])
		}
	}
	return b.String()
}

// HistoryCSV writes the numbers of each audit (RFC 4180). What was not seen is empty.
func HistoryCSV(w io.Writer, audits []history.Audit) error {
	out := csv.NewWriter(w)
	head := []string{"audit", "taken", "stage", "tool", "baseline", "dialect", "part", "partial", "run", "alignment", "judged"}
	for _, s := range facts.Severities() {
		head = append(head, s.String())
	}
	if err := out.Write(append(head, "pages", "first_byte_ms", "weight_kib", "heaviest_kib")); err != nil {
		return err
	}
	for _, a := range audits {
		row := []string{strconv.FormatInt(a.ID, 10), a.Taken.UTC().Format(time.RFC3339), a.Stage, a.Tool, a.Baseline, a.Dialect, a.Part, strconv.FormatBool(a.Partial), a.Run, decimal(a.Alignment), decimal(a.Judged)}
		for _, s := range facts.Severities() {
			row = append(row, strconv.Itoa(a.Counts[s]))
		}
		for _, n := range []*int{a.Measures.Pages, a.Measures.FirstByte, a.Measures.Weight, a.Measures.Heaviest} {
			cell := ""
			if n != nil {
				cell = strconv.Itoa(*n)
			}
			row = append(row, cell)
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

func decimal(of *float64) string {
	if of == nil {
		return ""
	}
	return strconv.FormatFloat(*of, 'f', 4, 64)
}

// Audit writes an audit that was kept, a line for each rule that deviated.
func Audit(p Sheet, site string, k *history.Kept) {
	p.block(0, "", 0, Safe(site), bold)
	p.block(0, "", 0, fmt.Sprintf("audit %d, %s, %s; baseline %s, weltaxis %s", k.ID, k.Stage, k.Taken.UTC().Format("2 January 2006, 15:04 MST"), k.Baseline, Safe(k.Tool)), quiet)
	if k.Part != "" {
		p.block(0, "", 0, "Of "+Safe(k.Part)+" only.", plain)
	}
	if k.Partial {
		p.block(0, "", 0, "Not all that was asked for could be seen.", plain)
	}
	fmt.Fprintln(p)
	longest := 0
	for _, d := range k.Verdicts.Deviations {
		longest = max(longest, len(d.Rule))
	}
	if len(k.Verdicts.Deviations) == 0 {
		fmt.Fprintln(p, "Nothing deviated.")
	}
	for _, b := range report.Briefs(k.Verdicts) {
		p.brief(report.Entry{Rule: b.Rule, Severity: b.Severity, Says: []string{b.Says}}, longest)
	}
	fmt.Fprintln(p)
	p.block(0, "", 0, fmt.Sprintf("%s held, %s not judged. weltaxis history export %d writes what was seen; weltaxis compare says what changed since.", report.Count(len(k.Verdicts.Held), "rule", "rules"), report.Count(len(k.Verdicts.NotJudged), "was", "were"), k.ID), quiet)
}

// Work writes what a run of fix found, changed and left.
func Work(p Sheet, w *report.Work) {
	p.block(0, "", 0, Safe(w.Site), bold)
	p.block(0, "", 0, "run "+w.Run+", "+w.At.UTC().Format("2 January 2006, 15:04 MST"), quiet)
	p.briefs("found", w.Found, "Nothing deviated.")
	fmt.Fprintln(p)
	p.line("changed")
	for _, m := range w.Changes {
		style, known := resultStyles[m.Result]
		if !known {
			style = plain
		}
		p.titled(m.Change, m.Result, style, m.What)
		if m.From+m.To != "" {
			p.block(4, "", 0, Safe(shortly(m.From)+" → "+shortly(m.To)), quiet)
		}
		for _, line := range []string{m.Place, m.Says} {
			if line != "" {
				p.block(4, "", 0, Safe(line), quiet)
			}
		}
	}
	if w.Unseen() {
		fmt.Fprintln(p)
		p.block(0, "", 0, "Nobody could look afterwards.", plain)
	} else {
		p.briefs("deviates no more", w.Settled, "")
		p.briefs("deviates now, and did not", w.New, "")
		p.briefs("still deviates", w.Left, "")
	}
	if len(w.Waits) > 0 {
		fmt.Fprintln(p)
		p.line("left, and for whom")
		for _, waits := range w.Waits {
			p.block(0, "", 2, Safe(waits.What)+": "+Safe(waits.For), plain)
			for _, step := range waits.Steps {
				p.block(2, "", 2, Safe(step), quiet)
			}
		}
	}
	if w.Before > 0 && w.After > 0 {
		fmt.Fprintln(p)
		p.block(0, "", 0, fmt.Sprintf("weltaxis compare SITE %d %d sets before and after side by side.", w.Before, w.After), quiet)
	}
}

func (p Sheet) briefs(title string, list []report.Brief, none string) {
	if len(list) == 0 && none == "" {
		return
	}
	fmt.Fprintln(p)
	p.line(title)
	if len(list) == 0 {
		fmt.Fprintln(p, none)
	}
	longest := 0
	for _, b := range list {
		longest = max(longest, len(b.Rule))
	}
	for _, b := range list {
		p.brief(report.Entry{Rule: b.Rule, Severity: b.Severity, Says: []string{b.Says}}, longest)
	}
}
