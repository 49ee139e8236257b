// Package access works out who may do what with an entry of a file tree: from permission bits, an access control list, the
// folders above, and how the place is mounted. It asks no file system: what it is told of an entry is all it knows.
//
// It imports nothing of this program.
package access

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Rights are what somebody may do with an entry: the same three bits for each that a mode has (POSIX.1-2024, sys/stat.h).
type Rights uint8

// The three rights. Run means entering, for a folder.
const (
	Run   Rights = 1
	Write Rights = 2
	Read  Rights = 4
)

// String is as ls(1) shows them: rw-.
func (r Rights) String() string {
	letters := []byte("---")
	for i, of := range []struct {
		right  Rights
		letter byte
	}{{Read, 'r'}, {Write, 'w'}, {Run, 'x'}} {
		if r&of.right != 0 {
			letters[i] = of.letter
		}
	}
	return string(letters)
}

// An Account is somebody who asks for access, with all groups that a process of it has.
type Account struct {
	Name   string
	UID    uint32
	Groups []uint32 // the primary one too
	GID    uint32   // the primary one
	Home   string   // "" where nobody said
}

// The tags of an access control list's entries, as Linux stores them (acl(5); linux/posix_acl.h).
const (
	tagUserObject  = 0x01
	tagUser        = 0x02
	tagGroupObject = 0x04
	tagGroup       = 0x08
	tagMask        = 0x10
	tagOther       = 0x20
)

// An Item is one entry of an access control list.
type Item struct {
	Tag    uint16
	Rights Rights
	ID     uint32 // of named users and groups
}

// A List is an access control list. Nil is none: then the mode says all.
type List []Item

// ErrList is of bytes that are no access control list.
var ErrList = errors.New("not an access control list of a kind that is known")

// ParseList reads the attribute system.posix_acl_access as Linux keeps it: version 2, then eight bytes an entry, little
// endian (linux/posix_acl_xattr.h). The error is ErrList.
func ParseList(raw []byte) (List, error) {
	if len(raw) < 4 || binary.LittleEndian.Uint32(raw) != 2 || (len(raw)-4)%8 != 0 {
		return nil, ErrList
	}
	var list List
	for at := 4; at < len(raw); at += 8 {
		item := Item{Tag: binary.LittleEndian.Uint16(raw[at:]), Rights: Rights(binary.LittleEndian.Uint16(raw[at+2:]) & 7), ID: binary.LittleEndian.Uint32(raw[at+4:])}
		if !slices.Contains([]uint16{tagUserObject, tagUser, tagGroupObject, tagGroup, tagMask, tagOther}, item.Tag) {
			return nil, ErrList
		}
		if item.Tag != tagUser && item.Tag != tagGroup {
			item.ID = 0
		}
		list = append(list, item)
	}
	return list, nil
}

// of is the rights of the first entry with a tag.
func (l List) of(tag uint16) (Rights, bool) {
	for _, item := range l {
		if item.Tag == tag {
			return item.Rights, true
		}
	}
	return 0, false
}

// mask is the most that named entries and the owning group may do.
func (l List) mask() Rights {
	if mask, there := l.of(tagMask); there {
		return mask
	}
	return Read | Write | Run
}

// Named are the users and groups that the list names and that the mask leaves something of what is asked.
func (l List) Named(right Rights) (users, groups []uint32) {
	for _, item := range l {
		switch {
		case item.Rights&l.mask()&right == 0:
		case item.Tag == tagUser:
			users = append(users, item.ID)
		case item.Tag == tagGroup:
			groups = append(groups, item.ID)
		}
	}
	return users, groups
}

// Others is what everybody may do by the list; nothing without one.
func (l List) Others() Rights {
	rights, _ := l.of(tagOther)
	return rights
}

// Text is the list as getfacl(1) shows it, in one line, without what the mode says as well; names are looked up by the two functions.
func (l List) Text(user, group func(uint32) string) string {
	var parts []string
	for _, item := range l {
		switch item.Tag {
		case tagUser:
			parts = append(parts, fmt.Sprintf("user:%s:%s", user(item.ID), item.Rights))
		case tagGroup:
			parts = append(parts, fmt.Sprintf("group:%s:%s", group(item.ID), item.Rights))
		case tagGroupObject:
			parts = append(parts, fmt.Sprintf("group::%s", item.Rights))
		case tagMask:
			parts = append(parts, fmt.Sprintf("mask::%s", item.Rights))
		}
	}
	return strings.Join(parts, ",")
}

// An Entry is what decides about access to an entry itself.
type Entry struct {
	Mode     uint32 // permission bits
	UID, GID uint32
	List     List
	Folder   bool
	ReadOnly bool // where it lies nothing can be written
	NoRun    bool // where it lies nothing is run
}

// Group is what the owning group may do: with a list the mode shows the mask in its place (acl(5)).
func (e Entry) Group() Rights {
	if rights, there := e.List.of(tagGroupObject); there {
		return e.mounted(rights & e.List.mask())
	}
	return e.mounted(Rights(e.Mode >> 3 & 7))
}

// Others is what everybody may do who is neither the owner, nor in the group, nor named.
func (e Entry) Others() Rights { return e.mounted(Rights(e.Mode & 7)) }

// Of is what an account may do, if it gets there at all (acl(5), access check algorithm). Nobody keeps the superuser from reading
// and writing; it runs what anybody may run (capabilities(7), CAP_DAC_OVERRIDE).
func (e Entry) Of(a Account) Rights {
	switch {
	case a.UID == 0 && (e.Folder || e.Mode&0o111 != 0):
		return e.mounted(Read | Write | Run)
	case a.UID == 0:
		return e.mounted(Read | Write)
	case a.UID == e.UID:
		return e.mounted(Rights(e.Mode >> 6 & 7))
	}
	mask := e.List.mask()
	for _, item := range e.List {
		if item.Tag == tagUser && item.ID == a.UID {
			return e.mounted(item.Rights & mask)
		}
	}
	rights, member := Rights(0), false
	if slices.Contains(a.Groups, e.GID) {
		rights, member = e.Group(), true
	}
	for _, item := range e.List {
		if item.Tag == tagGroup && slices.Contains(a.Groups, item.ID) {
			rights, member = rights|item.Rights&mask, true
		}
	}
	if member {
		return e.mounted(rights)
	}
	return e.Others()
}

func (e Entry) mounted(rights Rights) Rights {
	if e.ReadOnly {
		rights &^= Write
	}
	if e.NoRun && !e.Folder {
		rights &^= Run
	}
	return rights
}
