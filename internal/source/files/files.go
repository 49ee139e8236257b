// Package files is the source that looks at what lies on the disk: the tree under the site's root, counted into
// classes of entries that are alike. It opens a bounded number of files, those that may be run, lie among uploads or may be
// something nobody outside should see, for their first bytes, and changes nothing.
//
// It may import facts, dialect (for the roles) and tree, and no other source.
package files

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os/user"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"weltaxis/internal/access"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/progress"
	"weltaxis/internal/tree"
)

// A Source looks at one tree.
type Source struct {
	Root    string
	Dialect *dialect.Dialect           // for the roles; nil for the default ones
	Public  string                     // the folder that the web server serves, "." for the root; "" when nobody says, beside the dialect
	Served  []string                   // paths at which the web server has a file, which tell where it serves from
	WebUser string                     // whom the web server runs as, "" when nobody says
	InPlace bool                       // it is known to be served from where it is looked at: what lies above keeps others out, or does not
	Shared  bool                       // others have accounts on the server who have nothing to do with the site
	Room    func() (tree.Space, error) // how much room is left; nil to ask the system
}

// counting makes what a walk needs.
func (s *Source) counting(in tree.Files) *counting {
	c := &counting{opener: opener{files: in}, matcher: dialect.NewMatcher(s.Dialect), shared: s.Shared, said: s.WebUser, classes: map[key]*class{}, found: map[string]bool{}, links: map[string]link{}, asking: newAsking(in), whos: map[who]uint32{{}: 0}}
	if s.InPlace {
		c.asking.inPlace(s.Root)
	}
	public := s.Serves()
	c.served = public != ""
	c.public = strings.Trim(path.Clean("/"+filepath.ToSlash(public)), "/")
	for _, name := range c.matcher.Usual(dialect.Uploads) {
		for _, folder := range []string{name, path.Join(c.public, name)} {
			if holdsPrograms(in, folder) {
				c.matcher.Forget(folder)
			}
		}
	}
	if account, inferred, known := c.runsAs(); known {
		c.asking.web, c.inferred = &account, inferred
	}
	return c
}

// Serves is the folder below the root that the web server serves, "." for the root; "" when nobody says and nothing tells.
func (s *Source) Serves() string {
	public := s.Public
	if public == "" && s.Dialect != nil {
		public = s.Dialect.Public
	}
	if public == "" && len(s.Served) > 0 {
		if in, err := tree.Open(s.Root); err == nil {
			public = servedFrom(in, s.Served)
			in.Close()
		}
	}
	if public == "" {
		return ""
	}
	return path.Clean(strings.Trim(filepath.ToSlash(public), "/"))
}

// servedFrom is the folder below the root, at most two deep, in which the paths lie that the web server serves; "" when none
// has one of them, or several have as many.
func servedFrom(in tree.Files, paths []string) string {
	best, most, twice := "", 0, false
	try := func(folder string) {
		n := 0
		for _, p := range paths {
			if e, err := in.Lstat(path.Join(folder, tree.Clean(p))); err == nil && e.Kind == tree.File {
				n++
			}
		}
		switch {
		case n > most:
			best, most, twice = folder, n, false
		case n == most && n > 0:
			twice = true
		}
	}
	try(".")
	for _, top := range folders(in, ".") {
		try(top)
		for _, below := range folders(in, top) {
			try(below)
		}
	}
	if twice {
		return ""
	}
	return best
}

// maxFolders is how many folders side by side are tried.
const maxFolders = 100

func folders(in tree.Files, dir string) (paths []string) {
	entries, _ := in.ReadDir(dir)
	for _, e := range entries {
		if e.Kind == tree.Folder && len(paths) < maxFolders {
			paths = append(paths, e.Path)
		}
	}
	return paths
}

// maxSampled is how many entries of a folder are looked at to know whether it holds programs.
const maxSampled = 2000

// holdsPrograms tells whether most of the files in a folder are programs: then it is no place for uploads, whatever it is
// called.
func holdsPrograms(in tree.Files, dir string) bool {
	programs, files := 0, 0
	_ = tree.Visit(in, dir, func(e tree.Entry, err error) error {
		if err != nil || files > maxSampled {
			return fs.SkipAll
		}
		if e.Kind == tree.File {
			files++
			if contentOf(e) == program {
				programs++
			}
		}
		return nil
	})
	return programs > 2 && programs*2 > files
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
	in, err := tree.Open(s.Root)
	if err != nil {
		seen.AddGap(facts.GapOf(facts.Files, "the folder "+s.Root, err, facts.ListClasses))
		return seen, nil
	}
	defer in.Close()
	c := s.counting(in)
	for _, exact := range c.matcher.Exact(dialect.Config) {
		c.found[exact] = false
	}
	var entries atomic.Int64
	err = c.walk(ctx, func(e tree.Entry) {
		c.visit(e)
		if n := entries.Add(1); n%1024 == 0 {
			progress.Tell(ctx, "looking at files", int(n), 0)
		}
	})
	if ctx.Err() != nil {
		return seen, ctx.Err()
	}
	if err != nil {
		seen.AddGap(facts.GapOf(facts.Files, "the folder "+s.Root, err, facts.ListClasses))
		return seen, nil
	}
	seen.Classes, seen.Programs = c.list(), c.programs.list()
	c.tell(&seen)
	seen.AddGap(c.gaps()...)
	s.space(in, &seen)
	return seen, nil
}

// Exposed are the files of classes that lie where the web server serves and that nobody outside should see; of each class the first.
func Exposed(classes []facts.Class) (paths []string) {
	for _, class := range classes {
		if class.Public && class.Kind == tree.File && Secret(class.Role) {
			paths = append(paths, class.Paths...)
		}
	}
	return paths
}

// space says how much room is left on the disk.
func (s *Source) space(in tree.Files, seen *facts.Seen) {
	of := in.Space
	if s.Room != nil {
		of = s.Room
	}
	at := facts.Origin{Path: "."}
	space, err := of()
	if err != nil {
		seen.AddGap(facts.Gap{Source: facts.Files, What: "the room that is left", Kind: facts.Unmapped, Because: facts.Plainly(err).Error(), Names: []string{facts.FilesSpacePart.Name, facts.FilesSpaceLeft.Name, facts.FilesEntriesPart.Name}})
		return
	}
	seen.Add(facts.FilesSpacePart.Reading(tree.Part(space.Left, space.All), at), facts.FilesSpaceLeft.Reading(int64(min(space.Left, 1<<62)), at), facts.FilesEntriesPart.Reading(tree.Part(space.EntriesLeft, space.Entries), at))
}

// Members walks the tree again and gives the entries of the named classes, by what they have in common. Links are no
// members of anything, since they have no mode of their own.
func (s *Source) Members(ctx context.Context, classes []facts.Likeness) (map[facts.Likeness][]tree.Entry, error) {
	in, err := tree.Open(s.Root)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	c := s.counting(in)
	names := owners{users: map[uint32]string{}, groups: map[uint32]string{}}
	members := map[facts.Likeness][]tree.Entry{}
	var mu sync.Mutex
	err = c.walk(ctx, func(e tree.Entry) {
		if e.Kind == tree.Link {
			return
		}
		role, within, content, public := c.what(e)
		closed := c.closed(e, role)
		var may who
		list := ""
		marks := c.marks(e, role)
		if matters(e, role) {
			may, list = c.asking.of(e, marks.Fixed)
		}
		if within == role {
			within = ""
		}
		mu.Lock()
		defer mu.Unlock()
		class := facts.Class{Role: role, Kind: e.Kind, Content: content, Public: public, Mode: fmt.Sprintf("%04o", e.Mode), Owner: names.user(e.UID), Group: names.group(e.GID), Within: within, Closed: closed, List: list}
		class.Web, class.Readers, class.Writers = may.web, may.readers, may.writers
		class.Each = matters(e, role)
		_, class.NewList = c.asking.heirs(e, marks)
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
	})
	for _, list := range members {
		slices.SortFunc(list, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	}
	return members, err
}

// A key is everything in which the entries of a class are alike; path is set for what is kept singly. Words are
// kept as their place in a list, since a walk makes one key for every entry.
type key struct {
	role, kind, content uint8
	within              uint8
	public, closed      bool
	mode, uid, gid      uint32
	who                 uint32 // its place among those that were found, 0 where it is not worked out for each
	mount               tree.Mount
	powers              bool   // of the superuser
	list, heirs         string // the access control list, and that of what is made in a folder; "" for none
	heir                string // who may write to that
	path                string
}

var (
	roleWords    = append(slices.Clone(dialect.RoleNames), dialect.Other)
	kindWords    = []string{tree.File, tree.Folder, tree.Link, tree.Other}
	contentWords = []string{program, command, inert, disguised, dormant, scripting, page, picture, data, none}
)

func at(words []string, word string) uint8 { return uint8(slices.Index(words, word)) }

type class struct {
	count int
	paths [pathsPerClass]string // the smallest, sorted
	under string                // the folder that all of them lie in or below
	first tree.Entry            // that of the smallest path
	tries []string              // of which all addresses are to be worked out, the smallest paths, sorted
	kinds map[string]string     // of programs: the smallest path of each folder and ending
	over  bool                  // there are more
}

// The bounds of what all addresses are worked out of: entries of a class, and folders and endings of programs that are told apart.
const (
	maxTries = 300
	maxKinds = 5000
)

// try notes an entry of which all addresses are to be worked out: each that is private, and of programs one of each folder and ending. Which those are
// does not follow from the order in which entries come.
func (c *class) try(e tree.Entry, each bool) {
	if !each {
		kind := path.Dir(e.Path) + " " + strings.ToLower(path.Ext(e.Path))
		known, there := c.kinds[kind]
		switch {
		case there && known <= e.Path:
		case !there && len(c.kinds) == maxKinds:
			c.over = true
		case c.kinds == nil:
			c.kinds = map[string]string{kind: strings.Clone(e.Path)}
		default:
			c.kinds[kind] = strings.Clone(e.Path)
		}
		return
	}
	at, _ := slices.BinarySearch(c.tries, e.Path)
	if at == maxTries {
		c.over = true
		return
	}
	c.tries = slices.Insert(c.tries, at, strings.Clone(e.Path))
	if len(c.tries) > maxTries {
		c.tries, c.over = c.tries[:maxTries], true
	}
}

// toTry are they, and whether they are all.
func (c *class) toTry() facts.Tries {
	if len(c.kinds) == maxKinds && c.over {
		return facts.Tries{}
	}
	all := append(slices.Clone(c.tries), slices.Collect(maps.Values(c.kinds))...)
	slices.Sort(all)
	return facts.Tries{Paths: all[:min(len(all), maxTries)], All: !c.over && len(all) <= maxTries}
}

// common is the deepest folder that two folders lie in or below.
func common(a, b string) string {
	for a != b {
		if len(a) >= len(b) {
			a = path.Dir(a)
		} else {
			b = path.Dir(b)
		}
	}
	return a
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
	opener
	matcher *dialect.Matcher
	served  bool   // somebody says which folder the web server serves
	public  string // that folder; "" for the whole root

	asking   *asking
	said     string // whom the web server runs as, as somebody has said
	shared   bool   // others have accounts here who have nothing to do with the site
	inferred bool   // whom the web server runs as was not said, but follows from what it made

	mu        sync.Mutex
	whos      map[who]uint32
	links     map[string]link
	classes   map[key]*class
	programs  programs // noted with when they changed
	singles   int
	otherwise map[sameFile]string // what files with several names are by one of them
	many      int                 // of these that were not held against each other
	found     map[string]bool     // configuration files that the dialect names: whether they are there
	failed    []failure
	missed    int // failures past those kept
}

type failure struct {
	path string
	err  error
}

func (c *counting) visit(e tree.Entry) {
	role, within, content, public := c.what(e)
	k := key{role: at(roleWords, role), within: at(roleWords, within), kind: at(kindWords, e.Kind), content: at(contentWords, content), mode: e.Mode, uid: e.UID, gid: e.GID, public: public}
	var to link
	if e.Kind == tree.Link {
		k.mode = 0 // a link's own mode means nothing
		to = c.leads(e.Path)
		if public && to.ends == linkInside && !c.isPublic(to.target) { // what it leads to is served by it
			k.role = at(roleWords, c.matcher.Role(to.target, c.matcher.Folder(path.Dir(to.target))))
		}
	}
	k.closed = c.closed(e, role)
	var may who
	if e.Kind != tree.Link && tree.HasModes {
		k.mount = c.asking.mounted(e)
		marks := c.marks(e, role)
		k.mount.ReadOnly, k.powers = k.mount.ReadOnly || marks.Fixed, marks.Powers
		k.heir, k.heirs = c.asking.heirs(e, marks)
		if matters(e, role) {
			may, k.list = c.asking.of(e, marks.Fixed)
		}
	}
	alone := singly(e, roleWords[k.role], within, content, public || !c.served) || to.ends == linkOutside || k.powers
	c.mu.Lock()
	defer c.mu.Unlock()
	if may != (who{}) {
		if c.whos[may] == 0 {
			c.whos[may] = uint32(len(c.whos))
		}
		k.who = c.whos[may]
	}
	if _, named := c.found[e.Path]; named {
		c.found[e.Path] = true
	}
	if alone && c.singles < maxSingles {
		k.path = strings.Clone(e.Path)
		c.singles++
		if to.ends != "" {
			c.links[k.path] = to
		}
	}
	known := c.classes[k]
	if known == nil {
		known = &class{}
		c.classes[k] = known
	}
	if dir := path.Dir(e.Path); known.count == 0 {
		known.under = strings.Clone(dir)
	} else if known.under != "." {
		known.under = common(known.under, dir)
	}
	if known.count == 0 || e.Path < known.paths[0] {
		known.first = e
		known.first.Path = strings.Clone(e.Path)
	}
	known.add(e.Path)
	if secret := Secret(role); e.Kind == tree.File && (secret || slices.Contains([]string{program, command, disguised}, content) || alone) {
		known.try(e, secret || alone)
	}
	if isProgram(role, within, content) {
		c.programs.add(e)
	}
}

// marks are what an entry carries besides mode and list, where that decides something: of folders, of what may be run, and where others may write.
func (c *counting) marks(e tree.Entry, role string) tree.Marks {
	if e.Kind == tree.Folder || e.Kind == tree.File && (e.Mode&0o111 != 0 || matters(e, role)) {
		return c.files.Marks(e.Path)
	}
	return tree.Marks{}
}

// what tells what an entry is: its role, that of the folder it lies in, what it holds, and whether the web server serves it.
func (c *counting) what(e tree.Entry) (role, within, holds string, public bool) {
	public = c.isPublic(e.Path)
	if e.Kind == tree.Folder {
		role = c.matcher.Folder(e.Path)
		return role, role, none, public
	}
	within = c.matcher.Folder(e.Path[:max(strings.LastIndexByte(e.Path, '/'), 0)])
	role = c.matcher.Role(e.Path, within)
	role, holds = c.inside(e, role, within, c.content(e), public || !c.served)
	if as := c.otherwise[sameFile{e.Device, e.Inode}]; as != "" && e.Names > 1 && (public || !c.served) && slices.Contains([]string{dialect.Other, dialect.Code, dialect.Uploads}, role) {
		role = as // what it holds is the same by either name
	}
	return role, within, holds, public
}

// A sameFile is a file, whatever its name.
type sameFile struct{ device, inode uint64 }

// maxSeveral is how many files with several names are held against each other.
const maxSeveral = 20_000

// walk goes through the tree. Files with several names come last, when it is known what they are by their other names.
func (c *counting) walk(ctx context.Context, visit func(tree.Entry)) error {
	var mu sync.Mutex
	var several []tree.Entry
	err := tree.Walk(ctx, c.files, func(e tree.Entry) {
		if e.Kind == tree.File && e.Names > 1 && e.Inode != 0 {
			mu.Lock()
			defer mu.Unlock()
			if len(several) < maxSeveral {
				e.Path = strings.Clone(e.Path)
				several = append(several, e)
				return
			}
			c.many++
		}
		visit(e)
	}, c.fail)
	slices.SortFunc(several, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	others := map[sameFile]string{}
	for _, e := range several {
		if role, _, _, _ := c.what(e); Secret(role) {
			others[sameFile{e.Device, e.Inode}] = role
		}
	}
	c.otherwise = others
	for _, e := range several {
		visit(e)
	}
	return err
}

// Secret tells whether others should not read what plays a role.
func Secret(role string) bool {
	return role == dialect.Config || role == dialect.Private || role == dialect.Backup
}

// closed tells whether a folder above a secret keeps others out.
func (c *counting) closed(e tree.Entry, role string) bool {
	return Secret(role) && e.Kind == tree.File && !c.asking.gets(path.Dir(e.Path), access.Account{UID: strangers})
}

// tell says whom the web server runs as, and to whom most of the site belongs, besides what the web server writes.
func (c *counting) tell(seen *facts.Seen) {
	at := facts.Origin{Path: "."}
	if web := c.asking.web; web != nil {
		seen.Add(facts.FilesWebUser.Reading(web.Name, at), facts.FilesWebInferred.Reading(c.inferred, at))
	} else if c.said != "" {
		seen.AddGap(facts.Gap{Source: facts.Files, Kind: facts.Unmapped, What: "who is " + c.said, Names: []string{facts.FilesWebUser.Name}, Because: "this machine has no account of that name, so what the web server may do cannot be told; say intent.web_user as it is called here"})
	}
	counts := map[string]int{}
	for _, class := range seen.Classes {
		if class.Kind != tree.Link && !isWritten(class.Role) && !isWritten(class.Within) {
			counts[class.Owner] += class.Count
		}
	}
	most := ""
	for _, owner := range slices.Sorted(maps.Keys(counts)) {
		if counts[owner] > counts[most] {
			most = owner
		}
	}
	if most != "" {
		seen.Add(facts.FilesOwner.Reading(most, at))
	}
}

// A link is where a symbolic link leads.
type link struct{ ends, target string }

const (
	linkInside  = "inside"
	linkOutside = "outside"
	linkNowhere = "nowhere"
)

// leads follows a link to where it ends. The target is below the root, with slashes, when it ends inside.
func (c *counting) leads(rel string) link {
	real, err := c.files.Real(rel)
	if err == nil {
		if _, err = c.files.Lstat(real); err == nil {
			return link{linkInside, real}
		}
	}
	written, _ := c.files.Readlink(rel)
	if !errors.Is(err, tree.ErrOutside) {
		return link{linkNowhere, tree.Printable(written)}
	}
	// What is told of a place outside is no more than its name.
	if !path.IsAbs(written) {
		written = path.Join(filepath.ToSlash(c.files.Name()), path.Dir(rel), written)
	}
	if to, err := tree.Machine().Real(tree.Full(written)); err == nil {
		if _, err := tree.Machine().Lstat(to); err == nil {
			return link{linkOutside, "/" + tree.Printable(to)}
		}
	}
	return link{linkNowhere, tree.Printable(written)}
}

func (c *counting) isPublic(rel string) bool {
	return c.served && (c.public == "" || rel == c.public || strings.HasPrefix(rel, c.public) && rel[len(c.public)] == '/')
}

// singly tells whether an entry is kept by itself: where it matters which one it is.
func singly(e tree.Entry, role, within, content string, public bool) bool {
	if e.Kind == tree.Link {
		return public && Secret(role)
	}
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
	}
	return within == dialect.Uploads && (slices.Contains([]string{program, command, disguised, dormant, scripting}, content) || holdsEnding.MatchString(e.Path[strings.LastIndexByte(e.Path, '/')+1:]))
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
	if passed := c.opener.passed.Load(); passed > 0 {
		gaps = append(gaps, facts.Gap{Source: facts.Files, What: "the content of files", Kind: facts.Unmapped, Because: fmt.Sprintf("of %d files the first bytes were not looked at, since %d are opened at most; they are taken for what their names say", passed, maxOpened)})
	}
	if c.opener.unread > 0 {
		what := tree.Printable(c.opener.first.path)
		if more := c.opener.unread - 1; more > 0 {
			what += fmt.Sprintf(" and %d more", more)
		}
		gaps = append(gaps, facts.GapOf(facts.Files, "the content of "+what, c.opener.first.err))
	}
	if c.many > 0 {
		gaps = append(gaps, facts.Gap{Source: facts.Files, What: "files with several names", Kind: facts.Unmapped, Because: fmt.Sprintf("%d were not held against each other, since %d are at most; they are taken for what each name says", c.many, maxSeveral)})
	}
	if c.programs.passed > 0 {
		gaps = append(gaps, facts.Gap{Source: facts.Files, What: "program files", Kind: facts.Unmapped, Because: fmt.Sprintf("of %d that changed longest ago nobody notes when, since %d are noted at most", c.programs.passed, maxPrograms), Names: []string{facts.ListPrograms}})
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
	whos := make([]who, len(c.whos))
	for known, i := range c.whos {
		whos[i] = known
	}
	for k, counted := range c.classes {
		out := facts.Class{Role: roleWords[k.role], Kind: kindWords[k.kind], Content: contentWords[k.content], Public: k.public, Count: counted.count, Single: k.path != "", List: k.list, Closed: k.closed, Under: counted.under, ReadOnly: k.mount.ReadOnly, NoRun: k.mount.NoRun, NoSetID: k.mount.NoSetID, Powers: k.powers, NewWriters: k.heir, NewList: k.heirs}
		if k.within != k.role {
			out.Within = roleWords[k.within]
		}
		if !c.served {
			out.Served = "unknown"
		}
		if out.Kind == tree.Link {
			out.Ends, out.Target = c.links[k.path].ends, c.links[k.path].target
		}
		if tree.HasModes {
			out.Owner, out.Group = names.user(k.uid), names.group(k.gid)
			if out.Kind != tree.Link {
				out.Mode = fmt.Sprintf("%04o", k.mode)
				may := whos[k.who]
				if out.Each = matters(counted.first, out.Role); !out.Each {
					may, out.List = c.asking.of(counted.first, k.mount.ReadOnly)
				}
				out.Web, out.Readers, out.Writers, out.Unsure = may.web, may.readers, may.writers, may.unsure
				out.Marked, out.Asked, out.Shared, out.WebOwns = true, true, c.shared, c.asking.web != nil && c.asking.web.UID == k.uid
			}
		}
		out.Tries = counted.toTry()
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
