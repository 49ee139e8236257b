// Package audit is the one call that commands make: gather what the sources see into a snapshot, judge it by the
// baseline, and give the result.
//
// It writes nothing to a site and prints nothing. It imports core packages only.
package audit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"weltaxis/internal/baseline"
	"weltaxis/internal/dialect"
	"weltaxis/internal/discover"
	"weltaxis/internal/facts"
	"weltaxis/internal/nearest"
	"weltaxis/internal/site"
	"weltaxis/internal/source/files"
	"weltaxis/internal/source/live"
	"weltaxis/internal/source/settings"
	"weltaxis/internal/store"
	"weltaxis/internal/strict"
)

// A Source looks at one side of a site. It adds readings and gaps to the snapshot and judges nothing. Its error
// is only that of a context that ended; everything else is a gap.
type Source interface {
	Gather(ctx context.Context, into *facts.Snapshot) error
}

// Options say how to audit.
type Options struct {
	Stage     string   // judge as if in this stage; "" for the site file's
	Only      []string // areas and rules; none for all
	Baselines []string // further files of rules
	Tool      string   // version of the program, for the result
	Offline   bool     // no request leaves
	// IgnoreRobots fetches what robots.txt asks robots not to.
	IgnoreRobots bool
	// Pages are the only pages to look at, besides the home page; nil for all.
	Pages []string
	// Previous is an earlier snapshot of the site, nil when there is none.
	Previous *facts.Snapshot
	// Connect replaces the live source's map of names to addresses.
	Connect map[string]string
}

// Run gathers from every source of the site and judges what they saw. Errors are those of a site file, baseline
// or dialect that cannot be used, and of a context that ended.
func Run(ctx context.Context, s *site.Site, now time.Time, options Options) (*Result, error) {
	rules, err := Rules(s, options)
	if err != nil {
		return nil, err
	}
	snapshot, err := Gather(ctx, s, rules, now, options)
	if err != nil {
		return nil, err
	}
	return Judge(rules, snapshot, options), nil
}

// Rules loads the baseline with the site's own rules and limits, and compiles what was asked for.
func Rules(s *site.Site, options Options) (*baseline.Baseline, error) {
	var own []string
	for _, file := range s.Baseline {
		own = append(own, s.Resolve(file))
	}
	b, err := baseline.Load(slices.Concat(own, options.Baselines)...)
	if err != nil {
		return nil, err
	}
	for name, limit := range s.Limits {
		if err := b.SetLimit(name, limit.Text, limit.List); err != nil {
			return nil, s.ErrorAt(limit.Pos, "limits: %s", err)
		}
	}
	for i, a := range s.Accept {
		if now, changed := b.Present(a.Rule); changed {
			slog.Warn(s.ErrorAt(a.Pos, "accept: %s", facts.Renamed(a.Rule, now)).Error())
			a.Rule, s.Accept[i].Rule = now, now
		}
		if _, known := b.Rule(a.Rule); !known {
			return nil, s.ErrorAt(a.Pos, "accept: there is no rule %q%s", a.Rule, nearest.Hint(a.Rule, b.IDs()))
		}
	}
	return b, b.Compile(options.Only...)
}

// RulesFor loads the baseline for a snapshot, whose limits come with it.
func RulesFor(snapshot *facts.Snapshot, options Options) (*baseline.Baseline, error) {
	b, err := baseline.Load(options.Baselines...)
	if err != nil {
		return nil, err
	}
	for name, value := range snapshot.Limits {
		limit, known := b.Limits[name]
		if !known || limit.Value.Type() != value.Type() {
			return nil, fmt.Errorf("the snapshot sets a limit %q that this baseline does not have as a %s", name, value.Type())
		}
		limit.Value = value
		b.Limits[name] = limit
	}
	return b, b.Compile(options.Only...)
}

// Gather looks at the site from every side the site file names. The rules only lend their limits to the snapshot.
func Gather(ctx context.Context, s *site.Site, rules *baseline.Baseline, now time.Time, options Options) (*facts.Snapshot, error) {
	snapshot := &facts.Snapshot{Format: facts.SnapshotFormat, Tool: options.Tool, Site: s.Name, Taken: now.UTC().Truncate(time.Second),
		Accept: s.Accepted(), Limits: map[string]facts.Value{}, Gaps: []facts.Gap{}}
	snapshot.Add(s.Intent...)
	for name := range s.Limits {
		snapshot.Limits[name] = rules.Limits[name].Value
	}
	declared, spoken, err := settingsOf(s, snapshot, options)
	if err != nil {
		return nil, err
	}
	// The settings first: they say where the login page is.
	if declared != nil {
		if err := declared.Gather(ctx, snapshot); err != nil {
			return nil, err
		}
	} else if s.Sources.Files != nil {
		if err := withoutDialect(ctx, s.Resolve(s.Sources.Files.Root), snapshot, options); err != nil {
			return nil, err
		}
	}
	others, err := othersOf(s, spoken, snapshot, options)
	if err != nil {
		return nil, err
	}
	group, ctx := errgroup.WithContext(ctx)
	for _, source := range others {
		group.Go(func() error { return source.Gather(ctx, snapshot) })
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	// Sources add at the same time; the order of what each added is kept, that of the sources is made the same.
	slices.SortStableFunc(snapshot.Readings, func(a, b facts.Reading) int { return strings.Compare(a.Source, b.Source) })
	slices.SortStableFunc(snapshot.Gaps, func(a, b facts.Gap) int { return strings.Compare(a.Source, b.Source) })
	return snapshot, nil
}

// settingsOf makes the source of the settings, nil when the site file names none, and loads the dialect.
func settingsOf(s *site.Site, snapshot *facts.Snapshot, options Options) (Source, *dialect.Dialect, error) {
	spoken, stores, err := Stores(s, options)
	if spoken == nil || err != nil {
		return nil, nil, err
	}
	snapshot.Sources = append(snapshot.Sources, facts.Asked{Source: facts.Settings, Where: cmp.Or(s.Sources.Settings.Root, s.Sources.Settings.API, "its database")})
	return &settings.Source{Dialect: spoken, Options: stores}, spoken, nil
}

// Stores loads the dialect that the site file names, nil when it names none, and says how its stores are opened.
func Stores(s *site.Site, options Options) (*dialect.Dialect, store.Options, error) {
	set := s.Sources.Settings
	if set == nil {
		return nil, store.Options{}, nil
	}
	spoken, err := dialect.Load(set.Dialect, s.Dir)
	if err != nil {
		var inFile *strict.Error
		if errors.As(err, &inFile) {
			return nil, store.Options{}, err
		}
		return nil, store.Options{}, s.ErrorAt(set.Pos, "settings: %s", err)
	}
	stores := store.Options{Environment: set.Environment, Offline: options.Offline, Hosts: set.Hosts, API: strings.TrimRight(set.API, "/"), Databases: map[string]dialect.Database{}}
	if set.Root != "" {
		stores.Root = s.Resolve(set.Root)
	}
	for name, said := range set.Databases {
		if _, known := spoken.Databases[name]; !known {
			return nil, stores, s.ErrorAt(set.Pos, "settings: the dialect %s has no database %q%s", spoken.Name, name, nearest.Hint(name, slices.Collect(maps.Keys(spoken.Databases))))
		}
		password, err := s.Reveal(said.Password)
		if err != nil {
			return nil, stores, err
		}
		stores.Databases[name] = dialect.Database{Driver: said.Driver, SQLite: said.SQLite, Host: said.Host, Port: said.Port, Socket: said.Socket, Name: said.Name, User: said.User, Password: password}
		if said.Host != "" {
			stores.Hosts = append(stores.Hosts, said.Host)
		}
	}
	if stores.Token, err = s.Reveal(set.Token); err != nil || set.API == "" {
		return spoken, stores, err
	}
	stores.Client, err = apiClient(s, set.API, options)
	return spoken, stores, err
}

// Call asks a path of the site with POST, by the ways of the live source, and takes any answer that is no error.
func Call(ctx context.Context, s *site.Site, path string, options Options) error {
	client, err := apiClient(s, s.Address(), options)
	if err != nil {
		return err
	}
	client.Timeout = 30 * time.Second
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimRight(s.Address(), "/")+path, nil)
	if err != nil {
		return err
	}
	response, err := client.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 {
		return fmt.Errorf("%s answers %s", path, response.Status)
	}
	return nil
}

// apiClient reaches the address by the same ways as the live source.
func apiClient(s *site.Site, address string, options Options) (*http.Client, error) {
	look := live.Options{Address: address, Connect: options.Connect}
	if l := s.Sources.Live; l != nil {
		of, err := liveOptions(s, l, options)
		if err != nil {
			return nil, s.ErrorAt(l.Pos, "live: %s", err)
		}
		look.Connect, look.Trust = of.Connect, of.Trust
	}
	home, err := url.Parse(address)
	if err != nil {
		return nil, s.ErrorAt(s.Sources.Settings.Pos, "settings: api: %q is no address", address)
	}
	return live.HTTPClient(look, home)
}

// withoutDialect says, of a folder whose settings nobody has said how to read, which dialect it looks like, or
// what discovery would give.
func withoutDialect(ctx context.Context, root string, snapshot *facts.Snapshot, options Options) error {
	because := ""
	if known := discover.Recognise(dialect.Shipped(), "", discover.TracesIn(root)); len(known) > 0 && known[0].Sure > 0.5 {
		because = fmt.Sprintf("the site file names no dialect, and the folder looks like %s (sure: %.2f); write under sources: settings: {dialect: %s, root: ...}", known[0].Dialect, known[0].Sure, known[0].Dialect)
	} else {
		draft, err := discover.Discover(ctx, discover.Options{Name: "found", Root: root, Stores: store.Options{Root: root, Offline: options.Offline}})
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil || len(draft.Findings) == 0 {
			return nil // nothing there that looks like settings
		}
		because = fmt.Sprintf("the site file names no dialect; weltaxis dialect discover --root FOLDER would write %d of them as sure and suggest %d more", draft.Certain(), len(draft.Findings)-draft.Certain())
	}
	snapshot.AddGap(facts.Gap{Source: facts.Settings, What: "the settings", Kind: facts.Unmapped, Because: because, Names: []string{facts.Settings + "."}})
	return nil
}

// othersOf makes the other sources that the site file names, in the order in which they are shown.
func othersOf(s *site.Site, spoken *dialect.Dialect, snapshot *facts.Snapshot, options Options) ([]Source, error) {
	var sources []Source
	if l := s.Sources.Live; l != nil && !options.Offline {
		look, err := liveOptions(s, l, options)
		if err != nil {
			return nil, s.ErrorAt(l.Pos, "live: %s", err)
		}
		if login, known := snapshot.Effective("settings.login.path"); known {
			look.LoginPath = login.Value.Text()
		}
		if options.Previous != nil {
			for _, page := range options.Previous.Pages {
				look.Previous = append(look.Previous, page.Address)
			}
		}
		snapshot.Sources = append(snapshot.Sources, facts.Asked{Source: facts.Live, Where: look.Address})
		sources = append(sources, &live.Source{Options: look})
	}
	if f := s.Sources.Files; f != nil {
		snapshot.Sources = append(snapshot.Sources, facts.Asked{Source: facts.Files, Where: f.Root})
		sources = append(sources, &files.Source{Root: s.Resolve(f.Root), Dialect: spoken})
	}
	return sources, nil
}

// liveOptions are the site file's wishes over the live source's defaults.
func liveOptions(s *site.Site, l *site.Live, options Options) (live.Options, error) {
	or := func(value *int, otherwise int) int {
		if value == nil {
			return otherwise
		}
		return *value
	}
	look := live.Options{Address: s.Address(), Preferred: s.Said("address"), Own: l.Own, Connect: l.Connect, List: l.List, Analytics: s.Said("analytics"),
		MaxPages: or(l.Pages, live.DefaultPages), MaxDepth: or(l.Depth, live.DefaultDepth), Concurrency: or(l.Concurrency, live.DefaultConcurrency),
		MaxTime: time.Duration(or(l.Seconds, int(live.DefaultTime/time.Second))) * time.Second, Rate: float64(or(l.Rate, int(live.DefaultRate))),
		IgnoreRobots: options.IgnoreRobots}
	if options.Pages != nil {
		look.List, look.MaxPages, look.MaxDepth = options.Pages, len(options.Pages)+1, 0
	}
	if options.Connect != nil {
		look.Connect = options.Connect
	}
	if l.Trust != "" {
		var err error
		if look.Trust, err = os.ReadFile(s.Resolve(l.Trust)); err != nil {
			return look, fmt.Errorf("trust: %w", err)
		}
	}
	var unset string
	look.User = os.Expand(l.User, func(name string) string {
		value, there := os.LookupEnv(name)
		if !there {
			unset = name
		}
		return value
	})
	if unset != "" {
		return look, fmt.Errorf("user: the environment variable %s is not set", unset)
	}
	return look, nil
}
