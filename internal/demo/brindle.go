package demo

import (
	"database/sql"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	_ "modernc.org/sqlite" // the driver
)

// A brindle is one installation of the stand-in content system Brindle: config.php, a database of keys and
// values, and the files around them.
type brindle struct {
	folder    string            // below the demo's folder
	constants map[string]string // of config.php: name and PHP literal
	secret    string
	options   map[string]string
	accounts  []account
	pages     []page
	files     map[string]file // by path below the root
	folders   map[string]os.FileMode
	siteFile  string
}

type account struct{ login, role string }

type page struct {
	slug, title, kind, status, published string
	description, body                    string
}

type file struct {
	text string
	mode os.FileMode
}

// write puts the installation below dir and returns the files it wrote, by path below dir.
func (b *brindle) write(dir string) ([]string, error) {
	root := filepath.Join(dir, b.folder, "site")
	written := []string{filepath.Join(b.folder, "weltaxis.yaml"), filepath.Join(b.folder, "site", "data", "brindle.db")}
	for folder := range b.folders {
		if err := os.MkdirAll(filepath.Join(root, folder), 0o755); err != nil {
			return nil, err
		}
	}
	all := maps.Clone(b.files)
	config := all["config.php"]
	config.text = b.configPHP()
	all["config.php"] = config
	for name, f := range all {
		if err := writeFile(filepath.Join(root, name), f); err != nil {
			return nil, err
		}
		written = append(written, filepath.Join(b.folder, "site", name))
	}
	if err := b.writeDatabase(filepath.Join(root, "data", "brindle.db")); err != nil {
		return nil, fmt.Errorf("writing the demo's database: %w", err)
	}
	if err := writeFile(filepath.Join(dir, b.folder, "weltaxis.yaml"), file{b.siteFile, 0o644}); err != nil {
		return nil, err
	}
	// Modes of folders last, and whatever the umask is.
	for folder, mode := range b.folders {
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

func (b *brindle) configPHP() string {
	var s strings.Builder
	s.WriteString("<?php\n/*\n * Brindle reads this file before anything else.\n * What is defined here overrides the settings made on the administration pages.\n */\n\n")
	for _, name := range slices.Sorted(maps.Keys(b.constants)) {
		fmt.Fprintf(&s, "define('%s', %s);\n", name, b.constants[name])
	}
	fmt.Fprintf(&s, `
$brindle = [
    'database' => [
        'driver' => 'sqlite',
        'file'   => __DIR__ . '/data/brindle.db',
        'prefix' => 'brn_',
    ],
    // Signs the sessions of everybody who is signed in.
    'secret' => '%s',
];
`, strings.ReplaceAll(b.secret, "'", `\'`))
	return s.String()
}

const brindleSchema = `
CREATE TABLE brn_options (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE brn_accounts (id INTEGER PRIMARY KEY, login TEXT NOT NULL UNIQUE, role TEXT NOT NULL);
CREATE TABLE brn_extensions (id INTEGER PRIMARY KEY, name TEXT NOT NULL, kind TEXT NOT NULL, active INTEGER NOT NULL, version TEXT NOT NULL);
CREATE TABLE brn_pages (id INTEGER PRIMARY KEY, slug TEXT NOT NULL UNIQUE, title TEXT NOT NULL, kind TEXT NOT NULL, status TEXT NOT NULL,
  published TEXT NOT NULL, description TEXT NOT NULL, body TEXT NOT NULL);
`

func (b *brindle) writeDatabase(path string) error {
	if err := os.Remove(path); err != nil && !os.IsNotExist(err) {
		return err
	}
	db, err := sql.Open("sqlite", "file:"+filepath.ToSlash(path)+"?_pragma=journal_mode(delete)&_pragma=synchronous(off)")
	if err != nil {
		return err
	}
	defer db.Close()
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := b.fill(tx); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	if err := db.Close(); err != nil {
		return err
	}
	return os.Chmod(path, 0o640)
}

func (b *brindle) fill(tx *sql.Tx) error {
	if _, err := tx.Exec(brindleSchema); err != nil {
		return err
	}
	insert := func(query string, args ...any) error {
		_, err := tx.Exec(query, args...)
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(b.options)) {
		if err := insert("INSERT INTO brn_options VALUES (?, ?)", name, b.options[name]); err != nil {
			return err
		}
	}
	for _, a := range b.accounts {
		if err := insert("INSERT INTO brn_accounts (login, role) VALUES (?, ?)", a.login, a.role); err != nil {
			return err
		}
	}
	for _, p := range b.pages {
		if err := insert("INSERT INTO brn_pages (slug, title, kind, status, published, description, body) VALUES (?, ?, ?, ?, ?, ?, ?)",
			p.slug, p.title, p.kind, p.status, p.published, p.description, p.body); err != nil {
			return err
		}
	}
	return insert("INSERT INTO brn_extensions (name, kind, active, version) VALUES ('seating', 'tickets', 1, '2.3.1'), ('swiftpages', 'page-cache', 1, '1.8.0')")
}
