package tree

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// opened is a folder of this machine.
func opened(t *testing.T, dir string) Files {
	t.Helper()
	files, err := Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { files.Close() })
	return files
}

func walk(t *testing.T, root string) map[string]Entry {
	t.Helper()
	var mu sync.Mutex
	found := map[string]Entry{}
	files := opened(t, root)
	require.NoError(t, Walk(t.Context(), files, func(e Entry) {
		mu.Lock()
		defer mu.Unlock()
		found[e.Path] = e
	}, func(path string, err error) { t.Errorf("%s: %v", path, err) }))
	return found
}

func TestWalkSeesEverythingOnce(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "a", "b"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "a", "b", "c.txt"), nil, 0o600))
	require.NoError(t, os.Chmod(filepath.Join(root, "a", "b", "c.txt"), 0o640))
	require.NoError(t, os.Chmod(filepath.Join(root, "a"), os.ModeSticky|0o777))
	require.NoError(t, os.Symlink("/", filepath.Join(root, "out")))
	require.NoError(t, os.Mkdir(filepath.Join(root, Aside), 0o755))
	for _, spelling := range []string{root, root + "/"} {
		found := walk(t, spelling)
		assert.Len(t, found, 5, "a link is seen and not followed")
		assert.Equal(t, Folder, found["."].Kind)
		assert.Equal(t, File, found["a/b/c.txt"].Kind)
		assert.Equal(t, uint32(0o640), found["a/b/c.txt"].Mode)
		assert.Equal(t, uint32(0o1777), found["a"].Mode)
		assert.Equal(t, Link, found["out"].Kind)
		assert.Equal(t, uint32(os.Getuid()), found["a/b/c.txt"].UID)
	}
}

func TestWalkEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	err := Walk(ctx, opened(t, t.TempDir()), func(Entry) { t.Error("visited all the same") }, func(string, error) {})
	assert.ErrorIs(t, err, context.Canceled)
	_, err = Open(filepath.Join(t.TempDir(), "gone"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// TestARootThatIsNoneHoldsNothing, and nobody waits for one that is a pipe.
func TestARootThatIsNoneHoldsNothing(t *testing.T) {
	pipe := filepath.Join(t.TempDir(), "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	_, err := Open(pipe)
	require.Error(t, err)
	none, err := Open("")
	require.ErrorIs(t, err, ErrNoRoot)
	_, statErr := none.Stat("a")
	_, lstatErr := none.Lstat("a")
	_, realErr := none.Real("a")
	_, linkErr := none.Readlink("a")
	_, dirErr := none.ReadDir(".")
	_, spaceErr := none.Space()
	_, openErr := Read(none, "a", 1)
	for _, err := range []error{statErr, lstatErr, realErr, linkErr, dirErr, spaceErr, openErr, none.Mkdir("a", 0o700), none.Chmod(Entry{Path: "a"}, 0o700), none.Rename("a", "b"), none.Remove("a"), none.RemoveAll("a"),
		Change(none, "a", nil, []byte("x"), 0, func(string) {}), none.Create("a", nil, 0, nil), none.Replace("a", nil, nil, nil), IsFolder(none, ".")} {
		require.ErrorIs(t, err, ErrNoRoot)
	}
	assert.Zero(t, none.Mount("."))
	require.NoError(t, none.Close())
}

func TestPrintable(t *testing.T) {
	for in, want := range map[string]string{"a/ä\n": "a/ä\n", "a\xff\xfe": `a\xff\xfe`, "\xc3": `\xc3`, "": "", "\ufffd": "\ufffd"} {
		assert.Equal(t, want, Printable(in))
	}
}
