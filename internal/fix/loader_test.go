package fix

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/store"
)

// TestWhatIsLoadedIsAFileOfTheSite and nothing that whoever owns the site's settings would have written into those of the runtime besides.
func TestWhatIsLoadedIsAFileOfTheSite(t *testing.T) {
	dir := t.TempDir()
	root := filepath.Join(dir, "site")
	evil := "works/x.php\nextension=evil.so"
	for _, name := range []string{"site/works/guard.php", "outside.php", "site/" + evil, "site/works/a\"b.php", "site/works/${PATH}.php"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
	}
	require.NoError(t, os.Symlink(filepath.Join(dir, "outside.php"), filepath.Join(root, "works/link.php")))
	p := &planning{Wishes: Wishes{Stores: store.Options{Root: root}}}
	assert.Equal(t, filepath.Join(root, "works/guard.php"), p.loads("works/guard.php"))
	for _, name := range []string{"", "works", "works/none.php", "../outside.php", "works/../../outside.php", "works/link.php", filepath.Join(dir, "outside.php"), evil, `works/a"b.php`, "works/${PATH}.php", "works//guard.php"} {
		assert.Empty(t, p.loads(name), "%q", name)
	}
}
