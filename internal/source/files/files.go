// Package files is the source that looks at what lies on the disk: the tree under the site's root, counted into
// classes of entries that are alike. It opens no file but those that may be run, for their first bytes, and changes nothing.
//
// It may import facts, dialect (for the roles) and tree, and no other source.
package files

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os/user"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/progress"
	"weltaxis/internal/tree"
)

// A Source looks at one tree.
type Source struct {
	Root    string
	Dialect *dialect.Dialect // for the roles; nil for the default ones
}

// Bounds on what is kept of a tree, however large it is.
const (
	pathsPerClass = 3
	maxSingles    = 2000
	maxGaps       = 20
)

// Gather sees the classes. The error is only that of a context that ended.
func (s *Source) Gather(ctx context.Context) (facts.Seen, error) {
	var seen facts.Seen
	c := &counting{matcher: dialect.NewMatcher(s.Dialect), classes: map[key]*class{}, found: map[string]bool{}}
	if s.Dialect != nil {
		c.public = strings.Trim(path.Clean("/"+s.Dialect.Public), "/")
	}
	for _, exact := range c.matcher.Exact(dialect.Config) {
		c.found[exact] = false
	}
	c.root = filepath.Clean(s.Root)
	var entries atomic.Int64
	err := tree.Walk(ctx, c.root, func(e tree.Entry) {
		c.visit(e)
		if n := entries.Add(1); n%1024 == 0 {
			progress.Tell(ctx, "looking at files", int(n), 0)
		}
	}, c.fail)
	if ctx.Err() != nil {
		return seen, ctx.Err()
	}
	if err != nil {
		seen.AddGap(facts.GapOf(facts.Files, "the folder "+s.Root, err, facts.ListClasses))
		return seen, nil
	}
	seen.Classes = c.list()
	seen.AddGap(c.gaps()...)
	return seen, nil
}

// Members walks the tree again and gives the entries of the named classes, by what they have in common. Links are no
// members of anything, since they have no mode of their own.
func (s *Source) Members(ctx context.Context, classes []facts.Likeness) (map[facts.Likeness][]tree.Entry, error) {
	c := &counting{matcher: dialect.NewMatcher(s.Dialect), classes: map[key]*class{}, found: map[string]bool{}}
	if s.Dialect != nil {
		c.public = strings.Trim(path.Clean("/"+s.Dialect.Public), "/")
	}
	names := owners{users: map[uint32]string{}, groups: map[uint32]string{}}
	members := map[facts.Likeness][]tree.Entry{}
	var mu sync.Mutex
	root := filepath.Clean(s.Root)
	err := tree.Walk(ctx, root, func(e tree.Entry) {
		if e.Kind == tree.Link {
			return
		}
		role, content, public := c.role(e), content(root, e), c.isPublic(e.Path)
		mu.Lock()
		defer mu.Unlock()
		class := facts.Class{Role: role, Kind: e.Kind, Content: content, Public: public, Mode: fmt.Sprintf("%04o", e.Mode), Owner: names.user(e.UID), Group: names.group(e.GID)}
		for _, class.Single = range []bool{true, false} {
			if class.Paths = nil; class.Single {
				class.Paths = []string{tree.Printable(e.Path)}
			}
			if likeness := class.Likeness(); slices.Contains(classes, likeness) {
				e.Path = strings.Clone(e.Path)
				members[likeness] = append(members[likeness], e)
				return
			}
		}
	}, c.fail)
	for _, list := range members {
		slices.SortFunc(list, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	}
	return members, err
}

// A key is everything in which the entries of a class are alike; path is set for what is kept singly. Words are
// kept as their place in a list, since a walk makes one key for every entry.
type key struct {
	role, kind, content uint8
	public              bool
	mode, uid, gid      uint32
	path                string
}

var (
	roleWords    = append(slices.Clone(dialect.RoleNames), dialect.Other)
	kindWords    = []string{tree.File, tree.Folder, tree.Link, tree.Other}
	contentWords = []string{program, command, page, picture, data, none}
)

func at(words []string, word string) uint8 { return uint8(slices.Index(words, word)) }

type class struct {
	count int
	paths [pathsPerClass]string // the smallest, sorted
	acl   bool                  // one of them has an access control list
}

// add keeps the smallest few paths, so that two walks of one tree keep the same.
func (c *class) add(path string) {
	kept := min(c.count, pathsPerClass)
	c.count++
	if kept == pathsPerClass && path >= c.paths[kept-1] {
		return
	}
	at := kept
	for at > 0 && path < c.paths[at-1] {
		at--
	}
	copy(c.paths[at+1:], c.paths[at:])
	c.paths[at] = strings.Clone(path)
}

type counting struct {
	root    string
	matcher *dialect.Matcher
	public  string // folder that the web server serves; "" for the whole root

	mu      sync.Mutex
	classes map[key]*class
	singles int
	found   map[string]bool // configuration files that the dialect names: whether they are there
	failed  []failure
	missed  int // failures past those kept
}

type failure struct {
	path string
	err  error
}

func (c *counting) visit(e tree.Entry) {
	role, content := c.role(e), content(c.root, e)
	public := c.isPublic(e.Path)
	k := key{role: at(roleWords, role), kind: at(kindWords, e.Kind), content: at(contentWords, content), mode: e.Mode, uid: e.UID, gid: e.GID, public: public}
	if e.Kind == tree.Link {
		k.mode = 0 // a link's own mode means nothing
	}
	alone := singly(e, role, content, public)
	// Only where taking a permission away from the group would take it from those in the list as well.
	acl := e.Kind != tree.Link && e.Mode&0o020 != 0 && tree.HasACL(filepath.Join(c.root, e.Path))
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, named := c.found[e.Path]; named {
		c.found[e.Path] = true
	}
	if alone && c.singles < maxSingles {
		k.path = strings.Clone(e.Path)
		c.singles++
	}
	known := c.classes[k]
	if known == nil {
		known = &class{}
		c.classes[k] = known
	}
	known.add(e.Path)
	known.acl = known.acl || acl
}

// role tells the role of an entry: a folder's is what it passes on.
func (c *counting) role(e tree.Entry) string {
	if e.Kind == tree.Folder {
		return c.matcher.Folder(e.Path)
	}
	return c.matcher.Role(e.Path, c.matcher.Folder(e.Path[:max(strings.LastIndexByte(e.Path, '/'), 0)]))
}

func (c *counting) isPublic(rel string) bool {
	return c.public == "" || rel == c.public || strings.HasPrefix(rel, c.public) && rel[len(c.public)] == '/'
}

// singly tells whether an entry is kept by itself: where it matters which one it is.
func singly(e tree.Entry, role, content string, public bool) bool {
	if e.Kind != tree.File {
		return e.Kind == tree.Other
	}
	if e.Mode&0o6000 != 0 {
		return true
	}
	switch role {
	case dialect.Config, dialect.Override:
		return true
	case dialect.Private, dialect.Backup:
		return public
	case dialect.Uploads:
		return content == program || content == command
	}
	return false
}

func (c *counting) fail(path string, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.failed) < maxGaps {
		c.failed = append(c.failed, failure{tree.Printable(path), err})
		return
	}
	c.missed++
}

// gaps lists what could not be looked at, and the configuration that was expected and is not there.
func (c *counting) gaps() []facts.Gap {
	var gaps []facts.Gap
	slices.SortFunc(c.failed, func(a, b failure) int { return cmp.Compare(a.path, b.path) })
	for _, f := range c.failed {
		gaps = append(gaps, facts.GapOf(facts.Files, f.path, f.err))
	}
	if c.missed > 0 {
		gaps = append(gaps, facts.GapOf(facts.Files, fmt.Sprintf("%d more entries", c.missed), errors.New("they could not be read either")))
	}
	for name, there := range c.found {
		if !there {
			gaps = append(gaps, facts.GapOf(facts.Files, name, errors.New("the dialect names it as configuration, and it is not there")))
		}
	}
	if !tree.HasModes {
		gaps = append(gaps, facts.GapOf(facts.Files, "modes and owners", errors.New("this system has none; look from the server itself"), facts.ListClasses+".mode"))
	}
	return gaps
}

// list turns the classes into facts, sorted by role, kind and first path.
func (c *counting) list() []facts.Class {
	names := owners{users: map[uint32]string{}, groups: map[uint32]string{}}
	list := make([]facts.Class, 0, len(c.classes))
	for k, counted := range c.classes {
		out := facts.Class{Role: roleWords[k.role], Kind: kindWords[k.kind], Content: contentWords[k.content], Public: k.public, Count: counted.count, Single: k.path != "", ACL: counted.acl}
		if tree.HasModes {
			out.Owner, out.Group = names.user(k.uid), names.group(k.gid)
			if out.Kind != tree.Link {
				out.Mode = fmt.Sprintf("%04o", k.mode)
			}
		}
		for _, p := range counted.paths[:min(counted.count, pathsPerClass)] {
			out.Paths = append(out.Paths, tree.Printable(p))
		}
		list = append(list, out)
	}
	slices.SortFunc(list, func(a, b facts.Class) int {
		return cmp.Or(cmp.Compare(at(roleWords, a.Role), at(roleWords, b.Role)), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Paths[0], b.Paths[0]))
	})
	return list
}

// owners looks up names once.
type owners struct{ users, groups map[uint32]string }

func (o owners) user(id uint32) string {
	if _, known := o.users[id]; !known {
		o.users[id] = strconv.Itoa(int(id))
		if u, err := user.LookupId(o.users[id]); err == nil {
			o.users[id] = u.Username
		}
	}
	return o.users[id]
}

func (o owners) group(id uint32) string {
	if _, known := o.groups[id]; !known {
		o.groups[id] = strconv.Itoa(int(id))
		if g, err := user.LookupGroupId(o.groups[id]); err == nil {
			o.groups[id] = g.Name
		}
	}
	return o.groups[id]
}
