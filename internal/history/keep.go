package history

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/compare"
	"weltaxis/internal/facts"
	"weltaxis/internal/secrets"
)

// A Site is what audits are of. It is known by name and address, so that it is the same one from whatever folder or machine it is
// looked at.
type Site struct{ Name, Address string }

func (s Site) key() string { return s.Name + "\n" + strings.TrimRight(strings.ToLower(s.Address), "/") }

// An Audit is one that was kept, without what it saw.
type Audit struct {
	ID        int64                  `json:"audit"`
	Taken     time.Time              `json:"taken"`
	Tool      string                 `json:"tool"`
	Baseline  string                 `json:"baseline"`
	Dialect   string                 `json:"dialect"`
	Stage     string                 `json:"stage"`
	Part      string                 `json:"part"`    // what was asked for; "" for all
	Aside     bool                   `json:"aside"`   // judged as if in another stage
	Partial   bool                   `json:"partial"` // not all that was asked for was seen
	Run       string                 `json:"run"`     // of fix, before or after which it was made
	Alignment *float64               `json:"alignment"`
	Judged    *float64               `json:"judged"`
	Counts    map[facts.Severity]int `json:"counts"`
	Measures  Measures               `json:"measures"`
}

// Measures are numbers of a look; what was not seen is null.
type Measures struct {
	Pages     *int `json:"pages"`      // that were seen
	FirstByte *int `json:"first_byte"` // milliseconds, of the home page
	Weight    *int `json:"weight"`     // KiB of a page with what it loads, the median
	Heaviest  *int `json:"heaviest"`   // KiB of the heaviest page
}

// MeasuresOf are the numbers of a look.
func MeasuresOf(s *facts.Snapshot) Measures {
	var m Measures
	if ms, known := s.Is(facts.LiveFirstByte.Term); known {
		n := int(ms.Number())
		m.FirstByte = &n
	}
	if s.Pages == nil {
		return m
	}
	n := len(s.Pages)
	m.Pages = &n
	var weights []float64
	for i := range s.Pages {
		if v, known := s.Pages[i].Field("weight"); known && s.Pages[i].Status == http.StatusOK {
			weights = append(weights, float64(v.Number()))
		}
	}
	if len(weights) > 0 {
		middle, most := int(facts.Median(weights)+0.5), int(slices.Max(weights))
		m.Weight, m.Heaviest = &middle, &most
	}
	return m
}

// An Entry is an audit that is to be kept.
type Entry struct {
	Audit
	Site     Site
	Snapshot *facts.Snapshot
	Result   []byte // as JSON
}

// News is what an audit shows beside those before it.
type News struct {
	Audit  int64  `json:"audit"`  // the number of this one; 0 when it was not kept
	Before *Audit `json:"before"` // the last one before; null when there is none
	// New are deviations that were not there when their rule was last judged, and Worse those that were less severe; both by the site's doing.
	New   []compare.Verdict `json:"new"`
	Worse []compare.Verdict `json:"worse"`
	Gone  []compare.Verdict `json:"gone"`
	// Aside are those that are told now for another reason than that the site changed.
	Aside []compare.Verdict `json:"aside"`
	// Since is, for each deviation, between which two looks it began.
	Since map[string]facts.Since `json:"-"` // by fingerprint
	// Days are those of follow-ups that are counted from when they were first seen.
	Days map[string]facts.Day `json:"-"` // by uid
	// Backwards says that the clock stood later at the last audit.
	Backwards bool `json:"backwards,omitempty"`
}

// errNotKept ends a transaction of which nothing is to stay.
var errNotKept = errors.New("not kept")

// Keep keeps an audit, and tells what is new in it. With forget nothing is written, and all is told the same.
func (s *Store) Keep(ctx context.Context, e Entry, forget bool) (*News, error) {
	var news *News
	err := s.change(ctx, func(tx *sql.Tx) (err error) {
		news, err = keep(ctx, tx, e)
		if err == nil && forget {
			return errNotKept
		}
		return err
	})
	if errors.Is(err, errNotKept) {
		news.Audit = 0
		return news, nil
	}
	return news, err
}

func keep(ctx context.Context, tx *sql.Tx, e Entry) (*News, error) {
	e.Result = []byte(secrets.Shown(string(e.Result)))
	verdicts, err := compare.ReadResult(e.Result)
	if err != nil {
		return nil, err
	}
	var seen []byte
	if e.Snapshot, seen, err = Shown(e.Snapshot); err != nil {
		return nil, err
	}
	unpacked, err := wrap(seen, e.Result)
	if err != nil {
		return nil, err
	}
	site, err := siteID(ctx, tx, e.Site)
	if err != nil {
		return nil, err
	}
	last, err := lastOf(ctx, tx, site)
	if err != nil {
		return nil, err
	}
	counts, _ := json.Marshal(e.Counts)
	measures, _ := json.Marshal(MeasuresOf(e.Snapshot))
	row, err := tx.ExecContext(ctx, `INSERT INTO audit (site, taken, tool, baseline, dialect, stage, part, aside, partial, run, alignment, judged, counts, measures)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, site, e.Taken.Unix(), e.Tool, e.Baseline, e.Dialect, e.Stage, e.Part, e.Aside, e.Partial, e.Run, e.Alignment, e.Judged, string(counts), string(measures))
	if err != nil {
		return nil, err
	}
	id, err := row.LastInsertId()
	if err != nil {
		return nil, err
	}
	if err := save(ctx, tx, site, id, unpacked); err != nil {
		return nil, err
	}
	news := &News{Audit: id, Before: last, New: []compare.Verdict{}, Worse: []compare.Verdict{}, Gone: []compare.Verdict{}, Aside: []compare.Verdict{}, Since: map[string]facts.Since{}, Days: map[string]facts.Day{},
		Backwards: last != nil && e.Taken.Before(last.Taken)}
	this := Audit{ID: id, Taken: e.Taken}
	if err := answers(ctx, tx, site, this, e.Snapshot); err != nil || e.Aside {
		if e.Aside { // it is compared with none
			news.Before = nil
		}
		return news, err
	}
	t := &telling{tx: tx, site: site, audit: this, verdicts: verdicts, snapshot: e.Snapshot, news: news}
	if err := t.promise(ctx, e.Part == "" && !e.Partial); err != nil {
		return news, err
	}
	return news, t.tell(ctx)
}

// siteID is the number of a site, which is given one if it has none.
func siteID(ctx context.Context, tx *sql.Tx, s Site) (id int64, err error) {
	if _, err := tx.ExecContext(ctx, "INSERT INTO site (key, name, address) VALUES (?, ?, ?) ON CONFLICT (key) DO NOTHING", s.key(), s.Name, s.Address); err != nil {
		return 0, err
	}
	err = tx.QueryRowContext(ctx, "SELECT id FROM site WHERE key = ?", s.key()).Scan(&id)
	return id, err
}

// a telling works out what is new in an audit.
type telling struct {
	tx       *sql.Tx
	site     int64
	audit    Audit
	verdicts *compare.Verdicts
	snapshot *facts.Snapshot
	news     *News
	beside   map[int64]*besides // earlier audits, as far as they were needed
	unseen   map[string]bool    // rules that were judged, but for what deviated and was not seen
	pending  map[string]bool    // rules of which something deviated that was not seen
}

// besides is this audit set beside an earlier one.
type besides struct {
	was *compare.Verdicts
	*compare.Comparison
	hides, hid bool // this one did not see all that the earlier one saw, or the other way round
}

// with sets this audit beside an earlier one; nil where that was thrown away, or is damaged.
func (t *telling) with(ctx context.Context, id int64) *besides {
	if b, done := t.beside[id]; done {
		return b
	}
	var b *besides
	if unpacked, err := payload(ctx, t.tx, id); err == nil {
		if was, err := unwrap(unpacked, Audit{ID: id}); err == nil {
			look := was.Look()
			b = &besides{was.Verdicts, compare.Of(look, compare.Look{Snapshot: t.snapshot, Verdicts: t.verdicts}), compare.Hides(t.snapshot, look.Snapshot), compare.Hides(look.Snapshot, t.snapshot)}
		}
	}
	if t.beside == nil {
		t.beside = map[int64]*besides{}
	}
	t.beside[id] = b
	return b
}

// lost finds a deviation that was there and is not told now, for another reason than that it is gone: what it was about was not seen, and is looked for again, or it was about what
// stood in the place of the site, which is over.
func (t *telling) lost(ctx context.Context, p spell, judged [2]sql.NullInt64) (d compare.Verdict, again, over bool) {
	b := t.with(ctx, judged[0].Int64)
	if b == nil {
		return d, false, false
	}
	i := slices.IndexFunc(b.Aside, func(d compare.Verdict) bool { return !d.Now && d.Fingerprint == p.fingerprint })
	if i < 0 {
		return d, false, false
	}
	d = b.Aside[i]
	unseen := d.Cause == compare.NotJudged
	return d, unseen && b.hides, unseen && b.hid || d.Cause == compare.Passed
}

// a spell is a deviation that is still there.
type spell struct {
	fingerprint, rule string
	severity          facts.Severity
	begun, begunAt    int64
	lacked, lackedAt  sql.NullInt64
}

func (p spell) since() facts.Since {
	since := facts.Since{Seen: time.Unix(p.begunAt, 0).UTC()}
	if p.lackedAt.Valid {
		at := time.Unix(p.lackedAt.Int64, 0).UTC()
		since.Lacked = &at
	}
	return since
}

// tell goes through what deviates, and what did.
func (t *telling) tell(ctx context.Context) error {
	open, err := t.open(ctx)
	if err != nil {
		return err
	}
	judged, err := t.judged(ctx)
	if err != nil {
		return err
	}
	stands := t.verdicts.Stands()
	counts := map[string]compare.Verdict{} // those that count now
	for _, d := range t.verdicts.Deviations {
		counts[d.Fingerprint] = d
	}
	met := map[string]bool{}
	var fresh []compare.Verdict
	all := t.verdicts.All()
	for _, fingerprint := range slices.Sorted(maps.Keys(all)) {
		d := all[fingerprint]
		was, there := open[fingerprint]
		for _, former := range d.Formerly {
			if !there {
				was, there = open[former]
			}
		}
		if !there {
			was = spell{fingerprint: fingerprint, rule: d.Rule, severity: d.Severity, begun: t.audit.ID, begunAt: t.audit.Taken.Unix()}
			if at, known := judged[d.Rule]; known {
				was.lacked, was.lackedAt = at[0], at[1]
				fresh = append(fresh, d)
			} else if _, counted := counts[fingerprint]; counted && t.news.Before != nil {
				first := d.Bare()
				if first.Now, first.Cause = true, compare.NotJudged; t.news.Before.Baseline != t.verdicts.Baseline {
					first.Cause = compare.NewRule
				}
				t.news.Aside = append(t.news.Aside, first)
			}
		}
		met[was.fingerprint] = true
		if _, counted := counts[fingerprint]; counted && there && d.Severity != 0 && was.severity != 0 && d.Severity < was.severity {
			d.Was = was.severity
			t.news.Worse = append(t.news.Worse, d.Bare())
		}
		if there && was.fingerprint == fingerprint && (d.Severity == 0 || d.Severity == was.severity) {
			t.news.Since[fingerprint] = was.since()
			continue // as most are
		}
		if err := t.extend(ctx, was, d, there); err != nil {
			return err
		}
		t.news.Since[fingerprint] = was.since()
	}
	t.unseen, t.pending = map[string]bool{}, map[string]bool{}
	for _, fingerprint := range slices.Sorted(maps.Keys(open)) {
		p := open[fingerprint]
		t.pending[p.rule] = t.pending[p.rule] || !met[fingerprint] && stands[p.rule] != compare.Judged
		if !met[fingerprint] && stands[p.rule] == compare.Judged {
			lost, again, over := t.lost(ctx, p, judged[p.rule])
			if again {
				t.unseen[p.rule], t.pending[p.rule] = true, true
				continue
			}
			if _, err := t.tx.ExecContext(ctx, "UPDATE spell SET gone = ? WHERE site = ? AND fingerprint = ? AND begun = ?", t.audit.ID, t.site, p.fingerprint, p.begun); err != nil {
				return err
			}
			if over {
				t.news.Aside = append(t.news.Aside, lost)
				continue
			}
			t.news.Gone = append(t.news.Gone, compare.Verdict{Rule: p.rule, Severity: p.severity, Fingerprint: p.fingerprint})
		}
	}
	for rule, stood := range stands {
		if stood >= compare.Partly && !t.unseen[rule] {
			if _, err := t.tx.ExecContext(ctx, "INSERT INTO judged (site, rule, audit, at) VALUES (?, ?, ?, ?) ON CONFLICT (site, rule) DO UPDATE SET audit = excluded.audit, at = excluded.at",
				t.site, rule, t.audit.ID, t.audit.Taken.Unix()); err != nil {
				return err
			}
		}
	}
	return t.blame(ctx, fresh, counts, judged)
}

// promise gives each follow-up that is counted the day it was given when it was first seen. Those that nothing asks for any more are
// forgotten, where all was seen.
func (t *telling) promise(ctx context.Context, whole bool) error {
	for _, f := range t.verdicts.FollowUps {
		if f.After == 0 {
			continue
		}
		day := f.On
		err := t.tx.QueryRowContext(ctx, "INSERT INTO promise (site, uid, day) VALUES (?, ?, ?) ON CONFLICT (site, uid) DO UPDATE SET day = day RETURNING day", t.site, f.UID, f.On).Scan(&day)
		if err != nil {
			return err
		}
		t.news.Days[f.UID] = day
	}
	if !whole {
		return nil
	}
	rows, err := t.tx.QueryContext(ctx, "SELECT uid FROM promise WHERE site = ?", t.site)
	if err != nil {
		return err
	}
	var over []string
	for rows.Next() {
		var uid string
		if err := rows.Scan(&uid); err != nil {
			rows.Close()
			return err
		}
		if _, asked := t.news.Days[uid]; !asked {
			over = append(over, uid)
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, uid := range over {
		if _, err := t.tx.ExecContext(ctx, "DELETE FROM promise WHERE site = ? AND uid = ?", t.site, uid); err != nil {
			return err
		}
	}
	return nil
}

// extend notes that a deviation is there for the first time, or that it is called or weighs otherwise than it did.
func (t *telling) extend(ctx context.Context, p spell, d compare.Verdict, there bool) error {
	if !there {
		_, err := t.tx.ExecContext(ctx, "INSERT INTO spell (site, fingerprint, rule, severity, begun, begun_at, lacked, lacked_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
			t.site, d.Fingerprint, d.Rule, d.Severity, p.begun, p.begunAt, p.lacked, p.lackedAt)
		return err
	}
	_, err := t.tx.ExecContext(ctx, "UPDATE spell SET fingerprint = ?, rule = ?, severity = ? WHERE site = ? AND fingerprint = ? AND begun = ?",
		d.Fingerprint, d.Rule, cmp.Or(d.Severity, p.severity), t.site, p.fingerprint, p.begun)
	return err
}

// open are the deviations that were there when their rules were last judged.
func (t *telling) open(ctx context.Context) (map[string]spell, error) {
	rows, err := t.tx.QueryContext(ctx, "SELECT fingerprint, rule, severity, begun, begun_at, lacked, lacked_at FROM spell WHERE site = ? AND gone IS NULL", t.site)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	open := map[string]spell{}
	for rows.Next() {
		var p spell
		if err := rows.Scan(&p.fingerprint, &p.rule, &p.severity, &p.begun, &p.begunAt, &p.lacked, &p.lackedAt); err != nil {
			return nil, err
		}
		open[p.fingerprint] = p
	}
	return open, rows.Err()
}

// judged is the last audit that judged each rule, with when.
func (t *telling) judged(ctx context.Context) (map[string][2]sql.NullInt64, error) {
	rows, err := t.tx.QueryContext(ctx, "SELECT rule, audit, at FROM judged WHERE site = ?", t.site)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	judged := map[string][2]sql.NullInt64{}
	for rows.Next() {
		var rule string
		var at [2]sql.NullInt64
		if err := rows.Scan(&rule, &at[0], &at[1]); err != nil {
			return nil, err
		}
		judged[rule] = at
	}
	return judged, rows.Err()
}

// blame tells of deviations that were not there before whether the site changed, or what looks at it and judges it, by the last audit that judged
// their rule.
func (t *telling) blame(ctx context.Context, fresh []compare.Verdict, counts map[string]compare.Verdict, judged map[string][2]sql.NullInt64) error {
	of := map[int64][]compare.Verdict{}
	for _, d := range fresh {
		if _, counted := counts[d.Fingerprint]; counted {
			at := judged[d.Rule][0].Int64
			of[at] = append(of[at], d)
		}
	}
	if len(of)+len(t.news.Gone) == 0 {
		return nil
	}
	if before := t.news.Before; before != nil && of[before.ID] == nil {
		of[before.ID] = nil // for those that are gone
	}
	for _, at := range slices.Sorted(maps.Keys(of)) {
		c := t.with(ctx, at)
		if c == nil { // thrown away, or damaged: it was not there, and is
			t.news.New = append(t.news.New, bare(of[at])...)
			continue
		}
		for _, d := range of[at] {
			if c.hides && t.pending[d.Rule] { // it is told otherwise of the same matter, as long as that is not seen
				d.Now, d.Cause = true, compare.Passed
				t.news.Aside = append(t.news.Aside, d.Bare())
				continue
			}
			i := slices.IndexFunc(c.Aside, func(a compare.Verdict) bool { return a.Now && a.Fingerprint == d.Fingerprint })
			if i >= 0 {
				t.news.Aside = append(t.news.Aside, c.Aside[i])
				continue
			}
			t.news.New = append(t.news.New, d.Bare())
		}
		t.name(c.was)
	}
	slices.SortStableFunc(t.news.New, func(a, b compare.Verdict) int { return int(a.Severity) - int(b.Severity) })
	return nil
}

// name gives those that are gone the words of an audit in which they were, and leaves out what another one covered there.
func (t *telling) name(was *compare.Verdicts) {
	counted := map[string]compare.Verdict{}
	for _, d := range was.Deviations {
		counted[d.Fingerprint] = d
	}
	all := was.All()
	t.news.Gone = slices.DeleteFunc(t.news.Gone, func(g compare.Verdict) bool {
		_, there := all[g.Fingerprint]
		_, counts := counted[g.Fingerprint]
		return there && !counts
	})
	for i, g := range t.news.Gone {
		if d, known := counted[g.Fingerprint]; known {
			t.news.Gone[i] = d.Bare()
		}
	}
}

func bare(list []compare.Verdict) []compare.Verdict {
	var out []compare.Verdict
	for _, d := range list {
		out = append(out, d.Bare())
	}
	return out
}

// retell works out from what is kept since when deviations are there: for files of an earlier version.
func retell(ctx context.Context, tx *sql.Tx) error {
	rows, err := tx.QueryContext(ctx, "SELECT id, site, taken FROM audit WHERE aside = 0 ORDER BY id")
	if err != nil {
		return err
	}
	type kept struct {
		Audit
		site int64
	}
	var all []kept
	for rows.Next() {
		var k kept
		var taken int64
		if err := rows.Scan(&k.ID, &k.site, &taken); err != nil {
			rows.Close()
			return err
		}
		k.Taken = time.Unix(taken, 0).UTC()
		all = append(all, k)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, k := range all {
		unpacked, err := payload(ctx, tx, k.ID)
		if err != nil {
			continue // what is damaged tells nothing
		}
		look, err := unwrap(unpacked, k.Audit)
		if err != nil {
			continue
		}
		if err := answers(ctx, tx, k.site, k.Audit, look.Snapshot); err != nil {
			return err
		}
		t := &telling{tx: tx, site: k.site, audit: k.Audit, verdicts: look.Verdicts, snapshot: look.Snapshot, news: &News{Since: map[string]facts.Since{}}}
		if err := t.tell(ctx); err != nil {
			return err
		}
	}
	return nil
}
