package report

import (
	"cmp"
	"slices"
	"time"

	"weltaxis/internal/fix"
	"weltaxis/internal/history"
)

// A History is the audits of a site and the changes that were made to it.
type History struct {
	Audits  []history.Audit `json:"audits"`
	Changes []fix.LogLine   `json:"changes"`
	Trends  []Trend         `json:"trends"`

	Events []Event `json:"-"`
}

// An Event is several audits after each other, or the changes of one run.
type Event struct {
	Audits  []history.Audit
	Run     string
	Changes []fix.LogLine
}

// Past puts audits and changes in the order in which they came.
func Past(audits []history.Audit, changes []fix.LogLine) *History {
	h := &History{Audits: filled(audits), Changes: filled(changes), Trends: Trends(audits)}
	type moment struct {
		at time.Time
		Event
	}
	var all []moment
	for _, a := range audits { // in the order in which they were kept: the clock may have gone back
		at := a.Taken
		if n := len(all); n > 0 && at.Before(all[n-1].at) {
			at = all[n-1].at
		}
		all = append(all, moment{at, Event{Audits: []history.Audit{a}}})
	}
	for _, c := range changes {
		i := slices.IndexFunc(all, func(m moment) bool { return m.Run != "" && m.Run == c.Run })
		if i < 0 {
			all = append(all, moment{begun(c), Event{Run: c.Run}})
			i = len(all) - 1
		}
		all[i].Changes = append(all[i].Changes, c)
	}
	slices.SortStableFunc(all, func(a, b moment) int {
		if a.at.Equal(b.at) && len(a.Audits)+len(b.Audits) == 1 { // an audit before a run, and one after it, name it
			if len(a.Audits) == 1 && a.Audits[0].Run == b.Run {
				return cmp.Compare(order(audits, a.Audits[0]), 0)
			}
		}
		return a.at.Compare(b.at)
	})
	for _, m := range all {
		if n := len(h.Events); m.Run == "" && n > 0 && h.Events[n-1].Run == "" {
			h.Events[n-1].Audits = append(h.Events[n-1].Audits, m.Audits...)
			continue
		}
		h.Events = append(h.Events, m.Event)
	}
	return h
}

// begun is when the run of a change began, which its name says; else when something last happened to the change.
func begun(c fix.LogLine) time.Time {
	const stamp = "20060102T150405"
	if at, err := time.Parse(stamp, c.Run[:min(len(c.Run), len(stamp))]); err == nil {
		return at
	}
	return c.At
}

// order is below 0 for the audit before a run, and above for the one after it.
func order(audits []history.Audit, a history.Audit) int {
	first := slices.IndexFunc(audits, func(o history.Audit) bool { return o.Run == a.Run })
	if audits[first].ID == a.ID {
		return -1
	}
	return 1
}
