// Package format reads configuration files as values at paths, each with its position, without running or
// changing anything. One file of this package is one format.
//
// It knows nothing of content systems or settings: which path means what stands in a dialect.
// It imports nothing of this program.
package format

import (
	"fmt"
	"slices"
)

// An Entry is one value in a file.
type Entry struct {
	Path         string // in the terms of the format, as its reader documents
	Value        any    // nil, bool, int64, float64, string, or []any for a list
	Line, Column int    // where the value starts, from 1
	Unresolved   string // why the value cannot be told from the file; "" when it can, and then Value holds it
}

// A Document is one file that was understood.
type Document struct {
	entries  map[string]Entry
	order    []string
	Includes []Entry // files it pulls in, which are not read; Value is the path where it can be told
}

// Lookup finds the value at a path.
func (d *Document) Lookup(path string) (Entry, bool) {
	entry, ok := d.entries[path]
	return entry, ok
}

// Entries lists all values in the order of the file.
func (d *Document) Entries() []Entry {
	list := make([]Entry, 0, len(d.order))
	for _, path := range d.order {
		list = append(list, d.entries[path])
	}
	return list
}

func (d *Document) put(entry Entry) {
	if _, there := d.entries[entry.Path]; !there {
		d.order = append(d.order, entry.Path)
	}
	d.entries[entry.Path] = entry
}

// A SyntaxError says where a file stops making sense.
type SyntaxError struct {
	Line, Column int
	Says         string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Says)
}

// Options are what a reader may need to know besides the bytes.
type Options struct {
	Dir string                           // the folder the file lies in, for formats that can ask for it
	Env func(name string) (string, bool) // the environment the site runs in, as far as it was stated
}

// MaxBytes is the largest file a reader takes.
const MaxBytes = 4 << 20

type reader struct {
	name string
	read func([]byte, Options) (*Document, error)
}

var readers = []reader{
	{"php", readPHP},
}

// Names lists the formats.
func Names() []string {
	var names []string
	for _, r := range readers {
		names = append(names, r.name)
	}
	return names
}

// Read understands data as the named format. What it cannot understand is a *SyntaxError.
func Read(name string, data []byte, options Options) (*Document, error) {
	i := slices.IndexFunc(readers, func(r reader) bool { return r.name == name })
	if i < 0 {
		return nil, fmt.Errorf("there is no format %q", name)
	}
	if len(data) > MaxBytes {
		return nil, fmt.Errorf("the file has %d bytes; at most %d are read", len(data), MaxBytes)
	}
	if options.Env == nil {
		options.Env = func(string) (string, bool) { return "", false }
	}
	return readers[i].read(data, options)
}
