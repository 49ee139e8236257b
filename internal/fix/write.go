package fix

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/amend"
	"weltaxis/internal/audit"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/progress"
	"weltaxis/internal/store"
	"weltaxis/internal/trial"
)

// What came of a change.
const (
	Took    = "took"
	Stale   = "took, not seen yet" // the setting is right, and visitors still get the old
	NotTook = "did not take"
	Unseen  = "written"    // and nobody could look whether it took
	Left    = "left alone" // somebody has changed it since the plan was made
	Broke   = "taken back" // the site answered errors afterwards, and does no more
	Trouble = "failed"
	Waits   = "not made"            // an earlier one stopped the run
	Unread  = "written, not loaded" // the server has not read it yet
)

// An Outcome is what came of one change.
type Outcome struct {
	Change
	Result string `json:"result"`
	Says   string `json:"says,omitempty"`
	Record int    `json:"record,omitempty"` // in the journal
}

// failed says why a change was not made.
func (o Outcome) failed(err error) Outcome {
	o.Result, o.Says = Trouble, facts.InWords(err)
	if errors.Is(err, store.ErrChanged) {
		o.Result, o.Says = Left, "somebody has changed it since the plan was made"
	}
	return o
}

// A Seen is what looking again showed.
type Seen struct {
	Deviating map[string][]string // subjects by rule, those folded under others included
	Unjudged  []string            // rules that nobody could judge
	Answers   map[string]int      // status by address, of a sample of what answered; nil when nobody looked
	Result    *audit.Result       // all of it; nil when only that much is known
}

// An Env is what writing needs besides the plan.
type Env struct {
	Dialect   *dialect.Dialect
	Stores    store.Options
	FilesRoot string
	Journal   *Journal
	// Recheck looks at the site again, from every side, and judges it again. Nil when nobody is to look.
	Recheck func(ctx context.Context) (Seen, error)
	// Ask asks addresses of the site, with GET, and gives what each answers, 0 for nothing. Nil when there is no way to.
	Ask func(ctx context.Context, addresses []string) map[string]int
	// Text asks a path of the site, with GET, and gives what it shows; "" for nothing. Nil when there is no way to.
	Text func(ctx context.Context, path string) string
	// Home is the address that is asked after each change that somebody may notice.
	Home string
	// Call calls a path of the site, for a content system that empties its cache when it is called. Nil when there is
	// no way to.
	Call func(ctx context.Context, path string) error

	// World is what servers and the runtime have been told, Try their own test of files as they might be, and Run starts a program and gives what it says.
	World *amend.World
	Try   func(ctx context.Context, files map[string][]byte) trial.Verdict
	Run   func(ctx context.Context, args []string) (says string, err error)
	// Loaders are the servers that there are, and how each is told to read its configuration again: whatever a journal names.
	Loaders func() []Loader
	// loaded are the changes of this run by which servers were told to read their configuration again.
	loaded []Change

	// Step is told of every point at which a run may end, so that a test can end it there.
	Step func(point string)
}

func (e *Env) at(point string) {
	if e.Step != nil {
		e.Step(point)
	}
}

// A Report is what came of a run.
type Report struct {
	Outcomes []Outcome `json:"outcomes"`
	New      []string  `json:"new"`  // rules that deviate now and did not before
	Left     []string  `json:"left"` // rules that still deviate
	Run      string    `json:"run"`
	// After is what was seen afterwards; nil when nobody could look.
	After *audit.Result `json:"-"`
}

// Write makes the changes, one after the other, and looks whether they took. Before the first the site was as Seen
// says. The error is one that stopped the run before anything was written; whatever comes later is an Outcome.
func Write(ctx context.Context, changes []Change, was Seen, env Env) (*Report, error) {
	r := &Report{Run: env.Journal.run, New: []string{}, Left: []string{}}
	if err := env.Journal.looked(was); err != nil {
		return nil, fmt.Errorf("the journal cannot be written, so nothing was changed: %w", err)
	}
	env.ForgetAside(Keep)
	given := map[string]bool{} // groups of which a change was not made
	var meant []int            // what addresses may answer now, since that was asked for
	for i, c := range changes {
		if ctx.Err() != nil {
			for _, rest := range changes[i:] {
				r.Outcomes = append(r.Outcomes, Outcome{Change: rest, Result: Waits, Says: "the run was interrupted"})
			}
			break
		}
		if given[c.Group] {
			r.Outcomes = append(r.Outcomes, Outcome{Change: c, Result: Waits, Says: "it goes with others, one of which was not made"})
			continue
		}
		progress.Tell(ctx, "making changes", i, len(changes))
		after := env.lookouts(ctx, c)
		outcome := rows[c.Kind].apply(ctx, &env, c)
		if outcome.Result == Took {
			meant = append(append(meant, c.term().Meant...), c.meant...)
		}
		for _, look := range after {
			if outcome.Result == Took && outcome.Record > 0 {
				if broke := look(context.WithoutCancel(ctx)); broke != "" {
					outcome = env.takeBackAgain(ctx, outcome, broke)
				}
			}
		}
		if outcome.Result == Took && c.Risk != facts.Safe && !c.Finisher() {
			if home := was.Answers[env.Home]; answered(home, nil) && env.Ask != nil {
				if now := env.Ask(ctx, []string{env.Home})[env.Home]; !answered(now, meant) {
					outcome = env.takeBackAgain(ctx, outcome, stopped(env.Home, now))
				}
			}
		}
		r.Outcomes = append(r.Outcomes, outcome)
		if c.Group != "" && outcome.Result != Took {
			given[c.Group] = true
			env.takeBackGroup(ctx, r, c.Group)
		}
	}
	if ctx.Err() != nil { // whoever interrupts waits for nothing more
		for i := range r.Outcomes {
			if o := &r.Outcomes[i]; o.Result == Took && !o.Finisher() {
				o.Result, o.Says = Unseen, strings.TrimPrefix(o.Says+"; it was written, and the run was interrupted before anybody looked", "; ")
			}
		}
		return r, nil
	}
	progress.Tell(ctx, "looking whether the changes took", 0, 0)
	env.sample(context.WithoutCancel(ctx), r, was, meant)
	if env.Recheck == nil {
		return r, nil
	}
	now, err := env.Recheck(context.WithoutCancel(ctx))
	if err == nil && env.early(r, now) {
		time.Sleep(reloadTime)
		now, err = env.Recheck(context.WithoutCancel(ctx))
	}
	if err != nil {
		r.unseen(err)
	} else {
		r.compare(was, now)
		r.After = now.Result
	}
	env.notLoaded(r)
	return r, nil
}

// reloadTime is how long a server that was told to read its configuration again may go on answering by the one before.
const reloadTime = 2 * time.Second

// early tells whether somebody may have looked before what was read again held.
func (e *Env) early(r *Report, now Seen) bool {
	return len(e.loaded) > 0 && slices.ContainsFunc(r.Outcomes, func(o Outcome) bool {
		return rows[o.Kind].told && o.Result == Took && len(o.still(now)) > 0
	})
}

// still are the rules of a change that deviate in what it was to settle, not by what else they say something of.
func (o Outcome) still(now Seen) (rules []string) {
	for _, rule := range o.Rules {
		if slices.ContainsFunc(now.Deviating[rule], func(subject string) bool { return slices.Contains(o.about, subject) }) {
			rules = append(rules, rule)
		}
	}
	return rules
}

// notLoaded says of what servers have been told, and have not read, that it does not count yet.
func (e *Env) notLoaded(r *Report) {
	for i := range r.Outcomes {
		o := &r.Outcomes[i]
		waits := slices.ContainsFunc(o.files(), func(name string) bool {
			return !readAtOnce(name) && !slices.ContainsFunc(e.loaded, func(l Change) bool { return slices.Contains(l.reads, name) })
		})
		if rows[o.Kind].told && slices.Contains([]string{Took, NotTook, Unseen, Stale}, o.Result) && o.Record > 0 && waits {
			o.Result, o.Says = Unread, "it counts when the server reads it: fix --reload, or its own way"
		}
	}
}

// readAtOnce tells whether a file is read with every request, or soon.
func readAtOnce(name string) bool {
	base := filepath.Base(name)
	return base == ".htaccess" || base == ".user.ini" || strings.HasPrefix(base, passwordsName)
}

// answered tells whether an answer is one that a visitor gets something by, or one that is meant.
func answered(status int, meant []int) bool {
	return status >= 200 && status < 400 || slices.Contains(meant, status)
}

// journalled makes a change between two lines of the journal.
func (e *Env) journalled(out Outcome, record LogLine, b before, do func(id int) error) Outcome {
	e.at("before the journal")
	if a := out.again; a.days > 0 {
		record.Again = &Again{facts.DayOf(e.Journal.now().AddDate(0, 0, a.days)), a.what, a.stands}
	}
	if err := e.Journal.begin(&record, b, e.at); err != nil {
		out.Result, out.Says = Trouble, "the journal cannot be written, so nothing was changed: "+facts.InWords(err)
		return out
	}
	out.Record = record.ID
	e.at("before the write")
	if err := do(record.ID); err != nil {
		if unsure := (*store.Unsure)(nil); errors.As(err, &unsure) { // begun is what it stays
			return out.failed(err)
		}
		_ = e.Journal.event(record, Failed, facts.InWords(err))
		return out.failed(err)
	}
	out.Result = Took
	if err := e.Journal.event(record, Done, ""); err != nil {
		out.Says = "the journal could not be written afterwards: " + err.Error()
		return out
	}
	e.at("after the journal")
	return out
}

// logLine is what the journal says of the change.
func (c Change) logLine() LogLine {
	return LogLine{Rules: c.Rules, Kind: c.Kind, Group: c.Group, Name: c.Name, Subject: c.Subject, Class: c.Class, From: c.From.String(), To: c.To.String(), Risk: c.Risk}
}

// stopped says that an address answered before and does no more.
func stopped(address string, now int) string {
	return fmt.Sprintf("afterwards %s %s, which it did not before", address, answer(now))
}

// takeBackAgain takes a change back at once, for a reason.
func (e *Env) takeBackAgain(ctx context.Context, out Outcome, says string) Outcome {
	b, err := e.Journal.before(out.Record)
	if err == nil {
		_, err = e.takeBack(context.WithoutCancel(ctx), b)
	}
	if err == nil && rows[out.Kind].told {
		err = e.loadAgain(context.WithoutCancel(ctx))
	}
	if err != nil {
		out.Result, out.Says = Trouble, says+", and it could not be taken back: "+facts.InWords(err)
		return out
	}
	record := out.logLine()
	record.ID, record.Run, record.Until = out.Record, e.Journal.run, e.Journal.now().Add(Keep)
	_ = e.Journal.event(record, TakenBack, says)
	out.Result, out.Says = Broke, says
	return out
}

// takeBackGroup takes back what was made of a group, the newest first.
func (e *Env) takeBackGroup(ctx context.Context, r *Report, group string) {
	for i := range slices.Backward(r.Outcomes) {
		if o := &r.Outcomes[i]; o.Group == group && o.Result == Took && o.Record > 0 {
			*o = e.takeBackAgain(ctx, *o, "it goes with others, one of which was not made")
		}
	}
}

func answer(status int) string {
	if status == 0 {
		return "answered nothing"
	}
	return fmt.Sprintf("answered %d", status)
}

// sample asks again what answered before the run. What does no more, not even when it is asked a second time, is brought
// back by taking back changes, the newest first, until it answers.
func (e *Env) sample(ctx context.Context, r *Report, was Seen, meant []int) {
	if e.Ask == nil || !slices.ContainsFunc(r.Outcomes, func(o Outcome) bool { return o.Record > 0 }) {
		return
	}
	silent := func(of []string) (gone []string, now map[string]int) {
		now = e.Ask(ctx, of)
		return slices.DeleteFunc(of, func(address string) bool { return answered(now[address], meant) }), now
	}
	before := slices.DeleteFunc(slices.Sorted(maps.Keys(was.Answers)), func(address string) bool { return !answered(was.Answers[address], nil) })
	gone, now := silent(before)
	if len(gone) > 0 {
		gone, now = silent(gone)
	}
	for i := range slices.Backward(r.Outcomes) {
		o := &r.Outcomes[i]
		if len(gone) == 0 {
			return
		}
		if o.Record == 0 || o.Result != Took || o.Finisher() {
			continue
		}
		*o = e.takeBackAgain(ctx, *o, stopped(gone[0], now[gone[0]]))
		if o.Group != "" {
			e.takeBackGroup(ctx, r, o.Group)
		}
		gone, now = silent(gone)
	}
	if len(gone) > 0 && len(r.Outcomes) > 0 {
		last := &r.Outcomes[len(r.Outcomes)-1]
		last.Says = strings.TrimPrefix(last.Says+"; "+strings.Join(gone, ", ")+" answered before and does no more, whatever is taken back", "; ")
	}
}

// unseen says that what is written could not be looked at again.
func (r *Report) unseen(err error) {
	for i := range r.Outcomes {
		if o := &r.Outcomes[i]; o.Result == Took {
			o.Result, o.Says = Unseen, "nobody could look whether it took: "+facts.InWords(err)
		}
	}
}

// moved tells whether what deviates by some rules is another thing than it was.
func moved(rules []string, was, now Seen) bool {
	if was.Result == nil || now.Result == nil {
		return false
	}
	says := func(r *audit.Result) (all []string) {
		for _, d := range r.Deviations {
			if slices.Contains(rules, d.Rule) {
				all = append(all, d.Says)
			}
		}
		return all
	}
	return !slices.Equal(says(was.Result), says(now.Result))
}

// compare says of each change whether it took, by what looking again showed.
func (r *Report) compare(was, now Seen) {
	for i := range r.Outcomes {
		o := &r.Outcomes[i]
		if o.Result != Took {
			continue
		}
		still := o.still(now)
		switch {
		case len(still) == 0:
		case o.Step && moved(still, was, now):
			o.Says = strings.TrimPrefix(o.Says+"; it is a step: look whether all goes well, and make the next one then (weltaxis follow-ups)", "; ")
		default:
			rows[o.Kind].still(o, still)
		}
	}
	for _, rule := range slices.Sorted(maps.Keys(now.Deviating)) {
		if _, before := was.Deviating[rule]; !before && !slices.Contains(was.Unjudged, rule) {
			r.New = append(r.New, rule)
		}
		r.Left = append(r.Left, rule)
	}
}
