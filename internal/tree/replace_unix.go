//go:build unix

package tree

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strconv"

	"golang.org/x/sys/unix"

	"weltaxis/internal/facts"
	"weltaxis/internal/ordinary"
)

// Replace never unlocks a file that nobody may write, as a locked configuration is, since what is replaced is its name in the folder.
func (f *folder) Replace(name string, before, data []byte, at func(point string)) error {
	return f.within(name, func(in *os.Root, base string) error { return replace(in, base, before, data, at) })
}

func replace(in *os.Root, name string, before, data []byte, at func(point string)) (err error) {
	link, err := in.Lstat(name)
	if err == nil && link.Mode()&fs.ModeSymlink != 0 {
		return errors.New("it is a link that only a person should follow")
	}
	old, err := ordinary.OpenIn(in, name)
	if err != nil {
		return err
	}
	defer old.Close()
	info, err := old.Stat()
	if err != nil {
		return err
	}
	is := EntryOf(name, info)
	if err := replaceable(is, in); err != nil {
		return err
	}
	temporary, file, err := made(in, name)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil && !errors.Is(err, errTheirs) {
			_ = in.Remove(temporary)
		}
	}()
	if err = file.write(data, func() error { return dress(file.File, old, is, info.Mode()) }); err != nil {
		return err
	}
	at("written beside")
	if err = inItsPlace(in, temporary, name, before, at); err != nil {
		return err
	}
	return synced(in)
}

// replaceable is why another file may not take the place of one.
func replaceable(is Entry, in *os.Root) error {
	folder, err := in.Stat(".")
	switch {
	case err != nil:
		return err
	case is.Names > 1:
		return errors.New("it has several names (hard links), and the others would keep the old content")
	case is.Mode&0o6000 != 0:
		return errors.New("it has a set-user or set-group bit, so that other content would run with somebody else's rights")
	case is.UID == 0 && os.Geteuid() == 0 && EntryOf("", folder).UID != 0:
		return errors.New("it belongs to root, and its folder to somebody else; nothing new of root's is made there")
	}
	return nil
}

// dress gives a new file all that another has besides its bytes, by their descriptors: owner and group before the mode, which both take
// bits from.
func dress(file, old *os.File, is Entry, mode fs.FileMode) error {
	if int(is.UID) != os.Geteuid() || int(is.GID) != os.Getegid() {
		if err := file.Chown(int(is.UID), int(is.GID)); err != nil {
			return fmt.Errorf("it belongs to somebody else, and would not any more: %w", facts.Deny(err, "giving it its owner", "the rights of root"))
		}
	}
	if err := file.Chmod(mode.Perm() | mode&fs.ModeSticky); err != nil {
		return err
	}
	return carry(old, file)
}

// A written file is a new one, which has a name of its own until it is whole.
type written struct{ *os.File }

// made is a new file beside another, for nobody else to read.
func made(in *os.Root, name string) (string, written, error) {
	temporary := leftover(name) + strconv.Itoa(os.Getpid())
	file, err := in.OpenFile(temporary, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", written{}, fmt.Errorf("writing beside it: %w", facts.Deny(err, "making a file in its folder", "the right to write there"))
	}
	return temporary, written{file}, nil
}

// write makes the file whole: its bytes, then what else it is given, then on the disk.
func (w written) write(data []byte, then func() error) error {
	_, err := w.Write(data)
	if err == nil {
		err = then()
	}
	if err == nil {
		err = w.Sync()
	}
	return errors.Join(err, w.Close())
}

// inItsPlace puts a new file in the place of one that holds before. The two change places, so that what was replaced can be
// looked at: if somebody has written in between, it is put back.
func inItsPlace(in *os.Root, temporary, name string, before []byte, at func(point string)) error {
	if holds, err := holds(in, name, before); err != nil || !holds {
		return errors.Join(err, ErrChanged)
	}
	at("compared")
	folder, err := in.Open(".")
	if err != nil {
		return err
	}
	defer folder.Close()
	err = exchange(folder, temporary, name)
	if errors.Is(err, errors.ErrUnsupported) {
		return in.Rename(temporary, name)
	}
	if err != nil {
		return facts.Deny(err, "putting another file in its place", "the right to write to its folder")
	}
	at("exchanged")
	if was, err := holds(in, temporary, before); err == nil && was {
		return in.Remove(temporary)
	}
	if err := exchange(folder, temporary, name); err != nil {
		return fmt.Errorf("%w %s, and cannot be put back: %w", errTheirs, temporary, err)
	}
	return ErrChanged
}

// holds tells whether a name, which is no link, is a file of these bytes.
func holds(in *os.Root, name string, data []byte) (bool, error) {
	if link, err := in.Lstat(name); err != nil || !link.Mode().IsRegular() {
		return false, err
	}
	file, err := ordinary.OpenIn(in, name)
	if err != nil {
		return false, err
	}
	now, err := ordinary.All(file, int64(len(data)))
	var large *ordinary.Error
	if errors.As(err, &large) {
		return false, nil
	}
	return bytes.Equal(now, data), err
}

// errTheirs says where something lies that somebody has written in the last moment.
var errTheirs = errors.New("what somebody has written there meanwhile lies in")

func (f *folder) Create(name string, data []byte, group uint32, at func(point string)) error {
	return f.within(name, func(in *os.Root, base string) error {
		temporary, file, err := made(in, base)
		if err != nil {
			return err
		}
		defer func() { _ = in.Remove(temporary) }()
		readable := func() error { return file.Chmod(0o644) }
		if group != 0 {
			readable = func() error { return errors.Join(file.Chown(-1, int(group)), file.Chmod(0o640)) }
		}
		if err := file.write(data, readable); err != nil {
			return err
		}
		at("written beside")
		if err := in.Link(temporary, base); err != nil {
			return err
		}
		return synced(in)
	})
}

// synced waits until what a folder has got is on the disk.
func synced(in *os.Root) error {
	folder, err := in.Open(".")
	if err != nil {
		return err
	}
	defer folder.Close()
	return folder.Sync()
}

// rename gives what is in one folder a name in another, by the folders' descriptors.
func rename(from *os.Root, base string, to *os.Root, newBase string) error {
	return between(from, to, func(from, to int) error { return unix.Renameat(from, base, to, newBase) })
}

// between does something with the descriptors of two folders.
func between(from, to *os.Root, do func(from, to int) error) error {
	a, err := from.Open(".")
	if err != nil {
		return err
	}
	defer a.Close()
	b, err := to.Open(".")
	if err != nil {
		return err
	}
	defer b.Close()
	return do(int(a.Fd()), int(b.Fd()))
}
