//go:build linux

package directives

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A configuration that a group looks after is read as far as its folder goes, and as root has it go further; what somebody else of the group has it
// lead to is not.
func TestWhatOthersMayHaveNamed(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make what belongs to others")
	}
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755))
	for name, text := range map[string]string{"conf/nginx.conf": "include on/*.conf;", "conf/own.conf": "own;", "share/module.conf": "module;", "outside/secret": "secret;"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "conf/on"), 0o755))
	for name, to := range map[string]string{"1-own": "../own.conf", "2-module": "../../share/module.conf", "3-theirs": "../../outside/secret", "4-absolute": filepath.Join(dir, "outside/secret")} {
		require.NoError(t, os.Symlink(to, filepath.Join(dir, "conf/on", name+".conf")))
	}
	for _, name := range []string{"3-theirs", "4-absolute"} {
		require.NoError(t, os.Lchown(filepath.Join(dir, "conf/on", name+".conf"), 61001, 61001))
	}
	require.NoError(t, os.Chown(filepath.Join(dir, "conf"), 0, 33))
	require.NoError(t, os.Chmod(filepath.Join(dir, "conf"), 0o775))
	tree := Nginx(filepath.Join(dir, "conf/nginx.conf"), OS{})
	text := strings.Join(outline(tree.Root), "\n")
	assert.Contains(t, text, "own.conf:1 own")
	assert.Contains(t, text, "2-module.conf:1 module")
	assert.NotContains(t, text, " secret")
	require.Len(t, tree.Gaps, 2)
	assert.Contains(t, tree.Gaps[0].Because, "others may change that")
}
