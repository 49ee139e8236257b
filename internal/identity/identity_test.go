//go:build linux

package identity

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// kestrel and wren are users that this machine does not have.
const kestrel, wren = 61001, 61002

// alone runs a test in a process of its own, since what it does to the process cannot be undone for others.
func alone(t *testing.T) bool {
	t.Helper()
	if os.Geteuid() != 0 && os.Getenv("WELTAXIS_ALONE") == "" {
		t.Skip("only root can act as another user")
	}
	if os.Getenv("WELTAXIS_ALONE") == t.Name() {
		return true
	}
	command := exec.Command(os.Args[0], "-test.run", "^"+t.Name()+"$", "-test.v")
	command.Env = append(os.Environ(), "WELTAXIS_ALONE="+t.Name(), "SECRET=hush")
	out, err := command.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "--- PASS")
	return false
}

// threads are the effective users of all threads of a process, and whether it may be traced.
func threads(t *testing.T) (uids map[string]int) {
	t.Helper()
	uids = map[string]int{}
	tasks, err := filepath.Glob("/proc/self/task/*/status")
	require.NoError(t, err)
	for _, task := range tasks {
		status, err := os.ReadFile(task)
		if err != nil {
			continue // it has ended meanwhile
		}
		for line := range strings.Lines(string(status)) {
			if fields := strings.Fields(line); fields[0] == "Uid:" {
				uids[strings.Join(fields[1:4], "/")]++
			}
		}
	}
	return uids
}

// Whatever is done while the process acts as a user is done with the user's rights, on every thread there is and comes to be; what is done as
// the caller is done as root, and leaves no thread so.
func TestActing(t *testing.T) {
	if !alone(t) {
		return
	}
	dir := t.TempDir()
	require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755))
	require.NoError(t, os.Chmod(dir, 0o777))
	secret, theirs := filepath.Join(dir, "secret"), filepath.Join(dir, "theirs")
	require.NoError(t, os.WriteFile(secret, []byte("hush"), 0o600))
	require.NoError(t, os.WriteFile(theirs, []byte("open"), 0o600))
	require.NoError(t, os.Chown(theirs, kestrel, kestrel))
	require.NoError(t, Act(kestrel))
	uid, is := Acting()
	assert.True(t, is)
	assert.Equal(t, kestrel, uid)
	assert.Equal(t, 0, Caller())
	assert.Equal(t, []string{"0/61001/0"}, keys(threads(t)))
	var group sync.WaitGroup
	for i := range 40 {
		group.Add(1)
		go func() {
			defer group.Done()
			_, err := os.ReadFile(secret)
			assert.ErrorIs(t, err, os.ErrPermission)
			data, err := os.ReadFile(theirs)
			assert.NoError(t, err)
			assert.Equal(t, "open", string(data))
			assert.NoError(t, AsCaller(func() error {
				data, err := os.ReadFile(secret)
				assert.Equal(t, "hush", string(data))
				inside := make(chan error)
				go func() { // what is begun in it is not done so
					_, err := os.ReadFile(secret)
					inside <- err
				}()
				assert.ErrorIs(t, <-inside, os.ErrPermission)
				return errors.Join(err, As(wren, func() error {
					made := filepath.Join(dir, strconv.Itoa(i))
					if err := os.WriteFile(made, nil, 0o600); err != nil {
						return err
					}
					stat, err := os.Stat(made)
					assert.EqualValues(t, wren, stat.Sys().(*syscall.Stat_t).Uid)
					assert.Equal(t, wren, unix.Geteuid())
					return err
				}))
			}))
			_, err = os.ReadFile(secret)
			assert.ErrorIs(t, err, os.ErrPermission)
			made := filepath.Join(dir, fmt.Sprint("own-", i))
			assert.NoError(t, os.WriteFile(made, nil, 0o600))
			stat, err := os.Stat(made)
			assert.NoError(t, err)
			assert.EqualValues(t, kestrel, stat.Sys().(*syscall.Stat_t).Uid)
			assert.EqualValues(t, kestrel, stat.Sys().(*syscall.Stat_t).Gid)
		}()
	}
	group.Wait()
	assert.Equal(t, []string{"0/61001/0"}, keys(threads(t)), "no thread has kept anything of root")
	assert.ErrorContains(t, AsCaller(func() error { return errors.New("it went wrong") }), "it went wrong")
	assert.Panics(t, func() { _ = AsCaller(func() error { panic("it went wrong") }) })
	assert.Equal(t, []string{"0/61001/0"}, keys(threads(t)), "nor where that ended badly")
	require.NoError(t, Act(wren), "another user, straight away")
	assert.Equal(t, []string{"0/61002/0"}, keys(threads(t)))
	require.NoError(t, Act(0))
	assert.Equal(t, []string{"0/0/0"}, keys(threads(t)))
	_, err := os.ReadFile(secret)
	assert.NoError(t, err)
}

func keys(m map[string]int) (all []string) {
	for k := range m {
		all = append(all, k)
	}
	return all
}

// The user it acts as may neither stop the process nor look into it; and a socket that it connects to is told the user.
func TestWhoItActsAsHasNoHandOnIt(t *testing.T) {
	if !alone(t) {
		return
	}
	socket := filepath.Join("/tmp", fmt.Sprintf("weltaxis-peer-%d", os.Getpid()))
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer os.Remove(socket)
	require.NoError(t, os.Chmod(socket, 0o777))
	peer := make(chan uint32)
	go func() {
		connection, err := listener.Accept()
		if err != nil {
			return
		}
		raw, _ := connection.(*net.UnixConn).SyscallConn()
		_ = raw.Control(func(fd uintptr) {
			credentials, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
			if err == nil {
				peer <- credentials.Uid
			}
		})
	}()
	require.NoError(t, Act(kestrel))
	connection, err := net.Dial("unix", socket)
	require.NoError(t, err)
	connection.Close()
	assert.EqualValues(t, kestrel, <-peer)
	for _, try := range []string{"kill -0 PID", "kill -STOP PID", "cat /proc/PID/environ", "cat /proc/PID/maps", "ls /proc/PID/fd", "cat /proc/PID/mem", "gdb -p PID -batch", "strace -p PID -o /dev/null"} {
		line := strings.ReplaceAll(try, "PID", strconv.Itoa(os.Getpid()))
		command := exec.Command("timeout", "5", "sh", "-c", line)
		command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: kestrel, Gid: kestrel, Groups: []uint32{}}}
		var out []byte
		require.NoError(t, AsCaller(func() error {
			var err error
			out, err = command.CombinedOutput()
			if err == nil && !strings.Contains(string(out), "not permitted") {
				return fmt.Errorf("%s: %s", try, out)
			}
			return nil
		}))
		assert.NotContains(t, string(out), "hush", try)
	}
}

// Become leaves nothing of root, on no thread.
func TestBecoming(t *testing.T) {
	if !alone(t) {
		return
	}
	runtime.GOMAXPROCS(4)
	var group sync.WaitGroup
	for range 20 { // more threads than one
		group.Add(1)
		go func() { defer group.Done(); runtime.LockOSThread(); unix.Getpid(); runtime.UnlockOSThread() }()
	}
	group.Wait()
	require.NoError(t, Act(wren))
	require.NoError(t, Become(kestrel))
	assert.Equal(t, []string{"61001/61001/61001"}, keys(threads(t)))
	assert.Equal(t, kestrel, Caller())
	_, is := Acting()
	assert.False(t, is)
	assert.Error(t, syscall.Setresuid(0, 0, 0))
	assert.Error(t, Act(0))
	assert.Error(t, As(wren, func() error { return nil }))
	assert.Empty(t, os.Getenv("SECRET"), "nothing of the caller's environment goes with it")
	assert.Equal(t, "/", os.Getenv("HOME"))
	assert.NoError(t, AsCaller(func() error { assert.Equal(t, kestrel, unix.Geteuid()); return nil }))
}
