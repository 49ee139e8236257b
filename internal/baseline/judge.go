package baseline

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"weltaxis/internal/facts"
)

// A Judgement is what the rules say of a snapshot. Every rule is in at least one of the lists.
type Judgement struct {
	Deviations    []facts.Deviation
	Held          []string
	NotApplicable []string
	Covered       []Covered
	NotJudged     []NotJudged
	Broken        []Broken
	FollowUps     []facts.FollowUp
}

// Covered is a deviation with the same cause as another, which is the one that counts.
type Covered struct {
	Rule    string `json:"rule"`
	Subject string `json:"subject"`
	By      string `json:"by"`
	// Fingerprint is that of the deviation.
	Fingerprint string          `json:"fingerprint"`
	Deviation   facts.Deviation `json:"-"`
}

// NotJudged is a rule that lacks what it needs to know: of the site, or of the items that are named. A rule that could
// be judged of other items has its verdict for those.
type NotJudged struct {
	Rule    string         `json:"rule"`
	Missing []string       `json:"missing"`
	Because string         `json:"because"`
	Items   []UnjudgedItem `json:"items,omitempty"`
	// Judged is how many items could be judged all the same.
	Judged int `json:"judged,omitempty"`
}

// An UnjudgedItem is one item of a list of which a rule could not be judged.
type UnjudgedItem struct {
	Subject string       `json:"subject"`
	Missing []string     `json:"missing"`
	Because string       `json:"because"`
	Origin  facts.Origin `json:"origin"`
}

// Broken is a rule whose own expression failed.
type Broken struct {
	Rule    string `json:"rule"`
	Because string `json:"because"`
}

// ruleTime is how long a rule of one's own may take by the clock, for all its items together, and for one expression. What an
// expression may cost is counted besides, so this is far more than an honest one needs on a busy machine.
const ruleTime = 3 * time.Second

var errTooSlow = fmt.Errorf("it takes longer than %s", ruleTime)

// SiteSubject is the subject of rules that are judged once.
const SiteSubject = "site"

// A judging is one rule being judged.
type judging struct {
	baseline *Baseline
	rule     *Rule
	snapshot *facts.Snapshot
	item     facts.Item
	missing  []string         // of the site
	lacks    []string         // of the current item
	items    []UnjudgedItem   // that could not be judged
	judged   int              // items that could
	proposed *facts.Proposal  // the fix, where it is the same for every item
	whole    bool             // of the items that could be judged, one is no place that the server tells apart
	apart    bool             // only answers at places that the server tells apart
	same     map[string]known // what does not depend on the item, looked up once
}

// A known is a variable's value, or the news that it has none.
type known struct {
	value any
	is    bool
}

// Judge judges a snapshot by every compiled rule, and folds deviations under those that cover them. Under what is accepted
// nothing is folded: what somebody lives with hides nothing else.
func (b *Baseline) Judge(s *facts.Snapshot, accepted ...func(facts.Deviation) bool) Judgement {
	var j Judgement
	for _, r := range b.Rules {
		b.judgeRule(r, s, &j)
	}
	b.fold(&j, accepted)
	return j
}

func (b *Baseline) judgeRule(r *Rule, s *facts.Snapshot, into *Judgement) {
	j := &judging{baseline: b, rule: r, snapshot: s}
	into.FollowUps = append(into.FollowUps, (&judging{baseline: b, rule: r, snapshot: s}).followUps()...)
	deviations, applied, err := j.all()
	if c := r.configured; c != nil && err == nil && (c.list != "" || !s.Asked(facts.Live)) && !s.Leaves(facts.ListAnswers) {
		told := &judging{baseline: b, rule: c, snapshot: s, apart: s.Asked(facts.Live)}
		said, applies, failed := told.all()
		said = told.besides(said, deviations)
		if r.list == "" && !told.apart && !told.whole { // of the home page nobody can tell: one place stands for the site
			slices.SortStableFunc(said, func(a, b facts.Deviation) int { return int(a.Severity) - int(b.Severity) })
			if said = said[:min(len(said), 1)]; len(said) > 0 {
				said[0].Subject, said[0].Fingerprint, said[0].Formerly = SiteSubject, facts.Fingerprint(r.ID, SiteSubject), []string{}
			}
		}
		switch {
		case failed != nil:
			err = failed
		case told.apart: // what was looked at elsewhere may be otherwise at a place that the server tells apart
			deviations = append(deviations, said...)
		case len(j.missing) > 0 && (len(said) > 0 || len(told.missing) == 0 && applies && !c.deviatesOnly && (c.list == "" || told.judged > 0)):
			r, j, deviations, applied = c, told, said, applies
		}
	}
	into.Deviations = append(into.Deviations, deviations...)
	switch {
	case err != nil:
		slog.Info("broken rule", "rule", r.ID, "because", err)
		into.Broken = append(into.Broken, Broken{r.ID, err.Error()})
	case len(j.missing) > 0:
		slices.Sort(j.missing)
		missing := slices.Compact(j.missing)
		into.NotJudged = append(into.NotJudged, NotJudged{Rule: r.ID, Missing: missing, Because: s.Why(missing[0])})
	case len(j.items) > 0:
		into.NotJudged = append(into.NotJudged, NotJudged{Rule: r.ID, Missing: j.items[0].Missing, Because: j.items[0].Because, Items: j.items, Judged: j.judged})
		if len(deviations) == 0 && j.judged > 0 {
			into.Held = append(into.Held, r.ID)
		}
	case len(deviations) > 0:
	case s.InPart(r.list): // what was not looked at may be otherwise
		into.NotJudged = append(into.NotJudged, NotJudged{Rule: r.ID, Missing: []string{r.list}, Because: s.Why(r.list), Judged: j.judged})
	case !applied:
		into.NotApplicable = append(into.NotApplicable, r.ID)
	default:
		into.Held = append(into.Held, r.ID)
	}
}

// besides are the deviations by what a server has been told, without those of places where the whole site deviates by the same line.
func (j *judging) besides(told, seen []facts.Deviation) (besides []facts.Deviation) {
	if !slices.ContainsFunc(slices.Concat(told, seen), func(d facts.Deviation) bool { return !apart(d.Item) }) {
		return told
	}
	home := j.snapshot.Configured("home", "")
	return slices.DeleteFunc(told, func(d facts.Deviation) bool {
		if !apart(d.Item) || home == nil {
			return false
		}
		own := j.rule.asked.list != "" && slices.ContainsFunc(j.rule.code.holds.names, func(name string) bool {
			field, is := j.itemField(name)
			here, there := d.Item.OriginOf(field), home.OriginOf(field)
			return is && (here.File != there.File || here.Line != there.Line)
		})
		return !own
	})
}

// apart tells whether an item is an answer at a place that the server tells apart from others.
func apart(item facts.Item) bool {
	a, is := item.(*facts.Answer)
	return is && a.Kind == facts.Place
}

// all judges the rule for the site, or for every item of its list. Applied tells whether it applied to any.
func (j *judging) all() (deviations []facts.Deviation, applied bool, err error) {
	if j.rule.list == "" {
		d, applied, err := j.one()
		if d != nil {
			deviations = append(deviations, *d)
		}
		return deviations, applied, err
	}
	items, seen := j.snapshot.Items(j.rule.list)
	if !seen {
		j.missing = append(j.missing, j.rule.list)
		return nil, false, nil
	}
	began := time.Now()
	for item := range items {
		if !j.rule.builtIn && time.Since(began) > ruleTime {
			return deviations, applied, errTooSlow
		}
		if j.apart && !apart(item) {
			continue
		}
		j.item, j.lacks = item, nil
		d, applies, err := j.one()
		if err != nil {
			return deviations, applied, err
		}
		applied = applied || applies
		switch {
		case len(j.lacks) > 0:
			why := item.Why(strings.TrimPrefix(j.lacks[0], j.rule.list+"."))
			j.items = append(j.items, UnjudgedItem{item.Subject(), j.lacks, why.Because, why.Origin})
		case applies:
			j.judged, j.whole = j.judged+1, j.whole || !apart(item)
		}
		if d != nil {
			deviations = append(deviations, *d)
		}
	}
	return deviations, applied, nil
}

// one judges the rule for the site or the current item.
func (j *judging) one() (deviation *facts.Deviation, applies bool, err error) {
	if when := j.rule.code.when; when != nil {
		applies, known, err := j.truth(when)
		if err != nil || !known || !applies {
			return nil, false, err
		}
	}
	holds, known, err := j.truth(j.rule.code.holds)
	if err != nil || !known || holds {
		return nil, true, err
	}
	deviation, err = j.deviation()
	return deviation, true, err
}

// truth evaluates a condition; known is false when it needs what could not be seen, which is noted.
func (j *judging) truth(e *expr) (holds, known bool, err error) {
	value, err := j.evaluate(e)
	if err != nil {
		return false, false, err
	}
	if unknown, is := value.(*types.Unknown); is {
		j.note(unknown)
		return false, false, nil
	}
	return value == types.True, true, nil
}

func (j *judging) note(unknown *types.Unknown) {
	for _, id := range unknown.IDs() {
		trails, _ := unknown.GetAttributeTrails(id)
		for _, trail := range trails {
			name := trail.String()
			if _, ofItem := j.itemField(name); ofItem {
				j.lacks = append(j.lacks, j.catalogueName(name))
			} else {
				j.missing = append(j.missing, j.catalogueName(name))
			}
		}
	}
}

// catalogueName is the catalogue's name for a variable: without .length, and with the list for an item's field.
func (j *judging) catalogueName(name string) string {
	if bare, ok := strings.CutPrefix(name, factoryPrefix); ok {
		return facts.Settings.Name(bare)
	}
	if bare, ok := strings.CutPrefix(name, absentPrefix); ok {
		if source, _ := facts.SourceOf(bare); source != 0 {
			if _, known := facts.Lookup(bare); known {
				return bare
			}
		}
		return facts.Settings.Name(bare)
	}
	if field, ok := j.itemField(name); ok {
		return j.rule.list + "." + field
	}
	if _, known := facts.Lookup(name); !known {
		return strings.TrimSuffix(name, lengthSuffix)
	}
	return name
}

func (j *judging) itemField(name string) (string, bool) {
	if j.rule.as == "" {
		return "", false
	}
	return strings.CutPrefix(name, j.rule.as+".")
}

// ResolveName and Parent make a judging what expressions take their variables from.
func (j *judging) ResolveName(name string) (any, bool) { return j.lookup(name) }

// Parent is none.
func (j *judging) Parent() cel.Activation { return nil }

// evaluate works an expression out. Nearly always everything it needs is known; only when that fails are the
// variables without a value told to it as unknown, which costs more.
func (j *judging) evaluate(e *expr) (ref.Val, error) {
	value, err := j.eval(e.program, cel.Activation(j))
	if err == nil || errors.Is(err, errTooSlow) {
		return value, err
	}
	return j.evaluatePartly(e)
}

// eval evaluates a program; one of a rule of one's own for so long at most.
func (j *judging) eval(program cel.Program, activation any) (ref.Val, error) {
	if j.rule.builtIn {
		value, _, err := program.Eval(activation)
		return value, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), ruleTime)
	defer cancel()
	value, _, err := program.ContextEval(ctx, activation)
	if ctx.Err() != nil {
		return nil, errTooSlow
	}
	return value, err
}

func (j *judging) evaluatePartly(e *expr) (ref.Val, error) {
	activation, err := j.partly(e)
	if err != nil {
		return nil, err
	}
	value, err := j.eval(e.program, activation)
	if err != nil {
		return nil, fmt.Errorf("evaluating it: %w", err)
	}
	return value, nil
}

// partly are the variables of an expression, those without a value as unknown.
func (j *judging) partly(e *expr) (cel.PartialActivation, error) {
	bindings := make(map[string]any, len(e.names))
	var unknown []*cel.AttributePatternType
	for _, name := range e.names {
		if value, known := j.lookup(name); known {
			bindings[name] = value
		} else {
			unknown = append(unknown, cel.AttributePattern(name))
		}
	}
	return cel.PartialVars(bindings, unknown...)
}

// lookup is the value of a variable as expressions see it.
func (j *judging) lookup(name string) (any, bool) {
	if field, ok := j.itemField(name); ok {
		value, known := j.item.Field(field)
		if !known {
			return nil, false
		}
		return nativeOf(value), true
	}
	if kept, there := j.same[name]; there {
		return kept.value, kept.is
	}
	value, is := j.lookupSame(name)
	if j.same == nil {
		j.same = map[string]known{}
	}
	j.same[name] = known{value, is}
	return value, is
}

// lookupSame is the value of a variable that is the same for every item.
func (j *judging) lookupSame(name string) (any, bool) {
	if name == takenName {
		return j.snapshot.Taken, true
	}
	if limit, ok := strings.CutPrefix(name, limitsPrefix); ok {
		l, known := j.baseline.Limits[limit]
		return nativeOf(l.Value), known
	}
	reading, known := j.snapshot.Effective(j.catalogueName(name))
	switch {
	case strings.HasPrefix(name, absentPrefix):
		return reading.Absent, known
	case strings.HasPrefix(name, factoryPrefix):
		return reading.Factory, known
	}
	return nativeOf(reading.Value), known && !reading.Absent
}

func (j *judging) subject() (subject, identity string) {
	if j.item == nil {
		return SiteSubject, SiteSubject
	}
	if a, is := j.item.(*facts.Answer); is && j.rule.asked != nil { // the same as if it had been asked
		switch j.rule.asked.list {
		case "":
			if !apart(a) {
				return SiteSubject, SiteSubject
			}
			return a.Address, a.Address
		case facts.ListPages:
			return a.Path(), a.Path()
		}
		return a.Address, a.Address
	}
	return j.item.Subject(), j.item.Identity()
}

func (j *judging) deviation() (*facts.Deviation, error) {
	r := j.rule
	subject, identity := j.subject()
	d := &facts.Deviation{Rule: r.ID, Area: r.Area, Harm: r.Harm, Opens: r.opens(), Subject: subject, Fingerprint: facts.Fingerprint(r.ID, identity), Formerly: []string{}, Item: j.item, AsConfigured: r.asked != nil}
	for _, id := range append([]string{r.ID}, r.Former...) { // formerly they were made of the subject
		if old := facts.Fingerprint(id, subject); old != d.Fingerprint {
			d.Formerly = append(d.Formerly, old)
		}
	}
	var err error
	if d.Severity, err = j.severity(); err != nil {
		return nil, err
	}
	if d.Says, err = j.text(r.Says); err != nil {
		return nil, err
	}
	if d.Expected, err = j.text(r.Expected); err != nil {
		return nil, err
	}
	d.Readings = j.readings()
	d.Fix, err = j.proposal()
	return d, err
}

// severity is the first whose condition holds; one that cannot be told is passed over.
func (j *judging) severity() (facts.Severity, error) {
	for i, condition := range j.rule.code.severity {
		if condition == nil {
			return j.rule.Severity[i].Is, nil
		}
		value, err := j.evaluate(condition)
		if err != nil {
			return 0, err
		}
		if value == types.True {
			return j.rule.Severity[i].Is, nil
		}
	}
	return facts.Note, nil
}

// text fills in a message. What cannot be told stands as "unknown".
func (j *judging) text(source string) (string, error) {
	m, err := j.baseline.message(j.rule, source, "message")
	if err != nil {
		return "", err
	}
	if len(m) == 1 {
		return m[0].text, nil // the same text for all, and one copy of it
	}
	var b strings.Builder
	for _, part := range m {
		b.WriteString(part.text)
		if part.expr == nil {
			continue
		}
		text, err := j.shown(part.expr)
		if err != nil {
			return "", err
		}
		b.WriteString(text)
	}
	return strings.Join(strings.Fields(b.String()), " "), nil
}

// shown is the value of an expression as a person reads it. A bare name is shown as its type is.
func (j *judging) shown(e *expr) (string, error) {
	value, err := j.evaluate(e)
	if err != nil {
		return "", err
	}
	if types.IsUnknown(value) {
		return "unknown", nil
	}
	if len(e.names) == 1 {
		if v, ok := j.value(e.names[0]); ok && types.DefaultTypeAdapter.NativeToValue(nativeOf(v)).Equal(value) == types.True {
			return v.String(), nil
		}
	}
	return formatCEL(value), nil
}

func formatCEL(value ref.Val) string {
	switch v := value.Value().(type) {
	case time.Duration:
		return facts.FormatDuration(v)
	case bool:
		return facts.BoolOf(v).String()
	case []string:
		return strings.Join(v, ", ")
	case []ref.Val:
		texts := make([]string, len(v))
		for i, item := range v {
			texts[i] = formatCEL(item)
		}
		return strings.Join(texts, ", ")
	default:
		return fmt.Sprint(v)
	}
}

// value is the typed value behind a variable.
func (j *judging) value(name string) (facts.Value, bool) {
	if limit, ok := strings.CutPrefix(name, limitsPrefix); ok {
		l, known := j.baseline.Limits[limit]
		return l.Value, known
	}
	if field, ok := j.itemField(name); ok {
		return j.item.Field(field)
	}
	if strings.HasPrefix(name, factoryPrefix) || strings.HasPrefix(name, absentPrefix) {
		return facts.Value{}, false
	}
	reading, known := j.snapshot.Effective(j.catalogueName(name))
	return reading.Value, known && !reading.Absent
}

// readings are all readings of what the rule mentions: in its condition, and what was looked at to see whether it
// applies. What the intent says, and what an item is, is shown only where the condition itself needs it.
func (j *judging) readings() []facts.Reading {
	names := slices.Clone(j.rule.code.holds.names)
	if when := j.rule.code.when; when != nil && j.item == nil {
		for _, name := range when.names {
			if source, _ := facts.SourceOf(name); source != facts.Intent {
				names = append(names, name)
			}
		}
	}
	names = append(names, j.twinNames()...)
	var list []facts.Reading
	var seen []string
	for _, name := range names {
		if strings.HasPrefix(name, limitsPrefix) || name == takenName {
			continue
		}
		full := j.catalogueName(name)
		if field, ok := j.itemField(name); ok {
			full = j.rule.list + "." + shownField(j.rule.list, field)
		}
		if slices.Contains(seen, full) {
			continue
		}
		seen = append(seen, full)
		list = append(list, j.readingsOf(full)...)
	}
	list = append(list, j.configured()...)
	slices.SortStableFunc(list, func(a, b facts.Reading) int { return sourceRank(a.Source) - sourceRank(b.Source) })
	return list
}

// configured are what the web server's configuration says of the same thing.
func (j *judging) configured() (list []facts.Reading) {
	for _, name := range j.rule.Configured {
		kind, field, _ := strings.Cut(name, ".")
		address := ""
		if kind == "this" && j.item != nil {
			v, known := j.item.Field("address")
			if address = v.Text(); !known || address == "" {
				continue
			}
		}
		if a := j.snapshot.Configured(strings.ReplaceAll(kind, "_", " "), address); a != nil {
			if r, known := a.Reading(field); known && !(r.Absent && (field == "file" || field == "location")) {
				list = append(list, r)
			}
		}
	}
	return list
}

// twinNames are what the rules about the declaration of the same thing mention, so that what is declared stands
// beside what is served, whether that agrees or not.
func (j *judging) twinNames() []string {
	var names []string
	for _, id := range j.rule.Covers {
		twin, known := j.baseline.Rule(id)
		if !known || twin.code == nil || twin.list != "" || !strings.HasSuffix(id, "-declared") {
			continue
		}
		for _, name := range twin.code.holds.names {
			if source, _ := facts.SourceOf(name); source != facts.Intent {
				names = append(names, name)
			}
		}
	}
	return names
}

func shownField(list, field string) string {
	for _, f := range facts.Lists[list] {
		if f.Name == field && f.Shows != "" {
			return f.Shows
		}
	}
	return field
}

func (j *judging) readingsOf(full string) []facts.Reading {
	field, ok := strings.CutPrefix(full, j.rule.list+".")
	if !ok || j.item == nil {
		return j.snapshot.All(full)
	}
	value, known := j.item.Field(field)
	if !known {
		return nil
	}
	source, name := facts.SourceOf(full)
	return []facts.Reading{{Source: source, Name: name, Value: value, Origin: j.item.OriginOf(field)}}
}

var sourceOrder = []facts.Source{facts.Settings, facts.Live, facts.Files, facts.Server, facts.Runtime, facts.Upkeep, facts.Intent}

func sourceRank(source facts.Source) int { return slices.Index(sourceOrder, source) }
