package baseline

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"

	"weltaxis/internal/nearest"
	"weltaxis/internal/strict"
)

// costLimit bounds the work of one expression, so that somebody else's rule cannot keep the program busy. The
// unit is that of CEL's cost tracking. The built-in rules are not bounded.
const costLimit = 1_000_000

// An expr is one compiled expression.
type expr struct {
	program cel.Program
	checked *cel.Ast
	names   []string // the variables it mentions, in order
}

// code is a rule, compiled. Messages are compiled when a deviation needs them.
type code struct {
	env      *cel.Env
	when     *expr // nil for always
	holds    *expr
	severity []*expr // nil for the last, which has no condition
	again    *expr   // what asks for a follow-up; nil for nothing
	on       *expr   // and its day; nil when it is counted
	messages map[string]message
	fixes    map[string]*expr // by source
}

// compile compiles what judging needs.
func (b *Baseline) compile(r *Rule) error {
	env, err := b.envFor(r)
	if err != nil {
		return err
	}
	c := &code{env: env, messages: map[string]message{}, fixes: map[string]*expr{}}
	if r.When.Source != "" {
		if c.when, err = b.expression(r, env, r.When, "when", cel.BoolType); err != nil {
			return err
		}
	}
	if c.holds, err = b.expression(r, env, r.Holds, "holds", cel.BoolType); err != nil {
		return err
	}
	for _, s := range r.Severity {
		var condition *expr
		if s.If.Source != "" {
			if condition, err = b.expression(r, env, s.If, "severity", cel.BoolType); err != nil {
				return err
			}
		}
		c.severity = append(c.severity, condition)
	}
	if err := b.compileFollowUp(r, env, c); err != nil {
		return err
	}
	if r.configured != nil {
		if err := b.compile(r.configured); err != nil {
			return err
		}
	}
	r.code = c
	return nil
}

func (b *Baseline) envFor(r *Rule) (*cel.Env, error) {
	if b.compiler.env == nil {
		var err error
		if b.compiler.env, err = newEnv(b.Limits); err != nil {
			return nil, err
		}
	}
	if r.list == "" {
		return b.compiler.env, nil
	}
	if env, there := b.compiler.itemEnvs[r.Each]; there {
		return env, nil
	}
	env, err := b.compiler.env.Extend(itemVariables(r.list, r.as)...)
	if err != nil {
		return nil, r.errorf("%w", err)
	}
	b.compiler.itemEnvs[r.Each] = env
	return env, nil
}

// expression compiles one expression, which must give the type; nil takes any.
func (b *Baseline) expression(r *Rule, env *cel.Env, source strict.Expr, part string, want *cel.Type) (*expr, error) {
	fail := func(line int, says string, args ...any) error {
		at := source.Pos
		at.Line, at.Column = at.Line+line, 0
		if source.Pos.Line == 0 {
			at = r.Pos
		}
		return strict.Errorf(r.file, strict.Pos{Line: at.Line, Column: max(at.Column, 1)}, "rule %s, %s: %w", r.ID, part, fmt.Errorf(says, args...))
	}
	checked, issues := env.Compile(source.Source)
	if issues.Err() != nil {
		first := issues.Errors()[0]
		return nil, fail(first.Location.Line()-1, "%s", b.plainIssue(r, first.Message, source.Source))
	}
	if want != nil && !checked.OutputType().IsExactType(want) {
		return nil, fail(0, "it gives a %s; a %s is needed", checked.OutputType(), want)
	}
	if word, of := wrongWord(r, checked.NativeRep()); word != "" {
		words := wordsOf(r, of)
		return nil, fail(0, "%s is never %q%s; it is one of %s", of, word, nearest.Hint(word, words), strings.Join(words, ", "))
	}
	options := []cel.ProgramOption{cel.EvalOptions(cel.OptOptimize, cel.OptPartialEval)}
	if !r.builtIn {
		options = append(options, cel.CostLimit(costLimit), cel.InterruptCheckFrequency(64)) // counting costs a quarter of the time
	}
	program, err := env.Program(checked, options...)
	if err != nil {
		return nil, fail(0, "%w", err)
	}
	return &expr{program, checked, namesIn(checked.NativeRep())}, nil
}

var undeclared = regexp.MustCompile(`undeclared reference to '([^']+)'`)

// plainIssue puts a checker's message into plain words, with the name that was probably meant.
func (b *Baseline) plainIssue(r *Rule, message, source string) string {
	m := undeclared.FindStringSubmatch(message)
	if m == nil {
		return message
	}
	name := m[1]
	// The checker names only the first part of a dotted name; the source has all of it.
	if full := regexp.MustCompile(`\b` + regexp.QuoteMeta(name) + `(\.[a-z_]+)*`).FindString(source); full != "" {
		name = full
	}
	return fmt.Sprintf("there is nothing called %q%s", name, nearest.Hint(name, b.declared(r)))
}

// namesIn lists the variables an expression mentions, in order.
func namesIn(checked *ast.AST) []string {
	type mention struct {
		id   int64
		name string
	}
	var found []mention
	for id, reference := range checked.ReferenceMap() {
		if reference.Name != "" && reference.Value == nil {
			found = append(found, mention{id, reference.Name})
		}
	}
	slices.SortFunc(found, func(a, b mention) int { return int(a.id - b.id) })
	var names []string
	for _, m := range found {
		if !slices.Contains(names, m.name) && !strings.HasPrefix(m.name, "@") {
			names = append(names, m.name)
		}
	}
	return names
}

// wrongWord finds a text compared with a name of a fixed set of words that is none of them; CEL does not.
func wrongWord(r *Rule, checked *ast.AST) (word, of string) {
	ast.PostOrderVisit(checked.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.CallKind || word != "" {
			return
		}
		call := e.AsCall()
		switch call.FunctionName() {
		case operators.Equals, operators.NotEquals, operators.In:
		default:
			return
		}
		left, right := call.Args()[0], call.Args()[1]
		for _, pair := range [][2]ast.Expr{{left, right}, {right, left}} {
			reference, known := checked.ReferenceMap()[pair[0].ID()]
			if !known {
				continue
			}
			words := wordsOf(r, reference.Name)
			for _, text := range literals(pair[1]) {
				if words != nil && !slices.Contains(words, text) {
					word, of = text, reference.Name
				}
			}
		}
	}))
	return word, of
}

func literals(e ast.Expr) []string {
	switch e.Kind() {
	case ast.LiteralKind:
		if text, ok := e.AsLiteral().Value().(string); ok {
			return []string{text}
		}
	case ast.ListKind:
		var all []string
		for _, item := range e.AsList().Elements() {
			all = append(all, literals(item)...)
		}
		return all
	}
	return nil
}

// A message is text with expressions in braces, taken apart.
type message []struct {
	text string // before the expression
	expr *expr  // nil at the end
}

var braces = regexp.MustCompile(`\{([^{}]+)\}`)

// message compiles the expressions of a text.
func (b *Baseline) message(r *Rule, text, part string) (message, error) {
	b.compiler.mu.Lock()
	defer b.compiler.mu.Unlock()
	if kept, there := r.code.messages[text]; there {
		return kept, nil
	}
	env := r.code.env
	var m message
	at := 0
	for _, span := range braces.FindAllStringSubmatchIndex(text, -1) {
		e, err := b.expression(r, env, strict.Expr{Source: text[span[2]:span[3]]}, part, nil)
		if err != nil {
			return nil, err
		}
		m = append(m, struct {
			text string
			expr *expr
		}{text[at:span[0]], e})
		at = span[1]
	}
	m = append(m, struct {
		text string
		expr *expr
	}{text[at:], nil})
	r.code.messages[text] = m
	return m, nil
}

// fixExpression compiles an expression of a fix, once.
func (b *Baseline) fixExpression(r *Rule, source strict.Expr, want *cel.Type) (*expr, error) {
	b.compiler.mu.Lock()
	defer b.compiler.mu.Unlock()
	if kept, there := r.code.fixes[source.Source]; there {
		return kept, nil
	}
	e, err := b.expression(r, r.code.env, source, "fix", want)
	if err == nil {
		r.code.fixes[source.Source] = e
	}
	return e, err
}

// CheckMessages compiles what judging leaves until it is needed: messages and fixes. It is for checking a
// baseline, one's own or the built-in one.
func (b *Baseline) CheckMessages() error {
	for _, r := range b.Rules {
		parts := []string{r.Says, r.Expected}
		for _, f := range r.Fix {
			parts = append(parts, f.Steps...)
			if f.Write != nil {
				parts = append(parts, f.Write.Line, f.Write.Drop)
			}
		}
		if r.FollowUp != nil {
			parts = append(parts, r.FollowUp.What)
		}
		for _, part := range parts {
			if _, err := b.message(r, part, "message"); err != nil {
				return err
			}
		}
		if err := b.checkFixExpressions(r); err != nil {
			return err
		}
	}
	return nil
}
