package orders

import (
	"errors"

	"golang.org/x/sys/unix"
)

// folderFlags open a folder so that what lies in it can be looked up, whether it may be read or not.
const folderFlags = unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC

// looked is what is known of an entry of a folder, which is not opened for reading.
func looked(folder int, name, full string) (entry, error) {
	fd, err := unix.Openat(folder, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return entry{}, err
	}
	defer unix.Close(fd)
	return entryOf(fd, full)
}

// attribute is the list of access of an entry as the system keeps it, nil for none.
func attribute(name string) ([]byte, error) {
	raw := make([]byte, 64<<10)
	n, err := unix.Getxattr(name, "system.posix_acl_access", raw)
	if errors.Is(err, unix.ENODATA) || errors.Is(err, unix.EOPNOTSUPP) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return raw[:n], nil
}
