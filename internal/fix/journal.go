package fix

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

// What happened to a change, as the journal has it.
const (
	Begun     = "begun"      // it is about to be made; the place tells whether it was
	Done      = "done"       // it was made
	Failed    = "failed"     // it was not made
	TakenBack = "taken back" // it was made and taken back at once, because it broke something
	Undone    = "undone"     // it was made, and taken back by undo
)

// Keep is how long what undo needs is kept.
const Keep = 30 * 24 * time.Hour

// A LogLine is one line of the journal. It holds no secret: what was before, and may be one, is in a file of its
// own that only its owner may read, for a time.
type LogLine struct {
	Run     string          `json:"run"`
	ID      int             `json:"id"` // of the change, unique in the journal
	At      time.Time       `json:"at"`
	Event   string          `json:"event"`
	Rules   []string        `json:"rules,omitempty"`
	Kind    string          `json:"kind"`
	Name    string          `json:"name"`
	Subject string          `json:"subject,omitempty"`
	Class   *facts.Likeness `json:"class,omitempty"`
	Place   string          `json:"place,omitempty"`
	From    string          `json:"from"` // for people
	To      string          `json:"to"`
	Risk    facts.Risk      `json:"risk"`
	Says    string          `json:"says,omitempty"`
	Until   time.Time       `json:"until"` // when what undo needs is thrown away
}

// before is what undo needs.
type before struct {
	Edits []store.Edit `json:"edits,omitempty"`
	Modes []modeEdit   `json:"modes,omitempty"`
}

// A modeEdit is one entry whose mode changes.
type modeEdit struct {
	Path string `json:"path"`
	From uint32 `json:"from"`
	To   uint32 `json:"to"`
	UID  uint32 `json:"uid"`
	GID  uint32 `json:"gid"`
	Dir  bool   `json:"dir"`
}

// A Journal is the record of all changes to one site, in the state folder.
type Journal struct {
	dir  string
	lock *os.File
	file *os.File
	next int
	now  func() time.Time
	run  string
}

// ErrBusy says that another run is changing this site.
var ErrBusy = errors.New("another run is changing this site right now; wait until it is done")

var notFileName = regexp.MustCompile(`[^a-z0-9]+`)

// Folder is where the journal of a site is: its name and a sum of its path, below the state folder (XDG Base
// Directory Specification, $XDG_STATE_HOME).
func Folder(state, siteName, sitePath string) string {
	full, err := filepath.Abs(sitePath)
	if err != nil {
		full = sitePath
	}
	sum := sha256.Sum256([]byte(full))
	name := strings.Trim(notFileName.ReplaceAllString(strings.ToLower(siteName), "-"), "-")
	return filepath.Join(state, "weltaxis", fmt.Sprintf("%.40s-%x", name, sum[:4]))
}

// OpenJournal opens a site's journal for writing, and lets nobody else do so meanwhile. What has expired is thrown
// away.
func OpenJournal(dir string, now func() time.Time) (*Journal, error) {
	if err := os.MkdirAll(filepath.Join(dir, "undo"), 0o700); err != nil {
		return nil, fmt.Errorf("the journal cannot be kept: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the journal cannot be kept: %w", err)
	}
	if err := lockFile(lock); err != nil {
		lock.Close()
		return nil, ErrBusy
	}
	j := &Journal{dir: dir, lock: lock, now: now, run: now().UTC().Format("20060102T150405")}
	records, err := ReadJournal(dir)
	if err != nil {
		j.Close()
		return nil, err
	}
	for _, r := range records {
		j.next = max(j.next, r.ID)
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
		j.lock.Close()
	}
}

func (j *Journal) undoFile(id int) string {
	return filepath.Join(j.dir, "undo", fmt.Sprintf("%d.json", id))
}

// begin writes what undo needs, then that the change is about to be made, both down to the disk.
func (j *Journal) begin(r *LogLine, b before, at func(point string)) error {
	j.next++
	r.ID, r.Run, r.Event = j.next, j.run, Begun
	r.At = j.now().UTC().Truncate(time.Second)
	r.Until = r.At.Add(Keep)
	data, err := json.Marshal(b)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(j.undoFile(r.ID), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if _, err = file.Write(data); err == nil {
		err = file.Sync()
	}
	if closeErr := file.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return err
	}
	at("what undo needs is kept")
	return j.write(*r)
}

func (j *Journal) event(r LogLine, event, says string) error {
	r.Event, r.Says = event, says
	r.At = j.now().UTC().Truncate(time.Second)
	return j.write(r)
}

func (j *Journal) write(r LogLine) error {
	line, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if _, err := j.file.Write(append(line, '\n')); err != nil {
		return err
	}
	return j.file.Sync()
}

// before reads what undo needs of a change.
func (j *Journal) before(id int) (before, error) {
	var b before
	data, err := os.ReadFile(j.undoFile(id))
	if errors.Is(err, fs.ErrNotExist) {
		return b, errors.New("what it was before is not kept any more")
	}
	if err != nil {
		return b, err
	}
	return b, json.Unmarshal(data, &b)
}

// ReadJournal gives every change of a site's journal as it stands now, the oldest first. A line that a killed run
// left unfinished was never acted upon, and is passed over.
func ReadJournal(dir string) ([]LogLine, error) {
	name := filepath.Join(dir, "journal.jsonl")
	stat, err := os.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil || !stat.Mode().IsRegular() {
		return nil, fmt.Errorf("reading the journal: %s is no ordinary file that can be read", name)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("reading the journal: %w", err)
	}
	var records []LogLine
	at := map[int]int{}
	scanner := bufio.NewScanner(bytes.NewReader(data))
	scanner.Buffer(nil, 1<<20)
	for scanner.Scan() {
		var r LogLine
		if json.Unmarshal(scanner.Bytes(), &r) != nil {
			continue
		}
		if i, known := at[r.ID]; known {
			records[i] = r
			continue
		}
		at[r.ID] = len(records)
		records = append(records, r)
	}
	return records, scanner.Err()
}
