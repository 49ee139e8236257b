package history

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
)

// A step brings the file from one version to the next.
type step struct {
	tables string
	fill   func(ctx context.Context, tx *sql.Tx) error // from what is there; nil when nothing is to be filled in
}

// steps are the versions of the file, from the first. One that is released is never changed.
var steps = []step{
	{tables: `
CREATE TABLE site (
  id INTEGER PRIMARY KEY,
  key TEXT NOT NULL UNIQUE,       -- what tells sites apart
  name TEXT NOT NULL,
  address TEXT NOT NULL
) STRICT;
CREATE TABLE audit (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  site INTEGER NOT NULL REFERENCES site (id),
  taken INTEGER NOT NULL,         -- by the clock of the machine that looked, in seconds since 1970
  tool TEXT NOT NULL,
  baseline TEXT NOT NULL,
  dialect TEXT NOT NULL,
  stage TEXT NOT NULL,
  part TEXT NOT NULL,             -- areas, rules and severities that were asked for; '' for all
  aside INTEGER NOT NULL,         -- judged as if in another stage: it says nothing of since when
  partial INTEGER NOT NULL,       -- something that was asked for could not be seen
  run TEXT NOT NULL,              -- of fix, before and after which it was made; '' for none
  alignment REAL,
  judged REAL,
  counts TEXT NOT NULL,           -- deviating rules by severity, as JSON
  measures TEXT NOT NULL          -- numbers that were seen, as JSON
) STRICT;
CREATE INDEX audit_site ON audit (site, id);
CREATE TABLE payload (            -- snapshot and result
  audit INTEGER PRIMARY KEY,
  site INTEGER NOT NULL REFERENCES site (id),
  base INTEGER,                   -- the payload by which this one is told; NULL when it is whole
  size INTEGER NOT NULL,          -- unpacked, in bytes
  data BLOB NOT NULL
) STRICT;
CREATE TABLE run (
  site INTEGER NOT NULL REFERENCES site (id),
  name TEXT NOT NULL,
  at INTEGER NOT NULL,
  data BLOB NOT NULL,
  PRIMARY KEY (site, name)
) STRICT, WITHOUT ROWID;`},
	{tables: `
CREATE TABLE spell (              -- a deviation, for as long as it was there without a break
  site INTEGER NOT NULL REFERENCES site (id),
  fingerprint TEXT NOT NULL,
  rule TEXT NOT NULL,
  severity INTEGER NOT NULL,
  begun INTEGER NOT NULL,         -- the audit that saw it first
  begun_at INTEGER NOT NULL,
  lacked INTEGER,                 -- the last one before that judged the rule and did not see it
  lacked_at INTEGER,
  gone INTEGER,                   -- the first that judged the rule and did not see it any more
  PRIMARY KEY (site, fingerprint, begun)
) STRICT, WITHOUT ROWID;
CREATE INDEX spell_open ON spell (site) WHERE gone IS NULL;
CREATE TABLE judged (             -- the last audit that judged a rule
  site INTEGER NOT NULL REFERENCES site (id),
  rule TEXT NOT NULL,
  audit INTEGER NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (site, rule)
) STRICT, WITHOUT ROWID;
CREATE TABLE answered (           -- addresses that answered with a page, and the last audit in which they did
  site INTEGER NOT NULL REFERENCES site (id),
  address TEXT NOT NULL,
  audit INTEGER NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (site, address)
) STRICT, WITHOUT ROWID;
CREATE TABLE promise (            -- the day on which to come back to something, counted from when it was first seen
  site INTEGER NOT NULL REFERENCES site (id),
  uid TEXT NOT NULL,
  day TEXT NOT NULL,
  PRIMARY KEY (site, uid)
) STRICT, WITHOUT ROWID;`, fill: retell},
}

// upgrade makes the tables, or brings those of an earlier version up. A newer version is refused.
func (s *Store) upgrade(ctx context.Context) error {
	version, err := s.version(ctx)
	if err != nil || version == len(steps) {
		return err
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if err := tx.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version); err != nil { // another process may have been first
		return err
	}
	for ; version < len(steps); version++ {
		step := steps[version]
		if _, err := tx.ExecContext(ctx, step.tables); err != nil {
			return err
		}
		if step.fill != nil {
			if err := step.fill(ctx, tx); err != nil {
				return err
			}
		}
	}
	for _, mark := range []string{fmt.Sprintf("PRAGMA application_id = %d", applicationID), fmt.Sprintf("PRAGMA user_version = %d", len(steps))} {
		if _, err := tx.ExecContext(ctx, mark); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// version is that of the file, 0 for an empty one.
func (s *Store) version(ctx context.Context) (version int, err error) {
	var application, tables int
	for query, into := range map[string]*int{"PRAGMA user_version": &version, "PRAGMA application_id": &application, "SELECT count(*) FROM sqlite_schema": &tables} {
		if err := s.db.QueryRowContext(ctx, query).Scan(into); err != nil {
			return 0, err
		}
	}
	switch {
	case application == applicationID && version > len(steps):
		return 0, fmt.Errorf("%s has version %d, and this program knows %d; use the newer one", s.file, version, len(steps))
	case application != applicationID && tables > 0:
		return 0, &Damage{s.file, errors.New("it is a database of another program")}
	}
	return version, nil
}
