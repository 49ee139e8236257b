package demo

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"maps"
)

// upkeepFolder is where a site's lists lie, beside its site file.
const upkeepFolder = "upkeep"

// days are the days that the demo's lists name, counted from the one on which it is written.
func days(now time.Time) *strings.Replacer {
	var pairs []string
	for name, ago := range map[string]int{"today": 0, "last-week": 7, "two-months-ago": 60, "half-a-year-ago": 182, "a-year-ago": 365, "three-years-ago": 1096} {
		pairs = append(pairs, "@"+name+"@", now.UTC().AddDate(0, 0, -ago).Format(time.DateOnly))
	}
	return strings.NewReplacer(pairs...)
}

// known are the lists of what others say of programs: what the makers say of versions and flaws, and what the files ought to hold.
func (in *installation) known() map[string]string {
	name, lists := strings.ToLower(in.system.lore().Maker), map[string]string{}
	from := path.Join("upkeep", name)
	err := fs.WalkDir(texts, from, func(file string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := texts.ReadFile(file)
		lists[strings.TrimPrefix(file, from+"/")] = days(Clock()).Replace(string(data))
		return err
	})
	if err != nil {
		panic(err) // they are part of the program
	}
	sums := func(belongs func(file string) (string, bool)) (text string) {
		for _, file := range slices.Sorted(maps.Keys(in.files)) {
			if below, is := belongs(file); is {
				text += fmt.Sprintf("%x  %s\n", sha256.Sum256([]byte(in.files[file].text)), below)
			}
		}
		return text
	}
	l := in.system.lore()
	lists["checksums/"+name+"-"+l.Version+".sha256"] = sums(func(file string) (string, bool) {
		return file, slices.ContainsFunc(l.Own, func(own string) bool {
			return file == own || strings.HasSuffix(own, "/") && strings.HasPrefix(file, own)
		})
	})
	for _, e := range in.extensions {
		if text := sums(func(file string) (string, bool) { return strings.CutPrefix(file, "turns/"+e.Name+"/") }); text != "" {
			lists["checksums/"+e.Name+"-"+e.Version+".sha256"] = text
		}
	}
	return lists
}

// writeLists writes them, and returns the files, below the demo's folder.
func (in *installation) writeLists(dir string) (written []string, err error) {
	for name, text := range in.lists {
		name = filepath.Join(in.folder, upkeepFolder, filepath.FromSlash(name))
		if err := writeFile(filepath.Join(dir, name), file{text, 0o644}); err != nil {
			return nil, err
		}
		written = append(written, name)
	}
	return written, nil
}
