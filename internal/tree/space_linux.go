package tree

import "golang.org/x/sys/unix"

// SpaceOf is the room on the disk that a folder lies on, as whoever owns the site may use it (statfs(2)).
func SpaceOf(folder string) (Space, error) {
	var stat unix.Statfs_t
	if err := unix.Statfs(folder, &stat); err != nil {
		return Space{}, err
	}
	block := uint64(stat.Frsize)
	if block == 0 {
		block = uint64(stat.Bsize)
	}
	return Space{Left: stat.Bavail * block, All: (stat.Blocks - stat.Bfree + stat.Bavail) * block, EntriesLeft: stat.Ffree, Entries: stat.Files}, nil
}
