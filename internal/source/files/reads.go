package files

import (
	"strings"

	"weltaxis/internal/access"
	"weltaxis/internal/tree"
)

// Reads tells whether an account of this machine may read a file below the root, given by its full path; known is false where nobody can tell.
func (s *Source) Reads(full, account string) (may, known bool) {
	in, err := tree.Open(s.Root)
	if err != nil {
		return false, false
	}
	defer in.Close()
	below, err := tree.Within(in, full)
	if err != nil {
		return false, false
	}
	e, err := in.Stat(below)
	a := newAsking(in)
	who, there := a.accounts.Named(strings.TrimSpace(account))
	if err != nil || !there || !tree.HasModes {
		return false, false
	}
	if s.InPlace {
		a.inPlace(s.Root)
	}
	entry, _ := a.entry(e, false)
	return a.may(e, entry, who)&access.Read != 0, true
}
