package fix

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/amend"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/format"
	"weltaxis/internal/identity"
	"weltaxis/internal/orders"
	"weltaxis/internal/store"
	"weltaxis/internal/tree"
	"weltaxis/internal/trial"
)

// What a web server and a language runtime have been told is changed in their own files, and counts when they read these again.
var (
	serverRow  = toldRow("the web server, for ")
	runtimeRow = toldRow("the runtime, for ")
)

func toldRow(whose string) row {
	return row{
		rank:    always(58),
		title:   func(name, _ string, _ *facts.Likeness) string { return whose + name },
		plan:    planAmend,
		ready:   hasEdits,
		show:    showAmend,
		apply:   applyAmend,
		revert:  revertAmend,
		script:  scriptAmend,
		still:   notTook,
		payload: hadEdits,
		told:    true,
	}
}

// toldTogether is the group of all that is told servers and runtimes in a run: tested, loaded, looked at and taken back together.
const toldTogether = "server"

// loader is the directive by which the runtime runs something before every program.
const loader = "auto_prepend_file"

// loads is the whole path of a file below the site's root that the runtime is to run before every program; "" where it is none that lies there,
// since every page would end with an error, or is one that says more than a path.
func (p *planning) loads(name string) string {
	if p.Stores.Root == "" || !plainPath.MatchString("/"+name) {
		return ""
	}
	root, err := filepath.Abs(p.Stores.Root)
	if err != nil {
		return ""
	}
	in, err := tree.Open(root)
	if err != nil {
		return ""
	}
	defer in.Close()
	if e, err := in.Lstat(name); err != nil || e.Kind != tree.File {
		return ""
	}
	return filepath.Join(root, name)
}

// wish makes a change of what the server or the runtime ought to be told. What a rule wishes of several addresses is one change.
func (p *planning) wish(d facts.Deviation) bool {
	if d.Fix.Wish == nil || p.World == nil {
		return false
	}
	kind := Server
	if d.Fix.Kind == facts.KindRuntime {
		kind = Runtime
	}
	wished := *d.Fix.Wish
	if loads := wished.Directives[loader]; loads != "" {
		full := p.loads(loads)
		if full == "" {
			return false
		}
		wished.Directives = maps.Clone(wished.Directives)
		wished.Directives[loader] = full
	}
	c := Change{Rules: []string{d.Rule}, Kind: kind, Name: d.Rule, Risk: d.Fix.Risk, Noticed: d.Fix.Noticed, Lasting: d.Fix.Lasting, Step: d.Fix.Step, Steps: d.Fix.Steps, severity: d.Severity, Group: toldTogether, wish: &wished}
	about := d.Item
	if d.Subject == baseline.SiteSubject { // as configured it has the answer for the home page
		about = nil
	}
	spelt := func(address string) {
		c.Subject, c.addresses, wished.To = address, []string{address}, p.Home
		wished.Posts = p.postedBelow(address)
	}
	switch item := about.(type) {
	case *facts.Spelling:
		spelt(item.Address)
	case *facts.Page:
		c.addresses = []string{item.Address}
	case *facts.Answer:
		if c.addresses = []string{item.Address}; wished.Unify {
			spelt(item.Address)
		}
	case *facts.Asset:
		c.addresses = []string{item.Address}
	case *facts.Repeat:
		c.addresses = []string{item.Address}
	case *facts.Folder:
		c.Subject, c.folder = item.Address, item.Address
	default:
		c.folder, c.addresses = "/", []string{p.Home}
	}
	switch {
	case wished.Lead:
		return p.lead(d, c)
	case wished.Encrypt:
		wished.To = p.Home
		_, host, _ := strings.Cut(p.Home, "://")
		c.addresses = []string{"http://" + host}
		wished.Posts = p.postedBelow(c.addresses[0])
		for _, r := range d.Readings { // the one that was seen to stay without
			if at := r.Origin.URL; r.FullName() == facts.LiveEncrypts.Name && strings.HasPrefix(at, "http://") && !slices.Contains(c.addresses, at) {
				c.addresses = append(c.addresses, at)
			}
		}
	}
	i := slices.IndexFunc(p.plan.Changes, func(o Change) bool { return o.Kind == kind && o.Name == c.Name && o.Subject == c.Subject })
	if i < 0 {
		c.about = []string{p.about}
		p.plan.Changes = append(p.plan.Changes, c)
		return true
	}
	o := &p.plan.Changes[i]
	o.addresses, o.about = append(o.addresses, c.addresses...), append(o.about, p.about)
	return true
}

// amendTime is how long one amendment is worked out, however large the configuration is.
const amendTime = 30 * time.Second

// work works an amendment out as things are now.
func (c *Change) work(outer context.Context, w *amend.World) (*amend.Amendment, error) {
	ctx, cancel := context.WithTimeout(outer, amendTime)
	defer cancel()
	am, err := c.workedOut(ctx, w)
	if ctx.Err() != nil && outer.Err() == nil {
		return nil, fmt.Errorf("working it out for all addresses takes longer than %s", amendTime)
	}
	return am, err
}

func (c *Change) workedOut(ctx context.Context, w *amend.World) (*amend.Amendment, error) {
	if c.Kind == Runtime {
		return amend.ForRuntime(ctx, *w, *c.wish, c.folder)
	}
	var addresses []url.URL
	for _, text := range c.addresses {
		u, err := url.Parse(text)
		if err != nil {
			return nil, err
		}
		addresses = append(addresses, *u)
	}
	return amend.For(ctx, *w, *c.wish, addresses)
}

func planAmend(ctx context.Context, p *planning, c *Change) error {
	if c.wish.Lead {
		if err := p.leadsSomewhere(c); err != nil || c.Needs != "" {
			return err
		}
	}
	am, err := c.work(ctx, p.World)
	if err != nil {
		return err
	}
	c.take(am)
	if len(c.Edits) == 0 {
		return errors.New("what is told there is right already, so what deviates comes from elsewhere, as a program behind it")
	}
	c.Because = "what the web server answers changes for everybody"
	if c.Kind == Runtime {
		c.Because = "all programs of this place are told it"
		if c.wish.Directives[loader] != "" {
			c.Because = "a file of this site is run before all programs that are told it, which may be those of other sites as well, where they share the place"
		}
	}
	if am.Override {
		c.Risk = facts.Disruptive
		c.Because = "a line that the server refuses in an override file takes the folder down"
	}
	if len(am.Hosts) > 0 {
		c.Risk, c.Because = facts.Disruptive, "other sites are told it as well: "+strings.Join(am.Hosts[:min(len(am.Hosts), 3)], ", ")
		if more := len(am.Hosts) - 3; more > 0 {
			c.Because += fmt.Sprintf(" and %d more", more)
			c.Besides = append(c.Besides, "other sites' hosts: "+strings.Join(am.Hosts, ", "))
		}
	}
	for _, edit := range c.Edits {
		file := edit.(store.FileEdit).File
		if why := notWritable(file); why != "" {
			c.RunAs = why
		}
	}
	if p.Try == nil {
		return nil
	}
	was, is := held(am)
	if c.Untested = provesNothing(p.Try(ctx, was)); c.Untested != "" {
		c.Risk, c.Because = facts.Disruptive, "nobody can test it before it counts: "+c.Untested
		return nil
	}
	verdict := p.Try(ctx, is)
	switch {
	case verdict.Untested != "":
		c.Untested = verdict.Untested
		c.Risk, c.Because = facts.Disruptive, "nobody can test it before it counts: "+c.Untested
	case verdict.Says != "":
		return fmt.Errorf("the server's own test refuses it: %s", verdict.Says)
	}
	c.Trial = &Trial{By: verdict.By, Replaced: verdict.Replaced, Left: verdict.Left}
	return nil
}

// provesNothing is why a test of files as they are tells nothing of a change of them; "" where it does.
func provesNothing(as trial.Verdict) string {
	if as.Untested == "" && as.Says != "" {
		return "the copy does not pass as it is: " + as.Says
	}
	return as.Untested
}

// take puts an amendment into the change.
func (c *Change) take(am *amend.Amendment) {
	c.Edits, c.Also, c.parts, c.Besides = nil, am.Also, am.Parts, slices.Clone(am.Notes)
	if am.Trial {
		c.Step, c.Lasting = true, false
	}
	for _, f := range am.Files {
		edit := store.FileEdit{Place: f.Path, File: f.Path, Before: f.Before, After: f.After}
		if shut := c.shut(); shut != nil && f.Path == shut.File {
			if edit.Group = shut.Group; f.Before == nil { // one that is there keeps its mode
				c.Besides = append(c.Besides, "the list of names and passwords may be read by "+whoReads(shut.Group))
			}
		}
		c.Edits = append(c.Edits, edit)
	}
	c.From, c.To = facts.TextOf(facts.String, am.From), facts.TextOf(facts.String, am.To)
	if len(am.Files) > 0 {
		c.Origin = facts.Origin{File: am.Files[0].Path}
	}
}

// whoReads says who may read a new file of a group.
func whoReads(group uint32) string {
	if group == 0 {
		return "everybody on this machine: whom the server runs as is not known here, or it cannot be given to them alone"
	}
	return "root and the group " + identity.Accounts().Group(group) + " alone, which the server runs as"
}

// shut is how the site is to be closed by the change; nil where that is not what it is for.
func (c *Change) shut() *facts.Shut {
	if c.wish == nil {
		return nil
	}
	return c.wish.Shut
}

// held is what the files of an amendment hold before it and after it.
func held(am *amend.Amendment) (was, is map[string][]byte) {
	was, is = map[string][]byte{}, map[string][]byte{}
	for _, f := range am.Files {
		was[f.Path], is[f.Path] = f.Before, f.After
	}
	return was, is
}

// notWritable says who has to make a change of a file, "" when whoever runs this may.
func notWritable(file string) string {
	dir := filepath.Dir(file)
	for _, name := range []string{file, dir} {
		err := orders.AsOwner(file, func() error { return writable(name) })
		if fault := (*orders.Fault)(nil); errors.As(err, &fault) {
			return fmt.Sprintf("%s %s, so %s could be exchanged while it is written; hand over what --script prints", fault.At, fault.Says, file)
		}
		if errors.Is(err, fs.ErrPermission) {
			return fmt.Sprintf("%s may not be written by this user; run it as its owner, mostly root, or hand over what --script prints", name)
		}
	}
	return ""
}

func showAmend(p *Plan, c Change) Shown { return p.inPlaces(c, false) }

// beside opens the folder of a file and names the file in it.
func beside(edit store.FileEdit) (tree.Files, store.FileEdit, error) {
	root, err := tree.Open(filepath.Dir(edit.File))
	edit.File = filepath.Base(edit.File)
	return root, edit, err
}

// put makes an edit of a file wherever it lies.
func put(edit store.FileEdit, at func(string)) error {
	return orders.AsOwner(edit.File, func() error {
		root, here, err := beside(edit)
		if err != nil {
			return err
		}
		defer root.Close()
		return here.Apply(root, at)
	})
}

func applyAmend(ctx context.Context, e *Env, c Change) Outcome {
	out := Outcome{Change: c}
	if e.World == nil {
		return out.failed(errors.New("the configuration cannot be looked at"))
	}
	fresh := c
	am, err := c.work(ctx, e.World)
	if err != nil {
		return out.failed(err)
	}
	fresh.take(am)
	switch {
	case len(fresh.Edits) == 0:
		out.Result, out.Says = Took, "it was so already"
		return out
	case slices.ContainsFunc(fresh.parts, func(part string) bool { return !slices.Contains(c.parts, part) }): // fewer may be left to do
		out.Result, out.Says = Left, "it would be another change now than the one that was planned: somebody has changed the configuration since"
		return out
	}
	was, is := held(am)
	tested := e.Try != nil && c.Untested == "" // else it was allowed untested
	if tested {
		before := e.Try(ctx, was)
		verdict := e.Try(ctx, is)
		switch why := cmp.Or(provesNothing(before), verdict.Untested); {
		case why != "":
			return out.failed(fmt.Errorf("it could be tested when it was planned and cannot now, so nothing was written: %s", why))
		case verdict.Says != "":
			return out.failed(fmt.Errorf("the server's own test refuses it, so nothing was written: %s", verdict.Says))
		}
	}
	record := c.logLine()
	record.Place = fresh.Edits[0].At()
	out = e.journalled(out, record, before{Edits: fresh.Edits}, func(int) error {
		for i, edit := range fresh.Edits {
			if err := put(edit.(store.FileEdit), e.at); err != nil {
				for _, made := range slices.Backward(fresh.Edits[:i]) {
					err = errors.Join(err, put(made.Reversed().(store.FileEdit), e.at))
				}
				return err
			}
			e.at("after an edit")
		}
		return nil
	})
	if out.Result == Took && tested {
		if verdict := e.Try(ctx, is); verdict.Says != "" {
			return e.takeBackAgain(ctx, out, "the server's own test refuses what is written: "+verdict.Says)
		}
	}
	return out
}

// revertAmend brings the files back: to the byte where nobody has touched them since, and else in their own lines alone.
func revertAmend(_ context.Context, e *Env, b before) (string, error) {
	for _, edit := range slices.Backward(b.Edits) {
		back := edit.Reversed().(store.FileEdit)
		err := put(back, e.at)
		if errors.Is(err, store.ErrChanged) {
			var again store.FileEdit
			if again, err = rebased(back); err == nil {
				err = put(again, e.at)
			}
			err = changedSince(err)
		}
		if err != nil {
			return "", err
		}
		e.at("after an edit")
	}
	return "", nil
}

// rebased is an edit made to a file as it is now, in the lines that the edit is about.
func rebased(edit store.FileEdit) (store.FileEdit, error) {
	now, err := orders.ReadNamed(edit.File, format.MaxBytes)
	if err != nil {
		return edit, err
	}
	merged, clean := store.Merge(edit.Before, edit.After, now)
	if !clean || edit.Before == nil || edit.After == nil || bytes.Equal(merged, now) {
		return edit, store.ErrChanged
	}
	edit.Before, edit.After = now, merged
	return edit, nil
}

func scriptAmend(p *Plan, c Change) (do, undo []string) {
	for _, edit := range c.Edits {
		e := edit.(store.FileEdit)
		do, undo = append(do, p.scriptFile(e)), append(undo, p.scriptFile(e.Reversed().(store.FileEdit)))
	}
	return do, undo
}
