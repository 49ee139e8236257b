package confine

import (
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"weltaxis/internal/identity"
)

// user is the number that programs run as; 0 for whoever runs this.
type user struct{ id uint32 }

// nobody is the user of that name where no other number may be had.
const nobody = 65534

// beyond is where the numbers begin of which one is taken by chance: no account of a machine reaches there.
const beyond = 0x70000000

// Name is how the n-th file is called in a room, from 0.
func (r *Room) Name(n int) string { return fmt.Sprintf("/proc/self/fd/%d", n+3) }

// furnish finds out what can be had here.
func (r *Room) furnish() error {
	if threads() == nil {
		return errors.New("no way was found to keep a program from more rights (prctl(2), PR_SET_NO_NEW_PRIVS)")
	}
	r.Apart = threads().apart
	if identity.Caller() != 0 {
		r.As = "this user"
		return nil
	}
	r.user.id, r.As = nobody, "nobody"
	if number := make([]byte, 4); manyUsers() {
		_, _ = rand.Read(number)
		r.user.id, r.As = beyond+binary.LittleEndian.Uint32(number)>>6, "a user that is nobody's"
	}
	if err := os.Chown(r.Dir, int(r.user.id), int(r.user.id)); err != nil {
		return fmt.Errorf("giving %s to %s: %w", r.Dir, r.As, err)
	}
	return nil
}

// manyUsers tells whether all numbers of users are to be had (user_namespaces(7)).
func manyUsers() bool {
	text, err := os.ReadFile("/proc/self/uid_map")
	return err == nil && strings.Join(strings.Fields(string(text)), " ") == "0 0 4294967295"
}

// An anteroom is a thread from which confined programs are started. What was taken from it, its network and the way to more rights, it does not
// get back, so it does nothing else, and stays as long as the process: a thread that ends takes with it what other programs may hang on.
type anteroom struct {
	do    chan func()
	apart bool // it has a network of its own
}

// threads is the anteroom of this process, made when it is first wanted.
var threads = sync.OnceValue(func() *anteroom {
	a := &anteroom{do: make(chan func())}
	ready := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocked
		_ = identity.AsCaller(func() error {
			a.apart = identity.Caller() == 0 && ownNetwork() == nil
			ready <- unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
			for do := range a.do {
				do()
			}
			return nil
		})
	}()
	if err := <-ready; err != nil {
		return nil
	}
	return a
})

// on does something on that thread.
func (a *anteroom) on(do func() error) (err error) {
	done := make(chan struct{})
	a.do <- func() { err = do(); close(done) }
	<-done
	return err
}

// ownNetwork gives the thread a network of its own, in which every port and address may be listened on.
func ownNetwork() error {
	if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
		return err
	}
	for name, value := range map[string]string{"ipv4/ip_unprivileged_port_start": "0", "ipv4/ip_nonlocal_bind": "1"} {
		if err := os.WriteFile("/proc/sys/net/"+name, []byte(value), 0); err != nil {
			return err
		}
	}
	if err := os.WriteFile("/proc/sys/net/ipv6/ip_nonlocal_bind", []byte("1"), 0); err != nil && !os.IsNotExist(err) { // not there without IPv6
		return err
	}
	return nil
}

// run runs a command with files in memory.
func (r *Room) run(command *exec.Cmd, files [][]byte) error {
	for i, data := range files {
		fd, err := unix.MemfdCreate("weltaxis", unix.MFD_CLOEXEC)
		if err != nil {
			return fmt.Errorf("handing file %d over: %w", i, err)
		}
		file := os.NewFile(uintptr(fd), "memory")
		defer file.Close()
		if _, err = file.Write(data); err == nil {
			_, err = file.Seek(0, io.SeekStart)
		}
		if err != nil {
			return fmt.Errorf("handing file %d over: %w", i, err)
		}
		command.ExtraFiles = append(command.ExtraFiles, file)
	}
	if r.user.id != 0 {
		command.SysProcAttr.Credential = &syscall.Credential{Uid: r.user.id, Gid: r.user.id, Groups: []uint32{}}
	}
	if err := threads().on(command.Start); err != nil {
		return err
	}
	return command.Wait()
}
