// Package tree reads and changes what lies below a root, and nothing else: whatever links and names say, and whoever
// exchanges them meanwhile.
//
// Files is the one way to a site's files. A folder of this machine is one; all of the core that looks at a site, or changes
// it, does so by it.
package tree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"

	"weltaxis/internal/facts"
	"weltaxis/internal/ordinary"
)

// Files are those below a root. Names are relative to it and separated by slashes; "." is the root itself, and ".." above it is the
// root again.
//
// A link on the way to a name is followed where it leads to something below the same root, by a relative or an absolute path, and
// nowhere else, which is ErrOutside. Real, Stat and Open follow one at the end of a name as well. What changes something follows none at
// all: Real gives the name for it. What is missing is fs.ErrNotExist, and what is not allowed fs.ErrPermission. Nothing waits for anybody. It may be used by
// several goroutines at once.
type Files interface {
	// Name is how the root is called, for messages.
	Name() string
	// Real is the name without links that a name leads to. One that leads nowhere is as it is written.
	Real(name string) (string, error)
	// Lstat tells what has a name, and Stat what it leads to.
	Lstat(name string) (Entry, error)
	Stat(name string) (Entry, error)
	// Readlink is what is written in a link.
	Readlink(name string) (string, error)
	// ReadDir gives the entries of a folder, sorted; those that went while it was read are left out.
	ReadDir(name string) ([]Entry, error)
	// AccessList are the bytes of an entry's own access control list (acl(5)), nil when it has none: its group bits are then the most that
	// any entry of that list may do.
	AccessList(name string) []byte
	// Marks are what an entry carries beside mode and list, as far as the system tells.
	Marks(name string) Marks
	// Open opens an ordinary file for reading; anything else is an *ordinary.Error.
	Open(name string) (fs.File, error)
	// Mount tells how the place is mounted that an entry lies on, and Space how much room there is.
	Mount(name string) Mount
	Space() (Space, error)

	// Create makes a file in one step, which all may read, or beside its owner a group alone (0 for all); one that is there is fs.ErrExist. It is told
	// of the points at which the program may end.
	Create(name string, data []byte, group uint32, at func(point string)) error
	// Replace puts other bytes in the place of a file's, in one step. All else about it stays: mode, owner, access list and other
	// attributes; what cannot stay is refused, and so are links and files with several names. What does not hold before is
	// ErrChanged, and what somebody puts there in the last moment stays.
	Replace(name string, before, data []byte, at func(point string)) error
	// Chmod gives an entry another mode, if it is what it was: kind, owner, group, mode and but one name; else it is ErrNotPlanned
	// or ErrManyNames. An entry that has the mode already is left alone.
	Chmod(was Entry, mode uint32) error
	// Mkdir makes a folder, and those on the way to it; one that is there is left alone.
	Mkdir(name string, mode uint32) error
	Rename(from, to string) error
	// Remove removes a file, a link or an empty folder, RemoveAll a folder with what is in it.
	Remove(name string) error
	RemoveAll(name string) error
	Close() error
}

// The reasons for which something is not done.
var (
	ErrOutside    = facts.Refusal("it lies outside the site's root")
	ErrNoRoot     = facts.Refusal("the site file names no root, so the files cannot be reached")
	ErrChanged    = errors.New("somebody has changed it since")
	ErrNotPlanned = errors.New("it is not what it was when the plan was made")
	ErrManyNames  = errors.New("it has several names (hard links), one of which may lie elsewhere; a person decides")
	// ErrLinks says that links lead to one another.
	ErrLinks = errors.New("its links lead nowhere but to one another")
	errDeep  = errors.New("its path is longer than programs can name")
)

// The kinds of entry.
const (
	File   = "file"
	Folder = "folder"
	Link   = "link"
	Other  = "other" // a device, socket or pipe
)

// Marks are what an entry carries beside its mode and its own list.
type Marks struct {
	Fixed   bool   // nobody changes it, or what is in the folder, but by taking a mark away that the superuser alone may take (statx(2), STATX_ATTR_IMMUTABLE)
	Powers  bool   // who runs it gets some of the superuser's powers (capabilities(7))
	Default []byte // the list of access that what is made in a folder gets (acl(5)), nil for none
}

// An Entry is one thing in the tree.
type Entry struct {
	Path string // below the root, with slashes; "." for the root itself
	Kind string
	Mode uint32 // permission bits with set-user 04000, set-group 02000 and sticky 01000
	// UID and GID are meaningful where HasModes is true.
	UID, GID uint32
	Size     int64 // in bytes, of files
	// Changed is when what it holds was last changed; Touched when anything about it was, in seconds since 1970, 0 where the system does
	// not keep that.
	Changed time.Time
	Touched int64
	Device  uint64 // that it lies on
	Names   uint64 // how many it has (hard links), of files; 0 where that is not known
	Inode   uint64 // by which its names are known as those of one file, with the device; 0 where that is not known
}

// planned tells whether what is there has another mode already, and is an error unless it is still what it was.
func (was Entry) planned(is Entry, mode uint32) (done bool, err error) {
	switch {
	case is.Kind != File && is.Kind != Folder, is.Kind != was.Kind, is.UID != was.UID, is.GID != was.GID:
		return false, ErrNotPlanned
	case is.Mode == mode:
		return true, nil
	case is.Mode != was.Mode:
		return false, ErrNotPlanned
	case is.Kind == File && is.Names > 1:
		return false, ErrManyNames
	}
	return false, nil
}

// Base is the last part of the entry's path.
func (e Entry) Base() string { return path.Base(e.Path) }

// A Mount is what a file system was mounted with that takes something from everybody.
type Mount struct {
	ReadOnly bool // nothing is written
	NoRun    bool // nothing is run
	NoSetID  bool // set-user and set-group bits mean nothing
}

// Aside is the folder at the top of a tree in which this program keeps what it has moved out of the way, for undo. It is no
// part of the site, and is not visited.
const Aside = ".weltaxis-aside"

// maxPath is the longest path that a program can name on the systems there are, in bytes (limits.h, PATH_MAX); how deep folders lie in
// one another has no other bound.
const maxPath = 4096

// Clean is a name as Files take it: without what leads up and out.
func Clean(name string) string {
	if name = path.Clean("/" + filepath.ToSlash(name)); name == "/" {
		return "."
	}
	return name[1:]
}

// Walk visits the root and every entry below it, from several goroutines at once and in no particular order. Links are not followed. What
// cannot be looked at goes to failed, and the walk goes on. The error is that of a root that cannot be read, or the context's.
func Walk(ctx context.Context, files Files, visit func(Entry), failed func(path string, err error)) error {
	top, err := files.Lstat(".")
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(min(max(runtime.GOMAXPROCS(0), 4), 16))
	var walk func(folder Entry) error
	walk = func(folder Entry) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		visit(folder)
		entries, err := files.ReadDir(folder.Path)
		if err != nil && folder.Path == "." {
			return err
		}
		if err != nil {
			failed(folder.Path, err)
			return nil
		}
		for _, e := range entries {
			switch {
			case e.Path == Aside && e.Kind == Folder:
			case e.Kind != Folder:
				visit(e)
			case len(e.Path) > maxPath:
				failed(e.Path, errDeep)
			default:
				if group.TryGo(func() error { return walk(e) }) {
					continue
				}
				if err := walk(e); err != nil {
					return err
				}
			}
		}
		return ctx.Err()
	}
	group.Go(func() error { return walk(top) })
	return group.Wait()
}

// Visit is Walk in order, below a folder, and tells of the folder first. What the function gives steers it as fs.WalkDir says; an error is
// handed to it with the entry that it is about.
func Visit(files Files, folder string, do func(e Entry, err error) error) error {
	top, err := files.Lstat(folder)
	top.Path = Clean(folder)
	if err != nil {
		err = do(top, err)
	} else {
		err = visit(files, top, do)
	}
	if errors.Is(err, fs.SkipAll) || errors.Is(err, fs.SkipDir) {
		return nil
	}
	return err
}

func visit(files Files, e Entry, do func(e Entry, err error) error) error {
	if err := do(e, nil); err != nil || e.Kind != Folder {
		if err != nil && errors.Is(err, fs.SkipDir) && e.Kind == Folder {
			return nil
		}
		return err
	}
	entries, err := files.ReadDir(e.Path)
	if err == nil && len(e.Path) > maxPath {
		entries, err = nil, errDeep
	}
	if err != nil {
		if err = do(e, err); errors.Is(err, fs.SkipDir) {
			return nil
		}
		return err
	}
	for _, inner := range entries {
		if inner.Path == Aside && e.Path == "." {
			continue
		}
		if err := visit(files, inner, do); err != nil {
			if errors.Is(err, fs.SkipDir) {
				return nil // the rest of this folder
			}
			return err
		}
	}
	return nil
}

// Read gives all of an ordinary file of at most so many bytes; a larger one is an *ordinary.Error.
func Read(files Files, name string, most int64) ([]byte, error) {
	file, err := files.Open(name)
	if err != nil {
		return nil, err
	}
	return ordinary.All(file, most)
}

// Head gives the first bytes of an ordinary file, at most n.
func Head(files Files, name string, n int) ([]byte, error) {
	file, err := files.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return io.ReadAll(io.LimitReader(file, int64(n)))
}

// IsFolder is an error when a name leads to no folder.
func IsFolder(files Files, name string) error {
	e, err := files.Stat(name)
	if err == nil && e.Kind != Folder {
		err = errors.New("it is no folder")
	}
	return err
}

// Names are those in the folder that a name leads to, sorted, at most so many.
func Names(files Files, folder string, most int) ([]string, error) {
	if err := IsFolder(files, folder); err != nil {
		return nil, err
	}
	folder, err := files.Real(folder)
	if err != nil {
		return nil, err
	}
	entries, err := files.ReadDir(folder)
	var names []string
	for _, e := range entries[:min(len(entries), most)] {
		names = append(names, e.Base())
	}
	return names, err
}

// Change puts after in the place of before, in one step; nil stands for no file. What holds after already is left alone, and what holds
// something else is ErrChanged. A new file may be read by all, or by a group (0 for all). A link at the end of the name is followed. What an earlier run that was killed has left beside it goes.
func Change(files Files, name string, before, after []byte, group uint32, at func(point string)) error {
	name, err := files.Real(name)
	if err != nil {
		return err
	}
	if err := removeLeftovers(files, name); err != nil {
		return err
	}
	now, err := Read(files, name, max(int64(len(before)), int64(len(after)))+1)
	var other *ordinary.Error
	switch {
	case errors.Is(err, fs.ErrNotExist) && (before == nil || after == nil):
		now, err = nil, nil
	case errors.As(err, &other) && other.TooLarge:
		return ErrChanged
	}
	switch {
	case err != nil:
		return err
	case Same(now, after):
		return nil
	case !Same(now, before):
		return ErrChanged
	case before == nil:
		return files.Create(name, after, group, at)
	case after == nil:
		return files.Remove(name)
	}
	return files.Replace(name, before, after, at)
}

// Same compares what two files hold; nil stands for none.
func Same(a, b []byte) bool { return (a == nil) == (b == nil) && slices.Equal(a, b) }

// removeLeftovers takes away what a run that was killed wrote beside a file and never put in its place.
func removeLeftovers(files Files, name string) error {
	entries, err := files.ReadDir(path.Dir(name))
	if err != nil {
		return err
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Base(), leftover(name)) && e.Kind == File {
			if err := files.Remove(e.Path); err != nil {
				return err
			}
		}
	}
	return nil
}

// leftover is how the name of what is written beside a file starts.
func leftover(name string) string { return "." + path.Base(name) + ".weltaxis-" }

// EntryOf is an entry of which the system has told.
func EntryOf(path string, info fs.FileInfo) Entry {
	e := Entry{Path: path, Kind: kindOf(info.Mode()), Mode: modeOf(info.Mode()), Size: info.Size(), Changed: info.ModTime()}
	e.told(info)
	return e
}

func kindOf(mode fs.FileMode) string {
	switch {
	case mode.IsRegular():
		return File
	case mode.IsDir():
		return Folder
	case mode&fs.ModeSymlink != 0:
		return Link
	}
	return Other
}

// special are the bits of a mode besides what everybody may do.
var special = []struct {
	flag fs.FileMode
	bit  uint32
}{{fs.ModeSetuid, 0o4000}, {fs.ModeSetgid, 0o2000}, {fs.ModeSticky, 0o1000}}

func modeOf(mode fs.FileMode) uint32 {
	bits := uint32(mode.Perm())
	for _, s := range special {
		if mode&s.flag != 0 {
			bits |= s.bit
		}
	}
	return bits
}

// Printable is a path with the bytes that are no UTF-8 written as \xNN, so that it survives JSON. Other paths
// are left as they are.
func Printable(path string) string {
	if utf8.ValidString(path) {
		return path
	}
	var b strings.Builder
	for i := 0; i < len(path); {
		r, size := utf8.DecodeRuneInString(path[i:])
		if r == utf8.RuneError && size == 1 {
			fmt.Fprintf(&b, `\x%02x`, path[i])
		} else {
			b.WriteString(path[i : i+size])
		}
		i += size
	}
	return b.String()
}
