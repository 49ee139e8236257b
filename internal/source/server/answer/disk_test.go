package answer

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestALinkOnTheWay is one, wherever it lies and leads, also where everybody may write; what is not there is none.
func TestALinkOnTheWay(t *testing.T) {
	dir := t.TempDir()
	for _, folder := range []string{"www/shut", "www/open/deep", "data"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, folder), 0o755))
	}
	for _, folder := range []string{"www/open", "www/open/deep"} {
		require.NoError(t, os.Chmod(filepath.Join(dir, folder), 0o777))
	}
	for _, folder := range []string{"www/shut", "www/open", "www/open/deep"} {
		require.NoError(t, os.Symlink(filepath.Join(dir, "data"), filepath.Join(dir, folder, "link")))
		require.NoError(t, os.Symlink("gone", filepath.Join(dir, folder, "dangling")))
		require.NoError(t, os.WriteFile(filepath.Join(dir, folder, "file"), nil, 0o644))
		for name, linked := range map[string]bool{"file": false, "none": false, "none/below": false, "link": true, "link/below": true, "dangling": true} {
			at := filepath.Join(dir, folder, name)
			assert.Equal(t, linked, OS{}.Linked(filepath.Dir(at), at) || OS{}.Linked(filepath.Join(dir, folder), at), "%s/%s", folder, name)
		}
	}
}
