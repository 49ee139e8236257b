package cli

import (
	"github.com/spf13/cobra"

	"weltaxis/internal/render"
)

func (p *program) auditCommand() *cobra.Command {
	alarm := "high"
	c := &cobra.Command{
		Use:   "audit [SITE]",
		Short: "Looks at a site from every side and reports what deviates, with fixes",
		Long: `Looks at a site from every side that its site file names, judges what it sees by the baseline, and reports
what deviates, with fixes, and what could not be seen. Nothing on the site changes.

SITE is a site file, a folder that holds weltaxis.yaml, a snapshot (.json), or just an address; default: the folder
you are in. Of an address only what an ordinary visitor sees is looked at.

` + statusHelp,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := checkSeverity("alarm", alarm); err != nil {
				return err
			}
			result, err := p.audit(c.Context(), args)
			if err != nil {
				return err
			}
			if err := p.write(p.text(func(page render.Page) { render.Text(page, result) }), jsonForm(result)); err != nil {
				return err
			}
			switch {
			case alarm != "never" && result.AtOrAbove(alarm):
				return status(exitDeviates)
			case result.Partial():
				return status(exitPartial)
			}
			return nil
		},
	}
	c.Flags().StringVar(&alarm, "alarm", alarm, "the lowest severity that makes the exit status 1, or never")
	return c
}
