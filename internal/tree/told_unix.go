//go:build unix && !linux

package tree

import (
	"io/fs"
	"syscall"
)

// HasModes tells whether permission bits and owners mean anything on this system.
const HasModes = true

// told adds what Unix tells of an entry (stat(2)).
func (e *Entry) told(info fs.FileInfo) {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		e.UID, e.GID, e.Device, e.Names = stat.Uid, stat.Gid, uint64(stat.Dev), uint64(stat.Nlink)
	}
}
