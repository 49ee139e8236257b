package fix

import (
	"context"
	"fmt"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

// A field of a page's own record is changed where the content system keeps it.
var fieldRow = row{
	rank: always(50),
	title: func(name, subject string, _ *facts.Likeness) string {
		return "the page " + strings.Trim(subject, "/") + ": its own " + name
	},
	plan:    func(ctx context.Context, p *planning, c *Change) error { return p.inStores(ctx, c, fieldEdits) },
	ready:   hasEdits,
	show:    func(p *Plan, c Change) Shown { return p.inPlaces(c, true) },
	apply:   func(ctx context.Context, e *Env, c Change) Outcome { return e.applyEdits(ctx, c, fieldEdits) },
	revert:  revertEdits,
	script:  scriptEdits,
	still:   stale,
	payload: hadEdits,
	shown:   true,
}

// fieldEdits finds the page's record and plans its field.
func fieldEdits(ctx context.Context, site *store.Installation, c *Change) ([]store.Edit, error) {
	list, mapped := site.Dialect.Lists["pages"]
	column, has := list.Columns[c.Name]
	if !mapped || !has {
		return nil, fmt.Errorf("the dialect %s does not say where a page's %s lives", site.Dialect.Name, c.Name)
	}
	records, err := site.List(ctx, list)
	if err != nil {
		return nil, err
	}
	for _, record := range records {
		if slug, _ := dialect.Text(record.Values["path"]); strings.Trim(slug, "/") != c.page {
			continue
		}
		c.Origin = record.Origin
		if c.From, err = column.Value(c.term(), record.Values[c.Name]); err != nil {
			return nil, err
		}
		stored, err := column.Stored(c.term(), c.To, dialect.Like{Old: record.Values[c.Name]})
		if err != nil {
			return nil, err
		}
		edit, err := site.PlanField(list, "pages", record, c.Name, stored)
		return []store.Edit{edit}, err
	}
	return nil, fmt.Errorf("no page has %q in its address", c.page)
}
