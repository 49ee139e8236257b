package fix

import (
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/site"
)

// treasure is what nobody outside is to have, and shell a program that somebody has uploaded.
const (
	treasure = "SQLite format 3\x00the members and what they paid"
	untold   = "(it cannot be told)"
	shell    = "<?php echo 'ran ', 6 * 7;"
)

// reached are ways to what lies outside of the folder that is served, and what only looks so. GRANT lets Apache serve the whole folder of the test.
var reached = []struct {
	name, kind, lines string
	links             map[string]string
	files             map[string]string
	open              string // a folder to which everybody may write
	file, address     string // what comes out, and where; "" where nothing does
	asks              string // an address at which one would try
}{
	{name: "nothing", kind: "nginx", asks: "/data/shows.db"},
	{name: "a link to the folder", kind: "nginx", links: map[string]string{"www/files": "../data"}, file: "data/shows.db", address: "/files/shows.db"},
	{name: "a link to a link", kind: "nginx", links: map[string]string{"www/a": "../mid", "mid/b": "../data"}, file: "data/shows.db", address: "/a/b/shows.db"},
	{name: "a link to the file", kind: "nginx", links: map[string]string{"www/about/x.txt": "../../data/shows.db"}, file: "data/shows.db", address: "/about/x.txt"},
	{name: "a link to nowhere", kind: "nginx", links: map[string]string{"www/files": "../gone"}, asks: "/files/shows.db"},
	{name: "a link to another folder", kind: "nginx", links: map[string]string{"www/files": "../php"}, asks: "/files/shows.db"},
	{name: "a link that is not followed", kind: "nginx", lines: "disable_symlinks on;", links: map[string]string{"www/files": "../data"}, asks: "/files/shows.db"},
	{name: "an alias", kind: "nginx", lines: "location /dl/ { alias DIR/data/; }", file: "data/shows.db", address: "/dl/shows.db"},
	{name: "an alias without its slash", kind: "nginx", lines: "location /img { alias DIR/pics/; }", files: map[string]string{"pics/a.txt": "a"}, file: "data/shows.db", address: "/img../data/shows.db"},
	{name: "an alias with its slash", kind: "nginx", lines: "location /img/ { alias DIR/pics/; }", files: map[string]string{"pics/a.txt": "a"}, asks: "/img/../data/shows.db"},
	{name: "an alias of one file", kind: "nginx", lines: "location = /latest { alias DIR/data/shows.db; }", file: "data/shows.db", address: "/latest"},
	{name: "an alias by an expression", kind: "nginx", lines: "location ~ ^/get/(.+)$ { alias DIR/data/$1; }", file: "data/shows.db", address: "/get/shows.db"},
	{name: "another root", kind: "nginx", lines: "location /data/ { root DIR; }", file: "data/shows.db", address: "/data/shows.db"},
	{name: "a rewrite to another root", kind: "nginx", lines: "location /v/ { root DIR; rewrite ^/v/(.*)$ /data/$1 break; }", file: "data/shows.db", address: "/v/shows.db"},
	{name: "a rewrite to a place for the server alone", kind: "nginx", lines: "rewrite ^/old/(.*)$ /dl/$1 last; location /dl/ { internal; alias DIR/data/; }", file: "data/shows.db", address: "/old/shows.db"},
	{name: "a place for the server alone", kind: "nginx", lines: "location /dl/ { internal; alias DIR/data/; }", asks: "/dl/shows.db"},
	{name: "an alias that is refused", kind: "nginx", lines: "location /dl/ { deny all; alias DIR/data/; }", asks: "/dl/shows.db"},
	{name: "an alias around a shield", kind: "nginx", lines: "location ^~ /data/ { deny all; } location /dl/ { alias DIR/data/; }", file: "data/shows.db", address: "/dl/shows.db"},
	{name: "a program's text", kind: "nginx", lines: "location ^~ /src/ { alias DIR/www/; }", file: "www/about/index.php", address: "/src/about/index.php"},
	{name: "an upload that lies elsewhere", kind: "nginx", links: map[string]string{"www/media": "../store/uploads"}, files: map[string]string{"store/uploads/s.php": shell}, file: "store/uploads/s.php", address: "/media/s.php"},
	{name: "an upload in a folder that everybody writes to", kind: "nginx", links: map[string]string{"www/media": "../store/uploads"}, files: map[string]string{"store/uploads/s.php": shell}, open: "store/uploads", file: "store/uploads/s.php", address: "/media/s.php"},
	{name: "an upload that is a picture", kind: "nginx", links: map[string]string{"www/media": "../store/uploads"}, files: map[string]string{"store/uploads/s.jpg": "\xff\xd8\xff\xe0"}, asks: "/media/s.php"},
	{name: "an alias that something else decides over", kind: "nginx", lines: "location /dl/ { auth_request /ask; alias DIR/data/; } location = /ask { internal; proxy_pass http://OTHER; }", file: untold},
	{name: "another host", kind: "nginx", lines: "} server { listen ADDRESS; server_name other.example; root DIR/data;", file: "data/shows.db", address: "other.example"},

	{name: "nothing", kind: "apache", asks: "/data/shows.db"},
	{name: "a link to the folder", kind: "apache", lines: "GRANT", links: map[string]string{"www/files": "../data"}, file: "data/shows.db", address: "/files/shows.db"},
	{name: "a link that is not followed", kind: "apache", lines: "GRANT\n<Directory DIR/www>\nOptions -FollowSymLinks\n</Directory>", links: map[string]string{"www/files": "../data"}, asks: "/files/shows.db"},
	{name: "an alias", kind: "apache", lines: "Alias /dl DIR/data\n<Directory DIR/data>\nRequire all granted\n</Directory>", file: "data/shows.db", address: "/dl/shows.db"},
	{name: "an alias that nothing grants", kind: "apache", lines: "Alias /dl DIR/data\n<Directory DIR/data>\nRequire all denied\n</Directory>", asks: "/dl/shows.db"},
	{name: "an alias by an expression", kind: "apache", lines: "GRANT\nAliasMatch ^/get/(.*)$ DIR/data/$1", file: "data/shows.db", address: "/get/shows.db"},
	{name: "a rewrite onto the disk", kind: "apache", lines: "GRANT\nRewriteEngine On\nRewriteRule ^/v/(.*)$ DIR/data/$1", file: "data/shows.db", address: "/v/shows.db"},
	{name: "a rewrite of an override file", kind: "apache", lines: "GRANT\n<Directory DIR/www>\nAllowOverride All\n</Directory>\nAlias /dl DIR/data", files: map[string]string{"www/.htaccess": "RewriteEngine On\nRewriteRule ^v/(.*)$ /dl/$1 [L]\n"}, file: "data/shows.db", address: "/dl/shows.db"},
	{name: "a rewrite that forbids", kind: "apache", lines: "GRANT\nRewriteEngine On\nRewriteRule ^/dl/ - [F]\nAlias /dl DIR/data", asks: "/dl/shows.db"},
	{name: "a file that the server may not read", kind: "apache", lines: "GRANT", links: map[string]string{"www/files": "../data"}, files: map[string]string{"data/shows.db:0600": treasure}, asks: "/files/shows.db"},
	{name: "a program's text", kind: "apache", lines: "GRANT\nAlias /src DIR/www\n<Location /src>\nSetHandler default-handler\n</Location>", file: "www/about/index.php", address: "/src/about/index.php"},
}

// TestWhatComesOutByAnotherAddress: what the audit says comes out does, at the real server and at the address that is named, and what it does not say does not.
func TestWhatComesOutByAnotherAddress(t *testing.T) {
	t.Parallel()
	for _, c := range reached {
		t.Run(c.kind+" "+c.name, func(t *testing.T) {
			t.Parallel()
			files := map[string]string{"data/shows.db": treasure}
			for name, text := range c.files {
				name, _, _ = strings.Cut(name, ":")
				files[name] = text
			}
			s := toldSitesWith(t, c.kind, strings.ReplaceAll(c.lines, "GRANT", "<Directory DIR>\nRequire all granted\nOptions FollowSymLinks\n</Directory>")+"\n", files)
			for name := range c.files {
				if name, _, private := strings.Cut(name, ":"); private {
					require.NoError(t, os.Chmod(filepath.Join(s.dir, name), 0o600))
				}
			}
			if c.open != "" {
				require.NoError(t, os.Chmod(filepath.Join(s.dir, c.open), 0o777))
			}
			for at, to := range c.links {
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(s.dir, at)), 0o755))
				require.NoError(t, os.Symlink(to, filepath.Join(s.dir, at)))
			}
			text := strings.Replace(s.read(t, "weltaxis.yaml"), "sources:\n", "sources:\n  files: {root: ., public: www}\n", 1)
			s.write(t, "weltaxis.yaml", strings.Replace(text, "brand: Stage door", "brand: Stage door, aliases: [other.example], web_user: www-data", 1))
			loaded, err := site.Load(filepath.Join(s.dir, "weltaxis.yaml"))
			require.NoError(t, err)
			r, err := audit.Run(t.Context(), loaded, time.Now(), audit.Options{Tool: "test", Offline: true, Only: []string{"permissions.no-address"}})
			require.NoError(t, err)
			var found []string
			for _, d := range r.Deviations {
				found = append(found, d.Subject+" "+d.Says)
			}
			if c.file == "" {
				assert.Empty(t, found)
				assert.Contains(t, r.Held, "permissions.no-address")
				assert.Empty(t, r.NotJudged)
				_, body := s.asks(t, http.MethodGet, c.asks)
				assert.NotContains(t, body, treasure)
				return
			}
			if c.file == untold {
				assert.Empty(t, found)
				require.Len(t, r.NotJudged, 1, "what cannot be told is not passed")
				assert.Contains(t, r.NotJudged[0].Because, "cannot be told")
				return
			}
			require.NotEmpty(t, found) // each that is named is asked for below
			assert.Contains(t, strings.Join(found, "\n"), c.file)
			assert.Contains(t, strings.Join(found, "\n"), c.address)
			for _, class := range r.Snapshot.Classes {
				if class.Address == "" {
					continue
				}
				u, err := url.Parse(class.Address)
				require.NoError(t, err)
				request, err := http.NewRequest(http.MethodGet, "http://"+s.address+"/", nil)
				require.NoError(t, err)
				request.URL.Opaque, request.Host = u.EscapedPath(), u.Hostname()
				response, err := s.client.Do(request)
				require.NoError(t, err)
				body := make([]byte, 4096)
				n, _ := response.Body.Read(body)
				response.Body.Close()
				want := map[string]string{"served": s.read(t, class.Paths[0]), "run": "ran 42"}[class.Answer]
				assert.Contains(t, string(body[:n]), want[:min(len(want), 40)], class.Address)
			}
		})
	}
}
