// Package history keeps what was seen of sites and said of it, audit by audit, in one SQLite file: so that it can be told since when something deviates, and what changed.
//
// What is kept is never changed afterwards, only thrown away when it is too much or too old. No secret is in it, since none is in a
// snapshot. The package looks at no site and judges nothing. It may import facts, compare, identity, lock and nearest.
package history

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"modernc.org/sqlite"
	codes "modernc.org/sqlite/lib"

	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
	locks "weltaxis/internal/lock"
)

// FileName is the file below the folder of what is kept.
const FileName = "history.db"

// applicationID marks the file as ours (https://www.sqlite.org/fileformat.html §1.3.9): "Wlxs".
const applicationID = 0x576c7873

// busyWait is how long somebody who writes is waited for.
const busyWait = 20 * time.Second

// A Store is the file, opened.
type Store struct {
	file string
	db   *sql.DB
}

// ErrNone says that nothing is kept.
var ErrNone = errors.New("nothing is kept yet")

// A Damage is a file that cannot be read, or is none of this program's.
type Damage struct {
	File    string
	Because error
}

func (d *Damage) Error() string {
	return fmt.Sprintf("%s is damaged (%s); the next audit puts it aside and begins another, or move it away", d.File, facts.InWords(d.Because))
}

func (d *Damage) Unwrap() error { return d.Because }

// Open opens the history in a folder for reading. The error is ErrNone when there is none.
func Open(ctx context.Context, dir string) (s *Store, err error) {
	err = identity.AsCaller(func() (err error) {
		s, err = openStore(ctx, dir)
		return err
	})
	return s, err
}

func openStore(ctx context.Context, dir string) (*Store, error) {
	file := filepath.Join(dir, FileName)
	if stat, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNone
	} else if err != nil {
		return nil, fmt.Errorf("reading %s: %w", file, facts.Plainly(err))
	} else if !stat.Mode().IsRegular() {
		return nil, notOrdinary(file)
	} else if stat.Size() == 0 {
		return nil, ErrNone
	}
	s := &Store{file: file}
	return s, s.open(ctx)
}

// Make opens the history in a folder for writing, and makes it if there is none. A damaged one is put aside, and said where.
func Make(ctx context.Context, dir string) (s *Store, aside string, err error) {
	err = identity.AsCaller(func() (err error) {
		s, aside, err = makeStore(ctx, dir)
		return err
	})
	return s, aside, err
}

func makeStore(ctx context.Context, dir string) (s *Store, aside string, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, "", fmt.Errorf("making %s: %w", dir, facts.Plainly(err))
	}
	s = &Store{file: filepath.Join(dir, FileName)}
	if stat, err := os.Stat(s.file); err == nil && !stat.Mode().IsRegular() {
		return nil, "", notOrdinary(s.file)
	}
	file, err := os.OpenFile(s.file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, "", fmt.Errorf("writing %s: %w", s.file, facts.Plainly(err))
	}
	file.Close()
	err = s.open(ctx)
	if damage := (*Damage)(nil); errors.As(err, &damage) {
		if aside, err = s.putAside(ctx); err != nil {
			return nil, "", err
		}
		err = s.open(ctx)
	}
	if err != nil {
		return nil, aside, err
	}
	return s, aside, nil
}

func notOrdinary(file string) error {
	return fmt.Errorf("%s is no ordinary file, so no history; move it away, or say --state DIR", file)
}

// heapLimit is how much memory SQLite may take, in bytes, and the times how long one thing may take that is asked of it: a file that others
// write to may mean ill.
const (
	heapLimit = 512 << 20
	writeTime = time.Minute
	readTime  = 10 * time.Second
)

func (s *Store) open(ctx context.Context) error {
	at := url.URL{Scheme: "file", Path: s.file, RawQuery: url.Values{"_txlock": {"immediate"}, "_pragma": {
		fmt.Sprintf("busy_timeout(%d)", busyWait.Milliseconds()), "synchronous(FULL)", "foreign_keys(1)", "trusted_schema(0)", fmt.Sprintf("hard_heap_limit(%d)", heapLimit)}}.Encode()}
	db, err := sql.Open("sqlite", at.String())
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	s.db = db
	if err := s.upgrade(ctx); err != nil {
		s.Close()
		return s.explained(err)
	}
	return nil
}

// Close lets go of the file.
func (s *Store) Close() error {
	if s == nil || s.db == nil {
		return nil
	}
	return identity.AsCaller(s.db.Close)
}

// PutAside closes a file that turned out to be damaged, and moves it away.
func (s *Store) PutAside(ctx context.Context) (aside string, err error) {
	s.Close()
	err = identity.AsCaller(func() (err error) {
		aside, err = s.putAside(ctx)
		return err
	})
	return aside, err
}

// putAside moves a damaged file away, with what belongs to it, unless another process has done so meanwhile.
func (s *Store) putAside(ctx context.Context) (string, error) {
	guard, err := os.OpenFile(s.file+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return "", fmt.Errorf("%s is damaged, and cannot be put aside: %w", s.file, facts.Plainly(err))
	}
	defer guard.Close()
	if err := locks.Wait(guard); err != nil {
		return "", err
	}
	if err := s.open(ctx); err == nil { // another one has
		return "", s.Close()
	}
	to := s.file + ".damaged-" + time.Now().UTC().Format("20060102T150405")
	for n := 2; ; n++ {
		if _, err := os.Lstat(to); errors.Is(err, fs.ErrNotExist) {
			break
		}
		to = fmt.Sprintf("%s.damaged-%s-%d", s.file, time.Now().UTC().Format("20060102T150405"), n)
	}
	if err := os.Rename(s.file, to); err != nil {
		return "", fmt.Errorf("%s is damaged, and cannot be put aside: %w", s.file, facts.Plainly(err))
	}
	if err := os.Rename(s.file+"-journal", to+"-journal"); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("the journal of %s cannot be put aside: %w", s.file, facts.Plainly(err))
	}
	return to, nil
}

// reading reads something, in a time, as whoever started this program: the file is that user's, whomever the program acts as.
func reading[T any](ctx context.Context, do func(context.Context) (T, error)) (read T, err error) {
	ctx, cancel := context.WithTimeout(ctx, readTime)
	defer cancel()
	err = identity.AsCaller(func() (err error) {
		read, err = do(ctx)
		return err
	})
	return read, err
}

// explained puts an error of the database into words.
func (s *Store) explained(err error) error {
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%s: what was asked of it took too long, so it may be damaged, or mean ill", s.file)
	}
	var of *sqlite.Error
	if !errors.As(err, &of) {
		return err
	}
	switch of.Code() & 0xff {
	case codes.SQLITE_CORRUPT, codes.SQLITE_NOTADB:
		return &Damage{s.file, err}
	case codes.SQLITE_FULL:
		return fmt.Errorf("%s: there is no room left on the disk", s.file)
	case codes.SQLITE_BUSY, codes.SQLITE_LOCKED:
		return fmt.Errorf("%s: somebody else writes to it, for longer than %s", s.file, busyWait)
	case codes.SQLITE_READONLY, codes.SQLITE_PERM, codes.SQLITE_CANTOPEN, codes.SQLITE_AUTH:
		return fmt.Errorf("%s may not be written to, or its folder may not", s.file)
	}
	return fmt.Errorf("%s: %s", s.file, strings.TrimSpace(of.Error()))
}

// change does something in one transaction: all of it is kept or nothing.
func (s *Store) change(ctx context.Context, do func(*sql.Tx) error) error {
	ctx, cancel := context.WithTimeout(ctx, writeTime)
	defer cancel()
	return identity.AsCaller(func() error { return s.transaction(ctx, do) })
}

func (s *Store) transaction(ctx context.Context, do func(*sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return s.explained(err)
	}
	if err := do(tx); err != nil {
		_ = tx.Rollback()
		return s.explained(err)
	}
	return s.explained(tx.Commit())
}
