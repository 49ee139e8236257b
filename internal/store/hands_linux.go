package store

import (
	"io/fs"
	"os"
)

// handsOn counts the descriptors of this process that are of an open file (proc(5), /proc/pid/fd).
func handsOn(file fs.File) (hands int, known bool) {
	is, err := file.Stat()
	if err != nil {
		return 0, false
	}
	const own = "/proc/self/fd/"
	all, err := os.ReadDir(own)
	if err != nil {
		return 0, false
	}
	for _, fd := range all {
		if other, err := os.Stat(own + fd.Name()); err == nil && os.SameFile(is, other) {
			hands++
		}
	}
	return hands, true
}
