package cli

import (
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
)

func (p *program) explainCommand() *cobra.Command {
	return p.written(p.looking(&cobra.Command{
		Use:   "explain NAME [SITE]",
		Short: "Says in plain words what a rule, a setting or any other name is about",
		Long: `Says in plain words what a name is about: a rule, a setting, a name that the live source tells, an area, a list or one
of its fields, a limit, a function of rules; or robots, which explains what search engines may do. With SITE it says
how that stands there: every place that has a say in a setting, the effective one first, and what the rules say.`,
		Example: "  weltaxis explain hardening.debug-off\n  weltaxis explain site.title mysite/weltaxis.yaml\n  weltaxis explain robots https://www.name.example",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return errors.New("name a rule, a setting or another name, such as hardening.debug-off or site.title, and perhaps a site")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			b, err := baseline.Load(p.baselines...)
			if err != nil {
				return err
			}
			if err := b.Compile(); err != nil {
				return err
			}
			name := present(b, args[:1])[0]
			if _, err := report.Explain(b, name, nil); err != nil {
				return err
			}
			var at *audit.Result
			site := ""
			if len(args) == 2 || p.site != "" {
				of, err := p.audit(c.Context(), args[1:])
				if err != nil {
					return err
				}
				at, b, site = of.Result, of.Rules, of.Site
			}
			e, err := report.Explain(b, name, at)
			if err != nil {
				return err
			}
			return p.write(p.text(func(page render.Sheet) { render.Explain(page, e, site) }), jsonForm(e))
		},
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			b, err := baseline.Load()
			if err != nil || len(args) > 0 {
				return nil, cobra.ShellCompDirectiveDefault
			}
			return report.Explained(b), cobra.ShellCompDirectiveNoFileComp
		},
	}), "text", "json")
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
