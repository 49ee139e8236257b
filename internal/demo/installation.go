package demo

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
)

// A system is one invented content system: how it keeps what it is told, and how its program gets at that again.
// Neither uses the system's dialect, so that a mistake in a dialect shows.
type system interface {
	// keep writes what the installation is told below root, and returns the files it wrote.
	keep(in *installation, root string) ([]string, error)
	// open gives a keeper for what was written.
	open(root string, database *databaseServer) (keeper, error)
}

// A keeper reads what an installation was told, anew at every call. Options are named as in Brindle, whatever they
// are called in the system itself.
type keeper interface {
	options(ctx context.Context) (map[string]string, error)
	entries(ctx context.Context) ([]entry, error)
	close()
}

// An installation is one site of the demo: what its content system is told, and the files around it.
type installation struct {
	folder     string // below the demo's folder
	system     system
	constants  map[string]string // of Brindle's config.php: name and PHP literal
	secret     string
	options    map[string]string
	accounts   []account
	extensions []extension
	pages      []page
	unlisted   []string        // slugs of pages that ask search engines not to list them
	files      map[string]file // by path below the root
	folders    map[string]os.FileMode
	siteFile   string
	database   *databaseServer // nil for a file
}

type account struct{ login, role string }

type extension struct {
	name, kind, version, newest string
	active                      bool
}

type page struct {
	slug, title, kind, status, published string
	description, body                    string
}

type file struct {
	text string
	mode os.FileMode
}

// A databaseServer is where an installation keeps its database when it is no file: for tests.
type databaseServer struct {
	driver, port, name, user, password string
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
	if err := writeFile(filepath.Join(dir, in.folder, "weltaxis.yaml"), file{in.siteFile, 0o644}); err != nil {
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

func (in *installation) set(pairs ...string) {
	for i := 0; i < len(pairs); i += 2 {
		in.options[pairs[i]] = pairs[i+1]
	}
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
