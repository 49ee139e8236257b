package tree

import "io/fs"

// HasModes tells whether permission bits and owners mean anything on this system.
const HasModes = false

func owner(fs.FileInfo) (uid, gid uint32) { return 0, 0 }
