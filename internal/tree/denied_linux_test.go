package tree

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"weltaxis/internal/facts"
)

// immutableFlag is FS_IMMUTABLE_FL (ioctl_iflags(2)).
const immutableFlag = 0x10

// immutable marks a file or folder as not to be changed (chattr +i), and takes that back at the end.
func immutable(t *testing.T, name string) {
	t.Helper()
	set := func(on bool) error {
		file, err := os.Open(name)
		if err != nil {
			return err
		}
		defer file.Close()
		flags, err := unix.IoctlGetInt(int(file.Fd()), unix.FS_IOC_GETFLAGS)
		if err != nil {
			return err
		}
		if flags |= immutableFlag; !on {
			flags &^= immutableFlag
		}
		return unix.IoctlSetPointerInt(int(file.Fd()), unix.FS_IOC_SETFLAGS, flags)
	}
	if err := set(true); err != nil {
		t.Skipf("no file can be marked here: %v", err)
	}
	t.Cleanup(func() { _ = set(false) })
}

// TestWhatIsMarkedAsNotToBeChanged says so, and not that it cannot be read, which it can.
func TestWhatIsMarkedAsNotToBeChanged(t *testing.T) {
	for name, mark := range map[string]string{"the file": "a.ini", "its folder": "."} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.ini"), []byte("x=1\n"), 0o644))
		files, err := Open(dir)
		require.NoError(t, err)
		defer files.Close()
		immutable(t, filepath.Join(dir, mark))
		err = Change(files, "a.ini", []byte("x=1\n"), []byte("x=2\n"), 0, func(string) {})
		require.Error(t, err, name)
		assert.ErrorIs(t, err, fs.ErrPermission, name)
		assert.Contains(t, facts.InWords(err), "chattr +i", name)
		assert.NotContains(t, facts.InWords(err), "reading", name)
		text, err := Read(files, "a.ini", 100)
		require.NoError(t, err)
		assert.Equal(t, "x=1\n", string(text))
		left, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Len(t, left, 1, "nothing is left beside it")
	}
}

func TestDeny(t *testing.T) {
	for err, want := range map[error]string{unix.EACCES: "this user lacks the right", unix.EPERM: "chattr +i", unix.EROFS: "read-only mount"} {
		denied := facts.Deny(&fs.PathError{Op: "openat", Path: "a", Err: err}, "writing it", "the right")
		assert.Contains(t, facts.InWords(denied), "writing it was refused")
		assert.Contains(t, facts.InWords(denied), want)
	}
	assert.Equal(t, fs.ErrNotExist, facts.Deny(fs.ErrNotExist, "writing it", "the right"))
}
