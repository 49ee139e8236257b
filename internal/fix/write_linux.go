package fix

import "golang.org/x/sys/unix"

// mayWrite tells whether this user may make files in a folder.
func mayWrite(folder string) error { return unix.Access(folder, unix.W_OK) }
