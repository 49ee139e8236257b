package baseline

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

// TestDecisive tells which readings a condition turned on, and leaves out those that are as they should be.
func TestDecisive(t *testing.T) {
	for holds, want := range map[string][]string{
		`settings.site.title == "x"`:                                                             {"settings.site.title"},
		`settings.site.title == "x" && settings.site.tagline == "line"`:                          {"settings.site.title"},
		`settings.site.title == "x" || settings.site.tagline == "y"`:                             {"settings.site.title", "settings.site.tagline"},
		`!(settings.site.title == "title" && settings.site.tagline == "line")`:                   {"settings.site.title", "settings.site.tagline"},
		`!(settings.site.title == "title" || settings.site.tagline == "y")`:                      {"settings.site.title"},
		`settings.site.title == "x" && settings.mail.admin == "y"`:                               {"settings.site.title"}, // unknown decides nothing
		`settings.site.tagline == "line" ? settings.site.title == "x" : settings.debug.on`:       {"settings.site.tagline", "settings.site.title"},
		`settings.site.title.size() > limits.description_max`:                                    {"settings.site.title"},
		`settings.site.title in ["x", settings.site.tagline] && settings.site.tagline != "line"`: {"settings.site.title", "settings.site.tagline"},
	} {
		o := own{holds: "'" + holds + "'"}
		b, err := o.load(t)
		require.NoError(t, err)
		s := &facts.Snapshot{}
		s.Add(facts.SiteTitle.Reading("title", facts.Origin{}), facts.SiteTagline.Reading("line", facts.Origin{}))
		j := b.Judge(s)
		require.Len(t, j.Deviations, 1, holds)
		assert.Equal(t, want, b.Decisive(s, j.Deviations[0]), holds)
	}
}
