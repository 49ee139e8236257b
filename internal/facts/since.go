package facts

import "time"

// Since is between which two looks something began.
type Since struct {
	// Lacked is the last look that did not show it; nil when it was there as soon as anybody looked.
	Lacked *time.Time `json:"lacked"`
	Seen   time.Time  `json:"seen"` // the first that did
	// PutRight is when this program had put it right before that; nil where it had not.
	PutRight *time.Time `json:"put_right,omitempty"`
}
