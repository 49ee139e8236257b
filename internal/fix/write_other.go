//go:build !linux

package fix

// mayWrite tells whether this user may make files in a folder; writing shows it.
func mayWrite(string) error { return nil }

// othersWrite says which of some files somebody else may write, which is not known here.
func othersWrite([]string) string {
	return "who may write the configuration, which may load what runs, is not known on this system"
}
