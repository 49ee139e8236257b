package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
)

func (p *program) explainCommand() *cobra.Command {
	return p.written(p.looking(&cobra.Command{
		Use:   "explain NAME|ADDRESS [SITE] [PAGE]",
		Short: "Says in plain words what a rule, a setting or another name is about, or what becomes of an address",
		Long: `Says in plain words what a name is about: a rule, a setting, a name that the live source tells, an area, a list or one
of its fields, a limit, a function of rules; or robots, which explains what search engines may do, cache, which explains who keeps
pages where, or access, which explains who has a key. With SITE it says
how that stands there: every place that has a say in a setting, the effective one first, and what the rules say.

An ADDRESS, a path of the site or in full, is followed through the configuration of its web server, line by line, to the
answer. explain cache SITE [PAGE] shows layer by layer what will become of a page, for the first visitor and the second, signed in or
not, and for how long after a change somebody may see the old one. With live: {own: true} in the site file what a visitor gets stands beside it.

explain access SITE lists who gets at the site: accounts, keys of other services, tokens, mailboxes, hosts in the head of every page and
users of the server, beside those whom intent.staff, services, tokens and mail_domains name. It is the first question when a site changes hands.`,
		Example: "  weltaxis explain hardening.debug-off\n  weltaxis explain site.title mysite/weltaxis.yaml\n  weltaxis explain robots https://www.name.example\n  weltaxis explain cache mysite /about/\n  weltaxis explain access mysite\n  weltaxis explain /uploads/ mysite",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 && args[0] == report.Cache && len(args) <= 3 {
				return nil
			}
			if len(args) < 1 || len(args) > 2 {
				return errors.New("name a rule, a setting or another name, such as hardening.debug-off or site.title, and perhaps a site")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			if isAddress(args[0]) {
				return p.follow(c.Context(), args[0], args[1:])
			}
			if args[0] == report.Access && (len(args) > 1 || p.site != "") {
				return p.access(c.Context(), args[1:])
			}
			if args[0] == report.Cache && (len(args) > 1 || p.site != "") {
				return p.cacheWay(c.Context(), args[1:])
			}
			b, err := baseline.Load(p.baselines...)
			if err != nil {
				return err
			}
			if err := b.Compile(); err != nil {
				return err
			}
			name := present(b, args[:1])[0]
			if _, err := report.Explain(b, name, nil); err != nil {
				return err
			}
			var at *audit.Result
			site := ""
			if len(args) == 2 || p.site != "" {
				of, err := p.audit(c.Context(), args[1:])
				if err != nil {
					return err
				}
				at, b, site = of.Result, of.Rules, of.Site
			}
			e, err := report.Explain(b, name, at)
			if err != nil {
				return err
			}
			return p.write(p.text(func(page render.Sheet) { render.Explain(page, e, site) }), jsonForm(e))
		},
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			b, err := baseline.Load()
			if err != nil || len(args) > 0 {
				return nil, cobra.ShellCompDirectiveDefault
			}
			return report.Explained(b), cobra.ShellCompDirectiveNoFileComp
		},
	}), "text", "json")
}

// isAddress tells whether what is to be explained is an address rather than a name.
func isAddress(name string) bool {
	return strings.HasPrefix(name, "/") || strings.HasPrefix(name, "https://") || strings.HasPrefix(name, "http://")
}

// follow follows an address of a site through its web server's configuration.
func (p *program) follow(ctx context.Context, address string, args []string) error {
	name, err := p.siteArgument(args)
	if err != nil {
		return err
	}
	if strings.EqualFold(filepath.Ext(name), ".json") {
		return fmt.Errorf("%s is a snapshot, which does not hold the web server's configuration; name the site file", name)
	}
	s, err := p.loadSite(name)
	if err != nil {
		return err
	}
	followed, err := audit.Follow(ctx, s, address, p.options())
	if err != nil {
		return err
	}
	way := report.Follow(followed)
	if err := p.write(p.text(func(page render.Sheet) { render.Way(page, way) }), jsonForm(way)); err != nil {
		return err
	}
	if len(followed.Gaps) > 0 {
		return status(exitPartial)
	}
	return nil
}

// cacheWay shows what will become of a page of a site in each layer that may keep it.
func (p *program) cacheWay(ctx context.Context, args []string) error {
	name, pages, err := p.sitePages(args)
	if err != nil {
		return err
	}
	if len(pages) > 1 {
		return errors.New("name one page")
	}
	p.pages = pages
	result, err := p.audit(ctx, []string{name})
	if err != nil {
		return err
	}
	path := pages[0]
	if u, err := url.Parse(path); err == nil && u.Host != "" {
		path = u.RequestURI()
	}
	way, err := report.CacheOf(result.Result, path)
	if err != nil {
		return err
	}
	if err := p.write(p.text(func(page render.Sheet) { render.CacheWay(page, way, result.Site) }), jsonForm(way)); err != nil {
		return err
	}
	if result.Partial() {
		return status(exitPartial)
	}
	return nil
}

// access shows who has access to a site, beside who is meant to.
func (p *program) access(ctx context.Context, args []string) error {
	result, err := p.audit(ctx, args)
	if err != nil {
		return err
	}
	to := report.AccessTo(result.Result)
	if err := p.write(p.text(func(page render.Sheet) { render.AccessTo(page, to) }), jsonForm(to)); err != nil {
		return err
	}
	if result.Partial() {
		return status(exitPartial)
	}
	return nil
}

// present puts the present names of rules and settings in the place of former ones, and says so.
func present(b *baseline.Baseline, names []string) []string {
	names = slices.Clone(names)
	for i, name := range names {
		now, changed := b.Present(name)
		if !changed {
			now, changed = facts.PresentSetting(strings.TrimPrefix(name, facts.Settings.All()))
		}
		if changed {
			slog.Warn(facts.Renamed(name, now))
			names[i] = now
		}
	}
	return names
}

func oneArgument(says string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) != 1 {
			return fmt.Errorf("%s", says)
		}
		return nil
	}
}
