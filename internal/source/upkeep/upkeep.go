// Package upkeep knows what others say of programs: which versions there are and until when they are mended, which flaws are known, and
// what their files ought to be. It reads lists that somebody supplies, of bounded size, and judges no site.
//
// It may import dialect, facts, ordinary, private and strict.
package upkeep

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/facts"
	"weltaxis/internal/orders"
	"weltaxis/internal/strict"
)

// A Versions is what one or several lists say of programs and their versions.
type Versions struct {
	// Of is the day of the oldest of the lists.
	Of         time.Time
	components map[string]*component // by name, as it is compared
}

// versionsFile is the form of a list.
type versionsFile struct {
	Of         strict.Date           `yaml:"as_of"`
	Order      string                `yaml:"order"`
	Components map[string]*component `yaml:"components"`
}

type component struct {
	Order     string            `yaml:"order"`
	Newest    string            `yaml:"newest"`
	Released  strict.Date       `yaml:"released"`
	Until     strict.Date       `yaml:"until"`
	Branches  map[string]branch `yaml:"branches"`
	Releases  []release         `yaml:"releases"`
	Withdrawn strict.Date       `yaml:"withdrawn"`
	Because   string            `yaml:"because"`
	Excludes  []string          `yaml:"excludes"`
	Pos       strict.Pos

	file string
	of   time.Time
}

// A branch is mended until a day; without one, as long as the list names it.
type branch struct {
	Newest   string      `yaml:"newest"`
	Released strict.Date `yaml:"released"`
	Until    strict.Date `yaml:"until"`
}

type release struct {
	Version  string      `yaml:"version"`
	Released strict.Date `yaml:"released"`
}

const (
	maxList  = 16 << 20 // bytes of a list of versions
	maxLists = 1000     // of them in a folder
)

// ReadVersions reads a list of versions, or all of a folder: files in YAML, or in JSON, which is YAML.
func ReadVersions(place string) (*Versions, error) {
	files := []string{place}
	if stat, err := os.Stat(place); err != nil {
		return nil, fmt.Errorf("the list of versions %s: %w", place, facts.Plainly(err))
	} else if stat.IsDir() {
		if files, err = within(place, maxLists, ".yaml", ".yml", ".json"); err != nil {
			return nil, fmt.Errorf("the lists of versions in %s: %w", place, err)
		}
		if len(files) == 0 {
			return nil, fmt.Errorf("the lists of versions in %s: there is none; each is a file that ends in .yaml or .json", place)
		}
	}
	v := &Versions{components: map[string]*component{}}
	for _, file := range files {
		if err := v.read(file); err != nil {
			return nil, err
		}
	}
	return v, nil
}

func (v *Versions) read(file string) error {
	data, err := orders.ReadNamed(file, maxList)
	if err != nil {
		return fmt.Errorf("the list of versions %s: %w", file, facts.Plainly(err))
	}
	var list versionsFile
	if err := strict.Decode(file, data, &list); err != nil {
		return err
	}
	wrong := func(pos strict.Pos, says string, args ...any) error {
		return strict.Errorf(file, pos, says, args...)
	}
	if list.Of.IsZero() {
		return wrong(strict.Pos{}, "as_of: is missing; say of which day the list is, as 2027-03-31: an old one knows nothing of what came since")
	}
	if v.Of.IsZero() || list.Of.Before(v.Of) {
		v.Of = list.Of.Time
	}
	for _, name := range slices.Sorted(maps.Keys(list.Components)) {
		c := list.Components[name]
		if c == nil {
			return wrong(strict.Pos{}, "components: %s: nothing is said of it", name)
		}
		c.Order, c.file, c.of = cmp.Or(c.Order, list.Order), file, list.Of.Time
		if c.Order != "" && orderOf[Base(c.Order)] == nil {
			return wrong(c.Pos, "components: %s: order: %q is none that is known; known are %s", name, c.Order, strings.Join(Ecosystems(), ", "))
		}
		said := 0
		for _, is := range []bool{c.Newest != "", len(c.Branches) > 0, len(c.Releases) > 0} {
			if is {
				said++
			}
		}
		if said > 1 {
			return wrong(c.Pos, "components: %s: newest, branches and releases say the same in three ways; write one of them", name)
		}
		for branch, of := range c.Branches {
			if of.Newest == "" {
				return wrong(c.Pos, "components: %s: branches: %s: newest: is missing", name, branch)
			}
		}
		if twice, there := v.components[Plain(name)]; there {
			return wrong(c.Pos, "components: %s stands in %s as well; say it once", name, twice.file)
		}
		v.components[Plain(name)] = c
	}
	return nil
}

// Plain is a name as names are compared.
func Plain(name string) string { return strings.ToLower(strings.TrimSpace(name)) }

// A State is what the lists say of something that is installed.
type State struct {
	Listed  bool
	Origin  facts.Origin
	Of      time.Time // the day of the list
	Ordered bool      // the order of its versions is known
	Order   string    // the ecosystem whose order that is

	// What is known only where versions are listed, and in an order:
	Told        bool
	Behind      bool
	Newest      string    // what ought to be installed: the newest of its branch, or of the next one that is mended
	BehindSince time.Time // when the first that is newer came out, or else the day of the list
	Supported   bool
	Until       time.Time // until when its branch is mended; zero when nothing says
	LastRelease time.Time // zero when nothing says

	Withdrawn time.Time
	Because   string
	Excludes  []string
}

// StateOf says what the lists know of something by any of its names, in the order of its ecosystem unless a list says another.
func (v *Versions) StateOf(names []string, version, ecosystem string, now time.Time) State {
	var c *component
	for _, name := range names {
		if c = v.components[Plain(name)]; c != nil {
			break
		}
	}
	if c == nil {
		return State{}
	}
	s := State{Listed: true, Origin: facts.Origin{File: c.file, Line: c.Pos.Line}, Of: c.of, Order: cmp.Or(c.Order, ecosystem), Withdrawn: c.Withdrawn.Time, Because: c.Because, Excludes: c.Excludes}
	s.Ordered = orderOf[Base(s.Order)] != nil
	branches := c.branches()
	for _, b := range branches {
		for _, r := range b.releases {
			if r.Released.After(s.LastRelease) {
				s.LastRelease = r.Released.Time
			}
		}
	}
	if version == "" || !s.Ordered || len(branches) == 0 {
		return s
	}
	s.place(branches, version, now)
	return s
}

// A line of releases that are mended together.
type line struct {
	name     string
	releases []release
	until    time.Time
}

func (c *component) branches() []line {
	switch {
	case c.Newest != "":
		return []line{{"", []release{{c.Newest, c.Released}}, c.Until.Time}}
	case len(c.Releases) > 0:
		return []line{{"", c.Releases, c.Until.Time}}
	}
	var lines []line
	for _, name := range slices.Sorted(maps.Keys(c.Branches)) {
		b := c.Branches[name]
		lines = append(lines, line{name, []release{{b.Newest, b.Released}}, b.Until.Time})
	}
	return lines
}

// has tells whether a version is of the line: 3.4.2 is of 3.4, and 3.40 is not.
func (l line) has(version string) bool {
	rest, is := strings.CutPrefix(strings.TrimPrefix(Plain(version), "v"), strings.TrimPrefix(Plain(l.name), "v"))
	return l.name == "" || is && (rest == "" || !isDigit(rest[0]))
}

func isDigit(b byte) bool { return b >= '0' && b <= '9' }

func (l line) mended(day time.Time) bool { return l.until.IsZero() || !l.until.Before(day) }

// early is what is released to be tried, before it is finished, as the orders above write it.
var early = regexp.MustCompile(`(?i)(^|[-._~+]|\d)(a|b|c|alpha|beta|rc|dev|pre|preview|m|milestone|snapshot|nightly|exp)[-._]?\d*$|~`)

func isEarly(version string) bool {
	version, _, _ = strings.Cut(version, "+")
	return early.MatchString(version)
}

// place finds the line of a version, and what of it, or else of another, ought to be installed.
func (s *State) place(lines []line, version string, now time.Time) {
	day := now.UTC().Truncate(24 * time.Hour)
	var own *line
	for i, l := range lines {
		if l.has(version) && (own == nil || len(l.name) > len(own.name)) {
			own = &lines[i]
		}
	}
	told := func(l *line) (newest release, since time.Time, behind, known bool) {
		for _, r := range l.releases {
			if isEarly(r.Version) && !isEarly(version) {
				continue // nobody is asked to run what is not finished
			}
			c, known := Compare(s.Order, version, r.Version)
			if !known {
				return release{}, time.Time{}, false, false
			}
			if newest.Version != "" {
				above, known := Compare(s.Order, newest.Version, r.Version)
				if !known {
					return release{}, time.Time{}, false, false
				}
				if above < 0 {
					newest = r
				}
			} else {
				newest = r
			}
			came := cmp.Or(r.Released.Time, s.Of)
			if c < 0 && (!behind || came.Before(since)) {
				behind, since = true, came
			}
		}
		return newest, since, behind, true
	}
	if own != nil && own.mended(day) {
		newest, since, behind, known := told(own)
		s.Told, s.Behind, s.BehindSince, s.Newest, s.Supported, s.Until = known, behind, since, newest.Version, true, own.until
		return
	}
	// Its branch is mended no longer, or nobody lists it: the next one that is mended, the smallest step that helps.
	for i := range lines {
		l := &lines[i]
		if !l.mended(day) {
			continue
		}
		newest, since, behind, known := told(l)
		if !known {
			s.Told = false
			return
		}
		if !behind {
			continue // older than what is installed
		}
		if nearer, _ := Compare(s.Order, newest.Version, cmp.Or(s.Newest, newest.Version)); s.Newest == "" || nearer < 0 {
			s.Newest, s.BehindSince = newest.Version, since
		}
		s.Behind = true
	}
	switch {
	case own != nil:
		s.Told, s.Until = true, own.until
		newest, since, behind, known := told(own)
		if s.Told = known; behind && !s.Behind {
			s.Behind, s.Newest, s.BehindSince = true, newest.Version, since
		}
	case s.Behind: // a branch that the list has dropped
		s.Told = true
	}
}

// within are the files below a folder with one of these endings, sorted; an error when there are more than so many.
func within(folder string, most int, endings ...string) (files []string, err error) {
	err = filepath.WalkDir(folder, func(name string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return facts.Plainly(err)
		case entry.IsDir() && strings.HasPrefix(entry.Name(), ".") && name != folder:
			return fs.SkipDir
		case entry.IsDir() || !slices.Contains(endings, strings.ToLower(filepath.Ext(name))):
			return nil
		case len(files) == most:
			return fmt.Errorf("there are more than %d files", most)
		}
		files = append(files, name)
		return nil
	})
	return files, err
}

// ErrNone is that there is no list for what is installed.
var ErrNone = errors.New("there is none for it")
