package fix

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/facts"
)

// Addresses are proposed by how alike their names are, and the titles of their pages; what shares nothing is not.
func TestLikelyAddresses(t *testing.T) {
	p := &planning{Wishes: Wishes{Seen: []facts.Page{
		{Path: "/", Status: 200, Title: "Lantern Lane"}, {Path: "/tickets/", Status: 200, Title: "Tickets and prices"}, {Path: "/news/winter-wolf/", Status: 200, Title: "The winter wolf is back"},
		{Path: "/workshops/", Status: 200, Title: "Puppet making for schools"}, {Path: "/gone/", Status: 404, Title: "Gone"}, {Path: "/privacy/", Status: 200, Title: "Privacy"},
	}}}
	for old, want := range map[string][]string{
		"/tickets-and-cushions/":      {"/tickets/"},
		"/2019/winter_wolf.html":      {"/news/winter-wolf/"},
		"/puppet-making/":             {"/workshops/"},
		"/ticket.php":                 {"/tickets/"},
		"/gone-away/":                 nil,
		"/zzz/":                       nil,
		"/the/":                       nil,
		"/shows/winter-wolf-is-back/": {"/news/winter-wolf/"},
	} {
		assert.Equal(t, want, p.likely(old), old)
	}
}
