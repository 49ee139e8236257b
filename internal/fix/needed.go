package fix

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"al.essio.dev/pkg/shellescape"

	rights "weltaxis/internal/access"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
	"weltaxis/internal/tree"
)

// A needing is somebody who needs a right at an entry, and why that is thought.
type needing struct {
	account rights.Account
	why     string
}

// changing are the roles in which programs put things, besides people.
var changingRoles = []string{dialect.Uploads, dialect.Cache, dialect.Temporary}

// filled tells whether programs and people put things where the entries of a change of permissions are.
func (c *Change) filled() bool {
	return slices.Contains(changingRoles, c.Class.Role) || slices.Contains(changingRoles, c.Class.Within)
}

// needed is what somebody who needs it would lose at the entries of a change of permissions: whom the web server runs as where things are put, and whoever
// owns what lies in a folder, who has put it there. Way is how they keep it while the others lose it; "" where nobody loses anything that is needed.
func (p *planning) needed(in tree.Files, c *Change) (loses, way string) {
	lost := uint32(c.From.Number()) &^ uint32(c.To.Number())
	for _, m := range c.Members {
		entry := rights.Entry{Mode: m.Mode, UID: m.UID, GID: m.GID, Folder: m.Kind == tree.Folder}
		if raw := in.AccessList(m.Path); raw != nil {
			entry.List, _ = rights.ParseList(raw)
		}
		after := entry
		after.Mode &^= lost
		for _, who := range p.needing(in, c, m) {
			if gone := entry.Of(who.account) &^ after.Of(who.account) & rights.Write; gone != 0 && who.account.UID != 0 {
				return fmt.Sprintf("%s, %s, loses writing at %s", who.account.Name, who.why, m.Path),
					fmt.Sprintf("to keep it for %[1]s and take it from the others: setfacl -m u:%[1]s:rwx %[2]s, or give it to the group of %[1]s with mode %[3]o", who.account.Name, shellescape.Quote(filepath.Join(p.FilesRoot, filepath.FromSlash(m.Path))), m.Mode&^uint32(2)|0o020)
			}
		}
	}
	return "", ""
}

// needing are those who need to write at an entry.
func (p *planning) needing(in tree.Files, c *Change, m tree.Entry) (all []needing) {
	if account, known := identity.Accounts().Named(p.WebUser); known && c.filled() {
		all = append(all, needing{account, "whom the web server runs as"})
	}
	if m.Kind != tree.Folder {
		return all
	}
	entries, _ := in.ReadDir(m.Path)
	for _, e := range entries {
		if e.UID != m.UID && !slices.ContainsFunc(all, func(n needing) bool { return n.account.UID == e.UID }) {
			all = append(all, needing{identity.Accounts().Of(e.UID), "who has put " + e.Base() + " there"})
		}
	}
	return all
}

// keeps has a change whose entries somebody needs be a disruptive one, which is not made with others.
func (p *planning) keeps(in tree.Files, c *Change) {
	lost := uint32(c.From.Number()) &^ uint32(c.To.Number())
	if lost&0o022 == 0 {
		return
	}
	if loses, way := p.needed(in, c); loses != "" {
		c.Risk, c.Because, c.Noticed = facts.Disruptive, loses+", and may need it", []facts.Who{facts.Visitors, facts.Staff}
		c.Besides = append(c.Besides, way)
		return
	}
	if c.Risk < facts.Disruptive && c.filled() && p.WebUser == "" && lost&0o002 != 0 && !p.owned(in, c) {
		c.Risk, c.Because, c.Noticed = facts.Disruptive, "others lose writing where people and programs put things, and nobody has said whom the web server runs as (intent: web_user)", []facts.Who{facts.Visitors, facts.Staff}
	}
}

// owned tells whether what lies in the folders of a change is their owner's, by which the owner is who puts things there.
func (p *planning) owned(in tree.Files, c *Change) bool {
	found := false
	for _, m := range c.Members {
		if m.Kind != tree.Folder {
			m.Path = strings.TrimSuffix(filepath.ToSlash(filepath.Dir(m.Path)), "/")
		}
		entries, _ := in.ReadDir(m.Path)
		for _, e := range entries {
			if e.UID != m.UID {
				return false
			}
			found = true
		}
	}
	return found
}
