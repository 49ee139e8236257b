package render

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/report"
)

const (
	gap      = 2  // what stands between two columns of a table
	longWord = 24 // the longest word that a column is made wide enough for; what is longer is an address or the like
)

// table writes rows under a head. Cells are wrapped between words; where the longest words of all columns do not fit
// beside each other, each row is written as a list.
func (p Sheet) table(head []string, rows [][]string, style func(row, column int) Style) {
	widths, fits := p.columns(head, rows)
	if !fits {
		p.rows(head, rows, style)
		return
	}
	write := func(cells []string, style func(column int) Style) {
		parts, height := make([][]string, len(cells)), 0
		for i, cell := range cells {
			parts[i] = wrapped(cell, widths[i])
			height = max(height, len(parts[i]))
		}
		for line := range height {
			var b strings.Builder
			for i := range cells {
				text := ""
				if line < len(parts[i]) {
					text = parts[i][line]
				}
				b.WriteString(style(i).Render(pad(text, widths[i]+gap)))
			}
			fmt.Fprintln(p, trimmed(b.String()))
		}
	}
	write(head, func(int) Style { return quiet })
	all := 0
	for _, width := range widths {
		all += width + gap
	}
	fmt.Fprintln(p, quiet.Render(strings.Repeat("─", all)))
	for i, row := range rows {
		write(row, func(column int) Style { return style(i, column) })
	}
}

// blanks are what stands at the end of a line: spaces, and codes of colours.
var blanks = regexp.MustCompile(`(?m)(?: |\x1b\[[0-9;]*m)+$`)

// trimmed is a text without the spaces at the ends of its lines.
func trimmed(text string) string {
	return blanks.ReplaceAllStringFunc(text, func(end string) string { return strings.ReplaceAll(end, " ", "") })
}

// wrapped breaks each line of a cell.
func wrapped(cell string, columns int) []string {
	var lines []string
	for line := range strings.SplitSeq(cell, "\n") {
		lines = append(lines, wrapTo(line, max(columns, 1))...)
	}
	return lines
}

// columns works out how wide each column is: as wide as its longest word at least, and beyond that a share of what is
// left by how much it has to say.
func (p Sheet) columns(head []string, rows [][]string) (widths []int, fits bool) {
	longest, natural := make([]int, len(head)), make([]int, len(head))
	note := func(column int, cell string) {
		for line := range strings.SplitSeq(cell, "\n") {
			natural[column] = max(natural[column], columnsOf(line))
			for word := range strings.FieldsFuncSeq(line, func(r rune) bool { return r == ' ' }) { // not at a no-break space
				if columnsOf(word) <= longWord/2 {
					longest[column] = max(longest[column], columnsOf(word))
					continue
				}
				for piece := range strings.SplitAfterSeq(word, "/") { // a path or an address is broken after a slash
					longest[column] = max(longest[column], columnsOf(piece))
				}
			}
		}
	}
	for i, cell := range head {
		note(i, cell)
	}
	for _, row := range rows {
		for i, cell := range row {
			note(i, cell)
		}
	}
	left, wanted := max(MinWidth, min(p.Width, MaxTable)), 0
	for i := range longest {
		if i > 0 { // names, which stand first, stay whole
			longest[i] = min(longest[i], longWord)
		}
		left -= longest[i] + gap
		wanted += natural[i] - longest[i]
	}
	if left < 0 {
		return nil, false
	}
	for i := range longest {
		more := natural[i] - longest[i]
		if wanted > left {
			more = more * left / wanted
		}
		longest[i] += max(more, 0)
	}
	return longest, true
}

// rows writes rows as lists: the first cell, and under it the others, each after the head of its column.
func (p Sheet) rows(head []string, rows [][]string, style func(row, column int) Style) {
	for i, row := range rows {
		p.block(0, "", 0, row[0], bold)
		var parts []string
		for column := 1; column < len(row); column++ {
			cell := strings.ReplaceAll(row[column], "\n", ", ")
			if cell == "" {
				continue
			}
			if !strings.Contains(cell, " ") {
				cell = style(i, column).Render(cell)
			}
			parts = append(parts, head[column]+" "+cell)
		}
		p.block(2, "", 0, strings.Join(parts, " · "), plain)
	}
}

var verdictStyles = map[facts.Verdict]Style{
	facts.Deviates:  severityStyles[facts.High],
	facts.Differs:   severityStyles[facts.Medium],
	facts.NotJudged: severityStyles[facts.Medium],
	facts.Holds:     plain,
	facts.NoRule:    quiet,
}

// looked heads a view: whose site it is, and where was looked.
func (p Sheet) looked(r *report.Report) {
	p.title(r)
	p.block(0, "", 0, Safe(r.Words.Looked), quiet)
}

// Settings writes the settings side by side.
func Settings(p Sheet, r *report.Report, side []audit.Row) {
	p.looked(r)
	fmt.Fprintln(p)
	head := []string{"setting", "verdict", "declared", "served", "expected"}
	server := slices.ContainsFunc(side, func(row audit.Row) bool { return row.Configured != nil })
	if server {
		head = []string{"setting", "verdict", "declared", "configured", "served", "expected"}
	}
	var rows [][]string
	for _, row := range side {
		cells := []string{row.Setting, verdictText(row), declared(row), readingText(row.Served), Safe(row.Expected)}
		if server {
			cells = slices.Insert(cells, 3, configuredText(row))
		}
		rows = append(rows, cells)
	}
	p.table(head, rows, func(row, column int) Style {
		if column == 1 {
			return verdictStyles[side[row].Verdict]
		}
		return plain
	})
}

// verdictText is the verdict, with a sign where another rule could not be judged.
func verdictText(row audit.Row) string {
	if row.Differs != "" {
		text := row.Differs + ": " + Safe(row.Because)
		if row.Verdict == facts.Deviates {
			text = row.Verdict.String() + "; " + text
		}
		return text
	}
	if row.Unjudged {
		return row.Verdict.String() + "; one not judged"
	}
	return row.Verdict.String()
}

func readingText(r *facts.Reading) string {
	if r == nil {
		return ""
	}
	if text := r.Value.String(); text != "" {
		return Safe(facts.Shorten(text, 120))
	}
	return "(none)"
}

// configuredText is what the web server makes of a setting, in the words of its answer, and the line.
func configuredText(row audit.Row) string {
	r := row.Configured
	if r == nil {
		return ""
	}
	text := strings.TrimPrefix(r.Name, "answers.") + ": " + readingText(r)
	if r.Origin.Line > 0 {
		text += fmt.Sprintf("\n%s:%d", Safe(path.Base(r.Origin.File)), r.Origin.Line)
	}
	return text
}

func declared(row audit.Row) string {
	if len(row.Declared) == 0 {
		return "? " + Safe(row.Because)
	}
	var lines []string
	for i, reading := range row.Declared {
		value := Safe(facts.Shorten(reading.Value.String(), 120))
		if value == "" {
			value = "(empty)"
		}
		switch {
		case i > 0:
			value += " (overridden)"
		case reading.Origin.Default != "":
			value += " (default)"
		}
		lines = append(lines, value)
	}
	return strings.Join(lines, "\n")
}

// Rules writes the list of rules.
func Rules(p Sheet, b *baseline.Baseline) {
	var rows [][]string
	for _, rule := range b.Rules {
		rows = append(rows, []string{rule.ID, rule.Severity.Worst().String(), withoutBraces(report.WithLimits(b, rule.Expected))})
	}
	p.table([]string{"rule", "severity", "expected"}, rows, func(row, column int) Style {
		if column == 1 && row < len(rows) {
			return severityStyles[b.Rules[row].Severity.Worst()]
		}
		return plain
	})
}

// withoutBraces is a message whose expressions cannot be worked out without a site.
func withoutBraces(text string) string { return strings.NewReplacer("{", "", "}", "").Replace(text) }

// A RuleSummary is a rule as the list of rules has it in JSON.
type RuleSummary struct {
	Rule     string         `json:"rule"`
	Area     string         `json:"area"`
	Severity facts.Severity `json:"severity"` // the worst it may have
	Expected string         `json:"expected"`
	Why      string         `json:"why"`
	Cites    []string       `json:"cites"`
}

// RuleList lists the rules for JSON.
func RuleList(b *baseline.Baseline) []RuleSummary {
	list := []RuleSummary{}
	for _, r := range b.Rules {
		list = append(list, RuleSummary{r.ID, r.Area, r.Severity.Worst(), r.Expected, r.Why, r.Cites})
	}
	return list
}
