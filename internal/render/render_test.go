package render

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/report"
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

// lay renders a report without colour at a width.
func lay(r *report.Report, width int, detail Detail) string {
	var out bytes.Buffer
	Text(Sheet{&out, width}, r, detail)
	return ansi.Strip(out.String())
}

func sample() *report.Report {
	return &report.Report{
		Result: &audit.Result{Site: "A \x1b[2J", Stage: "live", Taken: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)},
		Words: report.Words{There: "It answers.", Looked: "Looked at settings in ./site.", Stands: "1 high and 1 low; 0 of 2 rules hold.",
			First: []report.First{{Rule: "titles.site-own", Says: "It says “\x07”.", Do: "mend it", After: []string{"a.b", "a.c", "a.d", "a.e", "a.f"}}},
			Entries: []report.Entry{
				{Rule: "titles.site-own", Area: "titles", Severity: facts.High, Risk: facts.Visible, Noticed: []facts.Who{facts.Visitors, facts.Engines}, Count: 1, Says: []string{"It says “\x07”."},
					Readings: []report.Line{{Source: facts.Settings, Said: "site.title: " + strings.Repeat("long ", 60), Place: strings.Repeat("a/", 60) + "x.php, line 1"}},
					All:      []report.Line{{Source: facts.Settings, Said: "all of it", Place: "b.php"}}, Expected: "another", Fix: []string{"mend it", "Look again."},
					ByHand: []string{"Screen: Box"}, Settles: []string{"titles.two"}, Why: "it may break", Lasting: true},
				{Rule: "hardening.admin-name", Area: "hardening", Severity: facts.Low, Risk: facts.Safe, Count: 7, Says: []string{"The account “a”. The same: b."}, Expected: "e", Fix: []string{"mend it"}},
			},
			Unseen:   []report.Unseen{{Because: "nobody \x1b[1m said", Rules: []string{"titles.three", "titles.four"}}},
			Lacking:  "2 rules could be judged with live.",
			Accepted: []report.Accepted{{Rule: "titles.five", Says: "It is long.", Because: "we like it", Until: "2027-01-31"}},
			Astray:   []string{"titles.six is accepted for x, and nothing deviates there."}, Fixable: true,
		},
	}
}

func TestTextKeepsToItsWidthAndEscapes(t *testing.T) {
	for _, detail := range []Detail{Usual, Brief, Full} {
		for _, width := range []int{20, 60, 80, 120, 300} {
			text := lay(sample(), width, detail)
			for line := range strings.Lines(text) {
				assert.LessOrEqual(t, ansi.StringWidth(strings.TrimRight(line, "\n")), max(MinWidth, min(width, MaxWidth)), line)
				assert.Equal(t, strings.TrimRight(line, " \n"), strings.TrimRight(line, "\n"), "nothing stands at the end of a line")
			}
			assert.NotContains(t, text, "\x07")
			assert.Contains(t, text, `\x1b[2J`)
		}
	}
}

func TestDetails(t *testing.T) {
	usual, brief, full := lay(sample(), 80, Usual), lay(sample(), 80, Brief), lay(sample(), 80, Full)
	for _, said := range []string{"fix visible: visitors and engines, lasting", "fix safe: nobody", "admin-name ×7", "mend it. Look again (settles 1 more)", "2 rules: nobody", "after a.b, a.c, a.d and 2 more",
		"titles.five until 2027-01-31, because we like it: It is long.", "titles.six is accepted for x"} {
		assert.Contains(t, strings.Join(strings.Fields(usual), " "), said)
	}
	for _, said := range []string{"Screen: Box", "titles.three", "all of it", "it may break"} {
		assert.NotContains(t, usual, said)
		assert.Contains(t, full, said)
	}
	assert.Regexp(t, `(?m)^ high      titles.site-own +It says “\\x07”\.$`, brief)
	assert.NotContains(t, brief, "expected")
}

func TestWordsStayWhole(t *testing.T) {
	assert.Equal(t, []string{"run openssl rand", "-hex 32 now"}, wrap("run openssl rand -hex 32 now", 16))
	assert.Equal(t, []string{"in", "a/folder/with/a/", "long/name.php", "there"}, wrap("in a/folder/with/a/long/name.php there", 18))
	assert.Equal(t, []string{"abcdefghij", "klm"}, wrap("abcdefghijklm", 10))
	assert.Equal(t, []string{"漢漢漢漢漢", "漢"}, wrap("漢漢漢漢漢漢", 10))
	assert.Equal(t, []string{""}, wrap("", 10))
}

func TestJSONIsHarmless(t *testing.T) {
	var out bytes.Buffer
	in := []string{"a\u202eb", "\x1b[2J\u009b", "<ä漢>\n", `\`, "\U000e0041"}
	require.NoError(t, JSON(&out, in))
	assert.NotContains(t, out.String(), "\u202e")
	assert.Contains(t, out.String(), "<ä漢>")
	assert.Contains(t, out.String(), `\u202e`)
	var back []string
	require.NoError(t, json.Unmarshal(out.Bytes(), &back))
	assert.Equal(t, in, back)
}
