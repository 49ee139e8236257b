package files

import (
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"weltaxis/internal/access"
	"weltaxis/internal/dialect"
	"weltaxis/internal/identity"
	"weltaxis/internal/tree"
)

// A who is what is known of who may do what with an entry. Two entries of a class have the same.
type who struct {
	web     string // what the web server may do, as rw-; "" when nobody knows whom it runs as
	readers string // who may read besides the owner, the superuser and the web server, joined by commas
	writers string
	unsure  string // the group of which nobody knows who is in it, when that decides something
}

// everybody stands among readers and writers for all who have an account.
const everybody = "everybody"

// maxNamed is how many accounts of a group are named; of more their number is said.
const maxNamed = 3

// An asking works out who may do what. It remembers the folders, which decide for everything below them.
type asking struct {
	files    tree.Files
	accounts *access.Accounts
	web      *access.Account // nil when nobody knows

	mu      sync.Mutex
	folders map[string]access.Entry
	reached map[reach]bool
	mounts  map[uint64]tree.Mount
	told    map[asked]who
	above   []access.Entry // the folders above the root, where the site is known to lie in its own place
}

type reach struct {
	folder string
	uid    uint32
	gid    uint32 // of somebody of whom only a group is known
}

type asked struct {
	mode, uid, gid uint32
	list, folder   string
	device         uint64
	isFolder       bool
	fixed          bool // by a mark
}

// strangers have no name, and are in no group; those of a group are in it alone. Nobody has such a number (POSIX.1-2024, chown: -1
// means no change).
const strangers = ^uint32(0)

// newAsking asks by the accounts of this machine. The site may have been copied here: then most of its numbers have no names.
func newAsking(in tree.Files) *asking {
	return &asking{files: in, accounts: identity.Accounts(), folders: map[string]access.Entry{}, reached: map[reach]bool{}, mounts: map[uint64]tree.Mount{}, told: map[asked]who{}}
}

// mounted is how the device of an entry is mounted.
func (a *asking) mounted(e tree.Entry) tree.Mount {
	a.mu.Lock()
	mount, known := a.mounts[e.Device]
	a.mu.Unlock()
	if !known {
		mount = a.files.Mount(e.Path)
		a.mu.Lock()
		a.mounts[e.Device] = mount
		a.mu.Unlock()
	}
	return mount
}

// entry is what decides about an entry. A list is asked for only where it may say more than the mode: where the group bits, which
// are then its mask, leave something.
func (a *asking) entry(e tree.Entry, fixed bool) (entry access.Entry, raw string) {
	mount := a.mounted(e)
	entry = access.Entry{Mode: e.Mode, UID: e.UID, GID: e.GID, Folder: e.Kind == tree.Folder, ReadOnly: mount.ReadOnly || fixed, NoRun: mount.NoRun}
	if e.Kind != tree.Link && e.Mode&0o070 != 0 {
		bytes := a.files.AccessList(e.Path)
		if list, err := access.ParseList(bytes); err == nil {
			entry.List, raw = list, string(bytes)
		}
	}
	return entry, raw
}

// folder is what decides about a folder of the tree, by its path.
func (a *asking) folder(dir string) access.Entry {
	a.mu.Lock()
	entry, known := a.folders[dir]
	a.mu.Unlock()
	if known {
		return entry
	}
	if e, err := a.files.Stat(dir); err == nil {
		entry, _ = a.entry(e, false)
	}
	a.mu.Lock()
	a.folders[strings.Clone(dir)] = entry
	a.mu.Unlock()
	return entry
}

// gets tells whether an account gets through a folder and all above it: up to the root, since the site may have been copied to where it is
// looked at, or where it is known to lie in its own place, all the way.
func (a *asking) gets(dir string, account access.Account) bool {
	at := reach{folder: dir, uid: account.UID}
	if account.UID == strangers && len(account.Groups) > 0 {
		at.gid = account.Groups[0] + 1
	}
	a.mu.Lock()
	open, known := a.reached[at]
	a.mu.Unlock()
	if known {
		return open
	}
	open = a.folder(dir).Of(account)&access.Run != 0 && (dir != "." || a.enters(account)) && (dir == "." || a.gets(path.Dir(dir), account))
	at.folder = strings.Clone(dir)
	a.mu.Lock()
	a.reached[at] = open
	a.mu.Unlock()
	return open
}

// enters tells whether an account gets to the root.
func (a *asking) enters(account access.Account) bool {
	return !slices.ContainsFunc(a.above, func(e access.Entry) bool { return e.Of(account)&access.Run == 0 })
}

// inPlace takes the folders above the root into account, as far as they can be looked at.
func (a *asking) inPlace(root string) {
	full, err := filepath.Abs(root)
	if err != nil {
		return
	}
	real, err := tree.Machine().Real(tree.Full(full))
	if err != nil {
		return
	}
	for dir := path.Dir(real); ; dir = path.Dir(dir) {
		if e, err := tree.Machine().Stat(dir); err == nil {
			entry := access.Entry{Mode: e.Mode, UID: e.UID, GID: e.GID, Folder: true}
			if e.Mode&0o070 != 0 {
				entry.List, _ = access.ParseList(tree.Machine().AccessList(dir))
			}
			a.above = append(a.above, entry)
		}
		if dir == "." || dir == "/" {
			return
		}
	}
}

// heirs is what a default list of access gives others of what is made in a folder, and that list in words.
func (a *asking) heirs(e tree.Entry, marks tree.Marks) (writers, text string) {
	list, err := access.ParseList(marks.Default)
	if err != nil || len(list) == 0 {
		return "", ""
	}
	text = list.Text(func(id uint32) string { return a.accounts.Of(id).Name }, a.accounts.Group)
	if list.Others()&access.Write != 0 {
		return everybody, text + ",other::" + list.Others().String()
	}
	var names []string
	users, groups := list.Named(access.Write)
	for _, uid := range users {
		if uid != 0 && uid != e.UID && (a.web == nil || uid != a.web.UID) {
			names = append(names, a.accounts.Of(uid).Name)
		}
	}
	for _, gid := range groups {
		in, _ := a.accounts.In(gid)
		if others := slices.DeleteFunc(slices.Clone(in), func(m access.Account) bool { return m.UID == 0 || m.UID == e.UID || a.web != nil && m.UID == a.web.UID }); len(others) > 0 || len(in) == 0 {
			names = append(names, "the group "+a.accounts.Group(gid))
		}
	}
	return strings.Join(names, ", "), text
}

// may is what an account may do with an entry.
func (a *asking) may(e tree.Entry, entry access.Entry, account access.Account) access.Rights {
	if e.Path != "." && !a.gets(path.Dir(e.Path), account) {
		return 0
	}
	return entry.Of(account)
}

// of works out who may do what with an entry, and its list in words.
func (a *asking) of(e tree.Entry, fixed bool) (who, string) {
	entry, raw := a.entry(e, fixed)
	question := asked{e.Mode, e.UID, e.GID, raw, path.Dir(e.Path), e.Device, entry.Folder, fixed}
	a.mu.Lock()
	known, told := a.told[question]
	a.mu.Unlock()
	if !told {
		known = a.workOut(e, entry)
		question.folder = strings.Clone(question.folder)
		a.mu.Lock()
		a.told[question] = known
		a.mu.Unlock()
	}
	if raw == "" {
		return known, ""
	}
	return known, entry.List.Text(func(id uint32) string { return a.accounts.Of(id).Name }, a.accounts.Group)
}

func (a *asking) workOut(e tree.Entry, entry access.Entry) who {
	var known who
	if a.web != nil {
		known.web = a.may(e, entry, *a.web).String()
	}
	var unsure []string
	list := func(right access.Rights) string {
		if a.may(e, entry, access.Account{UID: strangers})&right != 0 {
			return everybody
		}
		var names []string
		add := func(account access.Account) {
			switch {
			case account.UID == 0, account.UID == e.UID, a.web != nil && account.UID == a.web.UID:
			case a.may(e, entry, account)&right != 0 && !slices.Contains(names, account.Name):
				names = append(names, account.Name)
			}
		}
		users, groups := entry.List.Named(right)
		for _, uid := range users {
			add(a.accounts.Of(uid))
		}
		if entry.Group()&right != 0 {
			groups = append(groups, e.GID)
		}
		for _, gid := range groups {
			in, there := a.accounts.In(gid)
			switch before := len(names); {
			case !there && a.may(e, entry, access.Account{UID: strangers, Groups: []uint32{gid}})&right != 0:
				unsure = append(unsure, a.accounts.Group(gid))
			case len(in) > maxAsked:
				if a.may(e, entry, access.Account{UID: strangers, Groups: []uint32{gid}})&right != 0 {
					names = append(names, fmt.Sprintf("%d accounts of the group %s", len(in), a.accounts.Group(gid)))
				}
			default:
				for _, account := range in {
					add(account)
				}
				if more := len(names) - before; more > maxNamed {
					names = append(names[:before], fmt.Sprintf("%d accounts of the group %s", more, a.accounts.Group(gid)))
				}
			}
		}
		return strings.Join(names, ", ")
	}
	known.readers, known.writers = list(access.Read), list(access.Write)
	slices.Sort(unsure)
	known.unsure = strings.Join(slices.Compact(unsure), ", ")
	return known
}

// maxAsked is up to how many accounts of a group each is asked for.
const maxAsked = 50

// matters tells whether it is worked out for every entry who may do what with it, and not only for the first of a class: where a rule
// asks for it.
func matters(e tree.Entry, role string) bool {
	switch {
	case e.Kind == tree.Link:
		return false
	case Secret(role), role == dialect.Override, e.Mode&0o6022 != 0:
		return true
	}
	return e.Kind == tree.Folder && isWritten(role)
}

// isWritten tells whether the web server writes what plays a role.
func isWritten(role string) bool {
	return role == dialect.Uploads || role == dialect.Cache || role == dialect.Temporary
}

// maxMade is how many entries are looked at to tell whom the web server runs as.
const maxMade = 2000

// runsAs finds whom the web server runs as: as it was said, or else by whom everything belongs to that it made, its cache before the
// uploads, which people may have put there by other ways.
func (c *counting) runsAs() (account access.Account, inferred, known bool) {
	if c.said != "" {
		account, known = c.asking.accounts.Named(c.said)
		return account, false, known
	}
	uid, known := c.maker()
	return c.asking.accounts.Of(uid), true, known
}

// maker is the one to whom everything belongs that was made where the web server writes.
func (c *counting) maker() (uid uint32, known bool) {
	for _, role := range []string{dialect.Cache, dialect.Uploads} {
		owners := map[uint32]bool{}
		left := maxMade
		for _, name := range append(c.matcher.Folders(role), c.matcher.Usual(role)...) {
			for _, folder := range []string{name, path.Join(c.public, name)} {
				_ = tree.Visit(c.files, folder, func(e tree.Entry, err error) error {
					if left--; err != nil || left < 0 {
						return fs.SkipAll
					}
					if e.Kind == tree.File {
						owners[e.UID] = true
					}
					return nil
				})
			}
		}
		if len(owners) == 1 {
			for uid := range owners {
				return uid, true
			}
		}
	}
	return 0, false
}

// Alongside has what the owner of the tree may not open be opened as whom its web server runs as, said or shown, where root has this program
// act as the owner.
func (s *Source) Alongside() {
	if _, acting := identity.Acting(); !acting {
		return
	}
	if account, known := identity.Accounts().Named(s.WebUser); known {
		identity.Alongside(int(account.UID))
	} else if uid, err := strconv.Atoi(s.WebUser); err == nil {
		identity.Alongside(uid)
	}
	in, err := tree.Open(s.Root)
	if err != nil {
		return // looking at it says what is wrong
	}
	defer in.Close()
	if uid, known := s.counting(in).maker(); known {
		identity.Alongside(int(uid))
	}
}
