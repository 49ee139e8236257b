package cli

import (
	"cmp"
	"context"
	"io"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/history"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/site"
)

func (p *program) followUpsCommand() *cobra.Command {
	return p.written(p.keeping(p.sited(&cobra.Command{
		Use:   "follow-ups [SITE]",
		Short: "Lists what to come back to, and when; also as a calendar",
		Long: `Lists what to come back to: what the site file says under follow_ups, the ends of what is accepted, and what rules want looked at
again, as a session that was made long while the site is being built. What rules want comes from the last audit that was kept; the site is
not looked at.

--format ics writes a calendar (iCalendar, RFC 5545): each entry keeps its UID, so that a calendar that reads it again changes what it has
and adds nothing twice.

Exit status: 0 nothing is due · 1 something is · 2 wrong use`,
		Args: takes(0, 1),
		RunE: func(c *cobra.Command, args []string) error {
			said, err := p.followUps(c.Context(), args)
			if err != nil {
				return err
			}
			if s, err := p.siteNamed(args); err == nil {
				var audited time.Time
				if said.Looked != nil {
					audited = *said.Looked
				}
				said.All = p.closedUntil(s, append(said.All, p.comebacks(s, audited)...))
				slices.SortStableFunc(said.All, func(x, y report.Again) int { return cmp.Compare(x.On, y.On) })
			}
			if err := p.write(p.text(func(page render.Sheet) { render.FollowUps(page, said) }), jsonForm(said), form{"ics", func(w io.Writer) error { return render.Calendar(w, said) }}); err != nil {
				return err
			}
			if said.Due() > 0 {
				return status(exitDeviates)
			}
			return nil
		},
		Example:           "  weltaxis follow-ups mysite\n  weltaxis follow-ups mysite --format ics --output mysite.ics",
		ValidArgsFunction: completeSites,
	})), "text", "json", "ics")
}

// followUps are those of the last audit, with what the site file says now.
func (p *program) followUps(ctx context.Context, args []string) (*report.FollowUps, error) {
	s, store, err := p.siteAndStore(ctx, args)
	if err != nil {
		return nil, err
	}
	defer store.Close()
	now := p.now()
	said := &report.FollowUps{Site: s.Name, Address: s.Address(), Now: now.UTC().Truncate(time.Second)}
	if store == nil {
		said.All = stated(s)
		return said, nil
	}
	audits, err := store.List(ctx, historyOf(s))
	if err != nil {
		return nil, err
	}
	if len(audits) == 0 {
		said.All = stated(s)
		return said, nil
	}
	k, err := store.Load(ctx, lastWhole(audits))
	if err != nil {
		return nil, err
	}
	days, err := store.Days(ctx, historyOf(s))
	if err != nil {
		return nil, err
	}
	said.Looked = &k.Taken
	said.All = audit.FollowUps(k.Verdicts.FollowUps, days, s.Stated(), s.Accepted())
	return said, nil
}

// siteNamed is the site that is named, or the one in the folder one is in.
func (p *program) siteNamed(args []string) (*site.Site, error) {
	name, err := p.siteArgument(args)
	if err != nil {
		return nil, err
	}
	return p.load(name)
}

// closedUntil adds that a site which this program closed is to be opened again, unless an audit has asked for that already.
func (p *program) closedUntil(s *site.Site, all []report.Again) []report.Again {
	a, _ := p.announcement(s)
	if a.Run == "" || slices.ContainsFunc(all, func(f report.Again) bool { return f.Rule == "maintenance.lifted-declared" }) {
		return all
	}
	what := "Take the maintenance notice down (weltaxis maintenance off); it was to stand until " + a.Until.Local().Format("15:04 MST") + "."
	all = append(all, facts.StatedFollowUp(facts.DayOf(a.Until), what, 0))
	slices.SortStableFunc(all, func(x, y report.Again) int { return cmp.Compare(x.On, y.On) })
	return all
}

// lastWhole is the last audit that could judge nearly as much as any of the last ten: what could not be seen asks for nothing, so one without the
// live site knows nothing of what the live site asks for.
func lastWhole(audits []history.Audit) history.Audit {
	const recent, nearly = 10, 0.9
	judged := func(a history.Audit) float64 {
		if a.Judged == nil || a.Aside || a.Part != "" {
			return 0
		}
		return *a.Judged
	}
	audits = audits[max(len(audits)-recent, 0):]
	most := 0.0
	for _, a := range audits {
		most = max(most, judged(a))
	}
	for _, a := range slices.Backward(audits) {
		if judged(a) >= most*nearly {
			return a
		}
	}
	return audits[len(audits)-1]
}

// stated are those that need no audit.
func stated(s *site.Site) []report.Again { return audit.FollowUps(nil, nil, s.Stated(), s.Accepted()) }
