package facts

import (
	"fmt"
	"slices"
	"strings"
	"sync"
)

// A Term is one name of the vocabulary, with all that is said of it in one row. Adding a name is adding a row; rules,
// dialects, the site file and the documentation follow from it.
type Term struct {
	Source  Source
	Name    string   // in full: settings.site.title
	Type    Type     //
	Words   []string // for Words: the words it may be
	Meaning string   // one line

	// Of settings:
	// Decided is what decides it as well, the first that can be told: of the web server's answers why an address is worked out, and the
	// field, as home.zone; of the runtime the field, as runtime.upload_limit.
	Decided []string
	ShownBy *Term  // the term of the live source that shows it most plainly; nil when nothing does
	Own     bool   // it says who a site is rather than how it is kept, so it is not carried to another site
	Change  int    // its place in the order of changes: what others depend on first
	Danger  string // how one may lock oneself out with it, or lose what others have linked to; "" when one cannot
	Noticed string // what is noticed of a change besides what is meant; "" when nothing is
	SeenBy  []Who  // who notices a change of it at all
	Markup  string // how it stands in the source of a page, with {value} in it or a word for each of yes and no, yes first
	Opens   bool   // when it is yes, search engines come: what they would see is put right first
	Worked  bool   // it is worked out of others, so no dialect has a place for it
	Meant   []int  // what addresses may answer after a change of it, since that is meant: 503 with a maintenance notice

	// Steady says whether it may differ from look to look though nothing was changed.
	Steady Steadiness

	// Of the intent: what it means to say nothing; without a type, nothing said means nothing known.
	Unsaid Value
}

// Short is the name without its source: site.title.
func (t *Term) Short() string { return strings.TrimPrefix(t.Name, t.Source.All()) }

// A Key is a term whose values this program makes itself. What is no term, or a value of another type than its row
// says, does not compile.
type Key[V any] struct {
	*Term
	of func(V) Value
}

// Reading is a reading of the term.
func (k Key[V]) Reading(value V, at Origin) Reading {
	return Reading{Source: k.Source, Name: k.Short(), Value: k.of(value), Origin: at}
}

// declared are the rows, in the order in which they are declared. It does not change after start.
var declared []*Term

func declare[V any](source Source, t Type, name, meaning string, of func(V) Value) Key[V] {
	term := &Term{Source: source, Name: source.Name(name), Type: t, Meaning: meaning}
	declared = append(declared, term)
	return Key[V]{term, of}
}

func textKey(source Source, t Type, name, meaning string) Key[string] {
	return declare(source, t, name, meaning, func(text string) Value { return TextOf(t, text) })
}

func wordKey(source Source, name string, words []string, meaning string) Key[string] {
	k := textKey(source, Words, name, meaning)
	k.Words = words
	return k
}

func numberKey(source Source, name, meaning string) Key[int] {
	return declare(source, Int, name, meaning, func(n int) Value { return NumberOf(Int, int64(n)) })
}

// amountKey is a term of another type that holds a number, in the unit that the type states.
func amountKey(source Source, t Type, name, meaning string) Key[int64] {
	return declare(source, t, name, meaning, func(n int64) Value { return NumberOf(t, n) })
}

func yesKey(source Source, name, meaning string) Key[bool] {
	return declare(source, Bool, name, meaning, BoolOf)
}

func listKey(source Source, name, meaning string) Key[[]string] {
	return declare(source, List, name, meaning, func(items []string) Value { return ListOf(items...) })
}

func (k Key[V]) own() Key[V]                { k.Own = true; return k }
func (k Key[V]) change(place int) Key[V]    { k.Change = place; return k }
func (k Key[V]) shownBy(live *Term) Key[V]  { k.ShownBy = live; return k }
func (k Key[V]) decided(by string) Key[V]   { k.Decided = append(k.Decided, by); return k }
func (k Key[V]) danger(how string) Key[V]   { k.Danger = how; return k }
func (k Key[V]) noticed(what string) Key[V] { k.Noticed = what; return k }
func (k Key[V]) meant(status ...int) Key[V] { k.Meant = status; return k }
func (k Key[V]) markup(how string) Key[V]   { k.Markup = how; return k }
func (k Key[V]) opens() Key[V]              { k.Opens = true; return k }
func (k Key[V]) seenBy(who ...Who) Key[V]   { k.SeenBy = who; return k }

// worked says that it is worked out of other settings or lists, so that no dialect has a place for it.
func (k Key[V]) worked() Key[V] { k.Worked = true; return k }

// varies says that it differs from look to look though nothing was changed.
func (k Key[V]) varies() Key[V] { k.Steady.Varies = true; return k }

// follows says what it is worked out from: lists, or full names.
func (k Key[V]) follows(names ...string) Key[V] { k.Steady.Follows = names; return k }
func (k Key[V]) unsaid(means Value) Key[V]      { k.Unsaid = means; return k }

var (
	roleWords    = []string{"lowest", "author", "editor", "highest"}
	uploadWords  = append([]string{"anybody"}, roleWords...)
	stageWords   = []string{"building", "live", "retiring"}
	purposeWords = []string{"brochure", "shop", "magazine", "community"}
	showsWords   = []string{"posts", "page"}
	// LowestRole and HighestRole are the ends of what an account may do.
	LowestRole, HighestRole = roleWords[0], roleWords[len(roleWords)-1]
)

var (
	catalogue = sync.OnceValue(func() []*Term {
		sorted := slices.Clone(declared)
		slices.SortStableFunc(sorted, func(a, b *Term) int { return int(a.Source) - int(b.Source) })
		return sorted
	})
	byName = sync.OnceValue(func() map[string]*Term {
		index := map[string]*Term{}
		for _, term := range catalogue() {
			if index[term.Name] != nil {
				panic("the catalogue has two rows for " + term.Name) // it is part of the program
			}
			index[term.Name] = term
		}
		return index
	})
)

// Catalogue lists every name a reading may have: source by source, and within one in the order of work. The caller
// does not change it.
func Catalogue() []*Term { return catalogue() }

// Lookup finds a full name in the catalogue, or the field of a list as <list>.<field>.
func Lookup(name string) (Term, bool) {
	if term, ok := byName()[name]; ok {
		return *term, true
	}
	for list, fields := range Lists {
		field, ok := strings.CutPrefix(name, list+".")
		if !ok {
			continue
		}
		if i := slices.IndexFunc(fields, func(f Field) bool { return f.Name == field }); i >= 0 {
			source, _ := SourceOf(list)
			return Term{Source: source, Name: name, Type: fields[i].Type, Words: fields[i].Words, Meaning: fields[i].Meaning, Steady: fields[i].Steady}, true
		}
	}
	return Term{}, false
}

// Setting finds a setting by its name without the source.
func Setting(name string) (Term, bool) { return Lookup(Settings.Name(name)) }

// Of lists the terms of one source.
func Of(source Source) []*Term {
	return slices.DeleteFunc(slices.Clone(catalogue()), func(t *Term) bool { return t.Source != source })
}

// Kept lists the settings that a content system may keep, without their source: all but those that are worked out.
func Kept() []string {
	var names []string
	for _, term := range Of(Settings) {
		if !term.Worked {
			names = append(names, term.Short())
		}
	}
	return names
}

// Names lists the names of one source without it: site.title.
func Names(source Source) []string {
	var names []string
	for _, term := range Of(source) {
		names = append(names, term.Short())
	}
	return names
}

// Check tells whether a value may stand under the term: it has the type, and is one of the words.
func (t Term) Check(v Value) bool {
	return v.Type() == t.Type && (t.Type != Words || slices.Contains(t.Words, v.Text()))
}

// misfit says what is wrong with a reading, "" when nothing is: its name is no term, or its value is of another type.
func (r Reading) misfit() string {
	term, known := Lookup(r.FullName())
	switch {
	case !known:
		return fmt.Sprintf("%q is not in the catalogue", r.FullName())
	case r.Absent:
		return ""
	case !term.Check(r.Value):
		return fmt.Sprintf("%s holds a %s, and what was read is the %s %q", r.FullName(), term.Type, r.Value.Type(), r.Value)
	}
	return ""
}
