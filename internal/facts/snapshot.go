package facts

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
)

// SnapshotFormat is the version of the snapshot's JSON. Format 2 has absent readings, hints, and what the content
// system knows a page by; format 4 has what the web server makes of addresses, format 5 what the runtime has been told, format 6 what caches make of
// pages and assets, format 7 when program files were changed, format 8 who may do what with entries, format 10 what a stranger gets at each kind of address, format 11
// where forms post to and what in them is made for one visit, format 12 by which host names the site is to be had. Earlier ones are read as well, and what they lack is
// unknown.
const SnapshotFormat = 12

// A Snapshot is everything that was seen of a site at one time, with what is needed to judge it again later
// without touching the site.
type Snapshot struct {
	Format  int              `json:"format"`
	Tool    string           `json:"tool"`
	Site    string           `json:"site"`
	written int              // the format it was read in, 0 when it was not read
	Taken   time.Time        `json:"taken"`
	As      string           `json:"as,omitempty"` // the user that the site was read as, where root looked
	Sources []Asked          `json:"sources"`      // those that were asked for
	Limits  map[string]Value `json:"-"`            // those the site file overrides
	Accept  []Acceptance     `json:"accept,omitempty"`
	// FollowUps are those that the site file states.
	FollowUps []FollowUp `json:"follow_ups,omitempty"`
	Seen
	// Hints are what the look found out by which whoever changes the site, or looks again, may go.
	Hints Hints `json:"hints,omitempty"`
}

// An Asked is a source that was asked for, and where it was to look.
type Asked struct {
	Source Source `json:"source"`
	Where  string `json:"where"` // a folder or an address, as the site file has it
}

// Asked tells whether the source was asked for.
func (s *Snapshot) Asked(source Source) bool {
	return slices.ContainsFunc(s.Sources, func(a Asked) bool { return a.Source == source })
}

// WebUser is whom the web server runs as, as far as that is known; "" when it is not.
func (s *Snapshot) WebUser() string {
	for _, term := range []*Term{FilesWebUser.Term, IntentWebUser.Term} {
		if user, known := s.Is(term); known {
			return user.Text()
		}
	}
	return ""
}

// Why says why a full name is unknown.
func (s *Snapshot) Why(name string) string {
	if r, there := s.Effective(name); there && r.Absent {
		return "nothing is set there: " + r.Origin.String()
	}
	for _, gap := range s.Gaps {
		if gap.Leaves(name) {
			if gap.Kind == Unmapped || strings.HasSuffix(name, "."+gap.What) {
				return gap.Because
			}
			return gap.What + ": " + gap.Because
		}
	}
	switch source, _ := SourceOf(name); {
	case s.written > 0 && s.written < SnapshotFormat && source != Intent && s.Asked(source):
		return isOlder
	case source == Intent:
		return "the site file does not say"
	case source == Live && !s.Asked(source):
		return "no live source was asked: the site file names none, or --offline keeps it out"
	case !s.Asked(source):
		return "no " + source.String() + " source was asked: the site file names none"
	}
	return "nothing was found to read it from"
}

// Leaves tells whether something that failed leaves a full name unknown, or in part.
func (s *Snapshot) Leaves(name string) bool {
	return slices.ContainsFunc(s.Gaps, func(g Gap) bool { return g.Kind != Unmapped && g.Leaves(name) })
}

// InPart tells whether only a part of a list was seen.
func (s *Snapshot) InPart(list string) bool {
	return list != "" && slices.ContainsFunc(s.Gaps, func(g Gap) bool { return slices.Contains(g.Names, list) })
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

// UnmarshalJSON reads a snapshot that MarshalJSON wrote, in this format or an earlier one, and refuses a newer one.
func (s *Snapshot) UnmarshalJSON(raw []byte) error {
	var of struct {
		Format int `json:"format"`
	}
	if err := json.Unmarshal(raw, &of); err != nil {
		return err
	}
	if of.Format < 1 || of.Format > SnapshotFormat {
		return fmt.Errorf("the snapshot has format %d; this program reads formats 1 to %d", of.Format, SnapshotFormat)
	}
	type plain Snapshot
	shape := struct {
		*plain
		Limits map[string]typed `json:"limits"`
	}{plain: (*plain)(s)}
	if err := json.Unmarshal(raw, &shape); err != nil {
		return err
	}
	s.Limits = map[string]Value{}
	for name, limit := range shape.Limits {
		v, err := limit.Type.FromJSON(limit.Value)
		if err != nil {
			return fmt.Errorf("limit %s: %w", name, err)
		}
		s.Limits[name] = v
	}
	s.renewed(of.Format)
	s.written = of.Format
	return nil
}
