package tree

import (
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func TestAKernelsFileSystemIsNoPartOfASite(t *testing.T) {
	for name, is := range map[string]bool{"/proc": true, "/sys": true, t.TempDir(): false, "/dev/shm": false} { // one in memory holds files as any other
		dir, err := os.Open(name)
		require.NoError(t, err)
		assert.Equal(t, is, foreign(dir) != nil, name)
		dir.Close()
	}
	root := t.TempDir()
	inner := filepath.Join(root, "mounted")
	require.NoError(t, os.Mkdir(inner, 0o755))
	if err := unix.Mount("proc", inner, "proc", 0, ""); err != nil {
		t.Skipf("nothing may be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(inner, unix.MNT_DETACH) })
	var mu sync.Mutex
	var seen, failed []string
	require.NoError(t, Walk(t.Context(), opened(t, root), func(e Entry) {
		mu.Lock()
		defer mu.Unlock()
		seen = append(seen, e.Path)
	}, func(path string, err error) {
		mu.Lock()
		defer mu.Unlock()
		failed = append(failed, path+": "+err.Error())
	}))
	assert.ElementsMatch(t, []string{".", "mounted"}, seen, "the folder is one of the site's, and what is mounted there is not")
	assert.Equal(t, []string{"mounted: " + errKernel.Error()}, failed)
}
