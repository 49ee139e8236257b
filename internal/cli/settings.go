package cli

import (
	"io"

	"github.com/spf13/cobra"

	"weltaxis/internal/render"
	"weltaxis/internal/report"
)

func (p *program) settingsCommand() *cobra.Command {
	var export string
	c := p.viewCommand("settings [SITE]", "Shows every setting: what is declared, what is served, what is expected, and the verdict",
		"  weltaxis settings mysite/weltaxis.yaml --only titles\n  weltaxis settings mysite --export kept.yaml",
		func(r *report.Report) []form {
			side := r.SideBySide(len(p.only) > 0)
			return []form{p.text(func(page render.Sheet) { render.Settings(page, r, side) }), jsonForm(side)}
		}, "text", "json")
	c.Long = `Shows every setting: what is declared, what is served, what is expected, and the verdict.

--export FILE writes down the values of a site that is as it should be, without what is its own (title, addresses,
mailboxes, tokens, secrets), in neutral words: weltaxis fix --values FILE brings another site to them, also one on
another content system. What deviates is left out.`
	show := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		if export == "" {
			return show(c, args)
		}
		result, err := p.audit(c.Context(), args)
		if err != nil {
			return err
		}
		kept, left := result.Exportable()
		if err := writeFile("--export", export, func(w io.Writer) error { return render.Values(w, result.Result, kept) }); err != nil {
			return err
		}
		return p.write(p.text(func(page render.Sheet) { render.Exported(page, export, kept, left) }), jsonForm(kept))
	}
	c.Flags().StringVar(&export, "export", "", "write the site's values to this file, for fix --values")
	return c
}

func (p *program) filesCommand() *cobra.Command {
	var tree bool
	c := p.viewCommand("files [SITE]", "Shows the file tree in classes: what is, what ought to be, and who may read and write",
		"  weltaxis files mysite/weltaxis.yaml\n  weltaxis files mysite --tree --offline",
		func(r *report.Report) []form {
			show := render.Files
			if tree {
				show = render.FilesTree
			}
			return []form{p.text(func(page render.Sheet) { show(page, r) }), jsonForm(r.Tree())}
		}, "text", "json")
	c.Long = `Shows the file tree in classes, each of entries that are alike in everything that matters: what they are for, their
permissions in digits and letters, what those ought to be, and who may read and write them, worked out from the mode, the access control
list, the folders above and the way the place is mounted. Whom the web server runs as is what intent.web_user says, or else follows from
what it made. With --tree the same by what entries are for, with more of their names.`
	c.Flags().BoolVar(&tree, "tree", false, "as a tree of what entries are for, with more names")
	return c
}

// viewCommand makes a command that shows one view of an audit. It judges only to say what is expected, so its
// exit status says only whether everything could be seen.
func (p *program) viewCommand(use, short, example string, forms func(*report.Report) []form, formats ...string) *cobra.Command {
	return p.written(p.looking(&cobra.Command{
		Use: use, Short: short, Example: example, Args: takes(0, 1), ValidArgsFunction: completeSites,
		RunE: func(c *cobra.Command, args []string) error {
			result, err := p.audit(c.Context(), args)
			if err != nil {
				return err
			}
			if err := p.write(forms(result)...); err != nil {
				return err
			}
			if result.Partial() {
				return status(exitPartial)
			}
			return nil
		},
	}), formats...)
}
