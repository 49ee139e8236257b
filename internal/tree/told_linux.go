package tree

import (
	"io/fs"
	"syscall"
)

// HasModes tells whether permission bits and owners mean anything on this system.
const HasModes = true

// told adds what Linux tells of an entry (stat(2)).
func (e *Entry) told(info fs.FileInfo) {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		e.UID, e.GID, e.Device, e.Touched, e.Names, e.Inode = stat.Uid, stat.Gid, uint64(stat.Dev), stat.Ctim.Sec, uint64(stat.Nlink), stat.Ino
	}
}

// deviceOf is the device that an entry lies on.
func deviceOf(info fs.FileInfo) uint64 { return EntryOf("", info).Device }
