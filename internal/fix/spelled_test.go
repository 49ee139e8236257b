package fix

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
)

// inside is in everything that a stranger is not to see.
const inside = "behind the curtain"

// spelledFiles are files of twelve places that a host serves.
func spelledFiles(kind string) map[string]string {
	program := `<?php header("Content-Type: text/html"); echo "` + inside + ` ", $_SERVER["REQUEST_URI"];`
	files := map[string]string{"www/index.php": program, "www/about/index.php": program, "www/tool.php": program, "www/secret.html": inside, "www/style.css": inside, "www/posters/a.jpg": inside, "www/uploads/x.txt": inside, "www/feed.xml": inside,
		"www/.well-known/acme-challenge/sub/page.html": inside, "www/.well-known/acme-challenge/tool.php": program, "www/.well-known/acme-challenge/token": "token.thumb", "www/robots.txt": "User-agent: *\n",
		"media/m.html": inside, "other/files/o.html": inside}
	if kind == "apache" {
		files["www/.htaccess"] = "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . /index.php [L]\n"
		files["www/uploads/.htaccess"] = "Require all granted\n"
	}
	return files
}

// spelledHosts are the lines of a host that serves them.
var spelledHosts = map[string]string{
	"nginx": `        location / { try_files $uri $uri/ /index.php?$args; }
        location /media/ { alias DIR/media/; }
        location /files/ { root DIR/other; }
        error_page 404 /secret.html;
`,
	"apache": `    Alias /media DIR/media
    Alias /files DIR/other/files
    <Directory DIR/media>
        Require all granted
    </Directory>
    <Directory DIR/other>
        Require all granted
    </Directory>
    <Directory DIR/www>
        AllowOverride All
    </Directory>
    ErrorDocument 404 /secret.html
`,
}

var spelledPlaces = []string{"/", "/secret.html", "/about/", "/tool.php", "/style.css", "/posters/a.jpg", "/uploads/x.txt", "/feed.xml", "/media/m.html", "/files/o.html", "/nowhere", "/?page=2"}

// spelt are ways to write the address of a place, also by way of what stays open.
func spelt(place string) (targets []string) {
	rest := strings.TrimPrefix(place, "/")
	for _, open := range []string{"/robots.txt", "/.well-known/acme-challenge/", "/.well-known/acme-challenge/token"} {
		for _, way := range []string{"/../", "/../../", "/../../../", "/%2e%2e/%2e%2e/", "/.%2e/.%2e/", "/..%2f..%2f", "/%2e%2e%2f%2e%2e%2f", "/..;/..;/", "/..%5c..%5c", "/..%252f..%252f", "/%c0%ae%c0%ae/", "//../../", "/./.././../", "?/../../", "%3f/../../", "%23/../", "%00/../../", ";/../../", "/"} {
			targets = append(targets, strings.TrimSuffix(open, "/")+way+rest)
		}
		targets = append(targets, open+"?"+rest, open+"?page="+place, "http://site.example"+open+"/../.."+place)
	}
	for _, way := range []string{"/%2e/", "//", "/./", "/x/../", "/%2f", "/;/", "/x;y/../"} {
		targets = append(targets, way+rest)
	}
	for _, tail := range []string{"", "?", "/", "/x", "%20", ".", ";x", "%00", "/robots.txt", "/.well-known/acme-challenge/token", "?/robots.txt", "?x=/.well-known/acme-challenge/token", "%2f", "%3frobots.txt"} {
		targets = append(targets, place+tail)
	}
	if rest != "" {
		targets = append(targets, fmt.Sprintf("/%%%02x%s", rest[0], rest[1:]), strings.ToUpper(place), "http://site.example"+place, "http://other.example"+place)
	}
	return append(targets, "/ROBOTS.TXT", "/.well-known/acme-challenge/none", "/.well-known/acme-challenge/sub/page.html", "/.well-known/acme-challenge/tool.php", "/.well-known/acme-challenge/", "/.well-known/acme-challenge/sub", "/robots.txt/"+rest)
}

// asks sends a request as it is written, and gives status and body.
func (s *toldSite) asks(t *testing.T, method, target string) (int, string) {
	t.Helper()
	conn, err := net.DialTimeout("tcp", s.address, 10*time.Second)
	require.NoError(t, err)
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	_, err = fmt.Fprintf(conn, "%s %s HTTP/1.1\r\nHost: site.example\r\nConnection: close\r\n\r\n", method, target)
	require.NoError(t, err)
	response, err := http.ReadResponse(bufio.NewReader(conn), &http.Request{Method: method})
	if err != nil {
		return 0, ""
	}
	defer response.Body.Close()
	body, _ := io.ReadAll(io.LimitReader(response.Body, 1<<16))
	return response.StatusCode, string(body)
}

// TestEverySpellingIsShut: a lock and a notice hold at every place that the host serves, however its address is written, and what stays open serves one file
// that is there, or nothing.
func TestEverySpellingIsShut(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"nginx", "apache"} {
		for how, shutting := range map[string]Shutting{"notice": {Until: time.Now().Add(2 * time.Hour), Cookie: "STAGE"}, "lock": {Lock: true, Name: "preview", Password: "open sesame now"}} {
			t.Run(kind+" "+how, func(t *testing.T) {
				t.Parallel()
				s := toldSitesWith(t, kind, spelledHosts[kind], spelledFiles(kind))
				loaded, before := s.audit(t)
				plan := s.shut(t, loaded, before, shutting)
				journal, err := OpenJournal(s.state, time.Now)
				require.NoError(t, err)
				defer journal.Close()
				env, err := For(loaded, before, audit.Options{Tool: "test"}, journal)
				require.NoError(t, err)
				env.Recheck = nil
				report, err := Write(t.Context(), plan.Changes, SeenIn(before), env)
				require.NoError(t, err)
				for _, o := range report.Outcomes {
					require.Equal(t, Took, o.Result, "%s: %s", o.Title(), o.Says)
				}
				s.settles(t, map[string]int{"notice": 503, "lock": 401}[how])
				asked, passed := 0, map[string]string{}
				for _, place := range spelledPlaces {
					for _, target := range spelt(place) {
						for _, method := range []string{"GET", "HEAD", "OPTIONS"} {
							status, body := s.asks(t, method, target)
							asked++
							spared := target == "/robots.txt" || target == "/.well-known/acme-challenge/token"
							is := strings.TrimLeft(target, "/") // another way to write what stays open
							if strings.Contains(body, inside) || status < 300 && status > 0 && is != "robots.txt" && is != ".well-known/acme-challenge/token" && !(kind == "nginx" && how == "lock" && (strings.HasPrefix(target, "/robots.txt?") || strings.HasPrefix(target, "/.well-known/acme-challenge/token?"))) {
								passed[method+" "+target] = fmt.Sprint(status)
							}
							assert.False(t, spared && method == "GET" && status != 200, "%s %s: %d", method, target, status)
						}
					}
				}
				t.Logf("%d of %d passed", len(passed), asked)
				if len(passed) > 0 {
					t.Errorf("open: %.1500s\n%s", fmt.Sprint(passed), s.read(t, "server.conf"))
				}
				for _, target := range []string{"/robots.txt", "/.well-known/acme-challenge/token"} {
					status, _ := s.asks(t, "GET", target)
					assert.Equal(t, 200, status, target)
				}
			})
		}
	}
}
