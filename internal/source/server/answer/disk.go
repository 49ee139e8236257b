package answer

import (
	"cmp"
	"errors"
	"io/fs"
	"path/filepath"
	"strings"

	"weltaxis/internal/tree"
)

// What lies at a path.
type Lies int

// What may lie at a path.
const (
	NoEntry Lies = iota
	AFile
	AFolder
	Unseen // it cannot be looked at from here
)

// An Entry is what lies at a path.
type Entry struct {
	Is   Lies
	Size int64
	Why  string // why it is unseen
	Run  bool   // anybody may run it
}

// A Disk is where the files lie that a server serves.
type Disk interface {
	Look(path string) Entry
	// Folders are the folders in a folder, links aside.
	Folders(path string) []string
	Read(path string) ([]byte, error)
}

// OS is the disk of this machine, with the folders below which the site lies; none where nobody has said.
type OS struct{ Roots []string }

// Look implements Disk. Links are followed.
func (OS) Look(path string) Entry {
	var e tree.Entry
	err := tree.Near(path, func(files tree.Files, name string) (err error) {
		e, err = files.Stat(name)
		return err
	})
	switch {
	case errors.Is(err, fs.ErrPermission):
		return Entry{Is: Unseen, Why: "this user may not look at " + path}
	case errors.Is(err, tree.ErrOutside):
		return Entry{Is: Unseen, Why: "a link leads to " + path + " from a folder to which everybody may write, and is not followed here"}
	case err != nil:
		return Entry{}
	case e.Kind == tree.Folder:
		return Entry{Is: AFolder, Run: true}
	case e.Kind != tree.File:
		return Entry{Is: Unseen, Why: path + " is no ordinary file"}
	}
	return Entry{Is: AFile, Size: e.Size, Run: e.Mode&0o111 != 0}
}

// Linked tells whether a link lies between a folder and what is below it, as disks say that know of links.
func Linked(d Disk, from, path string) bool {
	linked, knows := d.(interface{ Linked(from, path string) bool })
	return knows && linked.Linked(from, path)
}

// SameOwner tells whether a link belongs to whom what it leads to belongs to, as disks say that know of owners.
func SameOwner(d Disk, path string) (same, known bool) {
	owned, knows := d.(interface {
		SameOwner(path string) (bool, bool)
	})
	if !knows {
		return false, false
	}
	return owned.SameOwner(path)
}

// OwnersAlike tells whether each link that lies between a folder and what is below it belongs to whom what it leads to belongs to.
func OwnersAlike(d Disk, from, file string) (alike, known bool) {
	below, err := filepath.Rel(from, filepath.Clean(file))
	if err != nil {
		return false, false
	}
	at := from
	parts := strings.Split(below, "/")
	for i, part := range parts {
		at = filepath.Join(at, part)
		if !Linked(d, filepath.Dir(at), at) {
			continue
		}
		if is := d.Look(at).Is; i < len(parts)-1 && is != AFolder && is != Unseen { // the way ends there, whosever it is
			return true, true
		}
		if alike, known = SameOwner(d, at); !alike || !known {
			return alike, known
		}
	}
	return true, true
}

// SameOwner implements what it is asked.
func (OS) SameOwner(path string) (same, known bool) {
	var link, target tree.Entry
	err := tree.Near(path, func(files tree.Files, name string) (err error) {
		if link, err = files.Lstat(name); err == nil {
			target, err = files.Stat(name)
		}
		return err
	})
	return err == nil && link.UID == target.UID, err == nil
}

// Linked tells whether a link lies between a folder and what is below it.
func (OS) Linked(from, path string) bool {
	below, err := filepath.Rel(from, filepath.Clean(path))
	to, leads := followed(path)
	if errors.Is(leads, tree.ErrOutside) {
		return true
	}
	return err == nil && to != "" && to != filepath.Join(Real(from), below)
}

// Real is a path of this machine with its links followed, as far as they lead somewhere; "" for one that leads out of what may be looked at.
func Real(name string) string {
	to, _ := followed(name)
	return to
}

func followed(name string) (to string, err error) {
	full, err := filepath.Abs(name)
	if err != nil {
		return "", err
	}
	err = tree.Near(full, func(files tree.Files, name string) error {
		found, err := files.Real(name)
		if err != nil || found == "" {
			return err
		}
		in := files.Name()
		if in != "/" && in != full { // what everybody may write to is looked at from its own folder, which links may lead to as well
			in = cmp.Or(Real(in), in)
		}
		to = filepath.Join(in, found)
		return nil
	})
	return to, err
}

// maxRead is the largest file that is read: one that tells a server what to do in a folder.
const maxRead = 1 << 20

// Read implements Disk.
func (o OS) Read(path string) (data []byte, err error) {
	return tree.ReadServed(path, o.Roots, maxRead)
}

// Folders implements Disk.
func (OS) Folders(path string) (paths []string) {
	var entries []tree.Entry
	_ = tree.Near(path, func(files tree.Files, name string) (err error) {
		entries, err = files.ReadDir(name)
		return err
	})
	for _, e := range entries {
		if e.Kind == tree.Folder {
			paths = append(paths, filepath.Join(path, e.Base()))
		}
	}
	return paths
}
