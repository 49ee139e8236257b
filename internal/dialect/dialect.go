// Package dialect says how one content system spells the neutral vocabulary: which files play which role, where
// settings and lists are stored, and how stored values are translated. A dialect is a YAML file, so that a new
// system needs no Go.
//
// It opens no site: reading through a dialect is the work of the settings source. It may import facts, format,
// strict and nearest.
package dialect

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/format"
	"weltaxis/internal/nearest"
	"weltaxis/internal/strict"
)

//go:embed *.yaml
var shipped embed.FS

// A Dialect is one file, checked.
type Dialect struct {
	Name      string              `yaml:"dialect"`
	Title     string              `yaml:"title"`
	Version   int                 `yaml:"version"`
	About     string              `yaml:"about"`
	Recognise []Sign              `yaml:"recognise"`
	Public    string              `yaml:"public"` // the folder the web server serves, below the root
	Roles     Roles               `yaml:"roles"`
	Variables map[string]Variable `yaml:"variables"`
	Databases map[string]Database `yaml:"databases"`
	Stores    map[string]Store    `yaml:"stores"`
	Settings  map[string]Setting  `yaml:"settings"`
	Lists     map[string]List     `yaml:"lists"`

	file string
}

// A Sign is something by which an installation is recognised.
type Sign struct {
	File     string `yaml:"file"`     // below the root
	Contains string `yaml:"contains"` // a text in it
}

// A Variable is a value out of the configuration that other entries use as {name}.
type Variable struct {
	From    string `yaml:"from"` // store/key
	Default string `yaml:"default"`
}

// A Database says where one is.
type Database struct {
	SQLite string `yaml:"sqlite"` // its file, below the root; may hold {variables}
}

// A Store is one place settings are kept: a configuration file, or a table of keys and values.
type Store struct {
	File   string `yaml:"file"`
	Format string `yaml:"format"`

	Database string `yaml:"database"`
	Table    string `yaml:"table"` // may hold {variables}
	Key      string `yaml:"key"`   // its column of keys
	Value    string `yaml:"value"` // its column of values
}

// A Setting says where a neutral setting lives and how it is spelt there.
type Setting struct {
	From     Places   `yaml:"from"`    // store/key, the effective one first
	Query    string   `yaml:"query"`   // or a query with one value
	Default  *Default `yaml:"default"` // what the system does when it is not set
	Factory  []string `yaml:"factory"` // the values an install comes with, as stored
	Screen   string   `yaml:"screen"`  // where a person finds it
	Inverted bool     `yaml:"inverted"`
	Unit     string   `yaml:"unit"`
	// Words translates stored words to neutral ones, and Placeholders the marks in a pattern.
	Words        map[string]string `yaml:"words"`
	Placeholders map[string]string `yaml:"placeholders"`
	Split        string            `yaml:"split"` // what separates the items of a list; a comma when empty
	Pos          strict.Pos

	Name string `yaml:"-"`
	Type facts.Type
}

// A List says how the entries of a neutral list are read: a query whose columns are named after its fields, and
// a column row that says which row it was.
type List struct {
	Database string                       `yaml:"database"`
	Table    string                       `yaml:"table"`
	Query    string                       `yaml:"query"`
	Words    map[string]map[string]string `yaml:"words"`
	Pos      strict.Pos
}

// Places is one store/key, or a list of them.
type Places []string

// UnmarshalNode reads either shape.
func (p *Places) UnmarshalNode(n strict.Node) error {
	if n.IsSequence() {
		return n.Into((*[]string)(p))
	}
	var one string
	if err := n.Into(&one); err != nil {
		return err
	}
	*p = Places{one}
	return nil
}

// A Default is the neutral value, as text, that holds when the system has nothing stored.
type Default string

// UnmarshalNode takes any single value as its text.
func (d *Default) UnmarshalNode(n strict.Node) error {
	text, _, err := n.Scalar()
	*d = Default(text)
	return err
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
func Load(name, dir string) (*Dialect, error) {
	if strings.ContainsAny(name, `/\`) || strings.HasSuffix(name, ".yaml") {
		file := name
		if !filepath.IsAbs(file) {
			file = filepath.Join(dir, file)
		}
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("reading the dialect %s: %w", name, plain(err))
		}
		return parse(name, data)
	}
	data, err := shipped.ReadFile(name + ".yaml")
	if err != nil {
		return nil, fmt.Errorf("there is no dialect %q%s; there are %s, and a file of your own as ./name.yaml",
			name, nearest.Hint(name, Shipped()), strings.Join(Shipped(), ", "))
	}
	return parse(name+".yaml", data)
}

// Source returns the text of a shipped dialect.
func Source(name string) ([]byte, error) { return shipped.ReadFile(name + ".yaml") }

// plain takes the path out of an error of the file system that is already named.
func plain(err error) error {
	var pathErr *fs.PathError
	if errors.As(err, &pathErr) {
		return pathErr.Err
	}
	return err
}

func parse(file string, data []byte) (*Dialect, error) {
	d := &Dialect{file: file}
	if err := strict.Decode(file, data, d); err != nil {
		return nil, err
	}
	return d, d.check()
}

// String is the name with the version, as results carry it.
func (d *Dialect) String() string { return fmt.Sprintf("%s %d", d.Name, d.Version) }

func (d *Dialect) errorf(at strict.Pos, format string, args ...any) error {
	return &strict.Error{File: d.file, Pos: at, Says: fmt.Sprintf(format, args...)}
}

// check holds the dialect against the catalogue and against itself.
func (d *Dialect) check() error {
	switch {
	case d.Name == "":
		return d.errorf(strict.Pos{}, "dialect is missing: the name it is used under")
	case d.Version < 1:
		return d.errorf(strict.Pos{}, "version is missing: a whole number from 1")
	}
	if err := d.checkRoles(); err != nil {
		return err
	}
	if err := d.checkPlaces(); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(d.Settings)) {
		setting := d.Settings[name]
		entry, known := facts.Lookup(facts.Settings + "." + name)
		if !known {
			return d.errorf(setting.Pos, "there is no setting %q%s", name, nearest.Hint(name, facts.Names(facts.Settings)))
		}
		setting.Name, setting.Type = name, entry.Type
		if err := d.checkSetting(setting, entry); err != nil {
			return err
		}
		d.Settings[name] = setting
	}
	for name, list := range d.Lists {
		if _, known := facts.Lists[facts.Settings+"."+name]; !known {
			return d.errorf(list.Pos, "there is no list %q", name)
		}
		if err := d.checkQuery(list.Pos, list.Query, list.Database); err != nil {
			return err
		}
	}
	return nil
}

// checkPlaces keeps every path inside the root and every store whole.
func (d *Dialect) checkPlaces() error {
	if d.Public != "" && !filepath.IsLocal(d.Public) {
		return d.errorf(strict.Pos{}, "public: %q leaves the root", d.Public)
	}
	for name, store := range d.Stores {
		switch {
		case store.File != "" && (!filepath.IsLocal(store.File) || path.IsAbs(store.File)):
			return d.errorf(strict.Pos{}, "store %s: %q leaves the root", name, store.File)
		case store.File != "" && !slices.Contains(format.Names(), store.Format):
			return d.errorf(strict.Pos{}, "store %s: there is no format %q%s", name, store.Format, nearest.Hint(store.Format, format.Names()))
		case store.File == "" && (store.Table == "" || store.Key == "" || store.Value == ""):
			return d.errorf(strict.Pos{}, "store %s: needs file and format, or table, key and value", name)
		case store.File == "" && !d.hasDatabase(store.Database):
			return d.errorf(strict.Pos{}, "store %s: there is no database %q", name, store.Database)
		}
	}
	for name, v := range d.Variables {
		if err := d.checkPlace(strict.Pos{}, v.From); err != nil {
			return fmt.Errorf("variable %s: %w", name, err)
		}
	}
	return nil
}

func (d *Dialect) hasDatabase(name string) bool {
	_, ok := d.Databases[name]
	return ok
}

func (d *Dialect) checkPlace(at strict.Pos, place string) error {
	store, key := SplitPlace(place)
	if _, ok := d.Stores[store]; !ok {
		return d.errorf(at, "there is no store %q%s", store, nearest.Hint(store, slices.Collect(maps.Keys(d.Stores))))
	}
	if key == "" {
		return d.errorf(at, "%q names no key; write store/key", place)
	}
	return nil
}

// SplitPlace takes store/key apart at the first slash.
func SplitPlace(place string) (store, key string) {
	store, key, _ = strings.Cut(place, "/")
	return store, key
}

var queryShape = regexp.MustCompile(`(?is)^\s*select\s[^;]*$`)

// checkQuery takes one SELECT and nothing after it. The connection is read-only besides.
func (d *Dialect) checkQuery(at strict.Pos, query, database string) error {
	if !queryShape.MatchString(query) {
		return d.errorf(at, "a query is one SELECT without a semicolon")
	}
	if !d.hasDatabase(database) {
		return d.errorf(at, "there is no database %q", database)
	}
	return nil
}

var units = map[facts.Type][]string{
	facts.Duration: {"seconds", "minutes", "hours", "days"},
	facts.Size:     {"bytes", "KiB", "MiB"},
}

func (d *Dialect) checkSetting(s Setting, entry facts.Entry) error {
	if (len(s.From) == 0) == (s.Query == "") {
		return d.errorf(s.Pos, "%s: says where it lives with either from or query", s.Name)
	}
	for _, place := range s.From {
		if err := d.checkPlace(s.Pos, place); err != nil {
			return err
		}
	}
	if s.Query != "" {
		if err := d.checkQuery(s.Pos, s.Query, d.QueryDatabase()); err != nil {
			return err
		}
	}
	if s.Unit != "" && !slices.Contains(units[entry.Type], s.Unit) {
		return d.errorf(s.Pos, "%s: there is no unit %q for a %s", s.Name, s.Unit, entry.Type)
	}
	for stored, neutral := range s.Words {
		if v, err := entry.Type.Parse(neutral); err != nil || !entry.Check(v) {
			return d.errorf(s.Pos, "%s: %q is translated to %q, which is none of %s%s", s.Name, stored, neutral,
				strings.Join(entry.Words, ", "), nearest.Hint(neutral, entry.Words))
		}
	}
	if s.Default != nil {
		if v, err := entry.Type.Parse(string(*s.Default)); err != nil || !entry.Check(v) {
			return d.errorf(s.Pos, "%s: the default %q is no %s", s.Name, *s.Default, entry.Type)
		}
	}
	return nil
}

// QueryDatabase is the database that the queries of settings are put to: the only one, or main.
func (d *Dialect) QueryDatabase() string {
	if names := slices.Collect(maps.Keys(d.Databases)); len(names) == 1 {
		return names[0]
	}
	return "main"
}

// Names lists the mapped settings in the order of the catalogue.
func (d *Dialect) Names() []string {
	var names []string
	for _, name := range facts.Names(facts.Settings) {
		if _, ok := d.Settings[name]; ok {
			names = append(names, name)
		}
	}
	return names
}

// Unmapped lists the settings of the catalogue that the dialect does not map.
func (d *Dialect) Unmapped() []string {
	return slices.DeleteFunc(facts.Names(facts.Settings), func(name string) bool {
		_, ok := d.Settings[name]
		return ok
	})
}
