package report

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"weltaxis/internal/audit"
	"weltaxis/internal/caching"
	"weltaxis/internal/facts"
)

// Cache is the topic of what caches make of a page.
const Cache = "cache"

// A CacheWay is what will become of a page in each layer that may keep it, from the visitor inwards.
type CacheWay struct {
	Page     string  `json:"page"`
	Layers   []Layer `json:"layers"`
	Visits   []Part  `json:"visits"`    // who asks, and what answers
	OldPages []Part  `json:"old_pages"` // after a change, for how long somebody may see the old page, layer by layer
}

// A Layer is one place that may keep a page, or a part of the work that it takes.
type Layer struct {
	Name       string  `json:"name"`
	Declared   string  `json:"declared"`   // by the content system's settings
	Configured string  `json:"configured"` // by the web server or the runtime
	Observed   string  `json:"observed"`   // from outside
	Does       string  `json:"does"`       // what it does with this page
	Keeps      Keeping `json:"-"`
	Seconds    int64   `json:"-"` // for which it keeps the page; -1 when nobody says
}

// keepsAs tells whether the layers make the same of another page.
func (w *CacheWay) keepsAs(other *CacheWay) bool {
	return slices.EqualFunc(w.Layers, other.Layers, func(a, b Layer) bool { return a.Keeps == b.Keeps && a.Seconds == b.Seconds && a.Does == b.Does })
}

// Keeping is whether a layer keeps a page.
type Keeping uint8

// Whether a layer keeps a page.
const (
	KeepsUntold Keeping = iota
	KeepsIt
	KeepsNot
	KeepsOther // it keeps no pages, but what they are made with
)

// cacheReader reads what a snapshot knows of one page.
type cacheReader struct {
	r      *audit.Result
	page   facts.Page
	repeat *facts.Repeat
	answer *facts.Answer
}

// CacheOf says what will become of a page, by its path. The error is that no such page was seen.
func CacheOf(r *audit.Result, path string) (*CacheWay, error) {
	c := &cacheReader{r: r}
	switch page := r.Snapshot.PageAt(path); {
	case page != nil:
		c.page = *page
	case len(r.Snapshot.Pages) == 0:
		return nil, fmt.Errorf("no page was seen: %s", r.Snapshot.Why(facts.ListPages))
	default:
		return nil, fmt.Errorf("there is no page at %s that answers; weltaxis pages lists those that do", path)
	}
	for i := range r.Snapshot.Repeats {
		if r.Snapshot.Repeats[i].Address == c.page.Address {
			c.repeat = &r.Snapshot.Repeats[i]
		}
	}
	if c.answer = r.Snapshot.Configured("", c.page.Address); c.answer == nil {
		kind := "inner page"
		if c.page.Kind == "home" {
			kind = "home"
		}
		c.answer = r.Snapshot.Configured(kind, "")
	}
	way := &CacheWay{Page: c.page.Path, Layers: []Layer{c.browser(), c.network(), c.server(), c.pages(),
		c.switched("object", facts.CacheObject.Term, "what was looked up once is not looked up again"),
		c.switched("database", facts.CacheDatabase.Term, "answers of the database are kept"), c.byteCode()}}
	for i := range way.Layers {
		way.Layers[i].Configured = cmp.Or(way.Layers[i].Configured, "–")
	}
	way.Visits, way.OldPages = c.visits(way.Layers), oldPages(way.Layers)
	return way, nil
}

// setting is what is declared, in words.
func (c *cacheReader) setting(term *facts.Term) (says string, v facts.Value, known bool) {
	reading, there := c.r.Snapshot.Effective(term.Name)
	if !there || reading.Absent {
		return "not known: " + c.r.Snapshot.Why(term.Name), facts.Value{}, false
	}
	return term.Short() + " " + reading.Value.String() + " (" + reading.Origin.String() + ")", reading.Value, true
}

// cell is a field of the web server's answer, in words; "" when it is absent or nobody looked.
func (c *cacheReader) cell(field, says string) string {
	if c.answer == nil {
		return ""
	}
	v, known := c.answer.Field(field)
	if _, said := c.answer.Cells[field]; !said {
		return ""
	}
	if !known {
		return "cannot be told: " + c.answer.Why(field).Because
	}
	if v.String() == "" {
		return ""
	}
	return fmt.Sprintf(says, v.String()) + " (" + c.answer.OriginOf(field).String() + ")"
}

// Lasting is a time in words, as precisely as it matters.
func Lasting(seconds int64) string { return facts.NumberOf(facts.Duration, seconds).String() }

// says is Cache-Control of the page, as directives.
func (c *cacheReader) says() caching.Control {
	return caching.ParseControl(http.Header{"Cache-Control": {c.page.CacheControl}})
}

// headers are those of the page, in words.
func (c *cacheReader) headers() string {
	text := "no Cache-Control"
	if c.page.CacheControl != "" {
		text = "Cache-Control: " + c.page.CacheControl
	}
	if c.page.Validator {
		return text + ", with an ETag or Last-Modified"
	}
	return text
}

func (c *cacheReader) browser() Layer {
	l := Layer{Name: "browser", Declared: "–", Configured: c.cell("cache_control", "Cache-Control: %s"), Observed: c.headers(), Seconds: -1}
	says := c.says()
	maxAge, stated := says.Seconds("max-age")
	switch {
	case says.Has("no-store"):
		l.Keeps, l.Does = KeepsNot, "keeps nothing"
	case says.Has("no-cache"):
		l.Keeps, l.Does = KeepsNot, "asks each time whether it has changed"
	case stated && maxAge > 0:
		l.Keeps, l.Seconds = KeepsIt, int64(maxAge.Seconds())
		l.Does = "shows it again for " + Lasting(l.Seconds) + " without asking"
	case stated || c.page.Fresh == 0:
		l.Keeps, l.Does = KeepsNot, "asks each time whether it has changed"
	case c.page.Fresh > 0:
		l.Keeps, l.Seconds = KeepsIt, c.page.Fresh
		l.Does = "shows it again for " + Lasting(l.Seconds) + " without asking"
	default:
		l.Does = "is told nothing, so it may show it again for as long as it thinks right (RFC 9111 §4.2.2); most ask"
	}
	return l
}

func (c *cacheReader) network() Layer {
	declared, host, known := c.setting(facts.DeliveryHost.Term)
	if known && host.Text() == "" {
		declared = "no delivery host"
	}
	l := Layer{Name: "network", Declared: declared, Configured: "–", Observed: "no cache on the way gave itself away", Seconds: -1}
	if c.answering() == l.Name {
		l.Observed = c.foreign()
	}
	switch {
	case c.page.Private:
		l.Keeps, l.Does = KeepsNot, "is not to keep it: it says that it is for one visitor, or not to be kept"
	case c.page.Fresh > 0:
		l.Keeps, l.Seconds, l.Does = KeepsIt, c.page.Fresh, "any cache on the way may give it to everybody for "+Lasting(c.page.Fresh)
	case c.page.Fresh == 0:
		l.Keeps, l.Does = KeepsNot, "asks each time whether it has changed"
	default:
		l.Does = "is told nothing; what keeps pages on the way goes by rules of its own"
	}
	if c.answering() != l.Name && l.Keeps == KeepsIt {
		l.Keeps = KeepsUntold
	}
	return l
}

// foreign is the cache that answered and is not the content system's own, as far as headers tell.
func (c *cacheReader) foreign() string {
	if c.repeat == nil || c.repeat.Says == "" {
		return ""
	}
	name, _, _ := strings.Cut(c.repeat.Says, ":")
	if strings.EqualFold(name, "Cache-Status") {
		return ""
	}
	return "a cache tells of itself: " + c.repeat.Says
}

// answering is the layer that a header's sign belongs to: the web server's own cache where its configuration has one for the page, the content
// system's where that is on, else one on the way.
func (c *cacheReader) answering() string {
	if c.foreign() == "" {
		return ""
	}
	name, _, _ := strings.Cut(c.repeat.Says, ":")
	if c.answer != nil {
		if zone, known := c.answer.Field("zone"); known && zone.Text() != "" {
			return "server"
		}
	}
	onTheWay := strings.EqualFold(name, "Age") || strings.EqualFold(name, "Via")
	if on, known := c.r.Snapshot.Is(facts.CachePage.Term); known && on.Bool() && !onTheWay {
		return "page"
	}
	return "network"
}

func (c *cacheReader) server() Layer {
	l := Layer{Name: "server", Declared: "–", Observed: "–", Seconds: -1}
	if c.answering() == l.Name {
		l.Observed = c.foreign()
	}
	if c.answer == nil {
		l.Configured = "not known: " + c.r.Snapshot.Why(facts.ListAnswers)
		l.Does = "cannot be told"
		return l
	}
	zone, known := c.answer.Field("zone")
	switch {
	case !known && c.handler() == "static":
		l.Configured, l.Keeps, l.Does = "it serves a file", KeepsNot, "hands out what lies on the disk"
		return l
	case !known:
		l.Configured, l.Does = c.cell("zone", "%s"), "cannot be told"
		return l
	case zone.Text() == "":
		l.Configured, l.Keeps, l.Does = "no cache ("+c.answer.OriginOf("zone").String()+")", KeepsNot, "keeps nothing"
		return l
	}
	l.Configured = c.cell("zone", "cache %s") + joinedTo(c.cell("valid_seconds", "for %s s")) + joinedTo(c.cell("cache_key", "key %s")) + joinedTo(c.cell("bypass_on", "not for %s"))
	if valid, known := c.answer.Field("valid_seconds"); known && valid.Number() > 0 {
		l.Seconds = valid.Number()
	}
	if c.page.Fresh > 0 {
		l.Seconds = c.page.Fresh // what the answer says goes before the configuration
	}
	ignores, _ := c.answer.Field("stores_private")
	switch {
	case (c.page.Private || c.page.SetsSession) && !(ignores.Type() == facts.Bool && ignores.Bool()):
		l.Keeps, l.Does = KeepsNot, "does not keep it: it sets a cookie, or says that it is not to be kept"
	case l.Seconds > 0:
		l.Keeps, l.Does = KeepsIt, "gives it to everybody for "+Lasting(l.Seconds)
	default:
		l.Keeps, l.Does = KeepsNot, "keeps only what says itself for how long, and this does not"
	}
	return l
}

func (c *cacheReader) handler() string {
	v, known := c.answer.Field("handler")
	if !known {
		return ""
	}
	return v.Text()
}

func joinedTo(text string) string {
	if text == "" {
		return ""
	}
	return "; " + text
}

func (c *cacheReader) pages() Layer {
	declared, on, known := c.setting(facts.CachePage.Term)
	l := Layer{Name: "page", Declared: declared, Configured: "–", Observed: "not looked at", Seconds: -1}
	if lifetime, there := c.r.Snapshot.Is(facts.CacheLifetime.Term); there {
		l.Declared += ", for " + lifetime.String()
		l.Seconds = lifetime.Number()
	}
	if keepers, there := c.r.Snapshot.Is(facts.CacheKeepers.Term); there && keepers.Number() > 1 {
		l.Declared += "; " + keepers.String() + " page caches are switched on"
	}
	if r := c.repeat; r != nil {
		l.Observed = fmt.Sprintf("%d of %d answered by a cache", r.Hits, r.Asks)
		if r.Says != "" {
			l.Observed += " (" + r.Says + ")"
		} else {
			l.Observed = "no header tells of a cache"
		}
	}
	switch {
	case known && !on.Bool():
		l.Keeps, l.Does = KeepsNot, "is off: the page is made anew each time"
	case c.answering() == "server" && c.repeat.Hits > 0:
		l.Observed, l.Does = "the web server's cache answered before it", "is on, behind the web server's cache"
		if !known {
			l.Does = "cannot be told: the web server's cache answers before it"
		}
	case c.repeat != nil && c.repeat.Hits > 0:
		l.Keeps, l.Does = KeepsIt, "gives it to everybody"
		if l.Seconds > 0 {
			l.Does += " for " + Lasting(l.Seconds)
		}
		if c.page.Personal != "" {
			l.Does += ", though it is somebody's own: " + c.page.Personal
		}
	case c.page.Private:
		l.Keeps, l.Does = KeepsNot, "leaves it out: it says that it is not to be kept"
	case c.repeat != nil && c.repeat.Then != "untold":
		l.Keeps, l.Does = KeepsNot, "did not answer for it, though it is on"
	case known:
		l.Does = "is on; whether it keeps this page no header tells"
	default:
		l.Does = "cannot be told"
	}
	return l
}

func (c *cacheReader) switched(name string, term *facts.Term, does string) Layer {
	declared, on, known := c.setting(term)
	l := Layer{Name: name, Declared: declared, Configured: "–", Observed: "not seen from outside", Does: "cannot be told", Keeps: KeepsOther, Seconds: -1}
	switch {
	case known && on.Bool() && c.lacks(term) != "":
		l.Does = "is on, and does nothing: " + c.lacks(term)
	case known && on.Bool():
		l.Does = "is on: when a page is made anew, " + does
	case known:
		l.Does = "is off"
	}
	return l
}

// lacks is what a setting relies on and the runtime does not have, "" when nothing is known to be missing.
func (c *cacheReader) lacks(term *facts.Term) string {
	missing, _ := c.r.Snapshot.Is(facts.RuntimeRelied.Term)
	for _, what := range missing.List() {
		if needs, is := strings.CutPrefix(what, term.Short()+" needs "); is {
			return "the runtime does not have " + needs
		}
	}
	return ""
}

func (c *cacheReader) byteCode() Layer {
	l := Layer{Name: "byte-code", Declared: "–", Observed: "not seen from outside", Keeps: KeepsOther, Seconds: -1}
	row, _ := facts.RuntimeFieldOf("byte_code")
	reading, there := c.r.Snapshot.Effective(facts.Runtime.Name(row.Name))
	if !there || reading.Absent {
		l.Configured, l.Does = "not known: "+c.r.Snapshot.Why(facts.Runtime.Name(row.Name)), "cannot be told"
		return l
	}
	l.Configured = row.Directive + " " + reading.Value.String() + " (" + reading.Origin.String() + ")"
	l.Does = "is on: programs are not translated anew"
	if !reading.Value.Bool() {
		l.Does = "is off: every program is translated anew for each page"
	}
	return l
}

// visits says who gets the page from where.
func (c *cacheReader) visits(layers []Layer) []Part {
	var keepers []string
	answers := ""
	unsure := false
	for _, l := range layers[1:4] {
		switch {
		case l.Keeps == KeepsIt:
			keepers = append(keepers, "the "+l.Name+" cache")
			answers = cmp.Or(answers, l.Name)
		case l.Keeps == KeepsUntold && l.Name != "network":
			unsure = true
		}
	}
	first := "it is made anew by the content system"
	switch {
	case len(keepers) > 0:
		first += ", and " + List(keepers) + " " + map[bool]string{true: "keeps", false: "keep"}[len(keepers) == 1] + " it"
	case unsure:
		first += "; whether something keeps it no header tells"
	default:
		first += ", and nothing keeps it"
	}
	second := "it is made anew once more"
	if answers != "" {
		second = "the " + answers + " cache answers"
		if len(keepers) > 1 {
			second += "; were that empty, " + keepers[1] + " would"
		}
	} else if unsure {
		second = "cannot be told: no header tells of a cache"
	}
	again := layers[0].Does
	return []Part{{"first visitor", first}, {"second visitor", second}, {"the same one again", "the browser " + again}, {"signed in", c.signedIn(answers)}}
}

// signedIn is what becomes of the request of somebody with a session.
func (c *cacheReader) signedIn(answers string) string {
	switch r := c.repeat; {
	case r != nil && r.Leaks != "":
		return r.Leaks
	case r != nil && r.Session != "":
		what := map[string]string{"hit": "a cache answered, with what everybody gets", "stale": "a cache answered, with an old page that everybody gets", "bypass": "it was sent around the cache", "miss": "the cache did not have it for them", "untold": "no header told of a cache"}[r.Session]
		same := "; the text was another"
		if r.SessionSame {
			same = "; the text was the same"
		}
		return "asked with the cookie of a session, " + what + same
	case answers == "":
		return "as everybody: no cache answers"
	}
	if bypass := c.cell("bypass_on", "the server's cache is passed over where %s is set"); bypass != "" {
		return bypass + "; seen from outside it was not: say live: {session: \"${NAME}\"} in the site file"
	}
	return "not looked at: say live: {session: \"${NAME}\"} in the site file, with the cookie of somebody who is signed in in that environment variable"
}

// oldPages says for how long an old page may be seen after a change.
func oldPages(layers []Layer) (parts []Part) {
	var total int64
	for _, l := range layers[:4] {
		if l.Keeps != KeepsIt {
			continue
		}
		if l.Seconds < 0 {
			parts = append(parts, Part{l.Name, "until it is emptied; nobody says for how long it keeps a page"})
			continue
		}
		total += l.Seconds
		how := map[string]string{"browser": "nobody can empty it", "network": "its keeper may empty it", "server": "emptied by removing its folder's files, or waiting", "page": "emptied by the content system, or with its cache folder"}[l.Name]
		parts = append(parts, Part{l.Name, "up to " + Lasting(l.Seconds) + "; " + how})
	}
	switch {
	case len(parts) == 0:
		parts = append(parts, Part{"together", "nothing that is known keeps it, so a change is seen at once"})
	case total > 0:
		parts = append(parts, Part{"together", "up to " + Lasting(total) + " for somebody who is given the oldest by each, unless they are emptied when the page changes"})
	}
	return parts
}

func explainCache() *Explanation {
	return &Explanation{Name: Cache, Kind: "topic", Here: []Part{}, Parts: []Part{
		{"browser", "Keeps pages and files of one visitor. Cache-Control: max-age says for how long it need not ask; nobody but the visitor can empty it."},
		{"network", "A delivery network, or a cache at somebody's firm: keeps what does not say private or no-store, for s-maxage or max-age, for all who come that way."},
		{"server", "The cache of nginx or Apache before the content system: fast, and knows nothing of changes to pages. It goes by lines of the configuration where an answer says nothing itself."},
		{"page", "The content system's cache of whole pages, usually an extension: knows when a page changes. There must be exactly one."},
		{"object", "Keeps what the content system has looked up, for pages that must be made anew: for who is signed in, for searches."},
		{"database", "Keeps answers of the database, likewise."},
		{"byte-code", "Keeps the content system's programs translated, so that each run begins where the work begins."},
		{"proof", "A cache that is on is not yet one that answers. weltaxis pace asks again and again, and shows what became of each request."},
		{"old pages", "After a change each layer may go on with the old page until its time is over or it is emptied; with a site this says for how long."},
		{"source", "RFC 9111, HTTP Caching; RFC 9211, Cache-Status"},
	}}
}
