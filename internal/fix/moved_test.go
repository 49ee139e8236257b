package fix

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAMovedSiteIsKnownAgain by its folder or its file, and a copy, another of its name, or one whose place is still there is another site.
func TestAMovedSiteIsKnownAgain(t *testing.T) {
	home, sites := t.TempDir(), t.TempDir()
	at := func(name string) string { return filepath.Join(sites, name, "weltaxis.yaml") }
	begin := func(path string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte("site: Pebble\n"), 0o600))
	}
	changed := func(path string) string {
		folder, _ := StateOf(home, "Pebble", path)
		dir := filepath.Join(home, folder)
		require.NoError(t, os.MkdirAll(dir, 0o700))
		require.NoError(t, KeepPlace(dir, path))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "journal.jsonl"), nil, 0o600))
		return folder
	}
	begin(at("a"))
	first := changed(at("a"))
	folder, was := StateOf(home, "Pebble", at("a"))
	assert.Equal(t, []string{first, ""}, []string{folder, was})

	begin(at("copy"))
	folder, was = StateOf(home, "Pebble", at("copy"))
	assert.NotEqual(t, first, folder)
	assert.Empty(t, was, "a copy is another site")
	folder, _ = StateOf(home, "Stone", at("a"))
	assert.NotEqual(t, first, folder, "so is one of another name")

	require.NoError(t, os.Rename(filepath.Join(sites, "a"), filepath.Join(sites, "b")))
	folder, was = StateOf(home, "Pebble", at("b"))
	assert.Equal(t, []string{FolderName("Pebble", at("b")), at("a")}, []string{folder, was})
	assert.FileExists(t, filepath.Join(home, folder, "journal.jsonl"), "what is kept goes with it")
	second := changed(at("b"))
	folder, was = StateOf(home, "Pebble", at("b"))
	assert.Equal(t, []string{second, at("a")}, []string{folder, was}, "and the next time")

	begin(at("a"))
	folder, was = StateOf(home, "Pebble", at("a"))
	assert.Equal(t, []string{first, ""}, []string{folder, was}, "another one where it lay")
	assert.NoDirExists(t, filepath.Join(home, first))
	if os.Getuid() == 0 {
		require.NoError(t, os.Rename(filepath.Join(sites, "b"), filepath.Join(sites, "c")))
		require.NoError(t, os.Chown(filepath.Join(sites, "c"), 61001, 61001))
		require.NoError(t, os.Chown(at("c"), 61001, 61001))
		folder, _ = StateOf(home, "Pebble", at("c"))
		assert.NotEqual(t, second, folder, "of another owner it is another's")
		assert.NoFileExists(t, filepath.Join(home, folder, "journal.jsonl"))
	}
}
