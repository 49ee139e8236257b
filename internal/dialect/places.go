package dialect

import (
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/format"
	"weltaxis/internal/nearest"
	"weltaxis/internal/strict"
)

// A Store is one place settings are kept. It is one of
//
//	file, format                       a configuration file; its keys are paths in it
//	folder, format                     a folder with a file for each record; its keys are record:path
//	database, table, key, value        a table of keys and values
//	database, table, where             one wide row; its keys are columns
//	inside, format                     a document that is itself a value of another store; its keys are paths in it
//	api, format                        a document that the system gives and takes over HTTP; its keys are paths in it
type Store struct {
	File   string `yaml:"file"`
	Format string `yaml:"format"`

	Folder string `yaml:"folder"`
	Ending string `yaml:"ending"` // of the files in it; a dot and the format when it is empty

	Database string            `yaml:"database"`
	Table    string            `yaml:"table"` // may hold {variables}
	Key      string            `yaml:"key"`   // its column of keys
	Value    string            `yaml:"value"` // its column of values
	Where    map[string]string `yaml:"where"` // only rows with these values in these columns; may hold {variables}

	Inside string `yaml:"inside"` // store/key

	API string `yaml:"api"` // the path below the address that the site file gives

	// YesNo is how the store spells yes and no where it has nothing yet to go by: [yes, no].
	YesNo []string `yaml:"yes_no"`
}

// Kinds of store.
const (
	KindFile   = "file"
	KindFolder = "folder"
	KindTable  = "table"
	KindRow    = "row"
	KindInside = "inside"
	KindAPI    = "api"
)

// Kind tells which of the kinds the store is; "" for none.
func (s Store) Kind() string {
	kinds := map[string]bool{
		KindFile: s.File != "", KindFolder: s.Folder != "", KindInside: s.Inside != "", KindAPI: s.API != "",
		KindTable: s.Table != "" && s.Key != "", KindRow: s.Table != "" && s.Key == "",
	}
	found := ""
	for kind, is := range kinds {
		if is && found != "" {
			return ""
		}
		if is {
			found = kind
		}
	}
	return found
}

// Typed tells whether the store keeps yes, no and numbers as such, and not as text.
func (s Store) Typed() bool {
	return slices.Contains([]string{"php", "yaml", "json", "toml", "serialised"}, s.Format)
}

// RecordFile is the file of one record in a folder.
func (s Store) RecordFile(record string) string {
	ending := s.Ending
	if ending == "" {
		ending = "." + s.Format
	}
	return path.Join(s.Folder, record+ending)
}

// SplitPlace takes store/key apart at the first slash.
func SplitPlace(place string) (store, key string) {
	store, key, _ = strings.Cut(place, "/")
	return store, key
}

// SplitRecord takes the key of a folder apart: record:path.
func SplitRecord(key string) (record, path string) {
	record, path, _ = strings.Cut(key, ":")
	return record, path
}

// checkStores keeps every path inside the root and every store whole.
func (d *Dialect) checkStores() error {
	if d.Public != "" && !filepath.IsLocal(d.Public) {
		return d.errorf(strict.Pos{}, "public: %q leaves the root", d.Public)
	}
	for _, name := range slices.Sorted(maps.Keys(d.Stores)) {
		store := d.Stores[name]
		kind := store.Kind()
		documents := kind == KindFile || kind == KindFolder || kind == KindInside || kind == KindAPI
		switch {
		case kind == "":
			return d.errorf(strict.Pos{}, "store %s: is one of file and format; folder and format; table, key and value; table and where; inside and format; api and format", name)
		case documents && !slices.Contains(format.Names(), store.Format):
			return d.errorf(strict.Pos{}, "store %s: there is no format %q%s; there are %s", name, store.Format, nearest.Hint(store.Format, format.Names()), strings.Join(format.Names(), ", "))
		case kind == KindTable && store.Value == "":
			return d.errorf(strict.Pos{}, "store %s: needs value, the column of values, beside key", name)
		case !documents && !d.hasDatabase(store.Database):
			return d.errorf(strict.Pos{}, "store %s: there is no database %q", name, store.Database)
		case len(store.YesNo) != 0 && len(store.YesNo) != 2:
			return d.errorf(strict.Pos{}, "store %s: yes_no is two words", name)
		}
		for _, p := range []string{store.File, store.Folder} {
			if p != "" && (!filepath.IsLocal(p) || path.IsAbs(p)) {
				return d.errorf(strict.Pos{}, "store %s: %q leaves the root", name, p)
			}
		}
		if kind == KindInside {
			outer, _ := SplitPlace(store.Inside)
			if err := d.checkPlace(strict.Pos{}, store.Inside); err != nil {
				return err
			}
			if d.Stores[outer].Kind() == KindInside {
				return d.errorf(strict.Pos{}, "store %s: stands inside a store that stands inside another", name)
			}
		}
		for _, text := range append(slices.Collect(maps.Values(store.Where)), store.Table) {
			if err := d.checkMarks(strict.Pos{}, text); err != nil {
				return err
			}
		}
	}
	return nil
}

func (d *Dialect) checkPlace(at strict.Pos, place string) error {
	name, key := SplitPlace(place)
	store, known := d.Stores[name]
	if !known {
		return d.errorf(at, "there is no store %q%s", name, nearest.Hint(name, slices.Collect(maps.Keys(d.Stores))))
	}
	if key == "" && store.Format != "text" {
		return d.errorf(at, "%q names no key; write store/key", place)
	}
	if store.Kind() == KindFolder {
		if record, _ := SplitRecord(key); !filepath.IsLocal(record) || strings.ContainsAny(record, `/\`) {
			return d.errorf(at, "%q names no record; write store/record:path", place)
		}
	}
	return nil
}
