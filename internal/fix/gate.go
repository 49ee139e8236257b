package fix

import (
	"fmt"
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// A Consent is what somebody has allowed.
type Consent struct {
	Upto  facts.Risk
	Names []string // rules and settings that were named one by one
	// Yes asks for a yes to one disruptive change; nil says yes to all.
	Yes func(Change) error
}

// allows tells whether a change may be made: by its risk, and for a disruptive one by its name.
func (k Consent) allows(c Change) bool {
	if !c.Makeable() {
		return false
	}
	if c.Risk != facts.Disruptive {
		return c.Risk <= k.Upto
	}
	return k.Upto == facts.Disruptive && k.named(c)
}

// named tells whether the change itself was asked for.
func (k Consent) named(c Change) bool {
	return slices.Contains(k.Names, c.Key) || slices.ContainsFunc(c.Rules, func(rule string) bool { return slices.Contains(k.Names, rule) })
}

// hold keeps back what lets search engines in as long as something that they would see is not put right in the same
// run, unless it was named.
func (k Consent) hold(chosen, rest []Change) (made, kept []Change) {
	for _, c := range chosen {
		var open []string
		for _, rule := range c.After {
			if slices.ContainsFunc(rest, func(o Change) bool { return slices.Contains(o.Rules, rule) }) {
				open = append(open, rule)
			}
		}
		if len(open) == 0 || k.named(c) {
			made = append(made, c)
			continue
		}
		c.Needs = "search engines would see " + strings.Join(open, ", ") + "; put that right before, or name this one"
		kept = append(kept, c)
	}
	return made, append(kept, rest...)
}

// settles tells of what ends a run that a rule is put right by it, so that it is made for its own sake.
func (c Change) settles() bool { return c.Finisher() && len(c.Rules) > 0 }

// Gate divides the plan into the changes that may be made and the rest. What ends a run is made only after something
// else. The error is that of a yes that was not given; then nothing may be made.
func (p *Plan) Gate(k Consent) (chosen, rest []Change, err error) {
	for _, c := range p.Changes {
		if k.allows(c) {
			chosen = append(chosen, c)
		} else {
			rest = append(rest, c)
		}
	}
	chosen, rest = k.hold(chosen, rest)
	if !slices.ContainsFunc(chosen, func(c Change) bool { return !c.Finisher() || c.settles() }) {
		return nil, slices.Clone(p.Changes), nil
	}
	for _, c := range chosen {
		if c.Risk == facts.Disruptive && k.Yes != nil {
			if err := k.Yes(c); err != nil {
				return nil, nil, fmt.Errorf("nothing was changed: %w", err)
			}
		}
	}
	return chosen, rest, nil
}
