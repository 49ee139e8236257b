// Package tree walks a file tree and says of each entry what it is, without following links and without opening
// anything but folders.
//
// It knows no roles and no rules. It imports nothing of this program.
package tree

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"unicode/utf8"

	"github.com/charlievieth/fastwalk"
)

// The kinds of entry.
const (
	File   = "file"
	Folder = "folder"
	Link   = "link"
	Other  = "other" // a device, socket or pipe
)

// An Entry is one thing in the tree.
type Entry struct {
	Path string // below the root, with slashes; "." for the root itself
	Kind string
	Mode uint32 // permission bits with set-user 04000, set-group 02000 and sticky 01000
	// UID and GID are meaningful where HasModes is true.
	UID, GID uint32
	Size     int64 // in bytes, of files
	// Changed is when what it holds was last changed, Touched when anything about it was; in seconds since 1970, 0 where the
	// system does not keep it.
	Changed, Touched int64
	Device           uint64 // that it lies on
}

// A Mount is what a file system was mounted with that takes something from everybody.
type Mount struct {
	ReadOnly bool // nothing is written
	NoRun    bool // nothing is run
	NoSetID  bool // set-user and set-group bits mean nothing
}

// HasACL tells whether an entry has an access control list of its own.
func HasACL(name string) bool { return AccessList(name) != nil }

// Aside is the folder at the top of a tree in which this program keeps what it has moved out of the way, for undo. It is no
// part of the site, and is not visited.
const Aside = ".weltaxis-aside"

// Walk visits every entry below root, from several goroutines at once and in no particular order. What cannot be
// looked at goes to failed, and the walk goes on. The error is that of a root that cannot be read, or the
// context's.
func Walk(ctx context.Context, root string, visit func(Entry), failed func(path string, err error)) error {
	skip := len(root) + 1
	if strings.HasSuffix(root, "/") {
		skip--
	}
	home := uint64(0)
	if stat, err := os.Stat(root); err == nil {
		home = deviceOf(stat)
	}
	config := fastwalk.Config{Follow: false, ToSlash: true}
	return fastwalk.Walk(&config, root, func(path string, d fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		rel := "."
		if len(path) > skip {
			rel = path[skip:]
		}
		if rel == Aside && err == nil && d.IsDir() {
			return fs.SkipDir
		}
		if err != nil {
			if rel == "." {
				return err
			}
			failed(rel, err)
			return nil
		}
		info, err := d.Info()
		if err != nil {
			failed(rel, err)
			return nil
		}
		if rel != "." && info.IsDir() && deviceOf(info) != home {
			if err := foreign(path); err != nil {
				failed(rel, err)
				return fs.SkipDir
			}
		}
		visit(EntryOf(rel, info))
		return nil
	})
}

// EntryOf is an entry of which the system has told.
func EntryOf(path string, info fs.FileInfo) Entry {
	uid, gid := owner(info)
	return Entry{Path: path, Kind: kindOf(info.Mode()), Mode: modeOf(info.Mode()), UID: uid, GID: gid, Size: info.Size(), Changed: info.ModTime().Unix(), Touched: touched(info), Device: deviceOf(info)}
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

func modeOf(mode fs.FileMode) uint32 {
	bits := uint32(mode.Perm())
	for _, special := range []struct {
		flag fs.FileMode
		bit  uint32
	}{{fs.ModeSetuid, 0o4000}, {fs.ModeSetgid, 0o2000}, {fs.ModeSticky, 0o1000}} {
		if mode&special.flag != 0 {
			bits |= special.bit
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
