//go:build unix

package tree

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestHeadReadsLittle of ordinary files, follows no link, and waits for nobody.
func TestHeadReadsLittle(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	for name, text := range map[string]string{"long": "#!/bin/sh and much more", "short": "#!", "empty": ""} {
		require.NoError(t, os.WriteFile(at(name), []byte(text), 0o600))
	}
	for name, want := range map[string]string{"long": "#!/b", "short": "#!", "empty": ""} {
		head, err := Head(at(name), 4)
		require.NoError(t, err, name)
		assert.Equal(t, want, string(head), name)
	}
	require.NoError(t, os.Symlink(at("long"), at("link")))
	require.NoError(t, syscall.Mkfifo(at("pipe"), 0o600))
	for _, name := range []string{"link", "none", "."} {
		_, err := Head(at(name), 4)
		assert.Error(t, err, name)
	}
	head, err := Head(at("pipe"), 4)
	assert.True(t, err != nil || len(head) == 0, "a pipe without a writer has nothing to say")
}
