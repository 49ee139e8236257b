package baseline

import (
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/interpreter"

	"weltaxis/internal/facts"
)

// Decisive lists the full names on which the rule's condition turned for a deviation: of a conjunction only the parts
// that are false, of a choice only the branch that was taken. A condition that cannot be taken apart turned on all that
// it mentions.
func (b *Baseline) Decisive(s *facts.Snapshot, d facts.Deviation) []string {
	r, known := b.Rule(d.Rule)
	if !known || r.code == nil {
		return nil
	}
	if d.AsConfigured && r.configured != nil {
		r = r.configured
	}
	j := &judging{baseline: b, rule: r, snapshot: s, item: d.Item}
	names := j.turnedOn(r.code.holds)
	var full []string
	for _, name := range names {
		if strings.HasPrefix(name, limitsPrefix) || name == takenName {
			continue
		}
		of := j.catalogueName(name)
		if field, ok := j.itemField(name); ok {
			of = r.list + "." + shownField(r.list, field)
		}
		if !slices.Contains(full, of) {
			full = append(full, of)
		}
	}
	return full
}

// turnedOn evaluates a condition that is false once more, watching every part of it.
func (j *judging) turnedOn(e *expr) []string {
	options := []cel.ProgramOption{cel.EvalOptions(cel.OptExhaustiveEval, cel.OptPartialEval)}
	if !j.rule.builtIn {
		options = append(options, cel.CostLimit(costLimit))
	}
	watched, err := j.rule.code.env.Program(e.checked, options...)
	if err != nil {
		return e.names
	}
	activation, err := j.partly(e)
	if err != nil {
		return e.names
	}
	_, details, err := watched.Eval(activation)
	if err != nil || details == nil || details.State() == nil {
		return e.names
	}
	t := turning{state: details.State(), tree: e.checked.NativeRep()}
	t.walk(t.tree.Expr())
	if len(t.names) == 0 {
		return e.names
	}
	return t.names
}

// A turning finds what a condition turned on.
type turning struct {
	state interpreter.EvalState
	tree  *ast.AST
	names []string
}

// walk goes down where the value of an expression comes from.
func (t *turning) walk(e ast.Expr) {
	if e.Kind() != ast.CallKind {
		t.all(e)
		return
	}
	value, _ := t.state.Value(e.ID())
	args := e.AsCall().Args()
	switch e.AsCall().FunctionName() {
	case operators.LogicalAnd, operators.LogicalOr: // those parts that are as the whole is decide it, if one is enough
		enough := types.False
		if e.AsCall().FunctionName() == operators.LogicalOr {
			enough = types.True
		}
		for _, arg := range args {
			if part, is := t.state.Value(arg.ID()); value != enough || is && part == enough {
				t.walk(arg)
			}
		}
	case operators.LogicalNot:
		t.walk(args[0])
	case operators.Conditional:
		t.all(args[0])
		if condition, is := t.state.Value(args[0].ID()); is && condition == types.True {
			t.walk(args[1])
		} else {
			t.walk(args[2])
		}
	default:
		t.all(e)
	}
}

// all takes every variable below an expression.
func (t *turning) all(e ast.Expr) {
	ast.PreOrderVisit(e, ast.NewExprVisitor(func(e ast.Expr) {
		reference, is := t.tree.ReferenceMap()[e.ID()]
		if is && reference.Name != "" && reference.Value == nil && !strings.HasPrefix(reference.Name, "@") && !slices.Contains(t.names, reference.Name) {
			t.names = append(t.names, reference.Name)
		}
	}))
}
