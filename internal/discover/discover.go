// Package discover drafts a dialect for a content system that nobody has described: it finds the configuration
// files and tables that look like settings, and weighs each neutral setting against each place by the words of
// its key, the shape of its value, its neighbours, and what the live page shows.
//
// It judges no site and writes nothing. It may import facts, dialect, format and store.
package discover

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

// Options say where to look.
type Options struct {
	Name     string           // what the dialect is to be called
	Root     string           // folder of the installation
	Database dialect.Database // given, instead of what the configuration says
	Stores   store.Options    // what may be connected to
	Live     *facts.Snapshot  // what a visitor gets, nil when nobody looked
}

// A Draft is what was found.
type Draft struct {
	Name     string
	Findings []Finding // in the order of the catalogue
	Roles    dialect.Roles
	Tables   []string
	Notes    []string // what could not be looked at

	stores     map[string]dialect.Store
	variables  map[string]dialect.Variable
	database   dialect.Database
	prefix     string
	candidates []candidate
	files      []string
	folders    []string
	configs    []string
}

// A Finding is the place that one setting most probably has.
type Finding struct {
	Setting string
	Place   string  // store/key
	Origin  string  // for people
	Sure    float64 // from 0 to 1
	Certain bool    // sure enough to be written
	Shown   string  // the value, or only that there is one
	Because []string
	Next    string // the runner-up's origin
	NextBy  float64

	translation dialect.Translation
	unspelt     string // why the translation is a guess
}

// Sure enough to be written, and to be suggested.
const (
	certain   = 0.74
	suggested = 0.35
	margin    = 0.12
)

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// Discover looks, weighs and drafts.
func Discover(ctx context.Context, options Options) (*Draft, error) {
	d := &Draft{Name: options.Name, stores: map[string]dialect.Store{}, variables: map[string]dialect.Variable{}}
	if err := d.gather(ctx, options); err != nil {
		return nil, err
	}
	d.weigh(shown(options.Live))
	d.Roles = d.roles()
	return d, nil
}

// A match is one setting in one place.
type match struct {
	setting string
	at      int // of the candidate
	score   float64
	because []string
}

// weigh scores every setting against every candidate, and gives each setting the best place that no other setting
// has a better claim to.
func (d *Draft) weigh(page *visible) {
	var all []match
	bySetting := map[string][]match{}
	for _, name := range facts.Kept() {
		w, known := thesaurus[name]
		if !known {
			continue
		}
		for i, c := range d.candidates {
			if score, because := w.score(name, c, page); score >= suggested {
				m := match{name, i, score, because}
				all = append(all, m)
				bySetting[name] = append(bySetting[name], m)
			}
		}
	}
	slices.SortStableFunc(all, func(a, b match) int {
		return cmp.Or(cmp.Compare(b.score, a.score), strings.Compare(a.setting, b.setting), a.at-b.at)
	})
	found, taken := map[string]match{}, map[int]string{}
	for _, m := range all {
		_, has := found[m.setting]
		if _, used := taken[m.at]; !has && !used {
			found[m.setting], taken[m.at] = m, m.setting
		}
	}
	for _, name := range facts.Kept() {
		if m, ok := found[name]; ok {
			d.Findings = append(d.Findings, d.finding(m, bySetting[name], taken, all))
		}
	}
}

func (d *Draft) finding(m match, others []match, taken map[int]string, all []match) Finding {
	c := d.candidates[m.at]
	f := Finding{Setting: m.setting, Place: c.store + "/" + c.key, Origin: c.origin, Because: m.because, Shown: facts.Shorten(c.text, 60)}
	entry, _ := facts.Lookup(facts.Settings.Name(m.setting))
	if c.secret || entry.Type == facts.Secret {
		f.Shown = fmt.Sprintf("%d characters", len([]rune(c.text)))
	}
	rival := 0.0
	for _, o := range others {
		// A place that another setting has a better claim to is no rival.
		if owner := taken[o.at]; o.at != m.at && (owner == "" || owner == m.setting) && o.score > rival {
			rival, f.Next, f.NextBy = o.score, d.candidates[o.at].origin, m.score-o.score
		}
	}
	for _, o := range all {
		if o.at == m.at && o.setting != m.setting && o.score > rival {
			rival = o.score
		}
	}
	f.Sure = math.Round(min(1, m.score)*min(1, 0.6+(m.score-rival)*2)*100) / 100
	f.translation, f.unspelt = translation(m.setting, entry, c)
	f.Certain = m.score >= certain && m.score-rival >= margin && f.unspelt == ""
	return f
}

// score weighs one place for one setting.
func (w wanted) score(name string, c candidate, page *visible) (float64, []string) {
	own, around := map[string]bool{}, map[string]bool{}
	for _, word := range c.words {
		for _, concept := range word.concepts {
			own[concept] = true
		}
	}
	for _, word := range c.around {
		for _, concept := range word.concepts {
			around[concept] = true
		}
	}
	fit := fits(w.shape, c)
	if fit <= -1 {
		return 0, nil
	}
	if w.shape == "bool" && c.onlySays("open") {
		own = together(own, around) // "enabled" says only what its section is about
	}
	needed, words := w.needs(own, around)
	shows, says := page.shows(name, c)
	if needed < 1 && shows < 0.5 || needed == 0 && shows < 0.9 {
		return 0, nil
	}
	score := 0.55*needed + 0.2*fit + shows
	liked := map[string]bool{}
	for concept := range strings.FieldsSeq(w.like) {
		liked[concept] = true
		if own[concept] {
			score += 0.08
		} else if around[concept] {
			score += 0.05
		}
	}
	for concept := range strings.FieldsSeq(w.not) {
		if own[concept] && !explains(w, c, concept) {
			score -= 0.3
		} else if around[concept] && !explainsAround(w, c, concept) {
			score -= 0.08
		}
	}
	score -= 0.06 * float64(min(w.unexplained(c), 3))
	because := []string{"the key says " + strings.Join(words, ", ")}
	if fit > 0.5 {
		because = append(because, "the value is "+cmp.Or(shapeNames[w.shape], "a "+w.shape))
	}
	if says != "" {
		because = append(because, says)
	}
	if len(words) == 0 {
		because = because[1:]
	}
	return score, because
}

// shapeNames are what people call the shapes of values.
var shapeNames = map[string]string{"bool": "yes or no", "url": "an address", "slug": "the name of a page", "mail": "a mail address", "zone": "a time zone", "address pattern": "a pattern of addresses", "suffix": "an ending"}

// needs is the share of the needed concepts that the key has, by itself or with what is around it.
func (w wanted) needs(own, around map[string]bool) (float64, []string) {
	all := groups(w.need)
	met, words := 0.0, []string{}
	byItself := false
	for _, group := range all {
		in := func(of map[string]bool) string {
			i := slices.IndexFunc(group, func(concept string) bool { return of[concept] })
			if i < 0 {
				return ""
			}
			return group[i]
		}
		if concept := in(own); concept != "" {
			met, words, byItself = met+1, append(words, concept), true
		} else if concept := in(around); concept != "" {
			met, words = met+1, append(words, concept)
		}
	}
	if !byItself {
		return 0, nil // what is around a key says nothing of which of its neighbours it is
	}
	return met / float64(len(all)), slices.Compact(words)
}

// explains tells whether a word that speaks against a setting is in the key only by way of one that it needs or
// likes: "adresse" stands for an address and for a domain.
func explains(w wanted, c candidate, concept string) bool { return explainsIn(w, c.words, concept) }

func explainsAround(w wanted, c candidate, concept string) bool {
	return explainsIn(w, c.around, concept)
}

func explainsIn(w wanted, words []word, concept string) bool {
	wants := strings.FieldsFunc(w.need+" "+w.like, func(r rune) bool { return r == ' ' || r == '|' })
	for _, word := range words {
		if slices.Contains(word.concepts, concept) && !slices.ContainsFunc(word.concepts, func(of string) bool { return slices.Contains(wants, of) }) {
			return false
		}
	}
	return true
}

// unexplained counts the words of the key that say nothing for the setting.
func (w wanted) unexplained(c candidate) int {
	wants := strings.FieldsFunc(w.need+" "+w.like, func(r rune) bool { return r == ' ' || r == '|' })
	n := 0
	for _, word := range c.words {
		if !slices.ContainsFunc(word.concepts, func(of string) bool { return slices.Contains(wants, of) }) {
			n++
		}
	}
	return n
}

// onlySays tells whether every word of the key stands for one concept.
func (c candidate) onlySays(concept string) bool {
	return len(c.words) > 0 && !slices.ContainsFunc(c.words, func(w word) bool { return !slices.Contains(w.concepts, concept) })
}

func together(a, b map[string]bool) map[string]bool {
	all := maps.Clone(a)
	maps.Copy(all, b)
	return all
}
