package report

import (
	"net/http"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// A Document is a report as one reads it on paper: the same words, area by area, with why each rule is there, what holds, and what
// one would rather look at than read.
type Document struct {
	*Report
	NotLooked string // where nobody looked; "" when all sides were looked at
	Done      []Done // the newest first
	Areas     []DocumentArea
	Course    *Course        // nil when too few audits are kept
	Pages     []DocumentPage // those with the most trouble first
	Home      *Preview       // nil when it was not seen
	Others    []Preview      // of the other pages that answer
	Weights   []Weighed      // the heaviest first
	Times     []PageTimes
	Caches    []*CacheWay // of the home page and an inner one
	Roles     []Role      // the tree of files
	Tree      string      // what it is, in a sentence
	Exposure  *Exposure
	Later     []string // what to come back to, and not yet
}

// A DocumentArea is one area of a document.
type DocumentArea struct {
	Name     string
	About    string
	Entries  []DocumentEntry
	Held     []DocumentHeld
	Deviate  int // rules
	Unjudged int // rules
}

// A DocumentEntry is an entry with why its rule is there, and on whose word.
type DocumentEntry struct {
	Entry
	Because string
	Cites   []string
}

// A DocumentPage is a page of the table.
type DocumentPage struct {
	audit.PageRow
	Name string
	KiB  string // what it weighs, "" when that was not seen
}

// A DocumentHeld is a rule that holds.
type DocumentHeld struct {
	Rule, Expected string
}

// DocumentOf puts a report into a document, with what is kept of the site.
func DocumentOf(r *Report, k Kept) *Document {
	tree, n := r.Result.Tree(), namesOf(r.Snapshot)
	d := &Document{Report: r, NotLooked: notLooked(r), Done: DoneOf(k, r.Taken), Course: courseOf(k.upTo(r.Result)), Times: timesOf(r.Snapshot, n),
		Roles: inShort(RolesOf(tree)), Tree: TreeSays(r.Result, tree), Exposure: ExposureOf(r.Result, k.Signs), Later: later(r.Result)}
	var answer []*facts.Page
	home := r.Snapshot.HomePage()
	for _, row := range r.Result.Pages() {
		d.Pages = append(d.Pages, DocumentPage{row, n.of(row.Path, row.Address), weight(row.Page)})
		if row.Status == http.StatusOK {
			answer = append(answer, row.Page)
			preview := PreviewOf(row.Page)
			preview.Name = n.of(row.Path, row.Address)
			if row.Page == home {
				d.Home = &preview
			} else {
				d.Others = append(d.Others, preview)
			}
		}
	}
	d.Times = append(d.Times, pacedOf(k.Pace, r.Snapshot, d.Times, n)...)
	d.Weights = weightsOf(answer, n)
	d.Caches = cachesOf(r.Result, home, answer)
	for _, name := range baseline.Areas {
		area := DocumentArea{Name: name, About: r.Rules.About(name)}
		rules := map[string]bool{}
		for _, e := range r.Words.Entries {
			if e.Area != name {
				continue
			}
			rules[e.Rule] = true
			entry := DocumentEntry{Entry: e}
			if rule, known := r.Rules.Rule(e.Rule); known {
				entry.Because, entry.Cites = rule.Why, rule.Cites
			}
			area.Entries = append(area.Entries, entry)
		}
		area.Deviate = len(rules)
		for _, id := range r.Held {
			if rule, known := r.Rules.Rule(id); known && rule.Area == name {
				area.Held = append(area.Held, DocumentHeld{id, plainExpected(WithLimits(r.Rules, rule.Expected))})
			}
		}
		unjudged := map[string]bool{}
		for _, n := range r.Unjudged() {
			if strings.HasPrefix(n.Rule, name+".") && !rules[n.Rule] && !slices.Contains(r.Held, n.Rule) {
				unjudged[n.Rule] = true
			}
		}
		if area.Unjudged = len(unjudged); len(area.Entries)+len(area.Held)+area.Unjudged > 0 {
			d.Areas = append(d.Areas, area)
		}
	}
	return d
}

// siteSpecific finds, in what ought to be, what would be worked out of a site's values.
var siteSpecific = regexp.MustCompile(`\{[^}]*\}`)

// plainExpected is what ought to be, without what would be worked out of a site's values.
func plainExpected(expected string) string { return siteSpecific.ReplaceAllString(expected, "…") }

// lookedAt are the sources in words.
var lookedAt = map[facts.Source]string{facts.Settings: "the content system's settings", facts.Live: "what visitors get", facts.Files: "the files on the disk", facts.Server: "the web server's configuration",
	facts.Runtime: "the language runtime's configuration", facts.Upkeep: "lists of versions and known flaws"}

// notLooked says at what nobody looked, and how much could not be seen of the rest.
func notLooked(r *Report) string {
	var missing []string
	for _, source := range []facts.Source{facts.Live, facts.Settings, facts.Files, facts.Server, facts.Runtime, facts.Upkeep} {
		if !r.Snapshot.Asked(source) {
			missing = append(missing, lookedAt[source])
		}
	}
	said := ""
	if len(missing) > 0 {
		said = "Not looked at: " + List(missing) + "."
	}
	if n := len(r.Words.Gaps); n > 0 {
		said = strings.TrimSpace(said + " " + Count(n, "thing that was asked for", "things that were asked for") + " could not be seen.")
	}
	return said
}

// later are the follow-ups whose day has not come.
func later(r *audit.Result) (said []string) {
	for _, f := range r.FollowUps {
		if !f.Due(r.Taken) {
			said = append(said, string(f.On)+": "+FollowUp(f))
		}
	}
	return said
}

// cachesOf is what becomes of the home page and of an inner one in every layer; of the inner one only where that is something else.
func cachesOf(r *audit.Result, home *facts.Page, pages []*facts.Page) (ways []*CacheWay) {
	of := []*facts.Page{home}
	if i := slices.IndexFunc(pages, func(p *facts.Page) bool { return p.Kind == "content" }); i >= 0 {
		of = append(of, pages[i])
	}
	for _, page := range of {
		if page == nil {
			continue
		}
		if way, err := CacheOf(r, page.Path); err == nil && !slices.ContainsFunc(ways, way.keepsAs) {
			ways = append(ways, way)
		}
	}
	return ways
}
