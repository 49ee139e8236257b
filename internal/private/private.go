// Package private makes folders for what nobody else is to see and what is not to stay: copies of databases, fetched lists, rooms for tests. A folder is
// removed when its user lets go of it, and where the program is killed before, by the next one that needs a folder of its own. It imports identity, lock and orders.
package private

import (
	"errors"
	"os"
	"path/filepath"
	"strings"

	"weltaxis/internal/identity"
	"weltaxis/internal/lock"
	"weltaxis/internal/orders"
)

// A Folder is one that whoever started this program alone may enter.
type Folder struct {
	Dir  string
	held *os.File // the lock in it, for as long as it is used
}

const (
	begins = "weltaxis-private-"
	// held is a file in each that is locked (flock(2)) as long as somebody uses it; a process that is killed lets go.
	held = ".held"
	// most is how many entries of the folder for temporary files are looked at for what was left behind.
	most = 20_000
)

// New makes a folder, in the one for temporary files or in another, and sweeps away those that were left behind there.
func New(within string) (f *Folder, err error) {
	if within == "" {
		within = orders.TempDir()
	}
	err = identity.AsCaller(func() (err error) {
		sweep(within)
		f, err = made(within)
		return err
	})
	return f, err
}

func made(within string) (*Folder, error) {
	dir, err := os.MkdirTemp(within, begins)
	if err != nil {
		return nil, err
	}
	f := &Folder{Dir: dir}
	// Under another name until it is locked, so that nobody who sweeps finds it free.
	file, err := os.OpenFile(filepath.Join(dir, held+"-new"), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err == nil {
		f.held = file
		err = errors.Join(lock.Try(file), os.Rename(file.Name(), filepath.Join(dir, held)))
	}
	if err != nil {
		f.remove()
		return nil, err
	}
	return f, nil
}

// Remove removes it, with all that is in it. Nil is none.
func (f *Folder) Remove() {
	if f != nil {
		_ = identity.AsCaller(func() error { f.remove(); return nil })
	}
}

func (f *Folder) remove() {
	_ = os.RemoveAll(f.Dir)
	if f.held != nil {
		_ = f.held.Close()
		f.held = nil
	}
}

// sweep removes folders of this kind that nobody uses any more.
func sweep(within string) {
	root, err := os.OpenRoot(within)
	if err != nil {
		return
	}
	defer root.Close()
	folder, err := root.Open(".")
	if err != nil {
		return
	}
	entries, _ := folder.ReadDir(most)
	_ = folder.Close()
	for _, e := range entries {
		if e.IsDir() && strings.HasPrefix(e.Name(), begins) {
			left(root, e.Name())
		}
	}
}

// left removes a folder that is whose this program was started by, and whose lock nobody holds. It is held against that once it is open, and emptied as it is
// open: whoever puts another in its place gains nothing.
func left(root *os.Root, name string) {
	inside, err := root.OpenRoot(name)
	if err != nil {
		return
	}
	defer inside.Close()
	if is, err := inside.Stat("."); err != nil || is.Mode().Perm()&0o022 != 0 || !orders.Mine(is) {
		return
	}
	file, err := inside.OpenFile(held, os.O_RDWR, 0) // none yet where it is just being made
	if err != nil {
		return
	}
	defer file.Close()
	if lock.Try(file) != nil {
		return
	}
	folder, err := inside.Open(".")
	if err != nil {
		return
	}
	entries, _ := folder.ReadDir(-1)
	_ = folder.Close()
	for _, e := range entries {
		_ = inside.RemoveAll(e.Name())
	}
	_ = root.Remove(name)
}
