package demo

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	_ "github.com/go-sql-driver/mysql" // the driver
	_ "github.com/jackc/pgx/v5/stdlib" // the driver
	_ "modernc.org/sqlite"             // the driver

	"weltaxis/internal/facts"
)

// A databaseServer is where an installation keeps its database when it is no file: for tests.
type databaseServer struct {
	driver, port, name, user, password string
}

func (d *databaseServer) open() (*sql.DB, error) {
	if d.driver == "mysql" {
		return sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%s)/%s", d.user, d.password, d.port, d.name))
	}
	return sql.Open("pgx", fmt.Sprintf("host=127.0.0.1 port=%s user=%s password=%s dbname=%s sslmode=disable default_query_exec_mode=simple_protocol", d.port, d.user, d.password, d.name))
}

// openSQL opens the database that a stand-in reads.
func (d *databaseServer) openSQL(path string) (*sql.DB, error) {
	if d != nil {
		return d.open()
	}
	return sql.Open("sqlite", "file:"+filepath.ToSlash(path)+"?mode=ro&_pragma=busy_timeout(2000)")
}

type inserter func(table string, values ...any) error

// fillDatabase makes the tables of a system and has its settings written, in a file below root or on a server. It
// returns the files it wrote.
func (in *installation) fillDatabase(root string, settings func(inserter) error) ([]string, error) {
	l := in.system.lore()
	fill := func(insert inserter) error {
		if err := settings(insert); err != nil {
			return err
		}
		return in.fillLists(insert)
	}
	if in.database == nil {
		return []string{l.Database.File}, writeSQLite(filepath.Join(root, l.Database.File), l.schema, fill)
	}
	db, err := in.database.open()
	if err != nil {
		return nil, err
	}
	defer db.Close()
	return nil, fillTables(db, in.database.driver, l.schema, fill)
}

// table is the name of one of the tables that are not settings.
func (l *lore) table(of string) string { return l.Database.Tables[of] + l.Database.Ending }

// fillLists writes the tables that are not settings. Columns are in the order of the schema.
func (in *installation) fillLists(insert inserter) error {
	l, bit := in.system.lore(), map[bool]int{true: 1}
	for i, a := range in.accounts {
		if err := insert(l.table("accounts"), i+1, a.Login, l.theirs("role", a.Role), fmt.Sprintf("2026-05-%02d", i+3), bit[a.Role == "keeper"], "2026-11-20"); err != nil {
			return err
		}
	}
	for i, e := range in.extensions {
		if err := insert(l.table("extensions"), i+1, e.Name, e.Kind, bit[e.Active], e.Version, e.Newest, e.Parent); err != nil {
			return err
		}
	}
	for i, p := range in.pages {
		if err := insert(l.table("pages"), i+1, p.Slug, p.Title, l.theirs("kind", p.Kind), l.theirs("status", p.Status), p.Published, p.About, p.Body, bit[slices.Contains(in.unlisted, p.Slug)]); err != nil {
			return err
		}
	}
	if err := insert(l.table("forms"), 1, "contact", cmp.Or(in.options["form_mail"], in.options["mail_from"]), map[bool]int{true: 1}[in.options["form_asks"] != "no"]); err != nil {
		return err
	}
	if err := insert(l.table("hosts"), 1, strings.TrimPrefix(facts.URLHost(in.options["public_url"]), "www."), 1); err != nil {
		return err
	}
	for i, host := range strings.Fields(in.options["alias"]) {
		if err := insert(l.table("hosts"), i+2, host, 1); err != nil {
			return err
		}
	}
	for i, k := range in.keys {
		if err := insert(l.table("keys"), i+1, k.Name, k.Service, l.theirs("key", k.Kind), "2026-06-01", "2026-11-20", "an invented key of the demo and not a secret at all"); err != nil {
			return err
		}
	}
	for i, c := range in.copies() {
		if err := insert(l.table("copies"), i+1, c.path, c.taken); err != nil {
			return err
		}
	}
	return nil
}

// writeSQLite makes a database file.
func writeSQLite(path, schema string, fill func(inserter) error) error {
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

func fillTables(db *sql.DB, driver, schema string, fill func(inserter) error) error {
	for statement := range strings.SplitSeq(strings.TrimSpace(schema), ";\n") {
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

// pairs are the rows of a query with two columns.
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

// entriesIn reads the table of pages.
func (l *lore) entriesIn(ctx context.Context, db *sql.DB) ([]entry, error) {
	rows, err := db.QueryContext(ctx, "SELECT * FROM "+l.table("pages")+" ORDER BY 1")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []entry
	for rows.Next() {
		var e entry
		if err := rows.Scan(&e.ID, &e.Slug, &e.Title, &e.Kind, &e.Status, &e.Published, &e.About, &e.Body, &e.Unlisted); err != nil {
			return nil, err
		}
		e.Kind, e.Status = l.ours("kind", e.Kind), l.ours("status", e.Status)
		list = append(list, e)
	}
	return list, rows.Err()
}
