package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"

	"golang.org/x/sys/unix"

	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
)

// shared is a folder of the one whom root has this program act as. All is done as him first. What he may not open is opened by whom its
// web server and its runtime run as, if it has no name outside; what he may not look at, change or move is looked at, changed or moved by
// root, which opens no file to tell what it holds, and follows no link: each folder on the way is opened from the one before.
type shared struct {
	*folder
	eyes *folder // root's
}

// shared is the folder, with all who have a part in it where it belongs to the one acted as.
func (f *folder) shared() Files {
	acting, is := identity.Acting()
	e, err := entryAt(int(f.dir.Fd()), "", ".")
	if !is || err != nil || int(e.UID) != acting {
		return f
	}
	eyes := *f
	eyes.strict = true
	return shared{f, &eyes}
}

// seen does something that opens no file, as root where the owner may not; if there are links on the way, at where they lead.
func seen[T any](s shared, name string, do, asRoot func(f *folder, name string) (T, error)) (T, error) {
	got, err := do(s.folder, name)
	if !denied(err) {
		return got, err
	}
	name = Clean(name)
	byRoot, rootErr := beheld(s, name, asRoot)
	if lost(rootErr) || errors.Is(rootErr, unix.ENOTDIR) {
		if real, err := s.Real(path.Dir(name)); err == nil {
			byRoot, rootErr = beheld(s, path.Join(real, path.Base(name)), asRoot)
		}
	}
	if rootErr != nil && (denied(rootErr) || lost(rootErr)) {
		return got, err
	}
	return byRoot, rootErr
}

// beheld does something as root.
func beheld[T any](s shared, name string, do func(f *folder, name string) (T, error)) (got T, err error) {
	err = identity.AsCaller(func() (err error) {
		got, err = do(s.eyes, name)
		return err
	})
	return got, err
}

func (s shared) Real(name string) (string, error) {
	return s.leads(name, func(name string) (bool, error) { // no link is on the way to it
		e, err := s.look(name)
		if denied(err) {
			e, err = beheld(s, name, (*folder).look)
		}
		return e.Kind == Link, err
	}, func(name string) (string, error) {
		text, err := s.root.Readlink(name)
		if denied(err) {
			text, err = beheld(s, name, (*folder).text)
		}
		return text, err
	})
}

func (s shared) Lstat(name string) (Entry, error) {
	return seen(s, name, (*folder).Lstat, (*folder).look)
}

func (s shared) Stat(name string) (Entry, error) {
	e, err := s.Lstat(name)
	if err != nil || e.Kind != Link {
		return e, err
	}
	real, err := s.Real(name)
	if err != nil {
		return e, err
	}
	if e, err = s.Lstat(real); err == nil && e.Kind == Link {
		err = ErrLinks
	}
	return e, err
}

func (s shared) Readlink(name string) (string, error) {
	return seen(s, name, (*folder).Readlink, (*folder).text)
}

// text is what is written in a link.
func (f *folder) text(name string) (string, error) {
	at, err := f.handle(name)
	if err != nil {
		return "", err
	}
	defer at.Close()
	text := make([]byte, unix.PathMax)
	n, err := unix.Readlinkat(int(at.Fd()), "", text)
	return string(text[:max(n, 0)]), err
}

func (s shared) ReadDir(name string) ([]Entry, error) {
	return seen(s, name, (*folder).ReadDir, func(f *folder, name string) ([]Entry, error) {
		dir, err := f.openFolder(name)
		if err != nil {
			return nil, err
		}
		defer dir.Close()
		return f.sorted(dir, name)
	})
}

func (s shared) AccessList(name string) []byte {
	list, _ := seen(s, name, (*folder).accessList, (*folder).accessList)
	return list
}

func (s shared) Marks(name string) Marks {
	marks, _ := seen(s, name, (*folder).marks, (*folder).marks)
	return marks
}

func (s shared) Open(name string) (fs.File, error) {
	file, err := s.folder.Open(name)
	if !denied(err) {
		return file, err
	}
	real, err := s.Real(name)
	if err != nil {
		return nil, err
	}
	if real != Clean(name) { // a link that the owner could not see may lead to what is his
		if file, err = s.folder.Open(real); !denied(err) {
			return file, err
		}
	}
	for _, uid := range identity.Further() {
		asErr := identity.As(uid, func() (err error) {
			file, err = s.folder.Open(real)
			return err
		})
		if denied(asErr) {
			continue
		}
		if asErr != nil {
			return nil, asErr
		}
		if err := s.only(file, real); err != nil {
			file.Close()
			return nil, err
		}
		return file, nil
	}
	return nil, s.unread(real)
}

// only is an error unless a name is the only one of a file that is open: what its owner may not open himself may be somebody's outside, of
// which he has made a name here.
func (s shared) only(file fs.File, name string) error {
	open, is := file.(*os.File)
	if !is {
		return ErrManyNames
	}
	return identity.AsCaller(func() error { return s.eyes.only(open, name) })
}

func (f *folder) only(open *os.File, name string) error {
	at, err := f.handle(name)
	if err != nil {
		return err
	}
	defer at.Close()
	var named, is unix.Stat_t
	if err := errors.Join(unix.Fstat(int(at.Fd()), &named), unix.Fstat(int(open.Fd()), &is)); err != nil {
		return err
	}
	switch {
	case named.Dev != is.Dev || named.Ino != is.Ino:
		return ErrNotPlanned
	case named.Mode&unix.S_IFMT == unix.S_IFREG && named.Nlink != 1:
		return ErrManyNames
	}
	return nil
}

// unread says who was asked to open something, and whose it is.
func (s shared) unread(name string) error {
	readers := strings.Join(identity.Readers(), " and ")
	if len(identity.Readers()) > 1 {
		readers += " may not"
	} else {
		readers += " may not, and nobody has said whom the web server runs as (intent.web_user)"
	}
	whose := "whose it is cannot be told"
	if e, err := s.Lstat(name); err == nil {
		whose = fmt.Sprintf("it belongs to %s, mode %04o", identity.Name(int(e.UID)), e.Mode)
	}
	return &facts.Denied{Doing: "reading it", Lacks: readers + "; " + whose + "; root opens nothing that others may have put there"}
}

// errSetID is why root gives no set-user and set-group bits back.
var errSetID = errors.New("others may write to it, so it is not made to run with somebody's rights again; a person decides")

func (s shared) Chmod(was Entry, mode uint32) error {
	err := s.folder.Chmod(was, mode)
	if !denied(err) {
		return err
	}
	return identity.AsCaller(func() error {
		return s.eyes.chmod(was, mode, func(at *os.File) error {
			if given := mode &^ was.Mode & 0o6000; given != 0 && was.Kind == File && ((was.Mode|mode)&0o022 != 0 || s.AccessList(was.Path) != nil) {
				return errSetID
			}
			return s.eyes.only(at, was.Path)
		})
	})
}

// each does something as one after the other of those who have a part in the tree, until one may, and at last, where that is said, as root.
func (s shared) each(root bool, do func(f *folder) error) error {
	err := do(s.folder)
	for _, uid := range identity.Further() {
		if !denied(err) {
			return err
		}
		err = identity.As(uid, func() error { return do(s.folder) })
	}
	if denied(err) && root {
		err = identity.AsCaller(func() error { return do(s.eyes) })
	}
	return err
}

// What is made anew belongs to whoever makes it, so root makes nothing.
func (s shared) Create(name string, data []byte, group uint32, at func(point string)) error {
	return s.each(false, func(f *folder) error { return f.Create(name, data, group, at) })
}

func (s shared) Mkdir(name string, mode uint32) error {
	return s.each(false, func(f *folder) error { return f.Mkdir(name, mode) })
}

func (s shared) Replace(name string, before, data []byte, at func(point string)) error {
	return s.each(true, func(f *folder) error { return f.Replace(name, before, data, at) })
}

func (s shared) Rename(from, to string) error {
	return s.each(true, func(f *folder) error {
		if !f.strict {
			return f.Rename(from, to)
		}
		return f.move(from, to, func(from *os.Root, base string, to *os.Root, newBase string) error {
			return between(from, to, func(from, to int) error {
				return unix.Renameat2(from, base, to, newBase, unix.RENAME_NOREPLACE)
			})
		})
	})
}

func (s shared) Remove(name string) error {
	return s.each(true, func(f *folder) error { return f.Remove(name) })
}

func (s shared) RemoveAll(name string) error {
	return s.each(true, func(f *folder) error { return f.RemoveAll(name) })
}

func (s shared) Mount(name string) Mount {
	mount, _ := seen(s, name, (*folder).mount, func(f *folder, name string) (Mount, error) { return f.mount(name) })
	return mount
}
