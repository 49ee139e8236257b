package spelt

import (
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEverySpellingIsAnAddress(t *testing.T) {
	for _, place := range []string{"/", "/about/", "/posters/a.jpg", "/?page=2"} {
		all := Of(place)
		assert.Len(t, all, len(ways))
		for _, target := range all {
			u, err := url.Parse("https://site.example" + target)
			if assert.NoError(t, err, target) {
				assert.Equal(t, "site.example", u.Host, target)
			}
		}
	}
	assert.Contains(t, Of("/about/"), "/.well-known/acme-challenge/..%2f..%2fabout/")
	assert.Contains(t, Of("/about/"), "/%61bout/")
}
