package fix

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/settings"
	"weltaxis/internal/store"
)

// A setting is changed where the dialect says that it lives.
var settingRow = row{
	title:   named,
	plan:    func(ctx context.Context, p *planning, c *Change) error { return p.inStores(ctx, c, settingEdits) },
	ready:   hasEdits,
	show:    func(p *Plan, c Change) Shown { return p.inPlaces(c, true) },
	apply:   func(ctx context.Context, e *Env, c Change) Outcome { return e.applyEdits(ctx, c, settingEdits) },
	revert:  revertEdits,
	script:  scriptEdits,
	still:   stale,
	payload: hadEdits,
	shown:   true,
}

// settingEdits works out how the value is stored, and what is stored now.
func settingEdits(ctx context.Context, site *store.Installation, c *Change) ([]store.Edit, error) {
	setting, mapped := site.Dialect.Settings[c.Name]
	if !mapped {
		return nil, fmt.Errorf("the dialect %s does not say where it lives", site.Dialect.Name)
	}
	if c.Origin.Screen == "" {
		c.Origin.Screen = setting.Screen
	}
	if d := setting.Depends; d != nil {
		if f, err := site.Look(d.On); err == nil && !(f.There && d.Holds(f.Value)) {
			return nil, fmt.Errorf("it counts only while %s says %s, and it does not: a person has to say so first", d.On, strings.Join(d.Is, " or "))
		}
	}
	var edits []store.Edit
	var err error
	if c.secret != "" {
		edits, err = site.PlanSecret(ctx, setting, c.secret)
	} else {
		edits, err = site.PlanSetting(ctx, setting, c.To)
	}
	c.From = facts.Value{} // what is there and means nothing
	if readings, readErr := settings.Readings(ctx, site, setting); readErr == nil {
		c.From = readings[0].Value
	}
	return edits, err
}

// A worker works out the edits of a change as things are now, and puts what is there now into From.
type worker func(ctx context.Context, site *store.Installation, c *Change) ([]store.Edit, error)

// inStores plans a change of what stores hold.
func (p *planning) inStores(ctx context.Context, c *Change, work worker) error {
	c.Because = cmp.Or(c.Because, whyRisk(c.Risk, c.term(), c.Noticed))
	if c.To.Type() == "" {
		c.Needs = cmp.Or(c.Needs, "a value that only a person can say")
		return nil
	}
	c.Or, c.Needs = c.Needs, ""
	if p.site == nil {
		return errors.New("the site file names no dialect, so where it is stored is not known")
	}
	edits, err := work(ctx, p.site, c)
	c.Edits = slices.DeleteFunc(edits, store.Edit.Nothing)
	if c.done = err == nil && len(c.Edits) == 0; err != nil {
		return err
	}
	return c.attended(ctx, p.site)
}

// attended asks databases what they do besides when rows are changed, and has the plan say so.
func (c *Change) attended(ctx context.Context, site *store.Installation) error {
	for i, edit := range c.Edits {
		row, is := edit.(store.RowEdit)
		if !is {
			continue
		}
		row, b, err := site.Besides(ctx, row)
		if err != nil {
			return err
		}
		c.Edits[i] = row
		c.Besides = append(c.Besides, b.Says...)
		switch {
		case b.Stays != "":
			c.Risk, c.Because, c.RunAs = facts.Disruptive, b.Stays, "not from here, since it could not be taken back; --script writes what to run"
		case b.Other:
			c.Risk, c.Because = facts.Disruptive, strings.Join(b.Says, ", ")+"; what that changes besides is kept before it counts, and undo brings it back"
		}
	}
	return nil
}

func hadEdits(b before) bool { return len(b.Edits) > 0 }

func hasEdits(c Change) bool { return len(c.Edits) > 0 }

// applyEdits makes a change of what stores hold: it is worked out anew, compared with what was planned, journalled, and
// written.
func (e *Env) applyEdits(ctx context.Context, c Change, work worker) Outcome {
	out := Outcome{Change: c}
	site, err := store.Open(ctx, e.Dialect, e.Stores)
	if err != nil {
		return out.failed(err)
	}
	defer site.Close()
	fresh := c
	edits, err := work(ctx, site, &fresh)
	if err != nil {
		return out.failed(err)
	}
	fresh.Edits, fresh.Besides = slices.DeleteFunc(edits, store.Edit.Nothing), nil
	if err := fresh.attended(ctx, site); err != nil {
		return out.failed(err)
	}
	edits = fresh.Edits
	switch now := fresh.From; {
	case !now.Equal(c.From) && !now.Equal(c.To):
		out.Result, out.Says = Left, fmt.Sprintf("it is %s now, which is not what it was when the plan was made", cmp.Or(now.String(), "something else"))
		return out
	case len(edits) == 0:
		out.Result, out.Says = Took, "it was so already"
		return out
	}
	record := c.logLine()
	record.Place = edits[0].At()
	out = e.journalled(out, record, before{Edits: edits}, func(id int) error {
		for i := range edits {
			site.Keep = func(row store.RowEdit) error {
				edits[i] = row
				return e.Journal.keepAlso(id, before{Edits: edits})
			}
			if err := site.Apply(ctx, edits[i]); err != nil {
				for _, made := range slices.Backward(edits[:i]) {
					err = errors.Join(err, site.Apply(context.WithoutCancel(ctx), made.Reversed()))
				}
				return err
			}
			e.at("after an edit")
		}
		return nil
	})
	if out.Result == Took {
		out.Says = strings.TrimSpace(out.Says + " " + alsoChanged(edits))
	}
	return out
}

// alsoChanged says which rows a database has changed besides.
func alsoChanged(edits []store.Edit) string {
	counts := map[string]int{}
	for _, edit := range edits {
		if row, is := edit.(store.RowEdit); is {
			for _, b := range row.Also {
				counts[b.Table]++
			}
		}
	}
	var says []string
	for _, table := range slices.Sorted(maps.Keys(counts)) {
		says = append(says, fmt.Sprintf("%d of %s", counts[table], table))
	}
	if len(says) == 0 {
		return ""
	}
	return "besides it the database changed rows: " + strings.Join(says, ", ")
}

// revertEdits brings back what stores held.
func revertEdits(ctx context.Context, e *Env, b before) (says string, err error) {
	site, err := store.Open(ctx, e.Dialect, e.Stores)
	if err != nil {
		return "", err
	}
	defer site.Close()
	var whole []store.Edit
	for _, edit := range slices.Backward(b.Edits) {
		all, err := takeBackEdit(ctx, site, edit)
		if err != nil {
			return "", err
		}
		if all {
			whole = append(whole, edit)
		} else {
			says = besideOurs
		}
		e.at("after an edit")
	}
	rows, err := e.compared(ctx, whole)
	return strings.TrimSpace(says + " " + rows), err
}

// compared looks whether stores hold what they held before edits that were taken back, the newest first. The error says that one does not.
func (e *Env) compared(ctx context.Context, edits []store.Edit) (says string, err error) {
	site, err := store.Open(ctx, e.Dialect, e.Stores)
	if err != nil {
		return "", fmt.Errorf("it was taken back, and cannot be looked at: %w", err)
	}
	defer site.Close()
	for i, edit := range edits {
		if slices.ContainsFunc(edits[i+1:], func(o store.Edit) bool { return store.Alike(o, edit) }) {
			continue // of several of one place the first holds what was there before all
		}
		before, err := site.HoldsBefore(ctx, edit)
		if err != nil {
			return "", fmt.Errorf("it was taken back, and cannot be looked at: %w", err)
		}
		if !before {
			return "", fmt.Errorf("it was taken back, and %s is not as it was: something has changed it at once", edit.At())
		}
		if row, is := edit.(store.RowEdit); is && site.Clients()[row.Database].Driver == dialect.SQLite {
			says = rowsNotBytes
		}
	}
	return says, nil
}

// besideOurs is said of a text in which others have changed something since.
const besideOurs = "What was changed here is back; others have changed something else in the same place since, and that stays."

// inPlaces shows the edits of a change, with its value when that says more than they do.
func (p *Plan) inPlaces(c Change, values bool) Shown {
	s := Shown{Diffs: p.diffs(c), Cells: p.cells(c), Command: values}
	if values {
		s.From, s.To = c.From.String(), c.To.String()
	}
	return s
}
