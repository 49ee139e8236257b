package demo

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/format"
)

// A kept is one option of the stand-ins' common vocabulary, with where a system keeps it and how it is spelt there.
// The tables of these serve writing and reading, and are all that a stand-in knows of its system's spelling.
type kept struct {
	option string
	at     string // file or column, a colon, and the path in it
	as     string // one of the spellings below; "" for the text as it is
}

// A spelling turns an option's text into what is stored, and back.
type spelling struct {
	store func(text string, typed bool) any
	read  func(stored string) string
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
func marks(pairs ...string) spelling {
	var back []string
	for i := 0; i < len(pairs); i += 2 {
		back = append(back, pairs[i+1], pairs[i])
	}
	there, again := strings.NewReplacer(pairs...), strings.NewReplacer(back...)
	return spelling{store: func(text string, _ bool) any { return there.Replace(text) }, read: again.Replace}
}

// times keeps a number multiplied.
func times(factor int64) spelling {
	return spelling{
		store: func(text string, typed bool) any {
			n, _ := strconv.ParseInt(text, 10, 64)
			if typed {
				return n * factor
			}
			return strconv.FormatInt(n*factor, 10)
		},
		read: func(stored string) string {
			n, _ := strconv.ParseInt(stored, 10, 64)
			return strconv.FormatInt(n/factor, 10)
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
		read: func(stored string) string { return strings.ReplaceAll(stored, theirs, by) },
	}
}

// commonSpellings are those that all systems may use.
var commonSpellings = map[string]spelling{
	"":        {store: func(text string, _ bool) any { return text }, read: func(stored string) string { return stored }},
	"yes":     yesNo(false),
	"not":     yesNo(true),
	"number":  times(1),
	"seconds": times(60),
	"words":   split(" ", ","),
	"phrases": split(", ", ";"),
	"lines":   split("\n", "|"),
}

// keptFiles writes options into files of several formats and reads them again.
type keptFiles struct {
	table     []kept
	spellings map[string]spelling
	headers   map[string]string // what each file starts with
}

// formatOf is the format of a file by its ending.
func formatOf(name string) string {
	ending := filepath.Ext(name)
	if known := map[string]string{".yml": "yaml", ".txt": "text", ".conf": "plain", "": "env"}[ending]; known != "" || ending == "" {
		return known
	}
	if name == ".env" {
		return "env"
	}
	return strings.TrimPrefix(ending, ".")
}

func typed(formatName string) bool {
	return slices.Contains([]string{"yaml", "json", "toml", "serialised"}, formatName)
}

func (k keptFiles) spelling(as string) spelling {
	if s, own := k.spellings[as]; own {
		return s
	}
	return commonSpellings[as]
}

// documents makes the text of every file out of the options.
func (k keptFiles) documents(options map[string]string) (map[string]string, error) {
	texts := maps.Clone(k.headers)
	for _, one := range k.table {
		name, path, _ := strings.Cut(one.at, ":")
		formatName := formatOf(name)
		value := k.spelling(one.as).store(options[one.option], typed(formatName))
		doc, err := format.Read(formatName, []byte(texts[name]), format.Options{})
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if formatName == "text" {
			texts[name] = fmt.Sprint(value) + "\n"
			continue
		}
		changed, err := doc.Set(path, value)
		if err != nil {
			return nil, fmt.Errorf("%s, %s: %w", name, path, err)
		}
		texts[name] = string(changed)
	}
	return texts, nil
}

// write writes the files below root.
func (k keptFiles) write(options map[string]string, root string) ([]string, error) {
	texts, err := k.documents(options)
	if err != nil {
		return nil, err
	}
	for name, text := range texts {
		if err := writeFile(filepath.Join(root, name), file{text, 0o644}); err != nil {
			return nil, err
		}
	}
	return slices.Sorted(maps.Keys(texts)), nil
}

// read reads the options again; the text of a file comes from get.
func (k keptFiles) read(get func(name string) ([]byte, error)) (map[string]string, error) {
	options, docs := map[string]string{}, map[string]*format.Document{}
	for _, one := range k.table {
		name, path, _ := strings.Cut(one.at, ":")
		if docs[name] == nil {
			data, err := get(name)
			if err != nil {
				return nil, err
			}
			if docs[name], err = format.Read(formatOf(name), data, format.Options{}); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
		}
		entry, there := docs[name].Lookup(path)
		if !there {
			continue
		}
		text := fmt.Sprint(entry.Value)
		if items, isList := entry.Value.([]any); isList {
			var parts []string
			for _, item := range items {
				parts = append(parts, fmt.Sprint(item))
			}
			text = strings.Join(parts, map[string]string{"words": " ", "lines": "\n"}[one.as])
			if one.as == "phrases" {
				text = strings.Join(parts, ", ")
			}
			options[one.option] = text
			continue
		}
		options[one.option] = k.spelling(one.as).read(text)
	}
	return options, nil
}

func readBelow(root string) func(string) ([]byte, error) {
	return func(name string) ([]byte, error) { return os.ReadFile(filepath.Join(root, name)) }
}
