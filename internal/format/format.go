// Package format reads configuration files as values at paths, each with its position, and replaces one value so
// that every other byte stays. It runs nothing. One file of this package is one format.
//
// It knows nothing of content systems or settings: which path means what stands in a dialect.
// It imports nothing of this program.
package format

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"
)

// An Entry is one value in a file.
type Entry struct {
	Path         string // in the terms of the format, as its reader documents
	Value        any    // nil, bool, int64, float64, string, or []any for a list
	Line, Column int    // where the value starts, from 1; columns count bytes
	Unresolved   string // why the value cannot be told from the file; "" when it can, and then Value holds it

	placed     bool // start and end are those of the value's own text, quotes included
	start, end int
}

// A Document is one file that was understood.
type Document struct {
	Includes []Entry // files it pulls in, which are not read; Value is the path where it can be told

	entries map[string]Entry
	order   []string
	data    []byte
	options Options
	format  format
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

// place records a value whose own text is data[start:end].
func (d *Document) place(path string, value any, start, end int) {
	line, column := position(d.data, start)
	d.put(Entry{Path: path, Value: value, Line: line, Column: column, placed: true, start: start, end: end})
}

// mention records a value that has no text of its own to replace.
func (d *Document) mention(path string, value any, at int, unresolved string) {
	line, column := position(d.data, at)
	d.put(Entry{Path: path, Value: value, Line: line, Column: column, Unresolved: unresolved})
}

// A SyntaxError says where a file stops making sense.
type SyntaxError struct {
	Line, Column int
	Says         string
	cause        error
}

// Unwrap is what a parser said; nil where it is this package that says it.
func (e *SyntaxError) Unwrap() error { return e.cause }

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Says)
}

func (d *Document) errorAt(offset int, says string) error {
	line, column := position(d.data, offset)
	return &SyntaxError{line, column, says, nil}
}

// errorOf is errorAt with what it was made of.
func (d *Document) errorOf(offset int, says string, cause error) error {
	line, column := position(d.data, offset)
	return &SyntaxError{line, column, says, cause}
}

// position turns an offset in bytes into line and column, both from 1.
func position(data []byte, offset int) (line, column int) {
	before := data[:max(0, min(offset, len(data)))]
	return bytes.Count(before, []byte("\n")) + 1, len(before) - bytes.LastIndexByte(before, '\n')
}

// Options are what a reader may need to know besides the bytes.
type Options struct {
	Dir string                           // the folder the file lies in, for formats that can ask for it
	Env func(name string) (string, bool) // the environment the site runs in, as far as it was stated
}

// MaxBytes is the largest file a reader takes.
const MaxBytes = 4 << 20

// maxDepth bounds nesting, so that a hostile file cannot use up the stack.
const maxDepth = 200

// A format is one way to write configuration down.
type format struct {
	name string
	read func(*Document) error
	// spell writes a value in the place of an entry, in the quoting that the old text has.
	spell func(old Entry, text string, value any) (string, error)
	// add says what to insert so that a path which is not there comes to be; nil where only a person can.
	add func(d *Document, path string, value any) ([]edit, error)
}

var formats = []format{
	{"php", readPHP, spellPHP, addPHP},
	{"ini", readINI, spellINI, addINI},
	{"env", readEnv, spellEnv, addEnv},
	{"yaml", readYAML, spellYAML, addYAML},
	{"json", readJSON, spellJSON, addJSON},
	{"toml", readTOML, spellTOML, addTOML},
	{"xml", readXML, spellXML, addXML},
	{"properties", readProperties, spellProperties, addProperties},
	{"plain", readPlain, spellPlain, addPlain},
	{"serialised", readSerialised, spellSerialised, addSerialised},
	{"script", readScript, spellScript, nil},
	{"text", readText, spellText, nil},
}

// Names lists the formats.
func Names() []string {
	var names []string
	for _, f := range formats {
		names = append(names, f.name)
	}
	return names
}

// Read understands data as the named format. What it cannot understand is a *SyntaxError.
func Read(name string, data []byte, options Options) (*Document, error) {
	i := slices.IndexFunc(formats, func(f format) bool { return f.name == name })
	if i < 0 {
		return nil, fmt.Errorf("there is no format %q", name)
	}
	if len(data) > MaxBytes {
		return nil, fmt.Errorf("the file has %d bytes; at most %d are read", len(data), MaxBytes)
	}
	if options.Env == nil {
		options.Env = func(string) (string, bool) { return "", false }
	}
	return read(formats[i], data, options)
}

func read(f format, data []byte, options Options) (d *Document, err error) {
	d = &Document{entries: map[string]Entry{}, data: data, options: options, format: f}
	// A library that gives up on a hostile file must not take the program with it.
	defer func() {
		if trouble := recover(); trouble != nil {
			d, err = nil, &SyntaxError{1, 1, "it cannot be understood", nil}
		}
	}()
	if err := f.read(d); err != nil {
		return nil, err
	}
	return d, nil
}

// The reasons for which a value is left as it is.
var (
	ErrNotThere = errors.New("there is no such value in it")
	ErrNoPlace  = errors.New("the value does not stand there as such, so that only a person can change it")
)

// Replace gives the file with another value at a path; all other bytes are the same. The result has been read
// again: it holds that value, and the old one everywhere else. The error is ErrNotThere, ErrNoPlace, or says
// what the format cannot hold.
func (d *Document) Replace(path string, value any) ([]byte, error) {
	entry, there := d.entries[path]
	switch {
	case !there:
		return nil, ErrNotThere
	case !entry.placed || entry.Unresolved != "":
		return nil, ErrNoPlace
	}
	text, err := d.format.spell(entry, string(d.data[entry.start:entry.end]), value)
	if err != nil {
		return nil, err
	}
	return d.proven(path, value, edit{entry.start, entry.end, text})
}

// Set replaces the value at a path, or adds it where the format can and there is none.
func (d *Document) Set(path string, value any) ([]byte, error) {
	changed, err := d.Replace(path, value)
	if !errors.Is(err, ErrNotThere) {
		return changed, err
	}
	if d.format.add == nil {
		return nil, err
	}
	edits, err := d.format.add(d, path, value)
	if err != nil {
		return nil, err
	}
	return d.proven(path, value, edits...)
}

// An edit puts text in the place of data[start:end].
type edit struct {
	start, end int
	text       string
}

// proven makes the edits, reads what comes out, and holds that the value changed and no other.
func (d *Document) proven(path string, value any, edits ...edit) ([]byte, error) {
	slices.SortFunc(edits, func(a, b edit) int { return a.start - b.start })
	var out bytes.Buffer
	at := 0
	for _, e := range edits {
		out.Write(d.data[at:e.start])
		out.WriteString(e.text)
		at = e.end
	}
	out.Write(d.data[at:])
	again, err := read(d.format, out.Bytes(), d.options)
	if err != nil {
		return nil, fmt.Errorf("the changed file would not be understood: %w", err)
	}
	if entry := again.entries[path]; entry.Unresolved != "" || !alike(entry.Value, value) {
		return nil, ErrNoPlace
	}
	for other, before := range d.entries {
		// What holds the value, or lies in it, changes with it.
		if other == path || within(other, path) || within(path, other) {
			continue
		}
		if after, there := again.entries[other]; !there || after.Unresolved != before.Unresolved || !reflect.DeepEqual(after.Value, before.Value) {
			return nil, ErrNoPlace
		}
	}
	return out.Bytes(), nil
}

func within(inner, outer string) bool {
	return outer == "" || strings.HasPrefix(inner, outer+".") || strings.HasPrefix(inner, outer+"[") || strings.HasPrefix(inner, outer+"/")
}

// alike tells whether what was read is what was written; formats without types hold all as text.
func alike(got, want any) bool {
	a, isList := got.([]any)
	b, alsoList := want.([]any)
	if isList && alsoList {
		return slices.EqualFunc(a, b, alike)
	}
	return isList == alsoList && scalar(got) == scalar(want)
}

// scalar is a single value as text.
func scalar(value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case string:
		return v
	case bool:
		return strconv.FormatBool(v)
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	return fmt.Sprint(value)
}

// single is a single value as text, or the error that the format holds no lists.
func single(value any) (string, error) {
	if _, is := value.([]any); is {
		return "", errors.New("this format holds no list in one place")
	}
	return scalar(value), nil
}

// newline is how the file ends its lines.
func (d *Document) newline() string {
	if bytes.Contains(d.data, []byte("\r\n")) {
		return "\r\n"
	}
	return "\n"
}

// appended is an edit that puts lines at the end of the file.
func (d *Document) appended(lines ...string) []edit {
	nl := d.newline()
	text := strings.Join(lines, nl) + nl
	if n := len(d.data); n > 0 && d.data[n-1] != '\n' {
		text = nl + text
	}
	return []edit{{len(d.data), len(d.data), text}}
}

// lineAfter is an edit that puts a line below the one in which an entry ends, with the indentation of the line in
// which it starts.
func (d *Document) lineAfter(entry Entry, indent, line string) []edit {
	end := entry.end
	if i := bytes.IndexByte(d.data[end:], '\n'); i >= 0 {
		at := end + i + 1
		return []edit{{at, at, indent + line + d.newline()}}
	}
	return []edit{{len(d.data), len(d.data), d.newline() + indent + line}}
}

// indentOf is the white space at the start of the line that an offset lies in.
func (d *Document) indentOf(offset int) string {
	start := bytes.LastIndexByte(d.data[:offset], '\n') + 1
	line := d.data[start:offset]
	return string(line[:len(line)-len(bytes.TrimLeft(line, " \t"))])
}

// lastBelow finds the last entry with a place directly below a path.
func (d *Document) lastBelow(parent string) (Entry, bool) {
	var last Entry
	for path, entry := range d.entries {
		if up, _ := splitPath(path); up == parent && entry.placed && entry.end >= last.end && path != parent {
			last = entry
		}
	}
	return last, last.placed
}

// joinPath puts a key below a path. A key that has a dot in it is quoted.
func joinPath(parent, key string) string {
	if key == "" || strings.ContainsAny(key, `."`) {
		key = strconv.Quote(key)
	}
	if parent == "" {
		return key
	}
	return parent + "." + key
}

// splitPath takes the last key off a path.
func splitPath(path string) (parent, key string) {
	if strings.HasSuffix(path, `"`) {
		for i := len(path) - 2; i >= 0; i-- {
			if path[i] == '"' && (i == 0 || path[i-1] == '.') {
				if plain, err := strconv.Unquote(path[i:]); err == nil {
					return strings.TrimSuffix(path[:i], "."), plain
				}
			}
		}
	}
	if dot := strings.LastIndexByte(path, '.'); dot >= 0 {
		return path[:dot], path[dot+1:]
	}
	return "", path
}

// skipBOM is how long the byte order mark at the start is.
func skipBOM(data []byte) int {
	if bytes.HasPrefix(data, []byte("\xef\xbb\xbf")) {
		return 3
	}
	return 0
}

// eachLine calls for every line without its end; number counts from 1.
func eachLine(data []byte, from int, take func(start, end int) error) error {
	for start := from; start < len(data); {
		end := len(data)
		next := end
		if i := bytes.IndexByte(data[start:], '\n'); i >= 0 {
			end, next = start+i, start+i+1
		}
		if end > start && data[end-1] == '\r' {
			end--
		}
		if err := take(start, end); err != nil {
			return err
		}
		start = next
	}
	return nil
}

// trimmed narrows data[start:end] to what is between white space.
func trimmed(data []byte, start, end int) (int, int) {
	for start < end && isBlank(data[start]) {
		start++
	}
	for end > start && isBlank(data[end-1]) {
		end--
	}
	return start, end
}

func isBlank(c byte) bool { return c == ' ' || c == '\t' || c == '\r' || c == '\f' }

// sortByPlace puts the entries in the order of the file.
func (d *Document) sortByPlace() {
	sort.SliceStable(d.order, func(i, j int) bool {
		a, b := d.entries[d.order[i]], d.entries[d.order[j]]
		if a.Line != b.Line {
			return a.Line < b.Line
		}
		return a.Column < b.Column
	})
}

// oneLine refuses what a format of lines cannot hold.
func oneLine(text string) error {
	if strings.ContainsAny(text, "\n\r\x00") || !utf8.ValidString(text) {
		return errors.New("this format holds no line breaks or control characters in a value")
	}
	return nil
}
