package private

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestHolder is started by TestWhatWasLeftBehindIsSwept, and killed.
func TestHolder(t *testing.T) {
	within := os.Getenv("WELTAXIS_PRIVATE")
	if within == "" {
		t.Skip("a part of TestWhatWasLeftBehindIsSwept")
	}
	f, err := New(within)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(f.Dir, "copy"), []byte("secret"), 0o600))
	_, _ = os.Stdout.WriteString("ready\n")
	select {}
}

// TestWhatWasLeftBehindIsSwept: the folder of one that was killed goes when the next is made, and none that is used.
func TestWhatWasLeftBehindIsSwept(t *testing.T) {
	within := t.TempDir()
	used, err := New(within)
	require.NoError(t, err)
	defer used.Remove()
	command := exec.Command(os.Args[0], "-test.run", "^TestHolder$")
	command.Env = append(os.Environ(), "WELTAXIS_PRIVATE="+within)
	out, err := command.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, command.Start())
	_, err = bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	// What only looks like one stays: a stranger's, a link, one without a lock, one that others may write to.
	other := t.TempDir()
	require.NoError(t, os.Symlink(other, filepath.Join(within, begins+"link")))
	for name, mode := range map[string]os.FileMode{"bare": 0o700, "open": 0o777, "strange": 0o700} {
		dir := filepath.Join(within, begins+name)
		require.NoError(t, os.Mkdir(dir, 0o700))
		require.NoError(t, os.Chmod(dir, mode))
		if name != "bare" {
			require.NoError(t, os.WriteFile(filepath.Join(dir, held), nil, 0o600))
		}
	}
	if os.Getuid() == 0 {
		require.NoError(t, os.Chown(filepath.Join(within, begins+"strange"), 61001, 61001))
	} else {
		require.NoError(t, os.RemoveAll(filepath.Join(within, begins+"strange")))
	}
	require.NoError(t, os.WriteFile(filepath.Join(other, held), nil, 0o600))
	folders := func() int {
		found, err := filepath.Glob(filepath.Join(within, begins+"*"))
		require.NoError(t, err)
		return len(found)
	}
	count := folders()
	again, err := New(within)
	require.NoError(t, err)
	assert.Equal(t, count+1, folders(), "the one that is used, and what only looks like one, stay")
	again.Remove()
	require.NoError(t, command.Process.Kill())
	_ = command.Wait()
	assert.Equal(t, count, folders(), "nobody has swept yet")
	last, err := New(within)
	require.NoError(t, err)
	assert.Equal(t, count, folders(), "the killed one's is gone")
	last.Remove()
	assert.DirExists(t, used.Dir)
	assert.FileExists(t, filepath.Join(other, held))
	used.Remove()
	assert.NoDirExists(t, used.Dir)
	_, err = New(filepath.Join(within, "none"))
	assert.Error(t, err)
}
