package directives

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// ApacheOptions is what Apache is told besides its configuration.
type ApacheOptions struct {
	Root    string            // ServerRoot until the configuration names one; the main file's folder when empty
	Defined map[string]string // -D on its command line
	Version string            // for IfVersion; unknown when empty
}

// Apache reads a configuration of Apache. Conditions that it decides while it reads (IfModule, IfDefine, IfVersion, IfFile)
// are decided, and what stands in them is put in their place. Included files are relative to ServerRoot.
func Apache(main string, disk Disk, options ApacheOptions) *Tree {
	main = filepath.Clean(main)
	r := &apacheReading{reading: reading{tree: &Tree{Main: main, Modules: map[string]string{}, Defined: map[string]string{}, Environment: map[string]string{}, Version: options.Version}, disk: disk}, root: options.Root}
	if r.root == "" {
		r.root = filepath.Dir(main)
	}
	for _, name := range builtIn {
		r.tree.load(name+"_module", "built in")
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
// include others, define anything or load it: what it says of that is no more than a directive that may not stand there.
func ApacheOverride(name string, data []byte, server *Tree) *Tree {
	known := *server
	r := &apacheReading{reading: reading{tree: &known}, override: true}
	known.Main, known.Root, known.Files, known.Gaps = name, nil, []string{name}, nil
	known.Root = r.whole(name, data)
	return &known
}

type apacheReading struct {
	reading
	root     string // ServerRoot
	override bool   // an override file is read
	nested   int    // sections that are open
}

var export = regexp.MustCompile(`(?m)^\s*(?:export\s+)?([A-Za-z_][A-Za-z0-9_]*)=(\S*)\s*$`)

// environment reads the file beside the main one in which Debian sets what the server is started with.
func (r *apacheReading) environment() {
	data, err := r.disk.ReadBy(filepath.Join(filepath.Dir(r.tree.Main), "envvars"), r.by(nil))
	if err != nil {
		return // there need not be one
	}
	for _, found := range export.FindAllStringSubmatch(string(data), -1) {
		value := strings.Trim(found[2], `"'`)
		for name, known := range r.tree.Environment {
			value = strings.ReplaceAll(value, "${"+name+"}", known)
		}
		if value = strings.ReplaceAll(value, "$SUFFIX", ""); !strings.Contains(value, "$") {
			r.tree.Environment[found[1]] = value
		}
	}
}

func (r *apacheReading) whole(name string, data []byte) []*Node {
	r.open = append(r.open, name)
	defer func() { r.open = r.open[:len(r.open)-1] }()
	f := &apacheFile{apacheReading: r, name: name, data: data, line: 1}
	if bytes.HasPrefix(data, []byte(byteOrderMark)) && !r.override { // there it is part of the first word
		f.broken(1, "it begins with a byte order mark")
	}
	return f.block(nil, false)
}

// apacheFile reads the lines of one file.
type apacheFile struct {
	*apacheReading
	name string
	data []byte
	at   int
	line int
	stop bool
	// obscure is the hole from which on nobody can tell how the server reads the file.
	obscure *Node
}

// end ends the reading of a file: from here on nobody can tell how the server reads it.
func (f *apacheFile) end(n *Node, because string) {
	f.gap(n, f.name, because, false)
	f.stop, f.obscure = true, f.hole(n, because)
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

// maxOverrideLine is how long a line of an override file may be, continued ones put together, in bytes with its end
// (HUGE_STRING_LEN of httpd.h, less the sign that ends it). The limit of configurations is far above what is read here.
const maxOverrideLine = 8190

// blanks are what Apache takes for one (apr_isspace).
const blanks = " \t\n\v\f\r"

// logical is the next line that says something, continued lines put together.
func (f *apacheFile) logical() (text string, n *Node, more bool) {
	for f.at < len(f.data) && !f.stop {
		n = &Node{File: f.name, Line: f.line, Start: f.at}
		var line []byte
		long := 0
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
			long += len(part)
			if !bytes.HasSuffix(part, []byte(`\`)) || f.at >= len(f.data) {
				line = append(line, part...)
				break
			}
			line = append(line, part[:len(part)-1]...)
		}
		for n.Start < n.End && strings.IndexByte(blanks, f.data[n.Start]) >= 0 {
			n.Start++
		}
		switch {
		case bytes.IndexByte(line, 0) >= 0:
			f.end(n, "a line holds a sign that ends it for the server (NUL); from here on nothing was read")
			return "", n, false
		case f.override && long > maxOverrideLine:
			f.broken(n.Line, "a line is longer than Apache takes in an override file")
			return "", n, false
		}
		if text = strings.Trim(string(line), blanks); text != "" && text[0] != '#' {
			return text, n, true
		}
	}
	return "", nil, false
}

// block reads directives to the end of a section, nil for that of the file. What stands in a condition that was met is read as Apache
// reads it, line by line: only a line that is its end and nothing else ends it, and the end of the file does so too.
func (f *apacheFile) block(section *Node, met bool) (nodes []*Node) {
	for !f.stop && !f.full {
		text, n, more := f.logical()
		switch {
		case f.stop:
			continue
		case !more && section != nil && !met:
			f.broken(section.Line, fmt.Sprintf("<%s> is not closed", section.Name))
			continue
		case !more:
			return nodes
		}
		if name, is := f.ends(text); is {
			if section == nil || !strings.EqualFold(name, section.Name+">") || met && !strings.EqualFold(text, "</"+section.Name+">") {
				f.broken(n.Line, fmt.Sprintf("%s closes nothing that is open", text))
				return nodes
			}
			section.close, section.End = n.Start, n.End
			return nodes
		}
		nodes = append(nodes, f.node(text, n)...)
	}
	if f.obscure != nil {
		nodes = append(nodes, f.obscure)
	}
	return nodes
}

// ends tells whether a line is the end of a section, and of which: what stands behind </, with the > that belongs to it.
func (f *apacheFile) ends(text string) (name string, is bool) {
	word, _ := firstWord(f.resolved(text))
	return strings.CutPrefix(word, "</")
}

// node is one line made a directive, or a section with all that stands in it.
func (f *apacheFile) node(text string, n *Node) []*Node {
	if !f.room(n) {
		return []*Node{f.hole(n, "more directives than are read")}
	}
	word, rest := firstWord(f.resolved(text))
	if strings.Contains(word, "${") {
		f.end(n, fmt.Sprintf("%s stands where the name of a directive does, and nobody here knows what it means to the server", word))
		return nil
	}
	name, section := strings.CutPrefix(word, "<")
	switch {
	case word == "": // nothing in quotes
		return nil
	case !section:
		n.Name, n.Rest, n.Args, n.Unresolved = name, rest, Words(rest), variable.FindString(rest)
		return append([]*Node{n}, f.told(n)...)
	}
	if name = strings.TrimSuffix(name, ">"); rest == "" {
		rest = ">"
	}
	end := strings.LastIndexByte(rest, '>')
	if name == "" || end < 0 {
		f.broken(n.Line, fmt.Sprintf("<%s> lacks its name or its >", name))
		return nil
	}
	rest = rest[:end]
	n.Name, n.Rest, n.Args, n.Unresolved = name, rest, Words(rest), variable.FindString(rest)
	n.Block, n.inner = true, f.at
	if f.nested >= maxNesting {
		f.end(n, fmt.Sprintf("sections inside one another more than %d deep; they were not read", maxNesting))
		return nil
	}
	f.nested++
	defer func() { f.nested-- }()
	holds, decided, because := f.condition(n)
	switch {
	case f.stop:
		return nil
	case decided && !holds: // passed over: nothing in it is carried out
		n.Skipped = because
		f.pass(n)
		return []*Node{n}
	case decided:
		return append([]*Node{n}, f.block(n, true)...)
	case because != "" && f.override: // where it ends depends on whether it is read
		f.end(n, because)
		return []*Node{n}
	case because != "":
		f.gap(n, f.name, because, false)
		return append([]*Node{n, f.hole(n, because)}, f.block(n, true)...)
	}
	n.Body = f.block(n, false)
	return []*Node{n}
}

// pass goes to the end of a section whose condition does not hold, as Apache does (ap_soak_end_container): sections in it are passed over
// likewise, by whatever name, and an end that is another's is a mistake.
func (f *apacheFile) pass(section *Node) {
	open := []string{section.Name}
	for {
		text, n, more := f.logical()
		if !more {
			if !f.stop {
				f.broken(section.Line, fmt.Sprintf("<%s> is not closed", open[len(open)-1]))
			}
			return
		}
		word, _ := firstWord(text) // as it is written: nothing is put in here
		name, ends := strings.CutPrefix(word, "</")
		switch {
		case ends && !strings.EqualFold(name, open[len(open)-1]+">"):
			f.broken(n.Line, fmt.Sprintf("%s stands where </%s> ought to", word, open[len(open)-1]))
			return
		case ends:
			if open = open[:len(open)-1]; len(open) == 0 {
				section.close, section.End = n.Start, n.End
				return
			}
		case strings.HasPrefix(word, "<"):
			if open = append(open, strings.TrimSuffix(word[1:], ">")); len(open) > maxNesting {
				f.end(n, fmt.Sprintf("sections inside one another more than %d deep; they were not read", maxNesting))
				return
			}
		}
	}
}

// givenAtStart are what Apache defines by itself when it is started in another way (-X, -D FOREGROUND, -M, -S).
var givenAtStart = regexp.MustCompile(`^(FOREGROUND|DEBUG|ONE_PROCESS|NO_DETACH|DUMP_\w+)$`)

// condition decides what the server decides while it reads. Because says what was not met, or, when it is not decided,
// why that cannot be told.
func (f *apacheFile) condition(n *Node) (holds, decided bool, because string) {
	if !n.Is("IfModule", "IfDefine", "IfVersion", "IfFile", "IfDirective", "IfSection") {
		return false, false, ""
	}
	text, not := strings.CutPrefix(n.Rest, "!")
	arg, _ := firstWord(text)
	if arg == "" && n.Is("IfModule", "IfDefine") {
		f.broken(n.Line, fmt.Sprintf("<%s> asks for nothing", n.Name))
		return false, false, ""
	}
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
	case n.Unresolved != "":
		return false, false, fmt.Sprintf("what %s means to the server is not known here, and <%s> asks for it", n.Unresolved, n.Name)
	case n.Is("IfModule"):
		loaded, known := f.tree.hasModule(arg)
		if !known {
			return false, false, fmt.Sprintf("<IfModule %s> asks for a module by the name of its source, and of a module that is loaded nobody here knows that", arg)
		}
		return answer(loaded, "the module "+arg+" is not loaded", "the module "+arg+" is loaded")
	case n.Is("IfDefine"):
		_, defined := f.tree.Defined[arg]
		if !defined && (f.override || givenAtStart.MatchString(arg)) {
			return false, false, fmt.Sprintf("whether the server was started with -D %s is not known here, and <IfDefine> asks for it", arg)
		}
		return answer(defined, arg+" is not defined", arg+" is defined")
	case n.Is("IfFile"):
		name, not := strings.CutPrefix(n.Arg(0), "!")
		if f.disk == nil || name == "" {
			return false, false, "whether " + name + " is there was not looked at"
		}
		_, err := f.disk.ReadBy(f.absolute(name), By{f.name, f.tree.Main})
		if there := err == nil || !errors.Is(err, fs.ErrNotExist); there == not {
			return false, true, name + map[bool]string{true: " is there", false: " is not there"}[not]
		}
		return true, true, ""
	case n.Is("IfVersion"):
		if f.tree.Version == "" {
			return false, false, "the version of the server is not known, which <IfVersion> asks for"
		}
		holds, known := versionIs(f.tree.Version, n.Args)
		if !known {
			return false, false, "this comparison of versions is not understood"
		}
		return holds, true, "the server is " + f.tree.Version
	}
	return false, false, "<" + n.Name + "> is not understood"
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
	if f.override { // there it is only a directive that may not stand there
		return nil
	}
	switch {
	case n.Is("ServerRoot") && n.Arg(0) != "":
		f.root = filepath.Clean(n.Arg(0))
	case n.Is("Define") && n.Arg(0) != "":
		f.tree.Defined[n.Arg(0)] = n.Arg(1)
	case n.Is("UnDefine"):
		delete(f.tree.Defined, n.Arg(0))
	case n.Is("LoadModule") && len(n.Args) == 2:
		f.tree.load(n.Args[0], n.Place())
	case n.Is("Use"):
		f.gap(n, f.name, "macros are not followed", false)
		return []*Node{f.hole(n, "a macro is used here")}
	case n.Is("Include", "IncludeOptional"):
		return f.include(n)
	}
	return nil
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
		if value, known := f.tree.Environment[name[2:len(name)-1]]; known {
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
		if names, err = f.globbed(name, f.by(n)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			unread(err.Error(), false)
		} else if len(names) == 0 && !optional {
			unread(n.Args[0]+" matches nothing, so the server does not start (IncludeOptional allows it)", true)
		}
	}
	var files []string
	for _, name := range names {
		below, err := f.below(name, 0, f.by(n))
		if err != nil {
			unread(fmt.Sprintf("the folder %s cannot be listed: %s", name, plain(err)), false)
		}
		files = append(files, below...)
	}
	for _, name := range files {
		if _, err := f.disk.ReadBy(name, f.by(n)); optional && errors.Is(err, fs.ErrNotExist) {
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
func (f *apacheFile) below(name string, depth int, by By) (files []string, err error) {
	entries, err := f.disk.NamesBy(name, by)
	if errors.Is(err, fs.ErrPermission) {
		return nil, err
	}
	if err != nil || depth > 20 {
		return []string{name}, nil // no folder; reading it tells whether it is a file
	}
	for _, entry := range entries {
		inner, err := f.below(filepath.Join(name, entry), depth+1, by)
		if err != nil {
			return files, err
		}
		files = append(files, inner...)
	}
	return files, nil
}

// Words splits as Apache does (ap_getword_conf): at blanks, but for what stands in single or double quotes, in which a
// backslash takes away what the next quotation mark or backslash means. A quotation mark that is not closed reaches to the end.
func Words(text string) (words []string) {
	for {
		if text = strings.TrimLeft(text, blanks); text == "" {
			return words
		}
		var word string
		word, text = firstWord(text)
		words = append(words, word)
	}
}

// firstWord is the first of the words, and what comes after it.
func firstWord(text string) (word, rest string) {
	text = strings.TrimLeft(text, blanks)
	if text == "" || text[0] != '"' && text[0] != '\'' {
		end := strings.IndexAny(text, blanks)
		if end < 0 {
			return text, ""
		}
		return text[:end], strings.TrimLeft(text[end:], blanks)
	}
	quote, at := text[0], 1
	var out []byte
	for ; at < len(text) && text[at] != quote; at++ {
		if text[at] == '\\' && at+1 < len(text) && (text[at+1] == quote || text[at+1] == '\\') {
			at++
		}
		out = append(out, text[at])
	}
	return string(out), strings.TrimLeft(text[min(at+1, len(text)):], blanks)
}
