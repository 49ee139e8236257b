// Package baseline holds what ought to be: rules as data, with conditions in CEL (the Common Expression
// Language), checked against the catalogue when loaded, and the judging of a snapshot by them.
//
// Judging looks at nothing: neither site, clock nor network. The package may import facts, orders, strict and nearest.
package baseline

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"

	"weltaxis/internal/facts"
	"weltaxis/internal/nearest"
	"weltaxis/internal/orders"
	"weltaxis/internal/strict"
)

//go:embed rules/*.yaml
var builtIn embed.FS

// A Baseline is a set of rules with their limits.
type Baseline struct {
	Rules  []*Rule // in the order of the areas, and within one in the order of the file
	Limits map[string]Limit
	// Version tells baselines apart: the first eight hexadecimal digits of SHA-256 over all files.
	Version string

	abouts   map[string]string // by area
	compiler *compiler
}

// A compiler is what compiling needs, and guards what it leaves in rules: the built-in ones are shared by all baselines of a process.
type compiler struct {
	mu       sync.Mutex
	env      *cel.Env
	itemEnvs map[string]*cel.Env
}

// ours are the built-in rules, read once, and compiled as they are needed. They do not change.
var ours = sync.OnceValues(func() (*Baseline, error) { return load(nil) })

// A Limit is a named parameter of the rules.
type Limit struct {
	Value facts.Value
	Means string
}

// maxFile is the largest file of rules that is read, in bytes.
const maxFile = 4 << 20

// Load reads the built-in rules and those of the named files. A rule or a limit of a later file replaces one of
// the same name. Nothing is compiled yet.
func Load(files ...string) (*Baseline, error) {
	if len(files) > 0 {
		return load(files)
	}
	b, err := ours()
	if err != nil {
		return nil, err
	}
	return &Baseline{Rules: slices.Clone(b.Rules), Limits: maps.Clone(b.Limits), Version: b.Version, abouts: b.abouts, compiler: b.compiler}, nil
}

func load(files []string) (*Baseline, error) {
	b := &Baseline{Limits: map[string]Limit{}, abouts: map[string]string{}, compiler: &compiler{itemEnvs: map[string]*cel.Env{}}}
	sum := sha256.New()
	entries, err := builtIn.ReadDir("rules")
	if err != nil {
		return nil, err
	}
	for _, entry := range entries {
		name := path.Join("rules", entry.Name())
		data, err := builtIn.ReadFile(name)
		if err != nil {
			return nil, err
		}
		sum.Write(data)
		if err := b.add(name, data, true); err != nil {
			return nil, err
		}
	}
	for _, name := range files {
		data, err := orders.Read(name, maxFile)
		if fault := (*orders.Fault)(nil); errors.As(err, &fault) {
			return nil, fmt.Errorf("the baseline %s is not obeyed: %w", name, err)
		}
		if err != nil {
			return nil, fmt.Errorf("reading the baseline %s: %w", name, facts.Plainly(err))
		}
		sum.Write(data)
		if err := b.add(name, data, false); err != nil {
			return nil, err
		}
	}
	b.Version = hex.EncodeToString(sum.Sum(nil)[:4])
	slices.SortStableFunc(b.Rules, func(x, y *Rule) int { return slices.Index(Areas, x.Area) - slices.Index(Areas, y.Area) })
	return b, b.checkCovers()
}

func (b *Baseline) add(name string, data []byte, builtIn bool) error {
	var f file
	if err := strict.Decode(name, data, &f); err != nil {
		return err
	}
	if f.Area != "" {
		b.abouts[f.Area] = f.About
	}
	for limit, s := range f.Limits {
		value, err := parseLimit(facts.Type(s.Type), s.Value, nil)
		if err != nil {
			return strict.Errorf(name, s.Pos, "limit %s: %w", limit, err)
		}
		b.Limits[limit] = Limit{value, s.Means}
	}
	for i := range f.Rules {
		r := &f.Rules[i]
		r.file, r.Area, r.builtIn = name, f.Area, builtIn
		if err := r.check(); err != nil {
			return err
		}
		if now, changed := b.Present(r.ID); changed {
			r.note(facts.Renamed(r.ID, now))
			r.ID = now
		}
		if at := slices.IndexFunc(b.Rules, func(old *Rule) bool { return old.ID == r.ID }); at >= 0 {
			if b.Rules[at].file == name {
				return r.errorf("there is another rule of this id in the file")
			}
			b.Rules[at] = r
			continue
		}
		b.Rules = append(b.Rules, r)
	}
	return nil
}

func parseLimit(t facts.Type, text string, list []string) (facts.Value, error) {
	if celTypes[t] == nil {
		return facts.Value{}, fmt.Errorf("there is no type %q", t)
	}
	if t == facts.List && list != nil {
		return facts.ListOf(list...), nil
	}
	return t.Parse(text)
}

// SetLimit overrides a limit with the text or list of a site file.
func (b *Baseline) SetLimit(name, text string, list []string) error {
	limit, known := b.Limits[name]
	if !known {
		return fmt.Errorf("there is no limit %q%s", name, nearest.Hint(name, slices.Collect(maps.Keys(b.Limits))))
	}
	if (list != nil) != (limit.Value.Type() == facts.List) {
		return fmt.Errorf("limit %s is a %s", name, limit.Value.Type())
	}
	value, err := parseLimit(limit.Value.Type(), text, list)
	if err != nil {
		return fmt.Errorf("limit %s: %w", name, err)
	}
	limit.Value = value
	b.Limits[name] = limit
	return nil
}

// checkCovers refuses a cover of a rule that does not exist, and covers that go in a circle.
func (b *Baseline) checkCovers() error {
	for _, r := range b.Rules {
		for _, name := range r.Configured {
			_, field, _ := strings.Cut(name, ".")
			if _, known := facts.Lookup(facts.ListAnswers + "." + field); !known {
				return r.errorf("configured: %q names no field of %s", name, facts.ListAnswers)
			}
		}
		for i, covered := range r.Covers {
			if now, changed := b.Present(covered); changed {
				r.note(facts.Renamed(covered, now))
				covered, r.Covers[i] = now, now
			}
			if _, there := b.Rule(covered); !there {
				return r.errorf("covers: there is no rule %q%s", covered, nearest.Hint(covered, b.IDs()))
			}
		}
		if slices.Contains(b.coveredBy(r, nil), r.ID) {
			return r.errorf("covers: it covers itself in the end")
		}
	}
	return nil
}

// coveredBy lists all rules that a rule covers, directly or through others.
func (b *Baseline) coveredBy(r *Rule, seen []string) []string {
	for _, id := range r.Covers {
		if slices.Contains(seen, id) {
			continue
		}
		seen = append(seen, id)
		if inner, ok := b.Rule(id); ok {
			seen = b.coveredBy(inner, seen)
		}
	}
	return seen
}

// IDs lists the ids of all rules.
func (b *Baseline) IDs() []string {
	var ids []string
	for _, r := range b.Rules {
		ids = append(ids, r.ID)
	}
	return ids
}

// Present is the id that a rule has now, and whether that is another.
func (b *Baseline) Present(id string) (now string, changed bool) {
	if i := slices.IndexFunc(b.Rules, func(r *Rule) bool { return slices.Contains(r.Former, id) }); i >= 0 {
		return b.Rules[i].ID, true
	}
	return id, false
}

// About says what an area is about, "" for one that no file is of.
func (b *Baseline) About(area string) string { return b.abouts[area] }

// BuiltIn says whether a rule is the baseline's own, and not one of the site's.
func (r *Rule) BuiltIn() bool { return r.builtIn }

// Rule finds a rule by its id.
func (b *Baseline) Rule(id string) (*Rule, bool) {
	if i := slices.IndexFunc(b.Rules, func(r *Rule) bool { return r.ID == id }); i >= 0 {
		return b.Rules[i], true
	}
	return nil, false
}

// Select keeps the rules of the named areas and the named rules, all when none is named, and reports names that are
// neither. Rules of one's own are checked; the built-in ones are known to be in order.
func (b *Baseline) Select(only ...string) error {
	for i, name := range only {
		if now, changed := b.Present(name); changed {
			slog.Warn(facts.Renamed(name, now))
			only = slices.Clone(only)
			name, only[i] = now, now
		}
		if _, isRule := b.Rule(name); !isRule && !slices.Contains(Areas, name) && len(SeveritiesAmong([]string{name})) == 0 {
			return fmt.Errorf("there is no area, rule or severity %q%s", name, nearest.Hint(name, slices.Concat(b.IDs(), Areas, facts.SeverityWords())))
		}
	}
	severities := SeveritiesAmong(only)
	b.Rules = slices.DeleteFunc(b.Rules, func(r *Rule) bool {
		named := len(only) == len(severities) || slices.Contains(only, r.Area) || slices.Contains(only, r.ID)
		severe := len(severities) == 0 || slices.ContainsFunc(r.Severity, func(c SeverityCase) bool { return slices.Contains(severities, c.Is) })
		return !named || !severe
	})
	b.compiler.mu.Lock()
	defer b.compiler.mu.Unlock()
	for _, r := range b.Rules {
		if r.builtIn {
			continue
		}
		if err := b.compile(r); err != nil {
			return err
		}
	}
	return nil
}

// SeveritiesAmong are those of the names that are severities.
func SeveritiesAmong(names []string) []facts.Severity {
	var severities []facts.Severity
	for _, name := range names {
		var s facts.Severity
		if name != "" && s.UnmarshalText([]byte(name)) == nil {
			severities = append(severities, s)
		}
	}
	return severities
}

// Compiling begins to compile what Select has left to compile, and returns at once. The function it returns waits until
// that is done; until then the baseline judges nothing.
func (b *Baseline) Compiling() (wait func() error) {
	done := make(chan error, 1)
	go func() {
		start := time.Now()
		done <- b.compileRest()
		slog.Debug("compiled", "rules", len(b.Rules), "took", time.Since(start))
	}()
	return sync.OnceValue(func() error { return <-done })
}

func (b *Baseline) compileRest() error {
	b.compiler.mu.Lock()
	defer b.compiler.mu.Unlock()
	for _, r := range b.Rules {
		if r.code != nil {
			continue
		}
		if err := b.compile(r); err != nil {
			return err
		}
	}
	return nil
}

// Compile selects and compiles in one.
func (b *Baseline) Compile(only ...string) error {
	if err := b.Select(only...); err != nil {
		return err
	}
	return b.compileRest()
}

// Source returns the text of the built-in rules of an area.
func Source(area string) ([]byte, error) {
	if !slices.Contains(Areas, area) {
		return nil, fmt.Errorf("there is no area %q%s; there are %s", area, nearest.Hint(area, Areas), strings.Join(Areas, ", "))
	}
	return builtIn.ReadFile("rules/" + area + ".yaml")
}
