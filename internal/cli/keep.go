package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"weltaxis/internal/audit"
	"weltaxis/internal/compare"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/history"
	"weltaxis/internal/orders"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/secrets"
	"weltaxis/internal/site"
)

// historyFolder is the folder of what is kept of audits.
func (p *program) historyFolder() (string, error) {
	home, err := p.stateHome()
	if err != nil {
		return "", err
	}
	dir, err := home.kept()
	if err == nil {
		err = orders.Own().Beside(dir)
	}
	return dir, home.explained(err)
}

// historyOf is the site as the history knows it.
func historyOf(s *site.Site) history.Site { return history.Site{Name: s.Name, Address: s.Address()} }

// reading opens the history of a site, ErrNone when there is none.
func (p *program) reading(ctx context.Context) (*history.Store, error) {
	dir, err := p.historyFolder()
	if err != nil {
		return nil, err
	}
	return history.Open(ctx, dir)
}

// retention is how much of a site is kept.
func retention(s *site.Site) history.Retention {
	keep := history.Usual
	if n := s.History.Audits; n != nil {
		keep.Audits = *n
	}
	if n := s.History.Days; n != nil {
		keep.Age = time.Duration(*n) * 24 * time.Hour
	}
	return keep
}

// answered are the addresses that answered in earlier audits; none when nothing is kept, or it cannot be read, which is then said.
func (p *program) answered(ctx context.Context, s *site.Site) []string {
	if s.Path == s.Address() { // an address without a site file
		return nil
	}
	store, err := p.reading(ctx)
	if err != nil {
		return nil // whoever keeps says it
	}
	defer store.Close()
	addresses, err := store.Answered(ctx, historyOf(s), p.now())
	if err != nil {
		slog.Warn("what answered earlier could not be read", "error", err)
	}
	return addresses
}

// maxLooksBack is how many audits back a look at the files is searched for.
const maxLooksBack = 10

// since adds what tells which program files changed: the last look that saw them, and what this program has changed itself since.
func (p *program) since(ctx context.Context, s *site.Site, options *audit.Options) {
	if options.Before = options.Previous; options.Before == nil && s.Path != s.Address() && s.Sources.Files != nil {
		store, err := p.reading(ctx)
		if err != nil {
			return // whoever keeps says it
		}
		defer store.Close()
		audits, err := store.List(ctx, historyOf(s))
		for back := 1; err == nil && back <= min(maxLooksBack, len(audits)) && options.Before == nil; back++ {
			if kept, broken := store.Load(ctx, audits[len(audits)-back]); broken == nil && kept.Snapshot.Programs != nil {
				options.Before = kept.Snapshot
			}
		}
	}
	p.ours(s, options)
	options.Comebacks = p.comebacks(s, p.now())
	options.Announced, options.Locked = p.announced(s), !p.doneFromHere(s, nil).Locked.IsZero()
}

// comebacks are what changes of this program want somebody to come back to, but for what an audit has looked at since.
func (p *program) comebacks(s *site.Site, audited time.Time) []facts.FollowUp {
	state, err := p.stateFolder(s)
	if err != nil {
		return nil
	}
	records, err := fix.ReadJournal(state)
	if err != nil {
		return nil // whoever writes says it
	}
	return fix.Comebacks(records, audited)
}

// ours adds the files that this program has changed, or changed back, since the earlier look.
func (p *program) ours(s *site.Site, options *audit.Options) {
	state, err := p.stateFolder(s)
	if options.Before == nil || err != nil {
		return
	}
	changes, err := fix.ReadJournal(state)
	if err != nil {
		return // whoever writes says it
	}
	options.Ours = fix.FilesOf(changes, options.Before.Taken.Add(-time.Minute))
}

// keep keeps an audit, and says what is new in it. The note is what there is to say of the keeping itself.
func (p *program) keep(ctx context.Context, s *site.Site, result *audit.Result, run string, forget bool) (news *history.News, note string) {
	failed := func(err error) (*history.News, string) {
		return nil, "Not kept, so nothing can be compared with it later: " + facts.InWords(err)
	}
	dir, err := p.historyFolder()
	if forget && err == nil {
		_, err = os.Stat(filepath.Join(dir, history.FileName))
	}
	switch {
	case forget && err != nil:
		return nil, ""
	case err != nil:
		return failed(fmt.Errorf("%w, or --no-keep", err))
	}
	written, err := json.Marshal(report.New(result))
	if err != nil {
		return failed(err)
	}
	entry := history.Entry{Site: historyOf(s), Snapshot: result.Snapshot, Result: written, Audit: history.Audit{Taken: result.Taken, Tool: result.Tool, Baseline: result.Baseline, Dialect: result.Dialect,
		Stage: result.Stage, Part: strings.Join(p.only, ","), Aside: p.stage != "" && p.stage != s.Said("stage"), Partial: result.Partial(), Run: run, Alignment: result.Alignment, Judged: result.Judged, Counts: result.Counts}}
	if forget { // a damaged one is not put aside for it
		store, err := history.Open(ctx, dir)
		if err == nil {
			defer store.Close()
			news, err = store.Keep(ctx, entry, true)
		}
		if err != nil {
			return nil, "What is new cannot be told: " + facts.InWords(err)
		}
		return news, ""
	}
	var store *history.Store
	for again := false; ; again = true {
		var aside string
		if store, aside, err = history.Make(ctx, dir); aside != "" {
			slog.Warn(putAside, "file", aside)
		}
		if err != nil {
			return failed(err)
		}
		news, err = store.Keep(ctx, entry, false)
		if damage := (*history.Damage)(nil); again || !errors.As(err, &damage) {
			break
		}
		// It is damaged in a part that opening it did not touch.
		if aside, err = store.PutAside(ctx); err != nil {
			return failed(err)
		}
		slog.Warn(putAside, "file", aside)
	}
	defer store.Close()
	if err != nil {
		return failed(err)
	}
	note = fmt.Sprintf("Kept as audit %d.", news.Audit)
	if gone, err := store.Prune(ctx, historyOf(s), retention(s), p.now(), false); err != nil {
		slog.Warn("older audits could not be thrown away", "error", err)
	} else if gone > 0 {
		note += fmt.Sprintf(" %s thrown away, as the site file or the usual retention says.", report.Count(gone, "older one was", "older ones were"))
	}
	return news, note
}

// putAside is said when a damaged history was.
const putAside = "the history was damaged; it was put aside, and another begun"

// A keeping is how an audit is kept and compared.
type keeping struct {
	forget bool
	fresh  string // what only what is new since is reported of; "" for all, lastAudit, or a file
	told   string // the command that is told of what is new
	tell   []string
}

// lastAudit is what --new means without a file.
const lastAudit = "last"

// auditAndKeep audits the site a command is about, keeps that, and says what is new in it. There is no site of a snapshot file.
func (p *program) auditAndKeep(ctx context.Context, args []string, k keeping, alarm facts.Severity) (*site.Site, *report.Report, string, error) {
	s, result, err := p.auditOf(ctx, args)
	if err != nil {
		return nil, nil, "", err
	}
	if s != nil && !p.said {
		p.foresee(ctx, s, result)
	}
	var news *history.News
	note, wanted := "", k.fresh != "" || len(k.tell) > 0
	if s != nil && s.Path != s.Address() && !p.said {
		if news, note = p.keep(ctx, s, result, "", k.forget); news == nil && note == "" && wanted { // nothing was ever kept, and nothing is to be
			news = &history.News{New: []compare.Verdict{}, Worse: []compare.Verdict{}, Gone: []compare.Verdict{}, Aside: []compare.Verdict{}}
		}
	}
	if k.fresh != "" && k.fresh != lastAudit {
		if news, err = p.newSince(k.fresh, result); err != nil {
			return nil, nil, "", err
		}
	}
	first := news != nil && wanted && news.Before == nil
	if first { // nobody can have been told of any of it
		now, err := verdictsOf(result)
		if err != nil {
			return nil, nil, "", err
		}
		for _, d := range now.Deviations {
			news.New = append(news.New, d.Bare())
		}
	}
	if news == nil {
		if wanted {
			return nil, nil, "", errors.New("what is new cannot be told: only audits of a site file are kept and compared" + strings.TrimPrefix(note, "Not kept, so nothing can be compared with it later"))
		}
		return s, report.New(result), note, nil
	}
	if k.fresh != "" {
		report.OnlyNew(result, news)
	}
	r := report.Since(result, news, p.putRight(s))
	if k.fresh != "" && k.fresh != lastAudit {
		r.Words.Since = k.fresh + ", of " + news.Before.Taken.UTC().Format("2 January 2006, 15:04 MST")
	}
	if first {
		r.Words.Other = append(r.Words.Other, "There is no earlier audit of it to compare with, so all that deviates is new.")
	}
	urgent := func(list []compare.Verdict) bool {
		for _, d := range list {
			if alarm != 0 && d.Severity <= alarm && d.Accepted == nil {
				return true
			}
		}
		return false
	}
	if len(k.tell) > 0 && s != nil && (urgent(news.New) || urgent(news.Worse) || urgent(report.Unheard(news))) {
		if err := p.tell(ctx, k.tell, s, r); err != nil { // said with --quiet as well: whoever waits for it must know
			fmt.Fprintf(p.err, "weltaxis: %s\n", render.Safe(err.Error()))
		}
	}
	return s, r, note, nil
}

// putRight says when this program had put a deviation of a site right before it was seen again.
func (p *program) putRight(s *site.Site) func(facts.Deviation) *time.Time {
	var records []fix.LogLine
	if s != nil {
		if state, err := p.stateFolder(s); err == nil {
			records, _ = fix.ReadJournal(state) // whoever writes says it
		}
	}
	return func(d facts.Deviation) *time.Time { return fix.PutRight(records, d) }
}

// newSince is what is new since a result or snapshot that somebody named.
func (p *program) newSince(name string, result *audit.Result) (*history.News, error) {
	look, err := p.lookFile(name)
	if err != nil {
		return nil, fmt.Errorf("--new: %w", err)
	}
	if look.Verdicts == nil {
		rules, err := audit.RulesFor(look.Snapshot, p.options())
		if err != nil {
			return nil, fmt.Errorf("--new: %w", err)
		}
		if look.Verdicts, err = verdictsOf(audit.Judge(rules, look.Snapshot, p.options())); err != nil {
			return nil, err
		}
	}
	now, err := lookOf("", result)
	if err != nil {
		return nil, err
	}
	c := compare.Of(look, now)
	if c.Another {
		return nil, fmt.Errorf("--new: %s is of another site, %q", name, c.Before.Site)
	}
	news := &history.News{New: c.New, Worse: c.Worse, Gone: c.Gone, Before: &history.Audit{Taken: c.Before.Taken}}
	for _, d := range c.Aside {
		if d.Now {
			news.Aside = append(news.Aside, d)
		}
	}
	return news, nil
}

// lookOf is an audit that was just made as something to compare with one that was kept: as that it is without secrets.
func lookOf(called string, result *audit.Result) (compare.Look, error) {
	snapshot, _, err := history.Shown(result.Snapshot)
	if err != nil {
		return compare.Look{}, err
	}
	verdicts, err := verdictsOf(result)
	return compare.Look{Called: called, Snapshot: snapshot, Verdicts: verdicts}, err
}

// verdictsOf is a result as it is compared.
func verdictsOf(result *audit.Result) (*compare.Verdicts, error) {
	written, err := json.Marshal(report.New(result))
	if err != nil {
		return nil, err
	}
	return compare.ReadResult([]byte(secrets.Shown(string(written))))
}

// lookFile reads a snapshot, or a result, from a file.
func (p *program) lookFile(name string) (compare.Look, error) {
	look := compare.Look{Called: name}
	data, err := orders.ReadNamed(name, maxSnapshot)
	if err != nil {
		return look, fmt.Errorf("reading %s: %w", name, facts.Plainly(err))
	}
	var shape struct {
		Readings   json.RawMessage `json:"readings"`
		Deviations json.RawMessage `json:"deviations"`
	}
	if err := json.Unmarshal(data, &shape); err != nil {
		return look, fmt.Errorf("%s is no JSON: %w", name, err)
	}
	switch {
	case shape.Deviations != nil:
		look.Verdicts, err = compare.ReadResult(data)
	case shape.Readings != nil:
		look.Snapshot = &facts.Snapshot{}
		err = json.Unmarshal(data, look.Snapshot)
	default:
		err = errors.New("it has neither readings nor deviations")
	}
	if err != nil {
		return look, fmt.Errorf("%s is neither a snapshot nor a result of this program: %w", name, err)
	}
	return look, nil
}

// tellTime is how long a command that is told of what is new may take.
const tellTime = time.Minute

// tell starts the command that is to know of what is new, with the news on its standard input. It is no shell: each argument is one.
func (p *program) tell(ctx context.Context, command []string, s *site.Site, r *report.Report) error {
	bounded, cancel := context.WithTimeout(ctx, tellTime)
	defer cancel()
	var said bytes.Buffer
	if err := render.JSON(&said, struct {
		Site    string            `json:"site"`
		Address string            `json:"address"`
		Taken   time.Time         `json:"taken"`
		Audit   int64             `json:"audit"`
		Since   string            `json:"since"`
		New     []compare.Verdict `json:"new"`
		Worse   []compare.Verdict `json:"worse"`
		Gone    []compare.Verdict `json:"gone"`
		Unseen  []compare.Verdict `json:"unseen"` // before; whether they were there is not known
	}{s.Name, s.Address(), r.Taken, r.History.Audit, r.Words.Since, r.History.New, r.History.Worse, r.History.Gone, report.Unheard(r.History)}); err != nil {
		return err
	}
	run, err := orders.Command(bounded, command)
	if err != nil {
		return fmt.Errorf("--on-new: %w", err)
	}
	run.Stdin, run.Stdout, run.Stderr = &said, p.err, p.err
	run.WaitDelay = 2 * time.Second
	switch err := orders.Run(run); {
	case bounded.Err() != nil && ctx.Err() == nil:
		return fmt.Errorf("--on-new: %s took longer than %s and was ended", command[0], tellTime)
	case err != nil:
		return fmt.Errorf("--on-new: %s: %w", command[0], err)
	}
	return nil
}
