package dialect

import (
	"log/slog"
	"maps"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/nearest"
	"weltaxis/internal/strict"
)

// A Setting says where a neutral setting lives and how it is spelt there: in one place or several, in parts, or
// as the answer to a query.
type Setting struct {
	From     Places          `yaml:"from"`     // the effective one first
	Parts    map[string]Part `yaml:"parts"`    // or several entries that make it together
	Template string          `yaml:"template"` // how they do: {scheme}://{host}
	Query    string          `yaml:"query"`    // or a query with one value, which cannot be written
	Default  *Default        `yaml:"default"`  // what the system does when it is not set
	Factory  []string        `yaml:"factory"`  // the values an install comes with, as stored
	Screen   string          `yaml:"screen"`   // where a person finds it
	Since    string          `yaml:"since"`    // the version that brought it
	Until    string          `yaml:"until"`    // the version that took it away
	// Depends says that the value counts only where another place says so.
	Depends *Dependence `yaml:"depends"`
	// EmptyIsUnset takes an empty text for no value, as systems with a column for every setting do.
	EmptyIsUnset bool `yaml:"empty_is_unset"`
	Translation  `yaml:",inline"`
	Pos          strict.Pos

	Name  string     `yaml:"-"`
	Type  facts.Type `yaml:"-"`
	Entry facts.Term `yaml:"-"`
}

// A Dependence is a place on which a setting depends: only where one of the words in Is stands there does the setting count;
// elsewhere it is what Else says.
type Dependence struct {
	On   string   `yaml:"on"`
	Is   []string `yaml:"is"`
	Else Default  `yaml:"else"`
}

// Holds tells whether what is stored at the place lets the setting count.
func (d *Dependence) Holds(stored any) bool {
	text, single := Text(stored)
	return single && slices.ContainsFunc(d.Is, func(word string) bool { return strings.EqualFold(word, strings.TrimSpace(text)) })
}

// A Place is where a value is stored, store/key, with the versions of the system that have it there.
type Place struct {
	At    string `yaml:"at"`
	Since string `yaml:"since"`
	Until string `yaml:"until"`
}

// UnmarshalNode takes a text alone for a place that all versions have.
func (p *Place) UnmarshalNode(n strict.Node) error {
	if n.IsMapping() {
		type plain Place
		return n.Into((*plain)(p))
	}
	return n.Into(&p.At)
}

// In tells whether a version has something that came with since and went with until. An unknown version has all
// that is not bound to one.
func In(version, since, until string) bool {
	return (since == "" || version != "" && facts.CompareVersions(version, since) >= 0) &&
		(until == "" || version != "" && facts.CompareVersions(version, until) < 0)
}

// Places is one place, or a list of them.
type Places []Place

// UnmarshalNode reads either shape.
func (p *Places) UnmarshalNode(n strict.Node) error {
	if n.IsSequence() {
		return n.Into((*[]Place)(p))
	}
	var one Place
	if err := n.Into(&one); err != nil {
		return err
	}
	*p = Places{one}
	return nil
}

// A Part is one of the entries that make a setting together.
type Part struct {
	From  string            `yaml:"from"`
	Words map[string]string `yaml:"words"`
}

// UnmarshalNode takes a text alone for a place.
func (p *Part) UnmarshalNode(n strict.Node) error {
	if n.IsMapping() {
		type plain Part
		return n.Into((*plain)(p))
	}
	return n.Into(&p.From)
}

// A Default is the neutral value, as text, that holds when the system has nothing stored.
type Default string

// UnmarshalNode takes any single value as its text.
func (d *Default) UnmarshalNode(n strict.Node) error {
	text, _, err := n.Scalar()
	*d = Default(text)
	return err
}

// Places lists every place that the setting is read from.
func (s Setting) Places() []string {
	var list []string
	for _, place := range s.From {
		list = append(list, place.At)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Parts)) {
		list = append(list, s.Parts[name].From)
	}
	return list
}

// Compose makes the neutral text out of the parts as they are stored.
func (s Setting) Compose(stored map[string]string) string {
	return Fill(s.Template, func(name string) string {
		if word, translated := s.Parts[name].Words[stored[name]]; translated {
			return word
		}
		return stored[name]
	})
}

// TakeApart gives the parts, as they are to be stored, that make a neutral text; false when none do.
func (s Setting) TakeApart(text string) (map[string]string, bool) {
	pattern, names, last := "^", []string{}, 0
	for _, m := range markShape.FindAllStringSubmatchIndex(s.Template, -1) {
		pattern += regexp.QuoteMeta(s.Template[last:m[0]]) + "(.*?)"
		names = append(names, s.Template[m[2]:m[3]])
		last = m[1]
	}
	found := regexp.MustCompile("(?s)" + pattern + regexp.QuoteMeta(s.Template[last:]) + "$").FindStringSubmatch(text)
	if found == nil {
		return nil, false
	}
	parts := map[string]string{}
	for i, name := range names {
		value := found[i+1]
		if words := s.Parts[name].Words; len(words) > 0 {
			stored := slices.Sorted(maps.Keys(words))
			j := slices.IndexFunc(stored, func(w string) bool { return words[w] == value })
			if j < 0 {
				return nil, false
			}
			value = stored[j]
		}
		parts[name] = value
	}
	return parts, s.Compose(parts) == text
}

func (d *Dialect) checkSettings() error {
	for _, name := range slices.Sorted(maps.Keys(d.Settings)) {
		setting := d.Settings[name]
		if now, changed := facts.PresentSetting(name); changed {
			if _, twice := d.Settings[now]; twice {
				return d.errorf(setting.Pos, "%s is said twice: %s", now, facts.Renamed(name, now))
			}
			slog.Warn(d.errorf(setting.Pos, "%s", facts.Renamed(name, now)).Error())
			delete(d.Settings, name)
			name = now
		}
		entry, known := facts.Lookup(facts.Settings.Name(name))
		if !known || entry.Worked {
			return d.errorf(setting.Pos, "there is no setting %q%s", name, nearest.Hint(name, facts.Kept()))
		}
		setting.Name, setting.Type, setting.Entry = name, entry.Type, entry
		if err := d.checkSetting(setting); err != nil {
			return err
		}
		d.Settings[name] = setting
	}
	return nil
}

func (d *Dialect) checkSetting(s Setting) error {
	ways := 0
	for _, there := range []bool{len(s.From) > 0, len(s.Parts) > 0, s.Query != ""} {
		if there {
			ways++
		}
	}
	if ways != 1 {
		return d.errorf(s.Pos, "%s: says where it lives with either from, parts or query", s.Name)
	}
	for _, place := range s.Places() {
		if err := d.checkPlace(s.Pos, place); err != nil {
			return err
		}
	}
	if len(s.Parts) > 0 {
		for _, m := range markShape.FindAllStringSubmatch(s.Template, -1) {
			if _, known := s.Parts[m[1]]; !known {
				return d.errorf(s.Pos, "%s: the template's {%s} is none of its parts", s.Name, m[1])
			}
		}
		if s.Template == "" {
			return d.errorf(s.Pos, "%s: template is missing: how the parts make the value, as {scheme}://{host}", s.Name)
		}
	}
	if s.Query != "" {
		if err := d.checkQuery(s.Pos, s.Query, d.QueryDatabase()); err != nil {
			return err
		}
	}
	if s.Depends != nil {
		if err := d.checkPlace(s.Pos, s.Depends.On); err != nil {
			return err
		}
		if v, err := s.Entry.Type.Parse(string(s.Depends.Else)); err != nil || !s.Entry.Check(v) || len(s.Depends.Is) == 0 {
			return d.errorf(s.Pos, "%s: depends has on (a place), is (what stands there for the setting to count) and else, a %s that it is otherwise", s.Name, s.Entry.Type)
		}
	}
	if s.Default != nil {
		if v, err := s.Entry.Type.Parse(string(*s.Default)); err != nil || !s.Entry.Check(v) {
			return d.errorf(s.Pos, "%s: the default %q is no %s", s.Name, *s.Default, s.Entry.Type)
		}
	}
	return d.checkTranslation(s.Pos, s.Name, s.Translation, s.Entry)
}

func (d *Dialect) checkTranslation(at strict.Pos, name string, t Translation, entry facts.Term) error {
	if t.Unit != "" && !slices.Contains(units[entry.Type], t.Unit) {
		return d.errorf(at, "%s: there is no unit %q for a %s", name, t.Unit, entry.Type)
	}
	for stored, neutral := range t.Words {
		if v, err := entry.Type.Parse(neutral); err != nil || !entry.Check(v) {
			return d.errorf(at, "%s: %q is translated to %q, which is none of %s%s", name, stored, neutral,
				strings.Join(entry.Words, ", "), nearest.Hint(neutral, entry.Words))
		}
	}
	if (t.Contains != "" || t.IsSet) && entry.Type != facts.Bool {
		return d.errorf(at, "%s: contains and is_set make a yes or a no, and this is a %s", name, entry.Type)
	}
	if t.Contains != "" && (t.IsSet || len(t.Words) > 0) || t.IsSet && len(t.Words) > 0 {
		return d.errorf(at, "%s: write one of contains (a word in a list), is_set (anything at all) and words (each word)", name)
	}
	if t.Wrapped != "" && strings.Count(t.Wrapped, "{value}") != 1 {
		return d.errorf(at, "%s: wrapped holds {value} once", name)
	}
	return nil
}
