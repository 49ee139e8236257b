//go:build unix

package tree

import (
	"io/fs"
	"syscall"
)

// HasModes tells whether permission bits and owners mean anything on this system.
const HasModes = true

func owner(info fs.FileInfo) (uid, gid uint32) {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return stat.Uid, stat.Gid
	}
	return 0, 0
}
