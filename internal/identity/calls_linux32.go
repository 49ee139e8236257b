//go:build linux && (386 || arm)

package identity

import "golang.org/x/sys/unix"

// Those without the number are of a time when users had sixteen bits.
const setresuid, setresgid = unix.SYS_SETRESUID32, unix.SYS_SETRESGID32
