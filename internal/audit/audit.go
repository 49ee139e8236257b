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

	"weltaxis/internal/baseline"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/nearest"
	"weltaxis/internal/orders"
	"weltaxis/internal/pace"
	"weltaxis/internal/site"
	"weltaxis/internal/source/live"
	"weltaxis/internal/store"
	"weltaxis/internal/strict"
	"weltaxis/internal/tree"
)

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
	// Answered are addresses of the site that answered with a page at an earlier time.
	Answered []string
	// Before is the last look that was kept, to tell which program files changed since; nil when there is none.
	Before *facts.Snapshot
	// Comebacks are what changes that were made want somebody to come back to.
	Comebacks []facts.FollowUp
	// Ours are paths below the root that this program has changed itself since then.
	Ours []string
	// Announced is until when the site is closed, as was said when this program closed it; zero when it did not.
	Announced time.Time
	// Locked tells that this program has locked the site.
	Locked bool
	// Seen is an earlier look that met pages, for where else than at its home page a closed site may be asked; nil when there is none.
	Seen *facts.Snapshot
	// User is the name and the password of a lock, with a colon between, in place of those of the site file.
	User string
	// Doors asks for every kind of address as a stranger does, though nothing says that the site is closed.
	Doors bool
	// Pictures keeps those that pages are shared with, small.
	Pictures bool
	// Room tells how much room is left where a folder lies; nil to ask the system.
	Room func() (tree.Space, error)
	// Lookup and Dial find the addresses of names and connect to them; nil for the system's ways.
	Lookup live.Lookup
	Dial   live.Dialer
	// Transport stands between the live source and the network; nil for nothing.
	Transport func(http.RoundTripper) http.RoundTripper
	// Steps are those to look by; nil for all there are.
	Steps []gather.Any
	// Connect replaces the live source's map of names to addresses.
	Connect map[string]string
}

// Run looks at the site with every step that the site file asks for, and judges what they saw. Errors are those of a
// site file, baseline or dialect that cannot be used, and of a context that ended: then there is a result all the same,
// of what was seen until then, with a gap for each step that was not at its end.
func Run(ctx context.Context, s *site.Site, now time.Time, options Options) (*Result, error) {
	rules, err := Rules(s, options)
	if err != nil {
		return nil, err
	}
	ask, err := newRequest(s, now, options)
	if err != nil {
		return nil, err
	}
	compiled := rules.Compiling()
	snapshot, interrupted := look(ctx, ask, rules, options)
	if err := compiled(); err != nil {
		return nil, err
	}
	if interrupted != nil && ctx.Err() == nil {
		return nil, interrupted
	}
	return Judge(rules, snapshot, options), interrupted
}

// Look gathers without judging.
func Look(ctx context.Context, s *site.Site, now time.Time, options Options) (*facts.Snapshot, error) {
	rules, err := Rules(s, options)
	if err != nil {
		return nil, err
	}
	ask, err := newRequest(s, now, options)
	if err != nil {
		return nil, err
	}
	snapshot, err := look(ctx, ask, rules, options)
	if err != nil {
		return nil, err
	}
	return snapshot, nil
}

// Rules loads the baseline with the site's own rules and limits, and checks it; what was asked for is compiled by its
// Compiling.
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
			return nil, s.ErrorAt(limit.Pos, "limits: %w", err)
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
	return b, b.Select(options.Only...)
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
		return nil, store.Options{}, s.ErrorAt(set.Pos, "settings: %w", err)
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
	stores.Client, err = Client(s, set.API, options)
	return spoken, stores, err
}

// Live are the ways of the live source, for whoever asks the site for something else than a look. The error is one of the site file.
func Live(s *site.Site, now time.Time, options Options) (live.Options, error) {
	ask, err := newRequest(s, now, options)
	if err != nil {
		return live.Options{}, err
	}
	return ask.Live, nil
}

// Pace asks for pages of the site again and again, and gives how long each request took. The error is one of the site file, that it
// allows fewer requests, or that the site does not answer.
func Pace(ctx context.Context, s *site.Site, pages []string, run *pace.Run, options Options) error {
	ask, err := newRequest(s, run.Taken, options)
	if err != nil {
		return err
	}
	if ask.Live.Address == "" || options.Offline {
		return errors.New("no request may leave: the site file names no live source, or --offline keeps it out")
	}
	if most := pace.Most(len(pages), run.Times); most > ask.Live.MaxPages {
		return fmt.Errorf("that would be up to %d requests, and the site file allows %d (live: {pages: %d}); ask for fewer pages, or fewer times", most, ask.Live.MaxPages, ask.Live.MaxPages)
	}
	bounded, cancel := context.WithTimeout(ctx, ask.Live.MaxTime)
	defer cancel()
	return live.Pace(bounded, ask.Live, pages, run)
}

// Client reaches the address by the same ways as the live source.
func Client(s *site.Site, address string, options Options) (*http.Client, error) {
	look := live.Options{Address: address, Connect: options.Connect}
	if l := s.Sources.Live; l != nil {
		of, err := liveOptions(s, l, options)
		if err != nil {
			return nil, s.ErrorAt(l.Pos, "live: %w", err)
		}
		look.Connect, look.Trust = of.Connect, of.Trust
	}
	home, err := url.Parse(address)
	if err != nil {
		return nil, s.ErrorAt(s.Sources.Settings.Pos, "settings: api: %q is no address", address)
	}
	return live.HTTPClient(look, home)
}

// maxTrust is the largest file of certificates that is read, in bytes.
const maxTrust = 4 << 20

// liveOptions are the site file's wishes over the live source's defaults.
func liveOptions(s *site.Site, l *site.Live, options Options) (live.Options, error) {
	or := func(value *int, otherwise int) int {
		if value == nil {
			return otherwise
		}
		return *value
	}
	look := live.Options{Address: s.Address(), Preferred: s.Said("address"), Aliases: s.SaidList("aliases"), Own: l.Own, Connect: l.Connect, List: l.List, Analytics: s.Said("analytics"), Strangers: s.SaidList("building_hosts"), Referrer: l.Referrer, Groups: s.SaidList("groups"), TokenFiles: s.SaidList("token_files"),
		MaxPages: or(l.Pages, live.DefaultPages), MaxDepth: or(l.Depth, live.DefaultDepth), Concurrency: or(l.Concurrency, live.DefaultConcurrency),
		MaxTime: time.Duration(or(l.Seconds, int(live.DefaultTime/time.Second))) * time.Second, Rate: float64(or(l.Rate, int(live.DefaultRate))),
		IgnoreRobots: options.IgnoreRobots, Small: options.Pictures, Lookup: options.Lookup, Dial: options.Dial, Transport: options.Transport}
	if options.Pages != nil {
		look.List, look.MaxPages, look.MaxDepth = options.Pages, len(options.Pages)+1, 0
	}
	if options.Connect != nil {
		look.Connect = options.Connect
	}
	look.Previous = options.Answered
	if options.Previous != nil {
		for _, page := range options.Previous.Pages {
			look.Previous = append(look.Previous, page.Address)
		}
	}
	if l.Trust != "" {
		var err error
		if look.Trust, err = orders.ReadNamed(s.Resolve(l.Trust), maxTrust); err != nil {
			return look, fmt.Errorf("trust: %w", err)
		}
	}
	for name, secret := range map[string]struct {
		said string
		into *string
	}{"user": {l.User, &look.User}, "session": {l.Session, &look.Session}} {
		var unset string
		*secret.into = os.Expand(secret.said, func(name string) string {
			value, there := os.LookupEnv(name)
			if !there {
				unset = name
			}
			return value
		})
		if unset != "" {
			return look, fmt.Errorf("%s: the environment variable %s is not set", name, unset)
		}
	}
	look.User = cmp.Or(options.User, look.User)
	if cookie := look.Session; cookie != "" {
		if _, err := http.ParseCookie(cookie); err != nil {
			return look, errors.New("session: what the environment variable holds is no cookie; write its name, =, and its value")
		}
	}
	return look, nil
}
