package live

import (
	"net/http"
	"regexp"
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
