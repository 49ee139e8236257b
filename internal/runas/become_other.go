//go:build !linux

package runas

import (
	"fmt"
	"runtime"

	"weltaxis/internal/orders"
)

// Become is not done on this system.
func Become(uid int) error {
	return fmt.Errorf("on %s this program does not become another user; run it as %s", runtime.GOOS, orders.Name(uid))
}
