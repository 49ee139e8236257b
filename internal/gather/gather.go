// Package gather has steps look at a site: each as soon as those are done that it takes something from, side by side with all
// others. It knows no step.
//
// It may import facts, dialect, progress, site, store, tree and source/live (for how a site is asked), and no step.
package gather

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/progress"
	"weltaxis/internal/site"
	"weltaxis/internal/source/live"
	"weltaxis/internal/store"
	"weltaxis/internal/tree"
)

// A Request is what steps are asked: the site, and how to look. Every step is given the same, and none changes what it holds.
type Request struct {
	Site    *site.Site
	Now     time.Time        // by which everything is judged
	Dialect *dialect.Dialect // nil when the site file names none
	Stores  store.Options    // how what the dialect names is opened
	Live    live.Options     // how the site is asked
	Offline bool             // no request leaves
	Areas   []string         // those of which something is going to be judged
	Before  *facts.Snapshot  // the last look that was kept, nil when there is none
	Ours    []string         // paths below the root that this program has changed itself since then
	Room    func() (tree.Space, error)
}

// A Step looks at one side of a site, at a part of it, or at what several sides tell together. It judges nothing. R is what it
// finds out for other steps, besides what it has seen.
type Step[R any] struct {
	Name   string       // by which its results are known; no two steps have the same
	Source facts.Source // whose facts it adds to
	// Requires are the steps without whose results it has nothing to look at; Uses are those whose results it takes into account
	// where they are there. It is given the results of these and of no others.
	Requires, Uses []Any
	// Asked tells whether anybody wants it to look. Nil is whenever the first of those that it requires is asked.
	Asked func(ask Request) bool
	// Where is where it looked, for whoever reads the snapshot; nil where that is no place of its own.
	Where func(ask Request, found R) string
	// Without is the gap that it leaves where something that it requires was not asked, or saw nothing: what nobody can tell then, and
	// the names that are unknown. Why follows from what is missing, where it does not say.
	Without facts.Gap
	// Completes is set where the lists that it gives stand in place of those that were seen before.
	Completes bool
	// Gather looks. What it has seen and found counts even with an error, which is ErrUnseen, or that of a context that ended.
	Gather func(ctx context.Context, ask Request, of Results) (R, facts.Seen, error)
}

// ErrUnseen is the error of a step which saw nothing that another could go by. The gaps of what it has seen say why.
var ErrUnseen = errors.New("nothing was seen")

// Any is a step, whatever it finds.
type Any interface {
	about() about
	gather(ctx context.Context, ask Request, of Results) (any, facts.Seen, error)
	asked(ask Request) bool
	where(ask Request, found any) string
}

// about is what the driver goes by.
type about struct {
	name           string
	source         facts.Source
	requires, uses []Any
	without        facts.Gap
	completes      bool
}

func (s *Step[R]) about() about {
	return about{s.Name, s.Source, s.Requires, s.Uses, s.Without, s.Completes}
}

func (s *Step[R]) gather(ctx context.Context, ask Request, of Results) (any, facts.Seen, error) {
	return s.Gather(ctx, ask, of)
}

func (s *Step[R]) asked(ask Request) bool {
	if s.Asked == nil {
		return s.Requires[0].asked(ask)
	}
	return s.Asked(ask)
}

func (s *Step[R]) where(ask Request, found any) string {
	if s.Where == nil {
		return ""
	}
	of, _ := found.(R)
	return s.Where(ask, of)
}

// Results are what steps have found and seen, by their names. Whoever is given them changes nothing in them.
type Results map[string]result

// A result is that of one step. It is not done where the step was not asked, or something that it requires is missing; and it is
// unseen where the step had nothing to tell others.
type result struct {
	found        any
	seen         facts.Seen
	done, unseen bool
	whole        bool // the step was at its end
}

// Of is what the step has found, and what it has seen: nothing, where it did not look. It panics where the step that asks has not
// named this one.
func (s *Step[R]) Of(of Results) (found R, seen *facts.Seen) {
	r, named := of[s.Name]
	if !named {
		panic("a step takes results of " + s.Name + ", which it does not name")
	}
	found, _ = r.found.(R)
	return found, &r.seen
}

// Source is the source whose facts a step adds to.
func Source(step Any) facts.Source { return step.about().source }

// Name is the name of a step.
func Name(step Any) string { return step.about().name }

// Run has the steps look that are asked, and gives what they saw, in the order of the table, and what each of them found. The error is
// that of a context that ended, or of a step that was not at its end for another reason; all that was seen until then is there,
// with a gap for each step that was not at its end.
func Run(ctx context.Context, ask Request, steps []Any) (facts.Seen, Results, error) {
	if err := circle(steps); err != nil {
		return facts.Seen{}, nil, err
	}
	d := &driver{ask: ask, steps: steps, results: Results{}, done: map[string]chan struct{}{}}
	for _, step := range steps {
		d.done[Name(step)], d.results[Name(step)] = make(chan struct{}), result{}
	}
	var group sync.WaitGroup
	for _, step := range steps {
		group.Go(func() { d.step(ctx, step) })
	}
	group.Wait()
	var seen facts.Seen
	for _, step := range steps {
		a := step.about()
		r := d.results[a.name]
		if a.completes {
			seen.Complete(r.seen)
		} else {
			seen.Merge(r.seen)
		}
		if d.interrupted != nil && !r.whole && step.asked(ask) {
			seen.AddGap(facts.Gap{Source: a.source, What: "the rest", Kind: facts.Failed, Because: "interrupted before all was seen", Names: []string{a.source.All()}})
		}
	}
	for _, gap := range seen.Gaps {
		level := slog.LevelInfo
		if gap.Kind == facts.Unmapped {
			level = slog.LevelDebug // known beforehand
		}
		slog.Log(ctx, level, "gap", "source", gap.Source, "what", gap.What, "because", gap.Because)
	}
	return seen, d.results, d.interrupted
}

// A driver is one run.
type driver struct {
	ask   Request
	steps []Any
	done  map[string]chan struct{} // closed when a step is

	mu          sync.Mutex
	results     Results
	looking     []string // at what it is being looked
	interrupted error
}

// step waits for what a step takes, and has it look.
func (d *driver) step(ctx context.Context, step Any) {
	a := step.about()
	defer close(d.done[a.name])
	if !step.asked(d.ask) {
		return
	}
	of := Results{}
	for _, other := range slices.Concat(a.requires, a.uses) {
		name := Name(other)
		if done, there := d.done[name]; there {
			<-done
		}
		d.mu.Lock()
		of[name] = d.results[name]
		d.mu.Unlock()
	}
	r := result{unseen: true, whole: true}
	if r.seen.Gaps = d.lacks(a, of); r.seen.Gaps == nil {
		r = d.look(ctx, step, of)
	}
	d.mu.Lock()
	d.results[a.name] = r
	d.mu.Unlock()
}

func (d *driver) look(ctx context.Context, step Any, of Results) result {
	name := Name(step)
	d.tell(ctx, name, true)
	start := time.Now()
	found, seen, err := step.gather(ctx, d.ask, of)
	slog.Debug("looked", "step", name, "took", time.Since(start), "readings", len(seen.Readings), "gaps", len(seen.Gaps))
	d.tell(ctx, name, false)
	r := result{found: found, seen: seen, done: true, unseen: errors.Is(err, ErrUnseen)}
	if r.whole = err == nil || r.unseen; !r.whole {
		d.mu.Lock()
		d.interrupted = err
		d.mu.Unlock()
	}
	return r
}

// tell says what is being looked at.
func (d *driver) tell(ctx context.Context, name string, begins bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if begins {
		d.looking = append(d.looking, name)
	} else {
		d.looking = slices.DeleteFunc(d.looking, func(other string) bool { return other == name })
	}
	if len(d.looking) > 0 {
		progress.Tell(ctx, "looking at "+strings.Join(d.looking, ", "), 0, 0)
	}
}

// lacks are the gaps of a step that misses something that it requires: one, or none where those of what is missing say the same; nil
// where all is there.
func (d *driver) lacks(a about, of Results) []facts.Gap {
	for _, required := range a.requires {
		other := required.about()
		r := of[other.name]
		if r.done && !r.unseen {
			continue
		}
		gap := a.without
		gap.Source, gap.Kind = a.source, cmp.Or(gap.Kind, facts.Unmapped) // whether something failed, the gaps of what is missing say
		if gap.Because != "" {
			return []facts.Gap{gap}
		}
		gap.Because = fmt.Sprintf("it takes the %s source as well, and that was not asked", other.source)
		if r.unseen {
			gap.Because = fmt.Sprintf("it takes the %s source as well, and that saw nothing", other.source)
		}
		if len(r.seen.Gaps) > 0 {
			gap.Because += ": " + r.seen.Gaps[0].Because
		}
		said := func(name string) bool {
			return slices.ContainsFunc(r.seen.Gaps, func(g facts.Gap) bool { return g.Leaves(name) })
		}
		if len(gap.Names) > 0 && !slices.ContainsFunc(gap.Names, func(name string) bool { return !said(name) }) {
			return []facts.Gap{}
		}
		return []facts.Gap{gap}
	}
	return nil
}

// circle is an error where two steps have one name, or wait for one another.
func circle(steps []Any) error {
	left := map[string][]string{}
	for _, step := range steps {
		a := step.about()
		if _, twice := left[a.name]; twice {
			return fmt.Errorf("two steps are called %s", a.name)
		}
		left[a.name] = []string{}
		for _, other := range slices.Concat(a.requires, a.uses) {
			left[a.name] = append(left[a.name], Name(other))
		}
	}
	for len(left) > 0 {
		before := len(left)
		for name, waits := range left {
			if !slices.ContainsFunc(waits, func(other string) bool { _, still := left[other]; return still }) {
				delete(left, name)
			}
		}
		if len(left) == before {
			for _, step := range steps {
				if _, still := left[Name(step)]; still {
					return fmt.Errorf("the steps wait for one another: %s", Name(step))
				}
			}
		}
	}
	return nil
}

// Asked are the places at which the steps that were asked have looked.
func Asked(ask Request, steps []Any, of Results) (asked []facts.Asked) {
	for _, step := range steps {
		if !step.asked(ask) {
			continue
		}
		if where := step.where(ask, of[Name(step)].found); where != "" {
			asked = append(asked, facts.Asked{Source: Source(step), Where: where})
		}
	}
	return asked
}
