package render

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// A Style is how a text looks on a terminal: bold, reversed, in one of the sixteen colours. The empty one is plain.
type Style struct{ codes ansi.Style }

func (s Style) bold() Style    { return Style{s.codes[:len(s.codes):len(s.codes)].Bold()} }
func (s Style) reverse() Style { return Style{s.codes[:len(s.codes):len(s.codes)].Reverse(true)} }
func (s Style) in(colour ansi.BasicColor) Style {
	return Style{s.codes[:len(s.codes):len(s.codes)].ForegroundColor(colour)}
}

// Render is a text in the style, line by line.
func (s Style) Render(text string) string {
	if len(s.codes) == 0 || text == "" {
		return text
	}
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if line != "" {
			lines[i] = s.codes.Styled(line)
		}
	}
	return strings.Join(lines, "\n")
}

// framed draws a frame with round corners around lines, each made as wide as it.
func framed(lines []string, columns int) string {
	rule := strings.Repeat("─", columns)
	var b strings.Builder
	b.WriteString(quiet.Render("╭"+rule+"╮") + "\n")
	for _, line := range lines {
		b.WriteString(quiet.Render("│") + pad(line, columns) + quiet.Render("│") + "\n")
	}
	b.WriteString(quiet.Render("╰" + rule + "╯"))
	return b.String()
}

// centred is a text in the middle of so many columns.
func centred(text string, columns int) string {
	before := max(0, columns-columnsOf(text)) / 2
	return pad(strings.Repeat(" ", before)+text, columns)
}
