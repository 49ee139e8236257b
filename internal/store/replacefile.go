//go:build unix

package store

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path"
	"strconv"
	"syscall"

	"weltaxis/internal/facts"
	"weltaxis/internal/ordinary"
)

// ReplaceFile puts other content in the place of a file below root in one step, with the mode, owner, access control list
// and other attributes it had; what cannot be kept is refused. A file that nobody may write, as a locked configuration is,
// becomes one again: it is never unlocked, since what is replaced is its name in the folder. A link is refused, since
// that name is not the file's; a file with several names as well, because the others would go on with the old content. A
// file that does not hold before any more is ErrChanged; what somebody has put there in the last moment stays.
func ReplaceFile(root *os.Root, name string, before, data []byte, at func(point string)) (err error) {
	if link, err := root.Lstat(name); err == nil && link.Mode()&os.ModeSymlink != 0 {
		return errors.New("it is a link that only a person should follow")
	}
	old, err := ordinary.OpenIn(root, name)
	if err != nil {
		return err
	}
	defer old.Close()
	stat, err := old.Stat()
	if err != nil {
		return err
	}
	sys, _ := stat.Sys().(*syscall.Stat_t)
	switch {
	case !stat.Mode().IsRegular():
		return errors.New("it is no ordinary file")
	case sys != nil && sys.Nlink > 1:
		return errors.New("it has several names (hard links), and the others would keep the old content")
	}
	temporary := path.Join(path.Dir(name), leftover(name)+strconv.Itoa(os.Getpid()))
	file, err := root.OpenFile(temporary, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("writing beside it: %w", facts.Deny(err, "making a file in its folder", "the right to write there"))
	}
	defer func() {
		if err != nil && !errors.Is(err, errTheirs) {
			_ = root.Remove(temporary)
		}
	}()
	_, err = file.Write(data)
	if err == nil && sys != nil && (int(sys.Uid) != os.Geteuid() || int(sys.Gid) != os.Getegid()) {
		if chownErr := file.Chown(int(sys.Uid), int(sys.Gid)); chownErr != nil {
			err = fmt.Errorf("it belongs to somebody else, and would not any more: %w", facts.Deny(chownErr, "giving it its owner", "the rights of root"))
		}
	}
	if err == nil {
		err = file.Chmod(stat.Mode().Perm() | stat.Mode()&(os.ModeSetuid|os.ModeSetgid|os.ModeSticky))
	}
	if err == nil {
		err = carry(old, file)
	}
	if err == nil {
		err = file.Sync()
	}
	if closeErr := file.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		at("written beside")
		err = inItsPlace(root, temporary, name, before, at)
	}
	if err != nil {
		return err
	}
	return syncFolder(root, path.Dir(name))
}

// inItsPlace puts a new file in the place of one that holds before. The two change places, so that what was replaced can be
// looked at: if somebody has written in between, it is put back.
func inItsPlace(root *os.Root, temporary, name string, before []byte, at func(point string)) error {
	if now, err := root.ReadFile(name); err != nil || !bytes.Equal(now, before) {
		return errors.Join(err, ErrChanged)
	}
	folder, err := root.Open(path.Dir(name))
	if err != nil {
		return err
	}
	defer folder.Close()
	at("compared")
	err = exchange(folder, path.Base(temporary), path.Base(name))
	if errors.Is(err, errors.ErrUnsupported) {
		return root.Rename(temporary, name)
	}
	if err != nil {
		return facts.Deny(err, "putting another file in its place", "the right to write to its folder")
	}
	at("exchanged")
	if was, err := root.ReadFile(temporary); err == nil && bytes.Equal(was, before) {
		return root.Remove(temporary)
	}
	if err := exchange(folder, path.Base(temporary), path.Base(name)); err != nil {
		return fmt.Errorf("%w %s, and cannot be put back: %w", errTheirs, temporary, err)
	}
	return ErrChanged
}

// errTheirs says where something lies that somebody has written in the last moment.
var errTheirs = errors.New("what somebody has written there meanwhile lies in")

// CreateFile makes a new file below root in one step, readable for all. One that is there already is left alone.
func CreateFile(root *os.Root, name string, data []byte, at func(point string)) (err error) {
	temporary := path.Join(path.Dir(name), leftover(name)+strconv.Itoa(os.Getpid()))
	file, err := root.OpenFile(temporary, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("writing beside it: %w", facts.Deny(err, "making a file in its folder", "the right to write there"))
	}
	defer func() { _ = root.Remove(temporary) }()
	_, err = file.Write(data)
	if err == nil {
		err = errors.Join(file.Chmod(0o644), file.Sync())
	}
	if closeErr := file.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		at("written beside")
		err = root.Link(temporary, name)
	}
	if err != nil {
		return err
	}
	return syncFolder(root, path.Dir(name))
}

func syncFolder(root *os.Root, name string) error {
	folder, err := root.Open(name)
	if err != nil {
		return err
	}
	defer folder.Close()
	return folder.Sync()
}
