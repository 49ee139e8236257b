package store

import (
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"modernc.org/sqlite"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
	"weltaxis/internal/private"
	"weltaxis/internal/tree"
)

// busyWait is how long a locked database is waited for.
const busyWait = 1500 * time.Millisecond

// limitLength is the number of the longest text and row that SQLite takes up (SQLITE_LIMIT_LENGTH,
// https://www.sqlite.org/c3ref/c_limit_attached.html), and maxRow is what it is set to, in bytes.
const (
	limitLength = 0
	maxRow      = 16 << 20
)

// heapLimit is how much memory SQLite may take, in bytes: a query that wants more gets an error.
const heapLimit = 64 << 20

// openSQLite opens a database file below root so that nothing is written beside it and the rows of a program
// that has it open are seen. What that takes depends on the state of its write-ahead log
// (https://www.sqlite.org/wal.html §4.1, https://www.sqlite.org/uri.html):
//
//	rollback journal        mode=ro, which takes part in locking and writes nothing
//	log and index in use    mode=ro, which needs them and finds them
//	neither log nor index   immutable, since mode=ro would create both; that nobody wrote is checked afterwards
//	log without index       a private copy of both, since only a writer could make the index
//
// What only another may open as whom this program may read is copied too: SQLite opens by name, which it does as the owner of the tree alone.
func (s *Installation) openSQLite(ctx context.Context, name string) (*database, error) {
	at, err := s.sqliteAt(name)
	if err != nil {
		return nil, err
	}
	defer at.file.Close()
	db := &database{name: at.rel, driver: dialect.SQLite, check: func() error { return nil }}
	full, query := at.full, pragmas()
	query.Set("mode", "ro")
	log, index := at.beside["-wal"], at.beside["-shm"]
	switch {
	case at.logged && log > 0 && index <= 0:
		if full, err = db.copyAside(s.files, at.rel); err != nil {
			return nil, err
		}
		query.Del("mode")
	case at.logged && (log <= 0 || index <= 0):
		query.Set("immutable", "1")
		db.check = func() error { return s.unchanged(at.rel, at.info) }
	}
	err = db.connect(ctx, full, query, at.file)
	if err != nil && kept(err) && len(identity.Further()) > 0 {
		db.close()
		db, err = s.openCopy(ctx, at)
	}
	if err != nil {
		db.close()
		return nil, explain(err)
	}
	return db, nil
}

// kept tells an error of SQLite that the rights to a file would have kept away (https://www.sqlite.org/rescode.html).
func kept(err error) bool {
	return strings.Contains(err.Error(), "unable to open database file") || strings.Contains(err.Error(), "readonly database")
}

// openCopy reads a database from a private copy.
func (s *Installation) openCopy(ctx context.Context, at sqliteFile) (*database, error) {
	db := &database{name: at.rel, driver: dialect.SQLite}
	db.check = func() error {
		now, err := s.sqliteAt(at.rel)
		if err != nil {
			return err
		}
		defer now.file.Close()
		if now.beside["-journal"] > 0 {
			return errWritten
		}
		return s.unchanged(at.rel, at.info)
	}
	full, err := db.copyAside(s.files, at.rel)
	if err == nil {
		err = db.check()
	}
	if err == nil {
		err = db.connect(ctx, full, pragmas(), at.file)
	}
	return db, err
}

// pragmas are how a database is read.
func pragmas() url.Values {
	return url.Values{"_pragma": {"query_only(1)", "temp_store(memory)", "trusted_schema(0)", fmt.Sprintf("hard_heap_limit(%d)", heapLimit), fmt.Sprintf("busy_timeout(%d)", busyWait.Milliseconds())}}
}

var errWritten = errors.New("somebody wrote to it while it was read; look again")

// A sqliteFile is a database file below the root that has been looked at, and stays open so that it can be told from others.
type sqliteFile struct {
	rel, full string
	file      fs.File
	info      fs.FileInfo
	logged    bool             // it has a write-ahead log
	beside    map[string]int64 // how large what SQLite keeps beside it is, by ending; -1 where it is not there
}

// sqliteAt looks at a database file. SQLite opens what it is told, and what it keeps beside that, by name, and follows links: so there
// may be none.
func (s *Installation) sqliteAt(name string) (at sqliteFile, err error) {
	at.rel = path.Clean(strings.TrimLeft(filepath.ToSlash(name), "/"))
	if !filepath.IsLocal(at.rel) {
		return at, tree.ErrOutside
	}
	var header []byte
	if at.file, header, at.info, err = s.sqliteHeader(at.rel); err != nil {
		return at, err
	}
	at.logged = header[18] == 2 || header[19] == 2
	if at.full, err = tree.PathOf(s.files, at.rel); err == nil && at.full == "" {
		err = facts.Refusal("it is not on this machine, so its rows cannot be read")
	}
	real := at.rel
	if err == nil {
		real, err = s.files.Real(at.rel)
	}
	at.beside = map[string]int64{}
	for _, ending := range []string{"-wal", "-shm", "-journal"} {
		at.beside[ending] = -1
		switch e, lstatErr := s.files.Lstat(real + ending); {
		case err != nil || errors.Is(lstatErr, fs.ErrNotExist):
		case lstatErr != nil:
			err = lstatErr
		case e.Kind != tree.File || e.Names > 1:
			err = facts.Refusal(path.Base(e.Path) + ", which SQLite would write to, is no file of its own (a link, or something else)")
		default:
			at.beside[ending] = e.Size
		}
	}
	if err != nil {
		at.file.Close()
	}
	return at, err
}

// hand is as whom a database is opened: the copy that nobody else sees as whoever made it.
func (db *database) hand(do func() error) error {
	if db.private != nil {
		return identity.AsCaller(do)
	}
	return do()
}

func (db *database) connect(ctx context.Context, full string, query url.Values, looked fs.File) error {
	return db.hand(func() error { return db.connected(ctx, full, query, looked) })
}

func (db *database) connected(ctx context.Context, full string, query url.Values, looked fs.File) error {
	conn, err := db.open(ctx, full, query)
	if err != nil {
		return err
	}
	db.conn, db.done = conn, func() { conn.Close() }
	if db.private == nil {
		if err := opened(looked); err != nil {
			return err
		}
	}
	if _, err := sqlite.Limit(conn, limitLength, maxRow); err != nil {
		return err
	}
	// One transaction for everything, so that all rows are of one moment.
	if _, err = conn.ExecContext(ctx, "BEGIN"); err != nil {
		return err
	}
	return db.each(ctx, "SELECT count(*) FROM sqlite_master", nil, func([]string, []sql.NullString) error { return nil })
}

// openTime is how long opening a database may take: it waits for nothing, unless its name leads to something else meanwhile.
const openTime = 5 * time.Second

// open opens a file as a database, and nothing is read of it yet.
func (db *database) open(ctx context.Context, full string, query url.Values) (*sql.Conn, error) {
	dsn := (&url.URL{Scheme: "file", Path: filepath.ToSlash(full), RawQuery: query.Encode()}).String()
	pool, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	type answer struct {
		conn *sql.Conn
		err  error
	}
	done := make(chan answer, 1)
	go func() {
		var got answer
		got.err = db.hand(func() (err error) {
			got.conn, err = pool.Conn(ctx)
			return err
		})
		done <- got
	}()
	select {
	case got := <-done:
		db.pool = pool
		return got.conn, got.err
	case <-time.After(openTime): // whatever waits there stays behind
		return nil, errExchanged
	}
}

var errExchanged = errors.New("somebody has put something else in its place while it was opened; look again")

// opened is an error unless this process has a file open once more than by its own hand: SQLite opens by name, and the name may lead
// elsewhere by then.
func opened(looked fs.File) error {
	hands, known := handsOn(looked)
	if known && hands < 2 {
		return errExchanged
	}
	return nil
}

// sqliteHeader opens a file and reads the 100 bytes a database starts with (https://www.sqlite.org/fileformat.html §1.3); it refuses what
// is no database or is cut short.
func (s *Installation) sqliteHeader(rel string) (file fs.File, header []byte, stat fs.FileInfo, err error) {
	file, err = s.files.Open(rel)
	if err != nil {
		return nil, nil, nil, err
	}
	defer func() {
		if err != nil {
			file.Close()
		}
	}()
	if stat, err = file.Stat(); err != nil {
		return nil, nil, nil, err
	}
	header = make([]byte, 100)
	if _, err := io.ReadFull(file, header); err != nil || string(header[:16]) != "SQLite format 3\x00" {
		return file, nil, nil, errors.New("it is no SQLite database")
	}
	pageSize := int64(binary.BigEndian.Uint16(header[16:]))
	if pageSize == 1 {
		pageSize = 65536
	}
	// The page count holds only when the two counters agree (§1.3.7).
	whole := pageSize * int64(binary.BigEndian.Uint32(header[28:]))
	if counted := string(header[24:28]) == string(header[92:96]); counted && stat.Size() < whole {
		return file, nil, nil, fmt.Errorf("it is cut short: %d of %d bytes are there", stat.Size(), whole)
	}
	return file, header, stat, nil
}

func (s *Installation) unchanged(rel string, before fs.FileInfo) error {
	file, err := s.files.Open(rel)
	if err != nil {
		return err
	}
	defer file.Close()
	after, err := file.Stat()
	if err != nil {
		return err
	}
	if after.Size() != before.Size() || !after.ModTime().Equal(before.ModTime()) {
		return errWritten
	}
	return nil
}

// copyAside copies a database and its log into a folder of the caller's, where the owner of the tree does not get, and returns the copy's name.
func (db *database) copyAside(files tree.Files, rel string) (string, error) {
	real, err := files.Real(rel)
	if err == nil {
		db.private, err = private.New("")
	}
	if err != nil {
		return "", err
	}
	target := filepath.Join(db.private.Dir, "copy.db")
	for _, ending := range []string{"", "-wal"} {
		err := copyFile(files, real+ending, target+ending)
		if ending != "" && errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			db.close()
			return "", fmt.Errorf("copying it aside to read it: %w", err)
		}
	}
	return target, nil
}

// maxCopied is how large a file is that is copied, in bytes; whoever owns it could fill a disk with it.
const maxCopied = 2 << 30

func copyFile(files tree.Files, from, to string) error {
	in, err := files.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	return identity.AsCaller(func() error {
		out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		n, err := io.Copy(out, io.LimitReader(in, maxCopied+1))
		if err == nil && n > maxCopied {
			err = facts.Refusal(fmt.Sprintf("it is larger than %s", facts.FormatSize(maxCopied)))
		}
		return errors.Join(err, out.Close())
	})
}

func (db *database) removeCopy() { db.private.Remove() }
