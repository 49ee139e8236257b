package fix

import (
	"fmt"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// mayWrite tells whether this user may make files in a folder.
func mayWrite(folder string) error { return unix.Access(folder, unix.W_OK) }

// othersWrite says which of some files somebody else may write: a configuration may load what runs as whoever tests it.
func othersWrite(files []string) string {
	for _, name := range files {
		stat, err := os.Stat(name)
		if err != nil {
			continue
		}
		owner, known := stat.Sys().(*syscall.Stat_t)
		switch {
		case known && int(owner.Uid) != os.Getuid() && owner.Uid != 0:
			return fmt.Sprintf("%s belongs to somebody else, and what it names would be loaded for the test", name)
		case stat.Mode().Perm()&0o002 != 0:
			return fmt.Sprintf("everybody may write to %s, and what it names would be loaded for the test", name)
		}
	}
	return ""
}
