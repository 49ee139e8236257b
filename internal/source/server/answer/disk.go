package answer

import (
	"errors"
	"io/fs"
	"os"

	"weltaxis/internal/ordinary"
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
	Read(path string) ([]byte, error)
}

// OS is the disk of this machine.
type OS struct{}

// Look implements Disk. Links are followed.
func (OS) Look(path string) Entry {
	stat, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrPermission):
		return Entry{Is: Unseen, Why: "this user may not look at " + path}
	case err != nil:
		return Entry{}
	case stat.IsDir():
		return Entry{Is: AFolder, Run: true}
	case !stat.Mode().IsRegular():
		return Entry{Is: Unseen, Why: path + " is no ordinary file"}
	}
	return Entry{Is: AFile, Size: stat.Size(), Run: stat.Mode()&0o111 != 0}
}

// maxRead is the largest file that is read: one that tells a server what to do in a folder.
const maxRead = 1 << 20

// Read implements Disk.
func (OS) Read(path string) ([]byte, error) { return ordinary.Read(path, maxRead) }
