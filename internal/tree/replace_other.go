//go:build !unix

package tree

import (
	"errors"
	"os"
)

var errUnix = errors.New("files are changed on Unix only")

// Replace needs what only Unix has: a rename in one step that keeps mode and owner.
func (f *folder) Replace(string, []byte, []byte, func(string)) error { return errUnix }

func rename(*os.Root, string, *os.Root, string) error { return errUnix }

// Create is for Unix too.
func (f *folder) Create(string, []byte, uint32, func(string)) error { return errUnix }
