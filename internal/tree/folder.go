package tree

import (
	"errors"
	"io/fs"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"

	"weltaxis/internal/ordinary"
)

// A folder is one of this machine. Every name is opened from the descriptor of the root, by os.Root or by what the system has for that,
// which follow no link out of the root; links with absolute paths, which they refuse, are worked out by Real, and what comes of that is
// opened the same way.
type folder struct {
	root   *os.Root
	dir    *os.File    // the root, opened
	top    fs.FileInfo // what it is
	strict bool        // no link is followed at all
}

// Open opens what lies below a folder of this machine. Where it belongs to the one whom root has this program act as, it is read by him, and
// by those alongside what he may not read; what he may not look at is looked at by root, and what he may not change is changed by root, and
// then no link is followed, and no file opened whose only name is not below the folder.
func Open(dir string) (Files, error) {
	f, err := open(dir)
	if err != nil {
		return nowhere{}, err
	}
	return f.shared(), nil
}

func open(dir string) (*folder, error) {
	if dir == "" {
		return nil, ErrNoRoot
	}
	root, err := os.OpenRoot(filepath.Clean(dir) + string(filepath.Separator) + ".") // of nothing but a folder, which does not wait
	if err != nil {
		return nil, err
	}
	f := &folder{root: root}
	if f.dir, err = root.Open("."); err == nil {
		f.top, err = f.dir.Stat()
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// Machine are all files of this machine, by names below its top: for what is not below a site's root, as what a server was told of may be.
var Machine = sync.OnceValue(func() Files {
	files, err := open("/")
	if err != nil {
		slog.Warn("the files of this machine cannot be looked at", "error", err)
		return nowhere{}
	}
	return files
})

// Full is the name of a path among Machine's files: one that does not begin at the top begins where this process stands.
func Full(path string) string {
	if full, err := filepath.Abs(path); err == nil {
		path = full
	}
	return Clean(path)
}

func (f *folder) Name() string { return filepath.Clean(f.root.Name()) }

func (f *folder) Close() error {
	if f.dir != nil {
		f.dir.Close()
	}
	return f.root.Close()
}

// Path is where something that has no links in its name lies on this machine, for programs that must be told.
func (f *folder) Path(real string) string {
	return filepath.Join(f.Name(), filepath.FromSlash(real))
}

// PathOf is where on this machine a name of files leads; "" when they lie elsewhere.
func PathOf(files Files, name string) (string, error) {
	here, is := files.(interface{ Path(real string) string })
	if !is {
		return "", nil
	}
	real, err := files.Real(name)
	if err != nil {
		return "", err
	}
	return filepath.Abs(here.Path(real))
}

// Within is the name that a path of this machine has among files, links followed; ErrOutside when it leads to none of them.
func Within(files Files, full string) (string, error) {
	here, is := files.(interface {
		below(full string) (string, error)
	})
	if !is {
		return "", ErrOutside
	}
	full, err := filepath.Abs(full)
	if err != nil {
		return "", err
	}
	below, err := here.below(filepath.ToSlash(full))
	if err != nil {
		return "", err
	}
	return files.Real(below)
}

// maxLinks is how many links are followed for one name (Linux, path_resolution(7)).
const maxLinks = 40

func (f *folder) Real(name string) (string, error) {
	return f.leads(name, func(name string) (bool, error) {
		info, err := f.root.Lstat(name)
		return err == nil && info.Mode()&fs.ModeSymlink != 0, err
	}, f.root.Readlink)
}

// leads is where a name leads, by what tells links from other things, and what is written in them.
func (f *folder) leads(name string, isLink func(name string) (bool, error), readlink func(name string) (string, error)) (string, error) {
	at, rest := ".", Clean(name)
	for links := 0; rest != ""; {
		part, after, _ := strings.Cut(rest, "/")
		switch {
		case part == "" || part == ".":
			rest = after
			continue
		case part == ".." && at == ".": // it leaves the root, and may come back
			above, err := filepath.Abs(f.Name())
			if err == nil {
				above, err = filepath.EvalSymlinks(above)
			}
			if err == nil {
				rest, err = f.below(filepath.ToSlash(filepath.Dir(above)) + "/" + after)
			}
			if err != nil {
				return "", err
			}
			links++
			continue
		case part == "..":
			at, rest = path.Dir(at), after
			continue
		}
		next := path.Join(at, part)
		link, err := isLink(next)
		if err != nil { // what is not there leads nowhere
			return Clean(path.Join(next, after)), nil
		}
		if !link {
			at, rest = next, after
			continue
		}
		if links++; links > maxLinks {
			return "", ErrLinks
		}
		to, err := readlink(next)
		if err != nil {
			return "", err
		}
		if to = filepath.ToSlash(to); filepath.IsAbs(to) {
			if to, err = f.below(to); err != nil {
				return "", err
			}
			at = "."
		}
		rest = to + "/" + after
	}
	return at, nil
}

// below is what of an absolute path lies below the root: what comes after the first of its folders that is the root, whatever it is
// called there. A path that does not pass the root may still end in it, by links of others.
func (f *folder) below(full string) (string, error) {
	rest, err := f.after(full)
	if err == nil {
		return rest, nil
	}
	dir, base := filepath.Split(filepath.FromSlash(full))
	real, evalErr := filepath.EvalSymlinks(filepath.FromSlash(full))
	if evalErr != nil { // what is not there may be in a folder that is
		if real, evalErr = filepath.EvalSymlinks(dir); evalErr != nil {
			return "", err
		}
		real = filepath.Join(real, base)
	}
	return f.after(filepath.ToSlash(real))
}

func (f *folder) after(full string) (string, error) {
	for i := 0; i <= len(full); i++ {
		if i < len(full) && full[i] != '/' {
			continue
		}
		if info, err := os.Stat(filepath.FromSlash(full[:i] + "/")); err == nil && os.SameFile(info, f.top) {
			return full[i:], nil
		}
	}
	return "", ErrOutside
}

// followed does something with a name; where links stand in the way, with the one that it leads to, or, if those at its end count for
// themselves, with that in the folder that it leads to.
func followed[T any](f *folder, name string, last bool, do func(name string) (T, error)) (T, error) {
	name = Clean(name)
	got, err := do(name)
	if !lost(err) || f.strict {
		return got, err
	}
	dir, base := path.Split(name)
	if last {
		dir, base = name, ""
	}
	real, err := f.Real(dir)
	if err != nil {
		return got, err
	}
	got, err = do(path.Join(real, base))
	if lost(err) {
		err = ErrOutside
	}
	return got, err
}

// escapes is the error of a name that leads out of a root, which the os package has no name for: it is asked for once.
var escapes = sync.OnceValue(func() error {
	root, err := os.OpenRoot(os.TempDir())
	if err != nil {
		return ErrOutside
	}
	defer root.Close()
	var failed *fs.PathError
	if _, err := root.Lstat(".."); errors.As(err, &failed) {
		return failed.Err
	}
	return ErrOutside
})

// lost tells an error about links that leave the root, or that are more than are followed.
func lost(err error) bool {
	return err != nil && (errors.Is(err, escapes()) || errors.Is(err, syscall.EXDEV) || errors.Is(err, syscall.ELOOP) || errors.Is(err, syscall.ENAMETOOLONG))
}

func (f *folder) Lstat(name string) (Entry, error) { return followed(f, name, false, f.look) }

func (f *folder) Stat(name string) (Entry, error) {
	e, err := f.Lstat(name)
	if err != nil || e.Kind != Link {
		return e, err
	}
	real, err := f.Real(name)
	if err != nil {
		return e, err
	}
	e, err = f.look(real)
	if err == nil && e.Kind == Link {
		err = ErrLinks // it was made meanwhile
	}
	return e, err
}

func (f *folder) Readlink(name string) (string, error) {
	return followed(f, name, false, f.root.Readlink)
}

func (f *folder) Open(name string) (fs.File, error) {
	file, err := followed(f, name, true, func(name string) (*os.File, error) {
		return ordinary.Checked(f.open(name, os.O_RDONLY|syscall.O_NONBLOCK))
	})
	if err != nil {
		return nil, err
	}
	return file, nil
}

func (f *folder) ReadDir(name string) ([]Entry, error) {
	dir, err := followed(f, name, false, f.openFolder)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	return f.sorted(dir, name)
}

// sorted are the entries of an open folder.
func (f *folder) sorted(dir *os.File, name string) ([]Entry, error) {
	entries, err := f.list(dir, Clean(name))
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	return entries, err
}

// in is a folder that a name leads to without any link, as a root of its own: whoever changes something there does so by that folder's
// descriptor, whatever its name leads to by then.
func (f *folder) in(name string) (*os.Root, error) {
	at, err := f.root.OpenRoot(".")
	if err != nil {
		return nil, err
	}
	if name = Clean(name); name == "." {
		return at, nil
	}
	for part := range strings.SplitSeq(name, "/") {
		next, err := step(at, part)
		at.Close()
		if err != nil {
			return nil, err
		}
		at = next
	}
	return at, nil
}

// step opens a folder in another, and no link.
func step(at *os.Root, part string) (*os.Root, error) {
	named, err := at.Lstat(part)
	if err != nil {
		return nil, err
	}
	if !named.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: part, Err: syscall.ENOTDIR}
	}
	next, err := at.OpenRoot(part + "/.") // of nothing but a folder, which does not wait
	if err != nil {
		return nil, err
	}
	is, err := next.Stat(".")
	if err == nil && !os.SameFile(is, named) {
		err = &fs.PathError{Op: "open", Path: part, Err: syscall.ENOTDIR}
	}
	if err != nil {
		next.Close()
		return nil, err
	}
	return next, nil
}

// within does something in the folder of a name, with the last part of the name.
func (f *folder) within(name string, do func(in *os.Root, base string) error) error {
	name = Clean(name)
	in, err := f.in(path.Dir(name))
	if err != nil {
		return err
	}
	defer in.Close()
	return do(in, path.Base(name))
}

func (f *folder) Mkdir(name string, mode uint32) error {
	if name = Clean(name); name == "." {
		return nil
	}
	if err := f.Mkdir(path.Dir(name), mode); err != nil {
		return err
	}
	return f.within(name, func(in *os.Root, base string) error {
		err := in.Mkdir(base, fs.FileMode(mode).Perm())
		if is, lookErr := in.Lstat(base); lookErr == nil && is.IsDir() {
			return nil
		}
		return err
	})
}

func (f *folder) Rename(from, to string) error { return f.move(from, to, rename) }

func (f *folder) move(from, to string, rename func(from *os.Root, base string, to *os.Root, newBase string) error) error {
	return f.within(from, func(inFrom *os.Root, base string) error {
		return f.within(to, func(inTo *os.Root, newBase string) error { return rename(inFrom, base, inTo, newBase) })
	})
}

func (f *folder) Remove(name string) error {
	return f.within(name, func(in *os.Root, base string) error { return in.Remove(base) })
}

func (f *folder) RemoveAll(name string) error {
	err := f.within(name, func(in *os.Root, base string) error { return in.RemoveAll(base) })
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// nowhere are the files of a site that names no root.
type nowhere struct{}

func (nowhere) Name() string                                       { return "" }
func (nowhere) Real(string) (string, error)                        { return "", ErrNoRoot }
func (nowhere) Lstat(string) (Entry, error)                        { return Entry{}, ErrNoRoot }
func (nowhere) Stat(string) (Entry, error)                         { return Entry{}, ErrNoRoot }
func (nowhere) Readlink(string) (string, error)                    { return "", ErrNoRoot }
func (nowhere) ReadDir(string) ([]Entry, error)                    { return nil, ErrNoRoot }
func (nowhere) Open(string) (fs.File, error)                       { return nil, ErrNoRoot }
func (nowhere) AccessList(string) []byte                           { return nil }
func (nowhere) Marks(string) Marks                                 { return Marks{} }
func (nowhere) Mount(string) Mount                                 { return Mount{} }
func (nowhere) Space() (Space, error)                              { return Space{}, ErrNoRoot }
func (nowhere) Create(string, []byte, uint32, func(string)) error  { return ErrNoRoot }
func (nowhere) Replace(string, []byte, []byte, func(string)) error { return ErrNoRoot }
func (nowhere) Chmod(Entry, uint32) error                          { return ErrNoRoot }
func (nowhere) Mkdir(string, uint32) error                         { return ErrNoRoot }
func (nowhere) Rename(string, string) error                        { return ErrNoRoot }
func (nowhere) Remove(string) error                                { return ErrNoRoot }
func (nowhere) RemoveAll(string) error                             { return ErrNoRoot }
func (nowhere) Close() error                                       { return nil }
