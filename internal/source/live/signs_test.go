package live

import (
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/facts"
)

// TestSigns: what a stranger can tell, from each place where a sign may stand, and what only looks like one.
func TestSigns(t *testing.T) {
	for _, c := range []struct{ place, text, want string }{
		{"tag", "Brindle 3.4.2", "system Brindle 3.4.2 certain"},
		{"tag", "Some System", "system Some System  certain"},
		{"tag", "DocBook XSL Stylesheets Vsnapshot", "system DocBook XSL Stylesheets Vsnapshot  certain"},
		{"tag", "3.4.2", ""},
		{"header", "Server: nginx/1.22.1", "server nginx 1.22.1 certain"},
		{"header", "Server: nginx", "server nginx  certain"},
		{"header", "Server: Apache/2.4.57 (Debian)", "server Apache 2.4.57 certain"},
		{"header", "X-Powered-By: PHP/8.2.7", "runtime PHP 8.2.7 certain"},
		{"header", "X-Generator: Brindle 3", "system Brindle 3 certain"},
		{"header", "Content-Type: text/html", ""},
		{"cookie", "PHPSESSID", "runtime PHP  likely"},
		{"cookie", "session", ""},
		{"asset", "/a/b.php?x=1", "runtime PHP  likely"},
		{"asset", "/a/b.css?v=1.2", ""},
		{"markup", "<p>x</p><!-- cached by swiftpages 1.8.0 -->", "extension swiftpages 1.8.0 certain"},
		{"markup", "<p>Powered by 2.0 litres of tea</p>", ""},
		{"feed", `<channel><generator>Brindle 3.4.2</generator>`, "system Brindle  certain"},
		{"feed", `<generator uri="https://x.example/" version="2.1">Ostler</generator>`, "system Ostler 2.1 certain"},
		{"error page", "<hr><center>nginx/1.22.1</center>", "server nginx 1.22.1 certain"},
		{"error page", "<address>Apache/2.4.57 (Debian) Server at x Port 80</address>", "server Apache 2.4.57 certain"},
	} {
		v := &visit{}
		v.noteSigns(c.place, c.text, "https://x.example/")
		got := ""
		if len(v.signs) > 0 {
			s := v.signs[0]
			got = s.Gives + " " + s.Name + " " + s.Version + " " + s.Sure
		}
		assert.Equal(t, c.want, got, "%s: %s", c.place, c.text)
	}
	// Each is kept once, and no more than a bound.
	v := &visit{Options: Options{Signs: []Sign{{In: "markup", Match: regexp.MustCompile(`<!-- (?P<name>[a-z]+) -->`), Gives: "extension", Sure: "likely"}}}}
	v.signsOf("https://x.example/", http.Header{"Set-Cookie": {"PHPSESSID=a; Path=/"}}, []byte("<!-- a --><!-- b --><!-- a -->"))
	v.signsOf("https://x.example/2", http.Header{"Set-Cookie": {"PHPSESSID=b"}}, []byte("<!-- a -->"))
	var names []string
	for _, s := range v.signs {
		names = append(names, s.Name)
	}
	assert.Equal(t, []string{"PHP", "a", "b"}, names)
	for i := range 3 * maxSigns {
		v.tells(facts.Telling{Gives: "extension", Name: string(rune('A' + i))})
	}
	assert.Len(t, v.signs, maxSigns)
}

// TestAFirewallShowsItself in a header, a cookie or the markup; what a cache gave says nothing, and a firewall's sign tells nobody what the site runs on.
func TestAFirewallShowsItself(t *testing.T) {
	type page struct{ field, value, body string }
	sign := func(in, match string) []Sign { return []Sign{{In: in, Match: regexp.MustCompile(match)}} }
	for _, c := range []struct {
		name  string
		signs []Sign
		pages []page
		want  string
	}{
		{"no sign is known", nil, []page{{"Content-Type", "text/html", ""}}, "unmarked"},
		{"in a header of one page", sign("header", "(?i)^Doorkeeper: "), []page{{"Age", "9", ""}, {"Doorkeeper", "on", ""}}, "shown"},
		{"in a cookie", sign("cookie", "^keeper$"), []page{{"Set-Cookie", "keeper=a; Path=/", ""}}, "shown"},
		{"a cookie of a like name", sign("cookie", "^keeper$"), []page{{"Set-Cookie", "goalkeeper=a", ""}}, "absent"},
		{"in the markup", sign("markup", "<!-- looked at -->"), []page{{"Content-Type", "text/html", "<p>x</p><!-- looked at -->"}}, "shown"},
		{"nowhere", sign("header", "(?i)^Doorkeeper: "), []page{{"Content-Type", "text/html", ""}, {"Age", "9", ""}}, "absent"},
		{"all from a cache", sign("header", "(?i)^Doorkeeper: "), []page{{"Age", "9", ""}, {"Cache-Status", "edge; hit", ""}}, ""},
	} {
		v := &visit{Options: Options{Firewall: c.signs}, home: &url.URL{Scheme: "https", Host: "x.example", Path: "/"}}
		for _, p := range c.pages {
			v.signsOf("https://x.example/", http.Header{p.field: {p.value}}, []byte(p.body))
		}
		v.tellFirewall()
		got := ""
		for _, r := range v.seen.Readings {
			if r.FullName() == facts.LiveFirewall.Name {
				got = r.Value.Text()
			}
		}
		assert.Equal(t, c.want, got, c.name)
		assert.Equal(t, c.want == "", len(v.seen.Gaps) == 1, c.name)
		assert.Empty(t, slices.DeleteFunc(v.signs, func(s facts.Telling) bool { return s.Gives != "firewall" }), c.name)
	}
}
