package upkeep

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	cvss2 "github.com/pandatix/go-cvss/20"
	cvss30 "github.com/pandatix/go-cvss/30"
	cvss31 "github.com/pandatix/go-cvss/31"
	cvss4 "github.com/pandatix/go-cvss/40"
	"golang.org/x/sync/errgroup"

	"weltaxis/internal/facts"
	"weltaxis/internal/orders"
	"weltaxis/internal/ordinary"
)

// A Package is something installed, as advisories name it.
type Package struct {
	Ecosystem string // of the OSV schema, "" when nobody says
	Name      string
	Version   string
}

// A Flaw is an advisory that is about an installed version.
type Flaw struct {
	Package  Package
	ID       string
	Aliases  []string
	Severity string // low, medium, high or critical; "" for one that nobody has scored
	Fixed    string // the earliest version without it that is later than the installed one; "" when there is none, or nobody says
	About    string // one line
	At       facts.Origin
}

// A Search is what came of looking through advisories.
type Search struct {
	Flaws  []Flaw
	Looked int       // advisories that were looked at
	Newest time.Time // when the newest of them was last changed
	// Unjudged are advisories that name something installed and of which it cannot be told whether its version is among those
	// that have the flaw, each with why.
	Unjudged []string
	Unread   []string // files that are no advisories, each with why
}

const (
	maxAdvisory   = 4 << 20   // bytes of one
	maxAdvisories = 1_000_000 //
	maxArchive    = 4 << 30   // bytes that an archive of them may have, and that it may become
	maxUnread     = 20        // that are named
	maxFlaws      = 2000
)

// advisory is what is read of one (OSV schema 1.7).
type advisory struct {
	ID        string     `json:"id"`
	Aliases   []string   `json:"aliases"`
	Withdrawn string     `json:"withdrawn"`
	Summary   string     `json:"summary"`
	Details   string     `json:"details"`
	Severity  []score    `json:"severity"`
	Affected  []affected `json:"affected"`
	Database  database   `json:"database_specific"`
}

type score struct {
	Type  string `json:"type"`
	Score string `json:"score"`
}

// What databases say of their own. A severity that is no word is passed over.
type database struct {
	Severity any `json:"severity"`
}

type affected struct {
	Package struct {
		Ecosystem string `json:"ecosystem"`
		Name      string `json:"name"`
	} `json:"package"`
	Severity []score  `json:"severity"`
	Ranges   []span   `json:"ranges"`
	Versions []string `json:"versions"`
	Own      database `json:"database_specific"`
}

type span struct {
	Type   string              `json:"type"`
	Events []map[string]string `json:"events"`
}

// Advise looks through advisories in OSV format: files of a folder and what is below it, of an archive (zip), or one.
func Advise(ctx context.Context, place string, installed []Package) (*Search, error) {
	s := &searching{wanted: map[string][]Package{}, names: map[string]bool{}}
	for _, p := range installed {
		s.wanted[packageName(p.Ecosystem, p.Name)] = append(s.wanted[packageName(p.Ecosystem, p.Name)], p)
		s.names[alike(p.Name)] = true
	}
	stat, err := os.Stat(place)
	switch {
	case err != nil:
		return nil, fmt.Errorf("the advisories %s: %w", place, facts.Plainly(err))
	case stat.IsDir():
		err = s.folder(ctx, place)
	case strings.EqualFold(filepath.Ext(place), ".zip"):
		err = s.archive(ctx, place)
	default:
		s.file(place)
	}
	if err != nil {
		return nil, fmt.Errorf("the advisories %s: %w", place, err)
	}
	if s.Looked == 0 && len(s.Unread) > 0 {
		return nil, fmt.Errorf("the advisories: %s", s.Unread[0])
	}
	if s.Looked == 0 {
		return nil, fmt.Errorf("the advisories %s: there is none; each is a file in OSV format that ends in .json", place)
	}
	slices.SortFunc(s.Flaws, func(a, b Flaw) int {
		return cmp.Or(cmp.Compare(a.Package.Name, b.Package.Name), cmp.Compare(a.ID, b.ID), cmp.Compare(a.Package.Version, b.Package.Version))
	})
	s.Flaws = once(s.Flaws)
	slices.Sort(s.Unjudged)
	s.Unjudged = slices.Compact(s.Unjudged)
	slices.Sort(s.Unread)
	return &s.Search, nil
}

// once leaves out what others tell under another id: an advisory that is an alias of one that is listed.
func once(flaws []Flaw) []Flaw {
	var kept []Flaw
	for _, f := range flaws {
		if !slices.ContainsFunc(kept, func(k Flaw) bool {
			return k.Package == f.Package && (slices.Contains(k.Aliases, f.ID) || slices.Contains(f.Aliases, k.ID))
		}) {
			kept = append(kept, f)
		}
	}
	return kept
}

type searching struct {
	mu sync.Mutex
	Search
	wanted map[string][]Package // by ecosystem and name, as they are compared
	names  map[string]bool      // as alike has them
}

// alike is a name without what some ecosystems take for the same.
func alike(name string) string {
	name = strings.ToLower(strings.TrimSpace(name))
	if !strings.ContainsAny(name, "_.") && !strings.Contains(name, "--") {
		return name
	}
	return notAlike.ReplaceAllString(name, "-")
}

var notAlike = regexp.MustCompile(`[-_.]+`)

// packageName is by what a package is known: PyPI takes -, _ and . for the same (PEP 503); cases count only where the ecosystem says so.
func packageName(ecosystem, name string) string {
	ecosystem, name = Base(ecosystem), strings.TrimSpace(name)
	switch ecosystem {
	case "npm", "Go", "Debian", "Ubuntu":
	case "PyPI":
		name = notAlike.ReplaceAllString(strings.ToLower(name), "-")
	default:
		name = strings.ToLower(name)
	}
	return ecosystem + " " + name
}

func (s *searching) folder(ctx context.Context, place string) error {
	files, err := within(place, maxAdvisories, ".json")
	if err != nil {
		return err
	}
	return s.each(ctx, len(files), func(i int, _ *bytes.Buffer) { s.file(files[i]) })
}

// each does something with each of so many, several at once, and ends with the context.
func (s *searching) each(ctx context.Context, count int, do func(i int, into *bytes.Buffer)) error {
	group, ctx := errgroup.WithContext(ctx)
	next := make(chan int)
	group.Go(func() error {
		defer close(next)
		for i := range count {
			select {
			case next <- i:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() error {
			var buffer bytes.Buffer
			for i := range next {
				buffer.Reset()
				do(i, &buffer)
			}
			return nil
		})
	}
	return group.Wait()
}

func (s *searching) file(name string) {
	data, err := orders.ReadNamed(name, maxAdvisory)
	if err != nil {
		s.unread(name, facts.Plainly(err))
		return
	}
	s.look(name, data)
}

func (s *searching) archive(ctx context.Context, place string) error {
	file, err := ordinary.Open(place)
	if err != nil {
		return facts.Plainly(err)
	}
	defer file.Close()
	stat, err := file.Stat()
	if err != nil {
		return facts.Plainly(err)
	}
	archive, err := zip.NewReader(file, stat.Size())
	if err != nil {
		return fmt.Errorf("is no archive that can be read: %w", err)
	}
	var entries []*zip.File
	total := uint64(0)
	for _, entry := range archive.File {
		if strings.EqualFold(filepath.Ext(entry.Name), ".json") {
			entries = append(entries, entry)
			total += entry.UncompressedSize64
		}
	}
	if len(entries) > maxAdvisories || total > maxArchive {
		return fmt.Errorf("holds more than %d of them, or than %d GiB", maxAdvisories, maxArchive>>30)
	}
	return s.each(ctx, len(entries), func(i int, into *bytes.Buffer) {
		name := place + ": " + entries[i].Name
		body, err := entries[i].Open()
		if err != nil {
			s.unread(name, err)
			return
		}
		defer body.Close()
		// What the archive says of the size is not taken for true.
		n, err := into.ReadFrom(io.LimitReader(body, maxAdvisory+1))
		switch {
		case err != nil:
			s.unread(name, err)
		case n > maxAdvisory:
			s.unread(name, errors.New("is too large"))
		default:
			s.look(name, into.Bytes())
		}
	})
}

func (s *searching) unread(name string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.Unread) < maxUnread {
		s.Unread = append(s.Unread, name+": "+err.Error())
	}
}

// look takes an advisory apart where it may be about something that is installed: most are not, and only their names are read.
func (s *searching) look(name string, data []byte) {
	modified := texts(data, "modified")
	s.mu.Lock()
	s.Looked++
	for _, text := range modified {
		if at, err := time.Parse(time.RFC3339, text); err == nil && at.After(s.Newest) {
			s.Newest = at
		}
	}
	s.mu.Unlock()
	if !s.mayBeAbout(data) {
		return
	}
	var a advisory
	if err := json.Unmarshal(data, &a); err != nil {
		s.unread(name, fmt.Errorf("is no advisory in OSV format: %w", err))
		return
	}
	if a.ID == "" {
		s.unread(name, errors.New("is no advisory in OSV format: it has no id"))
		return
	}
	if a.Withdrawn != "" {
		return
	}
	s.hold(name, &a)
}

// mayBeAbout tells whether one of the names is that of something installed. A name that is spelt with escapes may be.
func (s *searching) mayBeAbout(data []byte) bool {
	for _, text := range texts(data, "name") {
		if strings.Contains(text, `\`) || s.names[alike(text)] {
			return true
		}
	}
	return false
}

// texts are the texts that a key has anywhere in a JSON document, as they are spelt.
func texts(data []byte, key string) (found []string) {
	key = `"` + key + `"`
	for {
		at := bytes.Index(data, []byte(key))
		if at < 0 {
			return found
		}
		data = data[at+len(key):]
		rest := bytes.TrimLeft(data, " \t\r\n")
		if len(rest) == 0 || rest[0] != ':' {
			continue
		}
		rest = bytes.TrimLeft(rest[1:], " \t\r\n")
		if len(rest) == 0 || rest[0] != '"' {
			continue
		}
		if end := bytes.IndexByte(rest[1:], '"'); end >= 0 {
			found = append(found, string(rest[1:1+end]))
		}
	}
}

// hold holds an advisory against what is installed (OSV schema, "Evaluation").
func (s *searching) hold(name string, a *advisory) {
	for _, p := range a.Affected {
		for _, installed := range s.wanted[packageName(p.Package.Ecosystem, p.Package.Name)] {
			has, why := p.has(installed)
			s.mu.Lock()
			switch {
			case has && len(s.Flaws) < maxFlaws:
				s.Flaws = append(s.Flaws, Flaw{Package: installed, ID: a.ID, Aliases: a.Aliases, Severity: a.severity(&p), Fixed: p.fixed(installed), About: a.about(), At: facts.Origin{File: name}})
			case !has && why != "":
				s.Unjudged = append(s.Unjudged, fmt.Sprintf("%s: %s %s: %s", a.ID, installed.Name, installed.Version, why))
			}
			s.mu.Unlock()
		}
	}
}

// has tells whether a version is among those with the flaw; when that cannot be told, why.
func (a *affected) has(p Package) (has bool, why string) {
	if p.Version == "" {
		return false, "its version is not known"
	}
	listed := slices.ContainsFunc(a.Versions, func(v string) bool {
		if c, known := Compare(p.Ecosystem, v, p.Version); known {
			return c == 0
		}
		return v == p.Version
	})
	if listed {
		return true, ""
	}
	for _, r := range a.Ranges {
		ecosystem := p.Ecosystem
		switch r.Type {
		case "SEMVER":
			ecosystem = "SemVer"
		case "ECOSYSTEM":
		case "GIT":
			if len(a.Versions) == 0 {
				why = cmp.Or(why, "it names commits, and no versions")
			}
			continue
		default:
			why = cmp.Or(why, fmt.Sprintf("its range is of a kind that is not known, %q", r.Type))
			continue
		}
		in, known := inRange(r.Events, ecosystem, p.Version)
		if in && known {
			return true, ""
		}
		if !known && orderOf[Base(ecosystem)] == nil {
			why = cmp.Or(why, fmt.Sprintf("the order of versions of %s is not known", cmp.Or(Base(ecosystem), "its ecosystem, which nobody names,")))
		} else if !known {
			why = cmp.Or(why, "its range names what is no version of "+Base(ecosystem))
		}
	}
	if len(a.Ranges) == 0 && len(a.Versions) == 0 {
		return false, "it names no versions"
	}
	return false, why
}

// inRange is the schema's own algorithm.
func inRange(events []map[string]string, ecosystem, version string) (in, known bool) {
	limited, below := false, false
	for _, event := range events {
		limit, is := event["limit"]
		if !is {
			continue
		}
		limited = true
		if limit == "*" {
			below = true
			continue
		}
		c, ok := Compare(ecosystem, version, limit)
		if !ok {
			return false, false
		}
		below = below || c < 0
	}
	if limited && !below {
		return false, true
	}
	sorted, known := inOrder(events, ecosystem)
	if !known {
		return false, false
	}
	for _, e := range sorted {
		c := 1
		if e.at != "0" {
			if c, known = Compare(ecosystem, version, e.at); !known {
				return false, false
			}
		}
		switch {
		case e.what == "introduced" && c >= 0:
			in = true
		case e.what == "fixed" && c >= 0, e.what == "last_affected" && c > 0:
			in = false
		}
	}
	return in, true
}

type event struct{ what, at string }

// inOrder are the events that begin or end a range, the earliest first; 0 is before every version.
func inOrder(events []map[string]string, ecosystem string) (sorted []event, known bool) {
	known = true
	for _, e := range events {
		for _, what := range []string{"introduced", "fixed", "last_affected"} {
			if at, is := e[what]; is {
				sorted = append(sorted, event{what, at})
			}
		}
	}
	slices.SortStableFunc(sorted, func(a, b event) int {
		switch {
		case a.at == b.at:
			return 0
		case a.at == "0":
			return -1
		case b.at == "0":
			return 1
		}
		c, ok := Compare(ecosystem, a.at, b.at)
		known = known && ok
		return c
	})
	if len(sorted) == 1 && sorted[0].at != "0" {
		_, known = Compare(ecosystem, sorted[0].at, sorted[0].at)
	}
	return sorted, known
}

// fixed is the earliest version in which it is put right and that is later than the installed one.
func (a *affected) fixed(p Package) (fixed string) {
	for _, r := range a.Ranges {
		ecosystem := p.Ecosystem
		if r.Type == "SEMVER" {
			ecosystem = "SemVer"
		}
		for _, e := range r.Events {
			at, is := e["fixed"]
			if c, known := Compare(ecosystem, at, p.Version); !is || !known || c <= 0 {
				continue
			}
			if c, _ := Compare(ecosystem, at, cmp.Or(fixed, at)); fixed == "" || c < 0 {
				fixed = at
			}
		}
	}
	return fixed
}

// severity is the worst that is said of it: by score (CVSS), or by the database in a word. "" when nobody says.
func (a *advisory) severity(p *affected) string {
	worst := ""
	for _, s := range slices.Concat(a.Severity, p.Severity) {
		worst = worse(worst, rated(s.Score))
	}
	if worst != "" {
		return worst
	}
	for _, said := range []any{a.Database.Severity, p.Own.Severity} {
		word, _ := said.(string)
		worst = worse(worst, strings.Replace(strings.ToLower(word), "moderate", "medium", 1))
	}
	return worst
}

var severities = []string{"low", "medium", "high", "critical"}

func worse(a, b string) string {
	if slices.Index(severities, b) > slices.Index(severities, a) {
		return b
	}
	return a
}

// rated is the rating of a score (CVSS 2.0 as the trade rates it, 3.0 and 3.1 §5, 4.0 §6): of a vector or a number.
func rated(text string) string {
	points, rating := -1.0, ""
	switch {
	case strings.HasPrefix(text, "CVSS:4.0/"):
		if v, err := cvss4.ParseVector(text); err == nil {
			points = v.Score()
		}
	case strings.HasPrefix(text, "CVSS:3.1/"):
		if v, err := cvss31.ParseVector(text); err == nil {
			points = v.BaseScore()
		}
	case strings.HasPrefix(text, "CVSS:3.0/"):
		if v, err := cvss30.ParseVector(text); err == nil {
			points = v.BaseScore()
		}
	case strings.HasPrefix(text, "AV:"):
		if v, err := cvss2.ParseVector(text); err == nil {
			points = v.BaseScore()
		}
	default:
		if _, err := fmt.Sscanf(text, "%f", &points); err != nil {
			points = -1
		}
	}
	switch {
	case points < 0 || points > 10:
	case points >= 9:
		rating = "critical"
	case points >= 7:
		rating = "high"
	case points >= 4:
		rating = "medium"
	default:
		rating = "low"
	}
	return rating
}

// about is what it is about, in one line.
func (a *advisory) about() string {
	line, _, _ := strings.Cut(strings.TrimSpace(cmp.Or(a.Summary, a.Details)), "\n")
	return facts.Shorten(strings.TrimSpace(line), 160)
}
