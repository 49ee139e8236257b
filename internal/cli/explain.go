package cli

import (
	"fmt"
	"log/slog"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"weltaxis/internal/baseline"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/nearest"
	"weltaxis/internal/render"
)

func (p *program) explainCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "explain RULE|SETTING",
		Short: "Says in plain words what a rule or a setting is about",
		Args:  oneArgument("name a rule or a setting, such as hardening.debug-off or site.title"),
		RunE: func(_ *cobra.Command, args []string) error {
			b, err := baseline.Load(p.baselines...)
			if err != nil {
				return err
			}
			name := present(b, args[:1])[0]
			if _, isRule := b.Rule(name); isRule {
				return p.explainRule(b, name)
			}
			return p.explainSetting(b, name)
		},
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			b, err := baseline.Load()
			if err != nil {
				return nil, cobra.ShellCompDirectiveError
			}
			return append(b.IDs(), facts.Names(facts.Settings)...), cobra.ShellCompDirectiveNoFileComp
		},
	}
}

// present puts the present names of rules and settings in the place of former ones, and says so.
func present(b *baseline.Baseline, names []string) []string {
	names = slices.Clone(names)
	for i, name := range names {
		now, changed := b.Present(name)
		if !changed {
			now, changed = facts.PresentSetting(strings.TrimPrefix(name, facts.Settings.All()))
		}
		if changed {
			slog.Warn(facts.Renamed(name, now))
			names[i] = now
		}
	}
	return names
}

func oneArgument(says string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) != 1 {
			return fmt.Errorf("%s", says)
		}
		return nil
	}
}

func (p *program) explainRule(b *baseline.Baseline, id string) error {
	if err := b.Compile(id); err != nil {
		return err
	}
	rule, _ := b.Rule(id)
	return p.write(p.text(func(page render.Sheet) { render.ExplainRule(page, b, rule) }))
}

func (p *program) explainSetting(b *baseline.Baseline, name string) error {
	full := facts.Settings.Name(strings.TrimPrefix(name, facts.Settings.All()))
	entry, known := facts.Lookup(full)
	if !known {
		return fmt.Errorf("there is no rule or setting %q%s; weltaxis baseline list lists the rules", name, nearest.Hint(name, append(b.IDs(), facts.Names(facts.Settings)...)))
	}
	if err := b.Compile(); err != nil {
		return err
	}
	var rules []string
	for _, rule := range b.Rules {
		if slices.Contains(rule.Mentions(), full) {
			rules = append(rules, rule.ID)
		}
	}
	spellings, err := spellingsOf(strings.TrimPrefix(full, facts.Settings.All()))
	if err != nil {
		return err
	}
	return p.write(p.text(func(page render.Sheet) { render.ExplainSetting(page, entry, rules, spellings) }))
}

// spellingsOf says where each shipped dialect keeps a setting.
func spellingsOf(name string) ([]render.Spelling, error) {
	var list []render.Spelling
	for _, shipped := range dialect.Shipped() {
		d, err := dialect.Load(shipped, "")
		if err != nil {
			return nil, err
		}
		s, mapped := d.Settings[name]
		if !mapped {
			continue
		}
		spelling := render.Spelling{Dialect: shipped, Place: strings.Join(s.Places(), ", else "), Screen: s.Screen}
		if s.Query != "" {
			spelling.Place = s.Query
		}
		if s.Default != nil {
			spelling.Default = string(*s.Default)
		}
		list = append(list, spelling)
	}
	return list, nil
}
