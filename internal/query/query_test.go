package query

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fill puts x in the place of every variable.
func fill(t string, _ bool) (string, error) { return marks.ReplaceAllString(t, "X"), nil }

func TestWhatAQueryMaySay(t *testing.T) {
	for source, want := range map[string]string{
		"SELECT 1":                                "SELECT 1",
		"select count(*) from {prefix}pages":      "SELECT COUNT(*) FROM `Xpages`",
		`SELECT "Title" FROM t WHERE a = 'it''s'`: "SELECT `Title` FROM `t` WHERE `a` = ?",
		"SELECT a AS name, b AS role FROM users u WHERE u.kind IN ('x', 2) AND NOT u.off IS NULL":                        "SELECT `a` AS `name`, `b` AS `role` FROM `users` `u` WHERE `u`.`kind` IN(?, 2) AND NOT `u`.`off` IS NULL",
		"SELECT count(DISTINCT a) FROM t WHERE b = (SELECT min(c) FROM u) OR EXISTS (SELECT 1 FROM v WHERE v.id = t.id)": "SELECT COUNT(DISTINCT `a`) FROM `t` WHERE `b` =(SELECT MIN(`c`) FROM `u`) OR EXISTS(SELECT 1 FROM `v` WHERE `v`.`id` = `t`.`id`)",
		"SELECT CAST(a AS TEXT), CAST(b AS INTEGER) FROM t":                                                              "SELECT CAST(`a` AS TEXT), CAST(`b` AS INTEGER) FROM `t`",
		"SELECT CASE WHEN a = 1 THEN 'x' ELSE 'y' END FROM t LEFT JOIN u ON t.id = u.id":                                 "SELECT CASE WHEN `a` = 1 THEN ? ELSE ? END FROM `t` LEFT JOIN `u` ON `t`.`id` = `u`.`id`",
		"SELECT coalesce(max(a + 1 * 2), -3) FROM t GROUP BY b, c ORDER BY b DESC, c LIMIT 5":                            "SELECT COALESCE(MAX(`a` + 1 * 2), - 3) FROM `t` GROUP BY `b`, `c` ORDER BY `b` DESC, `c` LIMIT 5",
		"SELECT a FROM t WHERE b NOT IN (1) AND c BETWEEN 1 AND 2 AND d != 3 AND no = {wharf}":                           "SELECT `a` FROM `t` WHERE `b` NOT IN(1) AND `c` BETWEEN 1 AND 2 AND `d` <> 3 AND `no` = ?",
		"SELECT text, count FROM cast WHERE `select` = TRUE":                                                             "SELECT `text`, `count` FROM `cast` WHERE `select` = TRUE",
	} {
		q, err := Parse(source)
		require.NoError(t, err, source)
		printed, _, err := q.Print(SQLite, fill)
		require.NoError(t, err)
		assert.Equal(t, want, printed)
	}
}

func TestPrintedForEachServer(t *testing.T) {
	q, err := Parse(`SELECT CAST(Name AS INTEGER), "Kept" FROM {p}T WHERE a = 'x{p}\' AND b = {p}`)
	require.NoError(t, err)
	assert.Equal(t, []string{"p"}, q.Marks)
	for server, want := range map[Server]string{
		SQLite:     "SELECT CAST(`Name` AS INTEGER), `Kept` FROM `XT` WHERE `a` = ? AND `b` = ?",
		MySQL:      "SELECT CAST(`Name` AS SIGNED), `Kept` FROM `XT` WHERE `a` = ? AND `b` = ?",
		PostgreSQL: `SELECT CAST("name" AS BIGINT), "Kept" FROM "xt" WHERE "a" = $1 AND "b" = $2`,
	} {
		printed, args, err := q.Print(server, fill)
		require.NoError(t, err)
		assert.Equal(t, want, printed)
		assert.Equal(t, []any{`xX\`, "X"}, args, "a text is an argument, whatever is in it")
	}
	_, _, err = q.Print(SQLite, func(string, bool) (string, error) { return "", errors.New("no such variable") })
	assert.EqualError(t, err, "no such variable")
	assert.Equal(t, "`a``b`", Name(MySQL, "a`b"))
	assert.Equal(t, `"a""b"`, Name(PostgreSQL, `a"b`))
}

// TestWhatAQueryMayNotSay is what servers read in ways of their own, what writes, waits or fetches, and what is endless.
func TestWhatAQueryMayNotSay(t *testing.T) {
	for source, want := range map[string]string{
		"": "SELECT is expected", "UPDATE t SET a = 1": "SELECT is expected", "WITH x AS (SELECT 1) SELECT 1": "SELECT is expected", "WITH RECURSIVE x AS (SELECT 1) SELECT 1": "SELECT is expected",
		"SELECT 1; DELETE FROM t": `";" has no place`, "SELECT a -- x": "a number is expected", "SELECT a FROM t -- x": "has no place", "SELECT a /* x */": `"/" has no place`, "SELECT a # x": `"#" has no place`,
		"SELECT a INTO OUTFILE '/x' FROM t": "INTO has no place", "SELECT a INTO DUMPFILE '/x' FROM t": "INTO has no place", "SELECT a FROM t FOR UPDATE": "has no place",
		`SELECT 'a\' INTO OUTFILE ''/x'' -- ' FROM t`: "INTO has no place", "SELECT $$a$$": `"$" has no place`, `SELECT E'\'' FROM t`: "has no place", "SELECT U&'x'": `"&" has no place`,
		"SELECT [pg_sleep](9)": `"[" has no place`, "SELECT pg_sleep(9)": "does not call pg_sleep()", `SELECT "pg_sleep"(9)`: "does not call", "SELECT `sleep`(9)": "does not call", "SELECT lo_export(1, 'x')": "does not call",
		"SELECT load_file('/etc/passwd')": "does not call load_file()", "SELECT pg_read_file('x')": "does not call", "SELECT benchmark(9, 1)": "does not call", "SELECT randomblob(9)": "does not call", "SELECT zeroblob(9)": "does not call",
		"SELECT readfile('x')": "does not call", "SELECT load_extension('x')": "does not call", "SELECT group_concat(a) FROM t": "does not call", "SELECT replicate('a', 9)": "does not call", "SELECT @a := 1": `"@" has no place`, "SELECT @@version": `"@" has no place`,
		"SELECT a FROM pg_shadow": "the server's own", `SELECT a FROM "pg_authid"`: "the server's own", "SELECT a FROM sqlite_master": "the server's own", "SELECT a FROM mysql.user": "another schema", "SELECT a FROM information_schema.tables": "another schema",
		"SELECT a FROM t, u": "has no place", "SELECT a FROM t CROSS JOIN u": "CROSS has no place", "SELECT a FROM t JOIN u": "ON is expected", "SELECT a FROM (SELECT 1)": "a name is expected", "SELECT a FROM t UNION SELECT b FROM u": "has no place",
		"SELECT a FROM t WHERE a LIKE 'x'": "has no place", "SELECT a / 2 FROM t": `"/" has no place`, "SELECT a || b FROM t": `"|" has no place`, "SELECT a::text FROM t": `":" has no place`, "SELECT *": "a name is expected", "SELECT t.* FROM t": "a name is expected",
		"SELECT x'41'": "has no place", "SELECT 0x41": "has no place", "SELECT 1e9": "has no place", "SELECT a FROM t LIMIT 'x'": "whole number", "SELECT a b c FROM t": "has no place", "SELECT min(a, b) FROM t": "takes 1 to 1",
		"SELECT 'a": `"'" has no place`, "SELECT \x00": "has no place", "SELECT a FROM `t\\`": "is no name", "SELECT {p}{": "is no name", "SELECT CAST(a AS JSON)": "TEXT or INTEGER",
		"SELECT a FROM t JOIN t ON 1 JOIN t ON 1 JOIN t ON 1 JOIN t ON 1 JOIN t ON 1 JOIN t ON 1": "more than 6 tables",
		"SELECT " + strings.Repeat("(", 50) + "1":                                                 "nested too deep", "SELECT '" + strings.Repeat("a", 5000) + "'": "at most 4096",
	} {
		_, err := Parse(source)
		var problem *Error
		require.True(t, errors.As(err, &problem), "%s: %v", source, err)
		assert.Contains(t, err.Error(), want, source)
	}
}

// FuzzParse holds that what is understood is printed without a sign that servers read in ways of their own, and that
// what is printed is understood again and printed the same.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{"SELECT count(*) FROM {p}t WHERE a = 'x''y' AND b IN (1, 2)", `SELECT "a` + "`" + `b" FROM t`, "SELECT CASE WHEN a THEN 1 END FROM t LEFT JOIN u ON a = b ORDER BY 1 LIMIT 2", `SELECT '\'`, "SELECT - -1", "SELECT a.b FROM c a"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, source string) {
		q, err := Parse(source)
		if err != nil {
			return
		}
		for _, server := range []Server{SQLite, MySQL, PostgreSQL} {
			printed, args, err := q.Print(server, fill)
			require.NoError(t, err)
			assert.Equal(t, len(args), strings.Count(outside(printed, server), "?")+strings.Count(outside(printed, server), "$"))
			for _, never := range []string{";", "--", "/*", "#", "'", "\\", "@", "\x00", "::", "[", "&"} {
				assert.NotContains(t, outside(printed, server), never, printed)
			}
		}
		printed, _, _ := q.Print(MySQL, fill)
		again, err := Parse(strings.ReplaceAll(printed, "?", "'x'"))
		if err == nil { // names in quotes may hold what stands for an argument
			second, _, _ := again.Print(MySQL, fill)
			assert.Equal(t, strings.ReplaceAll(printed, "?", "'x'"), strings.ReplaceAll(second, "?", "'x'"))
		}
	})
}

// outside is what stands outside of quoted names.
func outside(printed string, server Server) string {
	sign := "`"
	if server == PostgreSQL {
		sign = `"`
	}
	var b strings.Builder
	for i, piece := range strings.Split(printed, sign) {
		if i%2 == 0 {
			b.WriteString(piece)
		}
	}
	return b.String()
}
