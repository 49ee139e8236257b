package steps

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

// TestBackups: what is said of them is held against the folder of the site; what lies elsewhere is taken at its word.
func TestBackups(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "web", "old"), 0o755))
	for _, name := range []string{"web/old/a.zip", "kept.zip"} {
		require.NoError(t, os.WriteFile(filepath.Join(root, name), nil, 0o644))
	}
	record := func(path string, taken int64) facts.Record {
		return facts.Record{List: facts.ListBackups, Values: map[string]facts.Value{"path": facts.TextOf(facts.String, path), "taken": facts.NumberOf(facts.Date, taken)}}
	}
	seen := backups([]facts.Record{
		record("web/old/a.zip", 300), record(filepath.Join(root, "kept.zip"), 200), record("gone.zip", 900), record("/elsewhere/b.zip", 100), record("https://store.example/c.zip", 50), record("../outside.zip", 10),
	}, root, "web")
	var lies []string
	for _, r := range seen.Records[facts.ListBackups] {
		lies = append(lies, r.Values["lies"].Text())
	}
	assert.Equal(t, []string{"served", "within", "within", "outside", "outside", "outside"}, lies)
	kept, _ := seen.Is(facts.BackupsKept.Term)
	newest, _ := seen.Is(facts.BackupsNewest.Term)
	assert.EqualValues(t, 5, kept.Number(), "one that is not there is none")
	assert.EqualValues(t, 300, newest.Number())
}
