package history

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
	"weltaxis/internal/secrets"
)

// KeepRun keeps what a run of fix found, changed, saw afterwards and left, as JSON.
func (s *Store) KeepRun(ctx context.Context, of Site, name string, at time.Time, data []byte) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		site, err := siteID(ctx, tx, of)
		if err != nil {
			return err
		}
		packed, err := pack([]byte(secrets.Shown(string(data))), nil)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO run (site, name, at, data) VALUES (?, ?, ?, ?) ON CONFLICT (site, name) DO UPDATE SET data = excluded.data", site, name, at.Unix(), packed)
		return err
	})
}

// Run gives what is kept of a run of fix.
func (s *Store) Run(ctx context.Context, of Site, name string) ([]byte, error) {
	return reading(ctx, func(ctx context.Context) ([]byte, error) {
		var packed []byte
		err := s.db.QueryRowContext(ctx, "SELECT data FROM run WHERE site = (SELECT id FROM site WHERE key = ?) AND name = ?", of.key(), name).Scan(&packed)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return nil, fmt.Errorf("no run %s of fix is kept for this site; weltaxis history lists them", name)
		case err != nil:
			return nil, s.explained(err)
		}
		return unpack(packed, nil)
	})
}

// Runs are the names of the runs that are kept.
func (s *Store) Runs(ctx context.Context, of Site) (map[string]time.Time, error) {
	return reading(ctx, func(ctx context.Context) (map[string]time.Time, error) {
		rows, err := s.db.QueryContext(ctx, "SELECT name, at FROM run WHERE site = (SELECT id FROM site WHERE key = ?)", of.key())
		if err != nil {
			return nil, s.explained(err)
		}
		defer rows.Close()
		runs := map[string]time.Time{}
		for rows.Next() {
			var name string
			var at int64
			if err := rows.Scan(&name, &at); err != nil {
				return nil, s.explained(err)
			}
			runs[name] = time.Unix(at, 0).UTC()
		}
		return runs, s.explained(rows.Err())
	})
}
