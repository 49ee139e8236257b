// Package fix puts deviations right: it plans the changes and shows what each can break, makes those that were
// asked for, looks whether they took, and takes them back.
//
// Nothing is written but by Write and Undo. Every write compares the old value first, and is in the journal before
// it happens. The package may import facts, dialect, store, tree, orders, trial and source/files; how to look again it is given.
package fix

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"weltaxis/internal/amend"
	"weltaxis/internal/baseline"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
	"weltaxis/internal/nearest"
	"weltaxis/internal/secrets"
	"weltaxis/internal/source/files"
	"weltaxis/internal/source/server"
	"weltaxis/internal/store"
	"weltaxis/internal/tree"
	"weltaxis/internal/trial"
)

// A Change is one thing to do, in its place, with what it can break.
type Change struct {
	ID      int          `json:"id"`
	Rules   []string     `json:"rules"` // that deviate, and will not
	Kind    Kind         `json:"kind"`
	Name    string       `json:"name"`    // of the setting or field; the folder of a cache
	Subject string       `json:"subject"` // page or class; "" for the site
	From    facts.Value  `json:"from"`
	To      facts.Value  `json:"to"`
	Origin  facts.Origin `json:"origin"`
	Risk    facts.Risk   `json:"risk"`
	Because string       `json:"because"` // why it has that risk
	Noticed []facts.Who  `json:"noticed"` // who notices
	Lasting bool         `json:"lasting,omitempty"`
	Step    bool         `json:"step,omitempty"`  // one of several
	Needs   string       `json:"needs,omitempty"` // what a person must say first
	Key     string       `json:"key,omitempty"`   // under which they say it: --value KEY=...
	Or      string       `json:"or,omitempty"`    // what they may say instead
	Cannot  string       `json:"cannot,omitempty"`
	After   []string     `json:"after,omitempty"` // rules to put right before, since this lets search engines in
	Steps   []string     `json:"steps,omitempty"`
	Group   string       `json:"group,omitempty"` // what is made and taken back together; "" for what stands alone
	Edits   []store.Edit `json:"-"`
	Members []tree.Entry `json:"-"` // of the class, as they were planned
	// Class is in what the entries are alike whose modes change.
	Class *facts.Likeness `json:"class,omitempty"`
	// Also is what it changes besides, at addresses that were not asked about, and RunAs who has to make it, where that is somebody else.
	Also []string `json:"also,omitempty"`
	// Besides is what a database does besides when it is changed.
	Besides []string `json:"besides,omitempty"`
	// Mind is what practitioners have seen break after such a change.
	Mind []string `json:"mind,omitempty"`
	// Judged are the rules that would deviate with a value that a person has said, and do not now, with what they say.
	Judged []string `json:"judged,omitempty"`
	RunAs  string   `json:"run_as,omitempty"`
	// Untested is why the server's own test can tell nothing of it, and Trial how it was tested.
	Untested string `json:"untested,omitempty"`
	Trial    *Trial `json:"trial,omitempty"`

	line      *facts.Line
	wish      *facts.Wish // what the server or the runtime ought to be told
	folder    string      // of the site, for the runtime
	args      []string    // the command that has a server read again
	reads     []string    // the files that it reads then, of those that are planned
	addresses []string
	parts     []string // what it changes, each by itself
	done      bool     // it is so already
	asked     bool     // by name, of what ends a run
	severity  facts.Severity
	page      string   // path of the record
	secret    string   // the text of a setting that is one
	meant     []int    // what addresses may answer afterwards, since that is meant
	about     []string // subjects of the deviations that it is to settle
	effects   []int    // what is looked for afterwards, of aftereffects
	watch     []string // the addresses, or paths, at which that is seen
	again     again    // when somebody is to look again
	beside    uint32   // bits that another change takes from the same entries
}

// A Trial is how a change of what servers are told was tested.
type Trial struct {
	By       string   `json:"by"`                 // the program, and as whom it ran
	Replaced []string `json:"replaced,omitempty"` // what stood in the private copy in place of what is there
	Left     []string `json:"left,omitempty"`     // what was not tested
}

// A Plan is what would put a site right, in the order in which it is done.
type Plan struct {
	Changes []Change
	As      string                  // the user that it is made as, where that is not whoever asked for it
	Discern func(string) string     // takes secrets out of a text that is to be shown
	Already []string                // what a person has said that is so already
	clients map[string]store.Client // by database
	reveal  bool
	loaders []Loader // of what is told something in it
}

// Wishes are what a plan is made from.
type Wishes struct {
	Deviations []facts.Deviation
	Covered    []facts.Deviation // what is settled with others; of modes all is settled in one run
	Dialect    *dialect.Dialect  // nil when the site file names none
	Stores     store.Options
	FilesRoot  string            // "" when the tree is not to be touched
	Tree       *files.Source     // that tree, as it was looked at; nil for one without a site file
	WebUser    string            // the user the web server runs as, "" when nobody said
	Values     map[string]string // what a person has said, by setting, or page.PATH.FIELD
	// Known are the pages that the content system keeps; nil where nobody has seen which. Judged says which rules deviate once a setting has a value, that
	// do not now or that it is to settle, with what they say; nil where nobody can tell.
	Known  []facts.Record
	Judged func(setting facts.Term, value facts.Value, settles []string) []string
	Pages  bool // a page cache may hold what was
	// Made are the files, below the served folder, that are served though they are not there: the content system
	// makes them, and a file in their place would hide what it says.
	Made []string
	// Excluded are paths that the page cache leaves out, and Spellings other spellings of the site's address.
	Excluded  []string
	Spellings []facts.Spelling
	// World is what the servers and the runtime have been told; nil where nobody looks at it. Home is the address of the home page,
	// Loaders have servers read it again, which Reload asks for, and Try is the servers' own test of files as they might be.
	World *amend.World
	// Seen are the pages of the site, to which what was lost may lead.
	Seen    []facts.Page
	Home    string
	Loaders []Loader
	Reload  bool
	Try     func(ctx context.Context, files map[string][]byte) trial.Verdict
	// Secrets are texts of settings that are secrets, which this program made or was given for that.
	Secrets map[string]string
	// Shut is how the web server is to close or lock the site; nil for not at all.
	Shut *facts.Shut
	// Reveal shows what looks like a secret, and is hidden else.
	Reveal bool
}

// New works out the plan. Nothing is written. The error is that of a context, of stores that cannot be opened, or
// of a value that cannot be one.
func New(ctx context.Context, w Wishes) (*Plan, error) {
	p := &planning{Wishes: w, plan: &Plan{As: identity.ActingName(), Discern: func(text string) string { return text }}}
	if w.Dialect != nil {
		site, err := store.Open(ctx, w.Dialect, w.Stores)
		if err != nil {
			return nil, err
		}
		defer site.Close()
		p.site = site
		p.plan.Discern, p.plan.clients = site.Discreet, site.Clients()
	}
	if discreet := p.plan.Discern; !w.Reveal {
		p.plan.Discern = func(text string) string { return secrets.Mask(discreet(text)) }
	}
	for _, secret := range w.Secrets {
		discern := p.plan.Discern
		p.plan.Discern = func(text string) string {
			return strings.ReplaceAll(discern(strings.ReplaceAll(text, secret, secrets.Hidden)), secret, secrets.Hidden)
		}
	}
	p.plan.reveal = w.Reveal
	p.collect()
	if err := p.values(); err != nil {
		return nil, err
	}
	p.open()
	p.order()
	if err := p.work(ctx); err != nil {
		return nil, err
	}
	p.finish()
	p.finishTold()
	for i := range p.plan.Changes {
		c := &p.plan.Changes[i]
		c.ID, c.Noticed = i+1, baseline.NoticedAt(c.Risk, c.Noticed)
	}
	return p.plan, ctx.Err()
}

type planning struct {
	Wishes
	site      *store.Installation
	plan      *Plan
	emptied   []string                        // rules that are put right by emptying the caches
	stale     []string                        // what they are about
	staleness facts.Severity                  // the worst of them
	about     string                          // subject of the deviation at hand
	servers   *server.Source                  // what they have been told, as things are; nil until it is read
	unread    bool                            // not all of it could be
	having    []part                          // who has a part in the site; nil until they are looked up
	members   map[facts.Likeness][]tree.Entry // of the classes whose modes change; nil until they are looked up
}

// collect makes changes of proposals; what several rules propose of one setting or class is one change.
func (p *planning) collect() {
	for _, d := range p.Deviations {
		if d.Accepted != nil {
			continue
		}
		made := false
		p.about = d.Subject
		for _, c := range d.Fix.Changes {
			p.merge(Change{Rules: []string{d.Rule}, Kind: Setting, Name: c.Name, From: c.From, To: c.To, Origin: c.Origin, Risk: d.Fix.Risk, Noticed: d.Fix.Noticed, Lasting: d.Fix.Lasting,
				Needs: c.Hint, Key: c.Name, Steps: d.Fix.Steps, severity: d.Severity})
			made = true
		}
		made = p.modes(d) || made
		made = p.empties(d) || made
		made = p.wish(d) || made
		if d.Fix.Write != nil && p.Dialect != nil {
			p.merge(Change{Rules: []string{d.Rule}, Kind: File, Name: path.Join(p.Dialect.Public, d.Fix.Write.File), Subject: cmp.Or(d.Fix.Write.Line, d.Fix.Write.Drop), Risk: d.Fix.Risk, Noticed: d.Fix.Noticed, Steps: d.Fix.Steps, severity: d.Severity,
				To: facts.TextOf(facts.String, strings.TrimSpace(d.Fix.Write.Start+d.Fix.Write.Line)), line: d.Fix.Write})
			made = true
		}
		if d.Fix.Field != "" && p.Dialect != nil {
			if change, ok := p.fieldOf(d); ok {
				p.merge(change)
				made = true
			}
		}
		if !made {
			p.merge(Change{Rules: []string{d.Rule}, Kind: Person, Name: d.Rule, Subject: d.Subject, Risk: d.Fix.Risk, Noticed: d.Fix.Noticed, Steps: d.Fix.Steps, severity: d.Severity})
		}
	}
	// What another rule asks of the same class is settled at once, so that one run is enough.
	for _, d := range p.Covered {
		if d.Accepted == nil && slices.ContainsFunc(p.plan.Changes, func(c Change) bool { return c.Class != nil && c.Subject == d.Subject }) {
			p.about = d.Subject
			p.modes(d)
		}
	}
}

// modes makes changes of a proposal of permissions.
func (p *planning) modes(d facts.Deviation) bool {
	class, is := d.Item.(*facts.Class)
	if !is || d.Fix.Mode == nil {
		return false
	}
	likeness := class.Likeness()
	for _, part := range modeParts(d.Fix.Mode) {
		p.merge(Change{Rules: []string{d.Rule}, Kind: Modes, Name: part.name, Subject: d.Subject, Class: &likeness, From: d.Fix.Mode.From, To: part.to, Origin: d.Fix.Mode.Origin,
			Risk: d.Fix.Risk, Noticed: d.Fix.Noticed, severity: d.Severity})
	}
	return true
}

// fieldOf is the change to the page's own record.
func (p *planning) fieldOf(d facts.Deviation) (Change, bool) {
	list, mapped := p.Dialect.Lists["pages"]
	column, has := list.Columns[d.Fix.Field]
	slug := path.Base(strings.Trim(d.Subject, "/"))
	if !mapped || !has || slug == "." || slug == "" {
		return Change{}, false
	}
	key := "page." + slug + "." + d.Fix.Field
	return Change{Rules: []string{d.Rule}, Kind: Field, Name: d.Fix.Field, Subject: d.Subject, Risk: d.Fix.Risk, Noticed: d.Fix.Noticed, Key: key, Needs: strings.Join(d.Fix.Steps, " "),
		Steps: d.Fix.Steps, severity: d.Severity, page: slug, Origin: facts.Origin{Table: list.Table, Column: column.At}}, true
}

func (p *planning) merge(c Change) {
	c.about = []string{p.about}
	i := slices.IndexFunc(p.plan.Changes, func(o Change) bool {
		return o.Kind == c.Kind && o.Name == c.Name && (o.Subject == c.Subject || rows[c.Kind].gathers)
	})
	if i < 0 {
		p.plan.Changes = append(p.plan.Changes, c)
		return
	}
	o := &p.plan.Changes[i]
	if !slices.Contains(o.Rules, c.Rules[0]) {
		o.Rules = append(o.Rules, c.Rules[0])
	}
	if !slices.Contains(o.about, p.about) {
		o.about = append(o.about, p.about)
	}
	if join := rows[c.Kind].join; join != nil {
		o.To = join(o.To, c.To)
	} else if o.To.Type() == "" {
		o.To = c.To
	}
	o.Risk = max(o.Risk, c.Risk)
	o.Noticed = slices.Concat(o.Noticed, c.Noticed)
	o.Needs = cmp.Or(o.Needs, c.Needs)
	if rows[c.Kind].gathers && c.Subject != o.Subject && !strings.Contains(o.Subject, c.Subject) {
		o.Subject += ", " + c.Subject
	}
}

// values puts in what a person has said. What was said of a setting that no rule asks about is a change as well:
// it was asked for.
func (p *planning) values() error {
	used := map[string]bool{}
	for i := range p.plan.Changes {
		c := &p.plan.Changes[i]
		text, said := p.Values[c.Key]
		if !said || c.Key == "" {
			continue
		}
		used[c.Key] = true
		to, err := c.parse(text)
		if err != nil {
			return err
		}
		c.To = to
		if err := p.wanted(c); err != nil {
			return err
		}
	}
	for _, key := range slices.Sorted(maps.Keys(p.Values)) {
		if used[key] {
			continue
		}
		change := Change{Kind: Setting, Name: key, Key: key, Rules: []string{}, Risk: facts.Visible, Noticed: []facts.Who{facts.Visitors, facts.Engines}}
		setting, known := facts.Setting(key)
		if known {
			change.Noticed = setting.SeenBy
		}
		if setting.Danger != "" {
			change.Risk = facts.Disruptive
		}
		if slug, field, is := pageKey(key); is {
			change.Kind, change.Name, change.page, change.Subject = Field, field, slug, slug
		} else if !known {
			return fmt.Errorf("there is no setting %q; a value is for a setting, as site.title=Text, or for a page, as page.NAME.title=Text", key)
		}
		to, err := change.parse(p.Values[key])
		if err != nil {
			return err
		}
		change.To = to
		if err := p.wanted(&change); err != nil {
			return err
		}
		p.plan.Changes = append(p.plan.Changes, change)
	}
	for _, key := range slices.Sorted(maps.Keys(p.Secrets)) {
		setting, _ := facts.Setting(key)
		p.plan.Changes = append(p.plan.Changes, Change{Kind: Setting, Name: key, Key: key, Rules: []string{}, Risk: facts.Visible, Noticed: setting.SeenBy, To: facts.SecretOf(p.Secrets[key]), secret: p.Secrets[key]})
	}
	if p.Shut != nil {
		p.plan.Changes = append(p.plan.Changes, p.shut())
	}
	return nil
}

// wanted holds a value that a person has said against what its setting takes, and notes which rules would deviate with it.
func (p *planning) wanted(c *Change) error {
	if c.wish != nil {
		return nil
	}
	term := c.term()
	if why := term.Wanted(c.To); why != "" {
		return fmt.Errorf("%s: %s", c.Key, why)
	}
	named := c.page
	if c.Kind == Setting && term.NamesPage() {
		named = c.To.Text()
	}
	if named != "" && p.Known != nil && !slices.ContainsFunc(p.Known, func(r facts.Record) bool { return pathOf(r) == strings.Trim(named, "/") }) {
		return fmt.Errorf("%s: the site has no page %q; %s", c.Key, facts.Shorten(named, 60), p.candidates(named))
	}
	if c.Kind == Setting && p.Judged != nil {
		c.Judged = p.Judged(term, c.To, c.Rules)
	}
	return nil
}

func pathOf(r facts.Record) string { return strings.Trim(r.Values["path"].Text(), "/") }

// fewCandidates is how many pages are named where one was named that is not there.
const fewCandidates = 8

// candidates are the pages that there are, those with a like name first.
func (p *planning) candidates(named string) string {
	var paths, says []string
	titles := map[string]string{}
	for _, r := range p.Known {
		paths, titles[pathOf(r)] = append(paths, pathOf(r)), r.Values["title"].Text()
	}
	slices.Sort(paths)
	if like := nearest.Word(strings.Trim(named, "/"), paths); like != "" {
		paths = append([]string{like}, slices.DeleteFunc(paths, func(path string) bool { return path == like })...)
	}
	for _, path := range paths[:min(len(paths), fewCandidates)] {
		says = append(says, fmt.Sprintf("%s (%s)", path, facts.Shorten(titles[path], 40)))
	}
	if more := len(paths) - len(says); more > 0 {
		says = append(says, fmt.Sprintf("and %d more", more))
	}
	return "there are " + strings.Join(says, ", ")
}

func pageKey(key string) (slug, field string, is bool) {
	rest, is := strings.CutPrefix(key, "page.")
	dot := strings.LastIndexByte(rest, '.')
	if !is || dot < 0 || !slices.Contains([]string{"title", "description", "indexable"}, rest[dot+1:]) {
		return "", "", false
	}
	return rest[:dot], rest[dot+1:], true
}

// term is the catalogue's row of what changes.
func (c Change) term() facts.Term {
	name := facts.Settings.Name(c.Name)
	if c.page != "" {
		name = facts.ListRecords + "." + c.Name
	}
	entry, _ := facts.Lookup(name)
	return entry
}

func (c Change) parse(text string) (facts.Value, error) {
	if c.wish != nil {
		return facts.TextOf(facts.String, text), nil
	}
	entry := c.term()
	v, err := entry.Type.Parse(text)
	switch {
	case entry.Type == facts.Secret:
		return v, fmt.Errorf("%s is a secret, which is not set from here; set it by hand", c.Key)
	case err != nil:
		return v, fmt.Errorf("%s: %w", c.Key, err)
	case !entry.Check(v):
		return v, fmt.Errorf("%s: %q is none of %s", c.Key, text, strings.Join(entry.Words, ", "))
	}
	return v, nil
}

// rank is the order in which things are done: what others depend on first, permalinks before the sitemap, what a
// person looks at one by one late, the address last of the settings, then permissions, then what ends a run.
func (c Change) rank() int {
	if place := rows[c.Kind].rank; place != nil {
		return place(c)
	}
	if c.opens() {
		return opening
	}
	return c.term().Change
}

// opening is the place in a run of what lets search engines in: after all that they would see.
const opening = 65

// open notes of what lets search engines in what they would see that is not in order.
func (p *planning) open() {
	for i := range p.plan.Changes {
		if c := &p.plan.Changes[i]; c.opens() {
			c.After = baseline.SeenFirst(p.Deviations)
		}
	}
}

// opens tells whether the change lets search engines in.
func (c Change) opens() bool {
	return c.Kind == Setting && c.term().Opens && c.To.Bool()
}

func (p *planning) order() {
	slices.SortStableFunc(p.plan.Changes, func(a, b Change) int { return a.rank() - b.rank() })
}

// work works out how each is made, and says of each that cannot be why not.
func (p *planning) work(ctx context.Context) error {
	for i := range p.plan.Changes {
		c := &p.plan.Changes[i]
		if plan := rows[c.Kind].plan; plan != nil {
			if err := plan(ctx, p, c); err != nil {
				if ctx.Err() != nil {
					return ctx.Err()
				}
				c.cannot(err)
			}
		}
		p.foresee(ctx, c)
	}
	p.together()
	p.plan.Changes = slices.DeleteFunc(p.plan.Changes, func(c Change) bool { return c.done })
	return nil
}

// together lets what one deviation changes wait for all its values: a front page that shows a page, and no page, is
// worse than what was.
func (p *planning) together() {
	for i := range p.plan.Changes {
		c := &p.plan.Changes[i]
		if c.Needs != "" || !rows[c.Kind].shown {
			continue
		}
		for _, o := range p.plan.Changes {
			if o.Kind == c.Kind && o.Needs != "" && o.To.Type() == "" && slices.ContainsFunc(o.Rules, func(rule string) bool { return slices.Contains(c.Rules, rule) }) {
				c.Needs = "it becomes " + c.To.String() + " together with " + o.Name + ", which needs a value"
				break
			}
		}
	}
}

func (c *Change) cannot(err error) {
	c.Cannot = facts.InWords(err)
	if c.Origin.Screen != "" {
		c.Steps = append(c.Steps, fmt.Sprintf("Set it by hand, at %s.", c.Origin.Screen))
	}
}

// Named narrows the plan to rules, areas, severities or settings; none leaves it whole. It returns the names that
// nothing answers to.
func (p *Plan) Named(names []string) (unknown []string) {
	if len(names) == 0 {
		return nil
	}
	used := map[string]bool{}
	p.Changes = slices.DeleteFunc(p.Changes, func(c Change) bool {
		wanted := c.Finisher()
		for _, name := range names {
			area := slices.ContainsFunc(c.Rules, func(rule string) bool { return rule == name || strings.HasPrefix(rule, name+".") })
			if area || c.severity.String() == name || c.Key == name {
				used[name], wanted = true, true
			}
		}
		return !wanted
	})
	// What a rule is settled by that was asked for is made for its own sake.
	for i := range p.Changes {
		c := &p.Changes[i]
		c.asked = c.Finisher() && slices.ContainsFunc(names, func(name string) bool {
			return slices.ContainsFunc(c.Rules, func(rule string) bool { return rule == name || strings.HasPrefix(rule, name+".") }) || c.severity.String() == name
		})
	}
	shown := slices.ContainsFunc(p.Changes, func(c Change) bool { return rows[c.Kind].shown })
	told := slices.ContainsFunc(p.Changes, func(c Change) bool { return rows[c.Kind].told && c.Makeable() })
	p.Changes = slices.DeleteFunc(p.Changes, func(c Change) bool { // nothing that a page shows, or that a server is told
		return c.Finisher() && !c.asked && (c.Kind == Reload && !told || c.Kind != Reload && !shown)
	})
	for _, name := range names {
		if !used[name] {
			unknown = append(unknown, name)
		}
	}
	return unknown
}
