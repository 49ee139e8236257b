package fix

import (
	"context"
	"slices"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/site"
)

// Foresee has an audit tell the risk of what would put its deviations right as the plan knows it: whom a change takes what from, what a value does, and what is made with
// it is seen when the change is worked out. Risks only rise by that. What servers and the runtime would be told is not worked out, since that asks the server's own test;
// its risk stays the least there is. Nothing is written; the error is that of New.
func Foresee(ctx context.Context, s *site.Site, r *audit.Result, options audit.Options) error {
	w, err := WishesFor(s, r, options, nil)
	if err != nil {
		return err
	}
	told := func(d facts.Deviation) bool { return !d.Fix.Least() || d.Fix.Wish != nil }
	w.Deviations = slices.DeleteFunc(slices.Clone(w.Deviations), told)
	w.Covered = slices.DeleteFunc(w.Covered, told)
	if len(w.Deviations) == 0 {
		return nil
	}
	plan, err := New(ctx, w)
	if err != nil {
		return err
	}
	for _, c := range plan.Changes {
		for i := range r.Deviations {
			c.weigh(&r.Deviations[i])
		}
		for i := range r.Covered {
			c.weigh(&r.Covered[i].Deviation)
		}
	}
	return nil
}

// weigh has a deviation that a change settles tell that change's risk, where it told a lesser one.
func (c *Change) weigh(d *facts.Deviation) {
	if d.Fix.Wish != nil || !slices.Contains(c.Rules, d.Rule) || !slices.Contains(c.about, d.Subject) {
		return
	}
	d.Fix.Weighed = true
	if c.Risk > d.Fix.Risk {
		d.Fix.Risk, d.Fix.Because, d.Fix.Noticed = c.Risk, c.Because, c.Noticed
	}
}
