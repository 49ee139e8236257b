// Package servertest starts real servers for tests: on loopback, with private folders, and gone with the test.
//
// Only tests import it, and it imports nothing of this program.
package servertest

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// next is the port that is tried next, above 10000: each process begins somewhere else.
var next atomic.Uint32

func init() { next.Store(rand.Uint32N(22000)) }

// FreeAddress is a loopback address with a port nobody listens on, another one each time. It is below those that the system
// hands out by itself: one of these may be another connection's before the server that it is for has taken it.
func FreeAddress(t *testing.T) string {
	t.Helper()
	for range 100 {
		listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", 10000+next.Add(1)%22000))
		if err != nil {
			continue
		}
		require.NoError(t, listener.Close())
		return listener.Addr().String()
	}
	require.Fail(t, "no port between 10000 and 32000 is free")
	return ""
}

// User is whom nginx serves as: whoever runs the tests, whose folders are his own.
func User() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return ""
}

// Nginx serves a folder of files with nginx at an address, and gives the file by which it does. Where nginx is not installed the test is skipped.
func Nginx(t *testing.T, address, root string) (file string) {
	t.Helper()
	nginx, err := exec.LookPath("nginx")
	if err != nil {
		t.Skip("nginx is not installed; scripts/test installs it")
	}
	dir, as := t.TempDir(), ""
	if os.Getuid() == 0 {
		as = "user root;" // the test's folders are its own
	}
	config := fmt.Sprintf(`%[1]s daemon off; pid %[2]s/pid; worker_processes 1; events {}
http { access_log off; client_body_temp_path %[2]s/a; proxy_temp_path %[2]s/b; fastcgi_temp_path %[2]s/c; uwsgi_temp_path %[2]s/d; scgi_temp_path %[2]s/e;
types { text/html html; text/css css; image/png png; text/plain txt; application/xml xml; } charset utf-8; gzip on; gzip_min_length 200;
server { listen %[3]s; root %[4]s; index index.html; } }`, as, dir, address, root)
	file = filepath.Join(dir, "nginx.conf")
	require.NoError(t, os.WriteFile(file, []byte(config), 0o600))
	command := exec.Command(nginx, "-p", dir, "-c", file, "-e", filepath.Join(dir, "error.log"))
	require.NoError(t, command.Start())
	t.Cleanup(func() { _ = command.Process.Signal(os.Interrupt); _ = command.Wait() })
	require.Eventually(t, func() bool {
		connection, err := net.Dial("tcp", address)
		if err == nil {
			connection.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond, "nginx does not listen")
	return file
}
