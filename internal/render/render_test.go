package render

import (
	"bytes"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

func TestSafe(t *testing.T) {
	for in, want := range map[string]string{
		"plain, “quoted” ä 漢": "plain, “quoted” ä 漢", "a\nb": "a⏎b", "a\tb": `a\x09b`, "\x1b[31m": `\x1b[31m`, "a\xffb": `a\xffb`,
		"\u202eevil": `\u{202e}evil`, "\u0085": `\u{0085}`, "zero\u200bwidth": `zero\u{200b}width`, "a\u00a0b": "a\u00a0b", "\u2028": `\u{2028}`, "": "",
	} {
		assert.Equal(t, want, Safe(in))
	}
}

func FuzzSafe(f *testing.F) {
	f.Add("a\x1b]0;x\x07")
	f.Fuzz(func(t *testing.T, text string) {
		for _, r := range Safe(text) {
			if unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) {
				t.Fatalf("%q lets %U through", text, r)
			}
		}
	})
}

// lay renders a result without colour at a width.
func lay(r *audit.Result, width int) string {
	var out bytes.Buffer
	Text(Sheet{&out, width}, r)
	return ansi.Strip(out.String())
}

func sample() *audit.Result {
	reading := func(source facts.Source, name, value, file string) facts.Reading {
		return facts.Reading{Source: source, Name: name, Value: facts.TextOf(facts.String, value), Origin: facts.Origin{File: file, Line: 1}}
	}
	none := facts.Proposal{Kind: facts.KindSteps, Risk: facts.Safe, Steps: []string{"mend it"}}
	r := &audit.Result{Site: "A \x1b[2J", Stage: "live", Taken: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), Counts: map[facts.Severity]int{facts.High: 1},
		Snapshot: &facts.Snapshot{}, Rules: &baseline.Baseline{}, Sources: []facts.Asked{{Source: facts.Settings, Where: "./site"}}}
	r.Deviations = append(r.Deviations, facts.Deviation{Rule: "titles.site-own", Area: "titles", Severity: facts.High, Subject: "site", Says: "It says “\x07”.", Expected: "e",
		Readings: []facts.Reading{reading(facts.Settings, "site.title", strings.Repeat("long ", 60), "a.php"), reading(facts.Settings, "site.title", "", "b.php")}, Fix: none})
	for i := range 6 {
		name := string(rune('a' + i))
		r.Deviations = append(r.Deviations, facts.Deviation{Rule: "hardening.admin-name", Area: "hardening", Severity: facts.Low, Subject: name, Says: "The account “" + name + "”.", Expected: "e",
			Readings: []facts.Reading{reading(facts.Settings, "accounts.name", name, name+".db"), reading(facts.Intent, "brand", "B", "w.yaml")}, Fix: none})
	}
	return r
}

func TestTextKeepsToItsWidthAndEscapes(t *testing.T) {
	for _, width := range []int{20, 60, 80, 120, 300} {
		text := lay(sample(), width)
		for line := range strings.Lines(text) {
			assert.LessOrEqual(t, ansi.StringWidth(strings.TrimRight(line, "\n")), max(MinWidth, min(width, MaxWidth)), line)
		}
		assert.NotContains(t, text, "\x07")
		assert.Contains(t, text, `\x1b[2J`)
	}
}

func TestTheSameDeviationManyTimesIsOneEntry(t *testing.T) {
	text := lay(sample(), 80)
	assert.Equal(t, 1, strings.Count(text, "hardening.admin-name"))
	assert.Contains(t, text, "and 3 more")
	assert.Equal(t, 1, strings.Count(text, "brand: B"), "what the intent says is the same for all of them")
	assert.Equal(t, 2, strings.Count(text, "mend it"), "one step an entry")
	assert.Contains(t, text, "(empty)")
	assert.Contains(t, text, "overridden by the line above")
}

func TestModesAreShownAsCommandsASafeShellTakes(t *testing.T) {
	for path, want := range map[string]string{
		"config.php": "chmod 0440 config.php", "my site/it's.php": `chmod 0440 'my site/it'"'"'s.php'`, "-rf": "chmod 0440 ./-rf",
		"new\nline": `its name needs typing with care`,
	} {
		m := facts.ModeTarget{From: facts.NumberOf(facts.Mode, 0o666), To: facts.NumberOf(facts.Mode, 0o440), Origin: facts.Origin{Path: path, Count: 1}}
		assert.Contains(t, modeText(m), want)
	}
}

func TestCountsAndLists(t *testing.T) {
	assert.Equal(t, "1 rule", count(1, "rule", "rules"))
	assert.Equal(t, "2 rules", count(2, "rule", "rules"))
	assert.Equal(t, "a, b and c", list([]string{"a", "b", "c"}))
	assert.Equal(t, "", list(nil))
}
