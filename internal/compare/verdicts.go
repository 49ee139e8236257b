package compare

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/facts"
)

// Verdicts are what a baseline said of a look. Its JSON is a part of that of a result.
type Verdicts struct {
	Format        int              `json:"format"`
	Tool          string           `json:"tool"`
	Baseline      string           `json:"baseline"`
	Dialect       string           `json:"dialect"`
	Site          string           `json:"site"`
	Stage         string           `json:"stage"`
	Taken         time.Time        `json:"taken"`
	Sources       []facts.Asked    `json:"sources"`
	Deviations    []Verdict        `json:"deviations"`
	Held          []string         `json:"held"`
	NotApplicable []string         `json:"not_applicable"`
	Covered       []Covered        `json:"covered"`
	NotJudged     []Unjudged       `json:"not_judged"`
	Broken        []Broken         `json:"broken"`
	FollowUps     []facts.FollowUp `json:"follow_ups"`
}

// A Verdict is a deviation of one of the looks, with what became of it.
type Verdict struct {
	Rule        string            `json:"rule"`
	Area        string            `json:"area"`
	Severity    facts.Severity    `json:"severity"`
	Subject     string            `json:"subject"`
	Says        string            `json:"says"`
	Fingerprint string            `json:"fingerprint"`
	Formerly    []string          `json:"formerly,omitempty"`
	Accepted    *facts.Acceptance `json:"accepted"`
	Readings    []facts.Reading   `json:"readings,omitempty"`
	// Was is the severity before, where it is another; Otherwise that something else is wrong with it than was.
	Was       facts.Severity `json:"was,omitempty"`
	Otherwise bool           `json:"otherwise,omitempty"`
	// Cause is why it is there in one look only, where that is not the site's doing.
	Cause Cause `json:"cause,omitempty"`
	Now   bool  `json:"now,omitempty"` // of those aside: it is in the later look
}

// A Cause is why a deviation is there in one look only, other than that the site changed.
type Cause string

// The causes.
const (
	NewRule   Cause = "rule"      // the rule is not in the other look's baseline
	NotJudged Cause = "unseen"    // what the rule asks for could not be seen in the other look
	Rejudged  Cause = "baseline"  // all that the rule looks at is the same: it is judged otherwise
	Wished    Cause = "site file" // only what the site file says is another
	Reread    Cause = "dialect"   // the dialect reads what it did not read before, or reads it otherwise
	Left      Cause = "gone"      // what it was about is not there any more
	Passed    Cause = "passed"    // it was about what stood in the place of the site, which was closed or did not answer
)

// Covered is a rule whose deviation is told by another's.
type Covered struct {
	Rule        string `json:"rule"`
	Subject     string `json:"subject"`
	Fingerprint string `json:"fingerprint"`
}

// Unjudged is a rule that could not be judged, of all or of some items.
type Unjudged struct {
	Rule    string `json:"rule"`
	Because string `json:"because"`
	Judged  int    `json:"judged"`
}

// A Broken is a rule that could not be asked.
type Broken struct {
	Rule string `json:"rule"`
}

// ReadResult reads a result as audit --format json writes it.
func ReadResult(data []byte) (*Verdicts, error) {
	var v Verdicts
	if err := json.Unmarshal(data, &v); err != nil {
		return nil, err
	}
	if v.Format != 1 || v.Site == "" && v.Held == nil {
		return nil, errors.New("it is no result of an audit that this program knows")
	}
	return &v, nil
}

// A Standing is how a rule stood in a look.
type Standing uint8

const (
	Absent Standing = iota // the baseline did not have it, or it was not asked for
	NotSeen
	Partly // judged of some items
	Judged
)

// Stands is how each rule stood.
func (v *Verdicts) Stands() map[string]Standing {
	of := map[string]Standing{}
	note := func(rule string, s Standing) {
		if of[rule] < s {
			of[rule] = s
		}
	}
	for _, d := range v.Deviations {
		note(d.Rule, Judged)
	}
	for _, rules := range [][]string{v.Held, v.NotApplicable} {
		for _, rule := range rules {
			note(rule, Judged)
		}
	}
	for _, c := range v.Covered {
		note(c.Rule, Judged)
	}
	for _, n := range v.NotJudged {
		switch {
		case n.Judged > 0 || of[n.Rule] == Judged:
			of[n.Rule] = Partly
		default:
			note(n.Rule, NotSeen)
		}
	}
	for _, b := range v.Broken {
		note(b.Rule, NotSeen)
	}
	return of
}

// All are the deviations with those that others cover, by fingerprint.
func (v *Verdicts) All() map[string]Verdict {
	of := map[string]Verdict{}
	for _, c := range v.Covered {
		of[c.Fingerprint] = Verdict{Rule: c.Rule, Subject: c.Subject, Fingerprint: c.Fingerprint}
	}
	for _, d := range v.Deviations {
		of[d.Fingerprint] = d
	}
	return of
}

// Among finds a deviation among others, by what it is called now or was in earlier versions.
func Among(of map[string]Verdict, d Verdict) (Verdict, bool) {
	if other, there := of[d.Fingerprint]; there {
		return other, true
	}
	for _, former := range d.Formerly {
		if other, there := of[former]; there {
			return other, true
		}
	}
	return Verdict{}, false
}

// verdicts compares what deviates.
func (c *Comparison) verdicts(before, after Look) {
	was, is := before.Verdicts.All(), after.Verdicts.All()
	stoodBefore, standsNow := before.Verdicts.Stands(), after.Verdicts.Stands()
	met := map[string]bool{} // of those before
	for _, d := range after.Verdicts.Deviations {
		other, there := Among(was, d)
		met[other.Fingerprint] = met[other.Fingerprint] || there
		if there {
			d.Otherwise = other.Says != "" && other.Says != d.Says
			if other.Severity != 0 && other.Severity != d.Severity { // of one that was covered it is not known
				d.Was = other.Severity
			}
			switch {
			case d.Was == 0:
				c.Still = append(c.Still, d.Bare())
			case d.Severity < d.Was:
				c.Worse = append(c.Worse, d.Bare())
			default:
				c.Better = append(c.Better, d.Bare())
			}
			continue
		}
		d.Now = true
		d.Cause = cause(d, stoodBefore[d.Rule], after, before, c)
		if d.Cause != "" {
			c.Aside = append(c.Aside, d.Bare())
			continue
		}
		c.New = append(c.New, d.Bare())
	}
	for _, d := range before.Verdicts.Deviations {
		if met[d.Fingerprint] {
			continue
		}
		if _, covered := Among(is, d); covered {
			continue // another one tells of it now
		}
		if d.Cause = cause(d, standsNow[d.Rule], before, after, c); d.Cause != "" && d.Cause != Left {
			c.Aside = append(c.Aside, d.Bare())
			continue
		}
		c.Gone = append(c.Gone, d.Bare())
	}
}

// Bare leaves the readings out.
func (d Verdict) Bare() Verdict {
	d.Readings, d.Formerly = nil, nil
	return d
}

// cause is why a deviation of one look is not in the other, "" when the site changed.
func cause(d Verdict, stood Standing, in, out Look, c *Comparison) Cause {
	switch {
	case c.Another:
		if stood == NotSeen || stood == Absent {
			return NotJudged
		}
		return ""
	case stood == Absent:
		return NewRule
	case stood == NotSeen:
		return NotJudged
	}
	if unshown := behind(d, in, out); unshown != "" {
		return unshown
	}
	if in.Snapshot == nil || out.Snapshot == nil {
		if stood == Partly {
			return NotJudged
		}
		return ""
	}
	return byReadings(d, stood, out.Snapshot, in.Snapshot, c)
}

// behind is why a deviation that was seen from outside is in one look only, where something else stood in the place of the site in either.
func behind(d Verdict, in, out Look) Cause {
	if in.Snapshot == nil || out.Snapshot == nil || !slices.ContainsFunc(d.Readings, func(r facts.Reading) bool { return r.Source == facts.Live }) {
		return ""
	}
	switch own, other := in.Snapshot.Unshown(), out.Snapshot.Unshown(); {
	case own == other:
		return ""
	case own == "": // it is the site's, and was not seen there
		return NotJudged
	case d.Now: // what stands there is news
		return ""
	}
	return Passed
}

// byReadings goes by what the rule looked at: where none of it is another, the site did not change.
func byReadings(d Verdict, stood Standing, other, own *facts.Snapshot, c *Comparison) Cause {
	if len(d.Readings) == 0 {
		return ""
	}
	site, intent, unread := false, false, false
	for _, r := range d.Readings {
		now, seen, there := find(other, r)
		if strings.HasPrefix(r.FullName(), facts.ListPages+".") && c.pageUnseen(own, other, r.Origin.URL) {
			there = false
		}
		switch {
		case !there:
			unread = true
		case !seen: // the item is not there
			site = true
		case now.Absent != r.Absent || !r.Absent && !alike(r.FullName(), now.Value, r.Value):
			if r.Source == facts.Intent {
				intent = true
			} else {
				site = true
			}
		}
	}
	switch {
	case site:
		return ""
	case intent:
		return Wished
	case unread && c.Before.Dialect != c.After.Dialect:
		return Reread
	case unread || stood == Partly:
		return NotJudged
	case limitsDiffer(own, other):
		return Wished
	case c.Before.Baseline != c.After.Baseline || c.Before.Tool != c.After.Tool:
		return Rejudged
	}
	return ""
}

func limitsDiffer(a, b *facts.Snapshot) bool {
	for name, value := range union(a.Limits, b.Limits) {
		if !value.Equal(a.Limits[name]) || !value.Equal(b.Limits[name]) {
			return true
		}
	}
	return false
}

// find looks a reading up in the other look: that of a term by its name, that of an item's field by the item's place. Seen is false
// when the list is there and the item is not; there is false when nobody could look.
func find(s *facts.Snapshot, r facts.Reading) (now facts.Reading, seen, there bool) {
	name := r.FullName()
	if _, is := facts.Lookup(name); !is {
		return facts.Reading{}, false, false
	}
	for list := range facts.Lists {
		if len(name) <= len(list) || name[:len(list)] != list || name[len(list)] != '.' {
			continue
		}
		items, looked := s.Items(list)
		if !looked {
			return facts.Reading{}, false, false
		}
		field := name[len(list)+1:]
		for item := range items {
			if sameItem(item.Origin(), r.Origin) || sameItem(item.OriginOf(field), r.Origin) {
				v, known := item.Field(field)
				return facts.Reading{Source: r.Source, Name: r.Name, Value: v, Origin: item.OriginOf(field)}, true, known
			}
		}
		return facts.Reading{}, false, true
	}
	now, there = s.Effective(name)
	return now, there, there
}

// pageUnseen tells whether nobody can tell from a look how a page is that another one saw: it was withheld, or it was not come to while others were that the other look saw.
func (c *Comparison) pageUnseen(own, other *facts.Snapshot, address string) bool {
	for _, p := range other.Pages {
		if p.Address == address {
			return withheld(p.Status)
		}
	}
	for _, l := range other.Links {
		if l.Address == address {
			return withheld(l.Status)
		}
	}
	of := [2]*facts.Snapshot{other, own}
	hidden, asked := c.hidden[of]
	if !asked {
		if c.hidden == nil {
			c.hidden = map[[2]*facts.Snapshot]bool{}
		}
		hidden = withholds(other, own)
		c.hidden[of] = hidden
	}
	return hidden
}

// withholds tells whether a look did not get pages that another one saw.
func withholds(look, other *facts.Snapshot) bool {
	saw := map[string]bool{}
	for _, p := range other.Pages {
		saw[p.Address] = !withheld(p.Status)
	}
	return slices.ContainsFunc(look.Pages, func(p facts.Page) bool { return saw[p.Address] && withheld(p.Status) }) ||
		slices.ContainsFunc(look.Links, func(l facts.Link) bool { return saw[l.Address] && withheld(l.Status) })
}

// Hides tells whether a look did not see all of a site that another one saw: something else stood in its place, or pages were withheld.
func Hides(look, other *facts.Snapshot) bool {
	shown := look.Unshown()
	return shown != "" && shown != other.Unshown() || withholds(look, other)
}

// withheld tells whether a page was not given by what answered, which says nothing of the page: somebody may not have it, not now, or the server failed.
func withheld(status int) bool {
	return status >= 500 || slices.Contains([]int{401, 403, 407, 408, 425, 429}, status)
}

func sameItem(a, b facts.Origin) bool {
	switch {
	case a.URL != "":
		return a.URL == b.URL
	case a.Path != "":
		return a.Path == b.Path
	case a.Row != "":
		return a.Table == b.Table && a.Row == b.Row
	}
	return a.File != "" && a.File == b.File && a.Line == b.Line
}
