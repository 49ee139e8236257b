package clock

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOf(t *testing.T) {
	now, err := Of("2026-11-23T10:00:00+01:00")
	require.NoError(t, err)
	assert.True(t, now().Equal(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)))
	assert.True(t, now().Equal(now()), "it stands still")
	own, err := Of("")
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), own(), time.Minute)
	for _, text := range []string{"yesterday", "2026-11-23", "10:00", " "} {
		_, err := Of(text)
		assert.ErrorContains(t, err, "write it as 2026-11-23T10:00:00Z", text)
	}
}
