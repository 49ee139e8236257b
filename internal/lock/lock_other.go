//go:build !unix

// Package lock takes a file for oneself while others who ask for it wait or go away. It imports nothing of this program.
package lock

import "os"

// Try has nothing to lock with here; nothing is written on such systems.
func Try(*os.File) error { return nil }

// Wait has nothing to lock with here.
func Wait(*os.File) error { return nil }

// Free has nothing to let go of here.
func Free(*os.File) error { return nil }
