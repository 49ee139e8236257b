//go:build unix

package orders

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"weltaxis/internal/access"
	"weltaxis/internal/identity"
	"weltaxis/internal/ordinary"
)

// A linkRule says which links are followed on the way to something.
type linkRule int

const (
	everyLink          linkRule = iota // of those who may give orders
	linksAbove                         // root's, above the last part of the name
	rootsLinks                         // root's
	everyLinkToAFolder                 // of those who may give orders; who may write to the folder that it leads to is another matter
	everyLinkAbove                     // of those who may give orders, to a folder in which something is to be made
	linksAlone                         // of those who may give orders, and nothing but links is held against the rule
)

// maxLinks is how many links are followed one after the other, as the system does (path_resolution(7)).
const maxLinks = 40

// A found is what a name leads to: its folder, open, and the last part of its name; for a folder that itself.
type found struct {
	name   string
	folder int    // descriptor
	last   string // "" for a folder
}

func (f found) close() { _ = unix.Close(f.folder) }

// find follows a name from the root of the disk, and holds each part against the rule.
func (t Trust) find(name string, links linkRule) (f found, err error) {
	fail := func(errno error) (found, error) { return found{}, &fs.PathError{Op: "open", Path: name, Err: errno} }
	if name == "" || strings.ContainsRune(name, 0) {
		return fail(syscall.ENOENT)
	}
	full := name
	if !filepath.IsAbs(full) {
		dir, err := unix.Getwd() // not by PWD, which is the environment's
		if err != nil || !filepath.IsAbs(dir) {
			return fail(syscall.ENOENT)
		}
		full = dir + "/" + name
	}
	w := way{trust: t, name: name, links: links}
	defer w.close()
	if err := w.root(); err != nil {
		return found{}, err
	}
	parts := split(full)
	for followed := 0; len(parts) > 0; {
		part := parts[0]
		parts = parts[1:]
		if part == ".." && w.last == "" {
			w.up()
			continue
		}
		target, err := w.down(part, len(parts) == 0)
		if err != nil {
			return found{}, err
		}
		if target == "" {
			continue
		}
		if followed++; followed > maxLinks {
			return fail(syscall.ELOOP)
		}
		if links == linksAbove && len(parts) == 0 || (links == linksAbove || links == rootsLinks) && w.linkOwner != 0 {
			return found{}, &Fault{At: w.path(part), Says: "is a link", Do: "name the folder itself: --state " + target, Owner: -1, trust: t}
		}
		if filepath.IsAbs(target) {
			w.toRoot()
		}
		parts = append(split(target), parts...)
	}
	return w.take(), nil
}

func split(name string) (parts []string) {
	for part := range strings.SplitSeq(name, "/") {
		if part != "" && part != "." {
			parts = append(parts, part)
		}
	}
	return parts
}

// A way leads down from the root: the folders that are open, each held against the rule.
type way struct {
	trust     Trust
	name      string // that is looked up
	links     linkRule
	open      []int
	parts     []string // the names of all but the first
	last      string   // a file in the innermost
	linkOwner uint32   // of the last link
}

func (w *way) close() {
	for _, fd := range w.open {
		_ = unix.Close(fd)
	}
}

func (w *way) root() error {
	fd, err := unix.Open("/", folderFlags, 0)
	if err != nil {
		return &fs.PathError{Op: "open", Path: "/", Err: err}
	}
	w.open = append(w.open, fd)
	return w.check(fd, "/", true)
}

// path is the name of something in the innermost folder, in full.
func (w *way) path(part string) string {
	return "/" + strings.Join(append(w.parts[:len(w.parts):len(w.parts)], part), "/")
}

func (w *way) up() {
	if n := len(w.open); n > 1 {
		_ = unix.Close(w.open[n-1])
		w.open, w.parts = w.open[:n-1], w.parts[:n-2]
	}
}

func (w *way) toRoot() {
	for len(w.open) > 1 {
		w.up()
	}
}

// down goes one part further: into a folder, to a file where it is the last one, or it gives where a link leads.
func (w *way) down(part string, last bool) (target string, err error) {
	fail := func(errno error) error { return &fs.PathError{Op: "open", Path: w.path(part), Err: errno} }
	if w.last != "" {
		return "", fail(syscall.ENOTDIR)
	}
	dir := w.open[len(w.open)-1]
	var stat unix.Stat_t
	if err := unix.Fstatat(dir, part, &stat, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return "", fail(err)
	}
	switch stat.Mode & unix.S_IFMT {
	case unix.S_IFLNK:
		if f := w.trust.fault(entry{name: w.path(part), mode: fs.ModeSymlink, uid: stat.Uid}, true); f != nil {
			return "", f
		}
		text := make([]byte, 4096)
		n, err := unix.Readlinkat(dir, part, text)
		if err != nil || n == 0 || n == len(text) {
			return "", fail(cmpErr(err, syscall.ENAMETOOLONG))
		}
		w.linkOwner = stat.Uid
		return string(text[:n]), nil
	case unix.S_IFDIR:
		fd, err := unix.Openat(dir, part, folderFlags|unix.O_NOFOLLOW, 0)
		if err != nil {
			return "", fail(err)
		}
		name := w.path(part)
		w.open, w.parts = append(w.open, fd), append(w.parts, part)
		if last && w.links == everyLinkToAFolder {
			if !w.trust.has(stat.Uid) {
				return "", &Fault{At: name, Says: "belongs to " + identity.Name(int(stat.Uid)), Owner: int(stat.Uid), trust: w.trust}
			}
			return "", nil
		}
		return "", w.check(fd, name, !last || w.links == everyLinkAbove)
	}
	if !last {
		return "", fail(syscall.ENOTDIR)
	}
	w.last = part
	return "", nil
}

func cmpErr(err, otherwise error) error {
	if err != nil {
		return err
	}
	return otherwise
}

// check holds what is open against the rule.
func (w *way) check(fd int, name string, above bool) error {
	if w.links == linksAlone {
		return nil
	}
	e, err := entryOf(fd, name)
	if err != nil {
		return err
	}
	if f := w.trust.fault(e, above); f != nil {
		return f
	}
	return nil
}

// take hands over what was found; the rest of the way is closed with it.
func (w *way) take() found {
	n := len(w.open) - 1
	f := found{folder: w.open[n], last: w.last, name: w.path(w.last)}
	if w.last == "" {
		f.name = "/" + strings.Join(w.parts, "/")
	}
	w.open = w.open[:n]
	return f
}

// opened opens the file that was found.
func (f found) opened() (*os.File, error) {
	if f.last == "" {
		return nil, &ordinary.Error{Says: "it is no ordinary file but a folder"}
	}
	fd, err := unix.Openat(f.folder, f.last, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return ordinary.Checked(nil, &fs.PathError{Op: "open", Path: f.name, Err: err})
	}
	return ordinary.Checked(os.NewFile(uintptr(fd), f.name), nil)
}

// open opens the file that was found, and holds it against the rule.
func (f found) open(t Trust) (*os.File, error) {
	defer f.close()
	file, err := f.opened()
	if err != nil {
		return nil, err
	}
	e, err := entryOf(int(file.Fd()), f.name)
	if err == nil {
		if wrong := t.faultOf(e, f.folder); wrong != nil {
			wrong.file, err = true, wrong
		}
	}
	if err != nil {
		_ = file.Close()
		return nil, err
	}
	return file, nil
}

// openAnyhow opens the file that was found, whoever may change it; but not one of those who may give orders that somebody else may have given
// another name (link(2)).
func (f found) openAnyhow(t Trust) (*os.File, error) {
	defer f.close()
	file, err := f.opened()
	if err != nil {
		return nil, err
	}
	e, err := entryOf(int(file.Fd()), f.name)
	if err == nil && e.names > 1 && t.has(e.uid) && t.inSticky(f.folder) {
		err = &Fault{At: e.name, Says: "lies where others may make files, and has another name elsewhere", Owner: -1, trust: t}
	}
	if err != nil {
		_ = file.Close()
		return nil, err
	}
	return file, nil
}

// check holds the file that was found against the rule, without opening it for reading; a folder held on the way.
func (f found) check(t Trust) error {
	if f.last == "" {
		return nil
	}
	e, err := looked(f.folder, f.last, f.name)
	if err != nil {
		return &fs.PathError{Op: "stat", Path: f.name, Err: err}
	}
	if wrong := t.faultOf(e, f.folder); wrong != nil {
		wrong.file = true
		return wrong
	}
	return nil
}

// faultOf is what is wrong with a file in a folder; nil for nothing.
func (t Trust) faultOf(e entry, folder int) *Fault {
	if wrong := t.fault(e, false); wrong != nil {
		return wrong
	}
	if e.names > 1 && t.inSticky(folder) {
		return &Fault{At: e.name, Says: "lies where everybody may make files, and has another name elsewhere", Owner: -1, trust: t}
	}
	return nil
}

// inSticky tells whether everybody may make files in a folder: then one of those who may give orders may lie there because somebody else
// gave it another name (link(2)).
func (t Trust) inSticky(folder int) bool {
	e, err := entryOf(folder, "")
	return err != nil || e.mode.Perm()&0o022 != 0
}

// entryOf is what is known of what is open.
func entryOf(fd int, name string) (entry, error) {
	var stat unix.Stat_t
	if err := unix.Fstat(fd, &stat); err != nil {
		return entry{}, &fs.PathError{Op: "stat", Path: name, Err: err}
	}
	e := entry{name: name, mode: modeOf(uint32(stat.Mode)), uid: stat.Uid, gid: stat.Gid, names: uint64(stat.Nlink)}
	e.list, e.unlisted = listOf(fmt.Sprintf("/proc/self/fd/%d", fd), e.mode)
	return e, nil
}

// entryAt is that of an entry whose folder nobody else may change.
func entryAt(name string, info fs.FileInfo) entry {
	e := entry{name: name, mode: info.Mode()}
	if stat, is := info.Sys().(*syscall.Stat_t); is {
		e.uid, e.gid, e.names = stat.Uid, stat.Gid, uint64(stat.Nlink)
	}
	e.list, e.unlisted = listOf(name, e.mode)
	return e
}

func modeOf(bits uint32) fs.FileMode {
	mode := fs.FileMode(bits & 0o777)
	switch bits & unix.S_IFMT {
	case unix.S_IFDIR:
		mode |= fs.ModeDir
	case unix.S_IFLNK:
		mode |= fs.ModeSymlink
	}
	if bits&unix.S_ISVTX != 0 {
		mode |= fs.ModeSticky
	}
	return mode
}

// listOf is the list of access of an entry, asked for only where it may let others write.
func listOf(name string, mode fs.FileMode) (access.List, error) {
	if mode.Perm()&0o020 == 0 || mode&fs.ModeSymlink != 0 {
		return nil, nil
	}
	raw, err := attribute(name)
	if err != nil || raw == nil {
		return nil, err
	}
	list, err := access.ParseList(raw)
	if err != nil {
		return nil, errors.New("it is of a kind that is not known")
	}
	return list, nil
}
