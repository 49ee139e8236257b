package history

import (
	"context"
	"database/sql"
	"time"

	"weltaxis/internal/identity"
)

// A Retention says how much of a site is kept.
type Retention struct {
	Audits int           // at most; 0 for any number
	Age    time.Duration // at most; 0 for any
}

// The retention where nothing else is said, and how many audits age alone never takes.
const (
	DefaultAudits = 1000
	DefaultAge    = 3 * 365 * 24 * time.Hour
	alwaysKept    = 30
)

// Usual is the retention where nothing else is said.
var Usual = Retention{DefaultAudits, DefaultAge}

// doubtful is how long after the last audit but one the clock may stand for age to count: one that stands a year ahead would have all
// thrown away.
const doubtful = 120 * 24 * time.Hour

// Prune throws away what is more, or older, than is to be kept, and gives how many audits that were. Since when deviations are there is
// still known of those that are thrown away. Age alone never takes the last thirty, and none while the clock is in doubt, unless
// somebody asked for it.
func (s *Store) Prune(ctx context.Context, of Site, keep Retention, now time.Time, asked bool) (gone int, err error) {
	audits, err := s.List(ctx, of)
	if err != nil || len(audits) == 0 {
		return 0, err
	}
	sure := asked || len(audits) < 2 || now.Sub(audits[len(audits)-2].Taken).Abs() < doubtful
	var out []int64
	for i, a := range audits {
		left := len(audits) - i // with this one
		switch {
		case keep.Audits > 0 && left > keep.Audits, keep.Age > 0 && sure && (asked || left > alwaysKept) && left > 1 && now.Sub(a.Taken) > keep.Age:
			out = append(out, a.ID)
		}
	}
	if len(out) == 0 {
		return 0, nil
	}
	err = s.change(ctx, func(tx *sql.Tx) error {
		for _, id := range out {
			if _, err := tx.ExecContext(ctx, "DELETE FROM audit WHERE id = ?", id); err != nil {
				return err
			}
		}
		// What others are told by stays until none of them is left.
		_, err := tx.ExecContext(ctx, `DELETE FROM payload WHERE audit NOT IN (SELECT id FROM audit)
			AND audit NOT IN (SELECT base FROM payload WHERE base IS NOT NULL AND audit IN (SELECT id FROM audit))`)
		return err
	})
	if err != nil {
		return 0, err
	}
	return len(out), nil
}

// Shrink gives the room of what was thrown away back to the disk.
func (s *Store) Shrink(ctx context.Context) error {
	return identity.AsCaller(func() error {
		_, err := s.db.ExecContext(ctx, "VACUUM")
		return s.explained(err)
	})
}
