//go:build !linux

package fix

// writable tells whether a file may be written, or something made in a folder; writing shows it.
func writable(string) error { return nil }
