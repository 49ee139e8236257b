package cli

import (
	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/render"
)

func (p *program) settingsCommand() *cobra.Command {
	return p.viewCommand("settings [SITE]", "Shows every setting: what is declared, what is served, what is expected, and the verdict",
		func(r *audit.Result) []form {
			side := r.SideBySide(len(p.only) > 0)
			return []form{p.text(func(page render.Page) { render.Settings(page, r, side) }), jsonForm(side)}
		})
}

func (p *program) filesCommand() *cobra.Command {
	return p.viewCommand("files [SITE]", "Shows the file tree in classes: role, mode, owner, count, and what is expected",
		func(r *audit.Result) []form {
			return []form{p.text(func(page render.Page) { render.Files(page, r) }), jsonForm(r.Tree())}
		})
}

// viewCommand makes a command that shows one view of an audit. It judges only to say what is expected, so its
// exit status says only whether everything could be seen.
func (p *program) viewCommand(use, short string, forms func(*audit.Result) []form) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: cobra.MaximumNArgs(1),
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
	}
}
