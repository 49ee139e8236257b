package facts

import (
	"iter"
	"slices"
	"strings"
)

// Seen is what a look at a site showed: what one step gives back, and what all of them together saw.
type Seen struct {
	Readings []Reading `json:"readings"`
	Gaps     []Gap     `json:"gaps"`

	// The lists. Nil means not seen; empty means seen, and there are none.
	Classes   []Class    `json:"classes"`
	Pages     []Page     `json:"pages"`
	Spellings []Spelling `json:"spellings"`
	Names     []Name     `json:"names"`
	Links     []Link     `json:"links"`
	Assets    []Asset    `json:"assets"`
	Arrivals  []Arrival  `json:"arrivals"`
	Cookies   []Cookie   `json:"cookies"`
	Repeats   []Repeat   `json:"repeats"`
	Traces    []Trace    `json:"traces"`
	Programs  []Program  `json:"programs"`
	Signs     []Telling  `json:"signs"`
	Leaks     []Leaked   `json:"leaks"`
	Doors     []Door     `json:"doors"`
	// Pictures are those that pages are shared with, drawn small, for whoever is shown the pages. Nothing is judged by them.
	Pictures []Picture `json:"pictures,omitempty"`
	// Answers and Shadowed are what the web server's configuration makes of addresses, and what in it has no effect.
	Answers  []Answer   `json:"answers"`
	Shadowed []Shadowed `json:"shadowed"`
	// Folders and Troubles are what the language runtime has been told where, and lines for it that do not do what they say.
	Folders  []Folder  `json:"folders"`
	Troubles []Trouble `json:"troubles"`
	// Records are the lists that the content system keeps, by full name; one that is not there was not seen.
	Records map[string][]Record `json:"records"`

	Dialect string `json:"dialect,omitempty"` // name and version
}

// A Picture is one that pages are shared with, drawn small.
type Picture struct {
	Address string `json:"address"`
	Small   []byte `json:"small"` // a JPEG, made by this program
}

// Add adds readings. Those of one name that come first are effective before those that come later. One that is not
// what the catalogue says is a gap: somebody has to mend this program, and nobody is told what is not so.
func (s *Seen) Add(readings ...Reading) {
	for _, r := range readings {
		if wrong := r.misfit(); wrong != "" {
			s.Gaps = append(s.Gaps, Gap{Source: r.Source, What: r.Name, Kind: Failed, Because: ownFault + wrong, Names: []string{r.FullName()}})
			continue
		}
		s.Readings = append(s.Readings, r)
	}
}

// ownFault begins what is said of a reading that is none of the catalogue's.
const ownFault = "a fault of this program: "

// Faults are those of this program that were met: readings that are not what the catalogue says. Tests ask for them of all that they gather.
func (s *Seen) Faults() (says []string) {
	for _, g := range s.Gaps {
		if strings.HasPrefix(g.Because, ownFault) {
			says = append(says, g.What+": "+g.Because)
		}
	}
	return says
}

// AddGap adds something that could not be seen.
func (s *Seen) AddGap(gaps ...Gap) { s.Gaps = append(s.Gaps, gaps...) }

// Merge adds what another step saw after what was seen before.
func (s *Seen) Merge(more Seen) { s.take(more, false) }

// Complete adds what another step saw, with its lists in place of those that were seen before.
func (s *Seen) Complete(more Seen) { s.take(more, true) }

func (s *Seen) take(more Seen, instead bool) {
	s.Readings = append(s.Readings, more.Readings...)
	s.Gaps = append(s.Gaps, more.Gaps...)
	s.Classes = taken(s.Classes, more.Classes, instead)
	s.Pages = taken(s.Pages, more.Pages, instead)
	s.Spellings = taken(s.Spellings, more.Spellings, instead)
	s.Names = taken(s.Names, more.Names, instead)
	s.Links = taken(s.Links, more.Links, instead)
	s.Assets = taken(s.Assets, more.Assets, instead)
	s.Arrivals = taken(s.Arrivals, more.Arrivals, instead)
	s.Cookies = taken(s.Cookies, more.Cookies, instead)
	s.Repeats = taken(s.Repeats, more.Repeats, instead)
	s.Traces = taken(s.Traces, more.Traces, instead)
	s.Programs = taken(s.Programs, more.Programs, instead)
	s.Signs = taken(s.Signs, more.Signs, instead)
	s.Leaks = taken(s.Leaks, more.Leaks, instead)
	s.Doors = taken(s.Doors, more.Doors, instead)
	s.Pictures = taken(s.Pictures, more.Pictures, instead)
	s.Answers = taken(s.Answers, more.Answers, instead)
	s.Shadowed = taken(s.Shadowed, more.Shadowed, instead)
	s.Folders = taken(s.Folders, more.Folders, instead)
	s.Troubles = taken(s.Troubles, more.Troubles, instead)
	for list, records := range more.Records {
		if s.Records == nil {
			s.Records = map[string][]Record{}
		}
		s.Records[list] = taken(s.Records[list], records, instead)
	}
	if more.Dialect != "" {
		s.Dialect = more.Dialect
	}
}

// taken keeps nil for what neither saw.
func taken[T any](a, b []T, instead bool) []T {
	switch {
	case a == nil, instead && b != nil:
		return b
	case b == nil:
		return a
	}
	return append(slices.Clip(a), b...) // nothing of a is written over
}

// All returns the readings of a full name, the effective one first.
func (s *Seen) All(name string) []Reading {
	var found []Reading
	for _, r := range s.Readings {
		if strings.HasSuffix(name, r.Name) && r.FullName() == name {
			found = append(found, r)
		}
	}
	return found
}

// Effective returns the reading that counts for a full name.
func (s *Seen) Effective(name string) (Reading, bool) {
	if all := s.All(name); len(all) > 0 {
		return all[0], true
	}
	return Reading{}, false
}

// Is returns the value that counts for a term; known is false when nothing was read, or nothing is there.
func (s *Seen) Is(t *Term) (value Value, known bool) {
	r, known := s.Effective(t.Name)
	return r.Value, known && !r.Absent
}

// Items walks one list; seen is false when nobody could look.
func (s *Seen) Items(list string) (items iter.Seq[Item], seen bool) {
	switch list {
	case ListClasses:
		return each(s.Classes), s.Classes != nil
	case ListPages:
		return each(s.Pages), s.Pages != nil
	case ListSpellings:
		return each(s.Spellings), s.Spellings != nil
	case ListNames:
		return each(s.Names), s.Names != nil
	case ListLinks:
		return each(s.Links), s.Links != nil
	case ListArrivals:
		return each(s.Arrivals), s.Arrivals != nil
	case ListCookies:
		return each(s.Cookies), s.Cookies != nil
	case ListRepeats:
		return each(s.Repeats), s.Repeats != nil
	case ListTraces:
		return each(s.Traces), s.Traces != nil
	case ListSigns:
		return each(s.Signs), s.Signs != nil
	case ListLeaks:
		return each(s.Leaks), s.Leaks != nil
	case ListDoors:
		return each(s.Doors), s.Doors != nil
	case ListPrograms:
		return each(s.Programs), s.Programs != nil
	case ListAssets:
		return each(s.Assets), s.Assets != nil
	case ListAnswers:
		return each(s.Answers), s.Answers != nil
	case ListShadowed:
		return each(s.Shadowed), s.Shadowed != nil
	case ListFolders:
		return each(s.Folders), s.Folders != nil
	case ListTroubles:
		return each(s.Troubles), s.Troubles != nil
	}
	records, seen := s.Records[list]
	return each(records), seen
}

func each[T any, P interface {
	*T
	Item
}](list []T) iter.Seq[Item] {
	return func(yield func(Item) bool) {
		for i := range list {
			if !yield(P(&list[i])) {
				return
			}
		}
	}
}

// HomePage is the home page, at whatever address the site's own leads to; nil when it was not seen.
func (s *Seen) HomePage() *Page {
	i := slices.IndexFunc(s.Pages, func(p Page) bool { return p.Kind == "home" })
	if i < 0 {
		i = slices.IndexFunc(s.Pages, func(p Page) bool { return p.Path == "/" })
	}
	if i < 0 {
		return nil
	}
	return &s.Pages[i]
}

// PageAt is the page at a path, the first that was met where several addresses have it, and the home page at "/" wherever that leads; nil when none
// was seen.
func (s *Seen) PageAt(path string) *Page {
	i := slices.IndexFunc(s.Pages, func(p Page) bool { return p.Path == path })
	switch {
	case i >= 0:
		return &s.Pages[i]
	case path == "/":
		return s.HomePage()
	}
	return nil
}

// Partial tells whether something that was asked for could not be seen.
func (s *Seen) Partial() bool {
	return slices.ContainsFunc(s.Gaps, func(g Gap) bool { return g.Kind != Unmapped })
}
