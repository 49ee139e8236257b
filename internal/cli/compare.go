package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/compare"
	"weltaxis/internal/history"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/site"
)

func (p *program) compareCommand() *cobra.Command {
	var full bool
	c := p.written(p.keeping(p.sited(&cobra.Command{
		Use:   "compare [SITE] [A] [B]",
		Short: "Says what changed between two looks at a site: the last two, or others",
		Long: `Sets two looks side by side and says what changed on the site: settings, pages, files, what the server has been told. Apart from that it
says which deviations came, went, or are worse or better, and what is another only because the baseline, the dialect or this program
changed, or because something could not be seen.

A and B are audits that were kept, by number or day (the last up to 2026-03-05); files of snapshots or results; or two sites, each with its
last audit. With one, it is compared with the last audit; with none, the last two are.

Exit status: 0 nothing of the site changed · 1 something did · 2 wrong use`,
		Args: takes(0, 3),
		RunE: func(c *cobra.Command, args []string) error {
			before, after, err := p.looks(c.Context(), args)
			if err != nil {
				return err
			}
			said := report.Compare(compare.Of(before, after))
			if err := p.write(p.text(func(page render.Sheet) { render.Compare(page, said, full) }), jsonForm(said)); err != nil {
				return err
			}
			if !said.Same() {
				return status(exitDeviates)
			}
			return nil
		},
		Example:           "  weltaxis compare mysite\n  weltaxis compare mysite 11 14\n  weltaxis compare mysite 2026-03-05\n  weltaxis compare before.json after.json",
		ValidArgsFunction: completeSites,
	})), "text", "json")
	c.Flags().BoolVar(&p.offline, "offline", false, "let no request leave when a site is looked at that no audit is kept of")
	c.Flags().BoolVar(&full, "full", false, "every place, and what deviates as before")
	return c
}

// looks finds the two looks that are to be compared among the arguments.
func (p *program) looks(ctx context.Context, args []string) (before, after compare.Look, err error) {
	var sites, looks []string
	for _, arg := range args {
		if isLook(arg) {
			looks = append(looks, arg)
		} else {
			sites = append(sites, arg)
		}
	}
	switch {
	case len(sites) > 2, len(sites) == 2 && len(looks) > 0, len(looks) > 2:
		return before, after, errors.New("name a site and two of its audits, or two files, or two sites")
	case len(sites) == 2:
		if p.site != "" {
			return before, after, errors.New("the sites are named as arguments and with --site; name them once")
		}
		if before, err = p.lastOf(ctx, sites[0]); err == nil {
			after, err = p.lastOf(ctx, sites[1])
		}
		return before, after, err
	case len(looks) == 2 && isFile(looks[0]) && isFile(looks[1]):
		if len(sites) > 0 || p.site != "" {
			return before, after, errors.New("two files need no site")
		}
		if before, err = p.lookFile(looks[0]); err == nil {
			after, err = p.lookFile(looks[1])
		}
		return before, after, err
	}
	_, store, audits, err := p.kept(ctx, sites)
	if err != nil {
		return before, after, err
	}
	defer store.Close()
	last := strconv.FormatInt(audits[len(audits)-1].ID, 10)
	switch len(looks) {
	case 0:
		if len(audits) < 2 {
			return before, after, errors.New("only one audit of this site is kept; there is nothing to compare it with yet")
		}
		looks = []string{strconv.FormatInt(audits[len(audits)-2].ID, 10), last}
	case 1:
		looks = append(looks, last)
	}
	if before, err = p.keptLook(ctx, store, audits, looks[0]); err == nil {
		after, err = p.keptLook(ctx, store, audits, looks[1])
	}
	return before, after, err
}

func isFile(name string) bool { return strings.EqualFold(filepath.Ext(name), ".json") }

// isLook tells whether an argument is an audit or a file of one, and not a site: a number, a day, or the name of a file. A folder
// that is called like a number is a site.
func isLook(arg string) bool {
	if isFile(arg) {
		return true
	}
	if _, err := os.Stat(filepath.Join(arg, site.FileName)); err == nil {
		return false
	}
	if _, err := strconv.ParseUint(arg, 10, 63); err == nil {
		return true
	}
	_, err := time.Parse(time.DateOnly, arg)
	return err == nil
}

// keptLook is an audit that was kept, or a file.
func (p *program) keptLook(ctx context.Context, store *history.Store, audits []history.Audit, name string) (compare.Look, error) {
	if isFile(name) {
		return p.lookFile(name)
	}
	a, err := history.Find(audits, name)
	if err != nil {
		return compare.Look{}, err
	}
	k, err := store.Load(ctx, a)
	if err != nil {
		return compare.Look{}, err
	}
	return k.Look(), nil
}

// lastOf is the last audit of a site, or a look at it now when none is kept.
func (p *program) lastOf(ctx context.Context, name string) (compare.Look, error) {
	s, err := p.loadSite(name)
	if err != nil {
		return compare.Look{}, err
	}
	store, err := p.reading(ctx)
	if err != nil && !errors.Is(err, history.ErrNone) {
		return compare.Look{}, err
	}
	if err == nil {
		defer store.Close()
		audits, err := store.List(ctx, historyOf(s))
		if err != nil {
			return compare.Look{}, err
		}
		if len(audits) > 0 {
			k, err := store.Load(ctx, audits[len(audits)-1])
			if err != nil {
				return compare.Look{}, err
			}
			look := k.Look()
			look.Called = s.Name
			return look, nil
		}
	}
	if !p.quiet {
		fmt.Fprintf(p.err, "no audit of %s is kept; looking at it now\n", render.Safe(s.Name))
	}
	result, err := audit.Run(ctx, s, p.now(), p.options())
	if err != nil {
		return compare.Look{}, err
	}
	return lookOf(s.Name, result)
}
