package runas

import (
	"fmt"
	"syscall"

	"golang.org/x/sys/unix"

	"weltaxis/internal/orders"
)

// Become has all threads of this process go on as a user, with the groups that the machine's files give him; there is no way back. Only
// root may. From then on nobody but root looks into the process: the kernel takes that right from a user when a process becomes his
// (prctl(2), PR_SET_DUMPABLE), and no program is loaded afterwards that would give it back.
func Become(uid int) error {
	if uid <= 0 {
		return fmt.Errorf("there is no user %d to become", uid)
	}
	gid, groups := orders.Groups(uid)
	env := environment(uid, orders.Name(uid))
	if err := syscall.Setgroups(groups); err != nil {
		return fmt.Errorf("giving up the groups of root: %w", err)
	}
	if err := syscall.Setresgid(gid, gid, gid); err != nil {
		return fmt.Errorf("becoming a member of group %d: %w", gid, err)
	}
	if err := syscall.Setresuid(uid, uid, uid); err != nil {
		return fmt.Errorf("becoming %s: %w", orders.Name(uid), err)
	}
	if syscall.Setresuid(-1, 0, -1) == nil || syscall.Getuid() != uid || syscall.Geteuid() != uid {
		return fmt.Errorf("the rights of root could not be given up")
	}
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return fmt.Errorf("keeping others from looking into this process: %w", err)
	}
	return setEnvironment(env)
}
