package dialect

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/facts"
)

// TestNeutralWordsAreNotWritten: what only this program calls so reaches no site; what the dialect or the place has words for does.
func TestNeutralWordsAreNotWritten(t *testing.T) {
	for _, c := range []struct {
		name, value string
		how         Translation
		like        Like
		wrong       string // "" where it is written
	}{
		{"front.shows", "page", Translation{}, Like{Old: "posts"}, `how "page" is written`},
		{"front.shows", "page", Translation{Words: map[string]string{"static": "page"}}, Like{Old: "feed"}, ""},
		{"front.shows", "posts", Translation{Words: map[string]string{"static": "page"}}, Like{Old: "static"}, `how "posts" is written`},
		{"front.shows", "page", Translation{}, Like{Old: "page"}, ""},
		{"registration.role", "lowest", Translation{}, Like{Old: "5"}, `how "lowest" is written`},
		{"title.inner", "{page} {separator} {site}", Translation{}, Like{Old: "%title%"}, "how {page}, {separator}, {site} is written"},
		{"title.inner", "{page} - {site}", Translation{Placeholders: map[string]string{"%t": "{page}"}}, Like{Old: "%t"}, "how {site} is written"},
		{"title.inner", "{page} - {site}", Translation{Placeholders: map[string]string{"%t": "{page}", "%s": "{site}"}}, Like{Old: "%t"}, ""},
		{"title.inner", "{page} - {site}", Translation{}, Like{Old: "{site}: {page}"}, ""},
		{"title.inner", "Words alone", Translation{}, Like{Old: "%t"}, ""},
		{"session.idle", "8h", Translation{}, Like{Old: "480"}, "in what it is counted"},
		{"session.idle", "8h", Translation{}, Like{}, "in what it is counted"},
		{"session.idle", "8h", Translation{Unit: "minutes"}, Like{Old: "30"}, ""},
		{"session.idle", "8h", Translation{}, Like{Old: "30m"}, ""},
		{"session.idle", "0s", Translation{}, Like{Old: "30"}, ""},
		{"cache.excludes", "/a, /b", Translation{}, Like{}, "between several"},
		{"cache.excludes", "/a, /b", Translation{}, Like{Old: "/c"}, "between several"},
		{"cache.excludes", "/a", Translation{}, Like{Old: ""}, ""},
		{"cache.excludes", "/a, /b", Translation{Split: "|"}, Like{Old: ""}, ""},
		{"cache.excludes", "/a, /b", Translation{}, Like{Old: "/c, /d"}, ""},
		{"cache.excludes", "/a, /b", Translation{}, Like{Old: []any{"/c"}}, ""},
		{"debug.on", "no", Translation{}, Like{Old: "yes"}, ""},
	} {
		entry, known := facts.Setting(c.name)
		if !assert.True(t, known, c.name) {
			continue
		}
		v, err := entry.Type.Parse(c.value)
		assert.NoError(t, err)
		stored, err := c.how.Stored(entry, v, c.like)
		if c.wrong == "" {
			assert.NoError(t, err, "%s=%s %+v", c.name, c.value, c)
			continue
		}
		assert.ErrorContains(t, err, c.wrong, "%s=%s: %v", c.name, c.value, stored)
	}
}
