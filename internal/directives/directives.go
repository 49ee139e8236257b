// Package directives reads the configuration of web servers, nginx and Apache, as nodes: each directive with its words, its
// file, its line and the bytes it stands on, included files in their place. A node can be replaced, removed or followed by
// another, and every other byte stays.
//
// It knows how each server writes, quotes, continues and includes, and nothing of what a directive does. It imports orders, secrets and tree.
package directives

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/orders"
	"weltaxis/internal/secrets"
	"weltaxis/internal/tree"
)

// A Node is one directive, as it stands in a file.
type Node struct {
	Name string   // as it is written; "" for a hole
	Args []string // its words, without quotes; of an Apache section those between the name and the >
	Body []*Node  // what stands in its block, included files in their place
	// Block tells that it has a block, be it an empty one.
	Block bool
	// Skipped says why the server does not read what stands in the block: a condition that is not met. Then Body is empty.
	Skipped string
	// Hole says what could not be read where something stands: from here on, in this block, more may apply than is known.
	Hole string

	// Of Apache alone: what stands behind the name, lines put together and variables put in, and a variable that nobody here knows.
	Rest       string
	Unresolved string

	File       string
	Line       int // of its first byte, from 1
	Start, End int // its bytes in the file: up to and with the ; or }, for Apache without the line's end
	inner      int // where its block begins and ends; 0 when it has none
	close      int
}

// Is tells whether the directive is called so. Names of directives of Apache are the same in either case, and no two of nginx
// differ in it.
func (n *Node) Is(names ...string) bool {
	return slices.ContainsFunc(names, func(name string) bool { return strings.EqualFold(n.Name, name) })
}

// Arg is one of its words, "" when there are fewer.
func (n *Node) Arg(i int) string {
	if i < len(n.Args) {
		return n.Args[i]
	}
	return ""
}

// Place is file and line.
func (n *Node) Place() string { return fmt.Sprintf("%s:%d", n.File, n.Line) }

// String is the directive on one line as it may be shown: without what its block holds, and without secrets.
func (n *Node) String() string {
	if n.Hole != "" {
		return n.Hole
	}
	return strings.Join(append([]string{n.Name}, secrets.Directive(n.Name, n.Args)...), " ")
}

// A Gap is something that could not be read.
type Gap struct {
	File    string
	Line    int
	Because string
	Broken  bool // the server itself refuses to start with it
}

// Error is the gap in words.
func (g Gap) Error() string { return fmt.Sprintf("%s:%d: %s", g.File, g.Line, g.Because) }

// A Tree is a configuration, read whole.
type Tree struct {
	Main  string // the file it begins with
	Root  []*Node
	Files []string // all that were read, in order
	Gaps  []Gap

	// What an Apache configuration says to itself while it is read.
	Modules     map[string]string // names of its modules, as IfModule takes them: mod_ssl.c, ssl_module; and where each is loaded
	Defined     map[string]string // by Define, and by -D on the command line
	Environment map[string]string // variables that it is started with, as far as a file beside it says
	Version     string            // of the server; "" when nobody knows
	foreign     int               // modules that are loaded of which nobody here knows how their source is called
}

// Broken is the first thing that keeps the server from starting with this configuration.
func (t *Tree) Broken() *Gap {
	for i := range t.Gaps {
		if t.Gaps[i].Broken {
			return &t.Gaps[i]
		}
	}
	return nil
}

// All are the directives of certain names, wherever they stand.
func (t *Tree) All(names ...string) (found []*Node) {
	t.Bodies(func(body []*Node) {
		for _, n := range body {
			if n.Hole == "" && n.Is(names...) {
				found = append(found, n)
			}
		}
	})
	return found
}

// Bodies visits what stands at the top and in each block that is read, an outer one before those in it.
func (t *Tree) Bodies(visit func(body []*Node)) {
	var in func([]*Node)
	in = func(body []*Node) {
		visit(body)
		for _, n := range body {
			if len(n.Body) > 0 {
				in(n.Body) // nested no deeper than what is read
			}
		}
	}
	in(t.Root)
}

// Bounds on what is read, however large it is.
const (
	maxFile    = 8 << 20  // bytes of one file
	maxBytes   = 32 << 20 // of all
	maxNodes   = 400_000
	maxFiles   = 2_000
	maxNesting = 200 // blocks and files inside one another
)

// byteOrderMark is what some editors put in front of a file, and no server takes.
const byteOrderMark = "\ufeff"

// A Disk is where configurations lie.
type Disk interface {
	ReadBy(name string, by By) ([]byte, error)
	// NamesBy are the entries of a folder, sorted; those that are folders end in a slash.
	NamesBy(dir string, by By) ([]string, error)
}

// By is who names something: a file of a configuration, "" where that is whoever asks, and the main file of it.
type By struct{ File, Main string }

// OS is the disk of this machine. What a file names that gives the orders of others is looked at with their rights, and only in the folder
// of that file and in that of the main one; a link there that is root's leads to what is root's.
type OS struct{}

// An Outside is the error for what a file names that others may change, and lies outside of its folder.
type Outside struct {
	Name, By string
	wrong    *orders.Fault
}

func (o *Outside) Error() string {
	return fmt.Sprintf("%s is not looked at: %s names it, and others may change that (%s %s)", o.Name, o.By, o.wrong.At, o.wrong.Says)
}

// ReadBy implements Disk.
func (OS) ReadBy(name string, by By) (data []byte, err error) {
	err = orders.ForNaming(by.File, func() (err error) {
		data, err = orders.ReadNamed(name, maxFile)
		return err
	}, func(wrong *orders.Fault) error {
		return by.within(name, wrong, func(in tree.Files, below string) (err error) {
			if e, err := in.Stat(below); err == nil && e.UID == 0 && e.Names > 1 { // a name that somebody else may have given it
				return tree.ErrOutside
			}
			if data, err = tree.Read(in, below, maxFile); !errors.Is(err, tree.ErrOutside) {
				return err
			}
			link, linkErr := in.Lstat(below)
			if linkErr != nil || link.Kind != tree.Link || link.UID != 0 {
				return err
			}
			to, linkErr := in.Readlink(below)
			if linkErr != nil {
				return err
			}
			if !filepath.IsAbs(to) {
				to = filepath.Join(filepath.Dir(name), to)
			}
			if read, rootErr := orders.Read(to, maxFile); rootErr == nil {
				data, err = read, nil
			}
			return err
		})
	})
	return data, err
}

// within looks at a name in the folder of the file that names it, or in that of the main one.
func (by By) within(name string, wrong *orders.Fault, do func(in tree.Files, below string) error) error {
	outside := &Outside{name, by.File, wrong}
	for _, folder := range []string{filepath.Dir(by.File), filepath.Dir(by.Main)} {
		below, err := filepath.Rel(folder, name)
		if err != nil || !filepath.IsLocal(below) {
			continue
		}
		in, err := tree.Open(folder)
		if err != nil {
			return err
		}
		err = do(in, below)
		in.Close()
		if !errors.Is(err, tree.ErrOutside) {
			return err
		}
	}
	return outside
}

// NamesBy implements Disk.
func (OS) NamesBy(dir string, by By) (names []string, err error) {
	err = orders.ForNaming(by.File, func() error {
		entries, err := orders.ReadFolder(dir)
		for _, e := range entries {
			name := e.Name()
			if stat, err := os.Stat(filepath.Join(dir, name)); err == nil && stat.IsDir() {
				name += "/"
			}
			names = append(names, name)
		}
		return err
	}, func(wrong *orders.Fault) error {
		return by.within(dir, wrong, func(in tree.Files, below string) error {
			real, err := in.Real(below)
			if err != nil {
				return err
			}
			entries, err := in.ReadDir(real)
			for _, e := range entries {
				name := e.Base()
				if to, err := in.Stat(e.Path); err == nil && to.Kind == tree.Folder {
					name += "/"
				}
				names = append(names, name)
			}
			return err
		})
	})
	return names, err
}

// reading is what both servers' readers share: the bounds, the files inside one another, and the gaps.
type reading struct {
	tree  *Tree
	disk  Disk
	nodes int
	bytes int
	open  []string // the files that are being read, the outermost first
	full  bool     // a bound is reached, and has been told
}

// file reads one file that is included at a node (nil for the first). The gap, when there is one, has been told.
func (r *reading) file(name string, at *Node) ([]byte, bool) {
	fail := func(because string, broken bool) ([]byte, bool) {
		r.gap(at, name, because, broken)
		return nil, false
	}
	switch {
	case slices.Contains(r.open, name):
		return fail(name+" includes itself, so the server does not start", true)
	case len(r.open) >= maxNesting:
		return fail(fmt.Sprintf("files include one another more than %d deep", maxNesting), false)
	case len(r.tree.Files) >= maxFiles:
		return fail(fmt.Sprintf("more than %d files; the rest was not read", maxFiles), false)
	}
	data, err := r.disk.ReadBy(name, r.by(at))
	var outside *Outside
	switch {
	case errors.As(err, &outside):
		return fail(outside.Error(), false)
	case errors.Is(err, fs.ErrNotExist):
		return fail(name+" is not there, so the server does not start", true)
	case errors.Is(err, fs.ErrPermission):
		return fail(name+" may not be read by this user", false)
	case err != nil:
		return fail(fmt.Sprintf("%s cannot be read: %s", name, plain(err)), false)
	}
	if r.bytes += len(data); r.bytes > maxBytes {
		return fail(fmt.Sprintf("more than %d MiB of configuration; the rest was not read", maxBytes>>20), false)
	}
	r.tree.Files = append(r.tree.Files, name)
	return data, true
}

// by is who names something at a node.
func (r *reading) by(at *Node) By {
	by := By{Main: r.tree.Main}
	if at != nil {
		by.File = at.File
	}
	return by
}

func plain(err error) error {
	var pathErr *fs.PathError
	if errors.As(err, &pathErr) {
		return pathErr.Err
	}
	return err
}

func (r *reading) gap(at *Node, name, because string, broken bool) {
	gap := Gap{File: name, Line: 1, Because: because, Broken: broken}
	if at != nil {
		gap.File, gap.Line = at.File, at.Line
	}
	r.tree.Gaps = append(r.tree.Gaps, gap)
}

// room tells whether one more node may be kept, and says once when not.
func (r *reading) room(n *Node) bool {
	if r.nodes++; r.nodes <= maxNodes {
		return true
	}
	if !r.full {
		r.full = true
		r.gap(n, n.File, fmt.Sprintf("more than %d directives; the rest was not read", maxNodes), false)
	}
	return false
}

// hole is what stands for what could not be read at a node.
func (r *reading) hole(at *Node, because string) *Node {
	return &Node{Hole: because, File: at.File, Line: at.Line, Start: at.Start, End: at.End}
}

// Walk visits every node, outer ones before what stands in them, until visit is false for one: then not its block.
func Walk(nodes []*Node, visit func(*Node) bool) {
	for _, n := range nodes {
		if visit(n) {
			Walk(n.Body, visit)
		}
	}
}

// globbed are the files that a pattern names, in the order in which both servers take them: sorted, as glob(3) gives them, where
// * and ? do not match the dot that a name begins with. The error is about a folder in the pattern that cannot be listed; one that is not
// there is ErrNotExist. A pattern that does not begin at the top begins where this process stands.
func (r *reading) globbed(pattern string, by By) (found []string, err error) {
	pattern = filepath.ToSlash(filepath.Clean(pattern))
	at := []string{"/"}
	if !strings.HasPrefix(pattern, "/") {
		at = []string{"."}
	}
	parts := strings.Split(strings.TrimPrefix(pattern, "/"), "/")
	for i, part := range parts {
		var next []string
		for _, dir := range at {
			if !strings.ContainsAny(part, "*?[") {
				next = append(next, filepath.Join(dir, part))
				continue
			}
			names, listErr := r.disk.NamesBy(dir, by)
			var outside *Outside
			switch {
			case listErr == nil || errors.Is(listErr, fs.ErrNotExist) && len(at) > 1:
			case errors.As(listErr, &outside):
				err = outside
			case errors.Is(listErr, fs.ErrNotExist):
				err = fmt.Errorf("there is no folder %s: %w", dir, fs.ErrNotExist)
			default:
				err = fmt.Errorf("the folder %s cannot be listed: %w", dir, plain(listErr))
			}
			for _, name := range names {
				name, isDir := strings.CutSuffix(name, "/")
				matched, _ := filepath.Match(part, name)
				if matched && (isDir || i == len(parts)-1) && (name[0] != '.' || part[0] == '.') {
					next = append(next, filepath.Join(dir, name))
				}
			}
		}
		at = next
	}
	slices.Sort(at)
	return at, err
}
