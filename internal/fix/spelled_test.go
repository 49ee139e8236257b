package fix

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
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

// closes writes a plan of closing the site, and waits until it is closed.
func (s *toldSite) closes(t *testing.T, how Shutting) {
	t.Helper()
	loaded, before := s.audit(t)
	plan := s.shut(t, loaded, before, how)
	journal, err := OpenJournal(s.state, time.Now)
	require.NoError(t, err)
	t.Cleanup(journal.Close)
	env, err := For(loaded, before, audit.Options{Tool: "test"}, journal)
	require.NoError(t, err)
	env.Recheck = nil
	report, err := Write(t.Context(), plan.Changes, SeenIn(before), env)
	require.NoError(t, err)
	for _, o := range report.Outcomes {
		require.Equal(t, Took, o.Result, "%s: %s", o.Title(), o.Says)
	}
	s.settles(t, map[bool]int{false: 503, true: 401}[how.Lock])
}

var spelledHow = map[string]Shutting{"notice": {Until: time.Now().Add(2 * time.Hour), Cookie: "STAGE"}, "lock": {Lock: true, Name: "preview", Password: "open sesame now"}}

// passes asks for every place in every spelling, and gives those that a stranger gets.
func (s *toldSite) passes(t *testing.T, places []string) (asked int, passed map[string]int) {
	t.Helper()
	passed = map[string]int{}
	open := map[string]bool{"robots.txt": true, ".well-known/acme-challenge/token": true}
	for _, place := range places {
		for _, target := range spelt(place) {
			for _, method := range []string{"GET", "HEAD", "OPTIONS"} {
				status, body := s.asks(t, method, target)
				asked++
				path, _, _ := strings.Cut(strings.TrimLeft(target, "/"), "?")
				if strings.Contains(body, inside) || status < 300 && status > 0 && !open[path] {
					passed[method+" "+target] = status
				}
			}
		}
	}
	return asked, passed
}

// TestEverySpellingIsShut: a lock and a notice hold at every place that the host serves, however its address is written, and what stays open serves one file
// that is there, or nothing.
func TestEverySpellingIsShut(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"nginx", "apache"} {
		for how, shutting := range spelledHow {
			t.Run(kind+" "+how, func(t *testing.T) {
				t.Parallel()
				s := toldSitesWith(t, kind, spelledHosts[kind], spelledFiles(kind))
				s.closes(t, shutting)
				asked, passed := s.passes(t, spelledPlaces)
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

// What a host is told that a lock or a notice would miss, or that only looks so. Refused is in the reason where it is not closed; else nothing passes.
var missed = map[string]struct {
	kind, lines, refused string
	files                map[string]string
	links                map[string]string
	open                 []string // stays open as ever
}{
	"a location that asks for nothing":      {"nginx", "location /open/ { auth_basic off; }", "/open/ (", nil, nil, nil},
	"a location that answers by itself":     {"nginx", "location = /r { return 200 \"" + inside + "\"; }", "= /r (", nil, nil, nil},
	"a host that is satisfied with either":  {"nginx", "satisfy any; allow 127.0.0.1;", "satisfy any", nil, nil, nil},
	"an answer under a condition":           {"nginx", "location /x/ { if ($arg_a) { return 200 \"" + inside + "\"; } }", "return 200", nil, nil, nil},
	"a question that may be none":           {"nginx", "set $realm off; location /open/ { auth_basic $realm; }", "/open/ (", nil, nil, nil},
	"an override file of another name":      {"apache", "AccessFileName .open", ".open (its <If>", map[string]string{"www/uploads/.open": "<If \"true\">\nRequire all granted\n</If>\n"}, nil, nil},
	"an override file of another folder":    {"apache", "<Directory DIR/media>\nAllowOverride AuthConfig\n</Directory>", "media/.htaccess (its <If>", map[string]string{"media/.htaccess": "<If \"true\">\nRequire all granted\n</If>\n"}, nil, nil},
	"an override file by a list":            {"apache", "<Directory DIR/media>\nAllowOverride None\nAllowOverrideList Require AuthMerging\n</Directory>", "media/.htaccess (its <If>", map[string]string{"media/.htaccess": "<If \"true\">\nAuthMerging Off\nRequire all granted\n</If>\n"}, nil, nil},
	"a condition that lets nobody in":       {"apache", "", "", map[string]string{"www/uploads/.htaccess": "<If \"true\">\nHeader set X-Lamp lit\n</If>\n"}, nil, nil},
	"a condition of another host":           {"apache", "</VirtualHost>\n<VirtualHost *:1>\nServerName second.example\nDocumentRoot DIR/other\n<If \"true\">\nRequire all granted\n</If>", "", nil, nil, nil},
	"another host of the site":              {"nginx", "} server { listen OTHER; server_name second.example; root DIR/www; location / { index none.html; }", "http://second.example (", nil, nil, nil},
	"another host that leads on":            {"nginx", "} server { listen OTHER; server_name second.example; root DIR/www; return 301 http://site.example$request_uri;", "", nil, nil, nil},
	"a host of another site":                {"nginx", "} server { listen OTHER; server_name second.example; root DIR/other;", "", nil, nil, nil},
	"a location that leads on":              {"nginx", "rewrite ^/old$ /new redirect; location = /gone { return 410; } location = /away { return 301 /there; }", "", nil, nil, nil},
	"the token's own folder":                {"nginx", "location ^~ /.well-known/acme-challenge/ { root DIR/other; }", "", map[string]string{"other/.well-known/acme-challenge/token": "token.thumb", "other/.well-known/acme-challenge/x.html": inside}, nil, []string{"/.well-known/acme-challenge/token"}},
	"a place for robots.txt":                {"nginx", "location = /robots.txt { access_log off; expires 1h; }", "", nil, nil, []string{"/robots.txt"}},
	"a place for robots.txt that is open":   {"nginx", "location = /robots.txt { auth_basic off; }", "", nil, nil, []string{"/robots.txt"}},
	"a place for tokens that is open":       {"nginx", "location /.well-known/acme-challenge/ {\n    auth_basic off;\n}", "", nil, nil, []string{"/.well-known/acme-challenge/token"}},
	"one that serves files alone":           {"nginx", "location ^~ /.well-known/acme-challenge/ { auth_basic off; try_files $uri =404; }", "", nil, nil, []string{"/.well-known/acme-challenge/token"}},
	"one that hands on to a program":        {"nginx", "location ^~ /.well-known/acme-challenge/ { auth_basic off; try_files $uri /index.php; }", "auth_basic off", nil, nil, nil},
	"a link among the tokens":               {"nginx", "", "", nil, map[string]string{"www/.well-known/acme-challenge/linked": "../../secret.html", "www/.well-known/acme-challenge/behind": "../../uploads"}, nil},
	"a program for robots.txt":              {"nginx", "location = /robots.txt { fastcgi_param SCRIPT_FILENAME DIR/www/tool.php; fastcgi_param REQUEST_METHOD $request_method; fastcgi_param REQUEST_URI $request_uri; fastcgi_pass unix:DIR/fpm.sock; }", "-", nil, nil, nil},
	"a condition in an override file":       {"apache", "", ".htaccess (its <If>", map[string]string{"www/uploads/.htaccess": "<If \"true\">\nRequire all granted\n</If>\n"}, nil, nil},
	"a condition in the host":               {"apache", "<If \"%{QUERY_STRING} == 'open'\">\nRequire all granted\n</If>", "<If %{QUERY_STRING}", nil, nil, nil},
	"an override file that is not read":     {"apache", "<Directory DIR/www/uploads>\nAllowOverride None\n</Directory>", "", map[string]string{"www/uploads/.htaccess": "<If \"true\">\nRequire all granted\n</If>\n"}, nil, nil},
	"an override file satisfied by either":  {"apache", "# access_compat", "", map[string]string{"www/uploads/.htaccess": "Satisfy Any\nOrder allow,deny\nAllow from all\n"}, nil, nil},
	"an override file that asks for no one": {"apache", "", "", map[string]string{"www/uploads/.htaccess": "AuthMerging Off\nRequire all granted\n"}, nil, nil},
	"a section that lets in":                {"apache", "<Location /uploads>\nRequire all granted\n</Location>\n<LocationMatch ^/feed>\nAuthMerging Off\nRequire all granted\n</LocationMatch>", "", nil, nil, nil},
	"a redirect":                            {"apache", "Redirect 302 /old /new\nRewriteEngine On\nRewriteRule ^/gone$ - [G]", "", nil, nil, nil},
	"links among the tokens":                {"apache", "", "", nil, map[string]string{"www/.well-known/acme-challenge/linked": "../../secret.html", "www/.well-known/acme-challenge/behind": "../../uploads"}, nil},
}

// TestWhatALockWouldMiss is named before, and where nothing is named nothing passes.
func TestWhatALockWouldMiss(t *testing.T) {
	t.Parallel()
	for name, c := range missed {
		for how, shutting := range spelledHow {
			t.Run(name+" "+how, func(t *testing.T) {
				t.Parallel()
				files := spelledFiles(c.kind)
				for name, text := range c.files {
					files[name] = text
				}
				s := toldSitesWith(t, c.kind, spelledHosts[c.kind]+"\n"+c.lines+"\n", files)
				for name, to := range c.links {
					require.NoError(t, os.Symlink(to, filepath.Join(s.dir, name)))
				}
				if shutting.Lock && c.refused != "" && c.refused != "-" {
					loaded, before := s.audit(t)
					w, err := WishesFor(loaded, before, audit.Options{Tool: "test"}, nil)
					require.NoError(t, err)
					require.NoError(t, shutting.Into(&w, loaded, before.Snapshot))
					plan, err := New(t.Context(), w)
					require.NoError(t, err)
					require.NotEmpty(t, plan.Changes)
					assert.Contains(t, plan.Changes[0].Cannot, c.refused)
					return
				}
				s.closes(t, shutting)
				_, passed := s.passes(t, []string{"/secret.html", "/uploads/x.txt", "/feed.xml"})
				for _, target := range []string{"/r", "/x/?a=1", "/open/", "/old", "/away", "/.well-known/acme-challenge/linked", "/.well-known/acme-challenge/behind", "/.well-known/acme-challenge/behind/x.txt", "/?open"} {
					if status, body := s.asks(t, "GET", target); strings.Contains(body, inside) || status == 200 {
						passed[target] = status
					}
				}
				if len(passed) > 0 {
					t.Errorf("open: %.800s\n%s", fmt.Sprint(passed), s.read(t, "server.conf"))
				}
				for _, target := range c.open {
					status, _ := s.asks(t, "GET", target)
					assert.Equal(t, 200, status, target)
				}
			})
		}
	}
}
