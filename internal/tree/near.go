package tree

import (
	"errors"
	"io/fs"
	"path/filepath"
	"strings"

	"weltaxis/internal/identity"
	"weltaxis/internal/orders"
)

// denied tells an error that rights would have kept away.
func denied(err error) bool { return errors.Is(err, fs.ErrPermission) }

// Near looks at a path of this machine that others may have made, as an override file in a served folder. Where root has this program act as
// the owner of a tree it is looked at as him, and below the first folder that is his by those who have a part in the tree as well; where root
// acts as root, as the one to whom the first folder on the way belongs that is not root's; where everybody may
// write on the way, in the folder alone. What is asked is asked of Files, and by the name that the path has there.
func Near(full string, do func(files Files, name string) error) error {
	acting, is := identity.Acting()
	switch {
	case identity.Caller() != 0:
		return do(Machine(), Full(full))
	case is:
		err := do(Machine(), Full(full))
		if !denied(err) {
			return err
		}
		own, rest := ownBelow(full, acting)
		if own == nil {
			return err
		}
		defer own.Close()
		return do(own, rest)
	}
	uid, err := holderOf(full)
	switch {
	case uid > 0:
		return identity.As(uid, func() error { return do(Machine(), Full(full)) })
	case errors.As(err, new(*orders.Fault)): // several others could exchange what lies there
		return alone(full, do)
	}
	return do(Machine(), Full(full))
}

// alone looks at a path in its folder alone: no link leads out of it, and what has a name elsewhere is not looked at.
func alone(full string, do func(files Files, name string) error) error {
	files, err := Open(filepath.Dir(full))
	if err != nil {
		return err
	}
	defer files.Close()
	name := filepath.Base(full)
	if err := oneName(files, name); err != nil {
		return err
	}
	return do(files, name)
}

// ReadServed is all of a file that tells a server or a runtime something and lies where everybody who writes to a site may put it, as an override
// file: links are followed to what lies below one of the roots in which it lies itself, or, where nobody has said any, in its own folder, and else
// it is ErrOutside. It is read as Near says.
func ReadServed(full string, roots []string, most int64) (data []byte, err error) {
	full = string(filepath.Separator) + filepath.FromSlash(Full(full))
	within := filepath.Dir(full)
	for _, root := range roots {
		root = string(filepath.Separator) + filepath.FromSlash(Full(root))
		if rel, err := filepath.Rel(root, full); err == nil && filepath.IsLocal(rel) {
			within = root
		}
	}
	name, err := filepath.Rel(within, full)
	if err != nil {
		return nil, err
	}
	read := func(sure func(in Files) error) error {
		in, err := Open(within)
		if err != nil {
			return err
		}
		defer in.Close()
		if err := sure(in); err != nil {
			return err
		}
		data, err = Read(in, name, most)
		return err
	}
	anything := func(Files) error { return nil }
	if _, is := identity.Acting(); is || identity.Caller() != 0 {
		err = read(anything)
		return data, err
	}
	switch uid, holderErr := holderOf(full); {
	case uid > 0:
		err = identity.As(uid, func() error { return read(anything) })
	case errors.As(holderErr, new(*orders.Fault)): // several others could exchange what lies there
		err = read(func(in Files) error { return oneName(in, name) })
	default:
		err = read(anything)
	}
	return data, err
}

// oneName is an error for a file that has a name elsewhere.
func oneName(files Files, name string) error {
	if e, err := files.Stat(name); err == nil && e.Kind == File && e.Names > 1 {
		return ErrManyNames
	}
	return nil
}

// holderOf is whose the first folder is, on the way to where a path lies or would lie, that is not root's; 0 when all are root's.
func holderOf(full string) (uid int, err error) {
	full, err = filepath.Abs(full)
	for dir := filepath.Dir(full); err == nil; dir = filepath.Dir(dir) {
		uid, holderErr := orders.Holder(dir)
		if holderErr == nil || dir == filepath.Dir(dir) || errors.As(holderErr, new(*orders.Fault)) {
			return uid, holderErr
		}
	}
	return 0, err
}

// ownBelow opens the first folder on the way that belongs to a user, nil when none does, and gives the rest of the path.
func ownBelow(full string, uid int) (own Files, rest string) {
	full, err := filepath.Abs(full)
	if err != nil {
		return nil, ""
	}
	for i := range full[1:] {
		if full[i+1] != filepath.Separator {
			continue
		}
		if e, err := Machine().Stat(Full(full[:i+1])); err == nil && e.Kind == Folder && int(e.UID) == uid {
			own, err := Open(full[:i+1])
			if err != nil {
				return nil, ""
			}
			return own, strings.TrimPrefix(full[i+1:], string(filepath.Separator))
		}
	}
	return nil, ""
}
