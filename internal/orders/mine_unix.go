//go:build unix

package orders

import (
	"os"
	"syscall"

	"weltaxis/internal/identity"
)

// Mine tells whether a file or folder belongs to whoever started this program.
func Mine(info os.FileInfo) bool {
	stat, is := info.Sys().(*syscall.Stat_t)
	return is && int(stat.Uid) == identity.Caller()
}

// An ID is what a file or folder is, whatever it is called, and whose: the same after it was moved.
type ID struct {
	Device uint64 `json:"device"`
	Inode  uint64 `json:"inode"`
	Owner  uint32 `json:"owner"`
}

// IDOf is that of a file or folder.
func IDOf(info os.FileInfo) ID {
	stat, is := info.Sys().(*syscall.Stat_t)
	if !is {
		return ID{}
	}
	return ID{uint64(stat.Dev), stat.Ino, stat.Uid}
}
