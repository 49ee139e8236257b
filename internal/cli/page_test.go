package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/history"
)

// TestWhatAPageIsSetBeside: the last audit before a look, and the first of the month before it; never the look itself, which is kept when its page
// is made, nor a later one.
func TestWhatAPageIsSetBeside(t *testing.T) {
	now := time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC)
	for _, of := range []struct {
		daysAgo []int
		number  int64
		want    []int64
	}{{nil, 0, nil}, {[]int{0}, 1, nil}, {[]int{0}, 0, []int64{1}}, {[]int{0, 0, 0}, 2, []int64{1}}, {[]int{90, 30, 20, 2, 0, 0}, 5, []int64{4, 2}}, {[]int{90, 60}, 0, nil}, {[]int{3, -2, 0}, 3, []int64{2, 1}}} {
		var audits []history.Audit
		for i, days := range of.daysAgo {
			audits = append(audits, history.Audit{ID: int64(i + 1), Taken: now.AddDate(0, 0, -days)})
		}
		var got []int64
		for _, a := range monthBefore(before(audits, of.number), now) {
			got = append(got, a.ID)
		}
		assert.Equal(t, of.want, got, of.daysAgo)
	}
}
