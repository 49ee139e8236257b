// Package runas has this program go on as somebody else, for good: started by root on what another's site file says, it does all that as
// that other, who could have done it himself. Nothing of root's environment goes with it.
//
// It may import orders.
package runas

import (
	"os"
	"strings"

	"weltaxis/internal/orders"
)

// environment is what a user finds who signs in anew, with the caller's language and terminal.
func environment(uid int, name string) []string {
	env := []string{"PATH=/usr/local/bin:/usr/bin:/bin", "HOME=" + orders.Home(uid), "USER=" + name, "LOGNAME=" + name, "SHELL=/bin/sh"}
	for _, pair := range orders.Environment() {
		if name, _, _ := strings.Cut(pair, "="); name != "PATH" && name != "HOME" && name != "USER" && name != "LOGNAME" && name != "SHELL" {
			env = append(env, pair)
		}
	}
	return env
}

func setEnvironment(env []string) error {
	os.Clearenv()
	for _, pair := range env {
		name, value, _ := strings.Cut(pair, "=")
		if err := os.Setenv(name, value); err != nil {
			return err
		}
	}
	return nil
}
