package fix

import (
	"context"
	"errors"
	"slices"

	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

// A line of a file is added where a file ought to have it, and the file with it where there is none.
var lineRow = row{
	rank:    always(55),
	title:   func(name, _ string, _ *facts.Likeness) string { return "the file " + name },
	plan:    planLine,
	ready:   hasEdits,
	show:    func(p *Plan, c Change) Shown { return p.inPlaces(c, false) },
	apply:   func(ctx context.Context, e *Env, c Change) Outcome { return e.applyEdits(ctx, c, lineEdits) },
	revert:  revertEdits,
	script:  scriptEdits,
	still:   notTook,
	payload: hadEdits,
}

func planLine(ctx context.Context, p *planning, c *Change) error {
	err := p.inStores(ctx, c, lineEdits)
	if err != nil || len(c.Edits) != 1 {
		return err
	}
	if edit, is := c.Edits[0].(store.FileEdit); is && edit.Before == nil && slices.Contains(p.Made, c.line.File) {
		return errors.New("there is no such file: the content system makes it, and a file in its place would hide what it says")
	}
	return err
}

// lineEdits plans the line; what stands there now is shown as the value before.
func lineEdits(_ context.Context, site *store.Installation, c *Change) ([]store.Edit, error) {
	if c.line.Drop != "" {
		edit, err := site.PlanWithout(c.Name, c.line.Drop)
		c.From, c.To = facts.TextOf(facts.String, c.line.Drop), facts.TextOf(facts.String, "(no such line)")
		c.Origin = facts.Origin{File: c.Name}
		return []store.Edit{edit}, err
	}
	edit, err := site.PlanLine(c.Name, c.line.Start, c.line.Line)
	if err != nil {
		return nil, err
	}
	c.From, c.To = facts.TextOf(facts.String, "(no such file)"), facts.TextOf(facts.String, "(the file)")
	if file, is := edit.(store.FileEdit); is && file.Before != nil {
		c.From, c.To = facts.TextOf(facts.String, "(no such line)"), facts.TextOf(facts.String, c.line.Line)
	}
	c.Origin = facts.Origin{File: c.Name}
	return []store.Edit{edit}, nil
}
