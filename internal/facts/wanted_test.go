package facts

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWanted: what nobody can mean is not wanted of a setting, and all that somebody may is.
func TestWanted(t *testing.T) {
	for _, c := range []struct {
		name, value string
		fine        bool
	}{
		{"site.time_zone", "Europe/London", true}, {"site.time_zone", "UTC", true}, {"site.time_zone", "Mars/Olympus", false}, {"site.time_zone", "", false}, {"site.time_zone", "Local", false},
		{"mail.admin", "post@name.example", true}, {"mail.admin", "", true}, {"mail.admin", "nobody", false}, {"mail.admin", "Wren <post@name.example>", false}, {"mail.admin", "a@b.example, c@d.example", false},
		{"site.address", "https://www.name.example", true}, {"site.address", "www.name.example", false}, {"site.address", "javascript:alert(1)", false}, {"site.icon", "/icon.png", true}, {"site.address", "https://", false},
		{"site.language", "en-GB", true}, {"site.language", "de", true}, {"site.language", "english", false}, {"site.language", "xx-yy-zz", false},
		{"site.title", "Lantern Lane", true}, {"site.title", "a\x00b", false}, {"site.title", "a\x1b[31mb", false}, {"head.code", "<meta>\n\t<meta>", true}, {"session.idle", "8h", true},
	} {
		term, known := Setting(c.name)
		assert.True(t, known, c.name)
		v, err := term.Type.Parse(c.value)
		if assert.NoError(t, err, "%s=%s", c.name, c.value) {
			assert.Equal(t, c.fine, term.Wanted(v) == "", "%s=%q: %s", c.name, c.value, term.Wanted(v))
		}
	}
	assert.NotEmpty(t, SessionIdle.Wanted(NumberOf(Duration, -1)))
	assert.True(t, FrontPage.NamesPage())
	assert.False(t, SiteTitle.NamesPage())
}
