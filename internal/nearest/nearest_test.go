package nearest

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWord(t *testing.T) {
	candidates := []string{"settings.site.title", "settings.site.tagline", "stage", "live", "hardening.debug-off"}
	for word, want := range map[string]string{
		"settings.site.titel": "settings.site.title", "stgae": "stage", "LIVE": "live", "lief": "live", "hardening.debug-of": "hardening.debug-off",
		"site.title": "settings.site.title", "nothing like it": "", "x": "", "": "",
	} {
		assert.Equal(t, want, Word(word, candidates), word)
	}
	assert.Equal(t, ` (did you mean "live"?)`, Hint("lvie", candidates))
	assert.Empty(t, Hint("zzzzzz", candidates))
	assert.Empty(t, Hint("live", nil))
}

func TestWordIsTheSameOnEveryRun(t *testing.T) {
	for range 20 {
		assert.Equal(t, "aaab", Word("aaaa", []string{"aaac", "aaab", "aaad"}))
	}
}
