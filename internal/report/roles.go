package report

import (
	"cmp"
	"slices"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

// A Role is what entries of a tree are for, with its classes.
type Role struct {
	Name    string
	Means   string // "" for a role that a dialect named
	Entries int
	Wrong   int // classes that are not as they ought to be
	Classes []audit.ClassRow
	Left    int // classes that are not among them
}

// mostClasses is how many classes of a role a document shows.
const mostClasses = 60

// inShort leaves of each role what is not as it ought to be, and then as many of the others as there is room for.
func inShort(roles []Role) []Role {
	for i := range roles {
		role := &roles[i]
		if role.Left = len(role.Classes) - mostClasses; role.Left <= 0 {
			role.Left = 0
			continue
		}
		slices.SortStableFunc(role.Classes, func(a, b audit.ClassRow) int {
			return cmp.Compare(min(len(b.Expected), 1), min(len(a.Expected), 1))
		})
		role.Classes = role.Classes[:mostClasses]
	}
	return roles
}

// roleWords say what a role means.
var roleWords = map[string]string{
	"config": "where the site is told its secrets", "code": "what is run and what pages are made of", "uploads": "what people put there", "cache": "what is made again when it is gone",
	"override": "what tells the web server what to do in a folder", "private": "what nobody outside should see", "backup": "copies and dumps", "temporary": "what is there for a while", "other": "anything else",
}

// RolesOf puts a tree's classes together by what they are for, in the tree's order.
func RolesOf(tree []audit.ClassRow) (roles []Role) {
	for _, row := range tree {
		if n := len(roles); n == 0 || roles[n-1].Name != row.Role {
			roles = append(roles, Role{Name: row.Role, Means: roleWords[row.Role]})
		}
		role := &roles[len(roles)-1]
		role.Classes = append(role.Classes, row)
		role.Entries += row.Count
		if row.Expected != "" {
			role.Wrong++
		}
	}
	return roles
}

// TreeSays says how large a tree is, whose, and whom the web server runs as.
func TreeSays(r *audit.Result, tree []audit.ClassRow) string {
	entries := 0
	for _, row := range tree {
		entries += row.Count
	}
	says := Count(entries, "entry", "entries") + " in " + Count(len(tree), "class", "classes")
	if owner, known := r.Snapshot.Is(facts.FilesOwner.Term); known {
		says += ", most of " + owner.Text()
	}
	switch inferred, _ := r.Snapshot.Is(facts.FilesWebInferred.Term); {
	case r.Snapshot.WebUser() == "":
		says += "; nobody says whom the web server runs as (intent.web_user), so what it may do is not told"
	case inferred.Bool():
		says += "; the web server runs as " + r.Snapshot.WebUser() + ", which is inferred from what it made"
	default:
		says += "; the web server runs as " + r.Snapshot.WebUser()
	}
	return says + "."
}
