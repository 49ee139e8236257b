package store

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
)

// A catalogue is what a database says of what runs when rows are changed, read to tell which tables a change may reach.
type catalogue struct {
	own     string            // the table that is changed, as nodes are called
	nodes   map[string]string // tables and views as SQL names them, by what other texts call them, in small letters
	holding []string          // those nodes that hold rows, by their SQL names
	runs    map[string][]run  // by SQL name: triggers and rules
	changes map[string][]string
	bodies  map[string][]string // by name in small letters: what functions, procedures and views do
	stays   map[string]string   // by SQL name: why a table takes nothing back
}

// A run is the text of a trigger or a rule, and the event that it waits for; "" for any.
type run struct{ event, text string }

// triggerBody is where a trigger of SQLite says what it does.
var triggerBody = regexp.MustCompile(`(?i)\bBEGIN\s`)

// word is a name in a text of SQL.
var word = regexp.MustCompile(`[\pL_][\pL\pN_$]*`)

// reach are the tables in which an event on the own one may change rows, the own one first; named are those of them of which something says so, by
// which other rows of the own one are told from the row itself.
func (c *catalogue) reach(event string) (tables, named []string) {
	taken, read, again := map[string]bool{}, map[string]bool{}, false
	var take func(table, event string)
	var mention func(text string)
	mention = func(text string) {
		text = strings.ToLower(text)
		said := map[string]bool{}
		for _, w := range word.FindAllString(text, -1) {
			said[w] = true
		}
		for name, table := range c.nodes {
			if said[name] || word.FindString(name) != name && strings.Contains(text, name) {
				take(table, "")
			}
		}
		for name, bodies := range c.bodies {
			if said[name] && !read[name] {
				read[name] = true
				for _, body := range bodies {
					mention(body)
				}
			}
		}
	}
	take = func(table, event string) {
		if taken[table] {
			again = again || table == c.own
			return
		}
		taken[table] = true
		for _, r := range c.runs[table] {
			if event == "" || r.event == "" || r.event == event {
				mention(r.text)
			}
		}
		for _, child := range c.changes[table] {
			take(child, "")
		}
	}
	take(c.own, event)
	for table := range taken {
		if slices.Contains(c.holding, table) {
			tables = append(tables, table)
		}
	}
	slices.Sort(tables)
	named = slices.Clone(tables)
	if at := slices.Index(tables, c.own); at >= 0 {
		tables = slices.Insert(slices.Delete(tables, at, at+1), 0, c.own)
		if !again {
			named = tables[1:]
		}
	}
	return tables, named
}

// A question is one to a catalogue, and what is made of a row of its answer.
type question struct {
	sql  string
	take func(c *catalogue, row []string)
}

func tableNode(c *catalogue, row []string) {
	c.nodes[strings.ToLower(row[1])] = row[0]
	if row[2] != "view" {
		c.holding = append(c.holding, row[0])
	}
	if row[3] != "" {
		c.stays[row[0]] = row[3]
	}
}

func runNode(c *catalogue, row []string) {
	c.runs[row[0]] = append(c.runs[row[0]], run{row[1], row[2]})
}

func childNode(c *catalogue, row []string) { c.changes[row[0]] = append(c.changes[row[0]], row[1]) }

func bodyNode(c *catalogue, row []string) {
	name := strings.ToLower(row[0])
	c.bodies[name] = append(c.bodies[name], row[1])
}

// viewNode: what is done to a view may be done to what it shows.
func viewNode(c *catalogue, row []string) {
	if view, is := c.nodes[strings.ToLower(row[0])]; is {
		c.runs[view] = append(c.runs[view], run{"", row[1]})
	}
}

// catalogues are the questions of each database. Shadow tables of SQLite are what virtual ones lie in, and partitions of PostgreSQL what their table
// does: neither is looked at by itself.
var catalogues = map[string][]question{
	dialect.SQLite: {
		{"SELECT name, name, CASE type WHEN 'view' THEN 'view' ELSE '' END, '' FROM pragma_table_list WHERE schema = 'main' AND type <> 'shadow' AND name NOT LIKE 'sqlite!_%' ESCAPE '!'", tableNode},
		{"SELECT tbl_name, '', sql FROM sqlite_schema WHERE type = 'trigger'", func(c *catalogue, row []string) {
			event := ""
			if head := triggerHead.FindStringSubmatch(row[2]); head != nil {
				event = strings.ToUpper(head[1])
			}
			does := row[2]
			if at := triggerBody.FindStringIndex(does); at != nil {
				does = does[at[1]:]
			}
			table := c.nodes[strings.ToLower(row[0])]
			c.runs[table] = append(c.runs[table], run{event, does})
		}},
		{"SELECT name, sql FROM sqlite_schema WHERE type = 'view'", viewNode},
		{`SELECT p.name, t.name FROM pragma_table_list AS t, pragma_foreign_key_list(t.name) AS f, pragma_table_list AS p WHERE t.schema = 'main' AND t.type = 'table' AND p.schema = 'main' AND p.name = f."table" COLLATE NOCASE
			AND (f.on_update NOT IN ('NO ACTION', 'RESTRICT') OR f.on_delete NOT IN ('NO ACTION', 'RESTRICT'))`, childNode},
	},
	dialect.MySQL: {
		{"SELECT t.TABLE_NAME, t.TABLE_NAME, CASE t.TABLE_TYPE WHEN 'VIEW' THEN 'view' ELSE '' END, CASE WHEN t.TABLE_TYPE <> 'VIEW' AND coalesce(n.TRANSACTIONS, '') <> 'YES' THEN concat('is kept by ', coalesce(t.ENGINE, 'something else')) ELSE '' END FROM information_schema.TABLES AS t LEFT JOIN information_schema.ENGINES AS n ON n.ENGINE = t.ENGINE WHERE t.TABLE_SCHEMA = DATABASE()", tableNode},
		{"SELECT EVENT_OBJECT_TABLE, EVENT_MANIPULATION, ACTION_STATEMENT FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = DATABASE()", runNode},
		{"SELECT TABLE_NAME, VIEW_DEFINITION FROM information_schema.VIEWS WHERE TABLE_SCHEMA = DATABASE()", viewNode},
		{"SELECT ROUTINE_NAME, coalesce(ROUTINE_DEFINITION, '') FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE()", bodyNode},
		{"SELECT REFERENCED_TABLE_NAME, TABLE_NAME FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE CONSTRAINT_SCHEMA = DATABASE() AND (UPDATE_RULE NOT IN ('NO ACTION', 'RESTRICT') OR DELETE_RULE NOT IN ('NO ACTION', 'RESTRICT'))", childNode},
	},
	dialect.PostgreSQL: {
		{`SELECT format('%I.%I', n.nspname, c.relname), c.relname, CASE WHEN c.relkind IN ('v', 'm') THEN 'view' ELSE '' END, CASE c.relkind WHEN 'f' THEN 'lies on another server' ELSE '' END FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
			WHERE c.relkind IN ('r', 'p', 'f', 'v', 'm') AND NOT c.relispartition AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname !~ '^pg_(toast|temp)'`, tableNode},
		{`SELECT format('%I.%I', n.nspname, c.relname), '', pg_get_functiondef(t.tgfoid) FROM pg_trigger AS t JOIN pg_class AS c ON c.oid = t.tgrelid JOIN pg_namespace AS n ON n.oid = c.relnamespace WHERE NOT t.tgisinternal AND t.tgenabled <> 'D'`, runNode},
		{`SELECT format('%I.%I', n.nspname, c.relname), CASE r.ev_type WHEN '2' THEN 'UPDATE' WHEN '3' THEN 'INSERT' ELSE 'DELETE' END, pg_get_ruledef(r.oid) FROM pg_rewrite AS r JOIN pg_class AS c ON c.oid = r.ev_class JOIN pg_namespace AS n ON n.oid = c.relnamespace
			WHERE r.ev_type <> '1' AND n.nspname NOT IN ('pg_catalog', 'information_schema')`, runNode},
		{`SELECT c.relname, pg_get_viewdef(c.oid) FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace WHERE c.relkind = 'v' AND n.nspname NOT IN ('pg_catalog', 'information_schema')`, viewNode},
		{`SELECT p.proname, pg_get_functiondef(p.oid) FROM pg_proc AS p JOIN pg_namespace AS n ON n.oid = p.pronamespace WHERE p.prokind IN ('f', 'p') AND n.nspname NOT IN ('pg_catalog', 'information_schema')`, bodyNode},
		{`SELECT format('%I.%I', pn.nspname, p.relname), format('%I.%I', n.nspname, c.relname) FROM pg_constraint AS f JOIN pg_class AS c ON c.oid = f.conrelid JOIN pg_namespace AS n ON n.oid = c.relnamespace JOIN pg_class AS p ON p.oid = f.confrelid JOIN pg_namespace AS pn ON pn.oid = p.relnamespace
			WHERE f.contype = 'f' AND (f.confupdtype NOT IN ('a', 'r') OR f.confdeltype NOT IN ('a', 'r'))`, childNode},
	},
}

// reaches asks the catalogue which tables a change of a row may reach, and why one of them takes nothing back.
func (db *database) reaches(ctx context.Context, e RowEdit, b *Besides) error {
	c := &catalogue{own: e.Table, nodes: map[string]string{}, runs: map[string][]run{}, changes: map[string][]string{}, bodies: map[string][]string{}, stays: map[string]string{}}
	for _, q := range catalogues[db.driver] {
		rows, err := db.texts(ctx, q.sql)
		if err != nil {
			return err
		}
		for _, row := range rows {
			q.take(c, row)
		}
	}
	if table, is := c.nodes[strings.ToLower(e.Table)]; is {
		c.own = table
	}
	if db.driver == dialect.PostgreSQL { // of several of that name it is the one that the search path finds first
		rows, err := db.texts(ctx, "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace WHERE c.oid = to_regclass($1)", db.quoted(e.Table))
		if err != nil {
			return err
		}
		for _, row := range rows {
			c.own = row[0]
		}
	}
	var named []string
	b.tables, named = c.reach(e.event())
	b.table = c.own
	if len(named) > 0 {
		b.say(false, "rows of %s may change with it", strings.ReplaceAll(strings.Join(named, ", "), "public.", ""))
	}
	for _, table := range b.tables {
		if why := c.stays[table]; why != "" && b.Stays == "" {
			b.Stays = fmt.Sprintf("what runs then may change the table %s, which %s and takes nothing back", table, why)
		}
	}
	return nil
}
