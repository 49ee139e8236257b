package fix

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

// What came of a change.
const (
	Took    = "took"
	Stale   = "took, not seen yet" // the setting is right, and visitors still get the old
	NotTook = "did not take"
	Unseen  = "written"    // and nobody could look whether it took
	Left    = "left alone" // somebody has changed it since the plan was made
	Broke   = "taken back" // the site answered errors afterwards, and does no more
	Trouble = "failed"
	Waits   = "not made" // an earlier one stopped the run
)

// An Outcome is what came of one change.
type Outcome struct {
	Change
	Result string `json:"result"`
	Says   string `json:"says,omitempty"`
	Record int    `json:"record,omitempty"` // in the journal
}

// A Seen is what looking again showed.
type Seen struct {
	Deviating map[string][]string // subjects by rule, those folded under others included
	Answers   string              // what the home page answers with, "" when nobody looked
	Broken    bool                // that answer is an error
}

// An Env is what writing needs besides the plan.
type Env struct {
	Dialect   *dialect.Dialect
	Stores    store.Options
	FilesRoot string
	Journal   *Journal
	// Recheck looks at the site again, from every side, and judges it again. Nil when nobody is to look.
	Recheck func(ctx context.Context) (Seen, error)
	// Health asks for the home page only. Nil when there is no way to.
	Health func(ctx context.Context) (answers string, broken bool)
	// Call calls a path of the site, for a content system that empties its cache when it is called. Nil when there is
	// no way to.
	Call func(ctx context.Context, path string) error

	// Step is told of every point at which a run may end, so that a test can end it there.
	Step func(point string)
}

func (e *Env) at(point string) {
	if e.Step != nil {
		e.Step(point)
	}
}

// A Report is what came of a run.
type Report struct {
	Outcomes []Outcome `json:"outcomes"`
	New      []string  `json:"new"`  // rules that deviate now and did not before
	Left     []string  `json:"left"` // rules that still deviate
	Run      string    `json:"run"`
}

// Write makes the changes, one after the other, and looks whether they took. Before the first the site was as Seen
// says. The error is one that stopped the run before anything was written; whatever comes later is an Outcome.
func Write(ctx context.Context, changes []Change, was Seen, env Env) (*Report, error) {
	r := &Report{Run: env.Journal.run, New: []string{}, Left: []string{}}
	for i, c := range changes {
		if ctx.Err() != nil {
			for _, rest := range changes[i:] {
				r.Outcomes = append(r.Outcomes, Outcome{Change: rest, Result: Waits, Says: "the run was interrupted"})
			}
			break
		}
		outcome := env.make(ctx, c)
		if outcome.Result == Took && env.Health != nil && c.Risk != facts.Safe {
			outcome = env.health(ctx, outcome, was)
		}
		r.Outcomes = append(r.Outcomes, outcome)
	}
	if env.Recheck == nil {
		return r, nil
	}
	if now, err := env.Recheck(context.WithoutCancel(ctx)); err != nil {
		r.unseen(err)
	} else {
		r.compare(was, now)
	}
	return r, nil
}

// make makes one change: it is worked out anew, compared with what was planned, journalled, and written.
func (e *Env) make(ctx context.Context, c Change) Outcome {
	out := Outcome{Change: c}
	fail := func(err error) Outcome {
		out.Result, out.Says = Trouble, facts.InWords(err)
		if errors.Is(err, store.ErrChanged) {
			out.Result, out.Says = Left, "somebody has changed it since the plan was made"
		}
		return out
	}
	switch c.Kind {
	case Modes:
		return e.makeModes(c)
	case Purge:
		return e.makePurge(ctx, c)
	}
	site, err := store.Open(ctx, e.Dialect, e.Stores)
	if err != nil {
		return fail(err)
	}
	defer site.Close()
	edits, now, err := e.again(ctx, site, c)
	if err != nil {
		return fail(err)
	}
	if !now.Equal(c.From) && !now.Equal(c.To) {
		out.Result, out.Says = Left, fmt.Sprintf("it is %s now, which is not what it was when the plan was made", now)
		return out
	}
	if len(edits) == 0 {
		out.Result, out.Says = Took, "it was so already"
		return out
	}
	record := LogLine{Rules: c.Rules, Kind: c.Kind, Name: c.Name, Subject: c.Subject, Place: edits[0].Place, From: c.From.String(), To: c.To.String(), Risk: c.Risk}
	e.at("before the journal")
	if err := e.Journal.begin(&record, before{Edits: edits}, e.at); err != nil {
		out.Result, out.Says = Trouble, "the journal cannot be written, so nothing was changed: "+facts.InWords(err)
		return out
	}
	out.Record = record.ID
	e.at("before the write")
	for i, edit := range edits {
		if err := site.Apply(ctx, edit); err != nil {
			for _, made := range slices.Backward(edits[:i]) {
				err = errors.Join(err, site.Apply(context.WithoutCancel(ctx), made.Reversed()))
			}
			_ = e.Journal.event(record, Failed, facts.InWords(err))
			return fail(err)
		}
		e.at("after an edit")
	}
	if err := e.Journal.event(record, Done, ""); err != nil {
		out.Result, out.Says = Took, "the journal could not be written afterwards: "+err.Error()
		return out
	}
	e.at("after the journal")
	out.Result = Took
	return out
}

// again works the change out as things are now.
func (e *Env) again(ctx context.Context, site *store.Installation, c Change) ([]store.Edit, facts.Value, error) {
	if c.Kind == File {
		fresh := c
		edits, err := fileEdits(site, &fresh)
		return slices.DeleteFunc(edits, store.Edit.Nothing), fresh.From, err
	}
	if c.Kind == Field {
		fresh := c
		edits, err := fieldEdits(ctx, site, &fresh)
		return slices.DeleteFunc(edits, store.Edit.Nothing), fresh.From, err
	}
	setting, mapped := e.Dialect.Settings[c.Name]
	if !mapped {
		return nil, facts.Value{}, errors.New("the dialect does not say where it lives")
	}
	now, err := readSetting(ctx, site, setting)
	if err != nil {
		return nil, now, err
	}
	edits, err := site.PlanSetting(ctx, setting, c.To)
	return slices.DeleteFunc(edits, store.Edit.Nothing), now, err
}

// makeModes changes the modes of a class, entry by entry, each compared with what was planned.
func (e *Env) makeModes(c Change) Outcome {
	out := Outcome{Change: c}
	var edits []modeEdit
	for _, m := range c.Members {
		edits = append(edits, modeEdit{Path: m.Path, From: uint32(c.From.Number()), To: uint32(c.To.Number()), UID: m.UID, GID: m.GID, Dir: m.Kind == "folder"})
	}
	record := LogLine{Rules: c.Rules, Kind: c.Kind, Name: c.Name, Subject: c.Subject, Class: c.Class, From: c.From.String(), To: c.To.String(), Risk: c.Risk}
	e.at("before the journal")
	if err := e.Journal.begin(&record, before{Modes: edits}, e.at); err != nil {
		out.Result, out.Says = Trouble, "the journal cannot be written, so nothing was changed: "+err.Error()
		return out
	}
	out.Record = record.ID
	var left []string
	e.at("before the write")
	for _, edit := range edits {
		if err := chmod(e.FilesRoot, edit, edit.From, edit.To); err != nil {
			left = append(left, fmt.Sprintf("%s: %s", edit.Path, facts.InWords(err)))
		}
		e.at("after an edit")
	}
	says := ""
	if len(left) > 0 {
		says = fmt.Sprintf("%d of %d were left alone: %s", len(left), len(edits), strings.Join(left[:min(len(left), 3)], "; "))
	}
	event := Done
	out.Result, out.Says = Took, says
	if len(left) == len(edits) {
		event, out.Result = Failed, Trouble
	}
	if err := e.Journal.event(record, event, says); err != nil {
		out.Says += "; the journal could not be written afterwards: " + err.Error()
	}
	e.at("after the journal")
	return out
}

// makePurge empties a cache: it calls the path that does so, or takes what is in the folder, but leaves the folder
// and its per-folder override files.
func (e *Env) makePurge(ctx context.Context, c Change) Outcome {
	out := Outcome{Change: c, Result: Took}
	record := LogLine{Rules: c.Rules, Kind: c.Kind, Name: c.Name, Risk: c.Risk, From: "kept pages", To: "none"}
	if err := e.Journal.begin(&record, before{}, e.at); err != nil {
		out.Result, out.Says = Trouble, "the journal cannot be written, so nothing was changed: "+err.Error()
		return out
	}
	out.Record = record.ID
	err := e.empty(ctx, c)
	event := Done
	if err != nil {
		event, out.Result, out.Says = Failed, Trouble, facts.InWords(err)
	}
	if err := e.Journal.event(record, event, out.Says); err != nil {
		out.Says += "; the journal could not be written afterwards: " + err.Error()
	}
	return out
}

func (e *Env) empty(ctx context.Context, c Change) error {
	if c.Origin.URL != "" {
		if e.Call == nil {
			return errors.New("there is no live source to call it through")
		}
		return e.Call(ctx, c.Origin.URL)
	}
	root, err := os.OpenRoot(e.Stores.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	return empty(root, path.Clean(c.Name))
}

func empty(root *os.Root, folder string) error {
	in, err := root.Open(folder)
	if err != nil {
		return err
	}
	defer in.Close()
	names, err := in.Readdirnames(-1)
	if err != nil {
		return err
	}
	for _, name := range names {
		if strings.HasPrefix(name, ".") {
			continue
		}
		if err := root.RemoveAll(path.Join(folder, name)); err != nil {
			return err
		}
	}
	return nil
}

// health asks for the home page after a change that visitors may notice, and takes the change back at once when
// it answers an error that it did not answer before.
func (e *Env) health(ctx context.Context, out Outcome, was Seen) Outcome {
	answers, broken := e.Health(ctx)
	if !broken || was.Broken || out.Record == 0 || out.Kind == Purge {
		return out
	}
	says := fmt.Sprintf("afterwards the home page answered %s, which it did not before", answers)
	record := LogLine{ID: out.Record, Run: e.Journal.run, Rules: out.Rules, Kind: out.Kind, Name: out.Name, Subject: out.Subject, From: out.From.String(), To: out.To.String(), Risk: out.Risk, Until: e.Journal.now().Add(Keep)}
	b, err := e.Journal.before(out.Record)
	if err == nil {
		err = e.takeBack(context.WithoutCancel(ctx), b)
	}
	if err != nil {
		out.Result, out.Says = Trouble, says+", and it could not be taken back: "+facts.InWords(err)
		return out
	}
	_ = e.Journal.event(record, TakenBack, says)
	out.Result, out.Says = Broke, says
	return out
}

// unseen says that what is written could not be looked at again.
func (r *Report) unseen(err error) {
	for i := range r.Outcomes {
		if o := &r.Outcomes[i]; o.Result == Took {
			o.Result, o.Says = Unseen, "nobody could look whether it took: "+facts.InWords(err)
		}
	}
}

// compare says of each change whether it took, by what looking again showed.
func (r *Report) compare(was, now Seen) {
	for i := range r.Outcomes {
		o := &r.Outcomes[i]
		if o.Result != Took {
			continue
		}
		var still []string
		for _, rule := range o.Rules {
			if subjects, deviates := now.Deviating[rule]; deviates && (o.Subject == "" || o.Kind == File || slices.Contains(subjects, o.Subject)) {
				still = append(still, rule)
			}
		}
		switch {
		case len(still) == 0:
		case o.Kind == Setting || o.Kind == Field:
			o.Result = Stale
			o.Says = strings.TrimPrefix(o.Says+"; what is stored is right, and "+strings.Join(still, ", ")+" still shows the old: a cache may hold it, or another setting stands in the way", "; ")
		default:
			o.Result, o.Says = NotTook, strings.TrimPrefix(o.Says+"; "+strings.Join(still, ", ")+" still deviates", "; ")
		}
	}
	for _, rule := range slices.Sorted(maps.Keys(now.Deviating)) {
		if _, before := was.Deviating[rule]; !before {
			r.New = append(r.New, rule)
		}
		r.Left = append(r.Left, rule)
	}
}
