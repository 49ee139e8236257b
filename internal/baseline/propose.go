package baseline

import (
	"maps"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"

	"weltaxis/internal/facts"
	"weltaxis/internal/strict"
)

// proposal gives the fix of a rule for the current subject. One that says nothing of the item is the same for all,
// and worked out once.
func (j *judging) proposal() (facts.Proposal, error) {
	if j.proposed != nil {
		return *j.proposed, nil
	}
	p, err := j.workedOut()
	if err == nil && !j.rule.fixDependsOnItem() {
		j.proposed = &p
	}
	return p, err
}

func (r *Rule) fixDependsOnItem() bool {
	if r.as == "" {
		return false
	}
	var sources []string
	for _, f := range r.Fix {
		sources = append(append(sources, f.Steps...), f.If.Source, f.Mode.Source)
		for _, source := range f.SetTo {
			sources = append(sources, source.Source)
		}
		if f.Mode.Source != "" {
			return true
		}
		if f.Write != nil {
			sources = append(sources, f.Write.Line, f.Write.Drop)
		}
	}
	return slices.ContainsFunc(sources, func(text string) bool { return r.as != "" && strings.Contains(text, r.as+".") })
}

func (j *judging) workedOut() (facts.Proposal, error) {
	f, err := j.fitting()
	if err != nil {
		return facts.Proposal{}, err
	}
	p := facts.Proposal{Kind: f.Kind, Risk: f.Risk, Noticed: f.WhoNotices(), Lasting: f.Lasting, Step: f.Step, Field: f.Field, Wish: f.wish()}
	if p.Wish != nil {
		told := map[string]string{}
		for name, value := range p.Wish.Directives {
			if told[name], err = j.text(value); err != nil {
				return p, err
			}
		}
		if len(told) > 0 {
			p.Wish.Directives = told
		}
	}
	offer := func(c facts.Target) {
		if j.mapped(c.Name) {
			p.Changes = append(p.Changes, c)
		} else {
			p.Steps = append(p.Steps, j.byHand(c))
		}
	}
	propose := func(name string, to facts.Value) {
		if c := j.change(name, to, f.Ask[name]); !c.From.Equal(to) {
			offer(c)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(f.Set)) {
		entry, _ := facts.Lookup(facts.Settings.Name(name))
		to, _ := entry.Type.Parse(f.Set[name])
		propose(name, to)
	}
	for _, name := range slices.Sorted(maps.Keys(f.SetTo)) {
		to, err := j.worked(name, f.SetTo[name])
		if err != nil {
			return p, err
		}
		propose(name, to)
	}
	for _, name := range slices.Sorted(maps.Keys(f.Ask)) {
		_, constant := f.Set[name]
		if _, worked := f.SetTo[name]; !constant && !worked {
			offer(j.change(name, facts.Value{}, f.Ask[name]))
		}
	}
	if f.Mode.Source != "" {
		target, err := j.modeTarget(f.Mode)
		if err != nil {
			return p, err
		}
		p.Mode = target
		if class, is := j.item.(*facts.Class); is {
			p.Risk, p.Because, p.Noticed = ModeChangeOf(class, target.From, target.To, j.snapshot.WebUser()).Risk()
		}
	}
	if f.Write != nil {
		line, err := j.text(f.Write.Line)
		if err != nil {
			return p, err
		}
		drop, err := j.text(f.Write.Drop)
		if err != nil {
			return p, err
		}
		p.Write = &facts.Line{File: f.Write.File, Start: f.Write.Start, Line: line, Drop: drop}
	}
	for _, step := range f.Steps {
		text, err := j.text(step)
		if err != nil {
			return p, err
		}
		if text != "" {
			p.Steps = append(p.Steps, text)
		}
	}
	if p.Kind == facts.KindSet && len(p.Changes)+len(p.Steps) == 0 {
		p.Steps = []string{"What this rule would set is set already, so the cause lies elsewhere, often in another deviation. Look again when those are put right."}
	}
	if p.Kind == facts.KindSet && len(p.Changes) == 0 {
		p.Kind = facts.KindSteps
	}
	return p, nil
}

// fitting is the first fix whose condition holds; one that cannot be told is passed over.
func (j *judging) fitting() (*Fix, error) {
	for i := range j.rule.Fix {
		f := &j.rule.Fix[i]
		if f.If.Source == "" {
			return f, nil
		}
		e, err := j.baseline.fixExpression(j.rule, f.If, cel.BoolType)
		if err != nil {
			return nil, err
		}
		if value, err := j.evaluate(e); err != nil || value == types.True {
			return f, err
		}
	}
	return &Fix{Kind: facts.KindSteps, Risk: facts.Visible}, nil
}

// mapped tells whether anybody knows where a setting is stored.
func (j *judging) mapped(name string) bool {
	full := facts.Settings.Name(name)
	return j.snapshot.Asked(facts.Settings) && !slices.ContainsFunc(j.snapshot.Gaps, func(g facts.Gap) bool {
		return g.Source == facts.Settings && g.Kind == facts.Unmapped && slices.Contains(g.Names, full)
	})
}

// byHand is a change of a setting in the words of somebody who looks for it: in the content system, or, of a site of
// which only the pages can be seen, in their source.
func (j *judging) byHand(c facts.Target) string {
	entry, _ := facts.Lookup(facts.Settings.Name(c.Name))
	if !j.snapshot.Asked(facts.Settings) && entry.Markup != "" {
		return inSource(entry, c)
	}
	text := "By hand, in the content system: “" + entry.Meaning + "” should be "
	switch {
	case c.To.Type() == "":
		return text + "changed: " + c.Hint + "."
	case c.To.String() == "":
		text += "empty"
	case entry.Type == facts.Bool || entry.Type == facts.Words:
		text += c.To.String()
	default:
		text += "“" + c.To.String() + "”"
	}
	if c.Hint != "" {
		text += ", or: " + c.Hint
	}
	return text + "."
}

// inSource is what the source of the pages should have in it.
func inSource(entry facts.Term, c facts.Target) string {
	yes, no, two := strings.Cut(entry.Markup, "|")
	switch {
	case two && c.To.Bool():
		return "In the pages: " + yes + "."
	case two:
		return "In the pages: " + no + "."
	case c.To.Type() == "":
		return "In the pages: " + strings.ReplaceAll(yes, "{value}", "…") + ", which is to be " + c.Hint + "."
	}
	text := "In the pages: " + strings.ReplaceAll(yes, "{value}", c.To.String())
	if c.Hint != "" {
		text += ", or " + c.Hint
	}
	return text + "."
}

func (j *judging) change(name string, to facts.Value, hint string) facts.Target {
	now, _ := j.snapshot.Effective(facts.Settings.Name(name))
	return facts.Target{Name: name, From: now.Value, To: to, Origin: now.Origin, Hint: hint}
}

// worked evaluates the value a setting should have; the zero Value when that needs what nobody said.
func (j *judging) worked(name string, source strict.Expr) (facts.Value, error) {
	entry, _ := facts.Lookup(facts.Settings.Name(name))
	e, err := j.baseline.fixExpression(j.rule, source, celTypes[entry.Type])
	if err != nil {
		return facts.Value{}, err
	}
	value, err := j.evaluate(e)
	if err != nil || types.IsUnknown(value) {
		return facts.Value{}, err
	}
	return entry.Type.Parse(formatCEL(value))
}

func (j *judging) modeTarget(source strict.Expr) (*facts.ModeTarget, error) {
	e, err := j.baseline.fixExpression(j.rule, source, cel.IntType)
	if err != nil {
		return nil, err
	}
	value, err := j.evaluate(e)
	if err != nil {
		return nil, err
	}
	now, _ := j.item.Field("mode")
	to, _ := value.Value().(int64)
	return &facts.ModeTarget{From: now, To: facts.NumberOf(facts.Mode, to), Origin: j.item.Origin()}, nil
}

// checkFixExpressions compiles the expressions of a rule's fix.
func (b *Baseline) checkFixExpressions(r *Rule) error {
	for _, f := range r.Fix {
		for name, source := range f.SetTo {
			entry, _ := facts.Lookup(facts.Settings.Name(name))
			if _, err := b.fixExpression(r, source, celTypes[entry.Type]); err != nil {
				return err
			}
		}
		for source, want := range map[strict.Expr]*cel.Type{f.Mode: cel.IntType, f.If: cel.BoolType} {
			if source.Source == "" {
				continue
			}
			if _, err := b.fixExpression(r, source, want); err != nil {
				return err
			}
		}
	}
	return nil
}
