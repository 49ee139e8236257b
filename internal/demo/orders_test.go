package demo

import (
	"context"
	"encoding/json"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/canned"
	"weltaxis/internal/gather"
	"weltaxis/internal/site"
	"weltaxis/internal/steps"
)

// crawl is what the theatre's site answered. To have it asked anew: WELTAXIS_RECORD=1 go test ./internal/demo -run TestTheOrderOfStepsIsNoMatter
const crawl = "testdata/lantern-lane.har.gz"

// madeUp is what is another in each address that is made up so that it cannot be there.
var madeUp = regexp.MustCompile(`weltaxis([-=])[0-9a-f]{12,16}`)

// required are the steps that a step waits for, and whether the table has it.
func required(step gather.Any) (all []gather.Any) {
	s := reflect.ValueOf(step).Elem()
	return slices.Concat(s.FieldByName("Requires").Interface().([]gather.Any), s.FieldByName("Uses").Interface().([]gather.Any))
}

// anOrder is one of those that what the steps require allows: each waits for the one before it, besides.
func anOrder(r *rand.Rand) (chained []gather.Any, names []string) {
	left := slices.Clone(steps.All)
	done := func(step gather.Any) bool { return slices.Contains(names, gather.Name(step)) }
	for len(left) > 0 {
		ready := slices.DeleteFunc(slices.Clone(left), func(step gather.Any) bool {
			return slices.ContainsFunc(required(step), func(other gather.Any) bool { return !done(other) })
		})
		next := ready[r.IntN(len(ready))]
		step := reflect.New(reflect.TypeOf(next).Elem())
		step.Elem().Set(reflect.ValueOf(next).Elem())
		if n := len(chained); n > 0 {
			uses := step.Elem().FieldByName("Uses")
			uses.Set(reflect.ValueOf(append(slices.Clone(uses.Interface().([]gather.Any)), chained[n-1])))
		}
		chained, names = append(chained, step.Interface().(gather.Any)), append(names, gather.Name(next))
		left = slices.DeleteFunc(left, func(other gather.Any) bool { return other == next })
	}
	return chained, names
}

// inTable puts steps back into the order of the table, in which what they saw is put together.
func inTable(chained []gather.Any) []gather.Any {
	at := func(step gather.Any) int {
		return slices.IndexFunc(steps.All, func(other gather.Any) bool { return gather.Name(other) == gather.Name(step) })
	}
	return slices.SortedFunc(slices.Values(chained), func(a, b gather.Any) int { return at(a) - at(b) })
}

// TestTheOrderOfStepsIsNoMatter: whichever comes first, as far as what they require allows it, and side by side, all that they see is the same to the
// byte. What the site answers comes from a file, and time from a clock that runs only while all wait.
func TestTheOrderOfStepsIsNoMatter(t *testing.T) {
	dir := t.TempDir()
	b := lanternLane()
	_, err := b.write(dir)
	require.NoError(t, err)
	if os.Getenv("WELTAXIS_RECORD") != "" {
		server, err := serve(dir, []*installation{b}, 0)
		require.NoError(t, err)
		s, err := site.Load(filepath.Join(dir, b.folder))
		require.NoError(t, err)
		recorder := &canned.Recorder{}
		_, err = audit.Look(t.Context(), s, Clock(), audit.Options{Tool: "test", Connect: server.Connect(b.folder), Transport: recorder.Over})
		server.Close()
		require.NoError(t, err)
		require.NoError(t, recorder.Save(crawl))
	}
	answers, err := canned.Open(crawl)
	require.NoError(t, err)
	orders := 12
	if os.Getenv("WELTAXIS_SOAK") != "" {
		orders = 100
	}
	r := rand.New(rand.NewPCG(1, 2))
	canned.Bubble(t, func(t *testing.T) {
		s, err := site.Load(filepath.Join(dir, b.folder))
		require.NoError(t, err)
		s.Sources.Live.Trust = ""
		look := func(steps []gather.Any) string {
			answers.Again()
			snapshot, err := audit.Look(t.Context(), s, time.Date(2026, 12, 2, 9, 0, 0, 0, time.UTC), audit.Options{Tool: "test", Steps: steps, Transport: answers.Over, Room: roomLeft(100<<30, 200<<30, 0, 0),
				Dial: func(context.Context, string, string) (net.Conn, error) { return nil, canned.ErrNowhere }})
			require.NoError(t, err)
			raw, err := json.MarshalIndent(snapshot, "", " ")
			require.NoError(t, err)
			return madeUp.ReplaceAllString(string(raw), "weltaxis$1")
		}
		first := look(nil)
		assert.Empty(t, answers.Missing(), "the theatre's site asks for what nobody had asked for: have it asked anew")
		for range orders {
			chained, names := anOrder(r)
			if !assert.Equal(t, first, look(inTable(chained)), "%v", names) {
				break
			}
		}
	})
}
