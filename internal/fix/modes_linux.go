package fix

import (
	"errors"
	"fmt"
	"os"
	"path"
	"strings"
	"syscall"

	"weltaxis/internal/facts"
	"weltaxis/internal/store"

	"golang.org/x/sys/unix"
)

// The reasons for which an entry's mode is left alone.
var (
	errNotPlanned = errors.New("it is not what it was when the plan was made")
	errManyNames  = errors.New("it has several names (hard links), one of which may lie elsewhere; a person decides")
)

// chmod changes the mode of one entry below root, from one to another. Every folder on the way is opened from the
// one before, no link is followed, and what was opened is compared with what was planned before it is changed by
// its descriptor: whoever swaps a name for a link meanwhile gains nothing.
func chmod(root string, e modeEdit, from, to uint32) error {
	folder, err := unix.Open(root, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("opening the root: %w", err)
	}
	defer func() { unix.Close(folder) }()
	rel := path.Clean(e.Path)
	parts := strings.Split(rel, "/")
	for _, name := range parts[:len(parts)-1] {
		next, err := unix.Openat(folder, name, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if err != nil {
			return errNotPlanned
		}
		unix.Close(folder)
		folder = next
	}
	at := folder
	if rel != "." {
		fd, err := unix.Openat(folder, parts[len(parts)-1], unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if err != nil {
			return errNotPlanned
		}
		defer unix.Close(fd)
		at = fd
	}
	var stat unix.Stat_t
	if err := unix.Fstat(at, &stat); err != nil {
		return err
	}
	kind := stat.Mode & unix.S_IFMT
	switch {
	case kind != unix.S_IFREG && kind != unix.S_IFDIR, (kind == unix.S_IFDIR) != e.Dir, stat.Uid != e.UID, stat.Gid != e.GID:
		return errNotPlanned
	case stat.Mode&0o7777 == to:
		return nil
	case stat.Mode&0o7777 != from:
		return errNotPlanned
	case kind == unix.S_IFREG && stat.Nlink > 1:
		return errManyNames
	}
	// A descriptor of this kind can be changed by way of its own name only (open(2), O_PATH).
	if err := unix.Chmod(fmt.Sprintf("/proc/self/fd/%d", at), to); err != nil {
		var errno unix.Errno
		if errors.As(err, &errno) && errno == unix.EPERM {
			return facts.Deny(errno, "changing its mode", "the right to, which its owner and root have")
		}
		return err
	}
	return nil
}

// mode reads the mode of one entry; there is false when it is not there as planned.
func mode(root string, e modeEdit) (is uint32, there bool) {
	in, err := store.OpenFiles(root)
	if err != nil {
		return 0, false
	}
	defer in.Close()
	info, err := in.Lstat(e.Path)
	if err != nil || info.Mode()&os.ModeSymlink != 0 {
		return 0, false
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return stat.Mode & 0o7777, true
}
