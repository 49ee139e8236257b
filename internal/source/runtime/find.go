package runtime

import (
	"io/fs"
	"net/url"
	"path"
	"path/filepath"
	"strings"

	"weltaxis/internal/tree"
)

// usual are where systems put the files of PHP-FPM; the newest version of several is looked at first.
var usual = []string{"/etc/php/*/fpm", "/usr/local/etc", "/usr/local/etc/php", "/etc/opt/*/php*", "/etc"}

// Find is the folder, where systems put it, whose pools listen at an address; "" when there is none.
func Find(listen []string) string {
	for _, pattern := range usual {
		folders, _ := filepath.Glob(pattern)
		for i := len(folders) - 1; i >= 0; i-- {
			if !exists(filepath.Join(folders[i], "php-fpm.conf")) {
				continue
			}
			c := &Config{Folder: folders[i], own: map[string]*iniFile{}}
			c.pools(filepath.Join(folders[i], "php-fpm.conf"), 0)
			if c.poolOf(listen) != nil {
				return folders[i]
			}
		}
	}
	return ""
}

// Holds tells whether a folder holds files of the runtime's own.
func Holds(folder string) bool {
	return exists(filepath.Join(folder, "php.ini")) || exists(filepath.Join(folder, "conf.d"))
}

const (
	maxLooked = 20_000 // folders that are looked into
	maxBelow  = 200    // folders with a file of their own
)

// Below are the addresses of the folders below a root that have a file of their own, or a section of php.ini that names them.
func (c *Config) Below(root string) (found []string) {
	if root == "" {
		return nil
	}
	name := directives["user_ini.filename"].initial
	if said, known := c.earlier("user_ini.filename"); known && said != "" {
		name = said
	}
	looked := 0
	in, err := tree.Open(root)
	if err != nil {
		return nil
	}
	defer in.Close()
	_ = tree.Visit(in, ".", func(e tree.Entry, err error) error {
		switch {
		case err != nil:
		case e.Kind == tree.Folder:
			if looked++; looked > maxLooked || len(found) > maxBelow {
				return fs.SkipAll
			}
		case e.Base() == name:
			found = append(found, addressOf(path.Dir(e.Path)))
		}
		return nil
	})
	for _, f := range c.files {
		for _, e := range f.entries {
			if kind, key := special(e.section); kind == "PATH" && strings.HasPrefix(key, root+"/") {
				if below := strings.TrimPrefix(key, root+"/"); tree.IsFolder(in, below) == nil {
					found = append(found, addressOf(path.Clean(below)))
				}
			}
		}
	}
	return dropped(found)
}

// dropped is a list without the root, and with each once.
func dropped(list []string) (kept []string) {
	seen := map[string]bool{"/": true}
	for _, address := range list {
		if !seen[address] {
			seen[address] = true
			kept = append(kept, address)
		}
	}
	return kept
}

func addressOf(folder string) string {
	if folder == "." {
		return "/"
	}
	return "/" + (&url.URL{Path: folder}).EscapedPath() + "/"
}
