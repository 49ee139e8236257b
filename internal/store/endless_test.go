package store

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
)

// TestAQueryThatNeverEnds is ended in time, and gets no more memory than it is given.
func TestAQueryThatNeverEnds(t *testing.T) {
	root := t.TempDir()
	db, err := sql.Open("sqlite", filepath.Join(root, "x.db"))
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE t (a INTEGER, b TEXT); WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000) INSERT INTO t SELECT i, printf('%0900d', i) FROM n")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	for query, want := range map[string]string{
		"SELECT count(*) FROM t x JOIN t y ON x.a <> y.a JOIN t z ON z.a <> y.a JOIN t w ON w.a <> z.a":                             "too long",
		"SELECT count(DISTINCT " + strings.Repeat("replace(", 8) + "x.b" + strings.Repeat(", '0', '0123456789')", 8) + ") FROM t x": "",
		"SELECT a FROM t x ORDER BY replace(replace(replace(x.b, '0', '0000000000'), '0', '0000000000'), '0', '0000000000')":        "",
	} {
		d := &dialect.Dialect{Name: "own", Version: 1, Databases: map[string]dialect.Database{"main": {Driver: dialect.SQLite, SQLite: "x.db"}}}
		s, err := Open(t.Context(), d, Options{Root: root})
		require.NoError(t, err)
		began := time.Now()
		_, err = s.Query(context.Background(), query)
		assert.Error(t, err, query)
		assert.ErrorContains(t, err, want)
		t.Log(fmt.Sprint(time.Since(began).Round(time.Millisecond)), err)
		assert.Less(t, time.Since(began), 3*askedTime, "ended in time, on a busy machine too")
		s.Close()
	}
}
