package audit

import (
	"context"
	"errors"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/internal/site"
)

func all(Step) bool { return true }

func TestAStepWaitsForWhatItIsTold(t *testing.T) {
	told := []facts.Hint{facts.LoginPathHint}
	waves, err := order([]Step{{Name: "asks", Needs: told}, {Name: "tells", Gives: told}, {Name: "neither"}}, all)
	require.NoError(t, err)
	assert.Equal(t, [][]int{{1, 2}, {0}}, waves)

	waves, err = order([]Step{{Name: "asks", Needs: told}, {Name: "tells", Gives: told}}, func(s Step) bool { return s.Name == "asks" })
	require.NoError(t, err)
	assert.Equal(t, [][]int{{0}}, waves, "nobody waits for a step that was not asked for")

	_, err = order([]Step{{Name: "a", Needs: told, Gives: []facts.Hint{99}}, {Name: "b", Needs: []facts.Hint{99}, Gives: told}}, all)
	assert.ErrorContains(t, err, "wait for one another")
}

func TestTheStepsHaveAnOrder(t *testing.T) {
	waves, err := order(Steps, all)
	require.NoError(t, err)
	assert.Len(t, slices.Concat(waves...), len(Steps))
	for _, step := range Steps {
		for _, need := range step.Needs {
			assert.True(t, slices.ContainsFunc(Steps, func(s Step) bool { return slices.Contains(s.Gives, need) }), "nobody tells %s of %s", step.Name, need)
		}
	}
}

// TestEveryStepHasItsKeyInTheSiteFile, and every key a step. What others know is no side of the site, so its key stands beside the sources.
func TestEveryStepHasItsKeyInTheSiteFile(t *testing.T) {
	keys, sources := []string{"upkeep"}, []string(nil)
	for field := range reflect.TypeFor[site.Sources]().Fields() {
		keys = append(keys, field.Tag.Get("yaml"))
	}
	for _, step := range Steps {
		sources = append(sources, step.Source.String())
	}
	slices.Sort(sources)
	slices.Sort(keys)
	assert.Equal(t, keys, slices.Compact(sources))
}

func TestWhatTwoSourcesTellTogether(t *testing.T) {
	record := func(row, path string) facts.Record {
		return facts.Record{List: facts.ListRecords, Values: map[string]facts.Value{"path": facts.TextOf(facts.String, path)}, From: facts.Origin{Table: "scenes", Row: row}}
	}
	seen := facts.Seen{Records: map[string][]facts.Record{facts.ListRecords: {record("7", "tickets"), record("8", "twice"), record("9", "twice")}},
		Pages: []facts.Page{{Path: "/tickets/", Kind: "content"}, {Path: "/twice/", Kind: "content"}, {Path: "/x/tickets/?a=b", Kind: "listing"}}}
	join(&seen)
	assert.Equal(t, "page 7", seen.Pages[0].Identity(), "the content system tells which page it is")
	assert.Equal(t, "/twice/", seen.Pages[1].Identity(), "nothing tells the two apart")
	assert.Equal(t, "/x/tickets/?a=b", seen.Pages[2].Identity())
}

func TestAContextThatEndsIsTheOnlyErrorOfAStep(t *testing.T) {
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	s, err := site.Bare("http://127.0.0.1:1")
	require.NoError(t, err)
	ask, err := newRequest(s, time.Now(), Options{})
	require.NoError(t, err)
	_, err = gather(ended, ask)
	assert.True(t, errors.Is(err, context.Canceled), "%v", err)
	seen, err := gather(t.Context(), ask)
	require.NoError(t, err)
	assert.True(t, strings.Contains(seen.Gaps[0].Because, "refused"), "all else is a gap")
}
