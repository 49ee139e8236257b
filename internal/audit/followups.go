package audit

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"weltaxis/internal/facts"
)

// followUps are what to come back to, by day.
func followUps(ofRules []facts.FollowUp, s *facts.Snapshot) []facts.FollowUp {
	return FollowUps(ofRules, nil, s.FollowUps, s.Accept)
}

// FollowUps are what to come back to, by day: of what rules want, with the days that were given to those that are counted, what somebody
// states, and the ends of what is accepted. Those among the rules' that come from the other two are left out, so that they are as they are
// stated now.
func FollowUps(ofRules []facts.FollowUp, days map[string]facts.Day, stated []facts.FollowUp, accepted []facts.Acceptance) []facts.FollowUp {
	all := []facts.FollowUp{}
	for _, f := range ofRules {
		if f.Accepted || f.Rule == "" {
			continue
		}
		if day, given := days[f.UID]; given && f.After > 0 {
			f.On = day
		}
		all = append(all, f)
	}
	all = append(all, stated...)
	for _, a := range accepted {
		subject := a.Subject
		if subject == "*" {
			subject = ""
		}
		all = append(all, facts.FollowUp{UID: facts.Fingerprint("accepted "+a.Rule, a.Subject), Rule: a.Rule, Subject: subject, On: facts.DayOf(time.Unix(a.Until.Number(), 0)), Accepted: true,
			What: fmt.Sprintf("Decide again whether to live with it: %s", a.Because)})
	}
	slices.SortStableFunc(all, func(a, b facts.FollowUp) int { return cmp.Or(cmp.Compare(a.On, b.On), cmp.Compare(a.UID, b.UID)) })
	return all
}

// SetDays gives follow-ups the days that they were given when they were first seen, by uid.
func (r *Result) SetDays(days map[string]facts.Day) {
	r.FollowUps = FollowUps(r.FollowUps, days, r.Snapshot.FollowUps, r.Snapshot.Accept)
}
