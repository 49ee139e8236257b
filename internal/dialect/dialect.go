// Package dialect says how one content system spells the neutral vocabulary: which files play which role, where
// settings and lists are stored, and how stored values are translated, both ways. A dialect is a YAML file, so
// that a new system needs no Go.
//
// It opens no site: package store does, and the settings source reads through it. It may import facts, format, orders,
// strict and nearest.
package dialect

import (
	"embed"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/nearest"
	"weltaxis/internal/orders"
	"weltaxis/internal/strict"
)

//go:embed *.yaml
var shipped embed.FS

// A Dialect is one file, checked, with all that it builds on.
type Dialect struct {
	Name       string              `yaml:"dialect"`
	Title      string              `yaml:"title"`
	Version    int                 `yaml:"version"`
	About      string              `yaml:"about"`
	BuildsOn   string              `yaml:"builds_on"` // a shipped dialect, or a file beside this one
	Without    []string            `yaml:"without"`   // settings and lists of that one which this system does not have
	Recognise  []Sign              `yaml:"recognise"`
	Public     string              `yaml:"public"` // the folder the web server serves, below the root
	Roles      Roles               `yaml:"roles"`
	Variables  map[string]Variable `yaml:"variables"`
	Databases  map[string]Database `yaml:"databases"`
	Stores     map[string]Store    `yaml:"stores"`
	Settings   map[string]Setting  `yaml:"settings"`
	Lists      map[string]List     `yaml:"lists"`
	Caches     []Kept              `yaml:"caches"`
	Assets     []Asset             `yaml:"assets"`
	Signs      []Outward           `yaml:"signs"`      // from which a stranger can tell the system
	Installers []string            `yaml:"installers"` // paths at which it is set up
	PageCaches []PageCache         `yaml:"page_caches"`
	Relies     map[string][]string `yaml:"relies"` // settings that do nothing unless the runtime has one of these modules
	Parts      Parts               `yaml:"parts"`
	Modules    []string            `yaml:"modules"` // of the language runtime, without which parts of the system fail; nil when nobody says

	file string
}

// A Kept is where the system keeps finished pages: a folder that may be emptied, or a path that empties it when it
// is called.
type Kept struct {
	Folder string `yaml:"folder"` // below the root
	Purge  string `yaml:"purge"`  // path below the site's address, called with POST
}

// Parts says how what is installed is known elsewhere, and where it lies. What something is of: system, extension or theme.
type Parts struct {
	Ecosystem string            `yaml:"ecosystem"` // of the OSV schema: in whose order versions are, and by whose names advisories speak
	Packages  map[string]string `yaml:"packages"`  // by what it is, under which name advisories know it, with {name}
	Folders   map[string]string `yaml:"folders"`   // by what it is, the folder below the root that it lies in, with {name} as the last part
	Alone     []string          `yaml:"alone"`     // words of the list of extensions (does) for what only one of should do
}

// An Asset says whose the styles, scripts and pictures below a path of addresses are.
type Asset struct {
	Path string `yaml:"path"` // with {name} for the name of a theme or an extension
	Of   string `yaml:"of"`   // theme, extension, uploads or system
	Used string `yaml:"used"` // what stands in a page that uses the extension, with {name}
}

// An Outward is a sign from which a stranger can tell the system, or a part of it.
type Outward struct {
	In    string `yaml:"in"`    // tag, header, cookie, asset, markup, feed, file, error page
	Match string `yaml:"match"` // a regular expression (RE2), with the groups name and version where it gives them away
	Gives string `yaml:"gives"` // system, extension, theme or firewall; system when it is left out
	Name  string `yaml:"name"`  // where the expression has no group for it; the system's own when it is left out
	Sure  string `yaml:"sure"`  // certain, likely (when it is left out) or slight

	Expression *regexp.Regexp `yaml:"-"`
}

// A PageCache is an extension that keeps whole pages, and what it puts into an installation: left behind, that is in the way of
// the next one.
type PageCache struct {
	Extension string   `yaml:"extension"`
	Files     []string `yaml:"files"`   // below the root, that are loaded before anything else
	Folders   []string `yaml:"folders"` // below the root
	Lines     string   `yaml:"lines"`   // what stands in lines that it writes into the web server's configuration
}

// A Variable is a value out of the configuration that other entries use as {name}. A password among them is
// used to connect, and shown nowhere.
type Variable struct {
	From    string            `yaml:"from"` // a place in a file
	Default string            `yaml:"default"`
	Words   map[string]string `yaml:"words"` // what stored words stand for
}

// The kinds of database.
const (
	SQLite     = "sqlite"
	MySQL      = "mysql" // MariaDB too
	PostgreSQL = "postgresql"
)

// Drivers lists them.
var Drivers = []string{SQLite, MySQL, PostgreSQL}

// A Database says where one is. Every field may hold {variables}.
type Database struct {
	Driver string `yaml:"driver"` // one of Drivers; sqlite when it is empty
	SQLite string `yaml:"sqlite"` // its file, below the root

	Host     string `yaml:"host"` // a name or address, with a port if need be; or the path of a socket
	Port     string `yaml:"port"`
	Socket   string `yaml:"socket"`
	Name     string `yaml:"name"`
	User     string `yaml:"user"`
	Password string `yaml:"password"`
}

// A List says how the entries of a neutral list are read: by a query, out of a table, from what stands below a
// path of a file, or from a folder with a record for each.
type List struct {
	Database string            `yaml:"database"`
	Query    string            `yaml:"query"` // its columns are named as the fields, and one as the key
	Table    string            `yaml:"table"` // read as it is without a query, and written
	Key      string            `yaml:"key"`   // the column that tells one row
	Where    map[string]string `yaml:"where"` // only rows with these values; may hold {variables}
	From     string            `yaml:"from"`  // a place: store/path, or store/ for a folder of records
	Columns  map[string]Column `yaml:"columns"`
	Pos      strict.Pos
}

// A Column is where a field of a list lives, and how it is spelt there.
type Column struct {
	At          string `yaml:"at"` // column, or path below the entry
	Translation `yaml:",inline"`
}

// UnmarshalNode takes a name alone for a column that needs no translation.
func (c *Column) UnmarshalNode(n strict.Node) error {
	if n.IsMapping() {
		type plain Column
		return n.Into((*plain)(c))
	}
	return n.Into(&c.At)
}

// Shipped lists the names of the dialects that come with the program.
func Shipped() []string {
	entries, _ := shipped.ReadDir(".")
	var names []string
	for _, e := range entries {
		names = append(names, strings.TrimSuffix(e.Name(), ".yaml"))
	}
	return names
}

// Load reads a dialect by name, or from a file when the name has a slash or ends in .yaml; a relative file is
// looked for below dir.
func Load(name, dir string) (*Dialect, error) { return load(name, dir, nil) }

func load(name, dir string, builders []string) (*Dialect, error) {
	file, data, err := read(name, dir)
	if err != nil {
		return nil, err
	}
	d, err := parse(file, data)
	if err != nil {
		return nil, err
	}
	if d.BuildsOn != "" {
		if slices.Contains(builders, d.BuildsOn) || len(builders) > 4 {
			return nil, d.errorf(strict.Pos{}, "builds_on: %s builds on itself", d.BuildsOn)
		}
		base, err := load(d.BuildsOn, filepath.Dir(filepath.Join(dir, name)), append(builders, name))
		if err != nil {
			return nil, fmt.Errorf("%s builds on %s: %w", file, d.BuildsOn, err)
		}
		if err := d.inherit(base); err != nil {
			return nil, err
		}
	}
	return d, d.check()
}

func parse(file string, data []byte) (*Dialect, error) {
	d := &Dialect{file: file}
	return d, strict.Decode(file, data, d)
}

// maxFile is the largest dialect that is read, in bytes.
const maxFile = 4 << 20

// read gives the text of a dialect and what to call its file.
func read(name, dir string) (file string, data []byte, err error) {
	if strings.ContainsAny(name, `/\`) || strings.HasSuffix(name, ".yaml") {
		file = name
		if !filepath.IsAbs(file) {
			file = filepath.Join(dir, file)
		}
		data, err = orders.Read(file, maxFile)
		if fault := (*orders.Fault)(nil); errors.As(err, &fault) {
			return "", nil, fmt.Errorf("the dialect %s is not obeyed: %w", name, err)
		}
		if err != nil {
			return "", nil, fmt.Errorf("reading the dialect %s: %w", name, facts.Plainly(err))
		}
		return name, data, nil
	}
	if data, err = shipped.ReadFile(name + ".yaml"); err != nil {
		return "", nil, fmt.Errorf("there is no dialect %q%s; there are %s, and a file of your own as ./name.yaml",
			name, nearest.Hint(name, Shipped()), strings.Join(Shipped(), ", "))
	}
	return name + ".yaml", data, nil
}

// inherit takes from another dialect what this one does not say itself.
func (d *Dialect) inherit(base *Dialect) error {
	for _, name := range d.Without {
		if now, changed := facts.PresentSetting(name); changed {
			slog.Warn(d.errorf(strict.Pos{}, "without: %s", facts.Renamed(name, now)).Error())
			name = now
		}
		if _, isSetting := base.Settings[name]; !isSetting {
			if _, isList := base.Lists[name]; !isList {
				return d.errorf(strict.Pos{}, "without: %s has no setting or list %q", base.Name, name)
			}
		}
		delete(base.Settings, name)
		delete(base.Lists, name)
	}
	if len(d.Recognise) == 0 {
		d.Recognise = base.Recognise
	}
	if d.Public == "" {
		d.Public = base.Public
	}
	d.Roles = merged(base.Roles, d.Roles)
	d.Variables = merged(base.Variables, d.Variables)
	d.Databases = merged(base.Databases, d.Databases)
	d.Stores = merged(base.Stores, d.Stores)
	d.Settings = merged(base.Settings, d.Settings)
	d.Lists = merged(base.Lists, d.Lists)
	if d.Modules == nil {
		d.Modules = base.Modules
	}
	if len(d.Caches) == 0 {
		d.Caches = base.Caches
	}
	if len(d.Assets) == 0 {
		d.Assets = base.Assets
	}
	if len(d.PageCaches) == 0 {
		d.PageCaches = base.PageCaches
	}
	if d.Parts.Ecosystem == "" {
		d.Parts.Ecosystem = base.Parts.Ecosystem
	}
	d.Parts.Packages = merged(base.Parts.Packages, d.Parts.Packages)
	d.Parts.Folders = merged(base.Parts.Folders, d.Parts.Folders)
	if d.Parts.Alone == nil {
		d.Parts.Alone = base.Parts.Alone
	}
	d.Relies = merged(base.Relies, d.Relies)
	return nil
}

func merged[M ~map[string]V, V any](base, own M) M {
	all := maps.Clone(base)
	if all == nil {
		all = M{}
	}
	maps.Copy(all, own)
	return all
}

// Source returns the text of a shipped dialect.
func Source(name string) ([]byte, error) { return shipped.ReadFile(name + ".yaml") }

// String is the name with the version, as results carry it.
func (d *Dialect) String() string { return fmt.Sprintf("%s %d", d.Name, d.Version) }

// Named is the title, or the name where there is none.
func (d *Dialect) Named() string {
	if d.Title != "" {
		return d.Title
	}
	return d.Name
}

func (d *Dialect) errorf(at strict.Pos, format string, args ...any) error {
	return strict.Errorf(d.file, at, format, args...)
}

// check holds the dialect against the catalogue and against itself.
func (d *Dialect) check() error {
	switch {
	case d.Name == "":
		return d.errorf(strict.Pos{}, "dialect is missing: the name it is used under")
	case d.Version < 1:
		return d.errorf(strict.Pos{}, "version is missing: a whole number from 1")
	}
	for _, check := range []func() error{d.checkSigns, d.checkRoles, d.checkStores, d.checkVariables, d.checkDatabases, d.checkSettings, d.checkLists, d.checkCaches, d.checkAssets, d.checkPageCaches, d.checkParts} {
		if err := check(); err != nil {
			return err
		}
	}
	return nil
}

func (d *Dialect) checkVariables() error {
	for name, v := range d.Variables {
		store, _ := SplitPlace(v.From)
		if err := d.checkPlace(strict.Pos{}, v.From); err != nil {
			return fmt.Errorf("variable %s: %w", name, err)
		}
		if s := d.Stores[store]; s.File == "" && s.Folder == "" {
			return d.errorf(strict.Pos{}, "variable %s: a variable comes from a file", name)
		}
	}
	return nil
}

func (d *Dialect) checkDatabases() error {
	for name, db := range d.Databases {
		switch {
		case db.Driver == "" && db.SQLite == "":
			return d.errorf(strict.Pos{}, "database %s: needs sqlite, its file, or driver and name", name)
		case db.Driver != "" && !strings.Contains(db.Driver, "{") && !slices.Contains(Drivers, db.Driver):
			return d.errorf(strict.Pos{}, "database %s: there is no driver %q%s; there are %s", name, db.Driver, nearest.Hint(db.Driver, Drivers), strings.Join(Drivers, ", "))
		}
		for _, text := range []string{db.Driver, db.SQLite, db.Host, db.Port, db.Socket, db.Name, db.User, db.Password} {
			if err := d.checkMarks(strict.Pos{}, text); err != nil {
				return err
			}
		}
	}
	return nil
}

var markShape = regexp.MustCompile(`\{([a-z_]+)\}`)

// Fill replaces every {name} in a text.
func Fill(text string, with func(name string) string) string {
	return markShape.ReplaceAllStringFunc(text, func(mark string) string { return with(mark[1 : len(mark)-1]) })
}

// checkMarks holds that every {variable} in a text is one.
func (d *Dialect) checkMarks(at strict.Pos, text string) (err error) {
	Fill(text, func(name string) string {
		if _, known := d.Variables[name]; !known {
			err = d.errorf(at, "there is no variable {%s}%s", name, nearest.Hint(name, slices.Collect(maps.Keys(d.Variables))))
		}
		return ""
	})
	return err
}

// AssetOwners are whose assets may be.
var AssetOwners = []string{"theme", "extension", "uploads", "system"}

func (d *Dialect) checkAssets() error {
	for _, a := range d.Assets {
		switch {
		case !strings.HasPrefix(a.Path, "/"):
			return d.errorf(strict.Pos{}, "assets: path is one of an address, as /themes/{name}/, and not %q", a.Path)
		case !slices.Contains(AssetOwners, a.Of):
			return d.errorf(strict.Pos{}, "assets: %s: of: %q is none of %s%s", a.Path, a.Of, strings.Join(AssetOwners, ", "), nearest.Hint(a.Of, AssetOwners))
		case strings.Count(a.Path, "{name}") > 1:
			return d.errorf(strict.Pos{}, "assets: %s: {name} stands in it once at most", a.Path)
		}
	}
	for name := range d.Relies {
		if _, known := facts.Lookup(facts.Settings.Name(name)); !known {
			return d.errorf(strict.Pos{}, "relies: there is no setting %q", name)
		}
	}
	return nil
}

func (d *Dialect) checkPageCaches() error {
	for _, c := range d.PageCaches {
		if c.Extension == "" || len(c.Files)+len(c.Folders) == 0 && c.Lines == "" {
			return d.errorf(strict.Pos{}, "page_caches: each names its extension, and files, folders or lines that it makes")
		}
		for _, name := range slices.Concat(c.Files, c.Folders) {
			if !filepath.IsLocal(name) {
				return d.errorf(strict.Pos{}, "page_caches: %s: %q is not below the root", c.Extension, name)
			}
		}
		if c.Lines != "" && len(c.Lines) < 4 {
			return d.errorf(strict.Pos{}, "page_caches: %s: lines: %q is too short to be looked for", c.Extension, c.Lines)
		}
	}
	return nil
}

// partKinds are what a dialect may say of what something is.
var partKinds = []string{"system", "extension", "theme"}

func (d *Dialect) checkParts() error {
	for _, kind := range slices.Concat(slices.Sorted(maps.Keys(d.Parts.Packages)), slices.Sorted(maps.Keys(d.Parts.Folders))) {
		if !slices.Contains(partKinds, kind) {
			return d.errorf(strict.Pos{}, "parts: %q is none of %s%s", kind, strings.Join(partKinds, ", "), nearest.Hint(kind, partKinds))
		}
	}
	for kind, folder := range d.Parts.Folders {
		if !filepath.IsLocal(strings.ReplaceAll(folder, "{name}", "x")) || path.Base(path.Clean(folder)) != "{name}" || strings.Count(folder, "{name}") != 1 {
			return d.errorf(strict.Pos{}, "parts: folders: %s: %q is no folder below the root with {name} as its last part, as extensions/{name}", kind, folder)
		}
	}
	return nil
}

// Package is the name under which advisories know a part, "" when nobody says.
func (d *Dialect) Package(kind, name string) string {
	return strings.ReplaceAll(d.Parts.Packages[kind], "{name}", name)
}

// PartFolder is the folder below the root that a part lies in, "" when nobody says or the name is none of a folder.
func (d *Dialect) PartFolder(kind, name string) string {
	folder := d.Parts.Folders[kind]
	if folder == "" || name == "" || name == "." || name == ".." || strings.ContainsAny(name, `/\`) {
		return ""
	}
	return path.Clean(strings.ReplaceAll(folder, "{name}", name))
}

// checkCaches lets nothing be called a cache that holds anything else: what is emptied must be the role's of caches alone,
// and lie neither in nor around what the site keeps.
func (d *Dialect) checkCaches() error {
	matcher := NewMatcher(d)
	for _, c := range d.Caches {
		folder := path.Clean(filepath.ToSlash(c.Folder))
		switch {
		case (c.Folder == "") == (c.Purge == ""):
			return d.errorf(strict.Pos{}, "caches: each is a folder, or a path to call")
		case c.Purge != "" && !strings.HasPrefix(c.Purge, "/"):
			return d.errorf(strict.Pos{}, "caches: purge is a path, as /empty")
		case c.Purge != "":
			continue
		case !filepath.IsLocal(c.Folder) || folder == ".":
			return d.errorf(strict.Pos{}, "caches: %q is no folder of its own below the root", c.Folder)
		}
		if role := matcher.Folder(folder); role != Cache && role != Temporary {
			return d.errorf(strict.Pos{}, "caches: %q is emptied, and by its role it is %s; if it holds nothing but kept pages, list it under roles, cache", c.Folder, role)
		}
		if in := d.keptWith(folder); in != "" {
			return d.errorf(strict.Pos{}, "caches: %q is emptied, and %s lies in it or around it", c.Folder, in)
		}
	}
	return nil
}

// keptWith is what the site keeps that lies in a folder or around it, "" for nothing.
func (d *Dialect) keptWith(folder string) string {
	in := func(a, b string) bool { return a == b || strings.HasPrefix(a, b+"/") }
	clash := func(name string) bool {
		at := strings.Trim(path.Clean("/"+filepath.ToSlash(name)), "/")
		return name != "" && at != "" && !strings.Contains(at, "{") && (in(at, folder) || in(folder, at))
	}
	if public := strings.Trim(path.Clean("/"+filepath.ToSlash(d.Public)), "/"); public != "" && in(public, folder) {
		return "the folder that is served"
	}
	for _, name := range slices.Sorted(maps.Keys(d.Stores)) {
		if clash(d.Stores[name].File) || clash(d.Stores[name].Folder) {
			return "the store " + name
		}
	}
	for _, name := range slices.Sorted(maps.Keys(d.Databases)) {
		if clash(d.Databases[name].SQLite) {
			return "the database " + name
		}
	}
	for _, role := range slices.Sorted(maps.Keys(d.Roles)) {
		for _, pattern := range d.Roles[role] {
			if role != Cache && role != Temporary && strings.Contains(pattern, "/") && in(strings.Trim(pattern, "/"), folder) {
				return pattern + ", which is " + role + ","
			}
		}
	}
	return ""
}

func (d *Dialect) hasDatabase(name string) bool {
	_, ok := d.Databases[name]
	return ok
}

// QueryDatabase is the database that the queries of settings are put to: the only one, or main.
func (d *Dialect) QueryDatabase() string {
	if names := slices.Collect(maps.Keys(d.Databases)); len(names) == 1 {
		return names[0]
	}
	return "main"
}

func (d *Dialect) checkLists() error {
	for _, name := range slices.Sorted(maps.Keys(d.Lists)) {
		list := d.Lists[name]
		fields, known := facts.Lists[facts.Settings.Name(name)]
		if !known {
			return d.errorf(list.Pos, "there is no list %q%s", name, nearest.Hint(name, ListNames()))
		}
		if err := d.checkList(name, list, fields); err != nil {
			return err
		}
	}
	return nil
}

// ListNames lists the neutral lists that a dialect may map.
func ListNames() []string {
	var names []string
	for name := range facts.Lists {
		if short, ok := strings.CutPrefix(name, facts.Settings.All()); ok {
			names = append(names, short)
		}
	}
	slices.Sort(names)
	return names
}

func (d *Dialect) checkList(name string, list List, fields []facts.Field) error {
	switch {
	case list.From != "" && (list.Query != "" || list.Table != ""), list.From == "" && list.Query == "" && list.Table == "":
		return d.errorf(list.Pos, "list %s: says where it lives with from, or with table or query", name)
	case list.Query != "":
		if err := d.checkQuery(list.Pos, list.Query, list.Database); err != nil {
			return err
		}
	case list.Table != "" && (list.Key == "" || len(list.Columns) == 0):
		return d.errorf(list.Pos, "list %s: a table needs key and columns", name)
	case list.From != "":
		store, _ := SplitPlace(list.From)
		if s, known := d.Stores[store]; !known || s.Database != "" {
			return d.errorf(list.Pos, "list %s: from names no store that is a file or a folder: %q", name, store)
		}
	}
	if list.From == "" && !d.hasDatabase(list.Database) {
		return d.errorf(list.Pos, "there is no database %q", list.Database)
	}
	for field, column := range list.Columns {
		if field == "key" {
			continue
		}
		i := slices.IndexFunc(fields, func(f facts.Field) bool { return f.Name == field })
		if i < 0 {
			return d.errorf(list.Pos, "list %s: there is no field %q%s", name, field, nearest.Hint(field, fieldNames(fields)))
		}
		if err := d.checkTranslation(list.Pos, name+"."+field, column.Translation, facts.Term{Type: fields[i].Type, Words: fields[i].Words}); err != nil {
			return err
		}
	}
	return nil
}

func fieldNames(fields []facts.Field) []string {
	var names []string
	for _, f := range fields {
		names = append(names, f.Name)
	}
	return names
}

// Names lists the mapped settings in the order of the catalogue.
func (d *Dialect) Names() []string {
	var names []string
	for _, name := range facts.Kept() {
		if _, ok := d.Settings[name]; ok {
			names = append(names, name)
		}
	}
	return names
}

// Unmapped lists the settings of the catalogue that the dialect does not map.
func (d *Dialect) Unmapped() []string {
	return slices.DeleteFunc(facts.Kept(), func(name string) bool {
		_, ok := d.Settings[name]
		return ok
	})
}

// KeysIn lists the keys that something of the dialect reads in a store.
func (d *Dialect) KeysIn(store string) []string {
	keys := map[string]bool{}
	note := func(place string) {
		if s, key := SplitPlace(place); s == store {
			keys[key] = true
		}
	}
	for _, setting := range d.Settings {
		for _, place := range setting.Places() {
			note(place)
		}
	}
	for _, s := range d.Stores {
		note(s.Inside)
	}
	return slices.Sorted(maps.Keys(keys))
}

// ConcernedBy lists the settings and lists that a store has a say in, also by way of a store inside it.
func (d *Dialect) ConcernedBy(store string) []string {
	var names []string
	for name, setting := range d.Settings {
		for _, place := range setting.Places() {
			s, _ := SplitPlace(place)
			if outer, _ := SplitPlace(d.Stores[s].Inside); s == store || outer == store {
				names = append(names, name)
			}
		}
	}
	for name, list := range d.Lists {
		if s, _ := SplitPlace(list.From); list.From != "" && s == store {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// ConcernedByDatabase lists the settings and lists that a database has a say in.
func (d *Dialect) ConcernedByDatabase(database string) []string {
	var names []string
	for name, store := range d.Stores {
		if store.Database == database {
			names = append(names, d.ConcernedBy(name)...)
		}
	}
	for name, setting := range d.Settings {
		if setting.Query != "" && d.QueryDatabase() == database {
			names = append(names, name)
		}
	}
	for name, list := range d.Lists {
		if list.Database == database {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}
