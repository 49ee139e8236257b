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
