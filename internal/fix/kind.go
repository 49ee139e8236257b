package fix

import (
	"context"
	"strings"

	"weltaxis/internal/facts"
)

// A Kind is a kind of change. What one does stands in its row, in a file of its own; nothing elsewhere asks which it is.
type Kind = facts.ChangeKind

// The kinds that this program makes, or shows to a person.
const (
	Setting = facts.KindSet   // one neutral setting
	Field   = facts.KindField // a field of one page's own record
	File    = facts.KindWrite // a line of a file
	Modes   = facts.KindMode  // the permissions of a class of files
	Purge   = facts.KindPurge // a cache is emptied
	Person  = facts.KindSteps // steps, or what is not to be done from here
	Server  = facts.KindServer
	Runtime = facts.KindRuntime
	Reload  = facts.KindReload // a server reads its configuration again
)

// formerKinds are the words of kinds in journals of format 1.
var formerKinds = map[string]Kind{"setting": Setting, "file": File, "modes": Modes, "person": Person}

// A row is what changes of one kind can do. A function that is nil is one that the kind has no need of.
type row struct {
	rank  func(c Change) int // its place in a run, when it is always the same for the kind
	title func(name, subject string, class *facts.Likeness) string

	gathers bool // one change is about all the subjects of a rule

	// join makes one value of those that two rules ask for; nil takes the first.
	join func(a, b facts.Value) facts.Value
	// plan works out how it is made, or says why it cannot be.
	plan func(ctx context.Context, p *planning, c *Change) error
	// ready tells whether it can be made, once nothing stands in the way.
	ready func(c Change) bool
	// show is the change as it is shown.
	show func(p *Plan, c Change) Shown

	apply  func(ctx context.Context, e *Env, c Change) Outcome
	revert func(ctx context.Context, e *Env, b before) (says string, err error)
	script func(p *Plan, c Change) (do, undo []string)
	// still says what it means that rules still deviate which the change was to settle.
	still func(o *Outcome, rules []string)

	payload  func(b before) bool // what undo needs to know is there; nil when it needs nothing
	shown    bool                // visitors see it, so that caches are emptied after it
	told     bool                // a server or a runtime is told something, which counts when it reads it
	finisher bool                // it ends a run, after all else, and again after what is taken back
}

// rows are the kinds. What a row does may look at the others, so they are put together when all are there.
var rows map[Kind]row

func init() {
	rows = map[Kind]row{Setting: settingRow, Field: fieldRow, File: lineRow, Modes: modesRow, Purge: purgeRow, Person: personRow, Server: serverRow, Runtime: runtimeRow, Reload: reloadRow}
}

// Finisher tells whether the change ends a run.
func (c Change) Finisher() bool { return rows[c.Kind].finisher }

// Finisher tells whether the change ended its run.
func (r LogLine) Finisher() bool { return rows[r.Kind].finisher }

// Title is what a change is about, in words for people; texts of the site in it are as they are.
func (c Change) Title() string { return rows[c.Kind].title(c.Name, c.Subject, c.Class) }

// Title is what the change was about.
func (r LogLine) Title() string { return rows[r.Kind].title(r.Name, r.Subject, r.Class) }

// ForPerson tells whether a person does it, and not this program.
func (c Change) ForPerson() bool { return rows[c.Kind].apply == nil }

// Makeable tells whether the change can be made from here, with what has been said.
func (c Change) Makeable() bool {
	return !c.ForPerson() && c.Cannot == "" && c.Needs == "" && rows[c.Kind].ready(c)
}

// A Shown is a change as it is shown: what stands there now and what will, and in which places.
type Shown struct {
	From, To string   // "" for neither
	Diffs    []string // unified, without the secrets of the files
	Cells    []Cell
	Members  []string // the entries whose permissions change
	Command  bool     // somebody may say another value
}

// A Cell is one value of a database that changes.
type Cell struct {
	Where, From, To string
}

// Show is the change as it is shown.
func (p *Plan) Show(c Change) Shown {
	if show := rows[c.Kind].show; show != nil {
		return show(p, c)
	}
	return Shown{}
}

func always(place int) func(Change) int { return func(Change) int { return place } }

// named is the title of a kind whose name says it.
func named(name, _ string, _ *facts.Likeness) string { return name }

// stale is what it means that a rule still deviates though what is stored is right.
func stale(o *Outcome, rules []string) {
	o.Result = Stale
	o.Says = strings.TrimPrefix(o.Says+"; what is stored is right, and "+strings.Join(rules, ", ")+" still shows the old: a cache may hold it, or another setting stands in the way", "; ")
}

func notTook(o *Outcome, rules []string) {
	o.Result, o.Says = NotTook, strings.TrimPrefix(o.Says+"; "+strings.Join(rules, ", ")+" still deviates", "; ")
}
