package store

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/format"
	"weltaxis/internal/ordinary"
)

// Files are those below one folder, by names with slashes. Nothing outside is read or written, whatever links and names say.
type Files interface {
	// Real is the file that a name leads to by links, absolute ones as well. A name that leads nowhere is itself.
	Real(name string) (string, error)
	// Read gives an ordinary file, up to one byte more than a format takes.
	Read(name string) ([]byte, error)
	// IsFolder is an error when a name leads to no folder.
	IsFolder(name string) error
	// Names are those in a folder, sorted, at most as many as a list may have.
	Names(folder string) ([]string, error)
	// Lstat says what a name is, without following it if it is a link.
	Lstat(name string) (fs.FileInfo, error)
	// FS is for walking.
	FS() fs.FS
	// MkdirAll makes a folder with those on the way to it; Chmod, Rename, Remove and RemoveAll are those of os.Root.
	MkdirAll(name string, mode fs.FileMode) error
	Chmod(name string, mode fs.FileMode) error
	Rename(from, to string) error
	Remove(name string) error
	RemoveAll(name string) error
	Close() error
	// Change puts after in the place of before, in one step; nil stands for no file. What holds something else is ErrChanged.
	Change(name string, before, after []byte, at func(point string)) error
}

// PlanLine works out how a file gets a line that it does not have; a file that is not there starts with start. An
// edit that changes nothing says that it has the line.
func PlanLine(files Files, name, start, line string) (FileEdit, error) {
	name, err := files.Real(name)
	if err != nil {
		return FileEdit{}, err
	}
	before, err := files.Read(name)
	if errors.Is(err, fs.ErrNotExist) {
		before, err = nil, nil
	}
	if err != nil {
		return FileEdit{}, err
	}
	edit := FileEdit{name, name, before, before}
	for have := range strings.Lines(string(before)) {
		if strings.TrimSpace(have) == line {
			return edit, nil
		}
	}
	text := string(before)
	if before == nil {
		text = start
	} else if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	if line != "" {
		text += line + "\n"
	}
	edit.After = []byte(text)
	return edit, nil
}

// PlanWithout works out how a file loses the first line that reads so; that there is none is an error.
func PlanWithout(files Files, name, line string) (FileEdit, error) {
	name, err := files.Real(name)
	if err != nil {
		return FileEdit{}, err
	}
	before, err := files.Read(name)
	if err != nil {
		return FileEdit{}, err
	}
	at := 0
	for have := range strings.Lines(string(before)) {
		if strings.TrimSpace(have) == strings.TrimSpace(line) {
			after := slices.Concat(before[:at], before[at+len(have):])
			return FileEdit{name, name, before, after}, nil
		}
		at += len(have)
	}
	return FileEdit{}, fmt.Errorf("there is no line %q in %s: the content system, or the web server, makes what is served", line, name)
}

var (
	errNoRoot  = facts.Refusal("the site file names no root, so the files cannot be reached")
	errOutside = facts.Refusal("it lies outside the site's root")
)

// noFiles are those of a site that names no root.
type noFiles struct{}

func (noFiles) Real(string) (string, error)                       { return "", errNoRoot }
func (noFiles) Read(string) ([]byte, error)                       { return nil, errNoRoot }
func (noFiles) IsFolder(string) error                             { return errNoRoot }
func (noFiles) Names(string) ([]string, error)                    { return nil, errNoRoot }
func (noFiles) Change(string, []byte, []byte, func(string)) error { return errNoRoot }
func (noFiles) Lstat(string) (fs.FileInfo, error)                 { return nil, errNoRoot }
func (noFiles) FS() fs.FS                                         { return os.DirFS(os.DevNull) }
func (noFiles) MkdirAll(string, fs.FileMode) error                { return errNoRoot }
func (noFiles) Chmod(string, fs.FileMode) error                   { return errNoRoot }
func (noFiles) Rename(string, string) error                       { return errNoRoot }
func (noFiles) Remove(string) error                               { return errNoRoot }
func (noFiles) RemoveAll(string) error                            { return errNoRoot }
func (noFiles) Close() error                                      { return nil }

// A folder is one of this host.
type folder struct{ *os.Root }

// OpenFiles opens those below a folder of this host.
func OpenFiles(dir string) (Files, error) {
	if dir == "" {
		return noFiles{}, errNoRoot
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return noFiles{}, err
	}
	return folder{root}, nil
}

func (f folder) Real(name string) (string, error) {
	root, err := filepath.Abs(f.Root.Name())
	if err != nil {
		return "", err
	}
	full, err := filepath.EvalSymlinks(filepath.Join(root, filepath.FromSlash(name)))
	if err != nil {
		return name, nil // opening it says why
	}
	if root, err = filepath.EvalSymlinks(root); err != nil {
		return "", err
	}
	rel, err := filepath.Rel(root, full)
	if err != nil || !filepath.IsLocal(rel) {
		return "", errOutside
	}
	return filepath.ToSlash(rel), nil
}

func (f folder) Read(name string) ([]byte, error) {
	name, err := f.Real(name)
	if err != nil {
		return nil, err
	}
	file, err := ordinary.OpenIn(f.Root, name)
	if err != nil {
		return nil, outside(err)
	}
	defer file.Close()
	return io.ReadAll(io.LimitReader(file, format.MaxBytes+1))
}

func (f folder) IsFolder(name string) error {
	name, err := f.Real(name)
	if err != nil {
		return err
	}
	stat, err := f.Root.Stat(name)
	if err == nil && !stat.IsDir() {
		err = errors.New("it is no folder")
	}
	return outside(err)
}

func (f folder) Names(name string) ([]string, error) {
	if err := f.IsFolder(name); err != nil {
		return nil, err
	}
	name, err := f.Real(name)
	if err != nil {
		return nil, err
	}
	in, err := f.Root.Open(name)
	if err != nil {
		return nil, outside(err)
	}
	defer in.Close()
	names, err := in.Readdirnames(maxRows)
	if errors.Is(err, io.EOF) {
		err = nil // an empty folder ends at once
	}
	slices.Sort(names)
	return names, err
}

func (f folder) Change(name string, before, after []byte, at func(point string)) error {
	name, err := f.Real(name)
	if err != nil {
		return err
	}
	if err := removeLeftovers(f.Root, name); err != nil {
		return err
	}
	now, err := f.Read(name)
	if errors.Is(err, fs.ErrNotExist) && (before == nil || after == nil) {
		now, err = nil, nil
	}
	switch {
	case err != nil:
		return err
	case sameFile(now, after):
		return nil
	case !sameFile(now, before):
		return ErrChanged
	case before == nil:
		return CreateFile(f.Root, name, after, at)
	case after == nil:
		return f.Root.Remove(name)
	}
	return ReplaceFile(f.Root, name, before, after, at)
}

// outside tells a path that leaves the root from one that is missing.
func outside(err error) error {
	if err != nil && strings.Contains(err.Error(), "escapes") {
		return errOutside
	}
	return err
}

// removeLeftovers takes away what a run that was killed wrote beside a file and never put in its place.
func removeLeftovers(root *os.Root, name string) error {
	folder, err := root.Open(path.Dir(name))
	if err != nil {
		return outside(err)
	}
	defer folder.Close()
	names, err := folder.Readdirnames(-1)
	if err != nil {
		return err
	}
	for _, beside := range names {
		if strings.HasPrefix(beside, leftover(name)) {
			if err := root.Remove(path.Join(path.Dir(name), beside)); err != nil {
				return err
			}
		}
	}
	return nil
}

// leftover is how the name of what is written beside a file starts.
func leftover(name string) string { return "." + path.Base(name) + ".weltaxis-" }

// sameFile compares what two files hold; nil stands for none.
func sameFile(a, b []byte) bool { return (a == nil) == (b == nil) && bytes.Equal(a, b) }
