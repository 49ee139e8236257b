package report

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

// TestWhatIsLeftOpenByName is no gap, and nothing else is left by it.
func TestWhatIsLeftOpenByName(t *testing.T) {
	door := func(kind, address, path, shows string) facts.Door {
		return facts.Door{Kind: kind, Address: address, Path: path, Status: 200, Shows: shows}
	}
	r := &audit.Result{Snapshot: &facts.Snapshot{Seen: facts.Seen{Doors: []facts.Door{
		door(facts.HomeDoor, "https://a.example/", "/", facts.ShowsLock), door(facts.AssetDoor, "https://a.example/open/a.css", "/open/a.css", facts.ShowsSite), door(facts.RobotsDoor, "https://a.example/robots.txt", "/robots.txt", facts.ShowsSite),
		door(facts.UnencryptedDoor, "http://a.example/", "/", facts.ShowsSite), door(facts.SpeltDoor, "https://a.example/x/../b", "/x/../b", facts.ShowsSite), door(facts.SignInDoor, "https://a.example/in", "/in", facts.ShowsSite),
	}}}}
	for _, c := range []struct {
		left []string
		open int
	}{
		{nil, 4}, {[]string{"/open/"}, 3}, {[]string{"/open/a.css"}, 3}, {[]string{"^~ /open/"}, 3}, {[]string{`~ \.css$`}, 3}, {[]string{`~* \.CSS$`}, 3}, {[]string{"= /in"}, 3}, {[]string{"http://a.example"}, 3}, {[]string{"/open"}, 3},
		{[]string{"/elsewhere/"}, 4}, {[]string{"= /i"}, 4}, {[]string{"a.example"}, 0}, {[]string{"b.example"}, 4}, {[]string{""}, 4}, {[]string{"~ ("}, 4}, {[]string{"https://a.example/open/", "http://a.example", "/x/../b", "= /in"}, 0},
	} {
		assert.Len(t, OpenOf(r, true, c.left), c.open, "%q", c.left)
	}
	assert.Len(t, OpenOf(r, false, nil), 3, "staff signs in while a notice is up")
}
