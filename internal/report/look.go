package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

// A Look is a short look at a site in words: a line each, the worst first.
type Look struct {
	Site     string        `json:"site"`
	Address  string        `json:"address"`
	Taken    time.Time     `json:"taken"`
	Before   *time.Time    `json:"before"` // the look that it is compared with, nil for none
	Requests int           `json:"requests"`
	Took     float64       `json:"took"` // milliseconds
	Says     string        `json:"says"` // all of it in a sentence
	Lines    []LookLine    `json:"lines"`
	Saw      *audit.Glance `json:"saw"`
}

// A LookLine is one thing that was looked at.
type LookLine struct {
	What     string          `json:"what"`
	State    string          `json:"state"`    // wrong, unknown or well
	Severity *facts.Severity `json:"severity"` // of what is wrong
	Says     string          `json:"says"`
	Deeper   string          `json:"deeper"` // the command that goes deeper, "" for none
}

// The states of a line.
const (
	LookWrong   = "wrong"
	LookUnknown = "unknown"
	LookWell    = "well"
)

// Worst is the worst severity of what is wrong, 0 when nothing is.
func (l *Look) Worst() (worst facts.Severity) {
	for _, line := range l.Lines {
		if line.Severity != nil && (worst == 0 || *line.Severity < worst) {
			worst = *line.Severity
		}
	}
	return worst
}

// Unknown tells whether something that was to be looked at could not be.
func (l *Look) Unknown() bool {
	return slices.ContainsFunc(l.Lines, func(line LookLine) bool { return line.State == LookUnknown })
}

// A looker puts a short look into words.
type looker struct {
	*Look
	g      *audit.Glance
	before *audit.Glance
	name   string // of the site, as commands take it
	ours   Ours
}

// LookOf says what a short look at a site showed. Name is the site as it was given to the command; before is the look before, nil for none.
//
// Ours is what was done from here.
func LookOf(site, name string, g, before *audit.Glance, ours Ours) *Look {
	l := &looker{Look: &Look{Site: site, Address: g.Live.Address, Taken: g.Taken, Requests: g.Live.Requests, Took: g.Live.Took, Lines: []LookLine{}, Saw: g}, g: g, before: before, name: name, ours: ours}
	if before != nil {
		l.Before = &before.Taken
	}
	// In the order in which one thing keeps the next from being seen.
	for _, say := range []func(){l.leads, l.encrypted, l.answers, l.notice, l.inner, l.search, l.programs, l.copy, l.engines, l.fast} {
		say()
	}
	for _, what := range slices.Sorted(maps.Keys(g.Live.Missed)) {
		l.unknown("the rest", what+": "+g.Live.Missed[what])
	}
	rank := func(line LookLine) int {
		switch {
		case line.State == LookWrong:
			return int(*line.Severity)
		case line.State == LookUnknown:
			return 10
		}
		return 11
	}
	slices.SortStableFunc(l.Lines, func(a, b LookLine) int { return rank(a) - rank(b) })
	wrong := 0
	for _, line := range l.Lines {
		if line.State == LookWrong {
			wrong++
		}
	}
	switch {
	case wrong > 0:
		l.Says = Count(wrong, "thing is wrong", "things are wrong") + "."
	case l.Unknown():
		l.Says = "Nothing is wrong of what a short look could see; not all of it could be seen."
	default:
		l.Says = "Nothing is wrong that a short look can see."
	}
	return l.Look
}

func (l *looker) wrong(what string, severity facts.Severity, deeper, says string, args ...any) {
	if deeper != "" {
		deeper = "weltaxis " + strings.Join(strings.Fields(strings.ReplaceAll(deeper, "SITE", l.name)), " ")
	}
	l.Lines = append(l.Lines, LookLine{what, LookWrong, &severity, fmt.Sprintf(says, args...), deeper})
}

func (l *looker) unknown(what, says string) {
	l.Lines = append(l.Lines, LookLine{What: what, State: LookUnknown, Says: says})
}

func (l *looker) well(what, says string, args ...any) {
	l.Lines = append(l.Lines, LookLine{What: what, State: LookWell, Says: fmt.Sprintf(says, args...)})
}

// leads says where the name leads.
func (l *looker) leads() {
	g := l.g.Live
	then := []string(nil)
	if l.before != nil {
		then = l.before.Live.Addresses
	}
	switch {
	case g.Offline:
		l.Lines = append(l.Lines, LookLine{What: "this machine", State: LookWrong, Severity: severity(facts.Critical), Says: "Nothing leads out of this machine just now (" + cmp.Or(g.NoName, g.Why) + "), so nothing can be told of the site: look from another."})
	case g.NameGone:
		l.wrong("name", facts.Critical, "", "The name %s leads nowhere: no resolver knows it. Ask whoever registered the domain whether it was paid for, and where its name servers are.", g.Host)
	case g.NoName != "":
		l.wrong("name", facts.Critical, "", "Where the name %s leads cannot be found out: %s. Its name servers do not answer, or answer wrongly.", g.Host, g.NoName)
	case g.Mapped:
		l.well("name", "The site file says where %s is, so the name was not looked up.", g.Host)
	case len(then) > 0 && !slices.ContainsFunc(g.Addresses, func(a string) bool { return slices.Contains(then, a) }):
		called := ""
		if l.before.Live.Title != "" && g.Title != "" && l.before.Live.Title != g.Title {
			called = fmt.Sprintf(", and what answers there is called “%s”, and not “%s”", g.Title, l.before.Live.Title)
		}
		l.wrong("name", facts.High, "compare SITE", "The name leads to %s, and led to %s on %s%s.", strings.Join(g.Addresses, ", "), strings.Join(then, ", "), l.day(l.before.Taken), called)
	case len(then) > 0:
		l.well("name", "%s leads to %s, as on %s.", g.Host, strings.Join(g.Addresses, ", "), l.day(l.before.Taken))
	default:
		l.well("name", "%s leads to %s.", g.Host, strings.Join(g.Addresses, ", "))
	}
}

func severity(s facts.Severity) *facts.Severity { return &s }

func (l *looker) day(t time.Time) string { return t.UTC().Format("2 January 2006") }

// encrypted says how its certificate stands.
func (l *looker) encrypted() {
	g := l.g.Live
	until := time.Unix(g.Until, 0).UTC()
	left := until.Sub(l.g.Taken)
	switch {
	case !g.Answered && g.Distrust == "":
	case g.Until != 0 && left <= 0:
		l.wrong("certificate", facts.Critical, "audit SITE --only hardening.certificate", "Its certificate is over since %s: browsers warn everybody away.", l.day(until))
	case g.Distrust != "":
		l.wrong("certificate", facts.Critical, "audit SITE --only hardening.certificate", "Browsers warn everybody away: its certificate is not to be trusted (%s).", g.Distrust)
	case g.Bare:
		l.wrong("certificate", facts.Critical, "audit SITE --only hardening.https", "Nothing answers where browsers come first, with encryption; without it something does.")
	case g.Until == 0:
		l.wrong("certificate", facts.High, "audit SITE --only hardening.https", "It comes without encryption: browsers say “not secure”.")
	case left < 14*24*time.Hour:
		l.wrong("certificate", facts.Medium, "audit SITE --only hardening.certificate", "Its certificate ends on %s, and nothing has renewed it yet.", l.day(until))
	default:
		l.well("certificate", "It is trusted, and good until %s%s.", l.day(until), of(g.Issuer, "; from "))
	}
}

// of is a text with words before it, "" for none.
func of(text, before string) string {
	if text == "" {
		return ""
	}
	return before + text
}

// answers says whether, and with what.
func (l *looker) answers() {
	g := l.g.Live
	steps := ""
	if n := len(g.Steps); n > 0 {
		steps = ", after " + Count(n, "redirect", "redirects") + " to " + g.Final
	}
	whose := ""
	if g.Title != "" {
		whose = " “" + g.Title + "”"
	}
	switch {
	case g.NoName != "" || g.Offline:
	case g.Loop:
		l.wrong("answer", facts.Critical, "audit SITE --only visibility", "It redirects in a circle, and browsers give up: %s.", strings.Join(few(g.Steps), " → "))
	case g.Outside != "":
		l.wrong("answer", facts.High, "audit SITE --only visibility", "It leads to another site: %s.", g.Outside)
	case !g.Answered:
		l.wrong("answer", facts.Critical, "", "It does not answer: %s.", g.Why)
	case g.Status == 401 && !l.ours.Locked.IsZero():
		l.well("answer", "It asks for name and password, as it was locked from here on %s. weltaxis lock off%s takes the lock away.", l.day(l.ours.Locked), of(l.name, " "))
	case g.Status == 401:
		l.wrong("answer", facts.High, "audit SITE --only maintenance.lock", "It asks for name and password: it is locked, and not from here.")
	case g.Turned != "":
		l.wrong("answer", facts.High, "audit SITE --only visibility.answers", "Something turns us away: %s. If visitors get in, it is a firewall that does not like how we look; if they do not, it is one that likes nobody.", g.Turned)
	case g.Status == 503: // a notice
	case g.Status >= 500:
		l.wrong("answer", facts.Critical, "audit SITE --only visibility,runtime", "It answers %d: the program behind it fails. Its log says why.", g.Status)
	case g.Status != 200:
		l.wrong("answer", facts.Critical, "audit SITE --only visibility", "The home page answers %d%s.", g.Status, steps)
	case g.Why != "":
		l.wrong("answer", facts.High, "audit SITE --only visibility", "It answers %d, and then: %s.", g.Status, g.Why)
	case g.Stranger != "":
		l.wrong("answer", facts.Critical, "", "What answers is not the site, but “%s”: the server does not know the site, or whoever runs it has shut it.", g.Stranger)
	case g.Failure != "":
		l.wrong("answer", facts.Critical, "audit SITE --only hardening.errors-served,runtime", "The page shows the failure of a program: %s.", g.Failure)
	case g.Blank && g.Notice == "":
		l.wrong("answer", facts.Critical, "audit SITE --only visibility,runtime", "It answers 200, and the page is empty: the program behind it stops before it says anything. Its log says why.")
	case l.before != nil && l.before.Live.Title != "" && g.Title != "" && g.Notice == "" && g.Title != l.before.Live.Title:
		if changed := l.ours.titles(); changed != "" {
			l.well("answer", "It answers 200%s: the page%s, which was called “%s” before %s was changed from here.", steps, whose, l.before.Live.Title, changed)
			return
		}
		l.wrong("answer", facts.Low, "compare SITE", "The page is called%s, and was called “%s” on %s.", whose, l.before.Live.Title, l.day(l.before.Taken))
	default:
		l.well("answer", "It answers 200%s: the page%s%s.", steps, whose, of(g.System, ", on "))
	}
}

func few(all []string) []string {
	const most = 4
	if len(all) <= most {
		return all
	}
	return append(slices.Clone(all[:most]), "…")
}

// notice says whether a notice stands in the place of the page.
func (l *looker) notice() {
	g := l.g.Live
	if g.Notice == "" {
		return
	}
	if until := time.Unix(l.g.Until, 0); until.After(l.g.Taken) {
		l.well("notice", "It shows its notice (“%s”), which is meant until %s.", g.Notice, l.day(until))
		return
	}
	status := ""
	if g.Status != 503 {
		status = fmt.Sprintf(", with %d as if it were the page", g.Status)
	}
	l.wrong("notice", facts.Critical, "audit SITE --only maintenance", "It shows its notice (“%s”%s), and nobody has said that it should: it was forgotten, or a cache keeps it.", g.Notice, status)
}

// inner says how other pages stand.
func (l *looker) inner() {
	var failing, missing, silent, well []string
	for _, p := range l.g.Live.Inner {
		switch {
		case p.Status == 0 || p.Status == 403 || p.Status == 429 || p.Status == 401:
			if p.Status != 0 {
				p.Why = fmt.Sprintf("it answers %d", p.Status)
			}
			silent = append(silent, p.Path+" ("+p.Why+")")
		case p.Status >= 500:
			failing = append(failing, fmt.Sprintf("%s (%d)", p.Path, p.Status))
		case p.Status >= 400:
			missing = append(missing, fmt.Sprintf("%s (%d)", p.Path, p.Status))
		default:
			well = append(well, p.Path)
		}
	}
	all := len(l.g.Live.Inner)
	switch {
	case all == 0:
	case len(failing)+len(missing) == all && l.g.Live.Status == 200:
		l.wrong("pages", facts.Critical, "pages SITE", "Only the home page is there: %s.", strings.Join(slices.Concat(failing, missing), ", "))
	case len(failing) > 0:
		l.wrong("pages", facts.High, "pages SITE", "A page that the home page links to fails: %s.", strings.Join(failing, ", "))
	case len(missing) > 0:
		l.wrong("pages", facts.Medium, "audit SITE --only visibility.links-answer", "The home page links to what is not there: %s.", strings.Join(missing, ", "))
	case len(silent) > 0:
		l.unknown("pages", strings.Join(silent, ", "))
	default:
		l.well("pages", "%s %s too.", strings.Join(well, " and "), map[bool]string{true: "answers", false: "answer"}[len(well) == 1])
	}
}

// search says whether somebody from a search result gets something else.
func (l *looker) search() {
	g := l.g.Live
	switch {
	case g.Search != "":
		l.wrong("search", facts.Critical, "audit SITE --only visibility.same-for-search,upkeep", "Somebody who comes from a search result gets something else: %s. That is how a site looks that was broken into.", g.Search)
	case g.Status == 200 && g.Notice == "" && g.Turned == "" && !g.Loop && g.Missed["the page for somebody from a search result"] == "":
		l.well("search", "Somebody who comes from a search result gets the same page.")
	}
}

// programs says which program files changed.
func (l *looker) programs() {
	g := l.g
	switch n := len(g.Fresh); {
	case !g.Files && g.Why == "": // nobody said where they lie
	case !g.Files:
		l.unknown("programs", "Program files were not looked at: "+g.Why+".")
	case len(g.Newer) > 0:
		l.wrong("programs", facts.High, "audit SITE --only upkeep", "%s since the audit of %s: %s.", Count(len(g.Newer), "program file came or changed", "program files came or changed"), l.day(*g.Since), List(FirstFew(g.Newer)))
	case n > 0:
		var named []string
		for _, p := range g.Fresh {
			named = append(named, p.Path)
		}
		l.wrong("programs", facts.Medium, "audit SITE --only upkeep", "%s within seven days, the last on %s: %s. If that was no update, somebody else did it.", Count(n, "program file changed", "program files changed"), l.day(time.Unix(g.Fresh[0].Changed, 0)), List(FirstFew(named)))
	case g.Last > 0:
		l.well("programs", "No program file changed within seven days; the last did on %s.", l.day(time.Unix(g.Last, 0)))
	default:
		l.well("programs", "There are no program files.")
	}
}

// copy says how old the copy is that visitors get, and whether the page behind the cache is another.
func (l *looker) copy() {
	g := l.g.Live
	if g.Status != 200 || g.Turned != "" || g.Loop || g.Outside != "" {
		return
	}
	old := g.Age > 24*3600 && g.Fresh < 0 || g.Fresh >= 0 && g.Age > g.Fresh+300
	age := ""
	if g.Age >= 0 {
		age = span(g.Age)
	}
	meant := ""
	if g.Fresh >= 0 {
		meant = ", and was to be kept for " + span(g.Fresh)
	}
	switch {
	case g.Behind != "" && old:
		l.wrong("copy", facts.High, "audit SITE --only caching", "Visitors get a copy that is %s old%s. The page behind the cache is another: %s.", age, meant, g.Behind)
	case g.Behind != "":
		l.wrong("copy", facts.High, "audit SITE --only caching", "Visitors get an old copy%s. The page behind the cache is another: %s.", of(age, ", of an age of "), g.Behind)
	case old:
		l.wrong("copy", facts.Medium, "audit SITE --only caching", "Visitors get a copy that is %s old%s.", age, meant)
	case g.Unsteady:
		l.well("copy", "The page is another each time, so whether a copy is old cannot be told from it.")
	case g.Way == "":
		l.well("copy", "No way around a cache was found.")
	case age != "":
		l.well("copy", "The copy is %s old, and the page behind it (%s) is the same.", age, g.Way)
	default:
		l.well("copy", "Around caches (%s) the page is the same.", g.Way)
	}
}

// span is a time in words, in days where it is some.
func span(seconds int64) string {
	if days := seconds / (24 * 3600); days >= 2 {
		return fmt.Sprintf("%d days", days)
	}
	return facts.NumberOf(facts.Duration, seconds).String()
}

// engines says whether search engines may list it.
func (l *looker) engines() {
	g := l.g.Live
	switch {
	case g.Robots == "":
	case g.HiddenBy != "" && l.g.Stage == "live" && !l.g.Quiet:
		by := map[string]string{"tag": " by a tag in it (noindex)", "header": " by a header (X-Robots-Tag)", "tag and header": " twice, by a tag in it and by a header"}[g.HiddenBy]
		l.wrong("search engines", facts.Critical, "audit SITE --only visibility", "Search engines are kept out of the home page%s.", cmp.Or(by, ": "+g.Robots))
	case g.HiddenBy != "":
		l.well("search engines", "They are kept out, as they should be: %s.", g.Robots)
	default:
		l.well("search engines", "They may list the home page.")
	}
}

// slowConnect is how long it may take until there is a connection.
const slowConnect = 1000 // milliseconds

// fast says how long it takes.
func (l *looker) fast() {
	g := l.g.Live
	if !g.Answered || len(g.FirstBytes) == 0 {
		return
	}
	least, limit := slices.Min(g.FirstBytes), float64(l.g.Limit)
	seconds := func(ms float64) string {
		if ms >= 1000 {
			return fmt.Sprintf("%.1f s", ms/1000)
		}
		return fmt.Sprintf("%.0f ms", ms)
	}
	well := true
	if g.Connect > slowConnect {
		well = false
		l.wrong("speed", facts.Medium, "pace SITE", "It takes %s until there is a connection: the way to it is slow, or it has too much to do to say hello.", seconds(g.Connect))
	}
	if least > limit {
		well = false
		l.wrong("speed", facts.Medium, "pace SITE", "It takes %s to the first byte, each time; %s would be well.", seconds(least), seconds(limit))
	} else if g.FirstBytes[0] > limit {
		well = false
		l.wrong("speed", facts.Low, "pace SITE", "The first visitor waits %s for the first byte; the next gets it in %s.", seconds(g.FirstBytes[0]), seconds(least))
	}
	if well {
		l.well("speed", "Connected in %s, the first byte after %s.", seconds(g.Connect), seconds(least))
	}
}

// Ours is what was done to a site from here, as its journal has it.
type Ours struct {
	Locked  time.Time // since when it is locked by us; zero for not
	Changed []string  // settings and fields that were changed since the look before
}

// titles names what of it shows in the title of the page; "" for nothing.
func (o Ours) titles() string {
	for _, name := range o.Changed {
		if name == facts.SiteTitle.Short() || name == facts.SiteTagline.Short() || strings.HasPrefix(name, "title") {
			return name
		}
	}
	return ""
}
