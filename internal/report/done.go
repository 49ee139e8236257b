package report

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/history"
	"weltaxis/internal/pace"
)

// Kept is what is kept of a site beside a result; nothing where nothing is kept.
type Kept struct {
	Audit   int64           // the number of the look itself; 0 when it is not kept, and later than all
	Audits  []history.Audit // the oldest first
	Changes []fix.LogLine   // of the journal
	Runs    []*Work         // of those that are in the journal, what is kept of them
	Pace    *pace.Run       // the last run of pace before it; nil for none
	Signs   *facts.Snapshot // the last look that saw other signs of what the site runs on; nil for none
}

// DoneSince is how far back a document tells of what was done.
const DoneSince = 31 * 24 * time.Hour

// doneRuns is of how many runs it tells.
const doneRuns = 8

// A Done is a run of changes, in words.
type Done struct {
	Run     string
	At      time.Time
	Says    string   // how many changes, and what came of them
	Changes []string // what stands of them: what, from what, to what
	Settled []Brief  // what did not deviate any more after it
}

// DoneOf are the runs of the month before a moment, the newest first.
func DoneOf(k Kept, taken time.Time) (done []Done) {
	for _, e := range slices.Backward(Past(nil, k.Changes).Events) {
		at := begun(e.Changes[0])
		if !k.isBefore(e.Run, at, taken) || taken.Sub(at) > DoneSince || len(done) == doneRuns {
			continue
		}
		d := Done{Run: e.Run, At: at}
		back, broke := 0, 0
		for _, c := range e.Changes {
			switch c.Event {
			case fix.Done:
				d.Changes = append(d.Changes, changeInWords(c))
			case fix.TakenBackByUndo:
				back++
			case fix.TakenBack:
				broke++
			}
		}
		made := len(d.Changes) + back + broke
		if made == 0 {
			continue
		}
		d.Says = Count(made, "change was made", "changes were made")
		if i := slices.IndexFunc(k.Runs, func(w *Work) bool { return w.Run == e.Run }); i >= 0 {
			work := k.Runs[i]
			if work.Unseen() {
				d.Says += "; nobody could look afterwards"
			} else {
				d.Settled = work.Settled
				d.Says += fmt.Sprintf(", %d seen to have taken; %s", work.Took(), Count(len(work.Settled), "matter deviated no more", "matters deviated no more"))
			}
		}
		if broke > 0 {
			d.Says += fmt.Sprintf("; %d taken back at once, since something broke", broke)
		}
		if back > 0 {
			d.Says += fmt.Sprintf("; %d taken back since", back)
		}
		d.Says += "."
		done = append(done, d)
	}
	return done
}

// isBefore tells whether a run was made before the look. Clocks tell it to the second only, and in one second there may be an audit, a run and the
// audit after it; so the audits that were kept for the run tell it, if there are any.
func (k Kept) isBefore(run string, began, taken time.Time) bool {
	if k.Audit == 0 {
		return true
	}
	if i := slices.IndexFunc(k.Audits, func(a history.Audit) bool { return a.Run == run }); i >= 0 {
		return k.Audits[i].ID < k.Audit
	}
	return !began.After(taken)
}

// upTo are the audits up to the look, and the look itself, though it may not be kept.
func (k Kept) upTo(r *audit.Result) []history.Audit {
	audits := slices.DeleteFunc(slices.Clone(k.Audits), func(a history.Audit) bool { return k.Audit != 0 && a.ID > k.Audit })
	stage, _ := r.Snapshot.Effective(facts.IntentStage.Name)
	part := len(r.Named()) > 0 || r.LeftOut() != nil || stage.Origin.File == audit.StageOption
	if n := len(audits); k.Audit == 0 && n > 0 && !audits[n-1].Taken.Equal(r.Taken) && !part {
		audits = append(audits, history.Audit{Taken: r.Taken, Stage: r.Stage, Alignment: r.Alignment, Judged: r.Judged, Counts: r.Counts, Measures: history.MeasuresOf(r.Snapshot)})
	}
	return audits
}

// changeInWords is a change of the journal in a line.
func changeInWords(c fix.LogLine) string {
	if c.From+c.To == "" {
		return c.Title()
	}
	return fmt.Sprintf("%s: %s → %s", c.Title(), facts.Shorten(cmp.Or(c.From, "nothing"), 60), facts.Shorten(cmp.Or(c.To, "nothing"), 60))
}
