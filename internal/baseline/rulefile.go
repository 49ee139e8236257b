package baseline

import (
	"log/slog"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/nearest"
	"weltaxis/internal/strict"
)

// A file is one YAML file of rules, or of limits, or of both.
type file struct {
	Area   string          `yaml:"area"`
	About  string          `yaml:"about"`
	Limits map[string]spec `yaml:"limits"`
	Rules  []Rule          `yaml:"rules"`
}

// A spec is a limit as a rule file states it.
type spec struct {
	Type  string `yaml:"type"`
	Value string `yaml:"value"` // as text; items of a list with commas between
	Means string `yaml:"means"`
	Pos   strict.Pos
}

// A Rule is one thing that ought to hold, as it stands in its file.
type Rule struct {
	ID       string      `yaml:"id"`
	Former   []string    `yaml:"former"` // ids it had before
	Severity Severity    `yaml:"severity"`
	Harm     facts.Harm  `yaml:"harm"`  // what it does as long as it is there
	Each     string      `yaml:"each"`  // <list> as <name>: judged once for every item
	When     strict.Expr `yaml:"when"`  // false: not applicable
	Holds    strict.Expr `yaml:"holds"` //
	Covers   []string    `yaml:"covers"`
	Says     string      `yaml:"says"`
	Expected string      `yaml:"expected"`
	Why      string      `yaml:"why"`
	Cites    []string    `yaml:"cites"`
	CWE      int         `yaml:"cwe"`
	Jobs     []string    `yaml:"jobs"`
	Fix      Fixes       `yaml:"fix"`
	// Configured names what the web server's configuration says of the same thing, to be shown beside it: the kind of an answer
	// and a field of it, as home.status; "this" is the answer for the item's own address.
	Configured []string `yaml:"configured"`
	// AsConfigured is how the rule is judged where nobody asked the site.
	AsConfigured *AsConfigured `yaml:"as_configured"`
	FollowUp     *FollowUp     `yaml:"follow_up"`
	Pos          strict.Pos

	Area string `yaml:"-"`
	list string // of each
	as   string
	file string
	code *code
	// configured is the rule as it is judged by what the web server has been told; nil where that tells nothing of it. Asked is the rule
	// that it stands in for.
	configured, asked *Rule
	deviatesOnly      bool
	// builtIn rules are our own, and trusted.
	builtIn bool
}

// AsConfigured is how a rule about what a visitor gets is judged by what the web server's configuration makes of the address, where nobody
// asked the site. What it leaves out is the rule's.
type AsConfigured struct {
	Severity Severity    `yaml:"severity"`
	Each     string      `yaml:"each"`
	When     strict.Expr `yaml:"when"`
	Holds    strict.Expr `yaml:"holds"`
	Says     string      `yaml:"says"` // after "As configured, "
	// DeviatesOnly: that the configuration does not bring it about says nothing of whether it is so.
	DeviatesOnly bool  `yaml:"deviates_only"`
	Fix          Fixes `yaml:"fix"`
	Pos          strict.Pos
}

// byConfiguration is the rule that stands in for this one where nobody asked the site; nil for none.
func (r *Rule) byConfiguration() (*Rule, error) {
	a := r.AsConfigured
	if a == nil {
		return nil, nil
	}
	c := *r
	c.AsConfigured, c.Configured, c.FollowUp, c.Covers = nil, nil, nil, nil
	c.Each, c.list, c.as, c.When, c.Holds, c.Says, c.Pos = a.Each, "", "", a.When, a.Holds, "As configured, "+a.Says, a.Pos
	c.asked, c.deviatesOnly = r, a.DeviatesOnly
	if len(a.Severity) > 0 {
		c.Severity = a.Severity
	}
	if len(a.Fix) > 0 {
		c.Fix = a.Fix
	}
	return &c, c.check()
}

// Fixes is one fix, or several with conditions, of which the first that holds counts: one for each cause.
type Fixes []Fix

// UnmarshalNode reads either shape.
func (f *Fixes) UnmarshalNode(n strict.Node) error {
	if n.IsSequence() {
		if err := n.Into((*[]Fix)(f)); err != nil {
			return err
		}
	} else {
		var one Fix
		if err := n.Into(&one); err != nil {
			return err
		}
		*f = Fixes{one}
	}
	for i, fix := range *f {
		if last := i == len(*f)-1; last != (fix.If.Source == "") {
			return n.Errorf("every fix but the last has a condition (if), and the last has none")
		}
	}
	return nil
}

// A Fix is what would put a deviation right, before its expressions are worked out.
type Fix struct {
	If      strict.Expr            `yaml:"if"`
	Kind    facts.ChangeKind       `yaml:"kind"` // follows from what is given, when left out
	Risk    facts.Risk             `yaml:"risk"`
	Lasting bool                   `yaml:"lasting"`
	Step    bool                   `yaml:"step"`    // one of several: the rule deviates until the last is made
	Noticed []facts.Who            `yaml:"noticed"` // who notices; follows from what is set and from the risk, when left out
	Set     map[string]string      `yaml:"set"`     // setting: value as text
	SetTo   map[string]strict.Expr `yaml:"set_to"`  // setting: expression
	Ask     map[string]string      `yaml:"ask"`     // setting: what a person is asked
	Mode    strict.Expr            `yaml:"mode"`    // the mode of every entry of the class
	Steps   []string               `yaml:"steps"`
	Field   string                 `yaml:"field"` // of a page's own record: title, description or indexable
	Write   *LineSpec              `yaml:"write"` // a line that a file ought to have

	// What the web server or the runtime ought to be told, for the address that the deviation is about.
	Header    map[string]string `yaml:"header"`    // headers of its answer
	Directive map[string]string `yaml:"directive"` // directives of the server, or of the runtime
	Deny      bool              `yaml:"deny"`      // it is refused
	Unlist    bool              `yaml:"unlist"`    // its files are not listed
	Inert     bool              `yaml:"inert"`     // nothing in its folder is run
	Encrypt   bool              `yaml:"encrypt"`   // it leads to the encrypted one, for a trial
	Unify     bool              `yaml:"unify"`     // it leads to the one true address, for good
	Lead      bool              `yaml:"lead"`      // addresses that were lost lead to where a person says
}

// A LineSpec is a line of a file below the served folder, and what a new file starts with; or a line that is to go. All
// take values in braces.
type LineSpec struct {
	File  string `yaml:"file"`
	Start string `yaml:"start"`
	Line  string `yaml:"line"`
	Drop  string `yaml:"drop"`
}

// Severity is one word, or several with conditions, of which the first that holds counts.
type Severity []SeverityCase

// A SeverityCase is one of them; the last has no condition.
type SeverityCase struct {
	If strict.Expr    `yaml:"if"`
	Is facts.Severity `yaml:"is"`
}

// UnmarshalNode reads either shape.
func (s *Severity) UnmarshalNode(n strict.Node) error {
	if n.IsSequence() {
		if err := n.Into((*[]SeverityCase)(s)); err != nil {
			return err
		}
	} else {
		var one facts.Severity
		if err := n.Into(&one); err != nil {
			return err
		}
		*s = Severity{{Is: one}}
	}
	for i, c := range *s {
		if last := i == len(*s)-1; last != (c.If.Source == "") {
			return n.Errorf("every severity but the last has a condition (if), and the last has none")
		}
	}
	return nil
}

// Worst is the worst severity the rule may have.
func (s Severity) Worst() facts.Severity {
	worst := facts.Note
	for _, c := range s {
		worst = min(worst, c.Is)
	}
	return worst
}

// Areas lists the areas in the order of work.
var Areas = []string{"titles", "identity", "metadata", "visibility", "permalinks", "caching", "delivery", "hardening",
	"upkeep", "permissions", "maintenance", "runtime", "search", "aliases"}

func (r *Rule) errorf(format string, args ...any) error {
	return strict.Errorf(r.file, r.Pos, "rule "+strings.ReplaceAll(r.ID, "%", "%%")+": "+format, args...)
}

var (
	idShape   = regexp.MustCompile(`^[a-z]+(\.[a-z]+(-[a-z]+)*)$`)
	eachShape = regexp.MustCompile(`^([a-z]+\.[a-z]+) as ([a-z_]+)$`)
)

// check holds what stands in the file against what a rule needs; expressions are checked when compiled.
func (r *Rule) check() error {
	if !idShape.MatchString(r.ID) {
		return r.errorf("an id is an area, a dot and words with hyphens, such as titles.site-own")
	}
	area, _, _ := strings.Cut(r.ID, ".")
	if r.Area != "" && area != r.Area {
		return r.errorf("it stands in the file of the area %q", r.Area)
	}
	if !slices.Contains(Areas, area) {
		return r.errorf("there is no area %q%s", area, nearest.Hint(area, Areas))
	}
	r.Area = area
	for _, need := range []struct {
		name  string
		there bool
	}{{"severity", len(r.Severity) > 0}, {"holds", r.Holds.Source != ""}, {"says", r.Says != ""}, {"expected", r.Expected != ""}, {"why", r.Why != ""}} {
		if !need.there {
			return r.errorf("%s is missing", need.name)
		}
	}
	r.renew()
	if err := r.checkEach(); err != nil {
		return err
	}
	if err := r.checkFollowUp(); err != nil {
		return err
	}
	if len(r.Fix) == 0 {
		r.Fix = Fixes{{}}
	}
	for i := range r.Fix {
		if err := r.checkFix(&r.Fix[i]); err != nil {
			return err
		}
	}
	var err error
	r.configured, err = r.byConfiguration()
	return err
}

// renew puts present names in the place of former ones.
func (r *Rule) renew() {
	sources := []*strict.Expr{&r.When, &r.Holds}
	for i := range r.Fix {
		f := &r.Fix[i]
		sources = append(sources, &f.If, &f.Mode)
		renewKeys(r, f.Set)
		renewKeys(r, f.SetTo)
		renewKeys(r, f.Ask)
	}
	if r.FollowUp != nil {
		sources = append(sources, &r.FollowUp.When, &r.FollowUp.On)
	}
	for _, e := range sources {
		var renamed []string
		e.Source, renamed = facts.PresentSource(e.Source)
		r.note(renamed...)
	}
}

// note tells whoever wrote the rule that something in it has another name now.
func (r *Rule) note(renamed ...string) {
	for _, says := range renamed {
		slog.Warn(r.errorf("%s", says).Error())
	}
}

func renewKeys[V any](r *Rule, values map[string]V) {
	for name, value := range values {
		if now, changed := facts.PresentSetting(name); changed {
			delete(values, name)
			values[now] = value
			r.note(facts.Renamed(name, now))
		}
	}
}

func (r *Rule) checkEach() error {
	if r.Each == "" {
		return nil
	}
	m := eachShape.FindStringSubmatch(r.Each)
	if m == nil {
		return r.errorf("each is written as: <list> as <name>")
	}
	if _, known := facts.Lists[m[1]]; !known {
		lists := slices.Sorted(maps.Keys(facts.Lists))
		return r.errorf("there is no list %q%s; there are %s", m[1], nearest.Hint(m[1], lists), strings.Join(lists, ", "))
	}
	r.list, r.as = m[1], m[2]
	return nil
}

func (r *Rule) checkFix(f *Fix) error {
	if f.Risk == 0 {
		return r.errorf("fix: risk is missing: one of %s", strings.Join(facts.RiskWords(), ", "))
	}
	if f.Kind == 0 {
		switch {
		case len(f.Set)+len(f.SetTo)+len(f.Ask) > 0:
			f.Kind = facts.KindSet
		case f.Mode.Source != "":
			f.Kind = facts.KindMode
		case f.Write != nil:
			f.Kind = facts.KindWrite
		default:
			f.Kind = facts.KindSteps
		}
	}
	if f.Write != nil && !filepath.IsLocal(f.Write.File) {
		return r.errorf("fix: write: %q is no file below the served folder", f.Write.File)
	}
	changes := map[facts.ChangeKind]bool{facts.KindSet: len(f.Set)+len(f.SetTo)+len(f.Ask) > 0, facts.KindMode: f.Mode.Source != "", facts.KindWrite: f.Write != nil || len(f.Steps) > 0}
	if does, tells := changes[f.Kind]; tells && !does {
		return r.errorf("fix: kind is %s, and it says nothing to %s", f.Kind, f.Kind)
	}
	if len(f.Steps) == 0 && !changes[facts.KindSet] && !changes[facts.KindMode] && !changes[facts.KindWrite] {
		return r.errorf("fix: it does nothing: it says neither what to change nor the steps for a person")
	}
	if wish := f.wish(); wish != nil && f.Kind != facts.KindServer && f.Kind != facts.KindRuntime {
		return r.errorf("fix: header, directive, deny, unlist, inert, encrypt, unify and lead are of the kind server or runtime")
	}
	for _, name := range f.names() {
		entry, known := facts.Lookup(facts.Settings.Name(name))
		if !known {
			return r.errorf("fix: there is no setting %q%s", name, nearest.Hint(name, facts.Names(facts.Settings)))
		}
		if text, constant := f.Set[name]; constant {
			if v, err := entry.Type.Parse(text); err != nil || !entry.Check(v) {
				return r.errorf("fix: %s cannot be set to %q", name, text)
			}
		}
	}
	return nil
}

// wish is what the fix asks of the web server or the runtime; nil for nothing.
func (f *Fix) wish() *facts.Wish {
	if len(f.Header)+len(f.Directive) == 0 && !f.Deny && !f.Unlist && !f.Inert && !f.Encrypt && !f.Unify && !f.Lead {
		return nil
	}
	return &facts.Wish{Headers: f.Header, Directives: f.Directive, Deny: f.Deny, Unlist: f.Unlist, Inert: f.Inert, Encrypt: f.Encrypt, Unify: f.Unify, Lead: f.Lead}
}

// names lists the settings that the fix changes.
func (f *Fix) names() []string {
	return slices.Concat(slices.Collect(maps.Keys(f.Set)), slices.Collect(maps.Keys(f.SetTo)), slices.Collect(maps.Keys(f.Ask)))
}

// Mentions lists the names of the catalogue that the rule's condition mentions.
func (r *Rule) Mentions() []string {
	j := &judging{rule: r}
	var names []string
	for _, name := range r.code.holds.names {
		names = append(names, j.catalogueName(name))
	}
	return names
}

// LimitNames lists the limits that the rule's condition mentions.
func (r *Rule) LimitNames() []string {
	var names []string
	for _, name := range r.code.holds.names {
		if limit, ok := strings.CutPrefix(name, limitsPrefix); ok {
			names = append(names, limit)
		}
	}
	return names
}

// Lines says in words what the fix does, before it is worked out for a site.
func (f Fix) Lines() []string {
	var lines []string
	for _, name := range slices.Sorted(maps.Keys(f.Set)) {
		value := f.Set[name]
		if value == "" {
			value = "nothing"
		}
		lines = append(lines, "set "+name+" to "+value)
	}
	for _, name := range slices.Sorted(maps.Keys(f.SetTo)) {
		lines = append(lines, "set "+name+" to "+f.SetTo[name].Source)
	}
	for _, name := range slices.Sorted(maps.Keys(f.Ask)) {
		lines = append(lines, name+": "+f.Ask[name])
	}
	if f.Mode.Source != "" {
		lines = append(lines, "change the mode to "+f.Mode.Source)
	}
	if f.Write != nil && f.Write.Drop != "" {
		lines = append(lines, "take the line out of "+f.Write.File+" that does it")
	}
	return append(lines, f.Steps...)
}
