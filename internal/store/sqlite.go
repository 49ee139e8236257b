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
	"weltaxis/internal/orders"
	"weltaxis/internal/ordinary"
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
func (s *Installation) openSQLite(ctx context.Context, name string) (*database, error) {
	root := s.root
	if root == nil {
		return nil, errNoRoot
	}
	rel := path.Clean(strings.TrimLeft(filepath.ToSlash(name), "/"))
	if !filepath.IsLocal(rel) {
		return nil, errOutside
	}
	header, stat, err := sqliteHeader(root, rel)
	if err != nil {
		return nil, err
	}
	full, err := filepath.EvalSymlinks(filepath.Join(root.Name(), rel))
	if err != nil {
		return nil, err
	}
	db := &database{name: rel, driver: dialect.SQLite, check: func() error { return nil }}
	query := url.Values{"mode": {"ro"}, "_pragma": {"query_only(1)", "trusted_schema(0)", fmt.Sprintf("hard_heap_limit(%d)", heapLimit), fmt.Sprintf("busy_timeout(%d)", busyWait.Milliseconds())}}
	walMode := header[18] == 2 || header[19] == 2
	log, index := size(full+"-wal"), size(full+"-shm")
	switch {
	case walMode && log > 0 && index <= 0:
		if full, err = db.copyAside(full); err != nil {
			return nil, err
		}
		query.Del("mode")
	case walMode && (log <= 0 || index <= 0):
		query.Set("immutable", "1")
		db.check = func() error { return unchanged(root, rel, stat) }
	}
	if err := db.connect(ctx, full, query); err != nil {
		db.close()
		return nil, explain(err)
	}
	return db, nil
}

func (db *database) connect(ctx context.Context, full string, query url.Values) (err error) {
	abs, err := filepath.Abs(full)
	if err != nil {
		return err
	}
	dsn := (&url.URL{Scheme: "file", Path: filepath.ToSlash(abs), RawQuery: query.Encode()}).String()
	if db.pool, err = sql.Open("sqlite", dsn); err != nil {
		return err
	}
	conn, err := db.pool.Conn(ctx)
	if err != nil {
		return err
	}
	db.conn, db.done = conn, func() { conn.Close() }
	if _, err := sqlite.Limit(conn, limitLength, maxRow); err != nil {
		return err
	}
	// One transaction for everything, so that all rows are of one moment.
	if _, err = conn.ExecContext(ctx, "BEGIN"); err != nil {
		return err
	}
	return db.each(ctx, "SELECT count(*) FROM sqlite_master", nil, func([]string, []sql.NullString) error { return nil })
}

// sqliteHeader reads the 100 bytes a database starts with (https://www.sqlite.org/fileformat.html §1.3), and
// refuses what is no database or is cut short.
func sqliteHeader(root *os.Root, rel string) ([]byte, fs.FileInfo, error) {
	file, err := ordinary.OpenIn(root, rel)
	if err != nil {
		if strings.Contains(err.Error(), "escapes") {
			return nil, nil, errOutside
		}
		return nil, nil, err
	}
	defer file.Close()
	stat, err := file.Stat()
	if err != nil {
		return nil, nil, err
	}
	header := make([]byte, 100)
	if _, err := io.ReadFull(file, header); err != nil || string(header[:16]) != "SQLite format 3\x00" {
		return nil, nil, errors.New("it is no SQLite database")
	}
	pageSize := int64(binary.BigEndian.Uint16(header[16:]))
	if pageSize == 1 {
		pageSize = 65536
	}
	// The page count holds only when the two counters agree (§1.3.7).
	whole := pageSize * int64(binary.BigEndian.Uint32(header[28:]))
	if counted := string(header[24:28]) == string(header[92:96]); counted && stat.Size() < whole {
		return nil, nil, fmt.Errorf("it is cut short: %d of %d bytes are there", stat.Size(), whole)
	}
	return header, stat, nil
}

// size is a file's size, -1 when there is none.
func size(name string) int64 {
	stat, err := os.Lstat(name)
	if err != nil {
		return -1
	}
	return stat.Size()
}

func unchanged(root *os.Root, rel string, before fs.FileInfo) error {
	after, err := root.Stat(rel)
	if err != nil {
		return err
	}
	if after.Size() != before.Size() || !after.ModTime().Equal(before.ModTime()) {
		return errors.New("somebody wrote to it while it was read; look again")
	}
	return nil
}

// copyAside copies a database and its log into a private folder and returns the copy's name.
func (db *database) copyAside(full string) (string, error) {
	dir, err := os.MkdirTemp(orders.TempDir(), "weltaxis-")
	if err != nil {
		return "", err
	}
	db.private = dir
	target := filepath.Join(dir, "copy.db")
	for _, suffix := range []string{"", "-wal"} {
		if err := copyFile(full+suffix, target+suffix); err != nil {
			db.close()
			return "", fmt.Errorf("copying it aside to read its log: %w", err)
		}
	}
	return target, nil
}

func copyFile(from, to string) error {
	in, err := ordinary.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

func (db *database) removeCopy() {
	if db.private != "" {
		os.RemoveAll(db.private)
	}
}
