//go:build unix

package orders

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"syscall"

	"github.com/google/renameio/v2"
	"golang.org/x/sys/unix"

	"weltaxis/internal/identity"
)

// Write puts a file where a name leads, whole or not at all, as whoever started this program: it is made beside and put in its place by the
// descriptor of a folder in which nobody else can exchange it, with the mode of the one that it replaces. Links of those who may give orders
// are followed. What is no ordinary file, as a device or a pipe, is written to. The error is a *Fault where others have a hand in it.
func (t Trust) Write(name string, write func(io.Writer) error) error {
	return identity.AsCaller(func() error { return t.write(name, write) })
}

func (t Trust) write(name string, write func(io.Writer) error) error {
	for range maxLinks {
		if name = filepath.Clean(name); ownDescriptor.MatchString(name) { // a link to what must not be replaced
			return into(unix.AT_FDCWD, name, 0, write)
		}
		folder, err := t.find(filepath.Dir(name), everyLinkAbove)
		if err != nil {
			return err
		}
		next, err := t.put(folder, filepath.Base(name), write)
		folder.close()
		if next == "" || err != nil {
			return err
		}
		name = next
	}
	return errors.New("its links lead in a circle")
}

// ownDescriptor is what names a descriptor of this process (proc(5)).
var ownDescriptor = regexp.MustCompile(`^/(dev/(stdout|stderr|fd/[0-9]+)|proc/self/fd/[0-9]+)$`)

// put does so in a folder, or gives where a link leads.
func (t Trust) put(in found, base string, write func(io.Writer) error) (next string, err error) {
	full := filepath.Join(in.name, base)
	if in.last != "" {
		return "", &fs.PathError{Op: "open", Path: in.name, Err: syscall.ENOTDIR}
	}
	var stat unix.Stat_t
	err = unix.Fstatat(in.folder, base, &stat, unix.AT_SYMLINK_NOFOLLOW)
	if errors.Is(err, fs.ErrNotExist) {
		return "", replaced(in, base, renameio.WithPermissions(0o644), write)
	}
	if err != nil {
		return "", &fs.PathError{Op: "stat", Path: full, Err: err}
	}
	kind := stat.Mode & unix.S_IFMT
	if kind == unix.S_IFDIR {
		return "", ErrFolder
	}
	if !t.has(stat.Uid) {
		return "", &Fault{At: full, Says: "belongs to " + identity.Name(int(stat.Uid)), Owner: int(stat.Uid), trust: t}
	}
	switch kind {
	case unix.S_IFLNK:
		text := make([]byte, 4096)
		n, err := unix.Readlinkat(in.folder, base, text)
		if err != nil || n == 0 {
			return "", &fs.PathError{Op: "readlink", Path: full, Err: cmpErr(err, syscall.EINVAL)}
		}
		if next = string(text[:n]); !filepath.IsAbs(next) {
			next = filepath.Join(in.name, next)
		}
		return next, nil
	case unix.S_IFREG:
		err = replaced(in, base, renameio.WithStaticPermissions(fs.FileMode(stat.Mode).Perm()), write)
		var failed *writing
		if errors.Is(err, fs.ErrPermission) && !errors.As(err, &failed) { // a file that may be written to, in a folder that may not
			return "", into(in.folder, base, unix.O_TRUNC, write)
		}
		return "", err
	}
	return "", into(in.folder, base, 0, write)
}

// A writing is an error of whoever writes.
type writing struct{ error }

func (w *writing) Unwrap() error { return w.error }

// through writes to an open file.
func through(file *os.File, write func(io.Writer) error) error {
	out := bufio.NewWriter(file)
	if err := write(out); err != nil {
		return &writing{err}
	}
	return out.Flush()
}

// into writes to what is there.
func into(folder int, name string, flags int, write func(io.Writer) error) error {
	if folder != unix.AT_FDCWD {
		flags |= unix.O_NOFOLLOW
	}
	fd, err := unix.Openat(folder, name, unix.O_WRONLY|unix.O_CLOEXEC|flags, 0)
	if err != nil {
		return &fs.PathError{Op: "open", Path: name, Err: err}
	}
	file := os.NewFile(uintptr(fd), name)
	return errors.Join(through(file, write), file.Close())
}

// replaced puts a new file in the place of another, or none, at once, in the folder that was found.
func replaced(in found, base string, mode renameio.Option, write func(io.Writer) error) error {
	root, err := os.OpenRoot(in.name)
	if err != nil {
		return err
	}
	defer root.Close()
	var is, found unix.Stat_t
	at, err := root.Open(".")
	if err != nil {
		return err
	}
	defer at.Close()
	if err := errors.Join(unix.Fstat(int(at.Fd()), &is), unix.Fstat(in.folder, &found)); err != nil {
		return err
	}
	if is.Dev != found.Dev || is.Ino != found.Ino {
		return fmt.Errorf("%s is another folder than a moment ago", in.name)
	}
	pending, err := renameio.NewPendingFile(base, renameio.WithRoot(root), mode)
	if err != nil {
		return err
	}
	defer func() { _ = pending.Cleanup() }()
	if err := through(pending.File, write); err != nil {
		return err
	}
	return pending.CloseAtomicallyReplace()
}
