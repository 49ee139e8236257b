//go:build unix

package tree

import (
	"io"
	"io/fs"
	"os"
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

// deviceOf is the device that an entry lies on.
func deviceOf(info fs.FileInfo) uint64 {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(stat.Dev)
	}
	return 0
}

// Head gives the first bytes of an ordinary file, at most n. Links are not followed, and what would wait is not waited for.
func Head(name string, n int) ([]byte, error) {
	file, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if stat, err := file.Stat(); err != nil || !stat.Mode().IsRegular() && !stat.IsDir() {
		return nil, err // what has no end has no first bytes either
	}
	return io.ReadAll(io.LimitReader(file, int64(n)))
}
