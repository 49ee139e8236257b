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

// DefaultRoles are those of every site; a dialect adds to them. What nobody outside should see is told by its name besides
// (byName).
var DefaultRoles = Roles{
	Override: {".htaccess", ".user.ini"},
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
	configs  []string          // the last part of the names of configuration files, in lower case
	usual    map[string]string // folders by their default names, at the top of the root or of a folder there
	gone     map[string]bool   // folders that are not what their names say
	shallow  map[string]string // default names, which count at the top of the root or of a folder there
}

// An affix is what a name starts or ends with, or a pattern, and the role that follows.
type affix struct{ text, role string }

// NewMatcher puts the dialect's roles over the default ones, which it adds to and takes none of away. A nil dialect gives
// the default ones.
func NewMatcher(d *Dialect) *Matcher {
	m := &Matcher{exact: map[string]string{}, names: map[string]string{}, folders: map[string]string{}, endings: map[string]string{}, shallow: map[string]string{}, usual: map[string]string{}, gone: map[string]bool{}}
	if d != nil {
		for _, role := range RoleNames {
			for _, pattern := range d.Roles[role] {
				m.add(pattern, role)
			}
		}
	}
	for _, role := range RoleNames {
		for _, pattern := range DefaultRoles[role] {
			switch folder, isFolder := strings.CutSuffix(pattern, "/"); {
			case isFolder:
				m.usual[folder] = role
			case role == Config:
				m.shallow[pattern] = role
				m.configs = append(m.configs, pattern)
			default:
				m.add(pattern, role)
			}
		}
	}
	for exact, role := range m.exact {
		if role == Config {
			m.configs = append(m.configs, strings.ToLower(path.Base(exact)))
		}
	}
	slices.Sort(m.configs)
	m.configs = slices.Compact(m.configs)
	return m
}

// Forget takes a folder out of those that play a role by their default name.
func (m *Matcher) Forget(folder string) { m.gone[folder] = true }

// Usual lists the default names of the folders that play a role.
func (m *Matcher) Usual(role string) []string {
	var names []string
	for name, r := range m.usual {
		if r == role {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// add puts a pattern where it is found with one look. A plain name is a path below the root; with a leading dot it is a name
// anywhere. What was put there first stays.
func (m *Matcher) add(pattern, role string) {
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
	case strings.HasPrefix(pattern, ".") && !strings.Contains(pattern, "/"):
		set(m.names, pattern)
	default:
		set(m.exact, pattern)
	}
}

// Folder tells the role that a folder passes on to what lies in it. The path is below the root, with slashes.
func (m *Matcher) Folder(dir string) string {
	if inToolFolder(dir) {
		return Private
	}
	for dir != "." && dir != "" {
		if role, ok := m.folders[dir]; ok {
			return role
		}
		slash := strings.LastIndexByte(dir, '/')
		name := dir[slash+1:]
		if m.dotted && name[0] == '.' && m.folders[name] != "" {
			return m.folders[name] // .git counts wherever it lies
		}
		if role := m.usual[name]; role != "" && strings.Count(dir, "/") <= 1 && !m.gone[dir] {
			return role
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
	depth := strings.Count(rel, "/")
	if role, ok := m.shallow[name]; ok && depth <= 1 && folderRole == Other {
		return role
	}
	if folderRole == Private { // all that lies there is
		return folderRole
	}
	if role := m.byName(name, folderRole, depth); role != "" {
		return role
	}
	return folderRole
}

// Folders are the folders below the root that a dialect gives a role.
func (m *Matcher) Folders(role string) []string {
	var names []string
	for name, r := range m.folders {
		if r == role && !strings.HasPrefix(name, ".") {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
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
