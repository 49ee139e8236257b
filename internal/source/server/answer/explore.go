package answer

import (
	"reflect"
	"slices"

	"weltaxis/internal/facts"
)

// A Guess answers what a configuration asks and nobody here can know: one way, and in the next run the other.
type Guess struct {
	taken   []bool
	reasons []facts.Reason
	at      int
}

// Either is both ways, in turn.
func (g *Guess) Either(why facts.Reason) bool {
	if g.at == len(g.taken) {
		g.taken, g.reasons = append(g.taken, true), append(g.reasons, why)
	}
	g.at++
	return g.taken[g.at-1]
}

// next goes over to the next way; false when all have been taken.
func (g *Guess) next() bool {
	g.taken, g.reasons, g.at = g.taken[:g.at], g.reasons[:g.at], 0
	for len(g.taken) > 0 && !g.taken[len(g.taken)-1] {
		g.taken, g.reasons = g.taken[:len(g.taken)-1], g.reasons[:len(g.reasons)-1]
	}
	if len(g.taken) == 0 {
		return false
	}
	g.taken[len(g.taken)-1] = false
	return true
}

// left is how many ways there are still at least: this one, and another for each guess that has been taken one way only.
func (g *Guess) left() int {
	n := 1
	for _, taken := range g.taken {
		if taken {
			n++
		}
	}
	return n
}

// A way is one run, and what was guessed in it.
type way struct {
	answer  *Answer
	taken   []bool
	reasons []facts.Reason
}

// maxWays is how many ways are tried; a request that more is asked of is not told.
const maxWays = 64

// Explore works an answer out on every way there is, and keeps of each field what is the same on all of them.
func Explore(work func(*Guess) *Answer) *Answer {
	var g Guess
	var ways []way
	for {
		a := work(&g)
		ways = append(ways, way{a, slices.Clone(g.taken[:g.at]), slices.Clone(g.reasons[:g.at])})
		if !g.next() {
			return merged(ways)
		}
		if len(ways)+g.left() > maxWays {
			return undecided(work, ways[0])
		}
	}
}

// undecided is what is left when there are too many ways: how far it goes before the first guess.
func undecided(work func(*Guess) *Answer, first way) *Answer {
	why := first.reasons[0]
	other := work(&Guess{taken: []bool{false}, reasons: first.reasons[:1]})
	first.answer.Way = shared([]way{first, {answer: other}})
	for f := range other.Fields {
		first.answer.Fields[f] = Told{}
	}
	why.Because = "it depends on more than can be known here, beginning with this: " + why.Because
	for f := range first.answer.Fields {
		first.answer.Hide(f, why)
	}
	first.answer.Onward, first.answer.Others, first.answer.RuntimeUnsure = nil, &why, &why
	return first.answer
}

// merged keeps what all ways agree in; of the rest, what they part at is the reason.
func merged(ways []way) *Answer {
	first := ways[0]
	for _, other := range ways[1:] {
		parting := 0
		for parting < len(first.taken)-1 && parting < len(other.taken)-1 && first.taken[parting] == other.taken[parting] {
			parting++
		}
		why := first.reasons[parting]
		for f := range other.answer.Fields {
			first.answer.Fields[f] = first.answer.Get(f)
		}
		for f, told := range first.answer.Fields {
			if there := other.answer.Get(f); told.Known() && !told.same(there) {
				first.answer.Hide(f, why)
			}
		}
		if first.answer.Others == nil {
			first.answer.Others = other.answer.Others
		}
		if !slices.Equal(first.answer.Runtime, other.answer.Runtime) {
			first.answer.RuntimeUnsure = &why
		}
		if !reflect.DeepEqual(first.answer.Keeping, other.answer.Keeping) {
			first.answer.Keeping = &Keeping{Unsure: &why, Origin: why.Origin}
		}
		if (first.answer.Onward == nil) != (other.answer.Onward == nil) {
			first.answer.Onward = nil
		}
	}
	if len(ways) > 1 {
		first.answer.Way = shared(ways)
	}
	return first.answer
}

// shared is the way as far as all went it, and then why it cannot be followed.
func shared(ways []way) []Stage {
	common := ways[0].answer.Way
	for _, other := range ways[1:] {
		n := 0
		for n < len(common) && n < len(other.answer.Way) && common[n] == other.answer.Way[n] {
			n++
		}
		common = common[:n:n]
	}
	why := ways[0].reasons[0]
	return append(common, Stage{"from here on it depends: " + why.Because, why.Origin})
}
