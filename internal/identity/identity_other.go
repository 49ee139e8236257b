//go:build !linux

package identity

import (
	"fmt"
	"os"
	"runtime"
)

// Caller is the user who runs this program, by number.
func Caller() int { return os.Geteuid() }

// Acting is nobody: on this system the program acts as its caller.
func Acting() (uid int, is bool) { return -1, false }

// Act is not done on this system.
func Act(uid int) error { return cannot(uid) }

// AsCaller does something as whoever started this program, which is whom it acts as.
func AsCaller(do func() error) error { return do() }

// As is not done on this system.
func As(uid int, _ func() error) error { return cannot(uid) }

// Become is not done on this system.
func Become(uid int) error { return cannot(uid) }

func cannot(uid int) error {
	return fmt.Errorf("on %s this program does not act as another user; run it as %s", runtime.GOOS, Name(uid))
}
