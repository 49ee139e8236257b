package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/facts"
	"weltaxis/internal/history"
)

// TestWhatAPageIsSetBeside: the last audit before a look, and the first of the month before it; never the look itself, which is kept when its page
// is made, nor a later one.
func TestWhatAPageIsSetBeside(t *testing.T) {
	now := &facts.Snapshot{Taken: time.Date(2026, 3, 31, 12, 0, 0, 500, time.UTC)}
	daysAgo := func(days ...int) (audits []history.Audit) {
		for _, d := range days {
			audits = append(audits, history.Audit{ID: int64(d), Taken: now.Taken.Truncate(time.Second).AddDate(0, 0, -d)})
		}
		return audits
	}
	for _, of := range []struct{ kept, want []int }{{nil, nil}, {[]int{0}, nil}, {[]int{0, -3}, nil}, {[]int{2, 0}, []int{2}}, {[]int{90, 30, 20, 2, 0, -1}, []int{2, 30}}, {[]int{90, 60}, nil}} {
		var got []int
		for _, a := range monthBefore(daysAgo(of.kept...), now) {
			got = append(got, int(a.ID))
		}
		assert.Equal(t, of.want, got, of.kept)
	}
	assert.Len(t, before(daysAgo(90, 60, 1, 0), now), 3)
}
