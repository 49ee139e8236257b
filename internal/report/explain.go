package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/nearest"
)

// An Explanation says in plain words what a name is about, and how it stands at a site.
type Explanation struct {
	Name  string `json:"name"`
	Kind  string `json:"kind"` // topic, rule, setting, name, list, field, area, limit or function
	Parts []Part `json:"parts"`
	Here  []Part `json:"here"` // at the site that was asked about; empty without one
}

// A Part is one thing that is said, with a label.
type Part struct {
	Label string `json:"label"`
	Says  string `json:"says"`
}

func (e *Explanation) say(label, format string, args ...any) {
	e.Parts = append(e.Parts, Part{label, fmt.Sprintf(format, args...)})
}

func (e *Explanation) here(label, format string, args ...any) {
	e.Here = append(e.Here, Part{label, fmt.Sprintf(format, args...)})
}

// Robots is the topic of what search engines may do.
const Robots = "robots"

// Explain says what a name is about; the baseline is compiled. With a result it says how that stands at the site. The
// error is that of a name that nothing goes by.
func Explain(b *baseline.Baseline, name string, r *audit.Result) (*Explanation, error) {
	if row, is := facts.RuntimeFieldOf(name); is && name == row.Directive {
		name = facts.Runtime.Name(row.Name)
	}
	switch name {
	case Cache:
		return explainCache(), nil
	case Access:
		return explainAccess(), nil
	}
	for _, explain := range []func(*baseline.Baseline, string, *audit.Result) (*Explanation, error){robots, explainRule, explainArea, explainLimit, explainList, explainTerm, explainFunction} {
		if e, err := explain(b, name, r); e != nil || err != nil {
			if e != nil && e.Here == nil {
				e.Here = []Part{}
			}
			return e, err
		}
	}
	return nil, fmt.Errorf("nothing is called %q%s; weltaxis baseline list lists the rules, and docs/vocabulary.md the names", name, nearest.Hint(name, Explained(b)))
}

// Explained lists every name that Explain knows, settings without their source.
func Explained(b *baseline.Baseline) []string {
	names := []string{Robots, Cache, Access}
	names = append(names, b.IDs()...)
	names = append(names, baseline.Areas...)
	for _, t := range facts.Catalogue() {
		names = append(names, strings.TrimPrefix(t.Name, facts.Settings.All()))
	}
	for _, row := range facts.RuntimeFields {
		names = append(names, row.Directive)
	}
	for list, fields := range facts.Lists {
		names = append(names, list)
		for _, f := range fields {
			names = append(names, list+"."+f.Name)
		}
	}
	for limit := range b.Limits {
		names = append(names, "limits."+limit)
	}
	for function := range baseline.Functions {
		names = append(names, function)
	}
	slices.Sort(names)
	return names
}

func explainRule(b *baseline.Baseline, name string, r *audit.Result) (*Explanation, error) {
	rule, known := b.Rule(name)
	if !known {
		return nil, nil
	}
	e := &Explanation{Name: rule.ID, Kind: "rule"}
	e.say("expected", "%s", WithLimits(b, rule.Expected))
	e.say("why", "%s", rule.Why)
	e.say("severity", "%s", severities(rule))
	if rule.Harm != 0 {
		e.say("harm", "%s", rule.Harm)
	}
	if rule.Each != "" {
		e.say("for each", "%s", strings.Replace(rule.Each, " as ", ", called ", 1))
	}
	if rule.When.Source != "" {
		e.say("applies if", "%s", oneLine(rule.When.Source))
	}
	e.say("holds if", "%s", oneLine(rule.Holds.Source))
	for _, limit := range rule.LimitNames() {
		e.say("limit", "limits.%s is %s: %s", limit, b.Limits[limit].Value, b.Limits[limit].Means)
	}
	for i := range rule.Fix {
		e.fix(&rule.Fix[i])
	}
	if len(rule.Covers) > 0 {
		e.say("settles", "%s, when the cause is the same", List(rule.Covers))
	}
	for _, cite := range rule.Cites {
		e.say("source", "%s", cite)
	}
	if rule.CWE > 0 {
		e.say("weakness", "CWE-%d", rule.CWE)
	}
	if r != nil {
		e.verdict(r, rule.ID)
	}
	return e, nil
}

// fix says what a fix does, when it is the one that fits, and who notices.
func (e *Explanation) fix(f *baseline.Fix) {
	if f.If.Source != "" {
		e.say("where", "%s", oneLine(f.If.Source))
	}
	for _, line := range f.Lines() {
		e.say("fix", "%s", line)
	}
	who := "nobody"
	if noticed := f.WhoNotices(); len(noticed) > 0 {
		var words []string
		for _, w := range noticed {
			words = append(words, w.String())
		}
		who = List(words)
	}
	e.say("risk", "%s: noticed by %s", f.Risk, who)
}

// verdict says how a rule stands at the site.
func (e *Explanation) verdict(r *audit.Result, rule string) {
	e.here("verdict", "%s", r.VerdictOf(rule))
	for _, d := range r.Deviations {
		if d.Rule == rule {
			e.here("says", "%s", d.Says)
		}
	}
	for _, c := range r.Covered {
		if c.Rule == rule {
			e.here("says", "%s (settled with %s)", c.Deviation.Says, c.By)
		}
	}
	for _, n := range r.NotJudged {
		if n.Rule == rule {
			e.here("because", "%s", n.Because)
		}
	}
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// WithLimits puts limits into a text; what depends on the site stays in braces.
func WithLimits(b *baseline.Baseline, text string) string {
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

func explainArea(b *baseline.Baseline, name string, r *audit.Result) (*Explanation, error) {
	if !slices.Contains(baseline.Areas, name) {
		return nil, nil
	}
	e := &Explanation{Name: name, Kind: "area"}
	if about := b.About(name); about != "" {
		e.say("about", "%s", about)
	}
	var rules []string
	for _, rule := range b.Rules {
		if rule.Area == name {
			rules = append(rules, rule.ID)
		}
	}
	if len(rules) == 0 {
		e.say("rules", "there are none in this area yet")
		return e, nil
	}
	e.say("rules", "%s", List(rules))
	if r != nil {
		of := map[facts.Verdict][]string{}
		for _, rule := range rules {
			of[r.VerdictOf(rule)] = append(of[r.VerdictOf(rule)], rule)
		}
		for _, v := range []facts.Verdict{facts.Deviates, facts.Holds, facts.NotJudged, facts.NotApplicable} {
			if len(of[v]) > 0 {
				e.here(v.String(), "%s", List(of[v]))
			}
		}
	}
	return e, nil
}

func explainLimit(b *baseline.Baseline, name string, r *audit.Result) (*Explanation, error) {
	short := strings.TrimPrefix(name, "limits.")
	limit, known := b.Limits[short]
	if !known {
		return nil, nil
	}
	e := &Explanation{Name: "limits." + short, Kind: "limit"}
	e.say("means", "%s", limit.Means)
	e.say("type", "%s", typeWords[limit.Value.Type()])
	e.say("value", "%s", limit.Value)
	var rules []string
	for _, rule := range b.Rules {
		if slices.Contains(rule.LimitNames(), short) {
			rules = append(rules, rule.ID)
		}
	}
	e.say("rules", "%s", List(rules))
	e.say("to change", "a line of the site file, under limits: {%s: ...}", short)
	if r != nil {
		e.here("value", "%s", r.Rules.Limits[short].Value)
	}
	return e, nil
}

func explainList(b *baseline.Baseline, name string, r *audit.Result) (*Explanation, error) {
	full := name
	if _, known := facts.Lists[full]; !known {
		full = facts.Settings.Name(name)
	}
	fields, known := facts.Lists[full]
	if !known {
		return nil, nil
	}
	e := &Explanation{Name: full, Kind: "list"}
	for _, f := range fields {
		e.say(f.Name, "%s (%s)", f.Meaning, typeWords[f.Type])
	}
	e.say("in rules", "each: %s as item; then item.%s", full, fields[0].Name)
	e.say("rules", "%s", orNone(mentioning(b, func(rule *baseline.Rule) bool { return strings.HasPrefix(rule.Each, full+" as ") })))
	if r != nil {
		items, seen := r.Snapshot.Items(full)
		if !seen {
			e.here("seen", "no: %s", r.Snapshot.Why(full))
			return e, nil
		}
		var subjects []string
		without := []*facts.Shadowed{}
		for item := range items {
			subjects = append(subjects, item.Subject())
			if s, is := item.(*facts.Shadowed); is {
				without = append(without, s)
			}
		}
		e.here("seen", "%d", len(subjects))
		for _, s := range without {
			e.here("no effect", "%s: %s; see %s", s.Subject(), s.Because, s.By)
		}
		if len(subjects) > 0 && len(without) == 0 {
			e.here("such as", "%s", List(FirstFew(subjects)))
		}
	}
	return e, nil
}

func mentioning(b *baseline.Baseline, is func(*baseline.Rule) bool) []string {
	var rules []string
	for _, rule := range b.Rules {
		if is(rule) {
			rules = append(rules, rule.ID)
		}
	}
	return rules
}

func orNone(rules []string) string {
	if len(rules) == 0 {
		return "none"
	}
	return List(rules)
}

// typeWords say what a type means to somebody who sets one.
var typeWords = map[facts.Type]string{
	facts.String: "text", facts.Bool: "yes or no", facts.Int: "a whole number", facts.Duration: "a time such as 30m or 8h",
	facts.Size: "a size such as 8M", facts.Zone: "a time zone such as Europe/London", facts.Mail: "a mail address",
	facts.URL: "an address", facts.Pattern: "a text with {placeholders}", facts.Date: "a date such as 2027-03-31",
	facts.Version: "a version", facts.List: "a list of texts", facts.Secret: "a secret: only its length is ever read",
	facts.Words: "one of a few words", facts.Mode: "permissions in octal digits, such as 0644",
}

// termNamed finds a term by its full name or, of a setting, without the source; a field of a list by both in full.
func termNamed(name string) (term facts.Term, prefix string, known bool) {
	for _, p := range []string{"factory.", "absent."} {
		if bare, is := strings.CutPrefix(name, p); is {
			name, prefix = bare, p
		}
	}
	name = strings.TrimSuffix(name, ".length")
	if term, known = facts.Lookup(name); !known {
		term, known = facts.Setting(name)
	}
	return term, prefix, known
}

func explainTerm(b *baseline.Baseline, name string, r *audit.Result) (*Explanation, error) {
	term, prefix, known := termNamed(name)
	if !known {
		return nil, nil
	}
	e := &Explanation{Name: strings.TrimPrefix(term.Name, facts.Settings.All()), Kind: "name"}
	switch list := listOf(term.Name); {
	case list != "":
		e.Kind = "field"
	case term.Source == facts.Settings:
		e.Kind = "setting"
	}
	means := term.Meaning
	switch prefix {
	case "factory.":
		e.Name, means = prefix+e.Name, "yes when this has a value that the install came with: "+means
	case "absent.":
		e.Name, means = prefix+e.Name, "yes when it is known that nothing is set: "+means
	}
	e.say("means", "%s", means)
	kind := typeWords[term.Type]
	if prefix != "" {
		kind = typeWords[facts.Bool]
	} else if len(term.Words) > 0 {
		kind = "one of " + List(term.Words)
	}
	e.say("type", "%s", kind)
	e.say("told by", "%s", map[bool]string{true: "the site file", false: "the " + term.Source.String() + " source"}[term.Source == facts.Intent])
	if term.Unsaid.Type() != "" {
		e.say("unsaid", "%s", emptyOr(term.Unsaid.String()))
	}
	rules := mentioning(b, func(rule *baseline.Rule) bool { return slices.Contains(rule.Mentions(), term.Name) })
	if len(rules) > 0 {
		e.say("rules", "%s", List(rules))
	}
	if term.Source != facts.Settings || e.Kind == "field" || prefix != "" {
		row, directive := facts.RuntimeFieldOf(term.Name)
		if directive {
			e.say("set in", "%s", row.Set)
		}
		e.chain(r, term)
		if directive && r != nil {
			e.folders(r, row)
		}
		return e, nil
	}
	if why := term.Danger; why != "" {
		e.say("take care", "%s", why)
	}
	if term.Markup != "" {
		e.say("in pages", "%s", strings.Join(strings.Split(strings.ReplaceAll(term.Markup, "{value}", "…"), "|"), "; or "))
	}
	if err := e.spellings(e.Name); err != nil {
		return nil, err
	}
	e.chain(r, term)
	return e, nil
}

// folders says where in the site the runtime has been told something else than in its root.
func (e *Explanation) folders(r *audit.Result, row facts.RuntimeField) {
	for i := range r.Snapshot.Folders {
		f := &r.Snapshot.Folders[i]
		if !slices.Contains(f.Own, row.Name) {
			continue
		}
		if v, known := f.Field(row.Name); known {
			e.here("in "+f.Address, "%s, in %s", emptyOr(v.String()), f.OriginOf(row.Name))
		} else {
			why := f.Why(row.Name)
			e.here("in "+f.Address, "it cannot be told: %s (%s)", why.Because, why.Origin)
		}
	}
}

func emptyOr(text string) string {
	if text == "" {
		return "nothing"
	}
	return text
}

// listOf is the list that a field belongs to, "" for what is none.
func listOf(name string) string {
	for list := range facts.Lists {
		if strings.HasPrefix(name, list+".") {
			return list
		}
	}
	return ""
}

// spellings says where each shipped dialect keeps a setting.
func (e *Explanation) spellings(name string) error {
	for _, shipped := range dialect.Shipped() {
		d, err := dialect.Load(shipped, "")
		if err != nil {
			return err
		}
		s, mapped := d.Settings[name]
		if !mapped {
			continue
		}
		place := strings.Join(s.Places(), ", else ")
		if s.Query != "" {
			place = s.Query
		}
		e.say("in "+shipped, "%s", place)
		if s.Default != nil {
			e.say("", "when not set: %s", emptyOr(string(*s.Default)))
		}
		if s.Screen != "" {
			e.say("", "by hand: %s", s.Screen)
		}
	}
	return nil
}

// chain is every reading of a name at the site, the effective one first, what shows it, and what the rules say.
func (e *Explanation) chain(r *audit.Result, term facts.Term) {
	if r == nil || listOf(term.Name) != "" {
		return
	}
	readings := r.Snapshot.All(term.Name)
	if len(readings) == 0 {
		e.here("seen", "no: %s", r.Snapshot.Why(term.Name))
	}
	if term.ShownBy != nil {
		readings = append(slices.Clone(readings), r.Snapshot.All(term.ShownBy.Name)...)
	}
	for _, l := range lines(readings, "", true) {
		e.here(l.Source.String(), "%s, in %s", l.Said, l.Place)
	}
	for _, row := range r.SideBySide(false) {
		if term.Source == facts.Settings && row.Setting == term.Short() {
			e.here("verdict", "%s", row.Verdict)
			if row.Expected != "" {
				e.here("expected", "%s", row.Expected)
			}
		}
	}
}

func explainFunction(_ *baseline.Baseline, name string, _ *audit.Result) (*Explanation, error) {
	means, known := baseline.Functions[strings.TrimSuffix(name, "()")]
	if !known {
		return nil, nil
	}
	e := &Explanation{Name: strings.TrimSuffix(name, "()"), Kind: "function"}
	e.say("means", "%s", means)
	return e, nil
}

// robots explains what search engines may do: the four combinations, and what is declared beside tag, header and
// robots.txt (HTML Living Standard §4.2.5.1, RFC 9309).
func robots(_ *baseline.Baseline, name string, r *audit.Result) (*Explanation, error) {
	if name != Robots {
		return nil, nil
	}
	e := &Explanation{Name: Robots, Kind: "topic"}
	e.say("index, follow", "Search engines may list the page, and go on to what it links to. It is what holds when nothing is said.")
	e.say("noindex, follow", "They may not list the page, and may go on to what it links to. They must be able to read the page to know it; in time they call less often.")
	e.say("index, nofollow", "They may list the page, and take its links for no recommendation. Rarely what one wants.")
	e.say("noindex, nofollow", "They may do neither. Right for a site that is being built, as long as robots.txt lets them read it.")
	e.say("robots.txt", "Disallow keeps them from reading an address, not from listing it: others may link to it, and it is listed by its address alone. A noindex on a page that robots.txt keeps them from is never read.")
	e.say("together", "Tag (<meta name=\"robots\">) and header (X-Robots-Tag) count alike, and of the two the stricter. The content system's own setting decides only what it writes into the pages.")
	if r == nil {
		return e, nil
	}
	s := r.Snapshot
	for _, term := range []*facts.Term{facts.MetaRobotsIndex.Term, facts.MetaRobotsFollow.Term} {
		if reading, known := s.Effective(term.Name); known && !reading.Absent {
			e.here("declared", "%s is %s, in %s", term.Short(), reading.Value, placeOf([]facts.Reading{reading}, []facts.Reading{reading}, ""))
		} else {
			e.here("declared", "%s is not known: %s", term.Short(), s.Why(term.Name))
		}
	}
	home := s.HomePage()
	if home == nil {
		e.here("served", "not known: %s", s.Why(facts.LiveAddress.Name))
		return e, nil
	}
	e.here("tag", "%s", orNothing(home.RobotsTag))
	e.here("header", "%s", orNothing(home.RobotsHeader))
	if status, known := s.Is(facts.LiveRobotsStatus.Term); known {
		e.here("robots.txt", "answers %s, and %s the home page", status, map[bool]string{true: "keeps engines from", false: "lets them read"}[home.Disallowed])
	}
	e.here("home page", "%s", home.Robots)
	counts := map[string]int{}
	for _, page := range s.Pages {
		counts[page.Robots]++
	}
	for _, says := range slices.Sorted(maps.Keys(counts)) {
		e.here("all pages", "%d: %s", counts[says], says)
	}
	for _, id := range []string{"visibility.index-live", "visibility.index-declared", "visibility.index-building", "visibility.index-building-declared", "visibility.served"} {
		if r.VerdictOf(id) == facts.Deviates {
			e.here("deviates", "%s", id)
		}
	}
	return e, nil
}

func orNothing(text string) string {
	if text == "" {
		return "says nothing"
	}
	return text
}
