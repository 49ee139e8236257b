package demo

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/tree"
)

// A system is one invented content system: its lore, and how its program keeps what it is told and gets at that
// again.
type system interface {
	lore() *lore
	// keep writes what the installation is told below root, and returns the files it wrote.
	keep(in *installation, root string) ([]string, error)
	// open gives a keeper for what was written.
	open(root string, database *databaseServer) (keeper, error)
}

var systems = map[string]system{"brindle": brindle{}, "ostler": ostler{}, "hobnail": hobnail{}}

// A keeper reads what an installation was told, anew at every call, in the stand-ins' common words, whatever the
// system itself calls them.
type keeper interface {
	options(ctx context.Context) (map[string]string, error)
	entries(ctx context.Context) ([]entry, error)
	close()
}

// An installation is one site of the demo: what its content system is told, and the files around it.
type installation struct {
	folder     string // below the demo's folder
	system     system
	hosts      []string
	aloud      map[string]string // what Brindle's playhouse.php overrides: word and PHP literal
	secret     string
	options    map[string]string
	accounts   []account
	extensions []extension
	keys       []outsider
	pages      []page
	unlisted   []string        // slugs of pages that ask search engines not to list them
	files      map[string]file // by path below the root
	folders    map[string]os.FileMode
	links      map[string]string            // and what they lead to
	siteFile   string                       // without the sources
	again      string                       // what comes after them
	earlier    *facts.Snapshot              // an earlier look at it, for tests
	room       func() (tree.Space, error)   // how much is left on its disk, for tests
	lists      map[string]string            // what others say of programs, by name beside the site file
	certified  time.Duration                // for which its certificate is good; as long as the demo\'s own when 0
	unsigned   string                       // the host that its certificate leaves out, for tests
	leads      func(host, at string) string // where a host leads that is served at an address, for tests; nil for there
	beside     func(root string) error      // what no system writes, put there by tests; nil for nothing
	visitor    string                       // a further line on how it is looked at from outside, for tests
	webUser    string                       // whom its web server runs as; "" for whoever writes it
	database   *databaseServer              // nil for a file
	front      *front                       // the web server before it; nil where nobody shows its configuration
	// before stands between visitors and the stand-in, as a server, a cache or an extension may; nil for nothing.
	before func(http.Handler) http.Handler
}

type account struct{ Login, Role string }

// An outsider is another service that has a key of the site, or is called by it.
type outsider struct{ Name, Service, Kind string }

// A copied is a back-up that the content system knows of.
type copied struct{ path, taken string }

// copies are the back-ups: one of the night before, unless the installation is told otherwise.
func (in *installation) copies() []copied {
	day := Clock().UTC().Format(time.DateOnly)
	if said := in.options["copies_taken"]; said != "" {
		day = said
	}
	switch where := in.options["copies_at"]; where {
	case "nowhere":
		return nil
	case "":
		return []copied{{"/var/backups/site-" + day + ".tar.gz", day}}
	default:
		return []copied{{where, day}}
	}
}

type extension struct {
	Name, Kind, Version, Newest string
	Parent                      string // of themes
	Active                      bool
}

type page struct {
	Slug, Title, Kind, Status, Published string
	About, Body                          string
}

type file struct {
	text string
	mode os.FileMode
}

// write puts the installation below dir and returns the files it wrote, by path below dir.
func (in *installation) write(dir string) ([]string, error) {
	root := filepath.Join(dir, in.folder, "site")
	written := []string{filepath.Join(in.folder, "weltaxis.yaml")}
	for folder := range in.folders {
		if err := os.MkdirAll(filepath.Join(root, folder), 0o755); err != nil {
			return nil, err
		}
	}
	for name, f := range in.files {
		if f.text == "" && f.mode != 0 {
			continue // only the mode of what the system writes
		}
		if err := writeFile(filepath.Join(root, name), f); err != nil {
			return nil, err
		}
		written = append(written, filepath.Join(in.folder, "site", name))
	}
	for name, to := range in.links {
		if err := os.Symlink(to, filepath.Join(root, name)); err != nil {
			return nil, err
		}
	}
	kept, err := in.system.keep(in, root)
	if err != nil {
		return nil, fmt.Errorf("writing what %s is told: %w", in.folder, err)
	}
	for _, name := range kept {
		written = append(written, filepath.Join(in.folder, "site", name))
		if f, said := in.files[name]; said {
			if err := os.Chmod(filepath.Join(root, name), f.mode); err != nil {
				return nil, err
			}
		}
	}
	lists, err := in.writeLists(dir)
	if err != nil {
		return nil, fmt.Errorf("writing what is known of %s: %w", in.folder, err)
	}
	written = append(written, lists...)
	if in.front != nil {
		files, err := in.front.write(dir, in)
		if err != nil {
			return nil, fmt.Errorf("writing the web server of %s: %w", in.folder, err)
		}
		written = append(written, files...)
	}
	if err := writeFile(filepath.Join(dir, in.folder, "weltaxis.yaml"), file{in.siteFileText(), 0o644}); err != nil {
		return nil, err
	}
	if in.beside != nil {
		if err := in.beside(root); err != nil {
			return nil, err
		}
	}
	if err := age(root); err != nil {
		return nil, err
	}
	// Modes of folders last, and whatever the umask is.
	for folder, mode := range in.folders {
		if err := os.Chmod(filepath.Join(root, folder), mode); err != nil {
			return nil, err
		}
	}
	return written, nil
}

func writeFile(path string, f file) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(path, []byte(f.text), 0o644); err != nil {
		return err
	}
	return os.Chmod(path, f.mode)
}

func (in *installation) chmod(mode os.FileMode, names ...string) {
	for _, name := range names {
		if f, isFile := in.files[name]; isFile {
			f.mode = mode
			in.files[name] = f
			continue
		}
		in.folders[name] = mode
	}
}

// happen does to an installation what a part of its story tells.
func (in *installation) happen(e event) {
	maps.Copy(in.options, e.Set)
	maps.Copy(in.aloud, e.Aloud)
	if e.Secret != "" {
		in.secret = e.Secret
	}
	in.accounts = append(e.Accounts, in.accounts...)
	in.extensions = append(in.extensions, e.Extensions...)
	in.keys = append(in.keys, e.Keys...)
	for name, text := range e.Files {
		in.files[name] = file{text, 0o644}
	}
	for name, mode := range e.Modes {
		in.chmod(modeOf(mode), name)
	}
}

func modeOf(digits string) os.FileMode {
	mode, err := strconv.ParseUint(digits, 8, 32)
	if err != nil {
		panic(fmt.Sprintf("the demo has a mode %q", digits)) // its files are part of the program
	}
	of := os.FileMode(mode & 0o777)
	for bit, special := range map[uint64]os.FileMode{0o4000: os.ModeSetuid, 0o2000: os.ModeSetgid, 0o1000: os.ModeSticky} {
		if mode&bit != 0 {
			of |= special
		}
	}
	return of
}

// fillIn replaces {names} in a text of the demo's files.
func fillIn(text string, names map[string]string) string {
	return dialect.Fill(text, func(name string) string { return names[name] })
}
