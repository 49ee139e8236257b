package audit

import (
	"context"
	"errors"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/site"
	"weltaxis/internal/source/live"
	"weltaxis/internal/steps"
)

// ProgramsFor is how far back a short look asks which program files changed.
const ProgramsFor = 7 * 24 * time.Hour

// A Glance is a short look at a site, from outside and at its program files, with nothing judged.
type Glance struct {
	Taken time.Time       `json:"taken"`
	Live  *live.Glance    `json:"live"`
	Files bool            `json:"files"`   // they were looked at
	Why   string          `json:"why"`     // why they were not; "" where nobody says where they lie
	Fresh []facts.Program `json:"fresh"`   // program files that changed within seven days, the last first
	Newer []string        `json:"newer"`   // of those, the ones that came or changed since the audit before
	Since *time.Time      `json:"since"`   // when that was; nil when there is none
	Last  int64           `json:"newest"`  // when the newest program file changed, in seconds since 1970; 0 for none
	Limit int64           `json:"limit"`   // the longest wait for the first byte that is well, in milliseconds
	Until int64           `json:"-"`       // until when maintenance is meant, 0 when it is not
	Stage string          `json:"stage"`   //
	Quiet bool            `json:"members"` // it is for members, and hidden on purpose
}

// Glimpse takes a short look at a site: at most fifteen requests and ten seconds, side by side with a walk through its files. Before is the
// last look that was kept, nil when there is none. The error is one of the site file.
func Glimpse(ctx context.Context, s *site.Site, now time.Time, options Options) (*Glance, error) {
	rules, err := Rules(s, Options{})
	if err != nil {
		return nil, err
	}
	ask, err := newRequest(s, now, options)
	if err != nil {
		return nil, err
	}
	if ask.Live.Address == "" || s.Sources.Live == nil {
		return nil, errors.New("the site file names no live source, so there is nothing to be looked at from outside; write live: {} under sources")
	}
	g := &Glance{Taken: now.UTC().Truncate(time.Second), Limit: rules.Limits["first_byte"].Value.Number(), Stage: s.Said("stage"), Quiet: s.Said("audience") == "members", Fresh: []facts.Program{}, Newer: []string{}}
	for _, r := range s.Intent {
		if r.FullName() == facts.IntentMaintenanceUntil.Name {
			g.Until = r.Value.Number()
		}
	}
	bounded, cancel := context.WithTimeout(ctx, live.GlanceTime)
	defer cancel()
	var group errgroup.Group
	group.Go(func() error {
		g.Live = live.Look(ctx, ask.Live)
		return nil
	})
	if s.Sources.Files != nil {
		group.Go(func() error {
			g.programs(bounded, ask, now, options.Before)
			return nil
		})
	}
	return g, group.Wait()
}

// programs looks which program files changed of late.
func (g *Glance) programs(ctx context.Context, ask gather.Request, now time.Time, before *facts.Snapshot) {
	seen, err := steps.Tree(ask.Site, ask.Dialect, steps.Folder{}).Gather(ctx)
	if err != nil || seen.Programs == nil {
		g.Why = "there are too many to look at in ten seconds"
		for _, gap := range seen.Gaps {
			g.Why = gap.Because
		}
		return
	}
	g.Files = true
	was := map[string]facts.Program{}
	if before != nil && before.Programs != nil {
		g.Since = &before.Taken
		for _, p := range before.Programs {
			was[p.Path] = p
		}
	}
	for _, p := range seen.Programs {
		g.Last = max(g.Last, p.Changed)
		old, known := was[p.Path]
		newer := g.Since != nil && (known && (old.Changed != p.Changed || old.Size != p.Size) || !known && max(p.Changed, p.Touched) > g.Since.Unix() && !before.InPart(facts.ListPrograms))
		if p.Changed < now.Add(-ProgramsFor).Unix() && !newer {
			continue
		}
		g.Fresh = append(g.Fresh, p)
		if newer {
			g.Newer = append(g.Newer, p.Path)
		}
	}
	slices.SortStableFunc(g.Fresh, func(a, b facts.Program) int { return int(max(b.Changed, 0) - max(a.Changed, 0)) })
}
