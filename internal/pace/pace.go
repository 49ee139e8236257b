// Package pace judges times: whether answers out of a cache come faster than those around it, or only seem to, and how many
// requests it would take to tell. It keeps runs in a folder. It asks nobody, and imports ordinary.
package pace

import (
	"fmt"
	"math"
	"slices"

	"golang.org/x/perf/benchmath"
)

// Level is the two-sided level of the test: where there is no difference, one is claimed in at most so many of all cases.
const Level = 0.05

// A Verdict is what can be said of two lists of times.
type Verdict uint8

// The verdicts.
const (
	Untold Verdict = iota // a difference cannot be told from chance with so few
	Faster                // the first list is
	Slower
)

// A Summary is a list of times in milliseconds.
type Summary struct {
	Count  int     `json:"count"`
	Median float64 `json:"median"`
	// Low and High are the quartiles, between which the middle half lies.
	Low  float64 `json:"low"`
	High float64 `json:"high"`
}

// Spread is half of what lies between the quartiles, as a share of the median.
func (s Summary) Spread() float64 {
	if s.Median == 0 {
		return 0
	}
	return (s.High - s.Low) / 2 / s.Median
}

// A Judgement is one list of times beside another.
type Judgement struct {
	First, Second Summary
	Verdict       Verdict
	// Chance is how often lists this far apart, or farther, come of times that do not differ at all: the exact, two-sided p of
	// the rank test of Mann and Whitney (1947); that of its approximation where both have more than fifty times.
	Chance float64
	// Needed is how many times of each would tell the difference that there seems to be, or one that is worth telling, in nine cases
	// of ten; MostNeeded when not even those would. 0 when a difference is told, or one worth telling would have been.
	Needed int
}

// Worth is the least difference that is worth telling, as a share of the times.
const Worth = 0.10

// MostNeeded is the most requests of each kind that somebody is sent to make.
const MostNeeded = 100

// Judge sets two lists of times in milliseconds beside each other.
func Judge(first, second []float64) Judgement {
	j := Judgement{First: summary(first), Second: summary(second), Chance: 1}
	if len(first) == 0 || len(second) == 0 {
		return j
	}
	compared := benchmath.AssumeNothing.Compare(benchmath.NewSample(first, &benchmath.DefaultThresholds), benchmath.NewSample(second, &benchmath.DefaultThresholds))
	j.Chance = compared.P
	switch {
	case j.Chance < 0 || math.IsNaN(j.Chance): // too few, or all the same
		j.Chance = 1
	case j.Chance < Level && j.First.Median < j.Second.Median:
		j.Verdict = Faster
	case j.Chance < Level && j.First.Median > j.Second.Median:
		j.Verdict = Slower
	}
	if j.Verdict == Untold {
		j.Needed = needed(first, second)
	}
	return j
}

// least is the fewest times of each with which the test can claim anything at all.
const least = 4

// needed reckons how many times of each would tell a difference, in nine of ten cases: times of answers are spread as their
// logarithms are normal, and the rank test needs 1/0.955 of what that of Student does.
func needed(first, second []float64) int {
	a, b := logs(first), logs(second)
	if len(a) < 2 || len(b) < 2 {
		return least + 2
	}
	apart := max(math.Abs(median(a)-median(b)), math.Log(1+Worth))
	spread := math.Sqrt((variance(a) + variance(b)) / 2)
	const chances = 1.960 + 1.282 // of the level, two-sided, and of nine in ten
	n := max(2*chances*chances*spread*spread/(apart*apart)/0.955, least+2)
	if n <= float64(min(len(a), len(b))) {
		return 0
	}
	return min(int(math.Ceil(n/5)*5), MostNeeded) // a round number
}

func logs(values []float64) (out []float64) {
	for _, v := range values {
		out = append(out, math.Log(max(v, 1e-3)))
	}
	return out
}

func variance(values []float64) float64 {
	mean, sum := 0.0, 0.0
	for _, v := range values {
		mean += v / float64(len(values))
	}
	for _, v := range values {
		sum += (v - mean) * (v - mean)
	}
	return sum / float64(max(len(values)-1, 1))
}

func median(values []float64) float64 { return quantile(slices.Sorted(slices.Values(values)), 0.5) }

func summary(values []float64) Summary {
	sorted := slices.Sorted(slices.Values(values))
	return Summary{len(values), quantile(sorted, 0.5), quantile(sorted, 0.25), quantile(sorted, 0.75)}
}

// quantile is a quantile of a sorted list, between its values in proportion.
func quantile(sorted []float64, share float64) float64 {
	if len(sorted) == 0 {
		return 0
	}
	at := share * float64(len(sorted)-1)
	below := int(at)
	if below+1 >= len(sorted) {
		return sorted[below]
	}
	return sorted[below] + (at-float64(below))*(sorted[below+1]-sorted[below])
}

// Certainty is how sure a difference is, in words.
func (j Judgement) Certainty() string {
	switch {
	case j.Chance >= 0.001:
		return fmt.Sprintf("chance alone would do that in %d of 1000 cases", int(math.Ceil(j.Chance*1000)))
	}
	return "chance alone would do that in fewer than 1 of 1000 cases"
}

// Says is the judgement as a sentence, with what the two lists are called: the cache, and around it.
func (j Judgement) Says(first, second string) string {
	if j.First.Count == 0 || j.Second.Count == 0 {
		return "there is nothing to compare"
	}
	apart := math.Abs(j.First.Median - j.Second.Median)
	switch j.Verdict {
	case Faster, Slower:
		word := map[Verdict]string{Faster: "faster", Slower: "slower"}[j.Verdict]
		return fmt.Sprintf("%s is %s than %s, by %s: %s", first, word, second, Milliseconds(apart), j.Certainty())
	}
	if j.Needed == 0 {
		return fmt.Sprintf("%s is as fast as %s, to a tenth: %s and %s", first, second, Milliseconds(j.First.Median), Milliseconds(j.Second.Median))
	}
	return fmt.Sprintf("whether %s is faster than %s cannot be told with %s: medians are %s apart, single times %.0f %%; ask for %d", first, second,
		counted(j.First.Count, j.Second.Count), Milliseconds(apart), 100*max(j.First.Spread(), j.Second.Spread()), j.Needed)
}

func counted(a, b int) string {
	if a == b {
		return fmt.Sprintf("%d of each", a)
	}
	return fmt.Sprintf("%d and %d", a, b)
}

// Milliseconds writes a time of so many milliseconds, as precisely as it matters.
func Milliseconds(ms float64) string {
	switch {
	case ms >= 10_000:
		return fmt.Sprintf("%.1f s", ms/1000)
	case ms >= 10:
		return fmt.Sprintf("%.0f ms", ms)
	case ms >= 1:
		return fmt.Sprintf("%.1f ms", ms)
	}
	return fmt.Sprintf("%.2f ms", ms)
}
