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

	// Parts are what steps say is installed, for the one that knows what others say of it.
	Parts []Part `json:"-"`

	Dialect string `json:"dialect,omitempty"` // name and version
	Hints   Hints  `json:"hints,omitempty"`
}

// A Picture is one that pages are shared with, drawn small.
type Picture struct {
	Address string `json:"address"`
	Small   []byte `json:"small"` // a JPEG, made by this program
}

// A Hint is something that one step tells another.
type Hint uint8

// The hints.
const (
	LoginPathHint  Hint = 1 + iota // where one signs in, as the content system has been told
	ServedPathHint                 // a path at which the web server has a file
	InnerPathHint                  // the path of an inner page
	PublicHint                     // a folder of this machine that the web server serves
	SpellingHint                   // another spelling of the site's address, in full
	CookieHint                     // the name of a cookie that the site sets
	ProgramHint                    // the program that the web server runs for the home page
	InstalledHint                  // the name of something that is installed; the rest of it is among the parts
	ExposedHint                    // a file below the root that nobody outside should see and that lies where the web server serves
	NoticeHint                     // the words of the notice that the site is down, as the content system has been told
	ClosedHint                     // that the content system has been told to close the site, and how: notice or lock
)

var hintWords = []string{"", "login path", "served path", "inner path", "public folder", "spelling", "cookie", "program", "installed part", "exposed file", "notice", "closed"}

func (h Hint) String() string { return hintWords[h] }

// MarshalText implements encoding.TextMarshaler.
func (h Hint) MarshalText() ([]byte, error) { return []byte(h.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (h *Hint) UnmarshalText(text []byte) (err error) {
	*h, err = find[Hint]("hint", hintWords, text)
	return err
}

// Hints are what was told of each; what nobody told is not there.
type Hints map[Hint][]string

// First is the first that was told, "" when nothing was.
func (h Hints) First(hint Hint) string {
	if told := h[hint]; len(told) > 0 {
		return told[0]
	}
	return ""
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

// Tell adds a hint.
func (s *Seen) Tell(hint Hint, what ...string) {
	if s.Hints == nil {
		s.Hints = Hints{}
	}
	s.Hints[hint] = append(s.Hints[hint], what...)
}

// Merge adds what another step saw after what was seen before.
func (s *Seen) Merge(more Seen) {
	s.Readings = append(s.Readings, more.Readings...)
	s.Gaps = append(s.Gaps, more.Gaps...)
	s.Classes = merged(s.Classes, more.Classes)
	s.Pages = merged(s.Pages, more.Pages)
	s.Spellings = merged(s.Spellings, more.Spellings)
	s.Links = merged(s.Links, more.Links)
	s.Assets = merged(s.Assets, more.Assets)
	s.Arrivals = merged(s.Arrivals, more.Arrivals)
	s.Cookies = merged(s.Cookies, more.Cookies)
	s.Repeats = merged(s.Repeats, more.Repeats)
	s.Traces = merged(s.Traces, more.Traces)
	s.Programs = merged(s.Programs, more.Programs)
	s.Signs = merged(s.Signs, more.Signs)
	s.Leaks = merged(s.Leaks, more.Leaks)
	s.Doors = merged(s.Doors, more.Doors)
	s.Pictures = merged(s.Pictures, more.Pictures)
	s.Answers = merged(s.Answers, more.Answers)
	s.Shadowed = merged(s.Shadowed, more.Shadowed)
	s.Folders = merged(s.Folders, more.Folders)
	s.Troubles = merged(s.Troubles, more.Troubles)
	for list, records := range more.Records {
		if s.Records == nil {
			s.Records = map[string][]Record{}
		}
		s.Records[list] = merged(s.Records[list], records)
	}
	s.Parts = append(s.Parts, more.Parts...)
	if more.Dialect != "" {
		s.Dialect = more.Dialect
	}
	for hint, told := range more.Hints {
		s.Tell(hint, told...)
	}
}

// merged keeps nil for what neither saw.
func merged[T any](a, b []T) []T {
	if a == nil {
		return b
	}
	return append(a, b...)
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
