//go:build !linux

package tree

import "io/fs"

// touched is not looked up here.
func touched(fs.FileInfo) int64 { return 0 }
