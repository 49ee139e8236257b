package servertest

import (
	"fmt"
	"os"
	"runtime/debug"
	"testing"

	"golang.org/x/sys/unix"
)

// InMemory runs tests with their temporary folders in memory, where the machine has four gigabytes to spare for it in /dev/shm, and with fewer rounds of
// the garbage collector: tests that write and audit hundreds of sites take two thirds of the time by that.
func InMemory(m *testing.M) {
	debug.SetGCPercent(400)
	var room unix.Statfs_t
	if os.Getenv("TMPDIR") != "" || unix.Statfs("/dev/shm", &room) != nil || int64(room.Bavail)*room.Bsize < 4<<30 {
		os.Exit(m.Run())
	}
	dir, err := os.MkdirTemp("/dev/shm", "weltaxis-test-")
	if err == nil {
		err = os.Chmod(dir, 0o777|os.ModeSticky) // as /tmp is
	}
	if err == nil {
		err = os.Setenv("TMPDIR", dir)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "temporary folders stay on the disk:", err)
	}
	code := m.Run()
	if dir != "" {
		_ = os.RemoveAll(dir)
	}
	os.Exit(code)
}
