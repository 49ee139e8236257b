package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"weltaxis/internal/facts"
)

// open opens what a name leads to, in one step where the system can (openat2(2), Linux 5.6), and else by os.Root.
func (f *folder) open(name string, flags int) (*os.File, error) {
	how := unix.OpenHow{Flags: uint64(flags | unix.O_CLOEXEC), Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_MAGICLINKS}
	if f.strict {
		how.Resolve |= unix.RESOLVE_NO_SYMLINKS
	}
	fd, err := unix.Openat2(int(f.dir.Fd()), name, &how)
	for tries := 0; errors.Is(err, unix.EAGAIN) && tries < maxTries || errors.Is(err, unix.EINTR); tries++ {
		fd, err = unix.Openat2(int(f.dir.Fd()), name, &how) // somebody renamed something meanwhile
	}
	switch {
	case err == nil:
		return os.NewFile(uintptr(fd), name), nil
	case f.strict:
	case errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EAGAIN), errors.Is(err, unix.EPERM): // a filter of system calls may say the last
		return f.root.OpenFile(name, flags, 0)
	}
	return nil, &fs.PathError{Op: "openat2", Path: name, Err: err}
}

// maxTries is how often something is opened again while somebody renames what lies on the way.
const maxTries = 100

// handle opens an entry itself, without reading and without following a link at its end (open(2), O_PATH).
func (f *folder) handle(name string) (*os.File, error) {
	return f.open(name, unix.O_PATH|unix.O_NOFOLLOW)
}

// openFolder opens a folder that has a name, not one that a link of that name leads to.
func (f *folder) openFolder(name string) (*os.File, error) {
	return f.open(name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_NONBLOCK)
}

// byHandle is how something is named that only its descriptor may lead to (proc(5), /proc/pid/fd).
func byHandle(of *os.File) string { return fmt.Sprintf("/proc/self/fd/%d", of.Fd()) }

// look tells what has a name, by one descriptor.
func (f *folder) look(name string) (Entry, error) {
	at, err := f.handle(name)
	if err != nil {
		return Entry{}, err
	}
	defer at.Close()
	return entryAt(int(at.Fd()), "", name)
}

// entryAt tells of what has a name in an open folder, or of what is open where the name is empty.
func entryAt(fd int, base, path string) (Entry, error) {
	var stat unix.Stat_t
	if err := unix.Fstatat(fd, base, &stat, unix.AT_SYMLINK_NOFOLLOW|unix.AT_EMPTY_PATH); err != nil {
		return Entry{}, &fs.PathError{Op: "fstatat", Path: path, Err: err}
	}
	kind := Other
	switch stat.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		kind = File
	case unix.S_IFDIR:
		kind = Folder
	case unix.S_IFLNK:
		kind = Link
	}
	return Entry{Path: path, Kind: kind, Mode: stat.Mode & 0o7777, UID: stat.Uid, GID: stat.Gid, Size: stat.Size, Changed: time.Unix(stat.Mtim.Unix()), Touched: stat.Ctim.Sec, Device: stat.Dev, Names: uint64(stat.Nlink), Inode: stat.Ino}, nil
}

func (f *folder) AccessList(name string) []byte {
	list, _ := f.accessList(name)
	return list
}

func (f *folder) accessList(name string) ([]byte, error) {
	at, err := followed(f, name, false, f.handle)
	if err != nil {
		return nil, err
	}
	defer at.Close()
	return attributeOf(at, "system.posix_acl_access"), nil
}

// attributeOf is an extended attribute of an open entry; nil where it has none, or the file system keeps none (xattr(7)).
func attributeOf(at *os.File, name string) []byte {
	const usual = 4 + 8*16
	raw := make([]byte, usual)
	n, err := unix.Getxattr(byHandle(at), name, raw)
	if errors.Is(err, unix.ERANGE) {
		raw = make([]byte, 1<<16) // an attribute is never larger
		n, err = unix.Getxattr(byHandle(at), name, raw)
	}
	if err != nil || n <= 0 {
		return nil
	}
	return raw[:n]
}

func (f *folder) Marks(name string) Marks {
	marks, _ := f.marks(name)
	return marks
}

func (f *folder) marks(name string) (marks Marks, err error) {
	at, err := followed(f, name, false, f.handle)
	if err != nil {
		return marks, err
	}
	defer at.Close()
	var stat unix.Statx_t
	if err := unix.Statx(int(at.Fd()), "", unix.AT_EMPTY_PATH|unix.AT_SYMLINK_NOFOLLOW, unix.STATX_MODE, &stat); err == nil {
		marks.Fixed = stat.Attributes&unix.STATX_ATTR_IMMUTABLE != 0
	}
	marks.Powers = stat.Mode&unix.S_IFMT == unix.S_IFREG && attributeOf(at, "security.capability") != nil
	if stat.Mode&unix.S_IFMT == unix.S_IFDIR {
		marks.Default = attributeOf(at, "system.posix_acl_default")
	}
	return marks, nil
}

// list gives the entries of an open folder, by its descriptor.
func (f *folder) list(dir *os.File, name string) ([]Entry, error) {
	if info, err := dir.Stat(); err == nil && deviceOf(info) != deviceOf(f.top) {
		if err := foreign(dir); err != nil {
			return nil, err
		}
	}
	names, err := dir.Readdirnames(-1)
	fd := int(dir.Fd())
	entries := make([]Entry, 0, len(names))
	for _, base := range names {
		e, err := entryAt(fd, base, path.Join(name, base))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return entries, err
		}
		entries = append(entries, e)
	}
	return entries, err
}

// kernelSystems are the file systems that hold no files but views of the kernel (statfs(2)): a walk through one would read
// and count what is no part of a site, and may never end.
var kernelSystems = []int64{unix.PROC_SUPER_MAGIC, unix.SYSFS_MAGIC, unix.CGROUP_SUPER_MAGIC, unix.CGROUP2_SUPER_MAGIC, unix.DEBUGFS_MAGIC, unix.TRACEFS_MAGIC,
	unix.DEVPTS_SUPER_MAGIC, unix.SECURITYFS_MAGIC, unix.BPF_FS_MAGIC, unix.BINFMTFS_MAGIC, unix.PSTOREFS_MAGIC, unix.EFIVARFS_MAGIC}

var errKernel = errors.New("a file system of the kernel is mounted there, which is no part of a site")

// foreign is an error for a folder on which a file system of the kernel is mounted.
func foreign(folder *os.File) error {
	var at unix.Statfs_t
	if err := unix.Fstatfs(int(folder.Fd()), &at); err == nil && slices.Contains(kernelSystems, int64(at.Type)) {
		return errKernel
	}
	return nil
}

// statfs tells of the file system that an entry lies on (statfs(2)).
func (f *folder) statfs(name string) (at unix.Statfs_t, err error) {
	handle, err := followed(f, name, false, f.handle)
	if err != nil {
		return at, err
	}
	defer handle.Close()
	return at, unix.Fstatfs(int(handle.Fd()), &at)
}

func (f *folder) Mount(name string) Mount {
	mount, _ := f.mount(name)
	return mount
}

func (f *folder) mount(name string) (Mount, error) {
	at, err := f.statfs(name)
	return Mount{ReadOnly: at.Flags&unix.ST_RDONLY != 0, NoRun: at.Flags&unix.ST_NOEXEC != 0, NoSetID: at.Flags&unix.ST_NOSUID != 0}, err
}

func (f *folder) Space() (Space, error) {
	stat, err := f.statfs(".")
	if err != nil {
		return Space{}, err
	}
	block := uint64(stat.Frsize)
	if block == 0 {
		block = uint64(stat.Bsize)
	}
	return Space{Left: stat.Bavail * block, All: (stat.Blocks - stat.Bfree + stat.Bavail) * block, EntriesLeft: stat.Ffree, Entries: stat.Files}, nil
}

// Chmod changes what was opened and compared, by its descriptor: whoever exchanges a name meanwhile gains nothing.
func (f *folder) Chmod(was Entry, mode uint32) error {
	return f.chmod(was, mode, func(*os.File) error { return nil })
}

// chmod does so if what was opened is right by another measure as well.
func (f *folder) chmod(was Entry, mode uint32, right func(at *os.File) error) error {
	var at *os.File
	err := f.within(was.Path, func(in *os.Root, base string) (err error) {
		at, err = in.OpenFile(base, unix.O_PATH|unix.O_NOFOLLOW, 0)
		return err
	})
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return ErrNotPlanned
	}
	if err != nil {
		return err
	}
	defer at.Close()
	is, err := entryAt(int(at.Fd()), "", was.Path)
	if err != nil {
		return err
	}
	if done, err := was.planned(is, mode); done || err != nil {
		return err
	}
	if err := right(at); err != nil {
		return err
	}
	// A descriptor of this kind can be changed by way of its own name only.
	err = unix.Chmod(byHandle(at), mode)
	if errors.Is(err, syscall.EPERM) {
		return facts.Deny(err, "changing its mode", "the right to, which its owner and root have")
	}
	return err
}
