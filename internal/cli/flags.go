package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/site"
)

// The options that mean the same everywhere. A command has those that do something there, and no others.

// sited gives a command --site.
func (p *program) sited(c *cobra.Command) *cobra.Command {
	c.Flags().StringVar(&p.site, "site", "", "site file, or the folder that holds it")
	_ = c.MarkFlagFilename("site", "yaml", "yml", "json")
	return c
}

// looking gives a command what says how a site is looked at and judged.
func (p *program) looking(c *cobra.Command) *cobra.Command {
	flags := p.sited(c).Flags()
	flags.StringVar(&p.stage, "stage", "", "judge as if in this stage: "+strings.Join(site.Stages(), ", "))
	flags.StringSliceVar(&p.only, "only", nil, "areas, rules or severities, with commas between")
	flags.StringSliceVar(&p.baselines, "baseline", nil, "files of rules added to the built-in ones")
	flags.BoolVar(&p.offline, "offline", false, "let no request leave: the live source is not asked")
	flags.BoolVar(&p.ignore, "ignore-robots", false, "look at what robots.txt asks robots not to, on a site of one's own")
	complete(c, "stage", site.Stages()...)
	_ = c.RegisterFlagCompletionFunc("only", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return judgedNames(), cobra.ShellCompDirectiveNoFileComp
	})
	_ = c.MarkFlagFilename("baseline", "yaml", "yml")
	return c
}

// comparing gives a command --previous.
func (p *program) comparing(c *cobra.Command) *cobra.Command {
	c.Flags().StringVar(&p.previous, "previous", "", "an earlier snapshot of the site: what answered then should answer now")
	_ = c.MarkFlagFilename("previous", "json")
	return c
}

// written gives a command what says where its output goes, and in which of its formats; the first is the usual one.
func (p *program) written(c *cobra.Command, formats ...string) *cobra.Command {
	flags := c.Flags()
	if len(formats) > 1 {
		flags.StringVar(&p.format, "format", formats[0], "one of "+strings.Join(formats, ", "))
		complete(c, "format", formats...)
	}
	flags.StringVar(&p.output, "output", "", "write to this file instead of standard output")
	flags.BoolVar(&p.quiet, "quiet", false, "print nothing but errors; the exit status says the rest")
	return c
}

// complete offers the words of a flag to a shell.
func complete(c *cobra.Command, flag string, words ...string) {
	_ = c.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp))
}

// judgedNames are the areas, rules and severities, for a shell.
func judgedNames() []string {
	b, err := baseline.Load()
	if err != nil {
		return nil
	}
	return slices.Concat(baseline.Areas, facts.SeverityWords(), b.IDs())
}

// completeSites offers site files, snapshots and folders for the first argument of a command.
func completeSites(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return []string{"yaml", "yml", "json"}, cobra.ShellCompDirectiveFilterFileExt
}
