// Package orders tells whether something may give this program orders: a site file, a dialect, a baseline, what is kept of earlier runs, a
// program that is to be started. It may if root or the user who runs this program owns it and each folder above it, and if nobody else may
// write to any of them, the rule by which sshd(8) takes its own files (StrictModes). A folder of root's in which everybody makes files and
// nobody takes away another's (/tmp) is no harm.
//
// Names are followed here part by part, each by way of the one before it, which is open and held against the rule already. So whoever could
// exchange a part afterwards is somebody who may give orders: what is found may then be opened by its name.
//
// It looks as whoever started this program, whomever that acts as (package identity). It says nothing of what files hold. It may import
// access, identity and ordinary.
package orders

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"weltaxis/internal/access"
	"weltaxis/internal/identity"
	"weltaxis/internal/ordinary"
)

// A Trust is who may give orders besides root.
type Trust struct{ uid int }

// Own is the trust in whoever runs this program.
func Own() Trust { return Trust{identity.Caller()} }

// In is the trust in a user by number.
func In(uid int) Trust { return Trust{uid} }

// A Fault is why something gives no orders.
type Fault struct {
	At    string // the file or folder that is at fault, links resolved
	Says  string // what is wrong with it
	Do    string // what puts it right; "" where that is for a person to know
	Owner int    // whom it belongs to, where that is what is wrong; -1 else
	file  bool   // it is the file itself, and no folder above it
	trust Trust
}

func (f *Fault) Error() string {
	text := fmt.Sprintf("%s %s, and what gives orders may be changed by %s alone, like each folder above it", f.At, f.Says, f.trust)
	if f.Do != "" {
		text += "; " + f.Do
	}
	return text
}

// String is who is trusted, in words.
func (t Trust) String() string {
	if t.uid == 0 {
		return "root"
	}
	return "root and " + identity.Name(t.uid)
}

// has tells whether a user is one of them.
func (t Trust) has(uid uint32) bool { return uid == 0 || int(uid) == t.uid }

// An entry is what is known of a file or folder that is open.
type entry struct {
	name     string // in full
	mode     fs.FileMode
	uid, gid uint32
	names    uint64 // under how many names it lies
	list     access.List
	unlisted error // that the list of access cannot be read
}

// fault holds an entry against the rule; nil for none. Above tells that it is only passed through, on the way to another.
func (t Trust) fault(e entry, above bool) *Fault {
	wrong := func(says, do string) *Fault {
		return &Fault{At: e.name, Says: says, Do: do, Owner: -1, trust: t}
	}
	sticky := above && e.uid == 0 && e.mode.IsDir() && e.mode&fs.ModeSticky != 0
	switch {
	case !t.has(e.uid):
		f := wrong("belongs to "+identity.Name(int(e.uid)), "")
		f.Owner = int(e.uid)
		return f
	case e.mode&fs.ModeSymlink != 0, sticky: // who may exchange a link its folder says
		return nil
	case e.mode.Perm()&0o002 != 0:
		return wrong("may be written to by everybody", "chmod o-w "+e.name)
	case e.mode.Perm()&0o020 == 0: // of a list of access the group's bits are what it leaves at most (acl(5))
		return nil
	case e.unlisted != nil:
		return wrong("has a list of access that cannot be read", "")
	}
	users, groups := e.list.Named(access.Write)
	for _, uid := range users {
		if !t.has(uid) {
			return wrong("may be written to by "+identity.Name(int(uid))+", as its list of access says", fmt.Sprintf("setfacl -x u:%d %s", uid, e.name))
		}
	}
	if (access.Entry{Mode: uint32(e.mode.Perm()), List: e.list}).Group()&access.Write != 0 {
		groups = append(groups, e.gid)
	}
	for _, gid := range groups {
		if others := t.others(gid); others != "" {
			return wrong("may be written to by the group "+identity.Accounts().Group(gid)+", in which "+others, "chmod g-w "+e.name)
		}
	}
	return nil
}

// others says who is in a group that may give no orders; "" for nobody.
func (t Trust) others(gid uint32) string {
	in, known := identity.Accounts().In(gid)
	if !known || identity.GroupsElsewhere() {
		return "nobody here knows who is"
	}
	var names []string
	for _, a := range in {
		if !t.has(a.UID) {
			names = append(names, a.Name)
		}
	}
	switch len(names) {
	case 0:
		return ""
	case 1:
		return names[0] + " is"
	}
	if len(names) > 3 {
		names = append(names[:3], "others")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1] + " are"
}

// Open opens an ordinary file that may give orders. Links are followed, each held against the rule. The error is a *Fault, one of
// package ordinary, or that of the system.
func (t Trust) Open(name string) (file *os.File, err error) {
	err = identity.AsCaller(func() error {
		found, err := t.find(name, everyLink)
		if err == nil {
			file, err = found.open(t)
		}
		return err
	})
	return file, err
}

// Read is all of such a file, of at most so many bytes.
func (t Trust) Read(name string, most int64) ([]byte, error) {
	file, err := t.Open(name)
	if err != nil {
		return nil, err
	}
	return ordinary.All(file, most)
}

// Read is that by the trust in whoever runs this program.
func Read(name string, most int64) ([]byte, error) { return Own().Read(name, most) }

// ReadNamed is all of a file that those name who give orders, of at most so many bytes. Where every folder above it holds, or it is nobody's in particular that does not, it is read as
// whoever started this program, and else, by root, as the one to whom the first folder belongs that does not hold. Links of others are not followed.
func ReadNamed(name string, most int64) (data []byte, err error) {
	defer func() {
		if lies := (*fs.PathError)(nil); errors.As(err, &lies) { // by the name that was given
			err = &fs.PathError{Op: lies.Op, Path: name, Err: lies.Err}
		}
	}()
	data, err = Own().Read(name, most)
	var fault *Fault
	switch {
	case !errors.As(err, &fault):
		return data, err
	case identity.Caller() == 0 && fault.Owner > 0 && !fault.file: // in the folder of another
		err = identity.As(fault.Owner, func() (err error) {
			data, err = In(fault.Owner).readAnyhow(name, most)
			return err
		})
	default:
		err = identity.AsCaller(func() (err error) {
			data, err = Own().readAnyhow(name, most)
			return err
		})
	}
	return data, err
}

// readAnyhow is all of a file, whoever may change it.
func (t Trust) readAnyhow(name string, most int64) ([]byte, error) {
	found, err := t.find(name, linksAlone)
	if err != nil {
		return nil, err
	}
	file, err := found.openAnyhow(t)
	if err != nil {
		return nil, err
	}
	return ordinary.All(file, most)
}

// ErrFolder says that what is to be written is a folder.
var ErrFolder = errors.New("it is a folder; name a file in it")

// ForNaming looks at what a file names that gives orders itself: as whoever is asked to, where that file holds or is none, and else with the rights of the
// one whose orders it gives, where that is one. Others is told what does not hold.
func ForNaming(by string, own func() error, others func(wrong *Fault) error) error {
	if by == "" {
		return own()
	}
	var fault *Fault
	if _, err := Own().Check(by); !errors.As(err, &fault) {
		return own()
	}
	do := func() error { return others(fault) }
	if _, acting := identity.Acting(); !acting && identity.Caller() == 0 && fault.Owner > 0 {
		return identity.As(fault.Owner, do)
	}
	return do()
}

// ReadFolder is what lies in a folder that those name who give orders, sorted, likewise.
func ReadFolder(name string) (entries []os.DirEntry, err error) {
	read := func() (err error) {
		entries, err = os.ReadDir(name)
		return err
	}
	var fault *Fault
	switch _, acting := identity.Acting(); {
	case identity.Caller() != 0:
		err = read()
		return entries, err
	case acting:
		if err = read(); !errors.Is(err, fs.ErrPermission) {
			return entries, err
		}
		if _, wrong := Own().Check(name); wrong == nil {
			err = identity.AsCaller(read)
		}
		return entries, err
	}
	if _, wrong := Own().Check(name); errors.As(wrong, &fault) && fault.Owner > 0 && !fault.file {
		err = identity.As(fault.Owner, read)
		return entries, err
	}
	err = read()
	return entries, err
}

// AsOwner does something with a file or a folder of a server's or a runtime's own, by its name without links: as whoever started this program where every
// folder above it holds, whether it is there yet or not, and else as whom it acts as, or, by root, as the one to whom the first folder belongs that does
// not hold. The error is a *Fault where several could exchange a folder on the way.
func AsOwner(name string, do func() error) error {
	if identity.Caller() != 0 {
		return do()
	}
	_, err := Own().Check(name)
	if errors.Is(err, fs.ErrNotExist) {
		_, err = Own().Check(filepath.Dir(name))
	}
	var fault *Fault
	switch _, acting := identity.Acting(); {
	case err == nil:
		return identity.AsCaller(do)
	case acting || !errors.As(err, &fault):
		return do()
	case fault.file || fault.Owner <= 0 && fault.At == filepath.Dir(name): // what lies in the folder is compared before it is replaced
		return do()
	case fault.Owner > 0:
		return identity.As(fault.Owner, do)
	}
	return fault
}

// Led is an error for a name that others could have lead, or have led, to what only root and the user may change: what is put there would be
// put there for them. Real is the name without links.
func Led(name, real string) error {
	var fault *Fault
	if _, wrong := Own().Check(name); !errors.As(wrong, &fault) {
		return nil
	}
	_, err := Own().Check(real)
	if errors.Is(err, fs.ErrNotExist) {
		_, err = Own().Check(filepath.Dir(real))
	}
	if err != nil {
		return nil
	}
	return fmt.Errorf("%s leads to %s, and others made it do so (%s %s)", name, real, fault.At, fault.Says)
}

// Check holds a file or a folder against the rule. It gives its name with links resolved, by which it may then be opened.
func (t Trust) Check(name string) (resolved string, err error) {
	err = identity.AsCaller(func() error {
		found, err := t.find(name, everyLink)
		if err != nil {
			return err
		}
		defer found.close()
		resolved = found.name
		return found.check(t)
	})
	if err != nil {
		return "", err
	}
	return resolved, nil
}

// Holder is whose a folder is that has a tree in it, of another than root where anybody else could exchange it: then the owner of the first
// folder on the way that is not root's. The error is a *Fault where a third could.
func Holder(name string) (uid int, err error) {
	err = identity.AsCaller(func() error {
		var fault *Fault
		found, err := In(0).find(name, everyLinkToAFolder)
		if errors.As(err, &fault) && fault.Owner > 0 {
			uid = fault.Owner
			found, err = In(uid).find(name, everyLinkToAFolder)
		}
		if err == nil {
			found.close()
		}
		return err
	})
	return uid, err
}

// TempDir is the folder for what is needed for a moment: that of the environment where it may be passed through, or else the system's.
func TempDir() string {
	dir := os.TempDir()
	if err := identity.AsCaller(func() error {
		f, err := Own().find(filepath.Join(dir, "weltaxis-none"), everyLink)
		if err == nil {
			f.close()
		}
		return err
	}); err != nil && !os.IsNotExist(err) {
		return "/tmp"
	}
	return dir
}

// Kept is the folder below another in which this program keeps something, both held against the rule; nothing below the other is a link.
// The other is one that somebody named, or that was found by the environment: then it is no link itself. A folder that is not there yet
// has a name all the same.
func (t Trust) Kept(base string, found bool, below ...string) (dir string, err error) {
	err = identity.AsCaller(func() error {
		dir, err = t.kept(base, found, below)
		return err
	})
	return dir, err
}

func (t Trust) kept(base string, found bool, below []string) (string, error) {
	links := everyLink
	if found {
		links = linksAbove
	}
	at, err := t.find(base, links)
	if err != nil {
		if missing, is := t.nearest(base, links, err); is {
			return filepath.Join(append([]string{missing}, below...)...), nil
		}
		return "", err
	}
	at.close()
	name := at.name
	for i, part := range below {
		name = filepath.Join(name, part)
		stat, err := os.Lstat(name)
		if err != nil && os.IsNotExist(err) {
			return filepath.Join(append([]string{name}, below[i+1:]...)...), nil
		}
		if err == nil {
			err = t.lies(name, stat)
		}
		if err != nil {
			return "", err
		}
	}
	return name, nil
}

// maxKept is how many entries of a folder of what is kept are looked at.
const maxKept = 100_000

// Within holds all that lies in a folder that held against the rule, and nothing of it is a link; one that is not there holds.
func (t Trust) Within(name string) error {
	return identity.AsCaller(func() error { return t.walk(name, true) })
}

// Beside is that of the files alone that lie in the folder itself.
func (t Trust) Beside(name string) error {
	return identity.AsCaller(func() error { return t.walk(name, false) })
}

func (t Trust) walk(name string, deep bool) error {
	count := 0
	return filepath.WalkDir(name, func(path string, d fs.DirEntry, err error) error {
		if os.IsNotExist(err) {
			return nil
		}
		if err != nil {
			return err
		}
		if count++; count > maxKept {
			return fmt.Errorf("%s holds more than %d files, which this program never makes", name, maxKept)
		}
		stat, err := d.Info()
		if os.IsNotExist(err) {
			return nil // another run of ours has thrown it away
		}
		if err == nil {
			err = t.lies(path, stat)
		}
		if err == nil && !deep && d.IsDir() && path != name {
			return fs.SkipDir
		}
		return err
	})
}

// lies holds one entry against the rule that lies in a folder that held.
func (t Trust) lies(name string, stat fs.FileInfo) error {
	if stat.Mode()&fs.ModeSymlink != 0 {
		return &Fault{At: name, Says: "is a link, which this program never makes there", Do: "look where it leads, and remove it", Owner: -1, trust: t}
	}
	if f := t.fault(entryAt(name, stat), false); f != nil {
		return f
	}
	return nil
}

// nearest is a name below the nearest folder that is there, where that holds and the rest is not there.
func (t Trust) nearest(name string, links linkRule, err error) (string, bool) {
	if !os.IsNotExist(err) {
		return "", false
	}
	absolute, err := filepath.Abs(name)
	if err != nil {
		return "", false
	}
	dir := filepath.Dir(absolute)
	if dir == absolute {
		return "", false
	}
	if links == linksAbove { // it is above now
		links = rootsLinks
	}
	at, err := t.find(dir, links)
	if err != nil {
		above, is := t.nearest(dir, links, err)
		return filepath.Join(above, filepath.Base(absolute)), is
	}
	at.close()
	return filepath.Join(at.name, filepath.Base(absolute)), true
}
