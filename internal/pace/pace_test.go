package pace

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// times are log-normal: so many around a median, with a spread of so many per cent.
func times(r *rand.Rand, count int, median, spread float64) (list []float64) {
	sigma := math.Sqrt(math.Log(1 + spread*spread))
	for range count {
		list = append(list, median*math.Exp(sigma*r.NormFloat64()))
	}
	return list
}

// TestJudgementOfGeneratedTimes: without a difference one is claimed as seldom as the level says; a difference of 40 ms in 360
// is found with the default of six where times are 5 % apart, and at 20 % it is said how many it takes, and so many tell.
func TestJudgementOfGeneratedTimes(t *testing.T) {
	const cases, six = 2000, 6
	type counts struct{ faster, slower, more int }
	count := func(seed uint64, of int, first, second, spread float64) (n counts) {
		r := rand.New(rand.NewPCG(seed, 3))
		for range cases {
			switch j := Judge(times(r, of, first, spread), times(r, of, second, spread)); {
			case j.Verdict == Faster:
				n.faster++
			case j.Verdict == Slower:
				n.slower++
			case j.Needed > of:
				n.more++
			}
		}
		return n
	}
	for _, spread := range []float64{0.05, 0.20} {
		for _, of := range []int{six, 20, 60} {
			same := count(1, of, 360, 360, spread)
			require.LessOrEqual(t, same.faster+same.slower, cases*5/100+30, "%.2f %d", spread, of) // 30: three deviations of the count itself
		}
	}
	steady := count(2, six, 320, 360, 0.05)
	require.GreaterOrEqual(t, steady.faster, cases*90/100)
	require.Zero(t, steady.slower)
	unsteady := count(3, six, 320, 360, 0.20)
	require.GreaterOrEqual(t, unsteady.more, cases*80/100, "%+v", unsteady)
	require.LessOrEqual(t, unsteady.slower, cases*2/100)
	require.GreaterOrEqual(t, count(4, 65, 320, 360, 0.20).faster, cases*87/100)
}

// TestWords: what is said of times.
func TestWords(t *testing.T) {
	fast, slow := []float64{10, 11, 12, 11, 10, 12}, []float64{40, 44, 41, 43, 42, 45}
	require.Equal(t, "the cache is faster than what is around it, by 32 ms: chance alone would do that in 3 of 1000 cases", Judge(fast, slow).Says("the cache", "what is around it"))
	require.Equal(t, Slower, Judge(slow, fast).Verdict)
	for _, c := range []struct {
		first, second []float64
		says          string
		needed        int
	}{
		{fast, []float64{9, 13, 11, 12, 10, 14}, "whether a is faster than b cannot be told with 6 of each: medians are 0.50 ms apart, single times 11 %; ask for 45", 45},
		{fast[:2], slow[:2], "cannot be told with 2 of each: medians are 30 ms apart", 10},
		{fast[:1], slow[:1], "cannot be told with 1 of each: medians are 30 ms apart, single times 0 %; ask for 6", 6},
		{[]float64{1, 9, 2, 30, 4, 80}, []float64{60, 2, 8, 3, 20, 1}, "ask for 100", MostNeeded},
		{nil, slow, "there is nothing to compare", 0},
		{[]float64{50, 51, 50, 52, 50, 51}, []float64{51, 50, 50, 51, 52, 50}, "a is as fast as b, to a tenth: 50 ms and 50 ms", 0},
		{[]float64{5, 5, 5, 5, 5, 5}, []float64{5, 5, 5, 5, 5, 5}, "a is as fast as b, to a tenth", 0},
	} {
		j := Judge(c.first, c.second)
		require.Equal(t, Untold, j.Verdict)
		require.Contains(t, j.Says("a", "b"), c.says)
		require.Equal(t, c.needed, j.Needed)
	}
	require.Equal(t, Summary{4, 2.5, 1.75, 3.25}, Judge([]float64{4, 1, 3, 2}, slow).First)
	for ms, text := range map[float64]string{0.123: "0.12 ms", 3.14: "3.1 ms", 360.4: "360 ms", 12345: "12.3 s"} {
		require.Equal(t, text, Milliseconds(ms))
	}
}

// TestExactRanks: the chance is that of counting all ways to deal the ranks (Mann and Whitney, 1947, table I).
func TestExactRanks(t *testing.T) {
	for _, c := range []struct {
		first, second []float64
		chance        float64
	}{
		{[]float64{1, 2, 3}, []float64{4, 5, 6}, 2.0 / 20},
		{[]float64{1, 2, 3, 4}, []float64{5, 6, 7, 8}, 2.0 / 70},
		{[]float64{1, 2, 3, 5}, []float64{4, 6, 7, 8}, 4.0 / 70},
		{[]float64{1, 2, 3, 4, 5, 6}, []float64{7, 8, 9, 10, 11, 12}, 2.0 / 924},
	} {
		require.InDelta(t, c.chance, Judge(c.first, c.second).Chance, 1e-9)
		require.InDelta(t, c.chance, Judge(c.second, c.first).Chance, 1e-9)
	}
}
