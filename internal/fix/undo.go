package fix

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

// A Choice says which changes are taken back: one with those of its group, those since a time, or those of the last run.
type Choice struct {
	ID    int
	Since time.Time
}

// Chosen are the records that a choice is about, the newest first. Those that were never made, or are taken back
// already, are none.
func Chosen(records []LogLine, c Choice) []LogLine {
	lastRun := ""
	for _, r := range records {
		if r.made() {
			lastRun = r.Run
		}
	}
	var chosen []LogLine
	of := slices.IndexFunc(records, func(r LogLine) bool { return r.ID == c.ID })
	for _, r := range slices.Backward(records) {
		wanted := r.Run == lastRun
		if c.ID != 0 {
			wanted = r.ID == c.ID || of >= 0 && r.Group != "" && r.Group == records[of].Group && r.Run == records[of].Run
		} else if !c.Since.IsZero() {
			wanted = !r.At.Before(c.Since)
		}
		if wanted && r.made() {
			chosen = append(chosen, r)
		}
	}
	return chosen
}

// An Undoing is what came of taking one change back.
type Undoing struct {
	LogLine
	Back bool   `json:"back"` // what was before is there again
	Says string `json:"says"`
}

// An Undone is what came of taking changes back.
type Undone struct {
	Changes []Undoing `json:"changes"`
	New     []string  `json:"new"`  // rules that deviate now and did not before the run that was taken back
	Says    string    `json:"says"` // what else is to be said
}

// Undo takes changes back, the newest first, and what ended their runs after all else. It refuses what somebody has
// changed since. Afterwards the caches hold nothing that has come in between, and the site is looked at again.
func Undo(ctx context.Context, records []LogLine, env Env) *Undone {
	r := &Undone{Changes: []Undoing{}, New: []string{}}
	finished := false
	var told, read []string // files of servers that are as they were, and those of them that were read again
	var since time.Time     // when the first of what visitors saw was about to be made
	for _, last := range []bool{false, true} {
		for _, record := range records {
			if record.Finisher() == last {
				u, b := env.undo(ctx, record)
				if u.Says == rowsNotBytes {
					u.Says, r.Says = "", rowsNotBytes
				}
				finished = finished || last && u.Back
				if u.Back && rows[record.Kind].shown {
					since = env.Journal.madeAt(record)
				}
				if u.Back && rows[record.Kind].told {
					told = append(told, filesOf(b.Edits)...)
				}
				if u.Back && record.Kind == Reload {
					read = append(read, b.Reads...)
				}
				r.Changes = append(r.Changes, u)
			}
		}
	}
	if !since.IsZero() && !finished {
		if err := env.again(ctx, since); err != nil {
			r.Says = strings.TrimPrefix(r.Says+" A cache may still hold pages as they were before: "+facts.InWords(err)+".", " ")
		}
	}
	env.compareWithBefore(ctx, records, r)
	if slices.ContainsFunc(told, func(name string) bool { return !readAtOnce(name) && !slices.Contains(read, name) }) {
		r.Says = strings.TrimPrefix(r.Says+" What servers were told is in their files as it was; it counts when they read it again.", " ")
	}
	return r
}

// rowsNotBytes is what is promised of a SQLite file.
const rowsNotBytes = "The rows of the SQLite database are as they were; the bytes of its file need not be."

func (e *Env) undo(ctx context.Context, record LogLine) (u Undoing, b before) {
	u.LogLine = record
	b, err := e.Journal.before(record.ID)
	if err == nil && !b.whole() {
		err = errors.New("what is kept of it says nothing of what was before; nothing was taken back")
	}
	if err == nil {
		u.Says, err = e.takeBack(ctx, b)
	}
	if u.Back = err == nil; err != nil {
		u.Says = facts.InWords(err)
		return u, b
	}
	if err := e.Journal.event(record, TakenBackByUndo, ""); err != nil {
		u.Says = "it was taken back, and the journal could not be written: " + err.Error()
	}
	e.at("after an undo")
	return u, b
}

// compareWithBefore looks at the site again, and says what deviates that did not before the runs.
func (e *Env) compareWithBefore(ctx context.Context, records []LogLine, r *Undone) {
	if e.Recheck == nil || len(records) == 0 {
		return
	}
	first := records[len(records)-1].Run
	before, known := e.Journal.deviatedBefore(first)
	if !known || e.Journal.stays(first, func(r LogLine) bool { return !r.Finisher() }) {
		return // an earlier version did not write it down, or the site is not to be as it was then
	}
	now, err := e.Recheck(ctx)
	if err != nil {
		r.Says = strings.TrimPrefix(r.Says+" Nobody could look at it afterwards: "+facts.InWords(err)+".", " ")
		return
	}
	for _, rule := range slices.Sorted(maps.Keys(now.Deviating)) {
		if !slices.Contains(before, rule) {
			r.New = append(r.New, rule)
		}
	}
}

// takeBack brings back what was before. A change that was begun and never made is as good as taken back.
func (e *Env) takeBack(ctx context.Context, b before) (string, error) {
	return rows[b.Kind].revert(ctx, e, b)
}

// takeBackEdit puts the old value in the place of the new one: to the byte where nobody has touched the place since; where
// the rest of a file has changed, in its own lines alone; and where those hold other things as well, by the value alone.
// Whole tells that nobody had touched it.
func takeBackEdit(ctx context.Context, site *store.Installation, edit store.Edit) (whole bool, err error) {
	back := edit.Reversed()
	err = site.Apply(ctx, back)
	if !errors.Is(err, store.ErrChanged) {
		return true, err
	}
	if again, err := site.Rebase(ctx, back); err == nil {
		return false, changedSince(site.Apply(ctx, again))
	}
	return false, byValue(ctx, site, edit)
}

// byValue takes an edit of a document back where the place still has the value that the edit gave it.
func byValue(ctx context.Context, site *store.Installation, edit store.Edit) error {
	var before, after []byte
	switch e := edit.(type) {
	case store.TextEdit:
		before, after = e.Texts()
	case store.RowEdit: // a document that is a value of a row
		if e.Old == nil || e.New == nil || e.Insert {
			return changedSince(store.ErrChanged)
		}
		before, after = []byte(*e.Old), []byte(*e.New)
	}
	old, was := site.ValueIn(edit.At(), before)
	ours, is := site.ValueIn(edit.At(), after)
	now, err := site.Look(edit.At())
	if err != nil || !was || !is || !now.There {
		return changedSince(store.ErrChanged)
	}
	a, _ := dialect.Text(now.Value)
	b, _ := dialect.Text(ours)
	if was, _ := dialect.Text(old); a != b || was == b {
		return changedSince(store.ErrChanged)
	}
	again, err := site.Plan(ctx, edit.At(), old)
	if err != nil {
		return err
	}
	return changedSince(site.Apply(ctx, again))
}

func changedSince(err error) error {
	if errors.Is(err, store.ErrChanged) {
		return errors.New("somebody has changed it since; it is left as it is")
	}
	return err
}
