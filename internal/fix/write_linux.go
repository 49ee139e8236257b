package fix

import "golang.org/x/sys/unix"

// writable tells whether a file may be written, or something made in a folder, by whom this acts as.
func writable(name string) error {
	return unix.Faccessat(unix.AT_FDCWD, name, unix.W_OK, unix.AT_EACCESS)
}
