//go:build unix

package servertest

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Program is the path of a program or a module of Apache, the newest of a pattern; where there is none the test is skipped.
func Program(t *testing.T, name string) string {
	t.Helper()
	for _, folder := range []string{"/usr/sbin/", "/usr/bin/", "/usr/lib/apache2/modules/"} {
		if found, _ := filepath.Glob(folder + name); len(found) > 0 {
			return found[len(found)-1]
		}
	}
	t.Skipf("%s is not installed; scripts/test installs it", name)
	return ""
}

// Begin starts a server, and waits until it listens: on a port, or at the path of a socket. It is gone with the test.
func Begin(t *testing.T, address string, command *exec.Cmd) (stop func()) {
	t.Helper()
	var said strings.Builder
	command.Stdout, command.Stderr, command.WaitDelay = &said, &said, time.Second
	command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Apache ends its whole group
	require.NoError(t, command.Start())
	stop = sync.OnceFunc(func() { _ = command.Process.Signal(syscall.SIGTERM); _ = command.Wait() })
	t.Cleanup(stop)
	network := "tcp"
	if strings.HasPrefix(address, "/") {
		network = "unix"
	}
	for range 1000 {
		if connection, err := net.Dial(network, address); err == nil {
			connection.Close()
			return stop
		}
		time.Sleep(10 * time.Millisecond)
	}
	stop()
	require.Fail(t, "it does not listen", "%s", said.String())
	return stop
}

// Public is a folder that servers may look into, gone with the test.
func Public(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for d := dir; d != "/" && d != os.TempDir(); d = filepath.Dir(d) {
		_ = os.Chmod(d, 0o755)
	}
	return dir
}
