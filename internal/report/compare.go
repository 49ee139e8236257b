package report

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/compare"
	"weltaxis/internal/facts"
)

// A Compared is two looks set side by side, in words. As JSON it is the comparison with them added.
type Compared struct {
	*compare.Comparison
	Words ComparedWords `json:"words"`
}

// ComparedWords are what a person is told of it, in the order in which they are told it.
type ComparedWords struct {
	Before string   `json:"before"`
	After  string   `json:"after"`
	Stands string   `json:"stands"` // in counts
	Groups []Group  `json:"groups"` // what changed, side by side of the site
	Judged []Judged `json:"judged"` // what became of deviations
	Still  []Judged `json:"-"`
	Aside  []string `json:"aside"`  // what is another, and is not the site's doing
	Unseen []string `json:"unseen"` // what was seen in one look only
}

// A Group is what changed on one side of the site.
type Group struct {
	Title string   `json:"title"`
	Lines []Change `json:"lines"`
}

// A Change is one sentence on what changed, with the places and what changed with it.
type Change struct {
	Says   string   `json:"says"`
	Means  string   `json:"means,omitempty"` // what it is about, where its name does not say
	Places []string `json:"places"`
	With   string   `json:"with,omitempty"`
}

// A Judged is deviations of one rule that came, went, or are another.
type Judged struct {
	Became   string         `json:"became"` // new, worse, better, gone
	Rule     string         `json:"rule"`
	Severity facts.Severity `json:"severity"`
	Count    int            `json:"count"` // of deviations
	Says     []string       `json:"says"`
}

// Compare puts a comparison into words.
func Compare(c *compare.Comparison) *Compared {
	w := &wording{c}
	groups := w.groups()
	return &Compared{c, ComparedWords{
		Before: w.side(c.Before), After: w.side(c.After), Stands: w.stands(groups), Groups: groups,
		Judged: judgedAs(c), Still: judgedAs(&compare.Comparison{New: c.Still}), Aside: w.aside(), Unseen: w.unseen(),
	}}
}

type wording struct{ c *compare.Comparison }

// side names one of the looks.
func (w *wording) side(s compare.Side) string {
	parts := []string{}
	if s.Called != "" {
		parts = append(parts, s.Called)
	}
	if w.c.Another && s.Called != s.Site {
		parts = append(parts, s.Site)
	}
	parts = append(parts, s.Taken.UTC().Format("2 January 2006, 15:04 MST"))
	var asked []string
	for _, a := range s.Sources {
		asked = append(asked, a.Source.String())
	}
	if len(asked) > 0 {
		parts = append(parts, List(asked))
	} else {
		parts = append(parts, "its result only")
	}
	return strings.Join(parts, "; ")
}

// stands says in counts what became of what: as many as are told.
func (w *wording) stands(groups []Group) string {
	c := w.c
	var said []string
	if c.Facts {
		told := map[string]int{}
		n := 0
		for _, g := range groups {
			told[g.Title] = len(g.Lines)
			if g.Title != wishes && g.Title != unsure {
				n += len(g.Lines)
			}
		}
		switch {
		case n == 0 && told[unsure] == 0:
			said = append(said, "Nothing of the site changed that was seen both times")
		case n > 0:
			said = append(said, Count(n, "thing", "things")+" changed")
		}
		if n := told[wishes]; n > 0 {
			said = append(said, Count(n, "thing", "things")+" in the site file")
		}
		if n := told[unsure]; n > 0 {
			said = append(said, fmt.Sprintf("of %s it cannot be told whether the site changed", Count(n, "thing", "things")))
		}
	}
	if c.Judged {
		var became []string
		for _, of := range []struct {
			list []compare.Verdict
			word string
		}{{c.New, "new"}, {c.Worse, "worse"}, {c.Better, "better"}, {c.Gone, "gone"}} {
			if n := len(of.list); n > 0 {
				became = append(became, fmt.Sprintf("%d %s", n, of.word))
			}
		}
		text := "no deviation came or went"
		if len(became) > 0 {
			text = "deviations: " + List(became)
		}
		if n := len(c.Still); n > 0 {
			text += fmt.Sprintf("; %d as before", n)
		}
		said = append(said, text)
	}
	if len(said) == 0 {
		return "Nothing can be compared: one is a snapshot, the other a result."
	}
	text := strings.Join(said, "; ") + "."
	return Capital(text)
}

// The titles of groups that are no side of the site.
const (
	wishes = "site file"
	unsure = "the site or its dialect"
)

// groups puts the changes in the order of the sources.
func (w *wording) groups() []Group {
	groups := []Group{}
	add := func(title string, changes []compare.Change) {
		for _, c := range changes {
			of := title
			if of == "" {
				of = c.Source.String()
			}
			i := slices.IndexFunc(groups, func(g Group) bool { return g.Title == of })
			if i < 0 {
				groups = append(groups, Group{Title: of})
				i = len(groups) - 1
			}
			for _, one := range apart(c) {
				groups[i].Lines = append(groups[i].Lines, w.change(one))
			}
		}
	}
	add(wishes, w.c.Wishes)
	add("", w.c.Changes)
	add(unsure, w.c.Unsure)
	return groups
}

// mostApart is how many entries of the tree are told one by one.
const mostApart = 8

// apart are changes that are told one by one, as those of entries of the tree, each of which is another matter.
func apart(c compare.Change) []compare.Change {
	if c.Name != facts.ListClasses || len(c.Items) < 2 || len(c.Items) > mostApart {
		return []compare.Change{c}
	}
	var all []compare.Change
	for i := range c.Items {
		one := c
		one.Items = c.Items[i : i+1]
		if i > 0 {
			one.With = nil
		}
		all = append(all, one)
	}
	return all
}

// change says one change.
func (w *wording) change(c compare.Change) Change {
	out := Change{Says: w.sentence(c), Means: meaning(c), Places: []string{}}
	if len(c.Items) == 1 && c.Name != facts.ListClasses {
		was, is := c.Items[0].Was.String(), c.Items[0].Is.String()
		for _, place := range []string{was, is} {
			if place != "" && !slices.Contains(out.Places, place) && !strings.Contains(out.Says, place) {
				out.Places = append(out.Places, place)
			}
		}
	}
	var with []string
	for _, follows := range c.With {
		if text := about(follows); text != "" && !slices.Contains(with, text) {
			with = append(with, text)
		}
	}
	out.With = List(FirstFew(with))
	return out
}

// nouns are what the items of lists are called, one and several.
var nouns = map[string][2]string{
	facts.ListPages: {"page", "pages"}, facts.ListSpellings: {"spelling of the address", "spellings of the address"}, facts.ListNames: {"host name", "host names"},
	facts.ListLinks: {"link that does not lead straight to a page", "links that do not lead straight to a page"}, facts.ListAssets: {"file that pages load", "files that pages load"},
	facts.ListArrivals: {"page as a search result shows it", "pages as search results show them"}, facts.ListCookies: {"cookie", "cookies"}, facts.ListRepeats: {"page that was asked for again", "pages that were asked for again"},
	facts.ListTraces: {"trace of a page cache", "traces of page caches"}, facts.ListAnswers: {"address, as configured", "addresses, as configured"}, facts.ListShadowed: {"line without effect", "lines without effect"},
	facts.ListFolders: {"folder", "folders"}, facts.ListTroubles: {"line that does not do what it says", "lines that do not do what they say"}, facts.ListAccounts: {"account", "accounts"},
	facts.ListExtensions: {"extension", "extensions"}, facts.ListScheduled: {"scheduled post", "scheduled posts"}, facts.ListRecords: {"page", "pages"}, facts.ListForms: {"form", "forms"},
	facts.ListAliases: {"further name", "further names"}, facts.ListBackups: {"back-up", "back-ups"}, facts.ListSigns: {"sign of what it runs on", "signs of what it runs on"}, facts.ListLeaks: {"address that leaks", "addresses that leak"}, facts.ListDoors: {"kind of address", "kinds of address"}, facts.ListKeys: {"key of another service", "keys of other services"}, facts.ListClasses: {"entry", "entries"}, facts.ListPrograms: {"program file", "program files"},
}

func noun(list string, n int) string {
	if n == 1 {
		return nouns[list][0]
	}
	return nouns[list][1]
}

// about names what a change is about, without what it was and is.
func about(c compare.Change) string {
	n := len(c.Items)
	switch _, isList := nouns[c.Name]; {
	case !isList:
		return shortName(c)
	case c.Name == facts.ListClasses && c.Field != "", c.Name == facts.ListPrograms && c.Field == "touched": // what follows from a mode is said by it
		return ""
	case c.Name == facts.ListPrograms && c.What == compare.Changed && n == 1:
		return "the program file " + c.Items[0].Subject
	case c.Name == facts.ListPrograms && c.What == compare.Changed:
		return fmt.Sprintf("%d program files", n)
	case c.Field != "" && n == 1:
		return fmt.Sprintf("%s of %s", words(c.Field), c.Items[0].Subject)
	case c.Field != "":
		return fmt.Sprintf("%s of %d %s", words(c.Field), n, noun(c.Name, n))
	case n == 1:
		return fmt.Sprintf("the %s %s, %s", noun(c.Name, 1), c.Items[0].Subject, c.What)
	}
	return fmt.Sprintf("%d %s, %s", n, noun(c.Name, n), c.What)
}

func words(field string) string { return strings.ReplaceAll(field, "_", " ") }

// shortName is a term without its source.
func shortName(c compare.Change) string {
	if limit, is := strings.CutPrefix(c.Name, "limits."); is {
		return "the limit " + limit
	}
	return strings.TrimPrefix(c.Name, c.Source.All())
}

// meaning is what a term is about, but for settings, whose names a person knows.
func meaning(c compare.Change) string {
	if _, isList := nouns[c.Name]; isList || c.Source == facts.Settings || c.Source == facts.Intent {
		return ""
	}
	term, _ := facts.Lookup(c.Name)
	return term.Meaning
}

// sentence says a change in one sentence.
func (w *wording) sentence(c compare.Change) string {
	if say := sentences[c.Name]; say != nil {
		if text := say(w, c); text != "" {
			return text
		}
	}
	_, isList := nouns[c.Name]
	switch {
	case !isList:
		return fmt.Sprintf("%s changed%s", shortName(c), fromTo(c.Items[0]))
	case c.What == compare.Moved:
		return fmt.Sprintf("the %s %s", noun(c.Name, len(c.Items)), each(c.Items, func(i compare.Item) string { return i.From + " moved to " + i.To }))
	case c.What == compare.Came && len(c.Items) == 1:
		return fmt.Sprintf("a new %s: %s%s", noun(c.Name, 1), c.Items[0].Subject, told(c.Items[0].To))
	case c.What == compare.Came:
		return fmt.Sprintf("%d new %s: %s", len(c.Items), noun(c.Name, len(c.Items)), each(c.Items, func(i compare.Item) string { return i.Subject }))
	case c.What == compare.Went && len(c.Items) == 1:
		return fmt.Sprintf("the %s %s is gone%s", noun(c.Name, 1), c.Items[0].Subject, told(c.Items[0].From))
	case c.What == compare.Went:
		return fmt.Sprintf("%d %s are gone: %s", len(c.Items), noun(c.Name, len(c.Items)), each(c.Items, func(i compare.Item) string { return i.Subject }))
	case len(c.Items) == 1:
		return fmt.Sprintf("%s of %s changed%s", words(c.Field), c.Items[0].Subject, fromTo(c.Items[0]))
	}
	return fmt.Sprintf("%s of %d %s changed: %s", words(c.Field), len(c.Items), noun(c.Name, len(c.Items)), each(c.Items, func(i compare.Item) string { return i.Subject + fromTo(i) }))
}

// sentences are those of lists of which more can be said.
var sentences = map[string]func(*wording, compare.Change) string{
	facts.ListAccounts: func(_ *wording, c compare.Change) string {
		switch {
		case c.What == compare.Came && len(c.Items) == 1:
			if c.Items[0].To == "" {
				return "a new account, whose role is not known: " + c.Items[0].Subject
			}
			return fmt.Sprintf("a new account with the %s role: %s", c.Items[0].To, c.Items[0].Subject)
		case c.What == compare.Came:
			return fmt.Sprintf("%d new accounts: %s", len(c.Items), each(c.Items, func(i compare.Item) string { return i.Subject + " with the " + i.To + " role" }))
		case c.Field == "role":
			return each(c.Items, func(i compare.Item) string {
				return fmt.Sprintf("the account %s had the %s role and has the %s one", i.Subject, i.From, i.To)
			})
		}
		return ""
	},
	facts.ListExtensions: func(_ *wording, c compare.Change) string {
		if c.Field == "active" {
			return each(c.Items, func(i compare.Item) string {
				if i.To == "" {
					return "whether the extension " + i.Subject + " is switched on is not said any more"
				}
				return "the extension " + i.Subject + map[string]string{"yes": " was switched on", "no": " was switched off"}[i.To]
			})
		}
		return ""
	},
	facts.ListPrograms: func(w *wording, c compare.Change) string {
		n := len(c.Items)
		named := each(c.Items, func(i compare.Item) string { return i.Subject })
		switch {
		case c.Field == "touched":
			return fmt.Sprintf("%s touched, and not by when %s changed: mode or owner, or written anew with the old time: %s", were(n, "program file"), map[bool]string{true: "it says it", false: "they say they"}[n == 1], named)
		case c.What == compare.Came:
			return fmt.Sprintf("%s %s: %s", Count(n, "new program file", "new program files"), w.versions(), named)
		case c.What == compare.Went:
			return fmt.Sprintf("%s gone %s: %s", isAre(n, "program file"), w.versions(), named)
		}
		return fmt.Sprintf("%s changed %s: %s", Count(n, "program file", "program files"), w.versions(), named)
	},
	facts.ListClasses: func(w *wording, c compare.Change) string {
		return each(c.Items, func(i compare.Item) string { return w.entries(c, i) })
	},
	"follow_ups": func(_ *wording, c compare.Change) string {
		return each(c.Items, func(i compare.Item) string {
			if c.What == compare.Changed {
				return fmt.Sprintf("a follow-up was put from %s to %s: %s", i.From, i.To, i.Subject)
			}
			return map[compare.What]string{compare.Came: "a new follow-up on ", compare.Went: "no follow-up any more on "}[c.What] + i.To + ": " + i.Subject
		})
	},
	"accept": func(_ *wording, c compare.Change) string {
		return each(c.Items, func(i compare.Item) string {
			switch c.What {
			case compare.Came:
				return fmt.Sprintf("%s is accepted %s: %s", i.Subject, i.To, i.Note)
			case compare.Went:
				return fmt.Sprintf("%s is accepted no more (it was %s: %s)", i.Subject, i.From, i.Note)
			}
			return fmt.Sprintf("%s is accepted %s, and was %s", i.Subject, i.To, i.From)
		})
	},
}

func were(n int, one string) string {
	if n == 1 {
		return "1 " + one + " was"
	}
	return fmt.Sprintf("%d %ss were", n, one)
}

func isAre(n int, one string) string {
	if n == 1 {
		return "1 " + one + " is"
	}
	return fmt.Sprintf("%d %ss are", n, one)
}

// versions says that no version changed with program files, where versions were seen: those that did carry their files with them.
func (w *wording) versions() string {
	for _, u := range w.c.Unseen {
		if slices.Contains(u.Names, facts.SystemVersion.Name) {
			return "(whether a version did was not seen)"
		}
	}
	if !slices.ContainsFunc(w.c.After.Sources, func(a facts.Asked) bool { return a.Source == facts.Settings }) {
		return "(whether a version did was not seen)"
	}
	return "and no version did"
}

// entries says what became of an entry of the tree, or of several that are alike.
func (w *wording) entries(c compare.Change, i compare.Item) string {
	switch {
	case c.Field == "mode" && i.Count > 0:
		from, to := i.From, i.To
		if mode, whose, _ := strings.Cut(from, " "); strings.HasSuffix(to, " "+whose) {
			from, to = mode, strings.TrimSuffix(to, " "+whose)
		}
		return fmt.Sprintf("%d %s: they were %s and are %s%s", i.Count, i.Subject, from, to, told(i.Note))
	case c.Field == "mode", c.Field == "owner", c.Field == "group":
		return fmt.Sprintf("%s was %s on %s and %s on %s", i.Subject, i.From, w.day(w.c.Before.Taken), i.To, w.day(w.c.After.Taken))
	case c.Field == "answer":
		return fmt.Sprintf("%s: %s by the web server, and %s before", i.Subject, i.To, i.From)
	case c.Field != "":
		return fmt.Sprintf("%s of %s changed%s", words(c.Field), i.Subject, fromTo(i))
	case i.Count > 0 && c.What == compare.Came:
		return fmt.Sprintf("%d more of these: %s; there are %s, and were %s", i.Count, i.Subject, i.To, i.From)
	case i.Count > 0:
		return fmt.Sprintf("%d fewer of these: %s; there are %s, and were %s", i.Count, i.Subject, i.To, i.From)
	case c.What == compare.Came:
		return fmt.Sprintf("%s is new%s", i.Subject, told(i.To))
	case c.What == compare.Went:
		return fmt.Sprintf("%s is gone%s", i.Subject, told(i.From))
	}
	return ""
}

// day is a day, and the hour where both looks are of one.
func (w *wording) day(at time.Time) string {
	layout := "2 January 2006"
	if w.c.Before.Taken.Format(time.DateOnly) == w.c.After.Taken.Format(time.DateOnly) {
		layout += ", 15:04:05"
	}
	return at.UTC().Format(layout)
}

// each says the first few of several.
func each(items []compare.Item, say func(compare.Item) string) string {
	var said []string
	for _, i := range items[:min(len(items), shown)] {
		if text := say(i); text != "" {
			said = append(said, text)
		}
	}
	if more := len(items) - shown; more > 0 && len(said) > 0 {
		said = append(said, fmt.Sprintf("%d more", more))
	}
	return strings.Join(said, "; ")
}

func told(text string) string {
	if text == "" {
		return ""
	}
	return " (" + facts.Shorten(text, 100) + ")"
}

func fromTo(i compare.Item) string {
	switch {
	case i.List && i.From == "":
		return ": new in it is " + quoted(i.To)
	case i.List && i.To == "":
		return ": " + quoted(i.From) + " is not in it any more"
	case i.List:
		return ": new in it is " + quoted(i.To) + ", and not any more " + quoted(i.From)
	}
	return " from " + quoted(i.From) + " to " + quoted(i.To)
}

var plainValue = regexp.MustCompile(`^[\d.,:+-]+( ?(KiB|MiB|GiB|bytes|[smh]|ms))*$|^(yes|no)$|^\d+(h|m|s)[\dhms]*$`)

// quoted is a value in a sentence: numbers and words as they are, texts in quotation marks.
func quoted(value string) string {
	switch {
	case value == "":
		return "nothing"
	case plainValue.MatchString(value):
		return value
	}
	return "“" + facts.Shorten(value, 120) + "”"
}

// judgedAs groups deviations by what became of them and by rule.
func judgedAs(c *compare.Comparison) []Judged {
	all := []Judged{}
	for _, of := range []struct {
		became string
		list   []compare.Verdict
	}{{"new", c.New}, {"worse", c.Worse}, {"better", c.Better}, {"gone", c.Gone}} {
		from := len(all)
		var says [][]string
		for _, d := range of.list {
			i := slices.IndexFunc(all[from:], func(j Judged) bool { return j.Rule == d.Rule && j.Severity == d.Severity })
			if i < 0 {
				i = len(all) - from
				all, says = append(all, Judged{Became: of.became, Rule: d.Rule, Severity: d.Severity}), append(says, nil)
			}
			text := d.Says
			if d.Was != 0 {
				text = strings.TrimSuffix(text, ".") + fmt.Sprintf(" (it was %s).", d.Was)
			}
			says[i] = append(says[i], text)
		}
		for i, sentences := range says {
			all[from+i].Count = len(sentences)
			all[from+i].Says = folded(sentences)
		}
		slices.SortStableFunc(all[from:], func(a, b Judged) int { return int(a.Severity) - int(b.Severity) })
	}
	return all
}

// aside says what else is another: baseline, dialect, program; and which deviations come of that.
func (w *wording) aside() []string {
	c, said := w.c, []string{}
	differ := func(what, was, is string) {
		if was != is && was != "" && is != "" {
			said = append(said, fmt.Sprintf("%s is another: it was %s, and is %s.", what, was, is))
		}
	}
	differ("The baseline", c.Before.Baseline, c.After.Baseline)
	differ("The dialect", c.Before.Dialect, c.After.Dialect)
	differ("The program", c.Before.Tool, c.After.Tool)
	differ("The stage", c.Before.Stage, c.After.Stage)
	type key struct {
		cause compare.Cause
		now   bool
	}
	rules := map[key][]string{}
	var order []key
	for _, d := range c.Aside {
		k := key{d.Cause, d.Now}
		if rules[k] == nil {
			order = append(order, k)
		}
		rules[k] = append(rules[k], d.Rule)
	}
	for _, k := range order {
		said = append(said, asideSays[k.cause][map[bool]int{false: 0, true: 1}[k.now]]+counted(rules[k])+".")
	}
	return said
}

// asideSays are the beginnings of sentences on deviations that are there in the earlier look only, and in the later one only.
var asideSays = map[compare.Cause][2]string{
	compare.NewRule:   {"The baseline has these rules no more, or they were not asked for: ", "The baseline has a new rule, or one that was not asked for before: "},
	compare.NotJudged: {"Could not be seen this time, so it is not known whether it still deviates: ", "Could not be seen before, and deviates now: "},
	compare.Passed:    {"It was so only while something else stood in the place of the site, which was closed or did not answer: ", "It is so while something else stands in the place of the site: "},
	compare.Rejudged:  {"Judged otherwise by baseline or program, while the site is the same; no longer told: ", "Judged otherwise by baseline or program, while the site is the same; told now: "},
	compare.Wished:    {"No longer told, since the site file says something else: ", "Told now, since the site file says something else: "},
	compare.Reread:    {"No longer told, since the dialect reads otherwise: ", "Told now, since the dialect reads more, or otherwise: "},
}

// counted names rules, each with how often.
func counted(rules []string) string {
	times := map[string]int{}
	for _, r := range rules {
		times[r]++
	}
	var names []string
	for _, name := range slices.Sorted(maps.Keys(times)) {
		if times[name] > 1 {
			name = fmt.Sprintf("%s ×%d", name, times[name])
		}
		names = append(names, name)
	}
	return List(names)
}

// unseen says what was seen in one look only.
func (w *wording) unseen() []string {
	said := []string{}
	for _, u := range w.c.Unseen {
		names := w.names(u.Names)
		switch {
		case u.Reader == "dialect" && u.Now:
			said = append(said, fmt.Sprintf("The dialect %s does not read what %s read: %s.", w.c.After.Dialect, w.c.Before.Dialect, names))
		case u.Reader == "dialect":
			said = append(said, fmt.Sprintf("The dialect %s reads what %s did not: %s.", orNoDialect(w.c.After.Dialect), orNoDialect(w.c.Before.Dialect), names))
		case u.Reader == "tool" && u.Now:
			said = append(said, fmt.Sprintf("The program does not look any more at: %s.", names))
		case u.Reader == "tool":
			said = append(said, fmt.Sprintf("The program looks at more than it did: %s.", names))
		case u.Now:
			said = append(said, fmt.Sprintf("Could not be seen this time: %s: %s.", names, strings.TrimSuffix(u.Because, ".")))
		default:
			said = append(said, fmt.Sprintf("Could not be seen before: %s: %s.", names, strings.TrimSuffix(u.Because, ".")))
		}
	}
	return said
}

func orNoDialect(dialect string) string {
	if dialect == "" {
		return "none"
	}
	return dialect
}

// names says which facts: lists by what is in them, settings by name, and of many only how many.
func (w *wording) names(names []string) string {
	var lists, terms []string
	of := map[facts.Source]int{}
	for _, name := range names {
		if nouns[name][1] != "" {
			lists = append(lists, nouns[name][1])
			continue
		}
		for list := range nouns {
			if field, its := strings.CutPrefix(name, list+"."); its {
				name = words(field) + " of " + nouns[list][1]
				break
			}
		}
		source, _ := facts.SourceOf(name)
		of[source]++
		terms = append(terms, name)
	}
	if len(terms) > 2*shown {
		terms = nil
		for _, source := range slices.Sorted(maps.Keys(of)) {
			text := Count(of[source], "fact", "facts")
			if source != 0 {
				text += " of " + source.String()
			}
			terms = append(terms, text)
		}
	}
	return List(append(lists, terms...))
}
