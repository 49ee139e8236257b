package cli

import (
	"context"
	"log/slog"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"weltaxis/internal/facts"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
)

func (p *program) exposureCommand() *cobra.Command {
	return p.written(p.keeping(p.looking(&cobra.Command{
		Use:   "exposure [SITE]",
		Short: "Shows what a stranger can tell of what a site runs on, and from which sign",
		Long: `Shows what a stranger can tell of what a site runs on: the content system, its version, extensions, themes, the runtime, the server;
and from which sign each: tags, headers, names of cookies, addresses of assets, comments, feeds, pages of errors. Each sign says how surely it tells.
Where audits of the site are kept, the signs of the last stand beside those of now, so that hiding can be seen to have worked.

Hiding is no protection: what is out of date stays so. It is said which sign is worth the trouble. The signs of a content system are its dialect's
(signs: in a dialect); of an address alone those of all dialects that ship are looked for, and what an ordinary visitor does not see is left out.`,
		Example: "  weltaxis exposure https://www.name.example\n  weltaxis exposure mysite --format json",
		Args:    takes(0, 1), ValidArgsFunction: completeSites,
		RunE: func(c *cobra.Command, args []string) error {
			result, err := p.audit(c.Context(), args)
			if err != nil {
				return err
			}
			e := report.ExposureOf(result.Result, p.lastOther(c.Context(), args, result.Snapshot))
			if err := p.write(p.text(func(page render.Sheet) { render.Exposure(page, e) }), jsonForm(e)); err != nil {
				return err
			}
			if result.Partial() {
				return status(exitPartial)
			}
			return nil
		},
	})), "text", "json")
}

// lastOther is the last kept audit of a site that saw other signs than now, or else the last that looked for any; nil when none is kept. That it
// cannot be read is said, and nothing more.
func (p *program) lastOther(ctx context.Context, args []string, now *facts.Snapshot) *facts.Snapshot {
	name, err := p.siteArgument(args)
	if err != nil || isAddress(name) || strings.EqualFold(filepath.Ext(name), ".json") {
		return nil
	}
	s, err := p.loadSite(name)
	if err != nil {
		return nil // the audit has said it
	}
	store, err := p.reading(ctx)
	if err != nil {
		return nil
	}
	defer store.Close()
	var last *facts.Snapshot
	audits, err := store.List(ctx, historyOf(s))
	if err == nil {
		earlier := before(audits, 0)
		last, err = otherSigns(ctx, store, earlier[:min(len(earlier), maxBack)], now)
	}
	if err != nil {
		slog.Warn("earlier audits could not be read, so nothing stands beside this look", "error", err)
	}
	return last
}

// maxBack is how many audits are gone back for one that saw other signs.
const maxBack = 20
