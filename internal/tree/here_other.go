//go:build !linux

package tree

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"syscall"
)

func (f *folder) open(name string, flags int) (*os.File, error) {
	return f.root.OpenFile(filepath.FromSlash(name), flags, 0)
}

// openFolder opens a folder that has a name, not one that a link of that name leads to.
func (f *folder) openFolder(name string) (*os.File, error) {
	dir, err := f.root.OpenFile(filepath.FromSlash(name), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	is, err := dir.Stat()
	if err == nil && !is.IsDir() {
		err = &fs.PathError{Op: "open", Path: name, Err: syscall.ENOTDIR}
	}
	if err == nil {
		var named fs.FileInfo
		if named, err = f.root.Lstat(filepath.FromSlash(name)); err == nil && !os.SameFile(is, named) {
			err = &fs.PathError{Op: "open", Path: name, Err: syscall.ENOTDIR}
		}
	}
	if err != nil {
		dir.Close()
		return nil, err
	}
	return dir, nil
}

// look tells what has a name. On this system nobody has looked for access control lists.
func (f *folder) look(name string) (Entry, error) {
	info, err := f.root.Lstat(name)
	if err != nil {
		return Entry{}, err
	}
	return EntryOf(name, info), nil
}

// list gives the entries of an open folder.
func (f *folder) list(dir *os.File, name string) ([]Entry, error) {
	infos, err := dir.Readdir(-1)
	var entries []Entry
	for _, info := range infos {
		entries = append(entries, EntryOf(path.Join(name, info.Name()), info))
	}
	return entries, err
}

// AccessList knows of no lists here.
func (f *folder) AccessList(string) []byte { return nil }

// Marks knows of none here.
func (f *folder) Marks(string) Marks { return Marks{} }

// Mount knows of no mounts here.
func (f *folder) Mount(string) Mount { return Mount{} }

// Space is not told on this system.
func (f *folder) Space() (Space, error) { return Space{}, errors.New("this system does not tell") }

// Chmod compares and changes by name, since there are no descriptors for that here.
func (f *folder) Chmod(was Entry, mode uint32) error {
	is, err := f.Lstat(was.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return ErrNotPlanned
	}
	if err != nil {
		return err
	}
	if done, err := was.planned(is, mode); done || err != nil {
		return err
	}
	bits := fs.FileMode(mode & 0o777)
	for _, s := range special {
		if mode&s.bit != 0 {
			bits |= s.flag
		}
	}
	return f.root.Chmod(was.Path, bits)
}

// shared is the folder itself: on this system the program acts as its caller alone.
func (f *folder) shared() Files { return f }
