package audit

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/baseline"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/identity"
	"weltaxis/internal/nearest"
	"weltaxis/internal/site"
	"weltaxis/internal/source/files"
	"weltaxis/internal/source/live"
	"weltaxis/internal/source/runtime"
	"weltaxis/internal/steps"
)

// newRequest makes the site file's wishes into what steps are asked. The errors are mistakes in the site file.
func newRequest(s *site.Site, now time.Time, options Options) (gather.Request, error) {
	ask := gather.Request{Site: s, Now: now, Offline: options.Offline, Before: options.Before, Ours: options.Ours, Room: options.Room}
	var err error
	if ask.Dialect, ask.Stores, err = Stores(s, options); err != nil {
		return ask, err
	}
	if r := s.Sources.Runtime; r != nil && r.From != "" && !slices.Contains(runtime.Sources(), r.From) {
		return ask, s.ErrorAt(r.Pos, "runtime: from: %q is none of %s%s", r.From, strings.Join(runtime.Sources(), ", "), nearest.Hint(r.From, runtime.Sources()))
	}
	for _, area := range baseline.Areas {
		if options.wants(area) {
			ask.Areas = append(ask.Areas, area)
		}
	}
	if l := s.Sources.Live; l != nil {
		if ask.Live, err = liveOptions(s, l, options); err != nil {
			return ask, s.ErrorAt(l.Pos, "live: %w", err)
		}
		ask.Live.Now = now
		signs(&ask.Live, ask.Dialect)
		ask.Live.Closed = options.Doors || options.stage(s) == "building" || slices.ContainsFunc(intent(s, options), func(r facts.Reading) bool {
			return r.FullName() == facts.IntentMaintenanceUntil.Name && r.Value.Number() > 0
		})
		for _, earlier := range []*facts.Snapshot{options.Previous, options.Before, options.Seen} {
			if earlier != nil {
				ask.Live.Known = append(ask.Live.Known, live.KnownFrom(earlier)...)
			}
		}
		if ask.Dialect != nil {
			for _, a := range ask.Dialect.Assets {
				ask.Live.Owners = append(ask.Live.Owners, live.Owned{Path: a.Path, Of: a.Of, Used: a.Used})
			}
		}
	}
	return ask, nil
}

// wants tells whether something of an area may be judged: it is named, or what is named is no area at all, as a severity and a rule of
// one's own.
func (o Options) wants(area string) bool {
	return len(o.Only) == 0 || slices.ContainsFunc(o.Only, func(name string) bool {
		of, _, _ := strings.Cut(name, ".")
		return of == area || !slices.Contains(baseline.Areas, of)
	})
}

// stage is the stage that is judged by.
func (o Options) stage(s *site.Site) string { return cmp.Or(o.Stage, s.Said("stage")) }

// intent is what the site file says the site is meant to be, and until when it is closed where this program closed it.
func intent(s *site.Site, options Options) []facts.Reading {
	said := slices.Clone(s.Intent)
	for i, r := range said {
		if r.FullName() == facts.IntentLocked.Name && !r.Value.Bool() && options.Locked {
			said[i] = facts.IntentLocked.Reading(true, facts.Origin{File: "as done by weltaxis lock on"})
		}
		if r.FullName() == facts.IntentMaintenanceUntil.Name && r.Value.Number() == 0 && !options.Announced.IsZero() {
			said[i] = facts.IntentMaintenanceUntil.Reading(options.Announced.Unix(), facts.Origin{File: "as said to weltaxis maintenance on"})
		}
	}
	return said
}

// signs has the look from outside go by the signs of the site's own dialect, or of all that ship where the site file names none.
func signs(look *live.Options, own *dialect.Dialect) {
	spoken := []*dialect.Dialect{own}
	if own == nil {
		spoken = nil
		for _, name := range dialect.Shipped() {
			if d, err := dialect.Load(name, ""); err == nil {
				spoken = append(spoken, d)
			}
		}
	}
	for _, d := range spoken {
		for _, s := range d.Signs {
			if s.Gives == dialect.Firewall {
				if own != nil {
					look.Firewall = append(look.Firewall, live.Sign{In: s.In, Match: s.Expression})
				}
				continue
			}
			look.Signs = append(look.Signs, live.Sign{In: s.In, Match: s.Expression, Gives: s.Gives, Name: s.Name, Sure: s.Sure})
		}
		look.Installers = append(look.Installers, d.Installers...)
	}
}

// look has every step look that was asked for, and puts what they saw into a snapshot, with what is needed to judge it again.
func look(ctx context.Context, ask gather.Request, rules *baseline.Baseline, options Options) (*facts.Snapshot, error) {
	alongside(ask)
	ask.Live.Until = time.Now().Add(ask.Live.MaxTime) // for all steps together
	all := options.Steps
	if all == nil {
		all = steps.All
	}
	seen, found, err := gather.Run(ctx, ask, all)
	if found == nil {
		return nil, err
	}
	of := ask.Site
	s := &facts.Snapshot{Format: facts.SnapshotFormat, Tool: options.Tool, As: readAs(), Site: of.Name, Taken: ask.Now.UTC().Truncate(time.Second), Hints: steps.Hints(found),
		Accept: of.Accepted(), FollowUps: slices.Concat(of.Stated(), options.Comebacks), Limits: map[string]facts.Value{}}
	s.Gaps = []facts.Gap{}
	s.Add(intent(of, options)...)
	s.Merge(seen)
	for name := range of.Limits {
		s.Limits[name] = rules.Limits[name].Value
	}
	s.Sources = gather.Asked(ask, all, found)
	return s, err
}

// readAs are the users that a site is read as, where it is root who looks.
func readAs() string {
	if identity.Caller() != 0 {
		return ""
	}
	return cmp.Or(strings.Join(identity.Readers(), " and "), "root")
}

// alongside has what the owner of the tree may not open be opened as whom its web server runs as.
func alongside(ask gather.Request) {
	var source *files.Source
	switch root := ask.Site.Root(); {
	case ask.Site.Sources.Files != nil:
		source = steps.Tree(ask.Site, ask.Dialect, steps.Folder{})
	case root != "":
		source = &files.Source{Root: root, Dialect: ask.Dialect, WebUser: ask.Site.Said("web_user")}
	default:
		return
	}
	source.Alongside()
}
