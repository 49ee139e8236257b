//go:build !386 && !arm

package identity

import "golang.org/x/sys/unix"

const setresuid, setresgid = unix.SYS_SETRESUID, unix.SYS_SETRESGID
