package confine

import (
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
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
	if os.Geteuid() != 0 {
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
	r.Apart = onThread(ownNetwork) == nil
	return nil
}

// manyUsers tells whether all numbers of users are to be had (user_namespaces(7)).
func manyUsers() bool {
	text, err := os.ReadFile("/proc/self/uid_map")
	return err == nil && strings.Join(strings.Fields(string(text)), " ") == "0 0 4294967295"
}

// onThread does something on a thread of its own, which ends with it: what it changes of the thread stays with the programs that it starts.
func onThread(do func() error) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocked
		done <- do()
	}()
	return <-done
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
	if err := onThread(func() error {
		if r.Apart {
			if err := ownNetwork(); err != nil {
				return err
			}
		}
		if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
			return err
		}
		return command.Start()
	}); err != nil {
		return err
	}
	return command.Wait()
}
