package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/fix"
	"weltaxis/internal/identity"
	"weltaxis/internal/pace"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/site"
)

func (p *program) paceCommand() *cobra.Command {
	times, forget := pace.DefaultTimes, false
	c := p.keeping(p.written(p.sited(&cobra.Command{
		Use:   "pace [SITE] [PAGE ...]",
		Short: "Shows how fast pages come, out of the cache and around it",
		Long: `Asks for each PAGE, by default the home page, again and again, as a visitor without cookies: plainly and around the cache in
turn, after one request that warms it up. It shows what became of each request (a hit, a miss, an old page, sent around),
medians and spread, and says in words whether the cache makes the page faster, by an exact rank test: where there is no
difference, one is claimed in at most 5 of 100 cases. Where six requests cannot tell, it says how many would.

Around the cache it goes with a query that nobody else has, or with Cache-Control: no-cache, or with the cookie of a session.
How many requests it will make it says beforehand, and it makes no more than live: {pages: N} of the site file allows.

What was measured is kept beside the site's changes, and the next run is set beside it; --no-keep keeps nothing.`,
		Example: "  weltaxis pace mysite\n  weltaxis pace mysite /about/ /shop/ --times 20\n  weltaxis pace https://www.name.example --format svg --output pace.svg",
		RunE: func(c *cobra.Command, args []string) error {
			name, pages, err := p.sitePages(args)
			if err != nil {
				return err
			}
			if times < 1 {
				return errors.New("--times is at least 1")
			}
			s, err := p.loadSite(name)
			if err != nil {
				return err
			}
			return p.pace(c.Context(), s, pages, times, forget)
		},
		ValidArgsFunction: completeSites,
	}), "text", "json", "csv", "svg"))
	c.Flags().IntVar(&times, "times", times, "requests for each page in each way")
	c.Flags().BoolVar(&forget, "no-keep", false, "keep nothing of it, and compare with nothing that was kept")
	c.Flags().BoolVar(&p.ignore, "ignore-robots", false, "ask for what robots.txt asks robots not to, on a site of one's own")
	return c
}

// sitePages tells the site from the pages among arguments: what begins with / is a page, as is an address on the host of the site
// that was named before; what is left is the site.
func (p *program) sitePages(args []string) (name string, pages []string, err error) {
	var sites []string
	for i, arg := range args {
		if strings.HasPrefix(arg, "/") && !(i == 0 && holdsSite(arg)) || isAddress(arg) && i > 0 {
			pages = append(pages, arg)
			continue
		}
		sites = append(sites, arg)
	}
	if len(sites) > 1 {
		return "", nil, fmt.Errorf("name one site, and pages as /path; %q and %q are no pages", sites[0], sites[1])
	}
	if name, err = p.siteArgument(sites); err != nil {
		return "", nil, err
	}
	if len(pages) == 0 {
		pages = []string{"/"}
	}
	return name, pages, nil
}

// holdsSite tells whether a path of this machine is a site file, or a folder that holds one.
func holdsSite(name string) bool {
	stat, err := os.Stat(name)
	if err == nil && stat.IsDir() {
		stat, err = os.Stat(filepath.Join(name, site.FileName))
	}
	return err == nil && stat.Mode().IsRegular()
}

// pace asks, shows and keeps.
func (p *program) pace(ctx context.Context, s *site.Site, pages []string, times int, forget bool) error {
	run := pace.New(s.Name, times, p.now())
	dir, kept := "", []pace.Run(nil)
	if !forget {
		var err error
		if dir, err = p.stateFolder(s); err != nil {
			return fmt.Errorf("%w, or --no-keep", err)
		}
		if err := identity.AsCaller(func() (err error) { kept, err = pace.Read(dir); return err }); err != nil {
			return err
		}
	}
	if !p.quiet {
		fmt.Fprintf(p.err, "asking %s, %d requests at most: %s, %d times in two ways\n", render.Safe(s.Address()), pace.Most(len(pages), times), map[bool]string{true: "one page", false: fmt.Sprint(len(pages)) + " pages"}[len(pages) == 1], times)
	}
	if err := audit.Pace(ctx, s, pages, &run, p.options()); err != nil {
		return err
	}
	var before *pace.Run
	changes := 0
	if len(kept) > 0 {
		before = &kept[len(kept)-1]
		changes = changesSince(dir, before.Taken)
	}
	said := report.PaceOf(run, before, changes)
	if err := p.write(p.text(func(page render.Sheet) { render.Pace(page, said) }), jsonForm(said),
		form{"csv", func(w io.Writer) error { return render.PaceCSV(w, said) }},
		form{"svg", func(w io.Writer) error { return render.PaceSVG(w, said) }}); err != nil {
		return err
	}
	if !forget {
		if err := identity.AsCaller(func() error { return pace.Keep(dir, kept, run) }); err != nil {
			slog.Warn("what was measured could not be kept", "error", err)
		}
	}
	for _, page := range run.Pages {
		if page.Failed != "" {
			return status(exitPartial)
		}
	}
	return nil
}

// changesSince is how many changes of the journal were made since a moment, and stand.
func changesSince(dir string, since time.Time) int {
	lines, err := fix.ReadJournal(dir)
	if err != nil {
		return 0
	}
	made := map[int]bool{}
	for _, line := range lines {
		if line.At.After(since) {
			made[line.ID] = line.Event == fix.Done
		}
	}
	n := 0
	for _, stands := range made {
		if stands {
			n++
		}
	}
	return n
}
