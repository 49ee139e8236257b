package hostile

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOddFileSystems: on one that is full, and on one that nothing may be written to, a fix says so, crashes not, and leaves every file as it was.
func TestOddFileSystems(t *testing.T) {
	dir := t.TempDir()
	mounted := filepath.Join(dir, "mounted")
	require.NoError(t, os.Mkdir(mounted, 0o755))
	if err := syscall.Mount("tmpfs", mounted, "tmpfs", 0, "size=8m"); err != nil {
		t.Skipf("nothing may be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(mounted, syscall.MNT_DETACH) })
	bin := program(t)
	out, err := exec.Command(bin, "demo", "--into", filepath.Join(dir, "demo"), "--quiet").CombinedOutput()
	require.NoError(t, err, string(out))
	site := filepath.Join(mounted, "copperbeck")
	require.NoError(t, exec.Command("cp", "-a", filepath.Join(dir, "demo", "copperbeck"), filepath.Join(dir, "demo", "demo-ca.pem"), mounted).Run())
	sums := func() map[string]string {
		found := map[string]string{}
		require.NoError(t, filepath.WalkDir(site, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			data, err := os.ReadFile(path)
			info, statErr := d.Info()
			require.NoError(t, statErr)
			found[path] = fmt.Sprintf("%x %s", sha256.Sum256(data), info.Mode())
			return err
		}))
		return found
	}
	before := sums()
	full := func(t *testing.T) {
		file, err := os.Create(filepath.Join(mounted, "filler"))
		require.NoError(t, err)
		for _, err := file.Write(make([]byte, 1<<12)); err == nil; _, err = file.Write(make([]byte, 1<<12)) {
		}
		require.NoError(t, file.Close())
	}
	readOnly := func(t *testing.T) {
		require.NoError(t, os.Remove(filepath.Join(mounted, "filler")))
		require.NoError(t, syscall.Mount("", mounted, "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	}
	for _, c := range []struct {
		name string
		make func(*testing.T)
		same bool // nothing at all may change
	}{{"full", full, false}, {"read only", readOnly, true}} {
		t.Run(c.name, func(t *testing.T) {
			c.make(t)
			was := sums()
			for _, args := range [][]string{{"audit", site, "--offline"}, {"fix", site, "--offline", "--write", "--allow", "visible", "--value", "site.title=Another title"}, {"undo", site, "--offline"}, {"maintenance", "on", site, "--offline", "--write"}, {"maintenance", "off", site, "--offline", "--write"}, {"undo", site, "--offline"}} {
				command := exec.Command(bin, args...)
				command.Env = append(os.Environ(), "XDG_STATE_HOME="+filepath.Join(dir, "state-"+c.name), "NO_COLOR=1")
				said, _ := command.CombinedOutput()
				assert.Contains(t, []int{0, 1, 2, 3}, command.ProcessState.ExitCode(), "%v: %s", args, said)
				assert.NotContains(t, string(said), "panic", args)
				assert.NotContains(t, string(said), "no such file", args)
				if args[0] == "fix" && c.same {
					assert.Contains(t, string(said), "read-only", "it says why")
				}
			}
			if c.same {
				assert.Equal(t, was, sums(), "nothing was changed")
			} else {
				assert.Equal(t, before, sums(), "what was changed is as it was")
			}
		})
	}
}
