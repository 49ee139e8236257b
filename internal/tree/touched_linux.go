package tree

import (
	"io/fs"
	"syscall"
)

// touched is when anything about an entry was last changed (stat(2), st_ctime).
func touched(info fs.FileInfo) int64 {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return stat.Ctim.Sec
	}
	return 0
}
