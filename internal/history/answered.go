package history

import (
	"context"
	"database/sql"
	"net/http"
	"time"

	"weltaxis/internal/facts"
)

// Of addresses that answered, so many are kept of a site, and given to be asked again for so long.
const (
	mostAnswered = 5000
	askFor       = 400 * 24 * time.Hour
)

// answers notes the addresses that answered with a page.
func answers(ctx context.Context, tx *sql.Tx, site int64, audit Audit, s *facts.Snapshot) error {
	put, err := tx.PrepareContext(ctx, "INSERT INTO answered (site, address, audit, at) VALUES (?, ?, ?, ?) ON CONFLICT (site, address) DO UPDATE SET audit = excluded.audit, at = excluded.at")
	if err != nil {
		return err
	}
	defer put.Close()
	for i := range s.Pages {
		if p := &s.Pages[i]; p.Status == http.StatusOK {
			if _, err := put.ExecContext(ctx, site, p.Address, audit.ID, audit.Taken.Unix()); err != nil {
				return err
			}
		}
	}
	_, err = tx.ExecContext(ctx, "DELETE FROM answered WHERE site = ? AND address NOT IN (SELECT address FROM answered WHERE site = ? ORDER BY audit DESC, address LIMIT ?)", site, site, mostAnswered)
	return err
}

// Answered are addresses of a site that answered with a page in one of the audits that are kept, and did not in the last: the latest first.
// Those of the last one come after them.
func (s *Store) Answered(ctx context.Context, of Site, now time.Time) ([]string, error) {
	return reading(ctx, func(ctx context.Context) ([]string, error) {
		rows, err := s.db.QueryContext(ctx, `SELECT answered.address FROM answered JOIN site ON site.id = answered.site WHERE site.key = ? AND answered.at > ?
			ORDER BY answered.audit = (SELECT max(audit) FROM answered WHERE site = site.id), answered.audit DESC, answered.address`, of.key(), now.Add(-askFor).Unix())
		if err != nil {
			return nil, s.explained(err)
		}
		defer rows.Close()
		var all []string
		for rows.Next() {
			var address string
			if err := rows.Scan(&address); err != nil {
				return nil, s.explained(err)
			}
			all = append(all, address)
		}
		return all, s.explained(rows.Err())
	})
}
