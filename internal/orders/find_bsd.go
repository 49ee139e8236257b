//go:build unix && !linux

package orders

import "golang.org/x/sys/unix"

// folderFlags open a folder so that what lies in it can be looked up.
const folderFlags = unix.O_RDONLY | unix.O_DIRECTORY | unix.O_CLOEXEC

// looked is what is known of an entry of a folder.
func looked(folder int, name, full string) (entry, error) {
	var stat unix.Stat_t
	if err := unix.Fstatat(folder, name, &stat, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return entry{}, err
	}
	return entry{name: full, mode: modeOf(uint32(stat.Mode)), uid: stat.Uid, gid: stat.Gid, names: uint64(stat.Nlink)}, nil
}

// attribute is nil: lists of access are not looked at on this system.
func attribute(string) ([]byte, error) { return nil, nil }
