package demo

import (
	"embed"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"

	"weltaxis/internal/format"
)

//go:embed systems sites upkeep
var texts embed.FS

// mustRead reads one of the embedded files into v. They are part of the program: what is wrong with one is wrong
// with the program.
func mustRead(name string, v any) {
	data, err := texts.ReadFile(name)
	if err == nil {
		err = yaml.UnmarshalWithOptions(data, v, yaml.Strict())
	}
	if err != nil {
		panic(fmt.Sprintf("%s: %v", name, err))
	}
}

// A lore is what a content system's own program knows of how it keeps things: the words, folders and files of its
// world. Neither it nor the program knows the system's dialect, so that a mistake in a dialect shows.
type lore struct {
	Maker, Public, Cache string
	Version              string   // that the demo runs
	Own                  []string // files of its own, and folders that hold nothing else
	Database             struct {
		File, Ending string
		Tables       map[string]string // by what is in them; Ending follows each name
	}
	Addresses struct {
		Static                                                 []string
		Style, Pictures, Picture, Writer, Find, Join, Numbered string
		Made, Cart                                             string // minified styles; what a visitor is about to buy, "" where nothing is sold
	}
	Folders  map[string]string // and their modes
	Files    map[string]string
	Pictures map[string][2]int // width and height
	Modes    map[string]string // of files
	Headers  map[string]string // what a file says before anything is put into it
	Words    map[string]map[string]string
	Spelt    map[string]spelt `yaml:"spellings"`
	Places   yaml.MapSlice    // "store:path", or "store:path as spelling"

	schema string
	kept   []kept
}

// A kept is one option of the stand-ins' common vocabulary, with where a system keeps it and how it is spelt there.
type kept struct {
	option, store, path string
	spelling            spelling
}

// A spelt says in the system's file how an option is turned into what is stored.
type spelt struct {
	Marks   map[string]string
	Words   any // a table, or the name of one
	Times   int64
	Divided int64
	Wrapped string // text around it, with {} in its place
}

// readLore reads a system's file.
func readLore(name string) *lore {
	l := &lore{}
	mustRead("systems/"+name+".yaml", l)
	if schema, err := texts.ReadFile("systems/" + name + ".sql"); err == nil {
		l.schema = string(schema)
	}
	for _, item := range l.Places {
		at, as, _ := strings.Cut(item.Value.(string), " as ")
		store, path, _ := strings.Cut(at, ":")
		l.kept = append(l.kept, kept{item.Key.(string), store, path, l.spelling(as)})
	}
	return l
}

func (l *lore) spelling(as string) spelling {
	s, own := l.Spelt[as]
	if !own {
		common, known := commonSpellings[as]
		if !known {
			panic(l.Maker + " has no spelling " + as)
		}
		return common
	}
	made := commonSpellings[""]
	switch table := s.Words.(type) {
	case string:
		made = words(l.Words[table])
	case map[string]any:
		plain := map[string]string{}
		for word, stored := range table {
			plain[word] = fmt.Sprint(stored)
		}
		made = words(plain)
	}
	switch {
	case len(s.Marks) > 0:
		made = marks(s.Marks)
	case s.Times > 0:
		made = scaled(func(n int64) int64 { return n * s.Times }, func(n int64) int64 { return n / s.Times })
	case s.Divided > 0:
		made = scaled(func(n int64) int64 { return n / s.Divided }, func(n int64) int64 { return n * s.Divided })
	}
	if before, after, wrapped := strings.Cut(s.Wrapped, "{}"); wrapped {
		bare := made
		made = spelling{
			store: func(text string, _ bool) any { return fmt.Sprint(before, bare.store(text, false), after) },
			read: func(stored string) string {
				return bare.read(strings.TrimSuffix(strings.TrimPrefix(stored, before), after))
			},
		}
	}
	return made
}

// in are the options that a store keeps, in the order of the file.
func (l *lore) in(store string) []kept {
	return slices.DeleteFunc(slices.Clone(l.kept), func(k kept) bool { return k.store != store })
}

// stores are those that the places name, each once.
func (l *lore) stores() []string {
	var names []string
	for _, k := range l.kept {
		if !slices.Contains(names, k.store) {
			names = append(names, k.store)
		}
	}
	return names
}

// theirs is a word of the common vocabulary in the system's own; ours is the way back.
func (l *lore) theirs(table, word string) string { return l.Words[table][word] }

func (l *lore) ours(table, word string) string {
	for ours, theirs := range l.Words[table] {
		if theirs == word {
			return ours
		}
	}
	return ""
}

// formatOf is the format of a file by its ending.
func formatOf(name string) string {
	ending := filepath.Ext(name)
	if known := map[string]string{".txt": "text", ".conf": "plain", ".env": "env"}[ending]; known != "" {
		return known
	}
	return strings.TrimPrefix(ending, ".")
}

func typed(formatName string) bool {
	return slices.Contains([]string{"yaml", "json", "toml", "serialised"}, formatName)
}

// document makes the text of a file out of the options that it keeps.
func (l *lore) document(name string, options map[string]string) (string, error) {
	text, formatName := l.Headers[name], formatOf(name)
	for _, k := range l.in(name) {
		value := k.spelling.store(options[k.option], typed(formatName))
		if formatName == "text" {
			return fmt.Sprint(value) + "\n", nil
		}
		doc, err := format.Read(formatName, []byte(text), format.Options{})
		if err != nil {
			return "", fmt.Errorf("%s: %w", name, err)
		}
		changed, err := doc.Set(k.path, value)
		if err != nil {
			return "", fmt.Errorf("%s, %s: %w", name, k.path, err)
		}
		text = string(changed)
	}
	return text, nil
}

// readDocument reads the options that a file keeps.
func (l *lore) readDocument(name, text string, into map[string]string) error {
	doc, err := format.Read(formatOf(name), []byte(text), format.Options{})
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	for _, k := range l.in(name) {
		e, there := doc.Lookup(k.path)
		if !there {
			continue
		}
		if items, isList := e.Value.([]any); isList {
			var parts []string
			for _, item := range items {
				parts = append(parts, fmt.Sprint(item))
			}
			into[k.option] = strings.Join(parts, k.spelling.between)
			continue
		}
		into[k.option] = k.spelling.read(fmt.Sprint(e.Value))
	}
	return nil
}

// writeDocuments writes the files that the places name below root.
func (l *lore) writeDocuments(root string, options map[string]string) ([]string, error) {
	names := slices.DeleteFunc(l.stores(), func(name string) bool { return filepath.Ext(name) == "" || strings.HasPrefix(name, inside) })
	for _, name := range names {
		text, err := l.document(name, options)
		if err != nil {
			return nil, err
		}
		if err := writeFile(filepath.Join(root, name), file{text, 0o644}); err != nil {
			return nil, err
		}
	}
	return names, nil
}

// inside begins the name of a document that is itself a value in a database.
const inside = "in "

// A spelling turns an option's text into what is stored, and back.
type spelling struct {
	store   func(text string, typed bool) any
	read    func(stored string) string
	between string // the items of a list
}

func yesNo(flipped bool) spelling {
	return spelling{
		store: func(text string, typed bool) any {
			yes := slices.Contains([]string{"yes", "open", "true"}, text) != flipped
			switch {
			case typed:
				return yes
			case yes:
				return "on"
			}
			return "off"
		},
		read: func(stored string) string {
			if slices.Contains([]string{"true", "on", "1", "yes"}, stored) != flipped {
				return "yes"
			}
			return "no"
		},
	}
}

// words translates by a table from the common vocabulary to a system's own.
func words(table map[string]string) spelling {
	back := map[string]string{}
	for ours, theirs := range table {
		back[theirs] = ours
	}
	return spelling{store: func(text string, _ bool) any { return table[text] }, read: func(stored string) string { return back[stored] }}
}

// marks replaces the marks in a pattern.
func marks(table map[string]string) spelling {
	var there, back []string
	for ours, theirs := range table {
		there, back = append(there, ours, theirs), append(back, theirs, ours)
	}
	store, read := strings.NewReplacer(there...), strings.NewReplacer(back...)
	return spelling{store: func(text string, _ bool) any { return store.Replace(text) }, read: read.Replace}
}

// scaled keeps a number in another unit.
func scaled(there, back func(int64) int64) spelling {
	return spelling{
		store: func(text string, typed bool) any {
			n, _ := strconv.ParseInt(text, 10, 64)
			if typed {
				return there(n)
			}
			return strconv.FormatInt(there(n), 10)
		},
		read: func(stored string) string {
			n, _ := strconv.ParseInt(stored, 10, 64)
			return strconv.FormatInt(back(n), 10)
		},
	}
}

// split keeps the items of a list apart: as a list where the store has lists, else with a separator of its own.
func split(by, theirs string) spelling {
	return spelling{
		store: func(text string, typed bool) any {
			items := []any{}
			for item := range strings.SplitSeq(text, by) {
				if item = strings.TrimSpace(item); item != "" {
					items = append(items, item)
				}
			}
			if typed {
				return items
			}
			return strings.ReplaceAll(text, by, theirs)
		},
		read:    func(stored string) string { return strings.ReplaceAll(stored, theirs, by) },
		between: by,
	}
}

// commonSpellings are those that all systems may use.
var commonSpellings = map[string]spelling{
	"":        {store: func(text string, _ bool) any { return text }, read: func(stored string) string { return stored }},
	"yes":     yesNo(false),
	"not":     yesNo(true),
	"number":  scaled(func(n int64) int64 { return n }, func(n int64) int64 { return n }),
	"seconds": scaled(func(n int64) int64 { return n * 60 }, func(n int64) int64 { return n / 60 }),
	"words":   split(" ", ","),
	"phrases": split(", ", ";"),
	"lines":   split("\n", "|"),
}

// text reads a file below root.
func textOf(root, name string) (string, error) {
	data, err := os.ReadFile(filepath.Join(root, filepath.FromSlash(name)))
	return string(data), err
}

var (
	brindleLore = sync.OnceValue(func() *lore { return readLore("brindle") })
	ostlerLore  = sync.OnceValue(func() *lore { return readLore("ostler") })
	hobnailLore = sync.OnceValue(func() *lore { return readLore("hobnail") })
)
