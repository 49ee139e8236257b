//go:build unix

package store

import (
	"errors"
	"fmt"
	"os"
	"path"
	"strconv"
	"syscall"
)

// ReplaceFile puts other content in the place of a file below root in one step, with the mode and owner it had. A
// file that nobody may write, as a locked configuration is, becomes one again: it is never unlocked, since what is
// replaced is its name in the folder. Links are followed within the root; a file with several names is refused,
// because the others would go on with the old content.
func ReplaceFile(root *os.Root, name string, data []byte, at func(point string)) (err error) {
	stat, err := root.Stat(name)
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
	if link, err := root.Lstat(name); err == nil && link.Mode()&os.ModeSymlink != 0 {
		target, err := root.Readlink(name)
		if err != nil || path.IsAbs(target) {
			return errors.New("it is a link that only a person should follow")
		}
		return ReplaceFile(root, path.Join(path.Dir(name), target), data, at)
	}
	temporary := path.Join(path.Dir(name), leftover(name)+strconv.Itoa(os.Getpid()))
	file, err := root.OpenFile(temporary, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("writing beside it: %w", err)
	}
	defer func() {
		if err != nil {
			_ = root.Remove(temporary)
		}
	}()
	_, err = file.Write(data)
	if err == nil && sys != nil && (int(sys.Uid) != os.Geteuid() || int(sys.Gid) != os.Getegid()) {
		if chownErr := file.Chown(int(sys.Uid), int(sys.Gid)); chownErr != nil {
			err = fmt.Errorf("it belongs to somebody else, and would not any more: %w", chownErr)
		}
	}
	if err == nil {
		err = file.Chmod(stat.Mode().Perm() | stat.Mode()&(os.ModeSetuid|os.ModeSetgid|os.ModeSticky))
	}
	if err == nil {
		err = file.Sync()
	}
	if closeErr := file.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		at("written beside")
		err = root.Rename(temporary, name)
	}
	if err != nil {
		return err
	}
	return syncFolder(root, path.Dir(name))
}

// CreateFile makes a new file below root in one step, readable for all. One that is there already is left alone.
func CreateFile(root *os.Root, name string, data []byte, at func(point string)) (err error) {
	temporary := path.Join(path.Dir(name), leftover(name)+strconv.Itoa(os.Getpid()))
	file, err := root.OpenFile(temporary, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("writing beside it: %w", err)
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
