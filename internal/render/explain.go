package render

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// ExplainRule writes what a rule is about: what ought to hold, why, how it is judged, how it is put right, and
// where it comes from.
func ExplainRule(p Sheet, b *baseline.Baseline, r *baseline.Rule) {
	const label = 11
	fmt.Fprintln(p, bold.Render(r.ID))
	fmt.Fprintln(p)
	p.block(0, "expected", label, fillLimits(b, r.Expected), plain)
	p.block(0, "why", label, r.Why, plain)
	p.block(0, "severity", label, severities(r), plain)
	if r.Each != "" {
		p.block(0, "for each", label, strings.Replace(r.Each, " as ", ", called ", 1), plain)
	}
	if r.When.Source != "" {
		p.block(0, "applies if", label, oneLine(r.When.Source), plain)
	}
	p.block(0, "holds if", label, oneLine(r.Holds.Source), plain)
	for _, name := range r.LimitNames() {
		p.block(0, "limit", label, fmt.Sprintf("limits.%s is %s: %s", name, b.Limits[name].Value, b.Limits[name].Means), plain)
	}
	p.explainFix(r, label)
	if len(r.Covers) > 0 {
		p.block(0, "settles", label, list(r.Covers)+", when the cause is the same", plain)
	}
	for _, cite := range r.Cites {
		p.block(0, "source", label, cite, plain)
	}
	if r.CWE > 0 {
		p.block(0, "weakness", label, fmt.Sprintf("CWE-%d", r.CWE), plain)
	}
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// fillLimits puts limits into a text; what depends on the site stays in braces.
func fillLimits(b *baseline.Baseline, text string) string {
	for name, limit := range b.Limits {
		text = strings.ReplaceAll(text, "{limits."+name+"}", limit.Value.String())
	}
	return text
}

func severities(r *baseline.Rule) string {
	var parts []string
	for _, c := range r.Severity {
		if c.If.Source != "" {
			parts = append(parts, c.Is.String()+" if "+oneLine(c.If.Source))
			continue
		}
		parts = append(parts, c.Is.String())
	}
	return strings.Join(parts, ", else ")
}

func (p Sheet) explainFix(r *baseline.Rule, label int) {
	for _, line := range r.Fix.Lines() {
		p.block(0, "fix", label, line, plain)
	}
	p.block(0, "risk", label, strings.TrimPrefix(riskText(r.Fix.Risk, r.Noticed()), "fix "), plain)
}

// A Spelling says where one dialect keeps a setting.
type Spelling struct {
	Dialect, Place, Default, Screen string
}

// typeWords say what a type means to somebody who sets one.
var typeWords = map[facts.Type]string{
	facts.String: "text", facts.Bool: "yes or no", facts.Int: "a whole number", facts.Duration: "a time such as 30m or 8h",
	facts.Size: "a size such as 8M", facts.Zone: "a time zone such as Europe/London", facts.Mail: "a mail address",
	facts.URL: "an address", facts.Pattern: "a text with {placeholders}", facts.Date: "a date such as 2027-03-31",
	facts.Version: "a version", facts.List: "a list of texts", facts.Secret: "a secret: only its length is ever read",
}

// ExplainSetting writes what a setting means, which rules look at it and how dialects spell it.
func ExplainSetting(p Sheet, entry facts.Term, rules []string, spellings []Spelling) {
	const label = 11
	fmt.Fprintln(p, bold.Render(strings.TrimPrefix(entry.Name, facts.Settings.All())))
	fmt.Fprintln(p)
	p.block(0, "means", label, entry.Meaning, plain)
	kind := typeWords[entry.Type]
	if len(entry.Words) > 0 {
		kind = "one of " + list(entry.Words)
	}
	p.block(0, "type", label, kind, plain)
	if len(rules) > 0 {
		p.block(0, "rules", label, list(rules), plain)
	}
	for _, s := range spellings {
		p.block(0, "in "+s.Dialect, label, s.Place, plain)
		if s.Default != "" {
			p.block(0, "", label, "when not set: "+s.Default, plain)
		}
		if s.Screen != "" {
			p.block(0, "", label, "by hand: "+s.Screen, plain)
		}
	}
}

// A Step is a command to try, and what it does.
type Step struct{ Does, Command string }

// TryNext lists commands to try.
func TryNext(p Sheet, steps []Step) {
	fmt.Fprintln(p)
	p.line("try next")
	for _, s := range steps {
		fmt.Fprintf(p, "%s\n  %s\n", quiet.Render(s.Does), Safe(s.Command))
	}
}

// Served says where the demo's sites answer, and what to try on them.
func Served(p Sheet, dir string, folders []string, connect func(folder string) map[string]string, steps []Step) {
	p.block(0, "", 0, "Serving the demo in "+Safe(dir)+" until interrupted (Ctrl-C).", bold)
	for _, folder := range folders {
		addresses := slices.Compact(slices.Sorted(maps.Values(connect(folder))))
		p.block(0, folder, 24, "on "+strings.Join(addresses, " and "), plain)
	}
	p.block(0, "", 0, "The site files say so too, as long as it goes on.", quiet)
	TryNext(p, steps)
}
