package tree

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// maxAttribute is the largest extended attribute that there is (xattr(7)).
const maxAttribute = 64 << 10

// attributes are the extended attributes of an open file, among them its access control list and security labels
// (xattr(7), acl(5)). A file system that has none gives none.
func attributes(file *os.File) (map[string][]byte, error) {
	fd, all := int(file.Fd()), map[string][]byte{}
	buffer := make([]byte, maxAttribute)
	n, err := unix.Flistxattr(fd, buffer)
	if errors.Is(err, unix.ENOTSUP) {
		return all, nil
	}
	if err != nil {
		return nil, fmt.Errorf("what it carries besides its content cannot be read: %w", err)
	}
	value := make([]byte, maxAttribute)
	for name := range strings.SplitSeq(strings.TrimRight(string(buffer[:n]), "\x00"), "\x00") {
		if name == "" {
			continue
		}
		n, err := unix.Fgetxattr(fd, name, value)
		if err != nil {
			return nil, fmt.Errorf("what it carries as %s cannot be read: %w", name, err)
		}
		all[name] = bytes.Clone(value[:n])
	}
	return all, nil
}

// sums are attributes that say what the content is; with another content they would be wrong (Linux, security/IMA).
var sums = []string{"security.ima", "security.evm"}

// carry gives a new file what another carries besides its bytes, mode and owner, and takes away what the new one got from
// its folder and the other does not have. What cannot be carried is an error.
func carry(from, to *os.File) error {
	had, err := attributes(from)
	if err != nil {
		return err
	}
	has, err := attributes(to)
	if err != nil {
		return err
	}
	for name, value := range had {
		if slices.Contains(sums, name) {
			return fmt.Errorf("it carries %s, which vouches for its content", name)
		}
		if is, there := has[name]; there && bytes.Equal(is, value) {
			continue
		}
		if err := unix.Fsetxattr(int(to.Fd()), name, value, 0); err != nil {
			return fmt.Errorf("it carries %s, and would not any more: %w", name, err)
		}
	}
	for name := range has {
		if _, there := had[name]; !there {
			if err := unix.Fremovexattr(int(to.Fd()), name); err != nil {
				return fmt.Errorf("it would get %s from its folder, which it does not have: %w", name, err)
			}
		}
	}
	return nil
}

// exchange lets two names of a folder change places in one step. A file system that cannot do that is an error that
// errors.Is finds to be errors.ErrUnsupported.
func exchange(folder *os.File, a, b string) error {
	err := unix.Renameat2(int(folder.Fd()), a, int(folder.Fd()), b, unix.RENAME_EXCHANGE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.ENOTSUP) {
		return errors.ErrUnsupported
	}
	return err
}
