package report

import (
	"fmt"
	"regexp"
	"slices"
	"time"

	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// A Client is a report for whoever the site is kept for. It is made of the baseline's own words, of counts, and of what every
// visitor sees of pages that search engines may list; nothing else of the site is in it: no file, setting, account, rule or
// command. Of what would help whoever means harm it says that it is there, how bad it is, and that the administrator knows.
type Client struct {
	Site, Stage, There, Stands string
	Right                      string // whether it is all right, in a sentence; "" when only what is new was asked for
	Taken                      time.Time
	Since                      string // what came and went, in counts; "" when it is compared with nothing
	NotLooked                  string
	First                      []ClientFirst
	Done                       []string // the newest first
	Areas                      []ClientArea
	Course                     *Course  // nil when too few audits are kept
	Home                       *Preview // as every visitor finds it; nil when it was not seen
	Pages                      []ClientPage
	Others                     []Preview       // of those pages
	Pictures                   []facts.Picture // on the cards of those that are shown
	Weights                    []Weighed
	Times                      []PageTimes
	Rest                       []string // what was not judged, what a stranger can tell, what one lives with, what to come back to
}

// A ClientFirst is one of the first things to do.
type ClientFirst struct {
	Area   string
	Urgent bool
	Told   bool
	Why    string // "" when it is not told
}

// A ClientArea is an area with what is told of it, and what is kept back, in counts.
type ClientArea struct {
	Name, About             string
	Held, Deviate, Unjudged int // rules
	Told                    []ClientEntry
	Kept                    string // "" when nothing is
}

// A ClientEntry is an entry without anything of the site's own.
type ClientEntry struct {
	Severity facts.Severity
	Count    int
	Why      string
	Expected string // "" when saying it would take something of the site's own
	Noticed  []facts.Who
}

// A ClientPage is a page as every visitor finds it.
type ClientPage struct {
	Name, Title, KiB string
	Words, Matters   int
}

// guarded are the areas whose particulars help whoever means harm.
var guarded = []string{"hardening", "permissions", "runtime", "upkeep"}

// backstage are kinds of pages that are no client's business.
var backstage = []string{"sign-in", "error"}

// namesSetting finds names of settings, and of what is said in the site file.
var namesSetting = regexp.MustCompile(`\b[a-z]+\.[a-z_]+`)

// mayKnow says whether a client is told what deviates by a rule: it is the baseline's own, and no weakness.
func mayKnow(r *baseline.Rule) bool {
	return r.BuiltIn() && r.CWE == 0 && !slices.Contains(guarded, r.Area) && !slices.Contains([]facts.Harm{facts.Intrusion, facts.Leak, facts.OpenDoor}, r.Harm)
}

// ClientOf puts a report into the client's, with what is kept of the site.
func ClientOf(r *Report, k Kept) *Client {
	d := DocumentOf(r, k)
	c := &Client{Site: r.Site, Stage: r.Stage, Taken: r.Taken, There: clientThere(r), Stands: clientStands(r), Right: clientRight(r), Since: clientSince(r), NotLooked: d.NotLooked, Course: d.Course, Home: d.Home}
	if c.Home != nil {
		c.Home.Card.Unseen = ""
	}
	for _, done := range d.Done {
		c.Done = append(c.Done, "On "+done.At.UTC().Format("2 January 2006")+": "+done.Says)
	}
	for _, f := range r.Words.First {
		rule, known := r.Rules.Rule(f.Rule)
		if !known {
			continue
		}
		first := ClientFirst{Area: rule.Area, Told: mayKnow(rule)}
		if first.Told {
			first.Why = oneLine(rule.Why)
		}
		first.Urgent = slices.ContainsFunc(r.Words.Entries, func(e Entry) bool { return e.Rule == f.Rule && e.Severity == facts.Critical })
		c.First = append(c.First, first)
	}
	for _, a := range d.Areas {
		area := ClientArea{Name: a.Name, About: a.About, Held: len(a.Held), Deviate: a.Deviate, Unjudged: a.Unjudged}
		kept := map[facts.Severity]int{}
		for _, e := range a.Entries {
			rule, known := r.Rules.Rule(e.Rule)
			if !known || !mayKnow(rule) {
				kept[e.Severity]++
				continue
			}
			entry := ClientEntry{Severity: e.Severity, Count: e.Count, Why: oneLine(rule.Why), Noticed: e.Noticed}
			if ought := WithLimits(r.Rules, rule.Expected); !siteSpecific.MatchString(ought) && !namesSetting.MatchString(ought) {
				entry.Expected = ought
			}
			area.Told = append(area.Told, entry)
		}
		area.Kept = clientKept(kept, len(area.Told) > 0)
		c.Areas = append(c.Areas, area)
	}
	shown := map[string]bool{}
	var pages []*facts.Page
	for _, row := range d.Pages {
		if row.Status == 200 && (row.Indexable || row.Meant) && row.Linked && !slices.Contains(backstage, row.Kind) {
			shown[row.Address] = true
			pages = append(pages, row.Page)
			c.Pages = append(c.Pages, ClientPage{row.Name, row.Title, row.KiB, row.Words, len(row.Deviates)})
		}
	}
	c.Weights = weightsOf(pages, namesOf(r.Snapshot))
	for _, p := range d.Others {
		if shown[p.Page.Address] {
			p.Card.Unseen = ""
			c.Others = append(c.Others, p)
		}
	}
	for _, picture := range r.Snapshot.Pictures {
		on := func(p Preview) bool { return p.Card.Picture == picture.Address }
		if c.Home != nil && on(*c.Home) || slices.ContainsFunc(c.Others, on) {
			c.Pictures = append(c.Pictures, picture)
		}
	}
	for _, t := range d.Times {
		if shown[t.Address] {
			t.Says = "" // how the cache was got around is nobody else's business
			c.Times = append(c.Times, t)
		}
	}
	c.Rest = clientRest(r, d)
	return c
}

// clientThere says whether the site answers, without what went wrong on the way.
func clientThere(r *Report) string {
	if !r.Snapshot.Asked(facts.Live) {
		return "Whether it answers visitors was not looked at."
	}
	if says, answers := there(r.Result); answers {
		return says
	}
	return "It did not answer when it was looked at."
}

// clientRight says whether it is all right.
func clientRight(r *Report) string {
	urgent, soon, rest := r.Counts[facts.Critical], r.Counts[facts.High], r.Counts[facts.Medium]+r.Counts[facts.Low]+r.Counts[facts.Note]
	far := ""
	if len(r.Unjudged()) > 0 || r.Partial() {
		far = " in what could be seen"
	}
	switch {
	case r.LeftOut() != nil:
		return ""
	case urgent > 0:
		return "Not all is right: " + Count(urgent, "matter is urgent", "matters are urgent") + "."
	case soon > 0:
		return "Nothing is urgent" + far + "; " + Count(soon, "matter wants", "matters want") + " doing soon."
	case rest > 0:
		return "Nothing is urgent" + far + "; " + Count(rest, "smaller matter could", "smaller matters could") + " be better."
	case len(r.Held) == 0:
		return "Nothing could be judged."
	case far != "":
		return "Nothing was found that is not right; not all could be seen."
	}
	return "All is as it should be."
}

// clientStands says how it stands, without the names of rules where only some were judged.
func clientStands(r *Report) string {
	if len(r.Named()) == 0 {
		return r.Words.Stands
	}
	return stands(r.Result, "a part of the rules")
}

// clientSince says what came and went, in counts.
func clientSince(r *Report) string {
	if r.History == nil || r.History.Before == nil {
		return ""
	}
	var counts []string
	for _, c := range []struct {
		n         int
		one, many string
	}{{len(r.History.New), "matter is new", "matters are new"}, {len(r.History.Worse), "is worse", "are worse"}, {len(r.History.Gone), "is gone", "are gone"}} {
		if c.n > 0 {
			counts = append(counts, Count(c.n, c.one, c.many))
		}
	}
	if len(counts) == 0 {
		counts = []string{"nothing came or went"}
	}
	return fmt.Sprintf("Since %s: %s.", r.History.Before.Taken.UTC().Format("2 January 2006"), List(counts))
}

// clientKept says how much is kept back, and how bad it is.
func clientKept(kept map[facts.Severity]int, more bool) string {
	var counts []string
	n := 0
	for _, severity := range facts.Severities() {
		if kept[severity] > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", kept[severity], severity))
			n += kept[severity]
		}
	}
	if n == 0 {
		return ""
	}
	other := ""
	if more {
		other = "more "
	}
	verb := map[bool]string{true: "deviates", false: "deviate"}[n == 1]
	said := fmt.Sprintf("%s %s: %s.", Count(n, other+"matter", other+"matters"), verb, List(counts))
	if kept[facts.Critical] > 0 {
		said += " What is critical is urgent."
	}
	return said
}

// clientRest says in counts what was not judged, what one lives with and what to come back to.
func clientRest(r *Report, d *Document) (rest []string) {
	unseen := map[string]bool{}
	for _, n := range r.Unjudged() {
		unseen[n.Rule] = true
	}
	if n := len(unseen); n > 0 {
		rest = append(rest, Count(n, "rule", "rules")+" could not be judged: what decides was not looked at, or could not be seen. Nobody knows how it stands there.")
	}
	if n := len(r.Words.Gaps); n > 0 {
		rest = append(rest, Count(n, "thing that was asked for", "things that were asked for")+" could not be seen.")
	}
	if e := d.Exposure; e.Unseen == "" || len(e.Tells) > 0 {
		rest = append(rest, clientExposure(e))
	}
	if n := len(r.Words.Accepted); n > 0 {
		rest = append(rest, Count(n, "matter was", "matters were")+" accepted by the administrator, each with a reason and a last day.")
	}
	if n := len(r.Words.Lapsed); n > 0 {
		rest = append(rest, Count(n, "acceptance is", "acceptances are")+" over.")
	}
	if n := len(r.Words.Due); n > 0 {
		rest = append(rest, Count(n, "matter", "matters")+" to come back to now.")
	}
	if n := len(d.Later); n > 0 {
		rest = append(rest, Count(n, "matter", "matters")+" to come back to later.")
	}
	return rest
}

// clientExposure says how much a stranger can tell, beside an earlier look.
func clientExposure(e *Exposure) string {
	signs := 0
	for _, t := range e.Tells {
		signs += len(t.Clues)
	}
	said := "Nothing tells strangers what the site runs on"
	if signs > 0 {
		said = Count(signs, "sign tells", "signs tell") + " strangers what the site runs on"
	}
	if e.Before != "" && len(e.Gone)+len(e.New) > 0 {
		said += fmt.Sprintf("; at the look of %s it was %d", e.Before, signs-len(e.New)+len(e.Gone))
	}
	return said + "."
}
