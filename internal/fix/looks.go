package fix

import (
	"context"
	"maps"
	"net/http"
	"slices"
	"time"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/site"
	"weltaxis/internal/steps"
)

// maxSample is how many addresses are asked again after a run.
const maxSample = 12

// SeenIn is what of a result fixing looks at: what deviates, and what a sample of addresses answered.
func SeenIn(r *audit.Result) Seen {
	s := Seen{Deviating: map[string][]string{}, Result: r}
	for _, d := range r.Deviations {
		s.Deviating[d.Rule] = append(s.Deviating[d.Rule], d.Subject)
	}
	for _, c := range r.Covered {
		s.Deviating[c.Rule] = append(s.Deviating[c.Rule], c.Subject)
	}
	for _, n := range r.NotJudged {
		s.Unjudged = append(s.Unjudged, n.Rule)
	}
	if !r.Snapshot.Asked(facts.Live) {
		return s
	}
	s.Answers = map[string]int{}
	if status, known := r.Snapshot.Is(facts.HomeStatus.Term); known {
		s.Answers[homeOf(r.Snapshot)] = int(status.Number())
	}
	if form, known := r.Snapshot.Is(facts.LiveLoginPassword.Term); known && form.Bool() {
		if reading, known := r.Snapshot.Effective(facts.LiveLoginPassword.Name); known {
			s.Answers[reading.Origin.URL] = http.StatusOK
		}
	}
	// Pages with forms first, then one of every kind, then whatever there is.
	kinds := map[string]bool{}
	pages := slices.Clone(r.Snapshot.Pages)
	slices.SortStableFunc(pages, func(a, b facts.Page) int { return min(b.Forms, 1) - min(a.Forms, 1) })
	for _, all := range []bool{false, true} {
		for _, page := range pages {
			if len(s.Answers) < maxSample && page.Status == http.StatusOK && (all || !kinds[page.Kind]) {
				kinds[page.Kind] = true
				s.Answers[page.Address] = page.Status
			}
		}
	}
	return s
}

// homeOf is the address of the home page.
func homeOf(s *facts.Snapshot) string {
	reading, _ := s.Effective(facts.HomeStatus.Name)
	return reading.Origin.URL
}

// For is what writing to a site needs, with the ways in which a site is looked at again. Before the run it was as the
// result says; nil for an undo, which no result comes before.
func For(s *site.Site, before *audit.Result, options audit.Options, journal *Journal) (Env, error) {
	env, now := Env{Journal: journal}, time.Now
	if journal != nil {
		now = journal.now
	}
	var err error
	if env.Dialect, env.Stores, err = audit.Stores(s, options); err != nil {
		return env, err
	}
	if tree := s.Sources.Files; tree != nil {
		env.FilesRoot = s.Resolve(tree.Root)
	}
	env.Recheck = func(ctx context.Context) (Seen, error) {
		if journal != nil { // what this run has changed nobody else has
			options.Ours = FilesOf(slices.Collect(maps.Values(journal.lines)), time.Time{})
		}
		r, err := audit.Run(ctx, s, now(), options)
		if err != nil {
			return Seen{}, err
		}
		return SeenIn(r), nil
	}
	hints := facts.Hints{}
	if before != nil {
		hints = before.Snapshot.Hints
	}
	env.World = worldOf(s, env.Dialect, hints)
	env.Try, env.Run = tryOf(env.World), run
	env.Loaders = func() []Loader { return loadersOf(s, env.World) }
	if s.Sources.Live == nil || options.Offline {
		return env, nil
	}
	if before != nil {
		env.Home = homeOf(before.Snapshot)
	}
	env.Call = func(ctx context.Context, path string) error { return Call(ctx, s, path, options) }
	env.Text = func(ctx context.Context, path string) string {
		status, body, err := Fetch(ctx, s, now(), path, options)
		if err != nil || status != http.StatusOK {
			return ""
		}
		return string(body)
	}
	env.Ask = func(ctx context.Context, addresses []string) map[string]int {
		answers, err := Ask(ctx, s, now(), addresses, options)
		if err != nil {
			return map[string]int{}
		}
		return answers
	}
	return env, nil
}

// judgedBy says which rules deviate once a setting has a value, that did not when the site was looked at, or that the value is to settle.
func judgedBy(r *audit.Result) func(facts.Term, facts.Value, []string) []string {
	if r.Rules == nil {
		return nil
	}
	return func(setting facts.Term, value facts.Value, settles []string) (says []string) {
		before := map[string]bool{}
		for _, d := range r.Deviations {
			before[d.Rule] = true
		}
		with := *r.Snapshot
		with.Readings = slices.DeleteFunc(slices.Clone(with.Readings), func(reading facts.Reading) bool { return reading.FullName() == setting.Name })
		with.Readings = append(with.Readings, facts.Reading{Source: facts.Settings, Name: setting.Short(), Value: value, Origin: facts.Origin{Default: "what is to be there"}})
		for _, d := range r.Rules.Judge(&with).Deviations {
			own := slices.ContainsFunc(d.Readings, func(reading facts.Reading) bool { return reading.FullName() == setting.Name })
			if text := d.Rule + ": " + d.Says; own && (!before[d.Rule] || slices.Contains(settles, d.Rule)) && !slices.Contains(says, text) {
				says = append(says, text)
			}
		}
		return says
	}
}

// WishesFor are what a plan for a site is made from, after an audit.
func WishesFor(s *site.Site, r *audit.Result, options audit.Options, values map[string]string) (Wishes, error) {
	w := Wishes{Deviations: r.Deviations, WebUser: r.Snapshot.WebUser(), Values: values}
	for _, c := range r.Covered {
		w.Covered = append(w.Covered, c.Deviation)
	}
	w.Known, w.Judged = r.Snapshot.Records[facts.ListRecords], judgedBy(r)
	var err error
	if w.Dialect, w.Stores, err = audit.Stores(s, options); err != nil {
		return w, err
	}
	if tree := s.Sources.Files; tree != nil {
		w.FilesRoot = s.Resolve(tree.Root)
		w.Tree = steps.Tree(s, w.Dialect, steps.FolderFrom(r.Snapshot.Hints))
	}
	excluded, _ := r.Snapshot.Is(facts.CacheExcludes.Term)
	w.Excluded, w.Spellings = excluded.List(), r.Snapshot.Spellings
	w.World, w.Seen = worldOf(s, w.Dialect, r.Snapshot.Hints), r.Snapshot.Pages
	w.Loaders, w.Try = loadersOf(s, w.World), tryOf(w.World)
	if w.Home = s.Address(); r.Snapshot.Asked(facts.Live) && homeOf(r.Snapshot) != "" {
		w.Home = homeOf(r.Snapshot)
	}
	kept, known := r.Snapshot.Is(facts.CachePage.Term)
	w.Pages = !known || kept.Bool()
	if robots, known := r.Snapshot.Is(facts.LiveRobotsStatus.Term); known && robots.Number() == http.StatusOK {
		w.Made = []string{"robots.txt"}
	}
	return w, nil
}
