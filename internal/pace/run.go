package pace

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"weltaxis/internal/ordinary"
	"weltaxis/internal/secrets"
)

// DefaultTimes is how often each page is asked for in each way.
const DefaultTimes = 6

// A Lap is one request for a page.
type Lap struct {
	Around  bool    `json:"around"`  // the cache
	Outcome string  `json:"outcome"` // what became of it at a cache, as its headers say: hit, stale, bypass, miss, untold
	Status  int     `json:"status"`
	Connect float64 `json:"connect_ms"` // 0 on a connection that was open
	First   float64 `json:"first_ms"`   // to the first byte, connecting left out
	Whole   float64 `json:"whole_ms"`   // to the last, with connecting
	Bytes   int     `json:"bytes"`      // as they were sent; -1 when not all came
}

// A Page is one page, asked for again and again: plainly, as a visitor does, and around the cache in turn.
type Page struct {
	Address string `json:"address"`
	Path    string `json:"path"`
	Way     string `json:"way"`    // around the cache; "" when none was found
	Failed  string `json:"failed"` // why it was not asked for to the end, "" when it was
	Laps    []Lap  `json:"laps"`   // the warm-up left out
}

// A Run is pages of a site, asked for at one time.
type Run struct {
	Format   int       `json:"format"`
	Taken    time.Time `json:"taken"`
	Site     string    `json:"site"`
	Times    int       `json:"times"`
	Requests int       `json:"requests"` // that were made, with those of the warm-up
	Pages    []Page    `json:"pages"`
}

// runFormat is the format of kept runs.
const runFormat = 1

// Most is how many requests a run makes at most: robots.txt and the home page, and for each page a warm-up, two ways around a
// cache that may not work, and so many in both ways.
func Most(pages, times int) int { return 2 + pages*(1+2+2*times) }

// Ways are the times of a page to the first byte, plainly and around the cache, and what became of the plain requests.
func (p *Page) Ways() (plain, around []float64, outcomes map[string]int) {
	outcomes = map[string]int{}
	for _, l := range p.Laps {
		if l.Around {
			around = append(around, l.First)
			continue
		}
		plain = append(plain, l.First)
		outcomes[l.Outcome]++
	}
	return plain, around, outcomes
}

// Kept are the plain laps that a cache answered.
func (p *Page) Kept() (times []float64) {
	for _, l := range p.Laps {
		if !l.Around && (l.Outcome == "hit" || l.Outcome == "stale") {
			times = append(times, l.First)
		}
	}
	return times
}

// Wholes are the times to the last byte of one of the ways.
func (p *Page) Wholes(around bool) (times []float64) {
	for _, l := range p.Laps {
		if l.Around == around {
			times = append(times, l.Whole-l.Connect)
		}
	}
	return times
}

// Before is the same page in an earlier run, nil when that does not have it.
func (r *Run) Before(path string) *Page {
	i := slices.IndexFunc(r.Pages, func(p Page) bool { return p.Path == path })
	if i < 0 {
		return nil
	}
	return &r.Pages[i]
}

// Runs are kept in a folder, the oldest left out once there are more than MostKept.
const (
	MostKept = 50
	runsFile = "pace.json"
	maxRuns  = 16 << 20
)

// Read reads the runs that are kept in a folder, the oldest first; none when there are none.
func Read(dir string) (runs []Run, err error) {
	name := filepath.Join(dir, runsFile)
	data, err := ordinary.Read(name, maxRuns)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	if err := json.Unmarshal(data, &runs); err != nil {
		return nil, fmt.Errorf("%s is damaged (%w); move it away, or say --no-keep", name, err)
	}
	for _, r := range runs {
		if r.Format > runFormat {
			return nil, fmt.Errorf("%s was written by a newer version of this program; say --no-keep", name)
		}
	}
	return runs, nil
}

// Keep adds a run to those of a folder, which is made if it is not there.
func Keep(dir string, runs []Run, run Run) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	runs = append(slices.Clone(runs), run)
	data, err := json.Marshal(runs[max(len(runs)-MostKept, 0):])
	if err != nil {
		return err
	}
	return replace(filepath.Join(dir, runsFile), []byte(secrets.Shown(string(data)))) // pages may have addresses that hold one
}

// replace writes a file whole or not at all; only its owner may read it.
func replace(name string, data []byte) error {
	temporary, err := os.CreateTemp(filepath.Dir(name), filepath.Base(name)+"-*")
	if err != nil {
		return err
	}
	_, err = temporary.Write(data)
	if err = errors.Join(err, temporary.Sync(), temporary.Close()); err == nil {
		err = os.Rename(temporary.Name(), name)
	}
	if err != nil {
		_ = os.Remove(temporary.Name())
	}
	return err
}

// New is a run at a moment, of which no page was asked for yet.
func New(site string, times int, now time.Time) Run {
	return Run{Format: runFormat, Taken: now.UTC().Truncate(time.Second), Site: site, Times: times, Pages: []Page{}}
}
