package report

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"al.essio.dev/pkg/shellescape"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// An Entry is one rule's deviations of one severity, as a person is told of them.
type Entry struct {
	Rule     string         `json:"rule"`
	Area     string         `json:"area"`
	Severity facts.Severity `json:"severity"`
	Risk     facts.Risk     `json:"risk"`    // of the fix
	Least    bool           `json:"least"`   // that is only the least it can be
	Noticed  []facts.Who    `json:"noticed"` // who notices the fix
	Lasting  bool           `json:"lasting"` // the fix stays with visitors' browsers after it is taken back
	Count    int            `json:"count"`   // of subjects
	Says     []string       `json:"says"`
	Readings []Line         `json:"readings"` // those that disagree or decide
	All      []Line         `json:"-"`        // every one that the rule used
	Expected string         `json:"expected"`
	FixSays  bool           `json:"-"` // the fix says what is expected
	Fix      []string       `json:"fix"`
	ByHand   []string       `json:"by_hand"` // where a person does it
	Settles  []string       `json:"settles"` // rules that are settled with it
	AcceptAs []string       `json:"-"`       // the subjects, as one writes them to accept it
	Why      string         `json:"why"`     // it has that risk
	Since    string         `json:"since"`   // when it began; "" when nobody kept looks
}

// A Line is what one place said.
type Line struct {
	Source facts.Source `json:"source"`
	Said   string       `json:"said"` // names and values; "" where the sentence has said them
	Place  string       `json:"place"`

	file, table, row string // of the place, where it is in a database
}

// entry puts the deviations of one rule and severity into words.
func entry(r *audit.Result, e audit.Entry) Entry {
	d := e.First()
	out := Entry{Rule: d.Rule, Area: d.Area, Severity: d.Severity, Count: len(e), Says: entrySays(e), Fix: fixLines(e), ByHand: byHand(e), Settles: settles(r, e), Noticed: []facts.Who{}}
	for _, d := range e {
		out.Risk = max(out.Risk, d.Fix.Risk)
		out.Least, out.Lasting = out.Least || d.Fix.Least(), out.Lasting || d.Fix.Lasting
		out.Noticed = append(out.Noticed, d.Fix.Noticed...)
		if out.Why == "" {
			out.Why = d.Fix.Because
		}
	}
	out.Least = out.Least && out.Risk < facts.Disruptive
	out.Since = since(e, r.Taken)
	out.Noticed = baseline.NoticedAt(out.Risk, out.Noticed)
	said := strings.Join(out.Says, " ")
	out.Expected = d.Expected
	out.FixSays = len(d.Fix.Changes) > 0 || saysTheSame(out.Fix, d.Expected)
	for _, d := range e[:min(len(e), shown)] {
		var decide []facts.Reading
		for _, reading := range d.Readings {
			if decides(r, d, reading) && !(reading.Source == facts.Intent && holds(said+" "+d.Expected, reading.Value.String())) {
				decide = append(decide, reading)
			}
		}
		if as := d.AcceptAs(); as != baseline.SiteSubject {
			out.AcceptAs = append(out.AcceptAs, as)
		}
		out.Readings = append(out.Readings, lines(decide, said, false)...)
		out.All = append(out.All, lines(d.Readings, "", true)...)
	}
	out.Readings, out.All = merged(out.Readings), distinct(out.All)
	return out
}

// saysTheSame tells whether the fix is to set what is expected.
func saysTheSame(fix []string, expected string) bool {
	return len(fix) > 0 && strings.HasPrefix(fix[0], "set ") && strings.HasSuffix(fix[0], " to "+expected)
}

// entrySays are the sentences of an entry, those that are alike told as one.
func entrySays(e audit.Entry) []string {
	var sentences []string
	for _, d := range e {
		sentences = append(sentences, d.Says)
	}
	return folded(sentences)
}

// decides tells whether the rule turned on a reading, or it is where the fix will change something, or it contradicts
// one on which it turned.
func decides(r *audit.Result, d facts.Deviation, reading facts.Reading) bool {
	if reading.FullName() == facts.ListPages+".kind" {
		return false // what a page is taken for chooses the condition, and is no reading of the site
	}
	// Where the web server has a hand in it, all sides stand side by side.
	if rule, known := r.Rules.Rule(d.Rule); known && len(rule.Configured) > 0 && r.Snapshot.Asked(facts.Server) && (reading.Source == facts.Server || reading.Source == facts.Settings) {
		return true
	}
	return slices.Contains(r.Rules.Decisive(r.Snapshot, d), reading.FullName()) ||
		slices.ContainsFunc(d.Fix.Changes, func(c facts.Target) bool { return facts.Settings.Name(c.Name) == reading.FullName() })
}

// holds tells whether a text has a value in it.
func holds(text, value string) bool {
	return len([]rune(value)) > 1 && strings.Contains(text, value)
}

// lines puts readings into lines, those of one place together. What the sentence has said is not said again, unless
// all is wanted.
func lines(readings []facts.Reading, said string, all bool) []Line {
	var out []Line
	for i := 0; i < len(readings); {
		together := 1
		for i+together < len(readings) && near(readings[i], readings[i+together], all) {
			together++
		}
		out = append(out, line(readings[i:i+together], readings, said, all))
		i += together
	}
	return out
}

// near tells whether two readings come from one place, or from rows of one table.
func near(a, b facts.Reading, all bool) bool {
	x, y := a.Origin, b.Origin
	if !all && x.Table != "" && x.Table == y.Table {
		x.Row, y.Row, x.Screen, y.Screen, x.Column, y.Column, x.Key, y.Key = "", "", "", "", "", "", "", ""
	}
	x.Screen, y.Screen = "", ""
	return a.Source == b.Source && a.FullName() != b.FullName() && x == y
}

// several tells whether the configuration that a reading is of has more than one line in what is shown, so that it must be told which is
// which.
func several(r facts.Reading, readings []facts.Reading) bool {
	return (r.Source == facts.Runtime || r.Source == facts.Server) && slices.ContainsFunc(readings, func(o facts.Reading) bool {
		return o.Source == r.Source && o.FullName() != r.FullName() && o.Origin != r.Origin
	})
}

func line(same, readings []facts.Reading, said string, all bool) Line {
	var texts []string
	for _, r := range same {
		value := facts.Shorten(r.Value.String(), 300)
		switch {
		case r.Absent:
			value = "(nothing)"
		case value == "":
			value = "(empty)"
		case holds(said, r.Value.String()):
			if several(r, readings) {
				texts = append(texts, lastName(r.Name))
			}
			continue
		}
		texts = append(texts, lastName(r.Name)+": "+value)
	}
	l := Line{Source: same[0].Source, Said: strings.Join(texts, ", "), Place: placeOf(same, readings, said)}
	if o := same[0].Origin; o.Table != "" && len(same) == 1 && !all {
		l.file, l.table, l.row = o.File, o.File+" "+o.Table, o.Row
	} else if o.Table != "" {
		l.file, l.table = o.File, o.File+" "+o.Table
	}
	return l
}

// placeOf is where readings stand; what a reading further up overrides is said to be overridden.
func placeOf(same, readings []facts.Reading, said string) string {
	o := same[0].Origin
	if o.Table != "" && len(same) > 1 {
		var rows []string
		for _, r := range same {
			rows = append(rows, r.Origin.Row)
		}
		if rows = slices.Compact(rows); len(rows) > 1 {
			rows = nil // more than one wants to read
		}
		o.Row = strings.Join(rows, "")
	}
	place := o.String()
	if o.Path != "" && holds(said, o.Path) {
		place = ""
	}
	if o.Owner != "" && o.Owner != ":" {
		place = strings.TrimPrefix(place+", owned by "+o.Owner, ", ")
	}
	if first := slices.IndexFunc(readings, func(r facts.Reading) bool { return r.FullName() == same[0].FullName() }); readings[first].Origin != same[0].Origin {
		place += "; overridden by the line above"
	}
	return place
}

// distinct leaves out lines that are there already.
func distinct(all []Line) []Line {
	out := []Line{}
	for _, l := range all {
		if l.table == "" {
			l.table = l.Place
		}
		if !slices.Contains(out, l) && l.Said+l.Place != "" {
			out = append(out, l)
		}
	}
	return out
}

// merged puts the rows together that say the same of one table, and leaves out files that nothing is said of when
// something is said of what lies in them.
func merged(all []Line) []Line {
	var out []Line
	for _, l := range distinct(all) {
		i := slices.IndexFunc(out, func(o Line) bool {
			return o.Source == l.Source && o.Said == l.Said && o.table == l.table && o.row != "" && l.row != ""
		})
		switch {
		case i >= 0:
			out[i].row += " and " + l.row
			out[i].Place = strings.Replace(l.Place, "row "+l.row, "rows "+out[i].row, 1)
		case l.Said == "" && slices.ContainsFunc(all, func(o Line) bool {
			return o.Source == l.Source && o.table != "" && strings.HasPrefix(l.Place, o.file+",") && l.table == l.Place && o.file != ""
		}):
		default:
			out = append(out, l)
		}
	}
	return append([]Line{}, out...)
}

// lastName leaves out the list that a field belongs to, which the place tells.
func lastName(name string) string {
	for list := range facts.Lists {
		_, short := facts.SourceOf(list)
		if field, ok := strings.CutPrefix(name, short+"."); ok {
			return field
		}
	}
	return name
}

// settles lists the rules that are settled with an entry, each once.
func settles(r *audit.Result, e audit.Entry) []string {
	rules := []string{}
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

// fixLines say what would put it right.
func fixLines(e audit.Entry) []string {
	var changes, steps []string
	for _, d := range e {
		var set []string
		for _, change := range d.Fix.Changes {
			set = append(set, changeText(change))
		}
		changes = append(changes, strings.Join(set, "; "))
		if d.Fix.Write != nil && d.Fix.Write.Drop == "" {
			line := d.Fix.Write.Line
			if line == "" {
				line = d.Fix.Write.Start
			}
			steps = append(steps, fmt.Sprintf("add to %s: %s", d.Fix.Write.File, strings.TrimSpace(line)))
			continue
		}
		steps = append(steps, d.Fix.Steps...)
	}
	return append([]string{}, slices.Concat(folded(changes), modeTexts(e), folded(steps))...)
}

// modeTexts say which permissions take the place of which, for one entry as a command.
func modeTexts(e audit.Entry) []string {
	var said []string
	for _, d := range e {
		m := d.Fix.Mode
		switch {
		case m == nil:
		case len(e) == 1 && m.Origin.Count <= 1:
			return []string{fmt.Sprintf("chmod %s %s", m.To, shellPath(m.Origin.Path))}
		default:
			if text := fmt.Sprintf("%s instead of %s", m.To, m.From); !slices.Contains(said, text) {
				said = append(said, text)
			}
		}
	}
	if len(said) == 0 {
		return nil
	}
	return []string{"mode " + List(FirstFew(said))}
}

func changeText(c facts.Target) string {
	switch {
	case c.To.Type() == "":
		return "say " + c.Name + ": " + c.Hint
	case c.To.String() == "":
		return "empty " + c.Name + otherwise(c.Hint)
	}
	return "set " + c.Name + " to " + c.To.String() + otherwise(c.Hint)
}

func otherwise(hint string) string {
	if hint == "" {
		return ""
	}
	return ", or say: " + hint
}

// shellPath is a path as a POSIX shell takes it. One with signs that cannot be typed is left to a person.
func shellPath(path string) string {
	if !utf8.ValidString(path) || strings.ContainsFunc(path, func(r rune) bool { return !unicode.IsPrint(r) }) {
		return path + " (its name needs typing with care)"
	}
	if strings.HasPrefix(path, "-") {
		path = "./" + path
	}
	return shellescape.Quote(path)
}

// byHand says where a person makes the changes.
func byHand(e audit.Entry) []string {
	places := []string{}
	for _, d := range e {
		for _, c := range d.Fix.Changes {
			place := c.Origin.Screen
			if place == "" && c.Origin.File != "" {
				place = c.Origin.String()
			}
			if place != "" && !slices.Contains(places, place) {
				places = append(places, place)
			}
		}
	}
	return places
}
