package answer

import (
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

// guesses is a request that asks so many questions nobody can answer; each yes adds a letter to a header.
func guesses(questions int, runs *int) func(*Guess) *Answer {
	return func(g *Guess) *Answer {
		*runs++
		a := New()
		a.Then(facts.Origin{File: "x.conf", Line: 1}, "it arrives")
		a.Say(Status, facts.Origin{}, "200")
		for i := range questions {
			if g.Either(facts.Reason{Because: "question " + strconv.Itoa(i)}) {
				a.Then(facts.Origin{}, "yes to "+strconv.Itoa(i))
				a.Say(Header("x-"+strconv.Itoa(i)), facts.Origin{}, "yes")
			}
		}
		return a
	}
}

func TestAllWaysAreTaken(t *testing.T) {
	for questions, ways := range map[int]int{0: 1, 1: 2, 3: 8, 6: 64} {
		runs := 0
		a := Explore(guesses(questions, &runs))
		assert.Equal(t, ways, runs)
		assert.Equal(t, "200", a.Text(Status), "what is the same on all ways is told")
		for i := range questions {
			told := a.Get(Header("x-" + strconv.Itoa(i)))
			require.NotNil(t, told.Unknown)
			assert.Contains(t, told.Unknown.Because, "question ")
		}
	}
}

// Of a request that too much is asked of nothing is told, and of its way only what comes before the first guess; it
// isn't gone further than needed to know that.
func TestTooManyWaysAreNotTaken(t *testing.T) {
	for questions, most := range map[int]int{7: 64, 64: 3, 5000: 2} {
		runs := 0
		a := Explore(guesses(questions, &runs))
		assert.LessOrEqual(t, runs, most, "%d questions", questions)
		require.NotNil(t, a.Get(Status).Unknown)
		assert.Equal(t, "it depends on more than can be known here, beginning with this: question 0", a.Get(Status).Unknown.Because)
		require.Len(t, a.Way, 2)
		assert.Equal(t, "it arrives", a.Way[0].Says)
		assert.Equal(t, "from here on it depends: question 0", a.Way[1].Says)
	}
}

func TestExpressionsAreBounded(t *testing.T) {
	var patterns Patterns
	slow := "/" + strings.Repeat("a", 300) + "!"
	for i := range 2 * maxSlow {
		found, wrong := patterns.Compile("^/(a|aa)+"+strconv.Itoa(i)+"$", false).Find(slow)
		assert.Nil(t, found)
		if i < maxSlow {
			assert.Contains(t, wrong, "takes too long")
		} else {
			assert.Contains(t, wrong, "is not tried, since 40 took too long before it")
		}
	}

	assert.Equal(t, maxAgain, patterns.again)

	var quick Patterns
	for i := range maxKept + 500 {
		found, wrong := quick.Compile("^/"+strconv.Itoa(i)+"$", false).Find("/7")
		assert.Empty(t, wrong)
		assert.Equal(t, i == 7, found != nil)
	}
	assert.Equal(t, maxKept, quick.kept)
	assert.LessOrEqual(t, len(quick.known), maxKept)
	assert.Same(t, quick.Compile("x", true), quick.Compile("x", true))
	assert.NotSame(t, quick.Compile("x", true), quick.Compile("x", false))
	_, wrong := quick.Compile("(", false).Find("x")
	assert.Equal(t, "the expression ( is not understood here", wrong)
}

// On a busy machine the clock may run out on an expression that hardly takes any time.
func TestAnExpressionThatWasKeptWaitingIsTriedAgain(t *testing.T) {
	var patterns Patterns
	for range 3 * maxAgain {
		waits := patterns.Compile(`^/(\w+)\.php$`, false)
		waits.read().MatchTimeout = -time.Hour
		found, wrong := waits.Find("/index.php")
		assert.Empty(t, wrong)
		require.NotNil(t, found)
		assert.Equal(t, []string{"/index.php", "index"}, found.Groups)
		assert.Equal(t, -time.Hour, waits.read().MatchTimeout, "as before, for the next")
	}
	assert.Zero(t, patterns.slow)
	assert.Zero(t, patterns.again)
}
