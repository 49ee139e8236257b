package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"weltaxis/internal/facts"
	"weltaxis/internal/render"
)

func (p *program) auditCommand() *cobra.Command {
	alarm := facts.High.String()
	var brief, full bool
	c := p.written(p.comparing(p.looking(&cobra.Command{
		Use:   "audit [SITE]",
		Short: "Looks at a site from every side and reports what deviates, with fixes",
		Long: `Looks at a site from every side that its site file names, judges what it sees by the baseline, and reports
what deviates, with fixes, and what could not be seen. Nothing on the site changes.

SITE is a site file, a folder that holds weltaxis.yaml, a snapshot (.json), or just an address; default: the folder
you are in. Of an address only what an ordinary visitor sees is looked at.

` + statusHelp,
		Example: "  weltaxis audit mysite/weltaxis.yaml\n  weltaxis audit https://www.name.example\n  weltaxis audit --stage live --only visibility,critical --brief",
		Args:    cobra.MaximumNArgs(1), ValidArgsFunction: completeSites,
		RunE: func(c *cobra.Command, args []string) error {
			threshold, err := severityOf("alarm", alarm)
			if err != nil {
				return err
			}
			if brief && full {
				return errors.New("say either --brief or --full")
			}
			result, err := p.audit(c.Context(), args)
			if err != nil {
				return err
			}
			if err := p.write(p.text(func(page render.Sheet) { render.Text(page, result, detail(brief, full)) }), jsonForm(result)); err != nil {
				return err
			}
			switch {
			case result.AtOrAbove(threshold):
				return status(exitDeviates)
			case result.Partial():
				return status(exitPartial)
			}
			return nil
		},
	})), "text", "json")
	c.Flags().BoolVar(&brief, "brief", false, "a line for each deviation")
	c.Flags().BoolVar(&full, "full", false, "every reading, where to do it by hand, and the rules that were not judged")
	c.Flags().StringVar(&alarm, "alarm", alarm, "the lowest severity that makes the exit status 1, or never")
	complete(c, "alarm", append(facts.SeverityWords(), "never")...)
	return c
}

func detail(brief, full bool) render.Detail {
	switch {
	case brief:
		return render.Brief
	case full:
		return render.Full
	}
	return render.Usual
}
