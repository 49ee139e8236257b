package store

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"weltaxis/internal/dialect"
)

// A Beside is a row that the database changed by itself when another was changed, as a journal keeps it. Cells are text that says of what type they
// are, where the database does not know it by the column.
type Beside struct {
	Table  string             `json:"table"` // as SQL names it
	Key    string             `json:"key"`   // within the table
	Before map[string]*string `json:"before"`
	After  map[string]*string `json:"after"` // nil for no row
}

// kept tells whether a journal keeps the row as it is.
func (b Beside) kept() bool {
	for _, row := range []map[string]*string{b.Before, b.After} {
		for _, cell := range row {
			if cell != nil && !utf8.ValidString(*cell) {
				return false
			}
		}
	}
	return true
}

// What undo keeps of rows that were changed besides, and what is looked at to find them.
const (
	maxBeside = 1000     // rows
	maxImages = 64 << 20 // bytes of all tables that are looked at
)

// A column of a table whose rows are kept.
type imageColumn struct {
	name, kind   string
	key, derived bool
}

// rowid is the key of SQLite's tables that name none.
const rowid = "_rowid_"

// An image is a table with all its rows. Where no key tells rows apart, their number among equal ones does.
type image struct {
	columns []imageColumn
	keyed   bool
	rows    map[string]map[string]*string
}

// columnQuestions ask for name, type, whether it belongs to the primary key, and whether it is worked out.
var columnQuestions = map[string]string{
	dialect.SQLite: "SELECT name, '', pk > 0, hidden IN (2, 3) FROM pragma_table_xinfo(?) WHERE hidden <> 1",
	dialect.MySQL:  "SELECT COLUMN_NAME, DATA_TYPE, COLUMN_KEY = 'PRI', EXTRA LIKE '%GENERATED%' AND EXTRA NOT LIKE '%DEFAULT_GENERATED%' FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? ORDER BY ORDINAL_POSITION",
	dialect.PostgreSQL: `SELECT a.attname, '', CASE WHEN i.indrelid IS NULL THEN 0 ELSE 1 END, CASE a.attgenerated WHEN '' THEN 0 ELSE 1 END FROM pg_attribute AS a LEFT JOIN pg_index AS i ON i.indrelid = a.attrelid AND i.indisprimary AND a.attnum = ANY (i.indkey)
		WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`,
}

func (db *database) imageColumns(ctx context.Context, table string) (columns []imageColumn, keyed bool, err error) {
	found, err := db.texts(ctx, columnQuestions[db.driver], table)
	if err != nil {
		return nil, false, err
	}
	for _, row := range found {
		columns = append(columns, imageColumn{row[0], row[1], row[2] == "1", row[3] == "1"})
		keyed = keyed || row[2] == "1"
	}
	if !keyed && db.driver == dialect.SQLite { // a table without a key has one all the same (lang_createtable.html §5)
		columns, keyed = append(columns, imageColumn{name: rowid, key: true}), true
	}
	return columns, keyed, nil
}

// named is the name of a table whose rows are kept, as SQL writes it.
func (db *database) named(table string) string {
	if db.driver == dialect.PostgreSQL {
		return table // as format('%I') has written it
	}
	return db.quoted(table)
}

// hexed tells of a column of MySQL whose bytes say more than its text would.
func (c imageColumn) hexed() bool {
	return slices.Contains([]string{"char", "varchar", "tinytext", "text", "mediumtext", "longtext", "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob"}, c.kind)
}

// cellText is an expression for a cell as it is kept.
func (db *database) cellText(c imageColumn) string {
	name := db.quoted(c.name)
	switch {
	case db.driver == dialect.SQLite:
		return "CASE typeof(" + name + ") WHEN 'null' THEN NULL WHEN 'blob' THEN 'b' || hex(" + name + ") WHEN 'text' THEN 't' || " + name + " ELSE substr(typeof(" + name + "), 1, 1) || quote(" + name + ") END"
	case db.driver == dialect.PostgreSQL:
		return "CAST(" + name + " AS TEXT)"
	case c.hexed():
		return "HEX(" + name + ")"
	}
	return "CAST(" + name + " AS CHAR)"
}

// put adds a kept cell to a statement, and gives the expression for it.
func (s *statement) put(c imageColumn, cell *string) (string, error) {
	switch {
	case cell == nil:
		return "NULL", nil
	case s.db.driver == dialect.SQLite:
		value, err := typed(*cell)
		return s.mark(value), err
	case s.db.driver == dialect.MySQL && c.hexed():
		return "UNHEX(" + s.mark(*cell) + ")", nil
	}
	return s.mark(*cell), nil
}

// typed is the value of a kept cell of SQLite.
func typed(cell string) (any, error) {
	if cell == "" {
		return nil, errors.New("what is kept of a row is not understood")
	}
	switch kind, text := cell[0], cell[1:]; kind {
	case 't':
		return text, nil
	case 'b':
		return hex.DecodeString(text)
	case 'i':
		return strconv.ParseInt(text, 10, 64)
	case 'r':
		return strconv.ParseFloat(text, 64)
	}
	return nil, errors.New("what is kept of a row is not understood")
}

// plainCell is the text of a kept cell.
func (db *database) plainCell(c imageColumn, cell *string) string {
	switch {
	case cell == nil:
		return ""
	case db.driver == dialect.SQLite:
		value, _ := typed(*cell)
		return fmt.Sprint(value)
	case db.driver == dialect.MySQL && c.hexed():
		text, _ := hex.DecodeString(*cell)
		return string(text)
	}
	return *cell
}

// hold keeps others from changing tables until the transaction has ended, so that what differs then is of this change. Of SQLite there is one writer.
func (db *database) hold(ctx context.Context, tables []string) error {
	if len(tables) == 0 || db.driver != dialect.PostgreSQL { // MySQL holds the rows that images reads
		return nil
	}
	if _, err := db.conn.ExecContext(ctx, "LOCK TABLE "+strings.Join(tables, ", ")+" IN SHARE ROW EXCLUSIVE MODE"); err != nil {
		return fmt.Errorf("others cannot be kept from what may be changed with it (%s), so undo could not bring it back: %w; have --script write what to run", strings.Join(tables, ", "), explainWriting(err))
	}
	return nil
}

// images reads tables whole, by the rows of which what is changed besides is found.
func (db *database) images(ctx context.Context, tables []string) (map[string]image, error) {
	images, size := map[string]image{}, 0
	for _, table := range tables {
		columns, keyed, err := db.imageColumns(ctx, table)
		if err != nil {
			return nil, err
		}
		texts := make([]string, len(columns))
		for i, c := range columns {
			texts[i] = db.cellText(c)
		}
		im := image{columns, keyed, map[string]map[string]*string{}}
		equal := map[string]int{}
		lock := ""
		if db.driver == dialect.MySQL && db.writes {
			lock = " LOCK IN SHARE MODE"
		}
		err = db.each(ctx, "SELECT "+strings.Join(texts, ", ")+" FROM "+db.named(table)+lock, nil, func(_ []string, cells []sql.NullString) error {
			row, key := map[string]*string{}, []*string{}
			for i, c := range columns {
				var cell *string
				if cells[i].Valid {
					text := strings.Clone(cells[i].String)
					cell, size = &text, size+len(text)
				}
				row[c.name] = cell
				if c.key || !keyed && !c.derived {
					key = append(key, cell)
				}
			}
			if size += 64; size > maxImages {
				return fmt.Errorf("it holds more than %d MB with what else may be changed", maxImages>>20)
			}
			name, err := json.Marshal(key)
			if err != nil {
				return err
			}
			if equal[string(name)]++; !keyed {
				name = fmt.Appendf(name, " %d", equal[string(name)])
			}
			im.rows[string(name)] = row
			return nil
		})
		if err != nil {
			return nil, fmt.Errorf("the table %s, which may be changed with it, cannot be looked at: %w", table, err)
		}
		images[table] = im
	}
	return images, nil
}

// besidesOf are the rows in which two images differ, but for the row of the edit itself, whose own columns are looked at by themselves.
func (db *database) besidesOf(e RowEdit, own string, before, after map[string]image) (all []Beside) {
	for _, table := range slices.Sorted(maps.Keys(before)) {
		was, is := before[table], after[table]
		keys := maps.Clone(was.rows)
		maps.Copy(keys, is.rows)
		for _, key := range slices.Sorted(maps.Keys(keys)) {
			a, b := was.rows[key], is.rows[key]
			if (a == nil) == (b == nil) && len(differing(a, b)) == 0 || table == own && db.isRowOf(e, was.columns, keys[key]) {
				continue
			}
			all = append(all, Beside{table, key, a, b})
		}
	}
	return all
}

// isRowOf tells whether a row is the one of an edit.
func (db *database) isRowOf(e RowEdit, columns []imageColumn, row map[string]*string) bool {
	for name, value := range e.Where {
		at := slices.IndexFunc(columns, func(c imageColumn) bool { return strings.EqualFold(c.name, name) })
		if at < 0 || db.plainCell(columns[at], row[columns[at].name]) != value {
			return false
		}
	}
	return true
}

// becomes has a row of a table be as it is wanted, nil for none.
func (db *database) becomes(ctx context.Context, table string, im image, now, want map[string]*string) error {
	st := db.statement("")
	var failed error
	put := func(c imageColumn, cell *string) string {
		text, err := st.put(c, cell)
		failed = errors.Join(failed, err)
		return text
	}
	var names, values, sets, conditions []string
	for _, c := range im.columns {
		if c.derived || want == nil {
			continue
		}
		switch {
		case now == nil:
			names, values = append(names, db.quoted(c.name)), append(values, put(c, want[c.name]))
		case !same(now[c.name], want[c.name]):
			sets = append(sets, db.quoted(c.name)+" = "+put(c, want[c.name]))
		}
	}
	if now != nil {
		for _, c := range im.columns {
			switch cell := now[c.name]; {
			case c.derived || im.keyed && !c.key:
			case cell == nil:
				conditions = append(conditions, db.quoted(c.name)+" IS NULL")
			default:
				conditions = append(conditions, db.cellText(c)+" = "+st.mark(*cell))
			}
		}
	}
	name, where := db.named(table), " WHERE "+strings.Join(conditions, " AND ")
	switch {
	case now == nil:
		overriding := ""
		if db.driver == dialect.PostgreSQL {
			overriding = " OVERRIDING SYSTEM VALUE"
		}
		st.text.WriteString("INSERT INTO " + name + " (" + strings.Join(names, ", ") + ")" + overriding + " VALUES (" + strings.Join(values, ", ") + ")")
	case want == nil && im.keyed:
		st.text.WriteString("DELETE FROM " + name + where)
	case want == nil && db.driver == dialect.PostgreSQL:
		st.text.WriteString("DELETE FROM " + name + " WHERE ctid = (SELECT ctid FROM " + name + where + " LIMIT 1)")
	case want == nil:
		st.text.WriteString("DELETE FROM " + name + where + " LIMIT 1")
	case len(sets) == 0: // only what is worked out differs
		return nil
	default:
		st.text.WriteString("UPDATE " + name + " SET " + strings.Join(sets, ", ") + where)
	}
	if failed != nil {
		return failed
	}
	_, err := db.conn.ExecContext(ctx, st.text.String(), st.args...)
	return err
}

// rounds is how often rows are given what they held, since what that has run may change others again.
const rounds = 4

// bringBack has all tables be as they were before a change that is taken back, but for the rows that it had changed besides, which become what they
// were before that change.
func (db *database) bringBack(ctx context.Context, e RowEdit, own string, tables []string, wanted map[string]image) error {
	for _, b := range e.Also {
		if b.Before == nil {
			delete(wanted[b.Table].rows, b.Key)
		} else {
			wanted[b.Table].rows[b.Key] = b.Before
		}
	}
	for round := range rounds {
		now, err := db.images(ctx, tables)
		if err != nil {
			return err
		}
		wrong := db.besidesOf(e, own, now, wanted)
		if len(wrong) == 0 {
			return nil
		}
		for _, b := range wrong {
			if round >= rounds/2 && b.Before != nil && b.After != nil { // what changes it again when it is changed need not when it is put in
				err = db.becomes(ctx, b.Table, now[b.Table], b.Before, nil)
				b.Before = nil
			}
			if err == nil {
				err = db.becomes(ctx, b.Table, now[b.Table], b.Before, b.After)
			}
			if err != nil {
				return fmt.Errorf("a row of %s that was changed with it cannot be brought back: %w; nothing was taken back", b.Table, explain(err))
			}
		}
	}
	return errors.New("what the database changes besides comes back as often as it is taken back; nothing was taken back")
}

// stillThere tells whether what a change had changed besides is as that left it.
func stillThere(also []Beside, images map[string]image) error {
	for _, b := range also {
		im, there := images[b.Table]
		if now := im.rows[b.Key]; !there || (now == nil) != (b.After == nil) || len(differing(b.After, now)) > 0 {
			return fmt.Errorf("a row of %s that was changed with it has been changed since; it is left as it is, and nothing was taken back", b.Table)
		}
	}
	return nil
}

// heldBefore tells whether rows that an edit had changed besides are as they were before it.
func (db *database) heldBefore(ctx context.Context, e RowEdit) (bool, error) {
	images, err := db.images(ctx, e.besideTables())
	for _, b := range e.Also {
		if now := images[b.Table].rows[b.Key]; (now == nil) != (b.Before == nil) || len(differing(b.Before, now)) > 0 {
			return false, err
		}
	}
	return true, err
}

// besideTables are the tables in which an edit changed rows besides.
func (e RowEdit) besideTables() (tables []string) {
	for _, b := range e.Also {
		if !slices.Contains(tables, b.Table) {
			tables = append(tables, b.Table)
		}
	}
	return tables
}

// notNamed are tables in which this transaction has changed rows, and which are none of those that the catalogue had named; PostgreSQL alone counts
// by table.
func (db *database) notNamed(ctx context.Context, tables []string) (others []string, err error) {
	if db.driver != dialect.PostgreSQL {
		return nil, nil
	}
	rows, err := db.texts(ctx, `SELECT format('%I.%I', n.nspname, c.relname) FROM pg_stat_xact_user_tables AS s JOIN pg_class AS c ON c.oid = coalesce(pg_partition_root(s.relid), s.relid) JOIN pg_namespace AS n ON n.oid = c.relnamespace
		WHERE s.n_tup_ins + s.n_tup_upd + s.n_tup_del > 0`)
	for _, row := range rows {
		if !slices.Contains(tables, row[0]) {
			others = append(others, row[0])
		}
	}
	return others, err
}
