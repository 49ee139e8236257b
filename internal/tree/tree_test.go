package tree

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func walk(t *testing.T, root string) map[string]Entry {
	t.Helper()
	var mu sync.Mutex
	found := map[string]Entry{}
	require.NoError(t, Walk(t.Context(), root, func(e Entry) {
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
	err := Walk(ctx, t.TempDir(), func(Entry) { t.Error("visited all the same") }, func(string, error) {})
	assert.ErrorIs(t, err, context.Canceled)
	err = Walk(t.Context(), filepath.Join(t.TempDir(), "gone"), func(Entry) {}, func(string, error) {})
	assert.True(t, errors.Is(err, os.ErrNotExist), "%v", err)
}

func TestPrintable(t *testing.T) {
	for in, want := range map[string]string{"a/ä\n": "a/ä\n", "a\xff\xfe": `a\xff\xfe`, "\xc3": `\xc3`, "": "", "\ufffd": "\ufffd"} {
		assert.Equal(t, want, Printable(in))
	}
}
