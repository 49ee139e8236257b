package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/fix"
	"weltaxis/internal/history"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/site"
)

// siteAndStore loads the site file a command is about, and opens what is kept of it; the store is nil when nothing is.
func (p *program) siteAndStore(ctx context.Context, args []string) (*site.Site, *history.Store, error) {
	name, err := p.siteArgument(args)
	if err != nil {
		return nil, nil, err
	}
	s, err := p.load(name)
	if err != nil {
		return nil, nil, err
	}
	store, err := p.reading(ctx)
	if errors.Is(err, history.ErrNone) {
		return s, nil, nil
	}
	return s, store, err
}

// kept opens what is kept of a site, and says so when that is nothing.
func (p *program) kept(ctx context.Context, args []string) (*site.Site, *history.Store, []history.Audit, error) {
	s, store, err := p.siteAndStore(ctx, args)
	if err != nil {
		return nil, nil, nil, err
	}
	if store == nil {
		return nil, nil, nil, errors.New("no audit is kept yet; weltaxis audit keeps one")
	}
	audits, err := store.List(ctx, historyOf(s))
	if err == nil && len(audits) == 0 {
		err = fmt.Errorf("no audit of %s is kept yet; weltaxis audit keeps one", s.Name)
	}
	if err != nil {
		store.Close()
		return nil, nil, nil, err
	}
	return s, store, audits, nil
}

func (p *program) historyCommand() *cobra.Command {
	c := p.written(p.keeping(p.sited(&cobra.Command{
		Use:   "history [SITE]",
		Short: "Lists the audits of a site and the changes that were made to it, one after the other",
		Long: `Lists the audits that are kept of a site, with what deviated, and between them the changes that fix made, with those that can
be taken back; above them how the site has fared. A site is known by its name and address in the site file.

--format csv writes the numbers of each audit, for a spreadsheet: counts by severity, alignment, times and weights.`,
		Args: takes(0, 1),
		RunE: func(c *cobra.Command, args []string) error {
			s, store, err := p.siteAndStore(c.Context(), args)
			if err != nil {
				return err
			}
			defer store.Close()
			var audits []history.Audit
			if store != nil {
				if audits, err = store.List(c.Context(), historyOf(s)); err != nil {
					return err
				}
			}
			state, err := p.stateFolder(s)
			if err != nil {
				return err
			}
			changes, err := fix.ReadJournal(state)
			if err != nil {
				return err
			}
			said := report.Past(audits, changes)
			return p.write(p.text(func(page render.Sheet) { render.History(page, s.Name, said, p.now()) }), jsonForm(said),
				form{"csv", func(w io.Writer) error { return render.HistoryCSV(w, audits) }})
		},
		Example:           "  weltaxis history mysite\n  weltaxis history mysite --format csv --output mysite.csv\n  weltaxis history show 12 --site mysite\n  weltaxis history export 12 --site mysite --output then.json",
		ValidArgsFunction: completeSites,
	})), "text", "json", "csv")
	c.AddCommand(p.historyShowCommand(), p.historyExportCommand(), p.historyPruneCommand())
	return c
}

func (p *program) historyShowCommand() *cobra.Command {
	var page paging
	return p.paged(p.written(p.keeping(p.sited(&cobra.Command{
		Use:   "show AUDIT|RUN",
		Short: "Shows an audit as it was, or what a run of fix found, changed and left",
		Long: `Shows an audit as it was kept, by its number or the last up to a day (2026-03-05); or a run of fix, by its name in weltaxis
history (20260305T101112): what was found, what was changed, what was seen afterwards, and what is left for whom.

--format json writes an audit as audit wrote it then; --format html one page to read or print, as audit writes it (--for client and --note too), and
of a run with before and after side by side. The page of an audit is made of what was seen then, judged again: where the baseline has changed, it says so.`,
		Args: takes(1, 1),
		RunE: func(c *cobra.Command, args []string) error {
			s, store, audits, err := p.kept(c.Context(), nil)
			if err != nil {
				return err
			}
			defer store.Close()
			if err := page.check(c, p); err != nil {
				return err
			}
			if strings.Contains(args[0], "T") {
				if page.said(c) {
					return errors.New("--for and --note are of the page of an audit; a run is for whoever keeps the site")
				}
				work, err := workOf(c.Context(), store, s, args[0])
				if err != nil {
					return err
				}
				return p.write(p.text(func(out render.Sheet) { render.Work(out, work) }), jsonForm(work), form{"html", func(w io.Writer) error { return render.WorkHTML(w, work) }})
			}
			a, err := history.Find(audits, args[0])
			if err != nil {
				return err
			}
			k, err := store.Load(c.Context(), a)
			if err != nil {
				return err
			}
			if p.format != "html" {
				return p.write(p.text(func(out render.Sheet) { render.Audit(out, s.Name, k) }), jsonForm(k.Result))
			}
			again, err := p.again(s, k)
			if err != nil {
				return err
			}
			return p.write(page.form(again, func() report.Kept { return p.keptOf(c.Context(), s, again.Snapshot, a.ID) }))
		},
		Example: "  weltaxis history show 12 --site mysite\n  weltaxis history show 2026-03-05 --site mysite\n  weltaxis history show 20260305T101112 --site mysite\n  weltaxis history show 20260305T101112 --site mysite --format html --output work.html",
	})), "text", "json", "html"), &page)
}

// again judges what an audit saw once more, as its page is made of all that was seen and not of what was said of it. By another baseline than
// that of then, the page says so.
func (p *program) again(s *site.Site, k *history.Kept) (*report.Report, error) {
	options := p.options()
	for _, file := range s.Baseline {
		options.Baselines = append(options.Baselines, s.Resolve(file))
	}
	options.Tool = k.Tool
	if k.Part != "" {
		options.Only = strings.Split(k.Part, ",")
	}
	if k.Aside {
		options.Stage = k.Stage
	}
	rules, err := audit.RulesFor(k.Snapshot, options)
	if err != nil {
		return nil, err
	}
	r := report.New(audit.Judge(rules, k.Snapshot, options))
	if rules.Version != k.Baseline {
		r.Words.Looked += fmt.Sprintf(" It is judged by the baseline %s, and was then by %s.", rules.Version, k.Baseline)
	}
	return r, nil
}

func (p *program) historyExportCommand() *cobra.Command {
	return p.written(p.keeping(p.sited(&cobra.Command{
		Use:   "export [AUDIT]",
		Short: "Writes the snapshot of an audit that was kept: audit judges it anew, compare sets it beside another",
		Args:  takes(0, 1),
		RunE: func(c *cobra.Command, args []string) error {
			_, store, audits, err := p.kept(c.Context(), nil)
			if err != nil {
				return err
			}
			defer store.Close()
			a := audits[len(audits)-1]
			if len(args) > 0 {
				if a, err = history.Find(audits, args[0]); err != nil {
					return err
				}
			}
			k, err := store.Load(c.Context(), a)
			if err != nil {
				return err
			}
			p.format = "json"
			return p.write(jsonForm(k.Seen))
		},
		Example: "  weltaxis history export 12 --site mysite --output then.json\n  weltaxis audit then.json",
	})), "json")
}

// forgetAside throws away what lies aside of caches of a site that were emptied longer ago than that.
func (p *program) forgetAside(ctx context.Context, s *site.Site, age time.Duration) (int, error) {
	state, err := p.stateFolder(s)
	if err != nil {
		return 0, err
	}
	if changes, err := fix.ReadJournal(state); len(changes) == 0 || s.Sources.Settings == nil {
		return 0, err
	}
	env, closeJournal, err := p.changing(ctx, s, nil, p.options())
	if err != nil {
		return 0, err
	}
	defer closeJournal()
	return env.ForgetAside(age), nil
}

func (p *program) historyPruneCommand() *cobra.Command {
	var keep int
	var age string
	c := p.keeping(p.sited(&cobra.Command{
		Use:   "prune",
		Short: "Throws old audits of a site away",
		Long: `Throws audits of a site away, all but the newest --keep, or those older than --older-than; the last one stays. Since when something
deviates is still known afterwards, and so is what fix changed. It cannot be taken back. What caches held that fix emptied, which lies
aside in the site's root (.weltaxis-aside) for undo, goes when it is older than thirty days, or than --older-than says.`,
		Args: takes(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			retention := history.Retention{Audits: keep}
			if age != "" {
				days, err := time.ParseDuration(strings.TrimSuffix(age, "d") + "h")
				if err != nil || !strings.HasSuffix(age, "d") || days <= 0 {
					return fmt.Errorf("--older-than: %q is no number of days, as 365d", age)
				}
				retention.Age = days * 24
			}
			if keep < 0 || keep == 0 && age == "" {
				return errors.New("say how many are to stay with --keep N, or how old they may be with --older-than 365d")
			}
			s, store, _, err := p.kept(c.Context(), nil)
			if err != nil {
				return err
			}
			store.Close()
			dir, err := p.historyFolder()
			if err != nil {
				return err
			}
			if store, _, err = history.Make(c.Context(), dir); err != nil {
				return err
			}
			defer store.Close()
			gone, err := store.Prune(c.Context(), historyOf(s), retention, p.now(), true)
			if err != nil {
				return err
			}
			if gone > 0 {
				if err := store.Shrink(c.Context()); err != nil {
					return err
				}
			}
			said := report.Count(gone, "audit was", "audits were") + " thrown away."
			if n, err := p.forgetAside(c.Context(), s, min(fix.Keep, cmp.Or(retention.Age, fix.Keep))); err != nil {
				slog.Warn("what lies aside of caches that were emptied could not be thrown away", "error", err)
			} else if n > 0 {
				said += " " + report.Count(n, "cache that had been moved aside is", "caches that had been moved aside are") + " gone; undo does not bring them back any more."
			}
			return p.toStdout(func(w io.Writer) error { _, err := fmt.Fprintln(w, said); return err })
		},
		Example: "  weltaxis history prune --site mysite --keep 100\n  weltaxis history prune --site mysite --older-than 365d",
	}))
	c.Flags().IntVar(&keep, "keep", 0, "how many of the newest stay")
	c.Flags().StringVar(&age, "older-than", "", "how old an audit may be, in days: 365d")
	return c
}
