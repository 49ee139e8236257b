package directives

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// ApacheOptions is what Apache is told besides its configuration.
type ApacheOptions struct {
	Root    string            // ServerRoot until the configuration names one; the main file's folder when empty
	Defined map[string]string // -D on its command line, and variables of its environment
	Version string            // for IfVersion; unknown when empty
}

// Apache reads a configuration of Apache. Conditions that it decides while it reads (IfModule, IfDefine, IfVersion, IfFile)
// are decided, and what stands in them is put in their place. Included files are relative to ServerRoot.
func Apache(main string, disk Disk, options ApacheOptions) *Tree {
	main = filepath.Clean(main)
	r := &apacheReading{reading: reading{tree: &Tree{Main: main, Modules: map[string]string{}, Defined: map[string]string{}}, disk: disk}, root: options.Root, version: options.Version}
	if r.root == "" {
		r.root = filepath.Dir(main)
	}
	for _, name := range builtIn {
		r.tree.Modules[name] = "built in"
	}
	r.environment()
	for name, value := range options.Defined {
		r.tree.Defined[name] = value
	}
	if data, ok := r.file(main, nil); ok {
		r.tree.Root = r.whole(main, data)
	}
	return r.tree
}

// ApacheOverride reads an override file of a folder, by what the server's own configuration defines and has loaded. It may not
// include others.
func ApacheOverride(name string, data []byte, server *Tree) *Tree {
	r := &apacheReading{reading: reading{tree: &Tree{Main: name, Files: []string{name}, Modules: server.Modules, Defined: server.Defined}, disk: nil}, override: true}
	r.tree.Root = r.whole(name, data)
	return r.tree
}

// builtIn are the modules that are part of the program itself, as Debian and the makers build it.
var builtIn = []string{"core.c", "core_module", "mod_so.c", "so_module", "http_core.c", "http_module", "mod_unixd.c", "unixd_module",
	"mod_log_config.c", "log_config_module", "mod_logio.c", "logio_module", "mod_version.c", "version_module", "mod_watchdog.c", "watchdog_module"}

type apacheReading struct {
	reading
	root     string // ServerRoot
	version  string
	override bool // an override file is read
	nested   int  // sections that are open
}

var export = regexp.MustCompile(`(?m)^\s*(?:export\s+)?([A-Za-z_][A-Za-z0-9_]*)=(\S*)\s*$`)

// environment reads the file beside the main one in which Debian sets what the server is started with.
func (r *apacheReading) environment() {
	data, err := r.disk.Read(filepath.Join(filepath.Dir(r.tree.Main), "envvars"))
	if err != nil {
		return // there need not be one
	}
	for _, found := range export.FindAllStringSubmatch(string(data), -1) {
		value := strings.Trim(found[2], `"'`)
		for name, known := range r.tree.Defined {
			value = strings.ReplaceAll(value, "${"+name+"}", known)
		}
		if value = strings.ReplaceAll(value, "$SUFFIX", ""); !strings.Contains(value, "$") {
			r.tree.Defined[found[1]] = value
		}
	}
}

func (r *apacheReading) whole(name string, data []byte) []*Node {
	r.open = append(r.open, name)
	defer func() { r.open = r.open[:len(r.open)-1] }()
	f := &apacheFile{apacheReading: r, name: name, data: data, line: 1}
	if bytes.HasPrefix(data, []byte(byteOrderMark)) {
		f.broken(1, "it begins with a byte order mark")
	}
	return f.block(nil)
}

// apacheFile reads the lines of one file.
type apacheFile struct {
	*apacheReading
	name string
	data []byte
	at   int
	line int
	stop bool
}

func (f *apacheFile) broken(line int, because string) {
	if !f.stop {
		consequence := ", so the server does not start"
		if f.override {
			consequence = ", so everything in this folder and below it answers 500"
		}
		f.tree.Gaps = append(f.tree.Gaps, Gap{f.name, line, because + consequence, true})
	}
	f.stop = true
}

// logical is the next line that says something, continued lines put together.
func (f *apacheFile) logical() (text string, n *Node, more bool) {
	for f.at < len(f.data) {
		n = &Node{File: f.name, Line: f.line, Start: f.at}
		var line []byte
		for {
			end := bytes.IndexByte(f.data[f.at:], '\n')
			next := f.at + end + 1
			if end < 0 {
				end, next = len(f.data)-f.at, len(f.data)
			}
			part := bytes.TrimSuffix(f.data[f.at:f.at+end], []byte("\r"))
			n.End = f.at + len(part)
			f.at = next
			f.line++
			if !bytes.HasSuffix(part, []byte(`\`)) || f.at >= len(f.data) {
				line = append(line, part...)
				break
			}
			line = append(line, part[:len(part)-1]...)
		}
		for n.Start < n.End && strings.IndexByte(" \t\r\f\v", f.data[n.Start]) >= 0 {
			n.Start++
		}
		if text = strings.Trim(string(line), " \t\r\f\v"); text != "" && text[0] != '#' {
			return text, n, true
		}
	}
	return "", nil, false
}

// block reads directives to the end of a section, nil for that of the file.
func (f *apacheFile) block(section *Node) (nodes []*Node) {
	for !f.stop && !f.full {
		text, n, more := f.logical()
		if !more {
			if section != nil {
				f.broken(section.Line, fmt.Sprintf("<%s> is not closed", section.Name))
			}
			return nodes
		}
		if strings.HasPrefix(text, "</") {
			name := strings.TrimSpace(strings.TrimSuffix(text[2:], ">"))
			if section == nil || !strings.EqualFold(name, section.Name) || !strings.HasSuffix(text, ">") {
				f.broken(n.Line, fmt.Sprintf("%s closes nothing that is open", text))
				return nodes
			}
			section.close, section.End = n.Start, n.End
			return nodes
		}
		nodes = append(nodes, f.node(text, n)...)
	}
	return nodes
}

// node is one line made a directive, or a section with all that stands in it.
func (f *apacheFile) node(text string, n *Node) []*Node {
	if !f.room(n) {
		return []*Node{f.hole(n, "more directives than are read")}
	}
	section := strings.HasPrefix(text, "<")
	name, rest := cut(strings.TrimPrefix(text, "<"))
	if section {
		if i := strings.IndexByte(name, '>'); i >= 0 {
			name, rest = name[:i], name[i:]+rest
		}
		end := strings.LastIndexByte(rest, '>')
		if end < 0 {
			f.broken(n.Line, fmt.Sprintf("<%s lacks its >", name))
			return nil
		}
		rest = rest[:end]
	}
	n.Name = name
	n.Args = Words(f.resolved(rest))
	if !section {
		return append([]*Node{n}, f.told(n)...)
	}
	n.Block, n.inner = true, f.at
	if f.nested >= maxNesting {
		f.gap(n, f.name, fmt.Sprintf("sections inside one another more than %d deep; they were not read", maxNesting), false)
		f.stop = true
		return []*Node{f.hole(n, "sections too deep")}
	}
	f.nested++
	defer func() { f.nested-- }()
	holds, decided, because := f.condition(n)
	if decided && !holds { // passed over: nothing in it is carried out
		n.Skipped = because
		f.pass(n)
		return []*Node{n}
	}
	body := f.block(n)
	switch {
	case decided:
		return append([]*Node{n}, body...)
	case because != "":
		f.gap(n, f.name, because, false)
		return append([]*Node{n, f.hole(n, because)}, body...)
	}
	n.Body = body
	return []*Node{n}
}

// pass goes to the end of a section whose condition does not hold; only the sections in it are counted, as Apache does.
func (f *apacheFile) pass(section *Node) {
	for open := 1; ; {
		text, n, more := f.logical()
		if !more {
			f.broken(section.Line, fmt.Sprintf("<%s> is not closed", section.Name))
			return
		}
		lower := strings.ToLower(text)
		switch name := strings.ToLower(section.Name); {
		case strings.HasPrefix(lower, "</"+name):
			if open--; open == 0 {
				section.close, section.End = n.Start, n.End
				return
			}
		case strings.HasPrefix(lower, "<"+name):
			open++
		}
	}
}

// condition decides what the server decides while it reads. Because says what was not met, or, when it is no longer decided,
// why that cannot be told.
func (f *apacheFile) condition(n *Node) (holds, decided bool, because string) {
	arg, not := strings.CutPrefix(n.Arg(0), "!")
	answer := func(is bool, otherwise, contrary string) (bool, bool, string) {
		if is == not {
			if not {
				otherwise = contrary
			}
			return false, true, otherwise
		}
		return true, true, ""
	}
	switch {
	case n.Is("IfModule"):
		_, loaded := f.tree.Modules[arg]
		return answer(loaded, "the module "+arg+" is not loaded", "the module "+arg+" is loaded")
	case n.Is("IfDefine"):
		_, defined := f.tree.Defined[arg]
		return answer(defined, arg+" is not defined", arg+" is defined")
	case n.Is("IfFile"):
		if f.disk == nil {
			return false, false, "whether " + arg + " is there was not looked at"
		}
		_, err := f.disk.Read(f.absolute(arg))
		return answer(err == nil || !errors.Is(err, fs.ErrNotExist), arg+" is not there", arg+" is there")
	case n.Is("IfVersion"):
		if f.version == "" {
			return false, false, "the version of the server is not known, which <IfVersion> asks for"
		}
		holds, known := versionIs(f.version, n.Args)
		if !known {
			return false, false, "this comparison of versions is not understood"
		}
		return holds, true, "the server is " + f.version
	case n.Is("IfDirective", "IfSection"):
		return false, false, "<" + n.Name + "> is not understood"
	}
	return false, false, ""
}

// versionIs compares as IfVersion does.
func versionIs(version string, args []string) (holds, known bool) {
	operator, want := "=", ""
	switch len(args) {
	case 1:
		want = args[0]
	case 2:
		operator, want = args[0], args[1]
	default:
		return false, false
	}
	not := strings.HasPrefix(operator, "!")
	if strings.ContainsAny(want, "/~^") || strings.Contains(operator, "~") {
		return false, false
	}
	order := compareVersions(version, want)
	switch strings.TrimPrefix(operator, "!") {
	case "=", "==":
		holds = order == 0
	case ">":
		holds = order > 0
	case ">=":
		holds = order >= 0
	case "<":
		holds = order < 0
	case "<=":
		holds = order <= 0
	default:
		return false, false
	}
	return holds != not, true
}

// compareVersions compares three numbers; those that are not said are 0.
func compareVersions(a, b string) int {
	var x, y [3]int
	for i, part := range strings.SplitN(a, ".", 3) {
		x[i], _ = strconv.Atoi(part)
	}
	for i, part := range strings.SplitN(b, ".", 3) {
		y[i], _ = strconv.Atoi(part)
	}
	return slices.Compare(x[:], y[:])
}

// told is what some directives change while the configuration is read, and what an include brings.
func (f *apacheFile) told(n *Node) []*Node {
	switch {
	case n.Is("ServerRoot") && n.Arg(0) != "":
		f.root = filepath.Clean(n.Arg(0))
	case n.Is("Define") && n.Arg(0) != "":
		f.tree.Defined[n.Arg(0)] = n.Arg(1)
	case n.Is("UnDefine"):
		delete(f.tree.Defined, n.Arg(0))
	case n.Is("LoadModule") && len(n.Args) == 2:
		for _, name := range moduleNames(n.Args[0], n.Args[1]) {
			f.tree.Modules[name] = n.Place()
		}
	case n.Is("Use"):
		f.gap(n, f.name, "macros are not followed", false)
		return []*Node{f.hole(n, "a macro is used here")}
	case n.Is("Include", "IncludeOptional"):
		if f.override {
			f.broken(n.Line, n.Name+" is not allowed in an override file")
			return nil
		}
		return f.include(n)
	}
	return nil
}

// moduleNames are those under which a module is asked for.
func moduleNames(identifier, file string) []string {
	short := strings.TrimSuffix(identifier, "_module")
	names := []string{identifier, "mod_" + short + ".c"}
	if base, is := strings.CutSuffix(path.Base(file), ".so"); is && strings.HasPrefix(base, "mod_") {
		names = append(names, base+".c")
	}
	if kind, is := strings.CutPrefix(short, "mpm_"); is {
		names = append(names, kind+".c")
	}
	return names
}

var variable = regexp.MustCompile(`\$\{[^}:]+\}`)

// resolved puts in what is defined; what is not stays as it is written.
func (f *apacheFile) resolved(text string) string {
	if !strings.Contains(text, "${") {
		return text
	}
	return variable.ReplaceAllStringFunc(text, func(name string) string {
		if value, known := f.tree.Defined[name[2:len(name)-1]]; known {
			return value
		}
		return name
	})
}

func (f *apacheFile) absolute(name string) string {
	if filepath.IsAbs(name) {
		return filepath.Clean(name)
	}
	return filepath.Join(f.root, name)
}

// include reads the files that are named: one, all of a folder and of those below it, or those that a pattern matches.
func (f *apacheFile) include(n *Node) (nodes []*Node) {
	if len(n.Args) != 1 {
		f.broken(n.Line, n.Name+" takes one file, folder or pattern")
		return nil
	}
	optional := n.Is("IncludeOptional")
	name := f.absolute(n.Args[0])
	names := []string{name}
	pattern := strings.ContainsAny(n.Args[0], "*?[")
	unread := func(because string, broken bool) {
		f.gap(n, f.name, because, broken)
		nodes = append(nodes, f.hole(n, because))
	}
	if pattern {
		var err error
		if names, err = f.globbed(name); err != nil {
			unread(err.Error(), false)
		} else if len(names) == 0 && !optional {
			unread(n.Args[0]+" matches nothing, so the server does not start (IncludeOptional allows it)", true)
		}
	}
	var files []string
	for _, name := range names {
		below, err := f.below(name, 0)
		if err != nil {
			unread(fmt.Sprintf("the folder %s cannot be listed: %s", name, plain(err)), false)
		}
		files = append(files, below...)
	}
	for _, name := range files {
		if _, err := f.disk.Read(name); optional && errors.Is(err, fs.ErrNotExist) {
			continue
		}
		gaps := len(f.tree.Gaps)
		if data, ok := f.file(name, n); ok {
			nodes = append(nodes, f.whole(name, data)...)
		} else if gaps < len(f.tree.Gaps) {
			nodes = append(nodes, f.hole(n, f.tree.Gaps[gaps].Because))
		}
	}
	return nodes
}

// below is a file itself, and of a folder all files in it and below.
func (f *apacheFile) below(name string, depth int) (files []string, err error) {
	entries, err := f.disk.Names(name)
	if errors.Is(err, fs.ErrPermission) {
		return nil, err
	}
	if err != nil || depth > 20 {
		return []string{name}, nil // no folder; reading it tells whether it is a file
	}
	for _, entry := range entries {
		inner, err := f.below(filepath.Join(name, entry), depth+1)
		if err != nil {
			return files, err
		}
		files = append(files, inner...)
	}
	return files, nil
}

// cut is the first word of a line and the rest of it.
func cut(text string) (word, rest string) {
	if i := strings.IndexAny(text, " \t"); i >= 0 {
		return text[:i], strings.TrimLeft(text[i:], " \t")
	}
	return text, ""
}

// Words splits as Apache does (ap_getword_conf): at blanks, but for what stands in single or double quotes, in which a
// backslash takes away what the next quotation mark or backslash means. A quotation mark that is not closed reaches to the end.
func Words(text string) (words []string) {
	for {
		text = strings.TrimLeft(text, " \t\r\n\f\v")
		if text == "" {
			return words
		}
		quote := text[0]
		if quote != '"' && quote != '\'' {
			end := strings.IndexAny(text, " \t\r\n\f\v")
			if end < 0 {
				end = len(text)
			}
			words, text = append(words, text[:end]), text[end:]
			continue
		}
		end := 1
		for end < len(text) && text[end] != quote {
			if text[end] == '\\' && end+1 < len(text) && (text[end+1] == quote || text[end+1] == '\\') {
				end++
			}
			end++
		}
		var word []byte
		for i := 1; i < end && i < len(text); i++ {
			if text[i] == '\\' && i+1 < len(text) && (text[i+1] == quote || text[i+1] == '\\') {
				i++
			}
			word = append(word, text[i])
		}
		words = append(words, string(word))
		if end >= len(text) {
			return words
		}
		text = text[end+1:]
	}
}
