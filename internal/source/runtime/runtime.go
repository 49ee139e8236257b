// Package runtime is the source that looks at what the language runtime has been told: php.ini and its scan folder, the pools of
// PHP-FPM, the folders' own files, and the values that the web server hands over, in the order in which they count. Of each
// directive it tells the value in the site's root, and in each folder in which it is another, with the line; and which lines do
// not do what they say. It starts no program.
//
// It may import facts and ordinary, and no other source: what the web server makes of a program is told to it as Places.
package runtime

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/orders"
	"weltaxis/internal/progress"
	"weltaxis/internal/secrets"
	"weltaxis/internal/tree"
)

// maxFile is the largest file that is read.
const maxFile = 4 << 20

// A Config is what was read of the runtime's own files.
type Config struct {
	Folder string   // that of php.ini
	Roots  []string // below which the site lies; none where nobody has said
	files  []*iniFile
	own    map[string]*iniFile // folders' own files, nil for one that is not there

	might      map[string][]byte   // files as they might be
	unread     *facts.Reason       // why not all of php.ini and the scan folder is known
	poolUnread *facts.Reason       // nor of the pools
	relevant   []placed            // of what they say, what is about a directive that is worked out
	special    map[string][]placed // that of sections, by kind and key

	poolList []*pool
	section  string // of a pool's file, while it is read
	included int
	main     map[string]string // directives outside sections, as they were read so far
	gaps     []facts.Gap
}

// Read reads the files of a folder: php.ini and the scan folder beside it, and of PHP-FPM the pools; some files may be given as they might be, by their names.
func Read(files map[string][]byte, folder string, module bool) *Config {
	c := &Config{Folder: folder, might: files, own: map[string]*iniFile{}, main: map[string]string{}, special: map[string][]placed{}}
	names := []string{"php-fpm-fcgi.ini", "php.ini"}
	if module {
		names[0] = "php-apache2handler.ini"
	}
	for _, name := range names {
		if file := filepath.Join(folder, name); exists(file) {
			c.read(file)
			break
		}
	}
	for _, scan := range []string{"conf.d", "php.d"} {
		entries, err := orders.ReadFolder(filepath.Join(folder, scan))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			c.unread = c.gap(filepath.Join(folder, scan), err)
		}
		for _, entry := range entries { // sorted by name, those that begin with a dot too
			if file := filepath.Join(folder, scan, entry.Name()); strings.HasSuffix(file, ".ini") && len(entry.Name()) > 4 {
				c.read(file)
			}
		}
	}
	if len(c.files) == 0 && len(c.gaps) == 0 {
		c.unread = c.lack("%s: there is no php.ini in it, and no conf.d", folder)
	}
	if !module {
		c.pools(filepath.Join(folder, "php-fpm.conf"), 0)
	}
	for _, f := range c.files {
		if f.cut {
			c.unread = c.lack("%s: more than %d lines; the rest was not read", f.path, maxEntries)
		}
		c.relevant = append(c.relevant, plain(f)...)
		for _, e := range f.entries {
			if kind, key := special(e.section); key != "" && e.known() {
				c.special[kind+" "+key] = append(c.special[kind+" "+key], placed{f.path, e})
			}
		}
	}
	return c
}

func exists(file string) bool {
	err := tree.Near(file, func(files tree.Files, name string) error {
		_, err := files.Stat(name)
		return err
	})
	return !errors.Is(err, fs.ErrNotExist)
}

// bytes are those of a file, as they are or might be.
func (c *Config) bytes(file string) ([]byte, error) {
	if data, changed := c.might[file]; changed {
		return data, nil
	}
	return orders.ReadNamed(file, maxFile)
}

func (c *Config) read(file string) {
	data, err := c.bytes(file)
	if err != nil {
		c.unread = c.gap(file, err)
		return
	}
	c.files = append(c.files, readINI(file, data, c.earlier, c.note))
}

// note remembers a directive outside sections for those that name it.
func (c *Config) note(e entry) {
	if kind, _ := special(e.section); kind != "" || e.bare || e.indexed {
		return
	}
	if delete(c.main, e.name); e.unknown == "" {
		c.main[e.name] = e.value
	}
}

// earlier is a directive that was read before, outside sections.
func (c *Config) earlier(name string) (value string, known bool) {
	value, known = c.main[name]
	return value, known
}

// gap tells of a file that could not be read. What it may say is unknown, of that what it may be about.
func (c *Config) gap(file string, err error) *facts.Reason {
	g := facts.GapOf(facts.Runtime, file, err)
	c.gaps = append(c.gaps, g)
	return &facts.Reason{Because: file + " could not be read: " + g.Because, Origin: facts.Origin{File: file}}
}

// lack tells of something else that could not be seen: what, a colon, and why.
func (c *Config) lack(format string, args ...any) *facts.Reason {
	what, because, _ := strings.Cut(fmt.Sprintf(format, args...), ": ")
	c.gaps = append(c.gaps, facts.Gap{Source: facts.Runtime, What: what, Kind: facts.Failed, Because: because})
	return &facts.Reason{Because: what + ": " + because, Origin: facts.Origin{File: c.Folder}}
}

// ownFile is a folder's own file, nil when there is none.
func (c *Config) ownFile(file string) *iniFile {
	f, read := c.own[file]
	if read {
		return f
	}
	data, changed := c.might[file]
	var err error
	if !changed {
		data, err = tree.ReadServed(file, c.Roots, maxFile)
	}
	if err == nil {
		f = readINI(file, data, c.earlier, nil)
	} else if !errors.Is(err, fs.ErrNotExist) {
		f = &iniFile{path: file, unread: c.gap(file, err)}
	}
	c.own[file] = f
	return f
}

var branchIn = regexp.MustCompile(`/php-?/?(\d+\.\d+)(/|$)`)

// branch is that of the version, as the folder's name says; "" when it says none.
func (c *Config) branch() string {
	if found := branchIn.FindStringSubmatch(c.Folder); found != nil {
		return found[1]
	}
	return ""
}

// troubles are the lines that do not do what they say, each once.
type troubles struct{ list []facts.Trouble }

func (t *troubles) add(trouble facts.Trouble) {
	if !slices.ContainsFunc(t.list, func(o facts.Trouble) bool {
		return o.Kind == trouble.Kind && o.At.File == trouble.At.File && o.At.Line == trouble.At.Line
	}) {
		t.list = append(t.list, trouble)
	}
}

// broken tells of a file that is not read to its end.
func (t *troubles) broken(f *iniFile) {
	if f.broken > 0 {
		t.add(facts.Trouble{Kind: facts.LinesLost, Line: f.wrong, At: facts.Origin{File: f.path, Line: f.broken}, Because: "nothing after this line is read"})
	}
}

// A Source is the runtime of a site.
type Source struct {
	// Version and From are the branch and whose it is, as the site file says; "" when it does not.
	Version, From string
	SaidAt        facts.Origin // where it does

	Config *Config
	Dir    string // files below it are named from it
	// Places are where programs are run, the root first, and Elsewhere what the web server hands over anywhere.
	Places    []Place
	Elsewhere []Told
}

// Gather sees what the runtime has been told.
func (s *Source) Gather(ctx context.Context) (facts.Seen, error) {
	var seen facts.Seen
	c := s.Config
	kind := "PHP-FPM"
	if s.Places[0].Module {
		kind = "PHP in Apache"
	}
	at := facts.Origin{File: cmp.Or(c.first(), c.Folder)}
	seen.Add(facts.RuntimeKind.Reading(kind, at))
	t := &troubles{}
	for _, f := range c.files {
		t.broken(f)
	}
	seen.Folders, seen.Troubles = []facts.Folder{}, []facts.Trouble{}
	if !s.Places[0].Module && c.poolOf(s.Places[0].Listen) == nil {
		c.poolUnread = c.lack("the pool: %s", c.whichPool(s.Places[0].Listen))
	}
	s.version(&seen)
	var modules map[string]bool
	if list, at, why := c.modules(); why == "" {
		seen.Add(facts.RuntimeModules.Reading(list, at))
		modules = map[string]bool{}
		for _, name := range list {
			modules[name] = true
		}
	} else {
		seen.AddGap(facts.Gap{Source: facts.Runtime, What: "modules", Kind: facts.Failed, Because: why, Names: []string{facts.RuntimeModules.Name}})
	}
	for i, p := range s.Places {
		if ctx.Err() != nil {
			break
		}
		progress.Tell(ctx, "working out what the runtime has been told", i, len(s.Places))
		v := c.At(p, s.Elsewhere, t)
		folder := v.folder(p.Address, modules)
		if i == 0 {
			s.readings(&seen, v, folder)
		} else if folder.Own = own(folder, nearest(seen.Folders, p.Address)); len(folder.Own) == 0 {
			continue
		}
		seen.Folders = append(seen.Folders, folder)
	}
	s.unread(t)
	s.lingerers(t)
	seen.Troubles = append(seen.Troubles, t.list...)
	for _, gap := range c.gaps {
		seen.AddGap(gap)
	}
	s.near(&seen)
	return seen, ctx.Err()
}

// first is the first file that was read.
func (c *Config) first() string {
	if len(c.files) > 0 {
		return c.files[0].path
	}
	return ""
}

// folder is what a place has been told, as a fact.
func (v *values) folder(address string, modules map[string]bool) facts.Folder {
	f := facts.Folder{Address: address, Own: []string{}, Cells: facts.Cells{}}
	for _, row := range facts.RuntimeFields {
		l := v.of[row.Directive]
		cell := facts.Cell{Origin: l.at}
		needs := directives[row.Directive].only
		switch {
		case needs != "" && modules == nil:
			cell.Unknown = "whether the module " + needs + " is loaded could not be seen"
		case needs != "" && !modules[needs]:
			cell.Value, cell.Origin.Because = facts.BoolOf(false), "the module "+needs+" is not loaded"
		case l.unknown != nil:
			cell.Unknown, cell.Origin = l.unknown.Because, l.unknown.Origin
		default:
			value, wrong := typed(row.Field, row.Directive, l.value)
			cell.Value = value
			if wrong != "" {
				cell.Origin.Because = fmt.Sprintf("%q is no size: %s", secrets.Shown(l.value), wrong)
			}
		}
		f.Cells[row.Name] = cell
	}
	f.Cells[facts.LoaderThere], f.Cells[facts.LoaderDropped] = v.loader(), v.dropped()
	return f
}

// dropped is what was to be run before every program, by a place that another one beats with nothing.
func (v *values) dropped() facts.Cell {
	l := v.of["auto_prepend_file"]
	cell := facts.Cell{Value: facts.TextOf(facts.String, ""), Origin: l.at}
	if l.unknown != nil {
		return facts.Cell{Unknown: l.unknown.Because, Origin: l.unknown.Origin}
	}
	for _, before := range l.beaten {
		if l.value == "" && before.value != "" && before.unknown == nil {
			return facts.Cell{Value: facts.TextOf(facts.String, before.value), Origin: before.at}
		}
	}
	return cell
}

// loader tells whether what is run before every program is there.
func (v *values) loader() facts.Cell {
	l := v.of["auto_prepend_file"]
	cell := facts.Cell{Origin: l.at}
	switch _, err := tree.Machine().Stat(tree.Full(l.value)); {
	case l.unknown != nil:
		cell.Unknown, cell.Origin = l.unknown.Because, l.unknown.Origin
	case l.value == "" || err == nil:
		cell.Value = facts.BoolOf(true)
	case !filepath.IsAbs(l.value):
		cell.Unknown = "it is looked for in the folders of include_path, which are not"
	case errors.Is(err, fs.ErrNotExist):
		cell.Value = facts.BoolOf(false)
	default:
		cell.Unknown = "this user may not look at " + l.value
	}
	return cell
}

// readings are those of the root: the value that counts, and after it what it beats, but for what it is when nobody says anything.
func (s *Source) readings(seen *facts.Seen, v *values, root facts.Folder) {
	var gaps []facts.Gap
	for _, row := range facts.RuntimeFields {
		cell := root.Cells[row.Name]
		if cell.Unknown != "" {
			g := facts.Gap{Source: facts.Runtime, What: row.Directive, Kind: facts.Failed, Because: cell.Unknown, Names: []string{facts.Runtime.Name(row.Name)}}
			if directives[row.Directive].built != "" && v.of[row.Directive].where == builtIn && s.Config.unread == nil {
				g.Kind = facts.Unmapped // nothing that could be read says it
			}
			if i := slices.IndexFunc(gaps, func(o facts.Gap) bool { return o.Because == g.Because && o.Kind == g.Kind }); i >= 0 {
				gaps[i].What, gaps[i].Names = gaps[i].What+", "+g.What, append(gaps[i].Names, g.Names...)
			} else {
				gaps = append(gaps, g)
			}
			continue
		}
		seen.Add(facts.RuntimeReading(row, cell.Value, cell.Origin))
		for _, before := range v.of[row.Directive].beaten {
			if value, _ := typed(row.Field, row.Directive, before.value); before.unknown == nil && before.at.Default == "" {
				seen.Add(facts.RuntimeReading(row, value, before.at))
			}
		}
	}
	for i := range gaps {
		if len(gaps[i].Names) > 3 {
			gaps[i].What = fmt.Sprintf("%d directives", len(gaps[i].Names))
		}
	}
	seen.AddGap(gaps...)
}

// nearest is the folder of a list that another lies in.
func nearest(list []facts.Folder, address string) facts.Folder {
	found := list[0]
	for _, f := range list {
		if strings.HasPrefix(address, f.Address) && len(f.Address) >= len(found.Address) {
			found = f
		}
	}
	return found
}

// own are the fields that are another in a folder than in the one above, or come from another line.
func own(folder, above facts.Folder) (names []string) {
	for _, row := range facts.RuntimeFields {
		cell, other := folder.Cells[row.Name], above.Cells[row.Name]
		if !cell.Value.Equal(other.Value) || cell.Unknown != other.Unknown || cell.Origin != other.Origin {
			names = append(names, row.Name)
		}
	}
	return names
}

// unread tells of folders' own files that nobody reads.
func (s *Source) unread(t *troubles) {
	for _, p := range s.Places {
		file := filepath.Join(filepath.Dir(p.Script), directives["user_ini.filename"].initial)
		if e, err := tree.Machine().Stat(tree.Full(file)); err != nil || e.Kind != tree.File || e.Size == 0 {
			continue
		}
		because := ""
		switch name := s.Config.At(p, s.Elsewhere, &troubles{}).of["user_ini.filename"]; {
		case p.Module:
			because = "PHP in Apache reads no such files"
		case name.unknown == nil && name.value == "":
			because = "such files are switched off: " + name.at.String()
		case name.unknown == nil && name.value != directives["user_ini.filename"].initial:
			because = fmt.Sprintf("such files are called %s: %s", name.value, name.at)
		case p.Root == "":
			because = "the web server hands over no DOCUMENT_ROOT, without which such files are not read"
		default:
			continue
		}
		t.add(facts.Trouble{Kind: facts.NoEffect, Line: filepath.Base(file), At: facts.Origin{File: file, Line: 1}, Because: because})
	}
}

// lingerers tells of what stays in a worker.
func (s *Source) lingerers(t *troubles) {
	if s.Places[0].Module {
		return
	}
	for _, line := range s.Elsewhere {
		if line.Kind == "PHP_VALUE" || line.Kind == "PHP_ADMIN_VALUE" {
			t.add(facts.Trouble{Kind: facts.WorkerDepends, Line: line.text(), At: line.Origin, Because: "it stays in whichever worker it was sent to, and then holds for other places as well"})
		}
	}
}

// near names files from the site's folder.
func (s *Source) near(seen *facts.Seen) {
	dir, err := filepath.Abs(cmp.Or(s.Dir, "."))
	if s.Dir == "" || err != nil {
		return
	}
	at := func(o *facts.Origin) {
		if full, err := filepath.Abs(o.File); o.File != "" && err == nil {
			if rel, err := filepath.Rel(dir, full); err == nil && rel != ".." && !strings.HasPrefix(rel, "../") {
				o.File = filepath.ToSlash(rel)
			}
		}
		o.Because = strings.ReplaceAll(o.Because, dir+"/", "")
	}
	value := func(v facts.Value) facts.Value {
		if v.Type() != facts.String {
			return v
		}
		return facts.TextOf(facts.String, strings.ReplaceAll(v.Text(), dir+"/", ""))
	}
	for i := range seen.Readings {
		at(&seen.Readings[i].Origin)
		seen.Readings[i].Value = value(seen.Readings[i].Value)
	}
	for _, f := range seen.Folders {
		for name, cell := range f.Cells {
			at(&cell.Origin)
			cell.Value = value(cell.Value)
			cell.Unknown = strings.ReplaceAll(cell.Unknown, dir+"/", "")
			f.Cells[name] = cell
		}
	}
	for i := range seen.Troubles {
		at(&seen.Troubles[i].At)
		seen.Troubles[i].Because = strings.ReplaceAll(seen.Troubles[i].Because, dir+"/", "")
	}
	for i := range seen.Gaps {
		seen.Gaps[i].What, seen.Gaps[i].Because = strings.ReplaceAll(seen.Gaps[i].What, dir+"/", ""), strings.ReplaceAll(seen.Gaps[i].Because, dir+"/", "")
	}
}
