package tree

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// carrying is a folder with a file that carries an access control list and an attribute.
func carrying(t *testing.T) (dir string, root Files) {
	t.Helper()
	if _, err := exec.LookPath("setfacl"); err != nil {
		t.Skip("setfacl is not installed")
	}
	dir = t.TempDir()
	root, err := Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config.ini"), []byte("old"), 0o600))
	for _, arguments := range [][]string{{"-m", "u:33:r,g::-,m::r", "config.ini"}} {
		command := exec.Command("setfacl", arguments...)
		command.Dir = dir
		if out, err := command.CombinedOutput(); err != nil {
			t.Skipf("this file system has no access control lists: %s", out)
		}
	}
	if err := unix.Setxattr(filepath.Join(dir, "config.ini"), "user.origin", []byte("by hand\x00"), 0); err != nil {
		t.Skipf("this file system has no extended attributes: %v", err)
	}
	return dir, root
}

// carried is all that a file carries, as the programs of the operating system show it.
func carried(t *testing.T, dir, name string) string {
	t.Helper()
	command := exec.Command("getfacl", "-n", "-p", name)
	command.Dir = dir
	acl, err := command.CombinedOutput()
	require.NoError(t, err, "%s", acl)
	file, err := os.Open(filepath.Join(dir, name))
	require.NoError(t, err)
	defer file.Close()
	all, err := attributes(file)
	require.NoError(t, err)
	return string(acl) + string(all["user.origin"])
}

// TestAReplacedFileKeepsWhatItCarries, there and back: the web server's entry stays, and its group gains nothing.
func TestAReplacedFileKeepsWhatItCarries(t *testing.T) {
	dir, root := carrying(t)
	before := carried(t, dir, "config.ini")
	require.Contains(t, before, "user:33:r--")
	require.Contains(t, before, "group::---")
	require.Contains(t, before, "by hand")
	require.NoError(t, root.Replace("config.ini", []byte("old"), []byte("new"), func(string) {}))
	assert.Equal(t, before, carried(t, dir, "config.ini"))
	require.NoError(t, root.Replace("config.ini", []byte("new"), []byte("old"), func(string) {}))
	assert.Equal(t, before, carried(t, dir, "config.ini"))
}

// TestAReplacedFileGetsNothingFromItsFolder: an entry that new files of the folder get is none of the file's.
func TestAReplacedFileGetsNothingFromItsFolder(t *testing.T) {
	dir, root := carrying(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "plain.ini"), []byte("old"), 0o600))
	before := carried(t, dir, "plain.ini")
	command := exec.Command("setfacl", "-d", "-m", "u:65534:rwx", ".")
	command.Dir = dir
	out, err := command.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, root.Replace("plain.ini", []byte("old"), []byte("new"), func(string) {}))
	assert.Equal(t, before, carried(t, dir, "plain.ini"))
	require.NotContains(t, before, "65534")
}

// TestWhatCannotBeCarriedIsRefused, with the reason, and the file stays.
func TestWhatCannotBeCarriedIsRefused(t *testing.T) {
	dir, root := carrying(t)
	if err := unix.Setxattr(filepath.Join(dir, "config.ini"), sums[0], []byte{4, 1}, 0); err != nil {
		t.Skipf("only with more rights: %v", err)
	}
	assert.ErrorContains(t, root.Replace("config.ini", []byte("old"), []byte("new"), func(string) {}), "vouches for its content")
	assert.Equal(t, "old", readIn(t, dir, "config.ini"))
	assert.Empty(t, leftIn(t, dir))
}

func readIn(t *testing.T, dir, name string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	return string(data)
}

func leftIn(t *testing.T, dir string) []string {
	t.Helper()
	left, err := filepath.Glob(filepath.Join(dir, ".*weltaxis*"))
	require.NoError(t, err)
	return left
}

// TestAWriterInBetweenLosesNothing: whoever writes after the file was compared, in place or by another file of the name,
// finds what was written.
func TestAWriterInBetweenLosesNothing(t *testing.T) {
	for _, point := range []string{"written beside", "compared"} {
		for _, how := range []string{"in place", "another file", "same size"} {
			t.Run(strings.Join([]string{point, how}, ", "), func(t *testing.T) {
				dir := t.TempDir()
				root, err := Open(dir)
				require.NoError(t, err)
				defer root.Close()
				file, theirs := filepath.Join(dir, "a.ini"), "theirs!"
				if how == "same size" {
					theirs = "OLD"
				}
				require.NoError(t, os.WriteFile(file, []byte("old"), 0o644))
				err = root.Replace("a.ini", []byte("old"), []byte("new"), func(at string) {
					if at != point {
						return
					}
					if how == "another file" {
						require.NoError(t, os.WriteFile(file+".theirs", []byte(theirs), 0o600))
						require.NoError(t, os.Rename(file+".theirs", file))
						return
					}
					require.NoError(t, os.WriteFile(file, []byte(theirs), 0o644))
				})
				require.ErrorIs(t, err, ErrChanged)
				assert.Equal(t, theirs, readIn(t, dir, "a.ini"))
				assert.Empty(t, leftIn(t, dir))
			})
		}
	}
}
