package render

import (
	"fmt"
	"slices"
	"strings"

	"al.essio.dev/pkg/shellescape"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// The columns of a deviation: where the severity and the rule stand, and under them the label and what it says.
const (
	severityWidth = 11
	labelWidth    = 10
	shownSubjects = 3
)

// Text writes the report a person reads.
func Text(p Sheet, r *audit.Result) {
	p.head(r)
	area := ""
	for _, entry := range r.Entries() {
		if entry.Accepted() {
			continue
		}
		if first := entry.First(); first.Area != area {
			area = first.Area
			fmt.Fprintln(p)
			p.line(area)
		}
		p.entry(r, entry)
	}
	p.unseen(r)
	p.end(r)
}

func (p Sheet) head(r *audit.Result) {
	stage := r.Stage
	if stage == "" {
		stage = "stage unknown"
	}
	p.block(0, "", 0, Safe(r.Site), bold)
	p.block(0, "", 0, stage+", looked at on "+r.Taken.Format("2 January 2006, 15:04 MST"), quiet)
	var seen []string
	for _, s := range r.Sources {
		at := " in "
		if s.Source == facts.Live {
			at = " at "
		}
		seen = append(seen, s.Source.String()+at+Safe(s.Where))
	}
	text := "seen: " + list(seen)
	if r.Dialect != "" {
		text += "; dialect " + Safe(r.Dialect)
	}
	p.block(0, "", 0, text, quiet)
	if stage, known := r.Snapshot.Effective(facts.IntentStage.Name); known && stage.Origin.Default != "" {
		p.block(0, "", 0, "without a site file it is taken to be live at this address; what else it is meant to be is not known", quiet)
	}
}

func (p Sheet) entry(r *audit.Result, e audit.Entry) {
	first := e.First()
	fmt.Fprintln(p)
	severity := severityStyles[first.Severity]
	fmt.Fprintf(p, "%s%s%s\n", severity.Render(" "+first.Severity.String()+" "), strings.Repeat(" ", max(1, severityWidth-len(first.Severity.String())-2)), bold.Render(first.Rule))
	p.says(e)
	for i, d := range e {
		if i == shownSubjects {
			p.block(severityWidth, "", labelWidth, fmt.Sprintf("and %d more; --format json lists them all", len(e)-i), quiet)
			break
		}
		p.readings(d.Readings, false)
	}
	p.readings(first.Readings, true)
	p.block(severityWidth, "expected", labelWidth, Safe(first.Expected), plain)
	p.fix(e)
	if settled := settledBy(r, e); len(settled) > 0 {
		p.block(severityWidth, "settles", labelWidth, list(settled)+" too; the cause is the same", quiet)
	}
}

// settledBy lists the rules that were folded under an entry, each once.
func settledBy(r *audit.Result, e audit.Entry) []string {
	var rules []string
	for _, c := range r.Covered {
		about := slices.ContainsFunc(e, func(d facts.Deviation) bool {
			return d.Subject == c.Subject || d.Subject == baseline.SiteSubject || c.Subject == baseline.SiteSubject
		})
		if c.By == e.First().Rule && about && !slices.Contains(rules, c.Rule) {
			rules = append(rules, c.Rule)
		}
	}
	return rules
}

// says is the sentence, or for several subjects the sentences that differ.
func (p Sheet) says(e audit.Entry) {
	var said []string
	for _, d := range e {
		if !slices.Contains(said, d.Says) {
			said = append(said, d.Says)
		}
	}
	for i, sentence := range said {
		if i == shownSubjects {
			p.block(severityWidth, "", 0, fmt.Sprintf("and %d more like these", len(said)-i), plain)
			break
		}
		p.block(severityWidth, "", 0, Safe(sentence), plain)
	}
}

// readings writes what each source said, those of one place on one line. What the intent says is the same for
// every subject, and shown by itself.
func (p Sheet) readings(all []facts.Reading, intent bool) {
	for i := 0; i < len(all); {
		together := 1
		for i+together < len(all) && all[i+together].Source == all[i].Source && all[i+together].Origin == all[i].Origin {
			together++
		}
		if intent == (all[i].Source == facts.Intent) {
			p.reading(all[i:i+together], all)
		}
		i += together
	}
}

// reading is one line: source, names with values, place. What a line further up overrides is said to be overridden.
func (p Sheet) reading(same, all []facts.Reading) {
	var said []string
	for _, r := range same {
		value := Safe(facts.Shorten(r.Value.String(), 300))
		if value == "" {
			value = "(empty)"
		}
		said = append(said, lastName(r.Name)+": "+value)
	}
	text, place := strings.Join(said, ", "), placeOf(same[0].Origin)
	if first := slices.IndexFunc(all, func(o facts.Reading) bool { return o.FullName() == same[0].FullName() }); all[first].Origin != same[0].Origin {
		place += "; overridden by the line above"
	}
	if room := p.width() - severityWidth - labelWidth; ansi.StringWidth(text)+2+ansi.StringWidth(place) <= room {
		fmt.Fprintf(p, "%s%s%s  %s\n", strings.Repeat(" ", severityWidth), quiet.Render(pad(same[0].Source.String(), labelWidth)), text, quiet.Render(place))
		return
	}
	p.block(severityWidth, same[0].Source.String(), labelWidth, text, plain)
	p.block(severityWidth, "", labelWidth, place, quiet)
}

// lastName leaves out the list that a field belongs to, which the place tells.
func lastName(name string) string {
	for _, list := range []string{"classes.", "accounts.", "pages.", "spellings.", "links."} {
		if field, ok := strings.CutPrefix(name, list); ok {
			return field
		}
	}
	return name
}

func placeOf(o facts.Origin) string {
	place := o.String()
	if o.Owner != "" {
		place += ", owned by " + o.Owner
	}
	return Safe(place)
}

var riskWords = map[facts.Risk]string{
	facts.Safe:       "safe: nobody outside notices",
	facts.Visible:    "visible: visitors or search engines notice",
	facts.Disruptive: "disruptive: it can lock out or break, so take a copy first",
}

// fix says what would put it right, what it risks, and where a person does it.
func (p Sheet) fix(e audit.Entry) {
	var said []string
	label := "fix"
	say := func(text string, style lipgloss.Style) {
		if text != "" && !slices.Contains(said, text) {
			said = append(said, text)
			p.block(severityWidth, label, labelWidth, text, style)
			label = ""
		}
	}
	for i, d := range e {
		if i == shownSubjects {
			break
		}
		for _, change := range d.Fix.Changes {
			say(changeText(change), plain)
			say(where(change), quiet)
		}
		if m := d.Fix.Mode; m != nil {
			say(modeText(*m), plain)
		}
		for _, step := range d.Fix.Steps {
			say(Safe(step), plain)
		}
	}
	risk := riskWords[e.First().Fix.Risk]
	if e.First().Fix.Lasting {
		risk += "; and it stays with visitors' browsers after it is taken back"
	}
	p.block(severityWidth, "risk", labelWidth, risk, quiet)
}

func changeText(c facts.Target) string {
	switch {
	case c.To.Type() == "":
		return "set " + c.Name + ": " + Safe(c.Hint)
	case c.To.String() == "":
		return "empty " + c.Name + otherwise(c.Hint)
	}
	return "set " + c.Name + " to " + Safe(c.To.String()) + otherwise(c.Hint)
}

func modeText(m facts.ModeTarget) string {
	text := fmt.Sprintf("change the mode from %s to %s", m.From, m.To)
	if m.Origin.Count > 1 {
		return text + ", on " + Safe(m.Origin.String())
	}
	return text + ": chmod " + m.To.String() + " " + shellQuote(m.Origin.Path)
}

func otherwise(hint string) string {
	if hint == "" {
		return ""
	}
	return ", or say: " + Safe(hint)
}

func where(c facts.Target) string {
	if c.Origin.Screen != "" {
		return "by hand: " + Safe(c.Origin.Screen)
	}
	if c.Origin.File != "" {
		return "by hand: " + Safe(c.Origin.String())
	}
	return ""
}

// shellQuote is a path as a POSIX shell takes it. One with bytes a terminal cannot show is left to a person.
func shellQuote(path string) string {
	if Safe(path) != path || strings.Contains(path, `\x`) {
		return Safe(path) + " (its name needs typing with care)"
	}
	if strings.HasPrefix(path, "-") {
		path = "./" + path
	}
	return shellescape.Quote(path)
}

// unseen lists what was not judged and what could not be seen.
func (p Sheet) unseen(r *audit.Result) {
	if len(r.Unjudged())+len(r.Broken) > 0 {
		fmt.Fprintln(p)
		p.line("not judged")
		for _, because := range reasons(r) {
			var rules []string
			for _, n := range r.Unjudged() {
				if n.Because == because {
					rules = append(rules, unjudged(n))
				}
			}
			p.block(0, "", 2, Safe(because), plain)
			p.block(0, "", 4, list(rules), quiet)
		}
		for _, b := range r.Broken {
			p.block(0, "", 2, b.Rule+": the rule itself is broken: "+Safe(b.Because), plain)
		}
	}
	var seen []facts.Gap
	for _, gap := range r.Gaps {
		if gap.Kind != facts.Unmapped {
			seen = append(seen, gap)
		}
	}
	if len(seen) > 0 {
		fmt.Fprintln(p)
		p.line("could not be seen")
		for _, gap := range seen {
			p.block(0, "", 2, gap.Source.String()+": "+Safe(facts.Shorten(gap.What, 200))+": "+Safe(gap.Because), plain)
		}
	}
	if len(r.Lapsed) > 0 {
		fmt.Fprintln(p)
		p.line("lapsed")
		for _, a := range r.Lapsed {
			p.block(0, "", 2, fmt.Sprintf("%s was accepted until %s: %s", a.Rule, a.Until, Safe(a.Because)), plain)
		}
	}
}

// unjudged names a rule that was not judged, and of how many items it was not.
func unjudged(n baseline.NotJudged) string {
	if n.Judged == 0 || len(n.Items) == 0 {
		return n.Rule
	}
	more := ""
	if len(n.Items) > 1 {
		more = fmt.Sprintf(" and %d more", len(n.Items)-1)
	}
	return fmt.Sprintf("%s for %s%s (it was for %d)", n.Rule, Safe(n.Items[0].Subject), more, n.Judged)
}

// reasons lists why rules were not judged, each reason once.
func reasons(r *audit.Result) []string {
	var list []string
	for _, n := range r.Unjudged() {
		if !slices.Contains(list, n.Because) {
			list = append(list, n.Because)
		}
	}
	return list
}

// end sums up, and says what to do first.
func (p Sheet) end(r *audit.Result) {
	fmt.Fprintln(p)
	p.line("in all")
	var counts []string
	for _, severity := range facts.Severities() {
		if n := r.Counts[severity]; n > 0 {
			counts = append(counts, severityStyles[severity].Render(fmt.Sprintf(" %d %s ", n, severity)))
		}
	}
	if len(counts) == 0 {
		fmt.Fprintln(p, bold.Render("Nothing deviates."))
	} else {
		fmt.Fprintln(p, strings.Join(counts, " "))
	}
	p.block(0, "", 0, sums(r), plain)
	if first, ok := r.FirstToDo(); ok {
		p.block(0, "", 0, "Begin with "+first.Rule+": "+Safe(first.Says), bold)
	}
	if slices.ContainsFunc(r.Deviations, func(d facts.Deviation) bool { return d.Accepted == nil && len(d.Fix.Changes) > 0 }) && (r.Snapshot.Asked(facts.Settings) || r.Snapshot.Asked(facts.Files)) {
		p.block(0, "", 0, "weltaxis fix shows the changes that would put this right, each with what it can break.", quiet)
	}
}

func sums(r *audit.Result) string {
	parts := []string{"Nothing could be judged."}
	if r.Alignment != nil {
		parts[0] = fmt.Sprintf("Aligned to %.0f %%, by the weight of the rules; %.0f %% of those that apply could be judged.", *r.Alignment*100, *r.Judged*100)
	}
	accepted := 0
	for _, d := range r.Deviations {
		if d.Accepted != nil {
			accepted++
		}
	}
	rest := []string{count(len(r.Held), "rule holds", "rules hold")}
	for _, extra := range []struct {
		n    int
		says string
	}{{len(r.Covered), "settled with others"}, {accepted, "accepted"}, {len(r.NotApplicable), "not applicable"}, {len(r.Unjudged()) + len(r.Broken), "not judged"}} {
		if extra.n > 0 {
			rest = append(rest, fmt.Sprintf("%d %s", extra.n, extra.says))
		}
	}
	return parts[0] + " " + strings.ToUpper(rest[0][:1]) + list(append([]string{rest[0][1:]}, rest[1:]...)) + "."
}
