package facts

import (
	"encoding/json"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync"
	"time"
)

// SnapshotFormat is the version of the snapshot's JSON.
const SnapshotFormat = 1

// A Snapshot is everything that was seen of a site at one time, with what is needed to judge it again later
// without touching the site. Sources add to it from several goroutines.
type Snapshot struct {
	Format   int              `json:"format"`
	Tool     string           `json:"tool"`
	Site     string           `json:"site"`
	Taken    time.Time        `json:"taken"`
	Dialect  string           `json:"dialect,omitempty"` // name and version
	Sources  []Asked          `json:"sources"`           // those that were asked for
	Limits   map[string]Value `json:"-"`                 // those the site file overrides
	Accept   []Acceptance     `json:"accept,omitempty"`
	Readings []Reading        `json:"readings"`
	Gaps     []Gap            `json:"gaps"`

	// The lists. Nil means not seen; empty means seen, and there are none.
	Classes   []Class    `json:"classes"`
	Pages     []Page     `json:"pages"`
	Spellings []Spelling `json:"spellings"`
	Links     []Link     `json:"links"`
	// Records are the lists that the content system keeps, by full name; one that is not there was not seen.
	Records map[string][]Record `json:"records"`

	mu sync.Mutex
}

// Add adds readings. Those of one name that come first are effective before those that come later.
func (s *Snapshot) Add(readings ...Reading) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Readings = append(s.Readings, readings...)
}

// AddGap adds something that could not be seen.
func (s *Snapshot) AddGap(gap Gap) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Gaps = append(s.Gaps, gap)
}

// All returns the readings of a full name, the effective one first.
func (s *Snapshot) All(name string) []Reading {
	var found []Reading
	for _, r := range s.Readings {
		if len(name) == len(r.Source)+1+len(r.Name) && r.FullName() == name {
			found = append(found, r)
		}
	}
	return found
}

// Effective returns the reading that counts for a full name.
func (s *Snapshot) Effective(name string) (Reading, bool) {
	if all := s.All(name); len(all) > 0 {
		return all[0], true
	}
	return Reading{}, false
}

// An Asked is a source that was asked for, and where it was to look.
type Asked struct {
	Source string `json:"source"`
	Where  string `json:"where"` // a folder or an address, as the site file has it
}

// Asked tells whether the source was asked for.
func (s *Snapshot) Asked(source string) bool {
	return slices.ContainsFunc(s.Sources, func(a Asked) bool { return a.Source == source })
}

// Why says why a full name is unknown.
func (s *Snapshot) Why(name string) string {
	for _, gap := range s.Gaps {
		if gap.Leaves(name) {
			if gap.Kind == Unmapped || strings.HasSuffix(name, "."+gap.What) {
				return gap.Because
			}
			return gap.What + ": " + gap.Because
		}
	}
	switch source := SourceOf(name); {
	case source == Intent:
		return "the site file does not say"
	case !s.Asked(source):
		return "no " + source + " source was asked: the site file names none, or --offline keeps it out"
	}
	return "nothing was found to read it from"
}

// Items walks one list; seen is false when nobody could look.
func (s *Snapshot) Items(list string) (items iter.Seq[Item], seen bool) {
	switch list {
	case ListClasses:
		return each(s.Classes), s.Classes != nil
	case ListPages:
		return each(s.Pages), s.Pages != nil
	case ListSpellings:
		return each(s.Spellings), s.Spellings != nil
	case ListLinks:
		return each(s.Links), s.Links != nil
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

// Partial tells whether something that was asked for could not be seen.
func (s *Snapshot) Partial() bool {
	return slices.ContainsFunc(s.Gaps, func(g Gap) bool { return g.Kind != Unmapped })
}

// MarshalJSON adds the limits, whose types the baseline knows, with their types beside them.
func (s *Snapshot) MarshalJSON() ([]byte, error) {
	type plain Snapshot
	return json.Marshal(struct {
		*plain
		Limits map[string]typed `json:"limits,omitempty"`
	}{(*plain)(s), typedValues(s.Limits)})
}

type typed struct {
	Type  Type            `json:"type"`
	Value json.RawMessage `json:"value"`
}

func typedValues(values map[string]Value) map[string]typed {
	out := map[string]typed{}
	for name, v := range values {
		raw, _ := v.MarshalJSON()
		out[name] = typed{v.Type(), raw}
	}
	return out
}

// UnmarshalJSON reads a snapshot that MarshalJSON wrote, and refuses a newer format.
func (s *Snapshot) UnmarshalJSON(raw []byte) error {
	type plain Snapshot
	shape := struct {
		*plain
		Limits map[string]typed `json:"limits"`
	}{plain: (*plain)(s)}
	if err := json.Unmarshal(raw, &shape); err != nil {
		return err
	}
	if s.Format != SnapshotFormat {
		return fmt.Errorf("the snapshot has format %d; this program reads format %d", s.Format, SnapshotFormat)
	}
	s.Limits = map[string]Value{}
	for name, limit := range shape.Limits {
		v, err := limit.Type.FromJSON(limit.Value)
		if err != nil {
			return fmt.Errorf("limit %s: %w", name, err)
		}
		s.Limits[name] = v
	}
	return nil
}
