package facts

import (
	"fmt"
	"time"
)

// A Day is a calendar day, as 2027-01-15. Days compare as texts do.
type Day string

// DayOf is the day of a moment, in universal time.
func DayOf(at time.Time) Day { return Day(at.UTC().Format(time.DateOnly)) }

// A FollowUp is something to come back to.
type FollowUp struct {
	UID     string `json:"uid"`     // the same from look to look
	Rule    string `json:"rule"`    // that wants it; "" when the site file does
	Subject string `json:"subject"` // "" when it is the site
	On      Day    `json:"on"`
	// After is how many days after it was first seen that is, where nothing says the day; 0 where something does.
	After int    `json:"after,omitempty"`
	What  string `json:"what"`
	// Accepted says that it is the end of a decision to live with a deviation.
	Accepted bool `json:"accepted,omitempty"`
}

// Due tells whether the day has come.
func (f FollowUp) Due(at time.Time) bool { return f.On <= DayOf(at) }

// StatedFollowUp is one that somebody wants on a day. It stays the same when it is put off: nth tells those apart that say the same, from 0.
func StatedFollowUp(on Day, what string, nth int) FollowUp {
	return FollowUp{UID: Fingerprint("follow-up", fmt.Sprintf("%s\x00%d", what, nth)), On: on, What: what}
}
