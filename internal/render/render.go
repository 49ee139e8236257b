// Package render puts results into words: for people in a terminal, for programs as JSON. One file is one form.
//
// Everything that comes from a site is untrusted here: what goes to a terminal is escaped. The package may import
// audit, baseline and facts, and looks at nothing but what it is handed.
package render

import (
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"

	"weltaxis/internal/facts"
	"weltaxis/internal/secrets"
)

// A Sheet is where text goes: a writer that takes colour away where it is not wanted, and a width in columns.
type Sheet struct {
	io.Writer
	Width int
}

// The widths that text is laid out for; a terminal that is wider or narrower gets the nearest.
const (
	MinWidth = 40
	MaxWidth = 120
)

// MaxTable is how wide a table gets, which is not read line by line.
const MaxTable = 160

func (p Sheet) width() int { return max(MinWidth, min(p.Width, MaxWidth)) }

// The sixteen colours of the terminal's own palette, which its owner has made readable; nothing is told by colour
// alone.
var (
	plain = Style{}
	bold  = plain.bold()
	quiet = plain.in(ansi.BrightBlack)
	title = plain.bold().in(ansi.Blue)

	severityStyles = map[facts.Severity]Style{
		facts.Critical: plain.bold().reverse().in(ansi.Magenta),
		facts.High:     plain.bold().in(ansi.Magenta),
		facts.Medium:   plain.in(ansi.Magenta),
		facts.Low:      plain.in(ansi.Blue),
		facts.Note:     quiet,
	}
)

// Safe is text from a site for a terminal, without what looks like a secret, and escaped.
func Safe(text string) string { return escaped(secrets.Shown(text)) }

// escaped is text whose control characters, what turns the direction of writing, and bytes that are no UTF-8 are shown as \xNN or \u{NNNN},
// line ends as ⏎.
func escaped(text string) string {
	clean := func(r rune) bool { return r != utf8.RuneError && unicode.IsPrint(r) || r == ' ' || r == '\u00a0' }
	if !strings.ContainsFunc(text, func(r rune) bool { return !clean(r) }) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case r == '\n':
			b.WriteString("⏎")
		case clean(r) || r == utf8.RuneError:
			b.WriteRune(r)
		case r < 0x80:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u{%04x}`, r)
		}
		i += size
	}
	return b.String()
}

// columnsOf is how many columns a text takes.
func columnsOf(text string) int { return ansi.StringWidth(text) }

// cut shortens a text to so many columns.
func cut(text string, columns int) string { return ansi.Truncate(text, max(columns, 1), "…") }

// wrap breaks text into lines of at most columns columns, at spaces. A word that is longer than a line is broken after
// a slash where there is one, since such words are paths and addresses, and else where the line ends.
func wrap(text string, columns int) []string { return wrapTo(text, max(columns, 10)) }

// wrapTo is that in a column, however narrow.
func wrapTo(text string, columns int) []string {
	var lines []string
	line, taken := "", 0
	for _, word := range strings.Split(text, " ") {
		w := columnsOf(word)
		if line != "" && taken+1+w > columns {
			lines, line, taken = append(lines, strings.TrimRight(line, " ")), "", 0
		}
		for w > columns {
			at := breakAfter(word, columns)
			lines, word = append(lines, word[:at]), word[at:]
			w = columnsOf(word)
		}
		if line != "" {
			line += " "
			taken++
		}
		line, taken = line+word, taken+w
	}
	return append(lines, strings.TrimRight(line, " "))
}

// breakAfter is where a word that is too long is broken, in bytes.
func breakAfter(word string, columns int) int {
	head := ansi.Truncate(word, columns, "")
	if slash := strings.LastIndexByte(head, '/'); slash > 0 {
		return slash + 1
	}
	return max(len(head), 1)
}

// block writes lines under a margin; the first line has a label in it.
func (p Sheet) block(margin int, label string, labelWidth int, text string, style Style) {
	for i, line := range wrap(text, p.width()-margin-labelWidth) {
		if i > 0 {
			label = ""
		}
		fmt.Fprintf(p, "%s%s%s\n", strings.Repeat(" ", margin), quiet.Render(pad(label, labelWidth)), style.Render(line))
	}
}

func pad(text string, columns int) string {
	return text + strings.Repeat(" ", max(0, columns-columnsOf(text)))
}

// line draws a rule across the page, with a word in it.
func (p Sheet) line(word string) {
	rest := p.width() - columnsOf(word) - 1
	fmt.Fprintf(p, "%s %s\n", title.Render(word), quiet.Render(strings.Repeat("─", max(rest, 0))))
}
