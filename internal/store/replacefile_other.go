//go:build !unix

package store

import (
	"errors"
	"os"
)

// ReplaceFile needs what only Unix has: a rename in one step that keeps mode and owner.
func ReplaceFile(*os.Root, string, []byte, []byte, func(string)) error {
	return errors.New("files are changed on Unix only")
}

// CreateFile is for Unix too.
func CreateFile(*os.Root, string, []byte, func(string)) error {
	return errors.New("files are changed on Unix only")
}
