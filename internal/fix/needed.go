package fix

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"al.essio.dev/pkg/shellescape"

	rights "weltaxis/internal/access"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
	"weltaxis/internal/source/server"
	"weltaxis/internal/tree"
)

// A needing is somebody who needs rights at an entry, and why that is thought.
type needing struct {
	account rights.Account
	why     string
	rights  rights.Rights
}

// A part is somebody who has a part in the whole site: what runs its programs, or reads it for visitors.
type part struct {
	account rights.Account
	why     string
}

// changing are the roles in which programs put things, besides people.
var changingRoles = []string{dialect.Uploads, dialect.Cache, dialect.Temporary}

// filled tells whether programs and people put things where the entries of a change of permissions are.
func (c *Change) filled() bool {
	return slices.Contains(changingRoles, c.Class.Role) || slices.Contains(changingRoles, c.Class.Within)
}

// parts are those who have a part in the site: whom the web server runs as, as it was said or seen and as its configuration says, the users of the runtime's pools, and those
// as whom the machine's scheduler starts something of the site.
func (p *planning) parts() []part {
	if p.having != nil {
		return p.having
	}
	p.having = []part{}
	add := func(name, why string) {
		account, known := identity.Accounts().Named(name)
		if known && account.UID != 0 && !slices.ContainsFunc(p.having, func(o part) bool { return o.account.UID == account.UID }) {
			p.having = append(p.having, part{account, why})
		}
	}
	add(p.WebUser, "whom the web server runs as")
	if p.World != nil {
		servers, _ := p.told()
		for _, one := range servers.Servers {
			for _, n := range one.Tree.All("user", "User") {
				add(n.Arg(0), fmt.Sprintf("whom the web server runs as (%s)", n.Place()))
			}
		}
		if p.World.Runtime != nil {
			if own, _ := p.World.Runtime(nil); own != nil && own.Config != nil {
				for _, u := range own.Config.Users() {
					add(u.Name, fmt.Sprintf("whom the runtime's pool %s runs as (%s)", u.Pool, u.Origin))
				}
			}
		}
	}
	for _, s := range scheduled(p.FilesRoot) {
		add(s.user, "as whom the scheduler starts something there ("+s.at+")")
	}
	return p.having
}

// lostBits are the bits that a change of permissions takes.
func (c *Change) lostBits() uint32 { return uint32(c.From.Number()) &^ uint32(c.To.Number()) & 0o777 }

// needed is what somebody who needs it would lose at the entries of a change of permissions: whoever has a part in the site loses reading and entering, and writing where
// things are put; whoever owns what lies in a folder, who has put it there, loses writing. Lists of access are reckoned with. Way is how they keep it while the others
// lose it; "" where nobody loses anything that is needed.
func (p *planning) needed(in tree.Files, c *Change) (loses, way string) {
	for _, m := range c.Members {
		entry := rights.Entry{Mode: m.Mode, UID: m.UID, GID: m.GID, Folder: m.Kind == tree.Folder}
		if raw := in.AccessList(m.Path); raw != nil {
			entry.List, _ = rights.ParseList(raw)
		}
		after := entry
		after.Mode &^= c.lostBits()
		for _, who := range p.needing(in, c, m) {
			if gone := entry.Of(who.account) &^ after.Of(who.account) & who.rights; gone != 0 && who.account.UID != 0 {
				return fmt.Sprintf("%s, %s, loses %s at %s", who.account.Name, who.why, inWords(gone), m.Path), p.keeping(who.account.Name, gone, m)
			}
		}
	}
	return "", ""
}

// inWords are rights in words.
func inWords(of rights.Rights) string {
	var words []string
	for _, one := range []struct {
		right rights.Rights
		word  string
	}{{rights.Run, "entering or running"}, {rights.Read, "reading"}, {rights.Write, "writing"}} {
		if of&one.right != 0 {
			words = append(words, one.word)
		}
	}
	return strings.Join(words, " and ")
}

// keeping is how somebody keeps rights at an entry while the others lose them.
func (p *planning) keeping(name string, gone rights.Rights, m tree.Entry) string {
	at := shellescape.Quote(filepath.Join(p.FilesRoot, filepath.FromSlash(m.Path)))
	if n := p.perOwner(); n != "" && gone&rights.Write != 0 {
		return fmt.Sprintf("to keep it: give the entry to %[1]s (chown -- %[1]s %[2]s); a group that may write, and a list of access, whose mask looks like one, have programs refused that run as their owners (%[3]s)", name, at, n)
	}
	if gone&rights.Write == 0 {
		return fmt.Sprintf("to keep it for %[1]s and take it from the others: setfacl -m u:%[1]s:rX %[2]s, or give it to the group of %[1]s with mode %[3]o", name, at, m.Mode&0o770|uint32(gone)<<3)
	}
	return fmt.Sprintf("to keep it for %[1]s and take it from the others: setfacl -m u:%[1]s:rwX %[2]s, or give it to the group of %[1]s with mode %[3]o", name, at, m.Mode&^uint32(2)|0o020)
}

// needing are those who need something at an entry.
func (p *planning) needing(in tree.Files, c *Change, m tree.Entry) (all []needing) {
	if c.Class.Role != dialect.Backup {
		of := rights.Read
		if m.Kind == tree.Folder || c.Class.Content == "command" {
			of |= rights.Run
		}
		if c.filled() {
			of |= rights.Write
		}
		for _, one := range p.parts() {
			all = append(all, needing{one.account, one.why, of})
		}
	}
	if m.Kind != tree.Folder {
		return all
	}
	entries, _ := in.ReadDir(m.Path)
	for _, e := range entries {
		if e.UID != m.UID && !slices.ContainsFunc(all, func(n needing) bool { return n.account.UID == e.UID && n.rights&rights.Write != 0 }) {
			all = append(all, needing{identity.Accounts().Of(e.UID), "who has put " + e.Base() + " there", rights.Write | rights.Run})
		}
	}
	return all
}

// keeps has a change whose entries somebody needs be a disruptive one, which is not made with others.
func (p *planning) keeps(in tree.Files, c *Change) {
	lost := c.lostBits()
	if lost&0o077 == 0 {
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

// perOwner is the line by which programs are run as their owners, by a starter that refuses what others may write to (suEXEC, its security model, 12 to 18); "" where
// no line that is known says so.
func (p *planning) perOwner() string {
	if p.World == nil {
		return ""
	}
	servers, _ := p.told()
	for _, one := range servers.Servers {
		if one.Kind != server.Apache {
			continue
		}
		if all := one.Tree.All("SuexecUserGroup"); len(all) > 0 {
			return cmp.Or(all[0].Place(), "the web server's configuration")
		}
	}
	return ""
}
