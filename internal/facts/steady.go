package facts

import "strings"

// Steadiness says what it means that a fact is another at the next look.
type Steadiness struct {
	// Varies: it is another from look to look though nothing was changed, as the time that a page took.
	Varies bool
	// Follows are what it is worked out from: fields of the same item, full names, or lists. When one of those is another, that is
	// what was changed.
	Follows []string
}

// onHome is the same of the home page, whose fields are terms: each says what its row in the page table says.
func (s Steadiness) onHome(column string) Steadiness {
	follows := []string{ListPages + "." + column}
	for _, name := range s.Follows {
		if !strings.Contains(name, ".") {
			name = "live.home." + name
		}
		follows = append(follows, name)
	}
	return Steadiness{s.Varies, follows}
}

// Sampled tells of a list that its items are a choice, made anew at each look, or come and go by themselves: that one is not among
// them means nothing.
func Sampled(list string) bool {
	switch list {
	case ListRepeats, ListArrivals, ListAnswers, ListSpellings, ListBackups, ListScheduled, ListInstalled, ListFlaws, ListAltered, ListStrange:
		return true
	}
	return false
}
