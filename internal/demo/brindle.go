package demo

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	_ "github.com/go-sql-driver/mysql" // the driver
	_ "github.com/jackc/pgx/v5/stdlib" // the driver
	_ "modernc.org/sqlite"             // the driver

	"weltaxis/internal/format"
)

// brindle is the stand-in content system that keeps a few things in config.php and all else in SQL, in a table of
// keys and values.
type brindle struct{}

func (brindle) keep(in *installation, root string) ([]string, error) {
	if err := os.WriteFile(filepath.Join(root, "config.php"), []byte(in.configPHP()), 0o644); err != nil {
		return nil, err
	}
	if in.database != nil {
		return []string{"config.php"}, in.fillServer(brindleSchema, in.fillBrindle)
	}
	path := filepath.Join(root, "data", "brindle.db")
	return []string{"config.php", "data/brindle.db"}, writeSQLite(path, brindleSchema, in.fillBrindle)
}

func (in *installation) configPHP() string {
	var s strings.Builder
	s.WriteString("<?php\n/*\n * Brindle reads this file before anything else.\n * What is defined here overrides the settings made on the administration pages.\n */\n\n")
	for _, name := range slices.Sorted(maps.Keys(in.constants)) {
		fmt.Fprintf(&s, "define('%s', %s);\n", name, in.constants[name])
	}
	where := "        'driver' => 'sqlite',\n        'file'   => __DIR__ . '/data/brindle.db',\n"
	if d := in.database; d != nil {
		where = fmt.Sprintf("        'driver' => '%s',\n        'host' => '127.0.0.1',\n        'port' => %s,\n        'name' => '%s',\n        'user' => '%s',\n        'password' => '%s',\n",
			d.driver, d.port, d.name, d.user, d.password)
	}
	fmt.Fprintf(&s, `
$brindle = [
    'database' => [
%s        'prefix' => 'brn_',
    ],
    // Signs the sessions of everybody who is signed in.
    'secret' => '%s',
];
`, where, strings.ReplaceAll(in.secret, "'", `\'`))
	return s.String()
}

const brindleSchema = `
CREATE TABLE brn_options (name VARCHAR(190) PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE brn_accounts (id INTEGER PRIMARY KEY, login VARCHAR(190) NOT NULL UNIQUE, role TEXT NOT NULL, joined TEXT NOT NULL, second_step INTEGER NOT NULL, seen TEXT);
CREATE TABLE brn_extensions (id INTEGER PRIMARY KEY, name TEXT NOT NULL, kind TEXT NOT NULL, active INTEGER NOT NULL, version TEXT NOT NULL, newest TEXT);
CREATE TABLE brn_forms (id INTEGER PRIMARY KEY, name TEXT NOT NULL, recipient TEXT NOT NULL, robot_check INTEGER NOT NULL);
CREATE TABLE brn_hosts (id INTEGER PRIMARY KEY, host TEXT NOT NULL, leads_on INTEGER NOT NULL);
CREATE TABLE brn_copies (id INTEGER PRIMARY KEY, path TEXT NOT NULL, made TEXT NOT NULL);
CREATE TABLE brn_pages (id INTEGER PRIMARY KEY, slug VARCHAR(190) NOT NULL UNIQUE, title TEXT NOT NULL, kind TEXT NOT NULL, status TEXT NOT NULL,
  published TEXT NOT NULL, description TEXT NOT NULL, body TEXT NOT NULL, unlisted INTEGER NOT NULL)
`

// fillBrindle writes the rows.
func (in *installation) fillBrindle(insert func(table string, values ...any) error) error {
	for _, name := range slices.Sorted(maps.Keys(in.options)) {
		if err := insert("brn_options", name, in.options[name]); err != nil {
			return err
		}
	}
	return in.fillLists(insert, "brn_")
}

// fillLists writes the tables that are not settings. Columns are in the order of the schema.
func (in *installation) fillLists(insert func(table string, values ...any) error, prefix string) error {
	for i, a := range in.accounts {
		second := map[bool]int{true: 1}[a.role == "keeper"]
		if err := insert(prefix+"accounts", i+1, a.login, a.role, fmt.Sprintf("2026-05-%02d", i+3), second, "2026-11-20"); err != nil {
			return err
		}
	}
	for i, e := range in.extensions {
		if err := insert(prefix+"extensions", i+1, e.name, e.kind, map[bool]int{true: 1}[e.active], e.version, e.newest); err != nil {
			return err
		}
	}
	for i, p := range in.pages {
		unlisted := map[bool]int{true: 1}[slices.Contains(in.unlisted, p.slug)]
		if err := insert(prefix+"pages", i+1, p.slug, p.title, p.kind, p.status, p.published, p.description, p.body, unlisted); err != nil {
			return err
		}
	}
	if err := insert(prefix+"forms", 1, "contact", in.options["mail_from"], 1); err != nil {
		return err
	}
	if err := insert(prefix+"hosts", 1, strings.Replace(in.options["public_url"], "https://www.", "", 1), 1); err != nil {
		return err
	}
	return insert(prefix+"copies", 1, "/var/backups/site-2026-11-22.tar.gz", "2026-11-22")
}

// writeSQLite makes a database file.
func writeSQLite(path, schema string, fill func(insert func(string, ...any) error) error) error {
	if err := os.Remove(path); err != nil && !os.IsNotExist(err) {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	db, err := sql.Open("sqlite", "file:"+filepath.ToSlash(path)+"?_pragma=journal_mode(delete)&_pragma=synchronous(off)")
	if err != nil {
		return err
	}
	defer db.Close()
	if err := fillTables(db, "sqlite", schema, fill); err != nil {
		return err
	}
	if err := db.Close(); err != nil {
		return err
	}
	return os.Chmod(path, 0o640)
}

// fillServer fills the database of a server.
func (in *installation) fillServer(schema string, fill func(insert func(string, ...any) error) error) error {
	db, err := in.database.open()
	if err != nil {
		return err
	}
	defer db.Close()
	return fillTables(db, in.database.driver, schema, fill)
}

func (d *databaseServer) open() (*sql.DB, error) {
	if d.driver == "mysql" {
		return sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%s)/%s", d.user, d.password, d.port, d.name))
	}
	return sql.Open("pgx", fmt.Sprintf("host=127.0.0.1 port=%s user=%s password=%s dbname=%s sslmode=disable default_query_exec_mode=simple_protocol", d.port, d.user, d.password, d.name))
}

func fillTables(db *sql.DB, driver, schema string, fill func(insert func(string, ...any) error) error) error {
	for statement := range strings.SplitSeq(schema, ";\n") {
		if _, err := db.Exec(statement); err != nil {
			return err
		}
	}
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	err = fill(func(table string, values ...any) error {
		marks := make([]string, len(values))
		for i := range values {
			marks[i] = "?"
			if driver == "postgresql" {
				marks[i] = "$" + strconv.Itoa(i+1)
			}
		}
		_, err := tx.Exec("INSERT INTO "+table+" VALUES ("+strings.Join(marks, ", ")+")", values...)
		return err
	})
	if err != nil {
		return err
	}
	return tx.Commit()
}

// openSQL opens the database that a stand-in reads.
func (d *databaseServer) openSQL(path string) (*sql.DB, error) {
	if d != nil {
		return d.open()
	}
	return sql.Open("sqlite", "file:"+filepath.ToSlash(path)+"?mode=ro&_pragma=busy_timeout(2000)")
}

type brindleKeeper struct {
	root string
	db   *sql.DB
}

func (brindle) open(root string, database *databaseServer) (keeper, error) {
	db, err := database.openSQL(filepath.Join(root, "data", "brindle.db"))
	return &brindleKeeper{root, db}, err
}

func (k *brindleKeeper) close() { k.db.Close() }

func (k *brindleKeeper) options(ctx context.Context) (map[string]string, error) {
	options, err := pairs(ctx, k.db, "SELECT name, value FROM brn_options")
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(filepath.Join(k.root, "config.php"))
	if err != nil {
		return nil, err
	}
	doc, err := format.Read("php", data, format.Options{Dir: "/"})
	if err != nil {
		return nil, err
	}
	for constant, option := range map[string]string{"BRINDLE_URL": "public_url", "BRINDLE_CACHE": "cache", "BRINDLE_DEBUG": "debug"} {
		if e, there := doc.Lookup(constant); there && e.Unresolved == "" {
			options[option] = fmt.Sprint(e.Value)
		}
	}
	return options, nil
}

func pairs(ctx context.Context, db *sql.DB, query string) (map[string]string, error) {
	rows, err := db.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	found := map[string]string{}
	for rows.Next() {
		var name, value string
		if err := rows.Scan(&name, &value); err != nil {
			return nil, err
		}
		found[name] = value
	}
	return found, rows.Err()
}

func (k *brindleKeeper) entries(ctx context.Context) ([]entry, error) {
	return readEntries(ctx, k.db, "brn_pages")
}

func readEntries(ctx context.Context, db *sql.DB, table string) ([]entry, error) {
	rows, err := db.QueryContext(ctx, "SELECT id, slug, title, kind, status, published, description, body, unlisted FROM "+table+" ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []entry
	for rows.Next() {
		var e entry
		var unlisted int
		if err := rows.Scan(&e.ID, &e.Slug, &e.Title, &e.Kind, &e.Status, &e.Published, &e.About, &e.Body, &unlisted); err != nil {
			return nil, err
		}
		e.Unlisted = unlisted != 0
		list = append(list, e)
	}
	return list, rows.Err()
}
