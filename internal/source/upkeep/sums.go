package upkeep

import (
	"bufio"
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"weltaxis/internal/facts"
	"weltaxis/internal/orders"
	"weltaxis/internal/tree"
)

// Sums is what files of a program ought to hold, by their path below its folder.
type Sums struct {
	File    string // the list
	Of      string // what the list says that it is of, as "brindle 3.4.2"; "" when it does not say
	Skipped int    // lines that are none

	files map[string]sum
	dirs  map[string][]string // names of the files in each folder
}

type sum struct {
	hash []byte
	line int
}

const (
	maxSums    = 128 << 20 // bytes of a list
	maxSumsOf  = 1_000_000 // files in it
	maxAltered = 2000
)

// hashes by the length of what they give, in bytes.
var hashes = map[int]func() hash.Hash{md5.Size: md5.New, sha1.Size: sha1.New, sha256.Size: sha256.New, sha512.Size384: sha512.New384, sha512.Size: sha512.New}

var (
	// "HASH  PATH", as the tools of the system write it, a * before the path for binary and a \ before all for an escaped path.
	plainLine = regexp.MustCompile(`^(\\?)([0-9A-Fa-f]{32,128})[ \t]+\*?(.+)$`)
	// "SHA256 (PATH) = HASH", as with --tag.
	taggedLine = regexp.MustCompile(`^(\\?)[A-Za-z0-9-]+ \((.+)\) = ([0-9A-Fa-f]{32,128})$`)
	ofLine     = regexp.MustCompile(`^#\s*(\S+ v?\d[0-9A-Za-z.+~-]*)\s*$`)
)

// ReadSums reads the list of checksums of a program: the file itself, or that one in a folder which is called after it and its version, as
// brindle-3.4.2.sha256. ErrNone when a folder has none.
func ReadSums(place, name, version string) (*Sums, error) {
	stat, err := os.Stat(place)
	if err != nil {
		return nil, fmt.Errorf("the checksums %s: %w", place, facts.Plainly(err))
	}
	if stat.IsDir() {
		file, err := called(place, name, version)
		if err != nil {
			return nil, err
		}
		place = file
	}
	data, err := orders.ReadNamed(place, maxSums)
	if err != nil {
		return nil, fmt.Errorf("the checksums %s: %w", place, facts.Plainly(err))
	}
	s := &Sums{File: place, files: map[string]sum{}, dirs: map[string][]string{}}
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, 64<<10)
	number := 0
	for lines.Scan() {
		number++
		if err := s.line(strings.TrimSuffix(lines.Text(), "\r"), number); err != nil {
			return nil, fmt.Errorf("the checksums %s, line %d: %w", place, number, err)
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("the checksums %s, line %d: %w", place, number+1, err)
	}
	if len(s.files) == 0 {
		return nil, fmt.Errorf("the checksums %s: there is none; each is a line with the checksum, two spaces, and the path below the root", place)
	}
	return s, nil
}

// called is the list in a folder that is called after a program and its version.
func called(folder, name, version string) (string, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return "", fmt.Errorf("the checksums %s: %w", folder, facts.Plainly(err))
	}
	stem := regexp.MustCompile(`(?i)^` + regexp.QuoteMeta(name) + `[-_ .]v?` + regexp.QuoteMeta(version) + `(\.[a-z0-9]+)*$`)
	for _, entry := range entries {
		if version != "" && stem.MatchString(entry.Name()) && !onlyNumbers.MatchString(strings.TrimPrefix(filepath.Ext(entry.Name()), ".")) {
			return filepath.Join(folder, entry.Name()), nil
		}
	}
	return "", fmt.Errorf("the checksums %s: %w; it would be called %s-%s.sha256", folder, ErrNone, name, version)
}

var onlyNumbers = regexp.MustCompile(`^\d+$`)

// plainly takes the plainest of lines apart, as most are; "" for another.
func plainly(text string) (digits, name string) {
	end := strings.IndexByte(text, ' ')
	if end < 32 || end > 128 || len(text) < end+3 || text[end+1] != ' ' && text[end+1] != '*' || text[end+2] == ' ' || text[end+2] == '*' {
		return "", ""
	}
	for i := range end {
		if c := text[i]; !isDigit(c) && (c < 'a' || c > 'f') {
			return "", ""
		}
	}
	return text[:end], text[end+2:]
}

func (s *Sums) line(text string, number int) error {
	if found := ofLine.FindStringSubmatch(text); found != nil && s.Of == "" {
		s.Of = found[1]
	}
	if text == "" || strings.HasPrefix(text, "#") {
		return nil
	}
	var escaped, digits, name string
	if digits, name = plainly(text); digits != "" {
	} else if found := taggedLine.FindStringSubmatch(text); found != nil {
		escaped, name, digits = found[1], found[2], found[3]
	} else if found := plainLine.FindStringSubmatch(text); found != nil {
		escaped, digits, name = found[1], found[2], found[3]
	} else {
		s.Skipped++
		return nil
	}
	if escaped != "" {
		name = strings.NewReplacer(`\\`, `\`, `\n`, "\n", `\r`, "\r").Replace(name)
	}
	binary, err := hex.DecodeString(digits)
	if err != nil || hashes[len(binary)] == nil {
		return fmt.Errorf("a checksum of %d digits is of no kind that is known: MD5, SHA-1, SHA-256, SHA-384, SHA-512", len(digits))
	}
	name = path.Clean(strings.TrimPrefix(name, "./"))
	if !filepath.IsLocal(name) || name == "." {
		return fmt.Errorf("%q is no path below the root", name)
	}
	if len(s.files) == maxSumsOf {
		return fmt.Errorf("there are more than %d files", maxSumsOf)
	}
	if _, twice := s.files[name]; !twice {
		s.dirs[path.Dir(name)] = append(s.dirs[path.Dir(name)], path.Base(name))
	}
	s.files[name] = sum{binary, number}
	return nil
}

// Count is how many files the list has.
func (s *Sums) Count() int { return len(s.files) }

// An Altered is a file that is not as its list has it.
type Altered struct {
	Path  string
	State string // changed, missing or added
	At    facts.Origin
}

// A Held is what came of holding files against their list.
type Held struct {
	Altered  []Altered
	More     int      // of which there was no room to say
	Same     []string // files that are as the list has them
	LineEnds int      // files that are, but for the ends of their lines
	Unread   []string // each with why

	asked *atomic.Int64 // of all folders
}

// Hold holds the files below a folder of a tree against the list, several at once. Passed over is what may be otherwise, by its path; gone, what may
// be missing. Whole says that nothing else lies in the root itself. Suspect tells of a file that the list lacks, and that lies in a folder whose files it has, whether that is a program.
func (s *Sums) Hold(ctx context.Context, files tree.Files, base string, whole bool, passed, gone, suspect func(name string) bool) (*Held, error) {
	s.shift(files, base)
	held := &Held{asked: &atomic.Int64{}}
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(2 * runtime.GOMAXPROCS(0))
	for _, folder := range slices.Sorted(maps.Keys(s.dirs)) {
		names := s.dirs[folder]
		for begin := 0; begin < len(names); begin += 256 {
			part := names[begin:min(begin+256, len(names))]
			group.Go(func() error {
				h := s.folder(ctx, held.asked, files, base, folder, part, begin == 0 && (whole || folder != "."), passed, gone, suspect)
				mu.Lock()
				defer mu.Unlock()
				held.merge(h)
				return ctx.Err()
			})
		}
	}
	err := group.Wait()
	slices.SortFunc(held.Altered, func(a, b Altered) int { return strings.Compare(a.Path, b.Path) })
	if over := len(held.Altered) - maxAltered; over > 0 {
		held.Altered, held.More = held.Altered[:maxAltered], held.More+over
	}
	slices.Sort(held.Unread)
	return held, err
}

func (h *Held) merge(more *Held) {
	h.Altered = append(h.Altered, more.Altered...)
	h.Unread = append(h.Unread, more.Unread...)
	h.LineEnds += more.LineEnds
	h.More += more.More
	h.Same = append(h.Same, more.Same...)
}

// shift takes away the folder that an archive puts all its files into, when there is none of that name here.
func (s *Sums) shift(in tree.Files, base string) {
	first := ""
	for name := range s.files {
		top, _, below := strings.Cut(name, "/")
		if !below || first != "" && top != first {
			return
		}
		first = top
	}
	if _, err := in.Stat(path.Join(base, first)); err == nil {
		return
	}
	files, dirs := map[string]sum{}, map[string][]string{}
	for name, of := range s.files {
		name = strings.TrimPrefix(name, first+"/")
		files[name] = of
		dirs[path.Dir(name)] = append(dirs[path.Dir(name)], path.Base(name))
	}
	s.files, s.dirs = files, dirs
}

// folder holds files of one folder against the list; with strangers, those that it lacks as well.
func (s *Sums) folder(ctx context.Context, asked *atomic.Int64, in tree.Files, base, folder string, names []string, strangers bool, passed, gone, suspect func(string) bool) *Held {
	h := &Held{asked: asked}
	err := tree.IsFolder(in, path.Join(base, folder))
	missing := errors.Is(err, fs.ErrNotExist)
	if err != nil && !missing {
		h.Unread = append(h.Unread, folder+"/: "+facts.Plainly(err).Error())
		return h
	}
	buffer := make([]byte, 64<<10)
	for _, called := range names {
		name := path.Join(folder, called)
		if ctx.Err() != nil {
			break
		}
		of := s.files[name]
		at := facts.Origin{File: s.File, Line: of.line}
		same, rewrapped := false, false
		if !missing {
			same, rewrapped, err = is(in, path.Join(base, name), of.hash, buffer)
		}
		switch {
		case missing || errors.Is(err, fs.ErrNotExist):
			h.alter(Altered{name, "missing", at}, func(name string) bool { return gone(name) || passed(name) })
		case err != nil:
			h.Unread = append(h.Unread, name+": "+facts.Plainly(err).Error())
		case same:
			h.Same = append(h.Same, name)
		case rewrapped:
			h.Same = append(h.Same, name)
			h.LineEnds++
		default:
			h.alter(Altered{name, "changed", at}, passed)
		}
	}
	if strangers && !missing {
		h.strangers(s, in, base, folder, passed, suspect)
	}
	return h
}

// maxAsked is of how many files it is asked whether they may be otherwise; with more the list is of something else.
const maxAsked = 10_000

// alter notes a file that is otherwise, unless it may be.
func (h *Held) alter(a Altered, may func(name string) bool) {
	if h.asked.Add(1) > maxAsked {
		h.More++
	} else if !may(a.Path) {
		h.Altered = append(h.Altered, a)
	}
}

// strangers are programs in a folder of the list that the list does not have.
func (h *Held) strangers(s *Sums, in tree.Files, base, folder string, passed, suspect func(string) bool) {
	real, err := in.Real(path.Join(base, folder))
	var entries []tree.Entry
	if err == nil {
		entries, err = in.ReadDir(real)
	}
	if err != nil {
		h.Unread = append(h.Unread, folder+"/: "+facts.Plainly(err).Error())
		return
	}
	for _, entry := range entries {
		name := path.Join(folder, entry.Base())
		if _, known := s.files[name]; known || entry.Kind != tree.File || passed(name) || !suspect(name) {
			continue
		}
		h.Altered = append(h.Altered, Altered{name, "added", facts.Origin{File: s.File}})
	}
}

// is tells whether a file holds what its checksum says, or does but for the ends of its lines, as after a transfer as text.
func is(in tree.Files, name string, want []byte, buffer []byte) (same, rewrapped bool, err error) {
	file, err := in.Open(name)
	if err != nil {
		return false, false, err
	}
	defer file.Close()
	stat, err := file.Stat()
	if err != nil {
		return false, false, err
	}
	digest := hashes[len(want)]()
	for left := stat.Size(); left > 0; { // it is read as long as it was when it was opened: one that grows has an end
		n, err := file.Read(buffer[:min(left, int64(len(buffer)))])
		digest.Write(buffer[:n])
		left -= int64(n)
		if err != nil && !errors.Is(err, io.EOF) {
			return false, false, err
		}
		if n == 0 {
			break
		}
	}
	if bytes.Equal(digest.Sum(buffer[:0]), want) {
		return true, false, nil
	}
	if stat.Size() > 1<<20 {
		return false, false, nil
	}
	data, err := tree.Read(in, name, 1<<20)
	if err != nil || bytes.IndexByte(data, 0) >= 0 {
		return false, false, nil
	}
	unix := bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
	for _, text := range [][]byte{unix, bytes.ReplaceAll(unix, []byte("\n"), []byte("\r\n"))} {
		digest.Reset()
		digest.Write(text)
		if bytes.Equal(digest.Sum(nil), want) {
			return false, true, nil
		}
	}
	return false, false, nil
}
