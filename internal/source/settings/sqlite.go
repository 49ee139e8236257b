package settings

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
	"strconv"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver
)

// A database is a connection that cannot write.
type database struct {
	file    string // below the root
	conn    *sql.Conn
	pool    *sql.DB
	private string       // folder of a private copy, removed at the end
	check   func() error // whether the file is still the one that was opened
}

var errOutside = errors.New("it lies outside the site's root")

// busyWait is how long a locked database is waited for.
const busyWait = 1500 * time.Millisecond

// queryTime bounds one query.
const queryTime = 20 * time.Second

// openSQLite opens a database file below root so that nothing is written beside it and the rows of a program
// that has it open are seen. What that takes depends on the state of its write-ahead log
// (https://www.sqlite.org/wal.html §4.1, https://www.sqlite.org/uri.html):
//
//	rollback journal        mode=ro, which takes part in locking and writes nothing
//	log and index in use    mode=ro, which needs them and finds them
//	neither log nor index   immutable, since mode=ro would create both; that nobody wrote is checked afterwards
//	log without index       a private copy of both, since only a writer could make the index
func openSQLite(ctx context.Context, root *os.Root, name string) (*database, error) {
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
	db := &database{file: rel, check: func() error { return nil }}
	query := url.Values{"mode": {"ro"}, "_pragma": {"query_only(1)", "trusted_schema(0)", fmt.Sprintf("busy_timeout(%d)", busyWait.Milliseconds())}}
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
	if db.conn, err = db.pool.Conn(ctx); err != nil {
		return err
	}
	// One transaction for everything, so that all rows are of one moment.
	if _, err = db.conn.ExecContext(ctx, "BEGIN"); err != nil {
		return err
	}
	_, err = db.single(ctx, "SELECT count(*) FROM sqlite_master")
	return err
}

// sqliteHeader reads the 100 bytes a database starts with (https://www.sqlite.org/fileformat.html §1.3), and
// refuses what is no database or is cut short.
func sqliteHeader(root *os.Root, rel string) ([]byte, fs.FileInfo, error) {
	file, err := root.Open(rel)
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
	dir, err := os.MkdirTemp("", "weltaxis-")
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
	in, err := os.Open(from)
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

func (db *database) close() {
	if db.conn != nil {
		db.conn.Close()
	}
	if db.pool != nil {
		db.pool.Close()
	}
	if db.private != "" {
		os.RemoveAll(db.private)
	}
}

// explain puts the driver's words for the usual troubles into plain ones.
func explain(err error) error {
	text := err.Error()
	for _, known := range []struct{ sign, says string }{
		{"SQLITE_BUSY", "it is locked by another program"},
		{"database is locked", "it is locked by another program"},
		{"malformed", "it is damaged"},
		{"not a database", "it is no SQLite database"},
		{"no such table", "the table does not exist"},
		{"interrupted", "reading it took too long"},
		{"deadline", "reading it took too long"},
	} {
		if strings.Contains(text, known.sign) {
			return errors.New(known.says)
		}
	}
	return err
}

// keyValues reads the rows of the named keys from a table of keys and values.
func (db *database) keyValues(ctx context.Context, table, key, value string, keys []string) (map[string]string, error) {
	if len(keys) == 0 {
		return map[string]string{}, nil
	}
	marks := strings.TrimSuffix(strings.Repeat("?,", len(keys)), ",")
	query := fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s IN (%s)", quoted(key), quoted(value), quoted(table), quoted(key), marks)
	args := make([]any, len(keys))
	for i, k := range keys {
		args[i] = k
	}
	pairs := map[string]string{}
	err := db.each(ctx, query, args, func(_ []string, row []sql.NullString) error {
		if !row[1].Valid {
			return nil // an SQL null is as good as no row
		}
		if len(row[1].String) > maxValue {
			return fmt.Errorf("row %s holds %d bytes; at most %d are read", row[0].String, len(row[1].String), maxValue)
		}
		pairs[row[0].String] = row[1].String
		return nil
	})
	return pairs, err
}

// quoted is a name in SQL (https://www.sqlite.org/lang_keywords.html).
func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// single puts a query that has one value.
func (db *database) single(ctx context.Context, query string) (any, error) {
	var value any
	err := db.each(ctx, query, nil, func(_ []string, row []sql.NullString) error {
		value = row[0].String
		return nil
	})
	return value, err
}

// maxRows is the longest list that is read.
const maxRows = 100_000

// rows reads all rows of a query by column.
func (db *database) rows(ctx context.Context, query string) ([]map[string]string, error) {
	list := []map[string]string{}
	err := db.each(ctx, query, nil, func(columns []string, row []sql.NullString) error {
		if len(list) == maxRows {
			return fmt.Errorf("the list has more than %s entries", strconv.Itoa(maxRows))
		}
		item := map[string]string{}
		for i, column := range columns {
			item[column] = row[i].String
		}
		list = append(list, item)
		return nil
	})
	return list, err
}

func (db *database) each(ctx context.Context, query string, args []any, take func(columns []string, row []sql.NullString) error) error {
	ctx, cancel := context.WithTimeout(ctx, queryTime)
	defer cancel()
	rows, err := db.conn.QueryContext(ctx, query, args...)
	if err != nil {
		return explain(err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	row := make([]sql.NullString, len(columns))
	into := make([]any, len(columns))
	for i := range row {
		into[i] = &row[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		if err := take(columns, row); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return explain(err)
	}
	return db.check()
}
