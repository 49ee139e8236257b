package fix

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
	locks "weltaxis/internal/lock"
	"weltaxis/internal/ordinary"
	"weltaxis/internal/secrets"
	"weltaxis/internal/store"
)

// What happened to a change, as the journal has it.
const (
	Begun           = "begun"      // it is about to be made; the place tells whether it was
	Done            = "done"       // it was made
	Failed          = "failed"     // it was not made
	TakenBack       = "taken back" // it was made and taken back at once, because it broke something
	TakenBackByUndo = "undone"     // it was made, and taken back by undo
	lookedAt        = "looked"     // before a run, with the rules that deviated
)

// Keep is how long what undo needs is kept.
const Keep = 30 * 24 * time.Hour

// runStamp is how a run is called: by when it began, in UTC.
const runStamp = "20060102T150405"

// A LogLine is one line of the journal. It holds no secret: what was before, and may be one, is in a file of its
// own that only its owner may read, for a time.
type LogLine struct {
	Format  int             `json:"format,omitempty"` // of the journal; none is 1
	Run     string          `json:"run"`
	ID      int             `json:"id"` // of the change, unique in the journal
	At      time.Time       `json:"at"`
	Event   string          `json:"event"`
	Rules   []string        `json:"rules,omitempty"`
	Kind    Kind            `json:"kind"`
	Group   string          `json:"group,omitempty"` // within the run: what is made and taken back together
	Name    string          `json:"name"`
	Subject string          `json:"subject,omitempty"`
	Class   *facts.Likeness `json:"class,omitempty"`
	Place   string          `json:"place,omitempty"`
	From    string          `json:"from"` // for people
	To      string          `json:"to"`
	Risk    facts.Risk      `json:"risk"`
	Says    string          `json:"says,omitempty"`
	As      string          `json:"as,omitempty"`    // the user that it was made as, where that was not whoever ran it
	Again   *Again          `json:"again,omitempty"` // when somebody is to look again
	Until   time.Time       `json:"until"`           // when what undo needs is thrown away
}

// JournalFormat is the version of the journal and of what undo needs. Format 1 had neither format nor kind in what undo
// needs; it is still taken back.
const JournalFormat = 2

// before is what undo needs.
type before struct {
	Format int         `json:"format"`
	Kind   Kind        `json:"kind"`
	Edits  store.Edits `json:"edits,omitempty"`
	Modes  []modeEdit  `json:"modes,omitempty"`
	Folder string      `json:"folder,omitempty"` // of a cache
	Call   string      `json:"call,omitempty"`   // the path that empties a cache, or the command that has a server read again
	Reads  []string    `json:"reads,omitempty"`  // the files that it reads then
	Aside  string      `json:"aside,omitempty"`  // where what it held lies, below the root

	of LogLine // as the journal had it when it was opened, or as the change was begun
}

// whole tells whether it says what was before.
func (b before) whole() bool {
	holds := rows[b.Kind].payload
	return holds == nil || holds(b)
}

// readBefore reads what undo needs, and refuses what it does not understand: taking back half of it is worse than nothing.
func readBefore(data []byte, of LogLine) (before, error) {
	b := before{Format: 1, Kind: of.Kind, of: of}
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.DisallowUnknownFields()
	switch err := decoder.Decode(&b); {
	case err != nil:
		return b, fmt.Errorf("what is kept of it is not understood, so nothing was taken back: %w", err)
	case b.Format > JournalFormat:
		return b, fmt.Errorf("what is kept of it has format %d, and this program knows %d; a newer one takes it back", b.Format, JournalFormat)
	case b.Kind != of.Kind:
		return b, fmt.Errorf("what is kept of it is of the kind %s, and the journal says %s; nothing was taken back", b.Kind, of.Kind)
	}
	return b, nil
}

// A modeEdit is one entry whose mode changes.
type modeEdit struct {
	Path string `json:"path"`
	From uint32 `json:"from"`
	To   uint32 `json:"to"`
	Was  uint32 `json:"was,omitempty"` // before all changes of the run, where another takes bits as well
	UID  uint32 `json:"uid"`
	GID  uint32 `json:"gid"`
	Dir  bool   `json:"dir"`
}

// A Journal is the record of all changes to one site, in the state folder.
type Journal struct {
	dir   string
	lock  *os.File
	file  *os.File
	next  int
	lines map[int]LogLine // by id, as they stand
	now   func() time.Time
	run   string
}

// ErrBusy says that another run is changing this site.
var ErrBusy = errors.New("another run is changing this site right now; wait until it is done")

var notFileName = regexp.MustCompile(`[^a-z0-9]+`)

// FolderName is what the folder is called in which the journal of a site is: its name and a sum of its path.
func FolderName(siteName, sitePath string) string {
	full, err := filepath.Abs(sitePath)
	if err != nil {
		full = sitePath
	}
	sum := sha256.Sum256([]byte(full))
	name := strings.Trim(notFileName.ReplaceAllString(strings.ToLower(siteName), "-"), "-")
	return fmt.Sprintf("%.40s-%x", name, sum[:4])
}

// OpenJournal opens a site's journal for writing, and lets nobody else do so meanwhile. What has expired is thrown
// away.
func OpenJournal(dir string, now func() time.Time) (j *Journal, err error) {
	err = identity.AsCaller(func() (err error) {
		j, err = openJournal(dir, now)
		return err
	})
	return j, err
}

func openJournal(dir string, now func() time.Time) (*Journal, error) {
	if err := os.MkdirAll(filepath.Join(dir, "undo"), 0o700); err != nil {
		return nil, fmt.Errorf("the journal cannot be kept: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the journal cannot be kept: %w", err)
	}
	if err := locks.Try(lock); err != nil {
		lock.Close()
		return nil, ErrBusy
	}
	kept, _ := os.ReadDir(filepath.Join(dir, "undo"))
	for _, entry := range kept {
		if strings.HasSuffix(entry.Name(), unfinished) {
			_ = os.Remove(filepath.Join(dir, "undo", entry.Name()))
		}
	}
	j := &Journal{dir: dir, lock: lock, now: now, lines: map[int]LogLine{}, run: now().UTC().Format(runStamp)}
	records, err := ReadJournal(dir)
	if err != nil {
		j.Close()
		return nil, err
	}
	for _, r := range records {
		j.next = max(j.next, r.ID)
		j.lines[r.ID] = r
		if now().After(r.Until) {
			_ = os.Remove(j.undoFile(r.ID))
		}
		if r.Run == j.run {
			j.run += "x"
		}
	}
	if j.file, err = os.OpenFile(filepath.Join(dir, "journal.jsonl"), os.O_CREATE|os.O_APPEND|os.O_RDWR, 0o600); err != nil {
		j.Close()
		return nil, fmt.Errorf("the journal cannot be kept: %w", err)
	}
	return j, j.mend()
}

// mend ends a last line that a killed run has left unfinished.
func (j *Journal) mend() error {
	stat, err := j.file.Stat()
	if err != nil || stat.Size() == 0 {
		return err
	}
	last := make([]byte, 1)
	if _, err := j.file.ReadAt(last, stat.Size()-1); err != nil || last[0] == '\n' {
		return err
	}
	_, err = j.file.WriteString("\n")
	return err
}

// Close lets others write.
func (j *Journal) Close() {
	if j.file != nil {
		j.file.Close()
	}
	if j.lock != nil {
		_ = locks.Free(j.lock)
		j.lock.Close()
	}
}

func (j *Journal) undoFile(id int) string {
	return filepath.Join(j.dir, "undo", fmt.Sprintf("%d.json", id))
}

// begin writes what undo needs, then that the change is about to be made, both down to the disk.
func (j *Journal) begin(r *LogLine, b before, at func(point string)) error {
	j.next++
	r.ID, r.Run, r.Event, r.As = j.next, j.run, Begun, identity.ActingName()
	b.Format, b.Kind = JournalFormat, r.Kind
	j.lines[r.ID] = *r
	r.At = j.now().UTC().Truncate(time.Second)
	r.Until = r.At.Add(Keep)
	data, err := json.Marshal(b)
	if err == nil {
		err = identity.AsCaller(func() error { return j.keep(j.undoFile(r.ID), data) })
	}
	if err != nil {
		return err
	}
	at("what undo needs is kept")
	return j.write(*r)
}

// unfinished ends the name of what a killed run has left half written.
const unfinished = ".new"

// keepAlso puts what undo needs of a change that is being made in the place of what was kept of it: whole, or not at all.
func (j *Journal) keepAlso(id int, b before) error {
	b.Format, b.Kind = JournalFormat, j.lines[id].Kind
	data, err := json.Marshal(b)
	if err != nil {
		return err
	}
	name := j.undoFile(id)
	return identity.AsCaller(func() error {
		if err := j.keep(name+unfinished, data); err != nil {
			return err
		}
		return os.Rename(name+unfinished, name)
	})
}

// keep writes what undo needs of a change, down to the disk.
func (j *Journal) keep(name string, data []byte) error {
	file, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if _, err = file.Write(data); err == nil {
		err = file.Sync()
	}
	if closeErr := file.Close(); err == nil {
		err = closeErr
	}
	return err
}

func (j *Journal) event(r LogLine, event, says string) error {
	r.Event, r.Says = event, says
	r.At = j.now().UTC().Truncate(time.Second)
	return j.write(r)
}

func (j *Journal) write(r LogLine) error {
	r.Format = JournalFormat
	line, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if _, err := j.file.WriteString(secrets.Shown(string(line)) + "\n"); err != nil {
		return err
	}
	return j.file.Sync()
}

// before reads what undo needs of a change.
func (j *Journal) before(id int) (before, error) {
	data, err := readOwn(j.undoFile(id))
	if errors.Is(err, fs.ErrNotExist) {
		return before{}, errors.New("what it was before is not kept any more")
	}
	if err != nil {
		return before{}, err
	}
	return readBefore(data, j.lines[id])
}

// madeAt is just before a change was made: to the grain of the file system while what undo needs is kept, or else to the
// second.
func (j *Journal) madeAt(r LogLine) time.Time {
	made := r.At
	_ = identity.AsCaller(func() error {
		stat, err := os.Stat(j.undoFile(r.ID))
		if err == nil {
			made = stat.ModTime()
		}
		return err
	})
	return made
}

// looked writes down, before a run, which rules deviated.
func (j *Journal) looked(was Seen) error {
	return j.write(LogLine{Run: j.run, Event: lookedAt, At: j.now().UTC().Truncate(time.Second), Rules: rulesNotHeld(was), Kind: Person})
}

// rulesNotHeld are the rules that deviate, and those that nobody could judge: of neither can it be said that they held.
func rulesNotHeld(s Seen) []string {
	return slices.Compact(slices.Sorted(slices.Values(append(slices.Collect(maps.Keys(s.Deviating)), s.Unjudged...))))
}

// deviatedBefore are the rules that did not hold before a run; known is false when nobody wrote them down. Of several runs of
// one name, of which only the last can have changed anything, it is the last.
func (j *Journal) deviatedBefore(run string) (rules []string, known bool) {
	all, err := readLines(j.dir)
	if err != nil {
		return nil, false
	}
	for _, r := range all {
		if r.Run == run && r.Event == lookedAt {
			rules, known = r.Rules, true
		}
	}
	return rules, known
}

// stays tells whether one of certain changes of a run, or of a later one, is still made.
func (j *Journal) stays(run string, certain func(LogLine) bool) bool {
	records, err := ReadJournal(j.dir)
	since := slices.IndexFunc(records, func(r LogLine) bool { return r.Run == run })
	return err != nil || since >= 0 && slices.ContainsFunc(records[since:], func(r LogLine) bool { return r.made() && certain(r) })
}

// Made tells whether the change is made, or may be.
func (r LogLine) Made() bool { return r.made() }

// Locked is since when a site is locked by what was done to it from here, by its server or by the content system's switch; zero for not.
func Locked(records []LogLine) (since time.Time) {
	for _, r := range records {
		switch {
		case !r.made():
		case r.Kind == Server && r.Name == ShutName(true), r.Kind == Setting && r.Name == facts.LockOn.Short() && r.To == facts.BoolOf(true).String():
			since = r.At
		case r.Kind == Setting && r.Name == facts.LockOn.Short():
			since = time.Time{}
		}
	}
	return since
}

// made tells whether the change is made, or may be.
func (r LogLine) made() bool { return r.Event == Done || r.Event == Begun }

// FilesOf are the files, below the root, that changes since then have touched.
func FilesOf(changes []LogLine, since time.Time) (files []string) {
	for _, change := range changes {
		if file, _, _ := strings.Cut(change.Place, ", "); file != "" && !change.At.Before(since) {
			files = append(files, filepath.ToSlash(file))
		}
	}
	return files
}

// ReadJournal gives every change of a site's journal as it stands now, the oldest first. A line that a killed run
// left unfinished was never acted upon, and is passed over.
func ReadJournal(dir string) ([]LogLine, error) {
	lines, err := readLines(dir)
	if err != nil {
		return nil, err
	}
	var records []LogLine
	at := map[int]int{}
	for _, r := range lines {
		if r.Event == lookedAt {
			continue
		}
		if i, known := at[r.ID]; known {
			records[i] = r
			continue
		}
		at[r.ID] = len(records)
		records = append(records, r)
	}
	return records, nil
}

// maxJournal is the largest journal or undo file that is read, in bytes.
const maxJournal = 1 << 30

// readOwn reads a file of the journal as whoever started this program, whose it is.
func readOwn(name string) (data []byte, err error) {
	err = identity.AsCaller(func() (err error) {
		data, err = ordinary.Read(name, maxJournal)
		return err
	})
	return data, err
}

// readLines reads every line, and refuses one that a newer program wrote: it may mean what this one does not know.
func readLines(dir string) ([]LogLine, error) {
	name := filepath.Join(dir, "journal.jsonl")
	data, err := readOwn(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the journal %s: %w", name, facts.Plainly(err))
	}
	var lines []LogLine
	scanner := bufio.NewScanner(bytes.NewReader(data))
	scanner.Buffer(nil, 1<<20)
	for n := 1; scanner.Scan(); n++ {
		var shape struct {
			Format int    `json:"format"`
			Kind   string `json:"kind"`
		}
		if json.Unmarshal(scanner.Bytes(), &shape) != nil {
			continue // a killed run left it unfinished
		}
		if shape.Format > JournalFormat {
			return nil, fmt.Errorf("%s, line %d: it has format %d, and this program knows %d; use the newer one", name, n, shape.Format, JournalFormat)
		}
		line := scanner.Bytes()
		if former, is := formerKinds[shape.Kind]; is && shape.Format < 2 {
			line = bytes.Replace(line, fmt.Appendf(nil, `"kind":%q`, shape.Kind), fmt.Appendf(nil, `"kind":%q`, former), 1)
		}
		var r LogLine
		if err := json.Unmarshal(line, &r); err != nil {
			return nil, fmt.Errorf("%s, line %d: %w", name, n, err)
		}
		if _, makes := rows[r.Kind]; !makes {
			return nil, fmt.Errorf("%s, line %d: this program makes no changes of the kind %s; use the one that does", name, n, r.Kind)
		}
		lines = append(lines, r)
	}
	return lines, scanner.Err()
}
