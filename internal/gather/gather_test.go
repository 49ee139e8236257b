package gather

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

// told makes a step that finds a word for others, and notes that it has looked.
func told(name string, note func(string), requires ...Any) *Step[string] {
	return &Step[string]{Name: name, Source: facts.Live, Requires: requires, Asked: func(Request) bool { return true }, Gather: func(context.Context, Request, Results) (string, facts.Seen, error) {
		note(name)
		return "word of " + name, facts.Seen{Pages: []facts.Page{{Path: "/" + name}}}, nil
	}}
}

// TestAStepComesAfterWhatItTakes, however the table has them, and is given what that found and saw.
func TestAStepComesAfterWhatItTakes(t *testing.T) {
	var mu sync.Mutex
	var order []string
	note := func(name string) { mu.Lock(); defer mu.Unlock(); order = append(order, name) }
	first := told("first", note)
	second := told("second", note, first)
	second.Uses = []Any{told("elsewhere", note)} // no row of the table
	joins := &Step[int]{Name: "joins", Source: facts.Files, Requires: []Any{first, second}, Completes: true, Gather: func(_ context.Context, _ Request, of Results) (int, facts.Seen, error) {
		note("joins")
		word, seen := first.Of(of)
		other, _ := second.Of(of)
		assert.Equal(t, "word of first, word of second", word+", "+other)
		assert.Panics(t, func() { told("stranger", note).Of(of) }, "it has not named that one")
		pages := slices.Clone(seen.Pages)
		pages[0].Own = "7"
		return 3, facts.Seen{Pages: pages}, nil
	}}
	seen, of, err := Run(t.Context(), Request{}, []Any{joins, second, first})
	require.NoError(t, err)
	assert.Equal(t, []string{"first", "second", "joins"}, order)
	assert.Equal(t, []facts.Page{{Path: "/first", Own: "7"}, {Path: "/second"}, {Path: "/first"}}, seen.Pages, "together as the table has them: what completes a list stands in place of what is before it")
	found, _ := joins.Of(of)
	assert.Equal(t, 3, found)
	seen, _, err = Run(t.Context(), Request{}, []Any{first, joins, second})
	require.NoError(t, err)
	assert.Len(t, seen.Pages, 2)
}

// TestWhatIsMissingIsAGap: not asked, not there at all, nothing seen, and what in turn requires that; said once.
func TestWhatIsMissingIsAGap(t *testing.T) {
	var looked []string
	note := func(name string) { looked = append(looked, name) }
	side := func(change func(*Step[string])) *Step[string] {
		s := told("side", note)
		s.Source = facts.Server
		change(s)
		return s
	}
	fails := func(what string, names ...string) func(*Step[string]) {
		return func(s *Step[string]) {
			s.Gather = func(context.Context, Request, Results) (string, facts.Seen, error) {
				return "", facts.Seen{Gaps: []facts.Gap{{Source: facts.Server, What: what, Kind: facts.Refused, Because: "reading it was refused", Names: names}}}, ErrUnseen
			}
		}
	}
	unasked := func(s *Step[string]) { s.Asked = func(Request) bool { return false } }
	for _, c := range []struct {
		of      func(*Step[string])
		without facts.Gap
		gaps    []facts.Gap
	}{
		{unasked, facts.Gap{What: "both", Names: []string{"live.x"}}, []facts.Gap{{Source: facts.Live, What: "both", Kind: facts.Unmapped, Because: "it takes the server source as well, and that was not asked", Names: []string{"live.x"}}}},
		{fails("it", "server."), facts.Gap{What: "both", Names: []string{"live.x"}}, []facts.Gap{{Source: facts.Live, What: "both", Kind: facts.Unmapped, Because: "it takes the server source as well, and that saw nothing: reading it was refused", Names: []string{"live.x"}}}},
		{fails("it", "server."), facts.Gap{What: "both", Names: []string{"server.x"}}, nil},
		{unasked, facts.Gap{What: "both", Kind: facts.Failed, Because: "so", Names: []string{"live.x"}}, []facts.Gap{{Source: facts.Live, What: "both", Kind: facts.Failed, Because: "so", Names: []string{"live.x"}}}},
	} {
		looked = nil
		one, two := told("one", note), side(c.of)
		joins := told("joins", note, one, two)
		joins.Asked, joins.Without = nil, c.without
		after := told("after", note, joins)
		after.Asked, after.Without = nil, facts.Gap{What: "what follows", Names: []string{"live.y"}}
		seen, _, err := Run(t.Context(), Request{}, []Any{after, joins, one, two})
		require.NoError(t, err)
		assert.Equal(t, []string{"one"}, looked)
		gaps := slices.DeleteFunc(slices.Clone(seen.Gaps), func(g facts.Gap) bool { return g.Source == facts.Server || g.What == "what follows" })
		if len(c.gaps) == 0 {
			assert.Empty(t, gaps)
		} else {
			assert.Equal(t, c.gaps, gaps)
		}
		assert.True(t, slices.ContainsFunc(seen.Gaps, func(g facts.Gap) bool { return g.What == "what follows" }), "%v", seen.Gaps)
	}
	alone := told("alone", note, told("no row", note))
	alone.Without = facts.Gap{What: "it", Names: []string{"live.z"}}
	seen, _, err := Run(t.Context(), Request{}, []Any{alone})
	require.NoError(t, err)
	assert.Len(t, seen.Gaps, 1)
}

func TestStepsInACircleAreAnError(t *testing.T) {
	a, b := told("a", nil), told("b", nil)
	a.Requires, b.Uses = []Any{b}, []Any{a}
	_, _, err := Run(t.Context(), Request{}, []Any{a, b})
	assert.ErrorContains(t, err, "wait for one another: a")
	_, _, err = Run(t.Context(), Request{}, []Any{told("a", nil), told("a", nil)})
	assert.ErrorContains(t, err, "two steps are called a")
}

// TestWhatIsInterruptedCounts: what was seen is there, those after it are asked, and the gap says that there is more.
func TestWhatIsInterruptedCounts(t *testing.T) {
	for _, cause := range []error{context.Canceled, errors.New("something else")} {
		half := &Step[string]{Name: "half", Source: facts.Live, Asked: func(Request) bool { return true }, Gather: func(context.Context, Request, Results) (string, facts.Seen, error) {
			return "half", facts.Seen{Pages: []facts.Page{{Path: "/"}}}, fmt.Errorf("so: %w", cause)
		}}
		var word string
		after := &Step[string]{Name: "after", Source: facts.Files, Requires: []Any{half}, Gather: func(_ context.Context, _ Request, of Results) (string, facts.Seen, error) {
			word, _ = half.Of(of)
			return "", facts.Seen{}, nil
		}}
		seen, _, err := Run(t.Context(), Request{}, []Any{half, after})
		assert.ErrorIs(t, err, cause)
		assert.Equal(t, "half", word)
		assert.Len(t, seen.Pages, 1)
		require.Len(t, seen.Gaps, 1)
		assert.Equal(t, []string{"live."}, seen.Gaps[0].Names)
	}
}
