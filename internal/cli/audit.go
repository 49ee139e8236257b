package cli

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"weltaxis/internal/facts"
	"weltaxis/internal/nearest"
	"weltaxis/internal/ordinary"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
)

// Whom a page is for.
const forAdministrator, forClient = "administrator", "client"

var readers = []string{forAdministrator, forClient}

// noteFrom reads an author's word, which is a letter and no book.
func noteFrom(name string) (string, error) {
	if name == "" {
		return "", nil
	}
	data, err := ordinary.Read(name, 64<<10)
	if err != nil {
		return "", fmt.Errorf("--note: %w", err)
	}
	if !utf8.Valid(data) {
		return "", fmt.Errorf("--note: %s is not UTF-8; save it as that", name)
	}
	return string(data), nil
}

func (p *program) auditCommand() *cobra.Command {
	alarm, reader := facts.High.String(), forAdministrator
	var brief, full bool
	var noteFile string
	var k keeping
	c := p.written(p.keeping(p.comparing(p.looking(&cobra.Command{
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
		Args:    cobra.MaximumNArgs(1), ValidArgsFunction: completeSites,
		RunE: func(c *cobra.Command, args []string) error {
			threshold, err := severityOf("alarm", alarm)
			if err != nil {
				return err
			}
			if !slices.Contains(readers, reader) {
				return fmt.Errorf("--for: there is no report for %q%s; there are %s", reader, nearest.Hint(reader, readers), strings.Join(readers, ", "))
			}
			if p.format != "html" && (c.Flags().Changed("for") || noteFile != "") {
				return errors.New("--for and --note are of the page: add --format html")
			}
			word, err := noteFrom(noteFile)
			if err != nil {
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
			result, note, err := p.auditAndKeep(c.Context(), args, k, threshold)
			if err != nil {
				return err
			}
			if err := p.write(p.text(func(page render.Sheet) {
				render.Text(page, result, detail(brief, full))
				render.Note(page, note)
			}), jsonForm(result), form{"html", func(w io.Writer) error {
				if reader == forClient {
					return render.ClientHTML(w, report.ClientOf(result), word)
				}
				return render.HTML(w, report.DocumentOf(result), word)
			}}); err != nil {
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
	}))), "text", "json", "html")
	c.Flags().StringVar(&reader, "for", reader, "whom --format html is for, administrator or client")
	complete(c, "for", readers...)
	c.Flags().StringVar(&noteFile, "note", "", "a file with a word of your own in Markdown, to stand on top of the page")
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
