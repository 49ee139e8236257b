// Package compare sets two looks at a site side by side and says what changed: of the site, of what was expected of it, of the tool,
// and of what could be seen.
//
// What was worked out from something that changed is no change of its own; it stands with that one. What was not seen in both looks is
// never called a change of the site. The package puts nothing into words, and looks at nothing. It may import facts.
package compare

import (
	"maps"
	"slices"
	"time"

	"weltaxis/internal/facts"
)

// A Look is one of the two.
type Look struct {
	Called   string          // how the person named it
	Snapshot *facts.Snapshot // nil when only the result is there
	Verdicts *Verdicts       // nil when only the snapshot is there
}

// A Side is what one of the looks was.
type Side struct {
	Called   string        `json:"called"`
	Site     string        `json:"site"`
	Taken    time.Time     `json:"taken"`
	Tool     string        `json:"tool"`
	Baseline string        `json:"baseline"` // "" when nothing was judged
	Dialect  string        `json:"dialect"`
	Stage    string        `json:"stage"`
	Sources  []facts.Asked `json:"sources"`
}

// A Comparison is what two looks differ in.
type Comparison struct {
	Before  Side `json:"before"`
	After   Side `json:"after"`
	Another bool `json:"another"` // they are looks at two sites
	// Changes are what changed on the site, in the order of the sources, and Wishes what changed in its site file.
	Changes []Change `json:"changes"`
	Wishes  []Change `json:"wishes"`
	// Facts tells whether facts could be compared, and not only deviations.
	Facts  bool      `json:"facts"`
	Judged bool      `json:"judged"` // deviations could be compared
	New    []Verdict `json:"new"`
	Worse  []Verdict `json:"worse"`
	Better []Verdict `json:"better"`
	Gone   []Verdict `json:"gone"`
	Still  []Verdict `json:"still"`
	// Aside are deviations that are there in one look only for a reason that is not the site's.
	Aside []Verdict `json:"aside"`
	// Unseen are facts that were seen in one look only, and why.
	Unseen []Unseen                    `json:"unseen"`
	hidden map[[2]*facts.Snapshot]bool // whether the first withholds pages that the second saw, as far as that was asked
	// Unsure are facts that differ where the dialect, or what works them out, differs as well: nobody can tell whose doing it is.
	Unsure []Change `json:"unsure"`
}

// What became of something.
type What string

// What may become of something.
const (
	Came    What = "new"
	Went    What = "gone"
	Changed What = "changed"
	Moved   What = "moved"
)

// A Change is one thing that is another than it was, for one item or for several alike.
type Change struct {
	Source facts.Source `json:"source"`
	Name   string       `json:"name"`  // in full: a term, or a list
	Field  string       `json:"field"` // of the list's items; "" for a term, and for items that came, went or moved
	What   What         `json:"what"`
	Items  []Item       `json:"items"` // of a term one, without a subject
	// With are changes that follow from this one.
	With []Change `json:"with,omitempty"`
}

// An Item is what changed of one item.
type Item struct {
	Subject string       `json:"subject"`
	From    string       `json:"from"`
	To      string       `json:"to"`
	Was     facts.Origin `json:"was"`
	Is      facts.Origin `json:"is"`
	Count   int          `json:"count,omitempty"` // of entries that are alike, when more than one
	Note    string       `json:"note,omitempty"`
	List    bool         `json:"list,omitempty"` // from and to are what a list lost and gained
}

// An Unseen is what was seen in one look only.
type Unseen struct {
	Now     bool     `json:"now"`     // it was seen before, and not now; else it is seen now, and was not before
	Reader  string   `json:"reader"`  // "dialect" or "tool" when that reads more or less than it did; "" when it could not be seen
	Because string   `json:"because"` //
	Names   []string `json:"names"`
}

// Of compares two looks.
func Of(before, after Look) *Comparison {
	c := &Comparison{Before: side(before), After: side(after), Changes: []Change{}, Wishes: []Change{}, New: []Verdict{}, Worse: []Verdict{}, Better: []Verdict{},
		Gone: []Verdict{}, Still: []Verdict{}, Aside: []Verdict{}, Unseen: []Unseen{}, Unsure: []Change{}}
	c.Another = c.Before.Site != c.After.Site
	if before.Snapshot != nil && after.Snapshot != nil {
		c.Facts = true
		d := &diff{before: before.Snapshot, after: after.Snapshot, dialect: c.Before.Dialect != c.After.Dialect, tool: c.Before.Tool != c.After.Tool, another: c.Another, unseen: map[reason]*[]string{}}
		d.terms()
		d.lists()
		d.accepted()
		d.settle()
		c.Changes, c.Wishes, c.Unsure = d.folded()
		c.Unseen = d.notSeen()
	}
	if before.Verdicts != nil && after.Verdicts != nil {
		c.Judged = true
		c.verdicts(before, after)
	}
	return c
}

func side(l Look) Side {
	s := Side{Called: l.Called, Sources: []facts.Asked{}}
	if v := l.Verdicts; v != nil {
		s.Site, s.Taken, s.Tool, s.Baseline, s.Dialect, s.Stage, s.Sources = v.Site, v.Taken, v.Tool, v.Baseline, v.Dialect, v.Stage, v.Sources
	}
	if f := l.Snapshot; f != nil {
		s.Site, s.Taken, s.Tool, s.Dialect, s.Sources = f.Site, f.Taken, f.Tool, f.Dialect, f.Sources
		if stage, known := f.Is(facts.IntentStage.Term); known {
			s.Stage = stage.Text()
		}
	}
	return s
}

// Same tells whether nothing of the site, its site file or its verdicts changed.
func (c *Comparison) Same() bool {
	return len(c.Changes)+len(c.Wishes)+len(c.Unsure)+len(c.New)+len(c.Worse)+len(c.Better)+len(c.Gone)+len(c.Aside) == 0
}

// a diff is the work of comparing two snapshots.
type diff struct {
	before, after          *facts.Snapshot
	dialect, tool, another bool // differ
	found                  []single
	unseen                 map[reason]*[]string
	pending                []pending
	order                  []reason
}

// a reason is why something was seen in one look only, as Unseen has it.
type reason struct {
	now             bool
	reader, because string
}

// a single is a change of one item, before those alike are put together.
type single struct {
	source   facts.Source
	name     string // a term or a list
	field    string
	what     What
	identity string // of the item
	item     Item
	follows  []string
	unsure   bool
	into     int      // what it follows from, by its place; -1 for nothing
	files    []string // in which it was written
}

func (d *diff) add(s single) {
	s.into = -1
	d.found = append(d.found, s)
}

// missed notes what was seen in one look only.
func (d *diff) missed(now bool, name string) {
	if d.another {
		return
	}
	other := d.after
	if !now {
		other = d.before
	}
	key := reason{now: now, because: other.Why(name)}
	source, _ := facts.SourceOf(name)
	gap := slices.IndexFunc(other.Gaps, func(g facts.Gap) bool { return g.Leaves(name) })
	switch {
	case !other.Asked(source) && source != facts.Intent, gap >= 0 && other.Gaps[gap].Kind != facts.Unmapped:
	case d.dialect && (source == facts.Settings || source == facts.Files):
		key.reader = "dialect"
	case d.tool && gap < 0:
		key.reader = "tool"
	}
	d.note(key, name)
}

// note notes what was seen in one look only. Where the reader is another one, what it gave as its reason says nothing.
func (d *diff) note(key reason, name string) {
	if key.reader != "" {
		key.because = ""
	}
	if d.unseen[key] == nil {
		d.unseen[key] = &[]string{}
		d.order = append(d.order, key)
	}
	if names := d.unseen[key]; !slices.Contains(*names, name) {
		*names = append(*names, name)
	}
}

func (d *diff) notSeen() []Unseen {
	all := []Unseen{}
	for _, key := range d.order {
		all = append(all, Unseen{key.now, key.reader, key.because, *d.unseen[key]})
	}
	return all
}

// a pending is a term that was seen in one look only, as long as it is not known what changed.
type pending struct {
	now  bool
	term *facts.Term
}

// settle notes the terms that were seen in one look only, but for those that cannot be told since what they follow from changed.
func (d *diff) settle() {
	changed := map[string]bool{}
	for _, s := range d.found {
		for _, name := range s.names() {
			changed[name] = true
		}
	}
	for _, p := range d.pending {
		if !slices.ContainsFunc(follows(p.term), func(name string) bool { return changed[name] }) {
			d.missed(p.now, p.term.Name)
		}
	}
}

// terms compares the readings that count.
func (d *diff) terms() {
	before, after := effective(d.before), effective(d.after)
	for _, term := range facts.Catalogue() {
		was, there := before[term.Name]
		is, now := after[term.Name]
		switch {
		case term.Steady.Varies:
		case !there && !now:
		case !there:
			d.pending = append(d.pending, pending{false, term})
		case !now:
			d.pending = append(d.pending, pending{true, term})
		case was.Absent != is.Absent || !was.Absent && !alike(term.Name, was.Value, is.Value):
			from, to := differing(term.Name, was, is)
			d.add(single{source: term.Source, name: term.Name, what: Changed, item: Item{From: from, To: to, Was: was.Origin, Is: is.Origin, List: bothLists(term.Name, was, is)}, follows: follows(term), unsure: d.readOtherwise(term.Source, was.Origin, is.Origin), files: []string{was.Origin.File, is.Origin.File}})
		}
	}
}

// readOtherwise tells whether a value may be another because it is read otherwise: the dialect is another one, and it is the dialect
// that says what stands there.
func (d *diff) readOtherwise(source facts.Source, was, is facts.Origin) bool {
	if !d.dialect {
		return false
	}
	return source == facts.Settings || was.Default != "" || is.Default != ""
}

// follows are what a term is worked out from: what its row says, and the settings that it shows.
func follows(term *facts.Term) []string {
	names := slices.Clone(term.Steady.Follows)
	for _, setting := range facts.Of(facts.Settings) {
		if setting.ShownBy != nil && setting.ShownBy.Name == term.Name {
			names = append(names, setting.Name)
		}
	}
	return names
}

// effective are the readings that count, by full name.
func effective(s *facts.Snapshot) map[string]facts.Reading {
	first := make(map[string]facts.Reading, len(s.Readings))
	for _, r := range s.Readings {
		name := r.FullName()
		if _, there := first[name]; !there {
			first[name] = r
		}
	}
	return first
}

// accepted compares what somebody has decided to live with.
func (d *diff) accepted() {
	if d.another {
		return
	}
	note := func(what What, list, other []facts.Acceptance) {
		for _, a := range list {
			same := func(b facts.Acceptance) bool { return b.Rule == a.Rule && b.Subject == a.Subject }
			i := slices.IndexFunc(other, same)
			item := Item{Subject: a.Rule, To: "until " + a.Until.String(), Note: a.Because}
			switch {
			case i < 0:
				if what == Went {
					item.From, item.To = item.To, ""
				}
				d.add(single{source: facts.Intent, name: "accept", what: what, item: item})
			case what == Came && !other[i].Until.Equal(a.Until):
				item.From = "until " + other[i].Until.String()
				d.add(single{source: facts.Intent, name: "accept", field: "until", what: Changed, item: item})
			}
		}
	}
	promised := func(what What, list, other []facts.FollowUp) {
		for _, f := range list {
			i := slices.IndexFunc(other, func(o facts.FollowUp) bool { return o.UID == f.UID })
			switch {
			case i < 0:
				d.add(single{source: facts.Intent, name: "follow_ups", what: what, item: Item{Subject: f.What, To: string(f.On)}})
			case what == Came && other[i].On != f.On:
				d.add(single{source: facts.Intent, name: "follow_ups", field: "on", what: Changed, item: Item{Subject: f.What, From: string(other[i].On), To: string(f.On)}})
			}
		}
	}
	promised(Came, d.after.FollowUps, d.before.FollowUps)
	promised(Went, d.before.FollowUps, d.after.FollowUps)
	note(Came, d.after.Accept, d.before.Accept)
	note(Went, d.before.Accept, d.after.Accept)
	for _, name := range slices.Sorted(maps.Keys(union(d.before.Limits, d.after.Limits))) {
		was, is := d.before.Limits[name], d.after.Limits[name]
		if !was.Equal(is) {
			d.add(single{source: facts.Intent, name: "limits." + name, what: Changed, item: Item{From: was.String(), To: is.String()}})
		}
	}
}

func union[V any](a, b map[string]V) map[string]V {
	both := maps.Clone(a)
	if both == nil {
		both = map[string]V{}
	}
	maps.Copy(both, b)
	return both
}
