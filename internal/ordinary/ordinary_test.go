//go:build !windows

package ordinary

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOnlyWhatHasAnEndIsRead(t *testing.T) {
	dir := t.TempDir()
	in := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(in("file"), []byte("text"), 0o600))
	require.NoError(t, os.WriteFile(in("large"), []byte(strings.Repeat("x", 101)), 0o600))
	require.NoError(t, os.Symlink("file", in("link")))
	require.NoError(t, syscall.Mkfifo(in("pipe"), 0o600))
	require.NoError(t, os.Symlink("/dev/zero", in("zero")))
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	for name, want := range map[string]string{
		"file": "", "link": "", "large": "it has more than 100 bytes", "pipe": "a named pipe", "zero": "a device", ".": "a folder", "nothing": "no such file", "/proc/self/status": "more than 100 bytes",
	} {
		full := name
		if !filepath.IsAbs(name) {
			full = in(name)
		}
		data, err := Read(full, 100)
		if want == "" {
			require.NoError(t, err, name)
			assert.Equal(t, "text", string(data))
		} else {
			assert.ErrorContains(t, err, want, name)
		}
		below := err
		if file, openErr := OpenIn(root, name); openErr != nil {
			below = openErr
		} else {
			_, below = All(file, 100)
		}
		if want == "" || name == "pipe" {
			assert.Equal(t, err, below, name)
		} else {
			assert.Error(t, below)
		}
	}
}
