//go:build unix

package files

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/tree"
)

// TestCommandsAreToldByWhatTheyAre, and only of what may be run anything is opened.
func TestCommandsAreToldByWhatTheyAre(t *testing.T) {
	root := t.TempDir()
	in, err := tree.Open(root)
	require.NoError(t, err)
	defer in.Close()
	looking := &counting{opener: opener{files: in}}
	for _, c := range []struct {
		name, text string
		mode       uint32
		want       string
	}{
		{"tool", "#!/bin/sh\n", 0o755, command}, {"tool-locked", "#!/bin/sh\n", 0o644, data}, {"group-may", "#!/bin/sh\n", 0o654, command},
		{"elf.so.1", "\x7fELF\x02", 0o755, command}, {"mac", "\xcf\xfa\xed\xfe", 0o755, command}, {"win.dll2", "MZ\x90\x00", 0o755, command},
		{"readme", "#", 0o755, data}, {"empty", "", 0o777, data}, {"heading.md", "# Title\n", 0o755, page}, {"photo.jpg", "\xff\xd8", 0o755, picture},
		{"bin/x", "plain", 0o755, command}, {"bin/x.css", "a{}", 0o755, page}, {"bin/x.png", "png", 0o755, picture}, {"bin/locked", "plain", 0o644, data},
		{"vendor/bin/deep/x", "plain", 0o755, command}, {"binary/x", "plain", 0o755, data}, {"cabin", "plain", 0o755, data},
		{"site.git/hooks/post-receive", "plain", 0o755, command}, {"sbin/x", "", 0o700, command}, {"cgi-bin/form", "x", 0o755, command}, {"libexec/x", "x", 0o755, command},
		{"index.php", "<?php", 0o755, program}, {"console.php", "#!/usr/bin/env php\n<?php", 0o755, command}, {"run.sh", "echo", 0o755, program}, {"uploads/x.jpg", "#!/bin/sh\n", 0o755, command},
	} {
		at := filepath.Join(root, filepath.FromSlash(c.name))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(c.text), 0o600))
		require.NoError(t, syscall.Chmod(at, c.mode))
		assert.Equal(t, c.want, looking.content(tree.Entry{Path: c.name, Kind: tree.File, Mode: c.mode}), c.name)
	}
	assert.Equal(t, none, looking.content(tree.Entry{Path: "bin", Kind: tree.Folder, Mode: 0o755}))
	assert.Equal(t, command, looking.content(tree.Entry{Path: "gone", Kind: tree.File, Mode: 0o755}), "what cannot be opened may be one")
	assert.Equal(t, data, looking.content(tree.Entry{Path: "gone.bin2", Kind: tree.File, Mode: 0o755}))
}

// TestNothingIsWaitedFor: what has become a pipe or a link since it was counted is not opened.
func TestNothingIsWaitedFor(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, syscall.Mkfifo(filepath.Join(root, "pipe"), 0o755))
	outside := filepath.Join(t.TempDir(), "outside")
	require.NoError(t, os.WriteFile(outside, []byte("#!/bin/sh\n"), 0o755))
	require.NoError(t, os.Symlink(outside, filepath.Join(root, "link.dat")))
	in, err := tree.Open(root)
	require.NoError(t, err)
	defer in.Close()
	looking := &counting{opener: opener{files: in}}
	done := make(chan string, 1)
	go func() { done <- looking.content(tree.Entry{Path: "pipe", Kind: tree.File, Mode: 0o755}) }()
	select {
	case got := <-done:
		assert.Equal(t, data, got)
	case <-time.After(30 * time.Second):
		t.Fatal("it waits for somebody to write into the pipe")
	}
	assert.Equal(t, data, looking.content(tree.Entry{Path: "link.dat", Kind: tree.File, Mode: 0o755}), "a link is not followed")
}
