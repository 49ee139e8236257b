//go:build !linux

package tree

import "errors"

// SpaceOf is not told on this system.
func SpaceOf(string) (Space, error) { return Space{}, errors.New("this system does not tell") }
