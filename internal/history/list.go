package history

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"weltaxis/internal/facts"
)

const columns = "id, taken, tool, baseline, dialect, stage, part, aside, partial, run, alignment, judged, counts, measures"

func scan(row interface{ Scan(...any) error }) (*Audit, error) {
	var a Audit
	var taken int64
	var counts, measures string
	if err := row.Scan(&a.ID, &taken, &a.Tool, &a.Baseline, &a.Dialect, &a.Stage, &a.Part, &a.Aside, &a.Partial, &a.Run, &a.Alignment, &a.Judged, &counts, &measures); err != nil {
		return nil, err
	}
	a.Taken = time.Unix(taken, 0).UTC()
	return &a, errors.Join(json.Unmarshal([]byte(counts), &a.Counts), json.Unmarshal([]byte(measures), &a.Measures))
}

// lastOf is the last audit of a site, nil when there is none. The last is the one that was kept last, whatever the clock said.
func lastOf(ctx context.Context, q querier, site int64) (*Audit, error) {
	a, err := scan(q.QueryRowContext(ctx, "SELECT "+columns+" FROM audit WHERE site = ? AND aside = 0 ORDER BY id DESC LIMIT 1", site))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return a, err
}

// List gives the audits of a site, the oldest first.
func (s *Store) List(ctx context.Context, of Site) ([]Audit, error) {
	return reading(ctx, func(ctx context.Context) ([]Audit, error) {
		rows, err := s.db.QueryContext(ctx, "SELECT "+columns+" FROM audit WHERE site = (SELECT id FROM site WHERE key = ?) ORDER BY id", of.key())
		if err != nil {
			return nil, s.explained(err)
		}
		defer rows.Close()
		var all []Audit
		for rows.Next() {
			a, err := scan(rows)
			if err != nil {
				return nil, s.explained(err)
			}
			all = append(all, *a)
		}
		return all, s.explained(rows.Err())
	})
}

// Load gives an audit with what it saw, and what was said of it.
func (s *Store) Load(ctx context.Context, a Audit) (*Kept, error) {
	return reading(ctx, func(ctx context.Context) (*Kept, error) {
		unpacked, err := payload(ctx, s.db, a.ID)
		if err != nil {
			return nil, s.explained(err)
		}
		return unwrap(unpacked, a)
	})
}

// Signs gives what an audit saw of what strangers can tell, and nothing else of it; there is nothing where it did not look.
func (s *Store) Signs(ctx context.Context, a Audit) ([]facts.Telling, error) {
	return reading(ctx, func(ctx context.Context) ([]facts.Telling, error) {
		unpacked, err := payload(ctx, s.db, a.ID)
		if err != nil {
			return nil, s.explained(err)
		}
		seen, _, _ := bytes.Cut(unpacked, []byte("\n"))
		var of struct {
			Signs []facts.Telling `json:"signs"`
		}
		if err := json.Unmarshal(seen, &of); err != nil {
			return nil, fmt.Errorf("what is kept of audit %d is not understood: %w", a.ID, err)
		}
		return of.Signs, nil
	})
}

// Find gives an audit of a site by its number, or the last up to the end of a day, as 2026-03-05.
func Find(audits []Audit, name string) (Audit, error) {
	if len(audits) == 0 {
		return Audit{}, errors.New("no audit of this site is kept yet; weltaxis audit keeps one")
	}
	if id, err := strconv.ParseInt(name, 10, 64); err == nil {
		i := slices.IndexFunc(audits, func(a Audit) bool { return a.ID == id })
		if i < 0 {
			return Audit{}, fmt.Errorf("there is no audit %d of this site; weltaxis history lists them", id)
		}
		return audits[i], nil
	}
	day, err := time.Parse(time.DateOnly, name)
	if err != nil {
		return Audit{}, fmt.Errorf("%q is no number of an audit and no day; weltaxis history lists them", name)
	}
	for _, a := range slices.Backward(audits) {
		if a.Taken.Before(day.Add(24 * time.Hour)) {
			return a, nil
		}
	}
	return Audit{}, fmt.Errorf("no audit of this site was kept up to %s; the first is of %s", name, audits[0].Taken.Format(time.DateOnly))
}

// Days are those that follow-ups of a site were given when they were first seen, by uid.
func (s *Store) Days(ctx context.Context, of Site) (map[string]facts.Day, error) {
	return reading(ctx, func(ctx context.Context) (map[string]facts.Day, error) {
		rows, err := s.db.QueryContext(ctx, "SELECT uid, day FROM promise WHERE site = (SELECT id FROM site WHERE key = ?)", of.key())
		if err != nil {
			return nil, s.explained(err)
		}
		defer rows.Close()
		days := map[string]facts.Day{}
		for rows.Next() {
			var uid string
			var day facts.Day
			if err := rows.Scan(&uid, &day); err != nil {
				return nil, s.explained(err)
			}
			days[uid] = day
		}
		return days, s.explained(rows.Err())
	})
}
