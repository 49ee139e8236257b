package identity

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"strings"
	"sync/atomic"
	"syscall"

	"golang.org/x/sys/unix"
)

// caller is whoever started this process, or whom it has become for good; acting is whom it acts as, -1 for the caller.
var caller, acting atomic.Int64

func init() {
	caller.Store(int64(unix.Geteuid()))
	acting.Store(-1)
}

// Caller is the user who runs this program, by number.
func Caller() int { return int(caller.Load()) }

// Acting is the user that this program acts as, where that is another than its caller.
func Acting() (uid int, is bool) {
	uid = int(acting.Load())
	return uid, uid >= 0
}

// Act has this process do everything from now on as a user, but what is done AsCaller; for root alone. It may be told another user later.
func Act(uid int) error {
	if Caller() != 0 {
		return errors.New("only root can act as another user")
	}
	gid, all := groups(uid)
	if uid == 0 {
		gid, all = 0, rootsGroups
	}
	if err := allThreads(0, 0, rootsGroups); err != nil { // whoever it has acted as until now
		return fmt.Errorf("acting as %s: %w", Name(uid), err)
	}
	acting.Store(-1)
	forgetFurther()
	if uid == 0 {
		return nil
	}
	if err := allThreads(uid, gid, all); err != nil {
		return errors.Join(fmt.Errorf("acting as %s: %w", Name(uid), err), allThreads(0, 0, rootsGroups))
	}
	acting.Store(int64(uid))
	// The kernel has taken from everybody but root the right to look into the process when it took on another user (prctl(2),
	// PR_SET_DUMPABLE); so it stays, whatever the machine says of programs with a set-user bit.
	return unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0)
}

// rootsGroups are those that root has had from the beginning.
var rootsGroups, _ = unix.Getgroups()

// allThreads gives every thread an effective identity; real and saved user stay root.
func allThreads(uid, gid int, groups []int) error {
	if uid == 0 {
		if err := syscall.Setresuid(-1, 0, -1); err != nil {
			return err
		}
	}
	if err := syscall.Setgroups(groups); err != nil {
		return err
	}
	if err := syscall.Setresgid(-1, gid, -1); err != nil {
		return err
	}
	if uid == 0 {
		return nil
	}
	return syscall.Setresuid(-1, uid, -1)
}

// AsCaller does something as whoever started this program, whomever it acts as.
func AsCaller(do func() error) error {
	if _, is := Acting(); !is {
		return do()
	}
	return onThread(0, 0, rootsGroups, do)
}

// As does something as another user; for root alone. What it starts besides, as goroutines, is not done so.
func As(uid int, do func() error) error {
	if Caller() != 0 {
		return fmt.Errorf("only root can act as %s", Name(uid))
	}
	if uid == 0 {
		return AsCaller(do)
	}
	gid, all := groups(uid)
	return onThread(uid, gid, all, do)
}

// onThread does something with the identity of this one thread, which gets back the one that it had.
func onThread(uid, gid int, groups []int, do func() error) (err error) {
	runtime.LockOSThread()
	before, beforeGid := unix.Geteuid(), unix.Getegid()
	beforeGroups, err := unix.Getgroups()
	if err != nil {
		runtime.UnlockOSThread()
		return err
	}
	if before == uid && beforeGid == gid {
		defer runtime.UnlockOSThread()
		return do()
	}
	if err := thisThread(uid, gid, groups); err != nil {
		restore(before, beforeGid, beforeGroups)
		return fmt.Errorf("acting as %s: %w", Name(uid), err)
	}
	defer restore(before, beforeGid, beforeGroups)
	return do()
}

// restore gives a thread back the identity that it had. A thread that does not get it back must do nothing more.
func restore(uid, gid int, groups []int) {
	if err := thisThread(uid, gid, groups); err != nil {
		fmt.Fprintf(os.Stderr, "weltaxis: a thread could not go back to acting as %s: %s\n", Name(uid), err)
		os.Exit(2)
	}
	runtime.UnlockOSThread()
}

// thisThread gives the thread an effective identity, by the calls of the kernel, which know threads and no processes (nptl(7)).
func thisThread(uid, gid int, groups []int) error {
	const same = ^uintptr(0)
	if _, _, errno := unix.RawSyscall(setresuid, same, 0, same); errno != 0 {
		return errno
	}
	if err := unix.Setgroups(groups); err != nil {
		return err
	}
	if _, _, errno := unix.RawSyscall(setresgid, same, uintptr(gid), same); errno != 0 {
		return errno
	}
	if uid == 0 {
		return nil
	}
	if _, _, errno := unix.RawSyscall(setresuid, same, uintptr(uid), same); errno != 0 {
		return errno
	}
	return nil
}

// Become has this process go on as a user for good; there is no way back. Nothing of the caller's environment goes with it but language and
// kind of terminal. From then on nobody but root looks into the process, as in Act; stopping it the user may. For root alone.
func Become(uid int) error {
	if uid <= 0 || Caller() != 0 {
		return fmt.Errorf("there is no user %d to become", uid)
	}
	if err := Act(0); err != nil {
		return err
	}
	gid, all := groups(uid)
	env := Environment(uid)
	if err := syscall.Setgroups(all); err != nil {
		return fmt.Errorf("giving up the groups of root: %w", err)
	}
	if err := syscall.Setresgid(gid, gid, gid); err != nil {
		return fmt.Errorf("becoming a member of group %d: %w", gid, err)
	}
	if err := syscall.Setresuid(uid, uid, uid); err != nil {
		return fmt.Errorf("becoming %s: %w", Name(uid), err)
	}
	if syscall.Setresuid(-1, 0, -1) == nil || syscall.Getuid() != uid || syscall.Geteuid() != uid {
		return errors.New("the rights of root could not be given up")
	}
	caller.Store(int64(uid))
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return fmt.Errorf("keeping others from looking into this process: %w", err)
	}
	os.Clearenv()
	for _, pair := range env {
		name, value, _ := strings.Cut(pair, "=")
		if err := os.Setenv(name, value); err != nil {
			return err
		}
	}
	return nil
}
