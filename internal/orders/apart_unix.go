//go:build unix

package orders

import (
	"os/exec"
	"syscall"
)

// apart starts a command in a session of its own, and ends with it all that it has started.
func apart(command *exec.Cmd) {
	command.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	command.Cancel = func() error { return syscall.Kill(-command.Process.Pid, syscall.SIGKILL) }
}
