package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"weltaxis/internal/baseline"
	"weltaxis/internal/render"
)

func (p *program) baselineCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "baseline",
		Short: "Lists the rules, checks one's own, exports a copy to change",
	}
	c.AddCommand(
		p.written(p.ruled(&cobra.Command{
			Use: "list", Short: "Lists the rules", Args: takes(0, 0), Example: "  weltaxis baseline list --only titles,critical",
			RunE: func(*cobra.Command, []string) error {
				b, err := p.rules()
				if err != nil {
					return err
				}
				return p.write(p.text(func(page render.Sheet) { render.Rules(page, b) }), jsonForm(render.RuleList(b)))
			},
		}), "text", "json"),
		p.written(&cobra.Command{
			Use: "check FILE", Short: "Checks a file of rules, messages and fixes included",
			Args: oneArgument("name the file of rules to check"),
			RunE: func(_ *cobra.Command, args []string) error {
				p.baselines = append(p.baselines, args[0])
				b, err := p.rules()
				if err != nil {
					return err
				}
				if err := b.CheckMessages(); err != nil {
					return err
				}
				return p.write(p.text(func(page render.Sheet) {
					fmt.Fprintf(page, "%s is in order; with it there are %d rules\n", render.Safe(args[0]), len(b.Rules))
				}))
			},
			Example: "  weltaxis baseline check own.yaml",
		}, "text"),
		p.written(&cobra.Command{
			Use: "export AREA", Short: "Writes the built-in rules of an area, as a start for one's own",
			Args: oneArgument("name an area, such as titles"),
			RunE: func(_ *cobra.Command, args []string) error {
				source, err := baseline.Source(args[0])
				if err != nil {
					return err
				}
				p.format = "yaml"
				return p.write(form{"yaml", func(w io.Writer) error { _, err := w.Write(source); return err }})
			},
			ValidArgs: baseline.Areas, Example: "  weltaxis baseline export titles --output own.yaml",
		}, "yaml"),
	)
	return c
}

// rules loads and compiles the baseline without a site.
func (p *program) rules() (*baseline.Baseline, error) {
	b, err := baseline.Load(p.baselines...)
	if err != nil {
		return nil, err
	}
	return b, b.Compile(p.only...)
}

// ruled gives a command what says which rules it is about.
func (p *program) ruled(c *cobra.Command) *cobra.Command {
	c.Flags().StringSliceVar(&p.only, "only", nil, "areas, rules or severities, with commas between")
	c.Flags().StringSliceVar(&p.baselines, "baseline", nil, "files of rules added to the built-in ones")
	return c
}
