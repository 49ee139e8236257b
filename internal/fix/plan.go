// Package fix puts deviations right: it plans the changes and shows what each can break, makes those that were
// asked for, looks whether they took, and takes them back.
//
// Nothing is written but by Write and Undo. Every write compares the old value first, and is in the journal before
// it happens. The package may import facts, dialect, store, tree and source/files; how to look again it is given.
package fix

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/files"
	"weltaxis/internal/store"
	"weltaxis/internal/tree"
)

// The kinds of change that are made from here. What is of no such kind is for a person.
const (
	Setting = "setting" // one neutral setting
	Field   = "field"   // a field of one page's own record
	File    = "file"    // a line of a file
	Modes   = "modes"   // the permissions of a class of files
	Purge   = "purge"   // a cache is emptied
	Person  = "person"  // steps, or what is not to be done from here
)

// A Change is one thing to do, in its place, with what it can break.
type Change struct {
	ID      int          `json:"id"`
	Rules   []string     `json:"rules"` // that deviate, and will not
	Kind    string       `json:"kind"`
	Name    string       `json:"name"`    // of the setting or field; the folder of a cache
	Subject string       `json:"subject"` // page or class; "" for the site
	From    facts.Value  `json:"from"`
	To      facts.Value  `json:"to"`
	Origin  facts.Origin `json:"origin"`
	Risk    facts.Risk   `json:"risk"`
	Because string       `json:"because"` // why it has that risk
	Lasting bool         `json:"lasting,omitempty"`
	Needs   string       `json:"needs,omitempty"` // what a person must say first
	Key     string       `json:"key,omitempty"`   // under which they say it: --value KEY=...
	Or      string       `json:"or,omitempty"`    // what they may say instead
	Cannot  string       `json:"cannot,omitempty"`
	Steps   []string     `json:"steps,omitempty"`
	Edits   []store.Edit `json:"-"`
	Members []tree.Entry `json:"-"` // of the class, as they were planned
	// Class is in what the entries are alike whose modes change.
	Class *facts.Likeness `json:"class,omitempty"`

	line     *facts.Line
	severity facts.Severity
	page     string // path of the record
}

// A Plan is what would put a site right, in the order in which it is done.
type Plan struct {
	Changes []Change
	Discern func(string) string // takes secrets out of a text that is to be shown
	clients map[string]string   // by database: the command that takes SQL for it
}

// Wishes are what a plan is made from.
type Wishes struct {
	Deviations []facts.Deviation
	Dialect    *dialect.Dialect // nil when the site file names none
	Stores     store.Options
	FilesRoot  string            // "" when the tree is not to be touched
	WebUser    string            // the user the web server runs as, "" when nobody said
	Values     map[string]string // what a person has said, by setting, or page.PATH.FIELD
	Pages      bool              // a page cache may hold what was
	// Made are the files, below the served folder, that are served though they are not there: the content system
	// makes them, and a file in their place would hide what it says.
	Made []string
}

// New works out the plan. Nothing is written. The error is that of a context, of stores that cannot be opened, or
// of a value that cannot be one.
func New(ctx context.Context, w Wishes) (*Plan, error) {
	p := &planning{Wishes: w, plan: &Plan{Discern: func(text string) string { return text }}}
	if w.Dialect != nil {
		site, err := store.Open(ctx, w.Dialect, w.Stores)
		if err != nil {
			return nil, err
		}
		defer site.Close()
		p.site = site
		p.plan.Discern, p.plan.clients = site.Discreet, site.Clients()
	}
	p.collect()
	if err := p.values(); err != nil {
		return nil, err
	}
	p.order()
	p.edits(ctx)
	if err := p.members(ctx); err != nil {
		return nil, err
	}
	p.purge()
	for i := range p.plan.Changes {
		p.plan.Changes[i].ID = i + 1
	}
	return p.plan, ctx.Err()
}

type planning struct {
	Wishes
	site *store.Installation
	plan *Plan
}

// collect makes changes of proposals; what several rules propose of one setting or class is one change.
func (p *planning) collect() {
	for _, d := range p.Deviations {
		if d.Accepted != nil {
			continue
		}
		made := false
		for _, c := range d.Fix.Changes {
			change := Change{Rules: []string{d.Rule}, Kind: Setting, Name: c.Name, From: c.From, To: c.To, Origin: c.Origin, Risk: d.Fix.Risk, Lasting: d.Fix.Lasting,
				Needs: c.Hint, Key: c.Name, severity: d.Severity}
			if c.Name == "mode" {
				change.Kind, change.Subject, change.Key = Modes, d.Subject, ""
				if class, is := d.Item.(*facts.Class); is {
					likeness := class.Likeness()
					change.Class = &likeness
				}
			}
			p.merge(change)
			made = true
		}
		if d.Fix.Write != nil && p.Dialect != nil {
			p.merge(Change{Rules: []string{d.Rule}, Kind: File, Name: path.Join(p.Dialect.Public, d.Fix.Write.File), Subject: d.Fix.Write.Line, Risk: d.Fix.Risk, Steps: d.Fix.Steps, severity: d.Severity,
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
			steps := d.Fix.Steps
			if len(steps) == 0 {
				steps = []string{"What the rule would set is set already, so the cause lies elsewhere, often in another change of this plan. Look again when that is made."}
			}
			p.merge(Change{Rules: []string{d.Rule}, Kind: Person, Name: d.Rule, Subject: d.Subject, Risk: d.Fix.Risk, Steps: steps, severity: d.Severity})
		}
	}
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
	return Change{Rules: []string{d.Rule}, Kind: Field, Name: d.Fix.Field, Subject: d.Subject, Risk: d.Fix.Risk, Key: key, Needs: strings.Join(d.Fix.Steps, " "),
		Steps: d.Fix.Steps, severity: d.Severity, page: slug, Origin: facts.Origin{Table: list.Table, Column: column.At}}, true
}

func (p *planning) merge(c Change) {
	i := slices.IndexFunc(p.plan.Changes, func(o Change) bool {
		return o.Kind == c.Kind && o.Name == c.Name && (o.Subject == c.Subject || c.Kind == Person)
	})
	if i < 0 {
		p.plan.Changes = append(p.plan.Changes, c)
		return
	}
	o := &p.plan.Changes[i]
	if !slices.Contains(o.Rules, c.Rules[0]) {
		o.Rules = append(o.Rules, c.Rules[0])
	}
	switch {
	case c.Kind == Modes: // each takes some bits away
		o.To = facts.NumberOf(facts.Mode, o.To.Number()&c.To.Number())
	case o.To.Type() == "":
		o.To = c.To
	}
	o.Risk = max(o.Risk, c.Risk)
	o.Needs = cmp.Or(o.Needs, c.Needs)
	if c.Kind == Person && c.Subject != o.Subject && !strings.Contains(o.Subject, c.Subject) {
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
	}
	for _, key := range slices.Sorted(maps.Keys(p.Values)) {
		if used[key] {
			continue
		}
		change := Change{Kind: Setting, Name: key, Key: key, Rules: []string{}, Risk: facts.Visible}
		setting, known := facts.Setting(key)
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
		p.plan.Changes = append(p.plan.Changes, change)
	}
	return nil
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
	if c.Kind == Field {
		name = facts.ListRecords + "." + c.Name
	}
	entry, _ := facts.Lookup(name)
	return entry
}

func (c Change) parse(text string) (facts.Value, error) {
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
// person looks at one by one late, the address last of the settings, then permissions, then caches.
func (c Change) rank() int {
	switch {
	case c.Kind == Field:
		return 50
	case c.Kind == File:
		return 55
	case c.Kind == Modes:
		return 80
	case c.Kind == Purge:
		return 90
	case c.Kind == Person:
		return 100
	}
	return c.term().Change
}

func (p *planning) order() {
	slices.SortStableFunc(p.plan.Changes, func(a, b Change) int { return a.rank() - b.rank() })
}

// edits works out how each is written, and says of each that cannot be why not.
func (p *planning) edits(ctx context.Context) {
	for i := range p.plan.Changes {
		c := &p.plan.Changes[i]
		if c.Kind != Setting && c.Kind != Field && c.Kind != File {
			continue
		}
		c.Because = cmp.Or(c.Because, whyRisk(c.Risk, c.term()))
		if c.To.Type() == "" {
			c.Needs = cmp.Or(c.Needs, "a value that only a person can say")
			continue
		}
		c.Or, c.Needs = c.Needs, ""
		if p.site == nil {
			c.cannot(errors.New("the site file names no dialect, so where it is stored is not known"))
			continue
		}
		edits, err := p.editsOf(ctx, c)
		if err != nil {
			c.cannot(err)
			continue
		}
		c.Edits = edits
	}
	p.together()
	p.plan.Changes = slices.DeleteFunc(p.plan.Changes, func(c Change) bool {
		return (c.Kind == Setting || c.Kind == Field || c.Kind == File) && c.Cannot == "" && c.Needs == "" && len(c.Edits) == 0 // it is so already
	})
}

// together lets what one deviation changes wait for all its values: a front page that shows a page, and no page, is
// worse than what was.
func (p *planning) together() {
	for i := range p.plan.Changes {
		c := &p.plan.Changes[i]
		if c.Kind != Setting || c.Needs != "" {
			continue
		}
		for _, o := range p.plan.Changes {
			if o.Kind == Setting && o.Needs != "" && o.To.Type() == "" && slices.ContainsFunc(o.Rules, func(rule string) bool { return slices.Contains(c.Rules, rule) }) {
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

func (p *planning) editsOf(ctx context.Context, c *Change) ([]store.Edit, error) {
	var edits []store.Edit
	var err error
	if c.Kind == Field {
		edits, err = fieldEdits(ctx, p.site, c)
	} else if c.Kind == File {
		edits, err = fileEdits(p.site, c)
		if err == nil && len(edits) == 1 && edits[0].Before == nil && slices.Contains(p.Made, c.line.File) {
			return nil, errors.New("there is no such file: the content system makes it, and a file in its place would hide what it says")
		}
	} else {
		setting, mapped := p.Dialect.Settings[c.Name]
		if !mapped {
			return nil, fmt.Errorf("the dialect %s does not say where it lives", p.Dialect.Name)
		}
		if c.Origin.Screen == "" {
			c.Origin.Screen = setting.Screen
		}
		edits, err = p.site.PlanSetting(ctx, setting, c.To)
		if readings, readErr := readSetting(ctx, p.site, setting); readErr == nil {
			c.From = readings
		}
	}
	return slices.DeleteFunc(edits, store.Edit.Nothing), err
}

// fileEdits plans a line of a file; what stands there now is shown as the value before.
func fileEdits(site *store.Installation, c *Change) ([]store.Edit, error) {
	edit, err := site.PlanLine(c.Name, c.line.Start, c.line.Line)
	if err != nil {
		return nil, err
	}
	c.From, c.To = facts.TextOf(facts.String, "(no such file)"), facts.TextOf(facts.String, "(the file)")
	if edit.Before != nil {
		c.From, c.To = facts.TextOf(facts.String, "(no such line)"), facts.TextOf(facts.String, c.line.Line)
	}
	c.Origin = facts.Origin{File: c.Name}
	return []store.Edit{edit}, nil
}

// fieldEdits finds the page's record and plans its field.
func fieldEdits(ctx context.Context, site *store.Installation, c *Change) ([]store.Edit, error) {
	list, mapped := site.Dialect.Lists["pages"]
	column, has := list.Columns[c.Name]
	if !mapped || !has {
		return nil, fmt.Errorf("the dialect %s does not say where a page's %s lives", site.Dialect.Name, c.Name)
	}
	rows, err := site.List(ctx, list)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		if slug, _ := dialect.Text(row.Values["path"]); strings.Trim(slug, "/") != c.page {
			continue
		}
		c.Origin = row.Origin
		if c.From, err = column.Value(c.term(), row.Values[c.Name]); err != nil {
			return nil, err
		}
		stored, err := column.Stored(c.term(), c.To, dialect.Like{Old: row.Values[c.Name]})
		if err != nil {
			return nil, err
		}
		edit, err := site.PlanField(list, "pages", row, c.Name, stored)
		return []store.Edit{edit}, err
	}
	return nil, fmt.Errorf("no page has %q in its address", c.page)
}

// members finds the entries of every class whose modes are to change.
func (p *planning) members(ctx context.Context) error {
	var classes []facts.Likeness
	for _, c := range p.plan.Changes {
		if c.Kind == Modes && c.Class != nil {
			classes = append(classes, *c.Class)
		}
	}
	if len(classes) == 0 {
		return nil
	}
	var members map[facts.Likeness][]tree.Entry
	if p.FilesRoot != "" {
		var err error
		if members, err = (&files.Source{Root: p.FilesRoot, Dialect: p.Dialect}).Members(ctx, classes); err != nil {
			return err
		}
	}
	for i := range p.plan.Changes {
		c := &p.plan.Changes[i]
		if c.Kind != Modes {
			continue
		}
		if c.Class != nil {
			c.Members = members[*c.Class]
		}
		if len(c.Members) == 0 {
			c.Cannot = "no entry of that class is there any more"
			continue
		}
		c.Risk, c.Because = modeRisk(uint32(c.From.Number()), uint32(c.To.Number()), c.runnable(), c.Origin.Owner, p.WebUser)
	}
	return nil
}

// runnable tells whether the permission to run means anything: for a folder it is that to enter, and of files only
// programs are run.
func (c Change) runnable() bool {
	return len(c.Members) > 0 && (c.Members[0].Kind == tree.Folder || c.Class != nil && c.Class.Content == "program")
}

// purge adds emptying the caches where something changes that visitors see.
func (p *planning) purge() {
	visible := slices.ContainsFunc(p.plan.Changes, func(c Change) bool { return c.Makeable() && (c.Kind == Setting || c.Kind == Field) })
	if p.Dialect == nil || !visible || !p.Pages {
		return
	}
	at := slices.IndexFunc(p.plan.Changes, func(c Change) bool { return c.Kind == Person })
	if at < 0 {
		at = len(p.plan.Changes)
	}
	for _, kept := range p.Dialect.Caches {
		if kept.Folder != "" && p.Stores.Root == "" {
			continue // it cannot be reached
		}
		p.plan.Changes = slices.Insert(p.plan.Changes, at, Change{Kind: Purge, Name: kept.Folder + kept.Purge, Rules: []string{}, Risk: facts.Visible,
			Because: "visitors wait a little longer until pages are kept again; until it is empty they may get old ones", Origin: facts.Origin{Path: kept.Folder, URL: kept.Purge}})
	}
}

// Makeable tells whether the change can be made from here, with what has been said.
func (c Change) Makeable() bool {
	return c.Kind != Person && c.Cannot == "" && c.Needs == "" && (c.Kind == Purge || c.Kind == Modes || len(c.Edits) > 0)
}

// Named narrows the plan to rules, areas, severities or settings; none leaves it whole. It returns the names that
// nothing answers to.
func (p *Plan) Named(names []string) (unknown []string) {
	if len(names) == 0 {
		return nil
	}
	used := map[string]bool{}
	p.Changes = slices.DeleteFunc(p.Changes, func(c Change) bool {
		wanted := c.Kind == Purge
		for _, name := range names {
			area := slices.ContainsFunc(c.Rules, func(rule string) bool { return rule == name || strings.HasPrefix(rule, name+".") })
			if area || c.severity.String() == name || c.Key == name {
				used[name], wanted = true, true
			}
		}
		return !wanted
	})
	if !slices.ContainsFunc(p.Changes, func(c Change) bool { return c.Kind == Setting || c.Kind == Field }) {
		p.Changes = slices.DeleteFunc(p.Changes, func(c Change) bool { return c.Kind == Purge }) // nothing a page shows
	}
	for _, name := range names {
		if !used[name] {
			unknown = append(unknown, name)
		}
	}
	return unknown
}
