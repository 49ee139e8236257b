//go:build !unix

package fix

import "os"

// lockFile has nothing to lock with here; nothing is written on such systems.
func lockFile(*os.File) error { return nil }
