package live

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What a short page says of itself, where its title says nothing.
func TestANoticeIsKnownByWhatItSays(t *testing.T) {
	says := func(sentence string) bool {
		body := "<title>Lantern Lane</title><h1>Lantern Lane</h1><p>" + sentence + "</p>"
		return (&visit{}).saysNotice(&response{status: 200, body: []byte(body)}, analyse(address(t, "https://lane.example/"), []byte(body), "text/html; charset=utf-8", sought{}))
	}
	for _, notice := range []string{"Lantern Lane is currently closed.", "We’re temporarily offline.", "Site temporarily down", "We'll be right back.", "Back in 20 minutes.", "The site is down for scheduled maintenance.", "We're making some improvements. Please check back later.",
		"This service is unavailable right now; try again in a few minutes.", "Wegen Wartungsarbeiten ist die Seite kurz nicht erreichbar.", "Wir bauen um und sind in Kürze wieder da.", "Le site est en maintenance.", "El sitio está en mantenimiento.", "Torneremo presto."} {
		assert.True(t, says(notice), notice)
	}
	for _, page := range []string{"The house is closed on Mondays.", "Sorry, tickets are currently unavailable.", "Oil the joints each month: maintenance of puppets is no secret.", "No shows yet; check back soon.", "The wolf comes back at dusk.", "Seats at the back in the stalls are cheaper."} {
		assert.False(t, says(page), page)
	}
}
