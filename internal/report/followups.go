package report

import (
	"time"

	"weltaxis/internal/facts"
)

// An Again is something to come back to.
type Again = facts.FollowUp

// FollowUps are what to come back to of a site.
type FollowUps struct {
	Site    string     `json:"site"`
	Address string     `json:"address"`
	Now     time.Time  `json:"now"`
	Looked  *time.Time `json:"looked"` // when the audit was made that some come from; null when there is none
	All     []Again    `json:"follow_ups"`
}

// Due is how many there are whose day has come.
func (f *FollowUps) Due() int {
	n := 0
	for _, a := range f.All {
		if a.Due(f.Now) {
			n++
		}
	}
	return n
}
