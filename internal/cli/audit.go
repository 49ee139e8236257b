package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"weltaxis/internal/facts"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
)

func (p *program) auditCommand() *cobra.Command {
	alarm := facts.High.String()
	var brief, full bool
	var k keeping
	var page paging
	c := p.paged(p.written(p.keeping(p.comparing(p.looking(&cobra.Command{
		Use:   "audit [SITE]",
		Short: "Looks at a site from every side and reports what deviates, with fixes",
		Long: `Looks at a site from every side that its site file names, judges what it sees by the baseline, and reports
what deviates, with fixes, and what could not be seen. Nothing on the site changes.

SITE is a site file, a folder that holds weltaxis.yaml, a snapshot (.json), or just an address; default: the folder
you are in. Of an address only what an ordinary visitor sees is looked at.

Each audit of a site file is kept (--no-keep keeps none), and set beside those before: on top stands what came and went since the last,
and of what deviates, between which two looks it began. With --new only what is new is reported and counts for the exit status;
--new=FILE takes a result or a snapshot instead of the last audit. --on-new COMMAND ARG..., as the last option, starts a command when
something at or above --alarm is new, with what is new as JSON on its standard input, no shell between, and a minute's time.

--format html writes one page to read in a browser, on a telephone or on paper, which loads nothing from anywhere. With --for client it
is one for whoever the site is kept for: why each matter counts, without files, settings and commands, and of what would help whoever means
harm only that the administrator knows. --note FILE puts a word of your own on top, in Markdown.

` + statusHelp,
		Example: "  weltaxis audit mysite/weltaxis.yaml\n  weltaxis audit https://www.name.example\n  weltaxis audit --stage live --only visibility,critical --brief\n  weltaxis audit mysite --new --quiet --on-new /usr/local/bin/tell-us --urgent",
		Args:    takes(0, 1), ValidArgsFunction: completeSites,
		RunE: func(c *cobra.Command, args []string) error {
			threshold, err := severityOf("alarm", alarm)
			if err != nil {
				return err
			}
			if err := page.check(c, p); err != nil {
				return err
			}
			if brief && full {
				return errors.New("say either --brief or --full")
			}
			if len(p.onNew) > 0 {
				k.tell = append([]string{k.told}, p.onNew...)
			} else if k.told != "" {
				k.tell = []string{k.told}
			}
			p.pictures = p.format == "html" || !k.forget
			s, result, note, err := p.auditAndKeep(c.Context(), args, k, threshold)
			if err != nil {
				return err
			}
			if err := p.write(p.text(func(out render.Sheet) {
				render.Text(out, result, detail(brief, full))
				render.Note(out, note)
			}), jsonForm(result), page.form(result, func() report.Kept { return p.keptOf(c.Context(), s, result.Snapshot, numberOf(result)) })); err != nil {
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
	}))), "text", "json", "html"), &page)
	c.Flags().BoolVar(&brief, "brief", false, "a line for each deviation")
	c.Flags().BoolVar(&full, "full", false, "every reading, where to do it by hand, and the rules that were not judged")
	c.Flags().StringVar(&alarm, "alarm", alarm, "the lowest severity that makes the exit status 1, or never")
	c.Flags().BoolVar(&k.forget, "no-keep", false, "do not keep this audit")
	c.Flags().StringVar(&k.fresh, "new", "", "report only what is new since the last audit, or since a result or snapshot: --new=FILE")
	c.Flags().Lookup("new").NoOptDefVal = lastAudit
	c.Flags().StringVar(&k.told, "on-new", "", "a command, with its arguments after it, to be started when something is new; comes last")
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

// numberOf is the number of an audit in the history, 0 when it is not kept.
func numberOf(r *report.Report) int64 {
	if r.History == nil {
		return 0
	}
	return r.History.Audit
}
