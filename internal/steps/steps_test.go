package steps

import (
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/site"
)

// TestEveryStepHasItsKeyInTheSiteFile, and every key a step. What others know is no side of the site, so its key stands beside the sources.
func TestEveryStepHasItsKeyInTheSiteFile(t *testing.T) {
	keys, sources := []string{"upkeep"}, []string(nil)
	for field := range reflect.TypeFor[site.Sources]().Fields() {
		keys = append(keys, field.Tag.Get("yaml"))
	}
	for _, step := range All {
		sources = append(sources, gather.Source(step).String())
	}
	slices.Sort(sources)
	slices.Sort(keys)
	assert.Equal(t, keys, slices.Compact(sources))
}

func TestWhatTwoSourcesTellTogether(t *testing.T) {
	record := func(row, path string) facts.Record {
		return facts.Record{List: facts.ListRecords, Values: map[string]facts.Value{"path": facts.TextOf(facts.String, path)}, From: facts.Origin{Table: "scenes", Row: row}}
	}
	saw := []facts.Page{{Path: "/tickets/", Kind: "content"}, {Path: "/twice/", Kind: "content"}, {Path: "/x/tickets/?a=b", Kind: "listing"}}
	pages := own(saw, []facts.Record{record("7", "tickets"), record("8", "twice"), record("9", "twice")})
	assert.Equal(t, "page 7", pages[0].Identity(), "the content system tells which page it is")
	assert.Equal(t, "/twice/", pages[1].Identity(), "nothing tells the two apart")
	assert.Equal(t, "/x/tickets/?a=b", pages[2].Identity())
	assert.Empty(t, saw[0].Own, "what the other step saw is as it was")
}
