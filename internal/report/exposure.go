package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

// An Exposure is what a stranger can tell of what a site runs on, and from which signs.
type Exposure struct {
	Site   string  `json:"site"`
	Says   string  `json:"says"` // in one sentence
	Worth  string  `json:"worth"`
	Tells  []Tells `json:"tells"`
	Before string  `json:"before"` // when the look before was taken, "" without one
	Gone   []Clue  `json:"gone"`   // signs that were there then, and are not any more
	New    []Clue  `json:"new"`    // signs that were not
	Unseen string  `json:"unseen"` // what was not looked at, and what would let it
}

// Tells is one thing that a stranger can tell, with the signs of it.
type Tells struct {
	Gives   string `json:"gives"`   // system, extension, theme, runtime or server
	Name    string `json:"name"`    //
	Version string `json:"version"` // the surest, "" when no sign gives one away
	Sure    string `json:"sure"`    // the surest of its signs
	Clues   []Clue `json:"signs"`
}

// A Clue is one sign.
type Clue struct {
	Gives   string `json:"gives"`
	Name    string `json:"name"`
	Version string `json:"version"`
	Sure    string `json:"sure"`
	Place   string `json:"place"`
	Says    string `json:"says"`
	URL     string `json:"url"`
}

var (
	givesOrder = []string{"system", "extension", "theme", "runtime", "server"}
	sureOrder  = []string{"certain", "likely", "slight"}
)

func clueOf(t facts.Telling) Clue {
	return Clue{t.Gives, t.Name, t.Version, t.Sure, t.Place, t.Says, t.URL}
}

// ExposureOf gathers the signs of a site that was looked at, beside those of an earlier look; nil for none.
func ExposureOf(r *audit.Result, before *facts.Snapshot) *Exposure {
	e := &Exposure{Site: r.Site, Tells: []Tells{}, Gone: []Clue{}, New: []Clue{}}
	s := r.Snapshot
	if s.Signs == nil {
		e.Unseen = "nothing was seen: " + s.Why(facts.ListSigns)
		e.Says = "What a stranger can tell was not seen."
		return e
	}
	if shows, known := s.Is(facts.LiveHomeShows.Term); known && shows.Text() == facts.ShowsLock {
		e.Unseen = "the site is locked, and a stranger sees the lock and no more; live: {user: \"NAME:${SITE_PASSWORD}\"} in the site file sees what stands behind it"
	}
	for _, sign := range s.Signs {
		c := clueOf(sign)
		i := slices.IndexFunc(e.Tells, func(t Tells) bool { return t.Gives == c.Gives && (strings.EqualFold(t.Name, c.Name) || c.Name == "") })
		if i < 0 {
			e.Tells = append(e.Tells, Tells{Gives: c.Gives, Name: c.Name, Sure: c.Sure})
			i = len(e.Tells) - 1
		}
		t := &e.Tells[i]
		if at := slices.Index(sureOrder, c.Sure); at < slices.Index(sureOrder, t.Sure) {
			t.Sure = c.Sure
		}
		t.Clues = append(t.Clues, c)
	}
	for i := range e.Tells {
		t := &e.Tells[i]
		slices.SortStableFunc(t.Clues, func(a, b Clue) int {
			return cmp.Or(slices.Index(sureOrder, a.Sure)-slices.Index(sureOrder, b.Sure), strings.Compare(a.Place, b.Place))
		})
		t.Name = ""
		for _, c := range t.Clues {
			t.Name, t.Version = cmp.Or(t.Name, c.Name), cmp.Or(t.Version, c.Version)
		}
	}
	slices.SortStableFunc(e.Tells, func(a, b Tells) int {
		return cmp.Or(slices.Index(givesOrder, a.Gives)-slices.Index(givesOrder, b.Gives), slices.Index(sureOrder, a.Sure)-slices.Index(sureOrder, b.Sure), strings.Compare(a.Name, b.Name))
	})
	e.says()
	e.worth()
	if gap := slices.IndexFunc(s.Gaps, func(g facts.Gap) bool { return slices.Contains(g.Names, facts.ListLeaks) }); gap >= 0 {
		e.Unseen = strings.TrimPrefix(e.Unseen+"; well-known files and places of installers were not asked for: "+s.Gaps[gap].Because, "; ")
	}
	if before != nil && before.Signs != nil {
		e.Before = moment(before.Taken)
		e.New, e.Gone = signsWithout(s.Signs, before.Signs), signsWithout(before.Signs, s.Signs)
	}
	return e
}

// signsWithout are the signs of one look that another does not have.
func signsWithout(of, other []facts.Telling) []Clue {
	clues := []Clue{}
	for _, t := range of {
		if !slices.ContainsFunc(other, func(o facts.Telling) bool { return o.Subject() == t.Subject() && o.Version == t.Version }) {
			clues = append(clues, clueOf(t))
		}
	}
	return clues
}

// SameSigns tells whether two looks saw the same signs.
func SameSigns(a, b []facts.Telling) bool {
	return len(signsWithout(a, b))+len(signsWithout(b, a)) == 0
}

// says is what could be told, in a sentence.
func (e *Exposure) says() {
	var parts []string
	for _, t := range e.Tells {
		signs := func(n int) string { return Count(n, "sign", "signs") }
		versions := 0
		for _, c := range t.Clues {
			if c.Version != "" {
				versions++
			}
		}
		part := fmt.Sprintf("the %s (%s%s, %s)", t.Gives, t.Name, map[bool]string{true: "", false: ": " + t.Sure}[t.Sure == "certain"], signs(len(t.Clues)))
		if t.Gives == "extension" || t.Gives == "theme" {
			part = fmt.Sprintf("the %s %s (%s)", t.Gives, t.Name, signs(len(t.Clues)))
		}
		if versions > 0 {
			part += fmt.Sprintf(" and its version (%s, %s)", t.Version, signs(versions))
		}
		parts = append(parts, part)
	}
	if len(parts) == 0 {
		e.Says = "A stranger could tell nothing of what it runs on."
		return
	}
	e.Says = "A stranger could name " + List(parts) + "."
}

// worth says which sign is worth the trouble of hiding.
func (e *Exposure) worth() {
	for _, t := range e.Tells {
		for _, c := range t.Clues {
			if c.Version != "" && c.Sure == "certain" {
				e.Worth = fmt.Sprintf("Worth the trouble: %s, which names a version (%s). Hiding it mends nothing; it takes the site out of the easiest list.", signPlace(c.Place), c.Says)
				return
			}
		}
	}
	if len(e.Tells) > 0 {
		e.Worth = "No sign names a version for certain, so none is worth much trouble. What is out of date is found by trying, whatever is hidden."
	}
}

func signPlace(place string) string {
	return map[string]string{"tag": "the tag in the head", "header": "the header", "cookie": "the cookie's name", "asset": "the address of an asset", "markup": "the comment in the pages", "feed": "the feed", "file": "the file that comes with it", "error page": "the page of an error"}[place]
}
