package discover

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/settings"
	"weltaxis/internal/store"
)

// A Checked entry is one setting or list of a dialect, held against a real installation.
type Checked struct {
	Name   string       `json:"name"`
	Place  string       `json:"place"`
	Value  string       `json:"value"`
	Origin facts.Origin `json:"origin"`
	Wrong  string       `json:"wrong,omitempty"` // why it cannot be read, or not be written back as it is
	Note   string       `json:"note,omitempty"`
	Unseen bool         `json:"unseen,omitempty"` // its store could not be read, which is said by itself
}

// Check reads every entry of a dialect, gives it its type, translates it, and translates it back. Nothing is
// written.
func Check(ctx context.Context, spoken *dialect.Dialect, options store.Options) ([]Checked, error) {
	site, err := store.Open(ctx, spoken, options)
	if err != nil {
		return nil, err
	}
	defer site.Close()
	var all []Checked
	for _, t := range site.Troubles() {
		all = append(all, Checked{Name: t.What, Wrong: facts.InWords(t.Err)})
	}
	for _, name := range spoken.Names() {
		all = append(all, checkSetting(ctx, site, spoken.Settings[name]))
	}
	for _, name := range slices.Sorted(maps.Keys(spoken.Lists)) {
		all = append(all, checkList(ctx, site, name, spoken.Lists[name]))
	}
	return all, ctx.Err()
}

func checkSetting(ctx context.Context, site *store.Installation, s dialect.Setting) Checked {
	c := Checked{Name: s.Name}
	var stored any
	for _, place := range s.Places() {
		c.Place = place
		if found, err := site.Look(place); err == nil && found.There {
			stored = found.Value
			break
		}
	}
	if !dialect.In(site.Version(), s.Since, s.Until) {
		c.Note = "this version of the content system does not have it"
		return c
	}
	readings, err := settings.Readings(ctx, site, s)
	if err != nil {
		c.Wrong, c.Unseen = facts.InWords(err), errors.Is(err, store.ErrUnseen)
		return c
	}
	c.Value, c.Origin = readings[0].Value.String(), readings[0].Origin
	switch {
	case c.Origin.Default != "":
		c.Note = "not set here, so only the default was seen"
	case s.Query != "":
		c.Note, c.Place = "counted by a query; it is not written", "query"
	case s.Type == facts.Secret:
		c.Note = "a secret; it is not written"
	default:
		_, err = site.PlanSetting(ctx, s, readings[0].Value)
		if err != nil {
			c.Wrong = "it cannot be written back: " + err.Error()
		} else if why := s.ReadOnly(stored); why != "" {
			c.Note = "there and back; another value is not written: " + why
		}
	}
	return c
}

func checkList(ctx context.Context, site *store.Installation, name string, list dialect.List) Checked {
	c := Checked{Name: "list " + name, Place: list.Table + list.From}
	rows, err := site.List(ctx, list)
	if err != nil {
		c.Wrong, c.Unseen = facts.InWords(err), errors.Is(err, store.ErrUnseen)
		return c
	}
	c.Value = fmt.Sprintf("%d entries", len(rows))
	var unread []error
	for _, field := range facts.Lists[facts.Settings.Name(name)] {
		column, mapped := list.Columns[field.Name]
		if !mapped && list.Query == "" {
			continue
		}
		entry := facts.Term{Type: field.Type, Words: field.Words}
		for _, row := range rows {
			stored, there := row.Values[field.Name]
			if !there {
				continue
			}
			if _, err := column.Value(entry, stored); err != nil {
				unread = append(unread, fmt.Errorf("%s of %s: %w", field.Name, row.Key, err))
				break
			}
		}
	}
	if err := errors.Join(unread...); err != nil {
		c.Wrong = err.Error()
	}
	return c
}

// A Likeness is a shipped dialect that an installation seems to speak.
type Likeness struct {
	Dialect string   `json:"dialect"`
	Sure    float64  `json:"sure"`
	By      []string `json:"by"`
}

// Recognise holds an installation against dialects that are known, the likeliest first.
func Recognise(names []string, dir string, traces dialect.Traces) []Likeness {
	var found []Likeness
	for _, name := range names {
		d, err := dialect.Load(name, dir)
		if err != nil {
			continue
		}
		if sure, by := d.Recognised(traces); sure > 0 {
			found = append(found, Likeness{name, sure, by})
		}
	}
	slices.SortStableFunc(found, func(a, b Likeness) int { return int((b.Sure - a.Sure) * 1000) })
	return found
}
