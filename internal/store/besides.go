package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
)

// A Besides is what a database does besides when a row is changed, as far as its catalogue tells.
type Besides struct {
	Says []string // in words, each one thing
	// Other says that other rows may be changed; which were is found when it is done, and kept before it counts.
	Other bool
	// Stays is why what is changed could not be rolled back; "" where it can.
	Stays string

	own     []string // columns of the same row that the database sets itself, and undo brings back
	derived []string // columns that are worked out of others
	table   string   // of the row, as reaches calls tables
	tables  []string // that may be reached, where Other
}

func (b *Besides) say(other bool, format string, args ...any) {
	b.Says, b.Other = append(b.Says, fmt.Sprintf(format, args...)), b.Other || other
}

// Besides asks the catalogue what a change of a row would change, or have run, besides. The edit comes back with what other columns hold that may
// be changed with it.
func (s *Installation) Besides(ctx context.Context, e RowEdit) (RowEdit, Besides, error) {
	db := s.databases[e.Database]
	if db == nil {
		return e, Besides{}, ErrUnseen
	}
	b, err := db.besides(ctx, e)
	if err == nil && e.event() == "UPDATE" && (b.Other || len(b.own) > 0) {
		var row map[string]*string
		if row, err = db.whole(ctx, e); err == nil {
			e.Rest = map[string]*string{}
			for column, value := range row {
				if _, key := e.Where[column]; !key && column != e.Column && !slices.Contains(b.derived, column) && (b.Other || slices.Contains(b.own, column)) {
					e.Rest[column] = value
				}
			}
		}
	}
	return e, b, s.discreet(err)
}

// event is what a database calls such a change.
func (e RowEdit) event() string {
	switch {
	case e.Insert && e.New == nil:
		return "DELETE"
	case e.Insert && e.Old == nil:
		return "INSERT"
	}
	return "UPDATE"
}

func (db *database) besides(ctx context.Context, e RowEdit) (b Besides, err error) {
	switch db.driver {
	case dialect.SQLite:
		err = db.besidesSQLite(ctx, e, &b)
	case dialect.MySQL:
		err = db.besidesMySQL(ctx, e, &b)
	case dialect.PostgreSQL:
		err = db.besidesPostgreSQL(ctx, e, &b)
	}
	if err == nil && (b.Other || len(e.Also) > 0) {
		err = db.reaches(ctx, e, &b)
	}
	if err != nil {
		err = fmt.Errorf("what the database does besides could not be asked for: %w", err)
	}
	return b, err
}

// texts are the rows of a question to the catalogue.
func (db *database) texts(ctx context.Context, question string, args ...any) (found [][]string, err error) {
	err = db.each(ctx, question, args, func(_ []string, row []sql.NullString) error {
		texts := make([]string, len(row))
		for i, cell := range row {
			texts[i] = cell.String
		}
		found = append(found, texts)
		return nil
	})
	return found, err
}

var (
	// triggerHead is what a trigger is for, in SQLite's own words (lang_createtrigger.html).
	triggerHead = regexp.MustCompile(`(?is)\b(DELETE|INSERT|UPDATE)(?:\s+OF\s+(.+?))?\s+ON\s`)
	unquoted    = strings.NewReplacer(`"`, "", "`", "", "[", "", "]", "")
)

func (db *database) besidesSQLite(ctx context.Context, e RowEdit, b *Besides) error {
	found, err := db.texts(ctx, "SELECT type, name, coalesce(sql, '') FROM sqlite_schema WHERE type IN ('trigger', 'view') AND tbl_name = ? COLLATE NOCASE", e.Table)
	if err != nil {
		return err
	}
	for _, row := range found {
		if row[0] == "view" {
			b.say(true, "%s is a view: what lies behind it changes", e.Table)
			continue
		}
		head := triggerHead.FindStringSubmatch(row[2])
		if head != nil && (!strings.EqualFold(head[1], e.event()) || head[2] != "" && !slices.ContainsFunc(strings.Split(unquoted.Replace(head[2]), ","), func(column string) bool { return strings.EqualFold(strings.TrimSpace(column), e.Column) })) {
			continue
		}
		b.say(true, "the trigger %s runs", row[1])
	}
	if found, err = db.texts(ctx, "SELECT name FROM pragma_table_xinfo(?) WHERE hidden IN (2, 3)", e.Table); err != nil {
		return err
	}
	b.derive(found)
	if found, err = db.texts(ctx, `SELECT DISTINCT t.name FROM sqlite_schema AS t, pragma_foreign_key_list(t.name) AS f WHERE t.type = 'table' AND f."table" = ? COLLATE NOCASE AND (? = 'DELETE' OR coalesce(f."to", '') IN ('', ?))`, e.Table, e.event(), e.Column); err != nil {
		return err
	}
	if e.event() != "INSERT" {
		for _, row := range found {
			b.say(true, "rows of %s refer to it", row[0])
		}
	}
	return nil
}

func (b *Besides) derive(found [][]string) {
	for _, row := range found {
		b.derived = append(b.derived, row[0])
		b.say(false, "column %s of the row is worked out anew", row[0])
	}
}

func (db *database) besidesMySQL(ctx context.Context, e RowEdit, b *Besides) error {
	kinds, err := db.texts(ctx, "SELECT t.TABLE_TYPE, coalesce(t.ENGINE, ''), coalesce(n.TRANSACTIONS, '') FROM information_schema.TABLES AS t LEFT JOIN information_schema.ENGINES AS n ON n.ENGINE = t.ENGINE WHERE t.TABLE_SCHEMA = DATABASE() AND t.TABLE_NAME = ?", e.Table)
	if err != nil {
		return err
	}
	for _, row := range kinds {
		switch {
		case row[0] == "VIEW":
			b.say(true, "%s is a view: what lies behind it changes", e.Table)
		case row[0] == "SYSTEM VERSIONED":
			b.say(true, "the database keeps the row as it was (system versioning)")
		case row[2] != "YES":
			b.Stays = fmt.Sprintf("the table %s is kept by %s, which takes nothing back", e.Table, row[1])
		}
	}
	others, err := db.texts(ctx, "SELECT t.TABLE_NAME, t.ENGINE FROM information_schema.TABLES AS t JOIN information_schema.ENGINES AS n ON n.ENGINE = t.ENGINE WHERE t.TABLE_SCHEMA = DATABASE() AND t.TABLE_TYPE = 'BASE TABLE' AND coalesce(n.TRANSACTIONS, '') <> 'YES'")
	if err != nil {
		return err
	}
	triggers, err := db.texts(ctx, "SELECT TRIGGER_NAME, ACTION_STATEMENT FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = DATABASE() AND EVENT_OBJECT_TABLE = ? AND EVENT_MANIPULATION = ?", e.Table, e.event())
	if err != nil {
		return err
	}
	for _, row := range triggers {
		b.say(true, "the trigger %s runs", row[0])
		body := unquoted.Replace(strings.ToLower(row[1]))
		for _, other := range others {
			if regexp.MustCompile(`(?:^|[^\w$])` + regexp.QuoteMeta(strings.ToLower(other[0])) + `(?:$|[^\w$])`).MatchString(body) {
				b.Stays = fmt.Sprintf("the trigger %s changes the table %s, which is kept by %s and takes nothing back", row[0], other[0], other[1])
			}
		}
		if b.Stays == "" && len(others) > 0 && regexp.MustCompile(`\bcall\b|\w\(`).MatchString(body) {
			b.Stays = fmt.Sprintf("the trigger %s calls something that may change the table %s, which is kept by %s and takes nothing back", row[0], others[0][0], others[0][1])
		}
	}
	if len(triggers) == 0 {
		// Triggers are only shown to whoever may make some.
		rights, err := db.texts(ctx, `SELECT 1 FROM information_schema.USER_PRIVILEGES WHERE PRIVILEGE_TYPE = 'TRIGGER' UNION SELECT 1 FROM information_schema.SCHEMA_PRIVILEGES WHERE PRIVILEGE_TYPE = 'TRIGGER' AND DATABASE() LIKE TABLE_SCHEMA
			UNION SELECT 1 FROM information_schema.TABLE_PRIVILEGES WHERE PRIVILEGE_TYPE = 'TRIGGER' AND TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?`, e.Table)
		if err != nil {
			return err
		}
		if len(rights) == 0 && len(others) > 0 && b.Stays == "" {
			b.Stays = fmt.Sprintf("whether triggers run is not shown to this user (TRIGGER), and the table %s takes nothing back (%s)", others[0][0], others[0][1])
		}
	}
	columns, err := db.texts(ctx, "SELECT COLUMN_NAME, lower(EXTRA) FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? AND COLUMN_NAME <> ? AND EXTRA <> ''", e.Table, e.Column)
	if err != nil {
		return err
	}
	for _, row := range columns {
		switch {
		case strings.Contains(row[1], "generated") && !strings.Contains(row[1], "default_generated"):
			b.derive([][]string{row})
		case strings.Contains(row[1], "on update") && e.event() == "UPDATE":
			b.own = append(b.own, row[0])
			b.say(false, "column %s of the row becomes the time of the change", row[0])
		}
	}
	if e.event() == "INSERT" {
		return nil
	}
	refers, err := db.texts(ctx, "SELECT DISTINCT k.TABLE_NAME FROM information_schema.KEY_COLUMN_USAGE AS k WHERE k.REFERENCED_TABLE_SCHEMA = DATABASE() AND k.REFERENCED_TABLE_NAME = ? AND (? = 'DELETE' OR k.REFERENCED_COLUMN_NAME = ?)", e.Table, e.event(), e.Column)
	for _, row := range refers {
		b.say(true, "rows of %s refer to it", row[0])
	}
	return err
}

func (db *database) besidesPostgreSQL(ctx context.Context, e RowEdit, b *Besides) error {
	table := db.quoted(e.Table)
	bit := map[string]int{"INSERT": 4, "DELETE": 8, "UPDATE": 16}[e.event()]
	kinds, err := db.texts(ctx, "SELECT relkind, relrowsecurity::text FROM pg_class WHERE oid = to_regclass($1)", table)
	if err != nil {
		return err
	}
	for _, row := range kinds {
		switch row[0] {
		case "v":
			b.say(true, "%s is a view: what lies behind it changes", e.Table)
		case "f":
			b.Stays = fmt.Sprintf("the table %s lies on another server", e.Table)
		}
		if row[1] == "true" {
			b.say(false, "the table has rules of its own for who sees which row (row-level security)")
		}
	}
	triggers, err := db.texts(ctx, `SELECT t.tgname FROM pg_trigger AS t WHERE t.tgrelid = to_regclass($1) AND NOT t.tgisinternal AND t.tgenabled <> 'D' AND (t.tgtype & $2::int) <> 0
		AND ($2::int <> 16 OR coalesce(array_length(t.tgattr::int2[], 1), 0) = 0 OR EXISTS (SELECT 1 FROM pg_attribute AS a WHERE a.attrelid = t.tgrelid AND a.attname = $3 AND a.attnum = ANY (t.tgattr::int2[])))`, table, bit, e.Column)
	if err != nil {
		return err
	}
	for _, row := range triggers {
		b.say(true, "the trigger %s runs", row[0])
	}
	rules, err := db.texts(ctx, "SELECT rulename FROM pg_rewrite WHERE ev_class = to_regclass($1) AND rulename <> '_RETURN' AND ev_enabled <> 'D' AND ev_type = $2", table, map[string]string{"UPDATE": "2", "INSERT": "3", "DELETE": "4"}[e.event()])
	if err != nil {
		return err
	}
	for _, row := range rules {
		b.say(true, "the rule %s puts other statements in the place of this one", row[0])
	}
	derived, err := db.texts(ctx, "SELECT attname FROM pg_attribute WHERE attrelid = to_regclass($1) AND attgenerated <> '' AND NOT attisdropped", table)
	if err != nil {
		return err
	}
	b.derive(derived)
	if e.event() == "INSERT" {
		return nil
	}
	refers, err := db.texts(ctx, `SELECT DISTINCT c.conrelid::regclass::text FROM pg_constraint AS c WHERE c.contype = 'f' AND c.confrelid = to_regclass($1)
		AND ($2 = 'DELETE' OR EXISTS (SELECT 1 FROM pg_attribute AS a WHERE a.attrelid = c.confrelid AND a.attname = $3 AND a.attnum = ANY (c.confkey)))`, table, e.event(), e.Column)
	for _, row := range refers {
		b.say(true, "rows of %s refer to it", row[0])
	}
	return err
}

// changes is how many rows this transaction has changed, put in and taken out, what triggers and rules do among them.
func (db *database) changes(ctx context.Context) (n int64, err error) {
	question := map[string]string{
		dialect.SQLite:     "SELECT total_changes()",
		dialect.MySQL:      "SHOW SESSION STATUS WHERE Variable_name IN ('Handler_update', 'Handler_write', 'Handler_delete')",
		dialect.PostgreSQL: "SELECT coalesce(sum(n_tup_ins + n_tup_upd + n_tup_del), 0)::bigint FROM pg_stat_xact_user_tables",
	}[db.driver]
	err = db.each(ctx, question, nil, func(_ []string, row []sql.NullString) error {
		var some int64
		_, err := fmt.Sscan(row[len(row)-1].String, &some)
		n += some
		return err
	})
	return n, err
}

// A count is what a transaction has changed up to a moment, and what asking for that adds, as MySQL counts the rows of its own answer.
type count struct{ changes, asking int64 }

func (db *database) counted(ctx context.Context) (c count, err error) {
	first, err := db.changes(ctx)
	if err == nil {
		c.changes, err = db.changes(ctx)
	}
	c.asking = c.changes - first
	return c, err
}

// since is how many rows were changed since a count.
func (db *database) since(ctx context.Context, c count) (int64, error) {
	now, err := db.changes(ctx)
	return now - c.changes - c.asking, err
}

// whole is a row with all that is in it, as text; nil for one that is not there.
func (db *database) whole(ctx context.Context, e RowEdit) (row map[string]*string, err error) {
	st := db.statement("SELECT * FROM %s", e.Table).where("WHERE", e.Where)
	err = db.each(ctx, st.text.String(), st.args, func(columns []string, cells []sql.NullString) error {
		if row != nil {
			return errors.New("there are several rows, and nothing says which counts")
		}
		row = map[string]*string{}
		for i, column := range columns {
			row[column] = nil
			if cells[i].Valid {
				text := strings.Clone(cells[i].String)
				row[column] = &text
			}
		}
		return nil
	})
	return row, err
}

// same tells whether two cells hold the same.
func same(a, b *string) bool { return a == b || a != nil && b != nil && *a == *b }

// differing are the columns in which two rows differ, but for some.
func differing(before, after map[string]*string, but ...string) (columns []string) {
	for column, was := range before {
		if !same(was, after[column]) && !slices.ContainsFunc(but, func(b string) bool { return strings.EqualFold(b, column) }) {
			columns = append(columns, column)
		}
	}
	slices.Sort(columns)
	return columns
}
