//go:build unix

package fix

import (
	"os"
	"syscall"
)

// lockFile takes the lock, or fails at once when somebody else has it. It is let go of when the file is closed, also
// by a process that is killed.
func lockFile(f *os.File) error {
	return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
}
