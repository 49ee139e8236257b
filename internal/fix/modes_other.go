//go:build !linux

package fix

import "errors"

// chmod needs descriptors that name a file without opening it, which Linux has.
func chmod(string, modeEdit, uint32, uint32) error {
	return errors.New("permissions are changed on Linux only; --script prints them")
}

func mode(string, modeEdit) (uint32, bool) { return 0, false }
