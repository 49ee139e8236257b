//go:build unix

// Package lock takes a file for oneself while others who ask for it wait or go away. It imports nothing of this program.
package lock

import (
	"os"
	"syscall"
)

// Try takes the lock, or fails at once when somebody else has it. It is let go of when the file is closed, also by a process
// that is killed (flock(2)).
func Try(f *os.File) error { return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) }

// Wait takes the lock, and waits for whoever has it.
func Wait(f *os.File) error { return syscall.Flock(int(f.Fd()), syscall.LOCK_EX) }

// Free lets go of the lock, also where a process that is just being started has the file open as well for a moment (flock(2)).
func Free(f *os.File) error { return syscall.Flock(int(f.Fd()), syscall.LOCK_UN) }
