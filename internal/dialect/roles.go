package dialect

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"weltaxis/internal/nearest"
	"weltaxis/internal/strict"
)

// The roles that files and folders play. Other is what no pattern claims.
const (
	Config    = "config"    // where the content system is told its settings
	Override  = "override"  // per-folder files that the web server or the runtime obeys
	Private   = "private"   // what nobody outside may see: keys, logs, version control
	Backup    = "backup"    // copies and dumps
	Uploads   = "uploads"   // what people put in
	Cache     = "cache"     // what may be thrown away
	Temporary = "temporary" // sessions and half-done work
	Code      = "code"      // programs of the content system, its extensions and themes
	Other     = "other"
)

// RoleNames lists the roles a dialect may map.
var RoleNames = []string{Config, Override, Private, Backup, Uploads, Cache, Temporary, Code}

// Roles gives each role the patterns of what plays it. A pattern is an exact path below the root (config.php), a
// folder with all below it (media/), or a name anywhere (*.sql, .htaccess). An exact path wins over a name, a
// name over a folder, and the deepest folder over the others.
type Roles map[string][]string

// DefaultRoles serve a site without a dialect, and stand in for the roles that a dialect says nothing of.
var DefaultRoles = Roles{
	Override: {".htaccess", ".user.ini"},
	Private:  {".git/", ".svn/", ".hg/", ".env", ".env.*", "*.pem", "*.key", "id_rsa", "id_ed25519", "*.log", ".ssh/", ".netrc"},
	Backup:   {"*.sql", "*.sql.gz", "*.dump", "*.bak", "*.old", "*.orig", "*.save", "*~", "*.swp", "*.tar.gz", "*.tgz"},
	Config:   {"config.php", "settings.php", "config.yaml", "config.ini"},
	Uploads:  {"uploads/", "media/"},
	Cache:    {"cache/"},
}

func (d *Dialect) checkRoles() error {
	for role, patterns := range d.Roles {
		if !slices.Contains(RoleNames, role) {
			return d.errorf(strict.Pos{}, "roles: there is no role %q%s", role, nearest.Hint(role, RoleNames))
		}
		for _, pattern := range patterns {
			if err := checkPattern(pattern); err != nil {
				return d.errorf(strict.Pos{}, "roles: %s: %s", role, err)
			}
		}
	}
	return nil
}

func checkPattern(pattern string) error {
	wild := strings.ContainsAny(pattern, "*?[")
	switch {
	case pattern == "" || strings.HasPrefix(pattern, "/") || strings.Contains("/"+pattern+"/", "/../"):
		return fmt.Errorf("%q is no path below the root", pattern)
	case wild && strings.Contains(pattern, "/"):
		return fmt.Errorf("%q: wildcards stand in a name without slashes", pattern)
	}
	if _, err := path.Match(pattern, ""); err != nil {
		return fmt.Errorf("%q is no pattern", pattern)
	}
	return nil
}

// A Matcher tells the role of any path quickly: an audit asks it for every entry of the tree.
type Matcher struct {
	exact    map[string]string
	names    map[string]string // wherever they lie
	folders  map[string]string // without the slash at the end
	dotted   bool              // a folder counts wherever it lies
	endings  map[string]string // *.sql by its last dot and what follows
	suffixes []affix           // *~ and *.tar.gz
	prefixes []affix           // .env.*
	wild     []affix           // any other pattern
}

// An affix is what a name starts or ends with, or a pattern, and the role that follows.
type affix struct{ text, role string }

// NewMatcher merges the dialect's roles over the default ones: a role the dialect maps has only its patterns.
// A nil dialect gives the default ones.
func NewMatcher(d *Dialect) *Matcher {
	m := &Matcher{exact: map[string]string{}, names: map[string]string{}, folders: map[string]string{}, endings: map[string]string{}}
	for _, role := range RoleNames {
		patterns, own := DefaultRoles[role], false
		if d != nil && d.Roles[role] != nil {
			patterns, own = d.Roles[role], true
		}
		for _, pattern := range patterns {
			m.add(pattern, role, !own)
		}
	}
	return m
}

// add puts a pattern where it is found with one look. A plain name in a dialect is a path below the root; among
// the default roles, and with a leading dot, it is a name anywhere.
func (m *Matcher) add(pattern, role string, anywhere bool) {
	set := func(into map[string]string, key string) {
		if _, taken := into[key]; !taken {
			into[key] = role
		}
	}
	stars := strings.Count(pattern, "*")
	literal := stars == 1 && !strings.ContainsAny(pattern, "?[\\")
	switch {
	case strings.HasSuffix(pattern, "/"):
		set(m.folders, strings.TrimSuffix(pattern, "/"))
		m.dotted = m.dotted || strings.HasPrefix(pattern, ".")
	case literal && strings.HasPrefix(pattern, "*.") && strings.Count(pattern, ".") == 1:
		set(m.endings, pattern[1:])
	case literal && strings.HasPrefix(pattern, "*"):
		m.suffixes = append(m.suffixes, affix{pattern[1:], role})
	case literal && strings.HasSuffix(pattern, "*"):
		m.prefixes = append(m.prefixes, affix{strings.TrimSuffix(pattern, "*"), role})
	case strings.ContainsAny(pattern, "*?["):
		m.wild = append(m.wild, affix{pattern, role})
	case strings.HasPrefix(pattern, ".") && !strings.Contains(pattern, "/"), anywhere && !strings.Contains(pattern, "/"):
		set(m.names, pattern)
	default:
		set(m.exact, pattern)
	}
}

// Folder tells the role that a folder passes on to what lies in it. The path is below the root, with slashes.
func (m *Matcher) Folder(dir string) string {
	for dir != "." && dir != "" {
		if role, ok := m.folders[dir]; ok {
			return role
		}
		slash := strings.LastIndexByte(dir, '/')
		if name := dir[slash+1:]; m.dotted && name[0] == '.' && m.folders[name] != "" {
			return m.folders[name] // .git counts wherever it lies
		}
		dir = dir[:max(slash, 0)]
	}
	return Other
}

// Role tells the role of an entry, given the one its folder passes on.
func (m *Matcher) Role(rel, folderRole string) string {
	if role, ok := m.exact[rel]; ok {
		return role
	}
	name := rel[strings.LastIndexByte(rel, '/')+1:]
	if role, ok := m.names[name]; ok {
		return role
	}
	if dot := strings.LastIndexByte(name, '.'); dot >= 0 {
		if role, ok := m.endings[name[dot:]]; ok {
			return role
		}
	}
	for _, suffix := range m.suffixes {
		if strings.HasSuffix(name, suffix.text) {
			return suffix.role
		}
	}
	for _, prefix := range m.prefixes {
		if strings.HasPrefix(name, prefix.text) {
			return prefix.role
		}
	}
	for _, w := range m.wild {
		if ok, _ := path.Match(w.text, name); ok {
			return w.role
		}
	}
	return folderRole
}

// Exact lists the paths that are named in full for a role.
func (m *Matcher) Exact(role string) []string {
	var paths []string
	for p, r := range m.exact {
		if r == role {
			paths = append(paths, p)
		}
	}
	slices.Sort(paths)
	return paths
}
