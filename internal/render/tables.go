package render

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// table writes rows under a head, each cell wrapped to fit the page.
func (p Sheet) table(head []string, rows [][]string, style func(row, column int) lipgloss.Style) {
	t := table.New().Headers(head...).Rows(rows...).Width(p.width()).Wrap(true).
		Border(lipgloss.NormalBorder()).BorderStyle(quiet).
		BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(false).
		StyleFunc(func(row, column int) lipgloss.Style {
			if row == table.HeaderRow {
				return quiet.PaddingRight(2)
			}
			return style(row, column).PaddingRight(2)
		})
	fmt.Fprintln(p, t.String())
}

var verdictStyles = map[facts.Verdict]lipgloss.Style{
	facts.Deviates:  severityStyles[facts.High],
	facts.NotJudged: severityStyles[facts.Medium],
	facts.Holds:     plain,
	facts.NoRule:    quiet,
}

// Settings writes the settings side by side.
func Settings(p Sheet, r *audit.Result, side []audit.Row) {
	p.head(r)
	fmt.Fprintln(p)
	var rows [][]string
	for _, row := range side {
		rows = append(rows, []string{row.Setting, declared(row), servedText(row), Safe(row.Expected), row.Verdict.String()})
	}
	p.table([]string{"setting", "declared", "served", "expected", "verdict"}, rows, func(row, column int) lipgloss.Style {
		if column == 4 {
			return verdictStyles[side[row].Verdict]
		}
		return plain
	})
}

func servedText(row audit.Row) string {
	if row.Served == nil {
		return ""
	}
	if text := row.Served.Value.String(); text != "" {
		return Safe(facts.Shorten(text, 120))
	}
	return "(none)"
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

// Files writes the tree in classes.
func Files(p Sheet, r *audit.Result) {
	p.head(r)
	fmt.Fprintln(p)
	tree := r.Tree()
	var rows [][]string
	for _, row := range tree {
		expected := Safe(row.Expected)
		if expected == "" {
			expected = "as it is"
		}
		rows = append(rows, []string{row.Role + " " + row.Kind, map[bool]string{true: "yes", false: "no"}[row.Public], row.Mode, Safe(row.Owner + ":" + row.Group), fmt.Sprint(row.Count), expected, Safe(row.Paths[0])})
	}
	p.table([]string{"role and kind", "served", "mode", "owner", "count", "expected", "the first of them"}, rows, func(row, column int) lipgloss.Style {
		if column == 5 && row < len(tree) && tree[row].Expected != "" {
			return verdictStyles[facts.Deviates]
		}
		return plain
	})
}

// Rules writes the list of rules.
func Rules(p Sheet, b *baseline.Baseline) {
	var rows [][]string
	for _, rule := range b.Rules {
		rows = append(rows, []string{rule.ID, rule.Severity.Worst().String(), withoutBraces(fillLimits(b, rule.Expected))})
	}
	p.table([]string{"rule", "severity", "expected"}, rows, func(row, column int) lipgloss.Style {
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
