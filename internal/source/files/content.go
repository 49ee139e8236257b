package files

import (
	"bytes"
	"errors"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/ordinary"
	"weltaxis/internal/tree"
)

// What the ending of a name promises. Only of a file that may be run it is opened to find out.
const (
	program = "program" // run by the server or the runtime
	command = "command" // run by the operating system, whatever its name
	page    = "page"    // sent as it is and shown: markup, styles, scripts, text
	picture = "picture" // pictures, sound, film, fonts
	data    = "data"    // anything else
	none    = "none"    // not a file

	inert     = "inert"     // a program without a statement that does anything
	disguised = "disguised" // a program in the name of something else
	dormant   = "dormant"   // it begins as a program does, and nothing runs it
	scripting = "scripting" // a picture that carries a script
)

var endings = func() map[string]string {
	index := map[string]string{}
	for content, list := range map[string]string{
		program: facts.ProgramEndings + " exe so",
		page:    "html htm xhtml css js mjs map txt xml rss atom json md",
		picture: "jpg jpeg png gif webp avif svg ico bmp tif tiff mp3 ogg oga wav flac mp4 webm ogv woff woff2 ttf otf eot",
	} {
		for ending := range strings.FieldsSeq(list) {
			index[ending] = content
		}
	}
	return index
}()

// magics are how what the operating system runs begins: scripts (POSIX.1-2024, exec), ELF, Mach-O and PE.
var magics = []string{"#!", "\x7fELF", "\xfe\xed\xfa\xce", "\xfe\xed\xfa\xcf", "\xce\xfa\xed\xfe", "\xcf\xfa\xed\xfe", "\xca\xfe\xba\xbe", "MZ"}

// commandFolders hold what is run by others: by people, by timers, by a version control system.
var commandFolders = []string{"bin", "sbin", "libexec", "hooks", "cgi-bin"}

// content is what a file holds: by its name, and if it may be run, by how it begins and where it lies.
func (c *counting) content(e tree.Entry) string {
	promised := contentOf(e)
	if e.Kind != tree.File || e.Mode&0o111 == 0 {
		return promised
	}
	head, err := tree.Head(c.files, e.Path, 4)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		c.fails(e.Path, err)
	}
	if slices.ContainsFunc(magics, func(magic string) bool { return bytes.HasPrefix(head, []byte(magic)) }) {
		return command
	}
	folders := strings.Split(e.Path, "/")
	name := folders[len(folders)-1]
	inPlace := slices.ContainsFunc(folders[:len(folders)-1], func(folder string) bool { return slices.Contains(commandFolders, folder) })
	var other *ordinary.Error // it has become something else
	// What cannot be opened and has no ending may be one as well.
	if promised == data && (inPlace || err != nil && !errors.As(err, &other) && !strings.Contains(name, ".")) {
		return command
	}
	return promised
}

// contentOf goes by every ending of the name, since a server may be told to run picture.php.jpg for its php.
func contentOf(e tree.Entry) string {
	if e.Kind != tree.File {
		return none
	}
	name := e.Path[strings.LastIndexByte(e.Path, '/')+1:]
	last := data
	for {
		dot := strings.IndexByte(name, '.')
		if dot < 0 {
			return last
		}
		name = name[dot+1:]
		ending, _, _ := strings.Cut(name, ".")
		if bare := ending[:len(ending)-len(strings.TrimLeft(ending, plainSigns))]; !strings.ContainsAny(ending[len(bare):], plainSigns) { // php; and php with a blank, but not php-notes
			ending = bare
		}
		if !isLower(ending) {
			ending = strings.ToLower(ending)
		}
		if c, known := endings[ending]; known {
			last = c
			if c == program {
				return c
			}
		} else {
			last = data
		}
	}
}

// plainSigns are letters and digits, of which endings that are known are made.
const plainSigns = "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"

// holdsEnding is a name that has the ending of a program somewhere, by which a server may be told to run it.
var holdsEnding = regexp.MustCompile(`(?i)\.(?:` + strings.Join(strings.Fields(facts.ProgramEndings), "|") + `)`)

func isLower(s string) bool {
	for i := range len(s) {
		if s[i] >= 'A' && s[i] <= 'Z' {
			return false
		}
	}
	return true
}
