package fix

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"al.essio.dev/pkg/shellescape"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/store"
	"weltaxis/internal/tree"
)

// A cache is emptied at the end of a run, and again at the end of what is taken back, since it may have kept meanwhile
// what is there no more. What was in a folder is moved aside, and brought back by undo.
var purgeRow = row{
	rank:     always(90),
	title:    func(name, _ string, _ *facts.Likeness) string { return "the page cache " + name + ", emptied" },
	ready:    func(Change) bool { return true },
	apply:    applyPurge,
	revert:   revertPurge,
	script:   scriptPurge,
	still:    notTook,
	payload:  func(b before) bool { return b.Format == 1 || b.Folder != "" || b.Call != "" },
	finisher: true,
}

// MaxAside is how much of one emptied cache is kept for undo, in bytes. A larger one is emptied for good, and that is said.
const MaxAside = 256 << 20

// finish adds the emptying of the caches where something changes that visitors see.
func (p *planning) finish() {
	visible := slices.ContainsFunc(p.plan.Changes, func(c Change) bool {
		return c.Makeable() && (rows[c.Kind].shown || c.wish != nil && c.wish.Shut != nil)
	})
	if p.Dialect == nil || (!visible || !p.Pages) && len(p.emptied) == 0 {
		return
	}
	at := slices.IndexFunc(p.plan.Changes, Change.ForPerson)
	if at < 0 {
		at = len(p.plan.Changes)
	}
	for _, kept := range p.Dialect.Caches {
		if kept.Folder != "" && p.Stores.Root == "" {
			continue // it cannot be reached
		}
		c := Change{Kind: Purge, Name: kept.Folder + kept.Purge, Rules: slices.Concat([]string{}, p.emptied), Risk: facts.Visible,
			Because: "visitors wait a little longer until pages are kept again; until it is empty they may get old ones", Origin: facts.Origin{Path: kept.Folder, URL: kept.Purge}}
		c.about, c.severity = p.stale, p.staleness
		if err := planPurge(p, &c); err != nil {
			c.cannot(err)
			c.Steps = append(c.Steps, "Empty it by hand, in the way of the content system.")
		}
		p.plan.Changes = slices.Insert(p.plan.Changes, at, c)
	}
}

// empties notes a deviation that is put right by emptying the caches, which every run does at its end; false where none is known.
func (p *planning) empties(d facts.Deviation) bool {
	if d.Fix.Kind != facts.KindPurge || p.Dialect == nil || !slices.ContainsFunc(p.Dialect.Caches, func(k dialect.Kept) bool { return k.Purge != "" || p.Stores.Root != "" }) {
		return false
	}
	if !slices.Contains(p.emptied, d.Rule) {
		p.emptied = append(p.emptied, d.Rule)
	}
	p.stale = append(p.stale, d.Subject)
	if p.staleness == 0 || d.Severity < p.staleness {
		p.staleness = d.Severity
	}
	return true
}

func planPurge(p *planning, c *Change) error {
	if c.Origin.URL != "" {
		c.Because += "; what it held cannot be brought back"
		return nil
	}
	if p.site == nil {
		return errors.New("what the dialect names cannot be opened")
	}
	size, err := cacheSize(p.site, c.Name)
	if err != nil {
		return err
	}
	if why := final(p.Dialect.Public, size); why != "" {
		c.Because += "; " + why
	}
	return nil
}

// cacheSize is how many bytes of files lie in a cache. It refuses a folder that is no cache, or holds what no cache holds:
// what lies there by its role, and what the content system keeps its data in.
func cacheSize(site *store.Installation, folder string) (size int64, err error) {
	if in := site.Within(folder); len(in) > 0 {
		return 0, fmt.Errorf("it is no cache alone: %s lies there", in[0])
	}
	root, err := tree.Open(site.Root)
	if err != nil {
		return 0, err
	}
	defer root.Close()
	clean := path.Clean(folder)
	switch link, err := linkOnTheWay(root, clean); {
	case err != nil:
		return 0, err
	case link != "":
		return 0, fmt.Errorf("%s is a link, and where it leads is not looked at", link)
	}
	matcher := dialect.NewMatcher(site.Dialect)
	return size, tree.Visit(root, clean, func(e tree.Entry, err error) error {
		name := e.Path
		switch {
		case err != nil:
			return err
		case name == clean || strings.HasPrefix(e.Base(), "."):
			return nil
		case e.Kind == tree.Other:
			return fmt.Errorf("it is no cache alone: %s is no file", name)
		}
		if role := matcher.Role(name, matcher.Folder(path.Dir(name))); role != dialect.Cache && role != dialect.Temporary {
			return fmt.Errorf("it is no cache alone: %s is %s", name, role)
		}
		if e.Kind == tree.File {
			size += e.Size
		}
		return nil
	})
}

// linkOnTheWay is the first part of a path that is a link.
func linkOnTheWay(root tree.Files, name string) (string, error) {
	at := ""
	for part := range strings.SplitSeq(name, "/") {
		at = path.Join(at, part)
		e, err := root.Lstat(at)
		if err != nil {
			return "", err
		}
		if e.Kind == tree.Link {
			return at, nil
		}
	}
	return "", nil
}

func applyPurge(ctx context.Context, e *Env, c Change) Outcome {
	out := Outcome{Change: c}
	record := c.logLine()
	record.From, record.To = "kept pages", "none"
	if c.Origin.URL != "" {
		return e.journalled(out, record, before{Call: c.Origin.URL}, func(int) error { return e.call(ctx, c.Origin.URL) })
	}
	site, err := store.Open(ctx, e.Dialect, e.Stores)
	if err != nil {
		return out.failed(err)
	}
	defer site.Close()
	size, err := cacheSize(site, c.Name)
	if err != nil {
		return out.failed(err)
	}
	root, err := tree.Open(e.Stores.Root)
	if err != nil {
		return out.failed(err)
	}
	defer root.Close()
	aside, notKept := e.aside(root, path.Clean(c.Name), size)
	out = e.journalled(out, record, before{Folder: path.Clean(c.Name), Aside: aside}, func(int) error {
		err := moveAside(root, path.Clean(c.Name), aside, e.at)
		if err != nil && aside != "" {
			err = errors.Join(err, bringBack(root, path.Clean(c.Name), aside, e.at))
		}
		return err
	})
	if out.Result == Took {
		out.Says = notKept
	}
	return out
}

func (e *Env) call(ctx context.Context, address string) error {
	if e.Call == nil {
		return errors.New("there is no live source to call it through")
	}
	return e.Call(ctx, address)
}

// final says why what a cache of a size holds cannot be kept when it is emptied, "" when it can be.
func final(public string, size int64) string {
	if strings.Trim(path.Clean("/"+public), "/") == "" {
		return "what it held is not kept: the whole root is served, so there is no place that nobody sees"
	}
	if size > MaxAside {
		return fmt.Sprintf("what it held is not kept: %s are more than the %s that are kept for undo", facts.FormatSize(size), facts.FormatSize(MaxAside))
	}
	return ""
}

// aside is the folder below the root that what is in a cache is moved to, or why there is none.
func (e *Env) aside(root tree.Files, folder string, size int64) (aside, why string) {
	if why := final(e.Dialect.Public, size); why != "" {
		return "", why
	}
	aside = path.Join(tree.Aside, fmt.Sprintf("%s-%d", e.Journal.run, e.Journal.next+1))
	err := root.Mkdir(aside, 0o700)
	if top, lookErr := root.Lstat(tree.Aside); err == nil && lookErr == nil {
		err = root.Chmod(top, 0o700)
	}
	if err == nil {
		err = movable(root, folder, aside)
	}
	if err != nil {
		_ = forget(root, aside)
		return "", "what it held is not kept: " + facts.InWords(err)
	}
	return aside, ""
}

// movable tries whether a file can be moved from one folder to another: a cache may be a file system of its own.
func movable(root tree.Files, from, to string) error {
	const probe = ".weltaxis-probe"
	_ = root.Remove(path.Join(from, probe)) // of a run that was killed
	if err := root.Create(path.Join(from, probe), []byte{}, 0, func(string) {}); err != nil {
		return err
	}
	err := root.Rename(path.Join(from, probe), path.Join(to, probe))
	if err != nil {
		_ = root.Remove(path.Join(from, probe))
		return fmt.Errorf("it cannot be moved out of its folder: %w", err)
	}
	return root.Remove(path.Join(to, probe))
}

// maxRounds is how often a folder is read again for what it still holds, since it is read in parts.
const maxRounds = 100

// eachIn does something with every entry of a folder that is no hidden one, until none is left.
func eachIn(root tree.Files, folder string, do func(name string) error) error {
	for range maxRounds {
		names, err := namesIn(root, folder)
		if err != nil || len(names) == 0 {
			return err
		}
		for _, name := range names {
			if err := do(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	return fmt.Errorf("%s fills faster than it is emptied", folder)
}

// moveAside takes what is in a folder, but leaves the folder and its per-folder override files. Without a place to keep
// it, it is removed.
func moveAside(root tree.Files, folder, aside string, at func(string)) error {
	return eachIn(root, folder, func(name string) error {
		defer at("after an edit")
		if aside == "" {
			return root.RemoveAll(path.Join(folder, name))
		}
		if _, err := root.Lstat(path.Join(aside, name)); err == nil { // it lies there already, and has come again since
			return root.RemoveAll(path.Join(folder, name))
		}
		return root.Rename(path.Join(folder, name), path.Join(aside, name))
	})
}

// namesIn are the entries of a folder that are no hidden ones, sorted.
func namesIn(root tree.Files, folder string) ([]string, error) {
	entries, err := root.ReadDir(folder)
	var names []string
	for _, e := range entries {
		if !strings.HasPrefix(e.Base(), ".") {
			names = append(names, e.Base())
		}
	}
	return names, err
}

// revertPurge empties the cache of what it has kept since, and brings back what it held. Where something that visitors see
// stays as this run or a later one made it, what the cache held is out of date, and it stays empty.
func revertPurge(ctx context.Context, e *Env, b before) (string, error) {
	if b.Folder == "" && b.Call == "" {
		return "a cache fills itself again", nil // an earlier version said no more
	}
	if !e.isCache(b.Folder, b.Call) || b.Aside != "" && path.Dir(path.Clean(b.Aside)) != tree.Aside {
		return "", errors.New("what is kept of it names a cache that the dialect does not; nothing was taken back")
	}
	if b.Call != "" {
		return "it was emptied again", e.call(ctx, b.Call)
	}
	root, err := tree.Open(e.Stores.Root)
	if err != nil {
		return "", err
	}
	defer root.Close()
	if b.of.Event == Done {
		err = moveAside(root, b.Folder, "", e.at)
	} else { // a run that was killed may have left some of what was there
		err = e.removeNewer(ctx, b.Folder, e.Journal.madeAt(b.of))
	}
	if err != nil {
		return "", err
	}
	switch {
	case b.Aside == "":
		return "it is empty again; what it held was not kept, and it fills itself", nil
	case e.Journal.stays(b.of.Run, func(r LogLine) bool { return rows[r.Kind].shown }):
		return "", errors.New("it is empty again; what it held shows the site as it was, and comes back when the rest of the run does")
	}
	held, _ := namesIn(root, b.Aside)
	if err := bringBack(root, b.Folder, b.Aside, e.at); err != nil {
		return "", err
	}
	now, err := namesIn(root, b.Folder)
	if slices.ContainsFunc(held, func(name string) bool { return !slices.Contains(now, name) }) {
		err = errors.Join(err, errors.New("something has taken away at once what it held"))
	}
	return "it holds what it held", err
}

// isCache tells whether the dialect names a cache, by its folder or by the path that empties it.
func (e *Env) isCache(folder, call string) bool {
	return e.Dialect != nil && slices.ContainsFunc(e.Dialect.Caches, func(k dialect.Kept) bool {
		return call != "" && k.Purge == call || folder != "" && k.Folder != "" && path.Clean(k.Folder) == folder
	})
}

// bringBack moves what lies aside to where it was, in the place of what has come to be there under the same names.
func bringBack(root tree.Files, folder, aside string, at func(string)) error {
	if _, err := root.Lstat(aside); err != nil {
		return fmt.Errorf("what it held is not there any more: %w", err)
	}
	err := eachIn(root, aside, func(name string) error {
		defer at("after an edit")
		if err := root.RemoveAll(path.Join(folder, name)); err != nil {
			return err
		}
		return root.Rename(path.Join(aside, name), path.Join(folder, name))
	})
	if err != nil {
		return err
	}
	return forget(root, aside)
}

// forget removes a folder that caches were moved aside to, and the folder of all of them when it was the last.
func forget(root tree.Files, aside string) error {
	err := root.RemoveAll(aside)
	_ = root.Remove(tree.Aside)
	return err
}

// ForgetAside removes what caches held that were moved aside longer ago than that, by this journal or another, and tells of how many. Undo does not bring that
// back any more.
func (e *Env) ForgetAside(age time.Duration) (gone int) {
	root, err := tree.Open(e.Stores.Root)
	if err != nil {
		return 0
	}
	defer root.Close()
	names, _ := namesIn(root, tree.Aside)
	for _, name := range names {
		run, _, _ := strings.Cut(name, "-")
		if at, err := time.Parse(runStamp, strings.TrimRight(run, "x")); err == nil && e.Journal.now().After(at.Add(age)) && forget(root, path.Join(tree.Aside, name)) == nil {
			gone++
		}
	}
	return gone
}

// again empties the caches of what they have kept since a time, after changes were taken back without the emptying that
// followed them.
func (e *Env) again(ctx context.Context, since time.Time) error {
	if e.Dialect == nil {
		return nil
	}
	var failures []error
	for _, kept := range e.Dialect.Caches {
		if kept.Purge != "" {
			failures = append(failures, e.call(ctx, kept.Purge))
		} else {
			failures = append(failures, e.removeNewer(ctx, path.Clean(kept.Folder), since))
		}
	}
	return errors.Join(failures...)
}

func (e *Env) removeNewer(ctx context.Context, folder string, since time.Time) error {
	site, err := store.Open(ctx, e.Dialect, e.Stores)
	if err != nil {
		return err
	}
	defer site.Close()
	if _, err := cacheSize(site, folder); err != nil {
		return err
	}
	root, err := tree.Open(e.Stores.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	return tree.Visit(root, folder, func(e tree.Entry, err error) error {
		if err != nil {
			return err
		}
		switch hidden := strings.HasPrefix(e.Base(), "."); {
		case hidden && e.Kind == tree.Folder:
			return fs.SkipDir
		case hidden || e.Kind == tree.Folder:
			return nil
		}
		if e.Changed.After(since) {
			return root.Remove(e.Path)
		}
		return nil
	})
}

func scriptPurge(_ *Plan, c Change) (do, undo []string) {
	if c.Origin.URL != "" {
		return []string{"# call " + oneLine(c.Origin.URL) + " of the site, with POST"}, nil
	}
	empty := fmt.Sprintf("find %s -mindepth 1 -maxdepth 1 ! -name '.*' -exec rm -r -- {} +", shellescape.Quote("./"+path.Clean(c.Name)))
	return []string{empty}, []string{empty}
}
