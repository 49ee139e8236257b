package amend

import (
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/internal/source/runtime"
	"weltaxis/internal/source/server"
)

// worldOf is a configuration in a folder, with a site beside it.
func worldOf(t *testing.T, kind, text string) (World, string) {
	t.Helper()
	dir := t.TempDir()
	for name, data := range map[string]string{"www/index.html": "x", "www/about/index.html": "x", "www/posters/a.jpg": "x", "www/posters/winter/b.jpg": "x", "www/README.txt": "Brindle 3", "server.conf": strings.ReplaceAll(text, "DIR", dir)} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(data), 0o644))
	}
	base := &url.URL{Scheme: "http", Host: "site.example", Path: "/"}
	return World{Probes: server.Probes{Inner: []string{"/about/"}}, Open: func(files server.Overlay) (*server.Source, []facts.Gap) {
		return server.Open(files, []server.Config{{Kind: kind, File: filepath.Join(dir, "server.conf")}}, base, nil)
	}}, dir
}

func at(path string) []url.URL {
	return []url.URL{{Scheme: "http", Host: "site.example", Path: path}}
}

const apacheModules = "LoadModule mpm_prefork_module m.so\nLoadModule authz_core_module m.so\nLoadModule dir_module m.so\nLoadModule autoindex_module m.so\nLoadModule headers_module m.so\n"

// A case is a configuration, what is wished of an address, and what it looks like afterwards; or why nothing is proposed.
var cases = []struct {
	name, kind, text string
	wish             facts.Wish
	at               string
	becomes          string // lines that are new, with what they take the place of before "→"
	also             []string
	refused          string
}{
	{name: "no list at any level", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n    location /x { return 204; }\n  }\n}\n",
		wish: facts.Wish{Headers: map[string]string{"X-Frame-Options": "SAMEORIGIN"}}, at: "/", becomes: "    add_header X-Frame-Options SAMEORIGIN always;"},
	{name: "after the list that counts", kind: "nginx", text: "events {}\nhttp {\n  add_header A b;\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n    location /posters/ {\n        add_header C e;\n    }\n  }\n}\n",
		wish: facts.Wish{Headers: map[string]string{"X-Content-Type-Options": "nosniff"}}, at: "/posters/a.jpg", becomes: "        add_header X-Content-Type-Options nosniff always;"},
	{name: "its own line", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n    add_header X-Frame-Options ALLOWALL; # everybody\n    add_header A b;\n  }\n}\n",
		wish: facts.Wish{Headers: map[string]string{"X-Frame-Options": "DENY"}}, at: "/about/", becomes: "    add_header X-Frame-Options DENY always; # everybody"},
	{name: "the list in a condition", kind: "nginx", text: "events {}\nhttp {\n  add_header A b;\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n    location /about/ {\n      if ($request_method = GET) {\n        add_header C e;\n      }\n    }\n  }\n}\n",
		wish: facts.Wish{Headers: map[string]string{"X-Frame-Options": "DENY"}}, at: "/about/", becomes: "        add_header X-Frame-Options DENY always;"},
	{name: "two headers at once", kind: "nginx", text: "events {}\nhttp {\n  server { listen 80; server_name site.example; root DIR/www;\n  }\n}\n",
		wish: facts.Wish{Headers: map[string]string{"X-Frame-Options": "DENY", "Referrer-Policy": "no-referrer"}}, at: "/", becomes: "add_header Referrer-Policy no-referrer always;\nadd_header X-Frame-Options DENY always;"},
	{name: "closed behind what cannot be told", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n    if ($uri ~ ^/(a|aa)+$) { return 403; } index index.html;\n  }\n}\n",
		wish: facts.Wish{Shut: &facts.Shut{Lock: true, Spares: []string{"/robots.txt"}, File: "/nowhere/passwords", Holds: "a:b\n"}}, at: "/" + strings.Repeat("a", 60) + "!", refused: "cannot be told: the expression ^/(a|aa)+$ takes too long"},
	{name: "a value in quotes", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n  }\n}\n",
		wish: facts.Wish{Headers: map[string]string{"Permissions-Policy": `camera=(), geolocation=(self "https://x.example")`}}, at: "/", becomes: `    add_header Permissions-Policy "camera=(), geolocation=(self \"https://x.example\")" always;`},
	{name: "how long files are fresh", kind: "nginx", text: "events {}\nhttp {\n  types { text/html html; text/css css; image/jpeg jpg; text/plain txt; }\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n    location /posters/ {\n        autoindex off;\n    }\n  }\n}\n",
		wish: facts.Wish{Headers: map[string]string{"Cache-Control": "public, max-age=604800"}}, at: "/posters/a.jpg", becomes: "        expires 7d;"},
	{name: "how long files are fresh, by a line that is there", kind: "nginx", text: "events {}\nhttp {\n  types { text/html html; text/css css; image/jpeg jpg; text/plain txt; }\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n    location /posters/ {\n        expires 1h;\n    }\n  }\n}\n",
		wish: facts.Wish{Headers: map[string]string{"Cache-Control": "public, max-age=5400"}}, at: "/posters/a.jpg", becomes: "        expires 5400s;"},
	{name: "how long a page is fresh follows from no file", kind: "nginx", text: "events {}\nhttp {\n  types { text/html html; text/css css; image/jpeg jpg; text/plain txt; }\n  server {\n    listen 80;\n    server_name site.example;\n    location / {\n        proxy_pass http://127.0.0.1:9;\n    }\n  }\n}\n",
		wish: facts.Wish{Headers: map[string]string{"Cache-Control": "private, no-store"}}, at: "/about/", refused: "is not known"},
	{name: "how long files are fresh, at Apache", kind: "apache", text: "Listen 80\n" + apacheModules + "ServerName site.example\nDocumentRoot DIR/www\n<Directory DIR/www>\n    Require all granted\n</Directory>\n",
		wish: facts.Wish{Headers: map[string]string{"Cache-Control": "public, max-age=604800"}}, at: "/posters/a.jpg", becomes: "    <FilesMatch \"\\.jpg$\">\n        Header set Cache-Control \"public, max-age=604800\"\n    </FilesMatch>"},
	{name: "that it is compressed is said", kind: "nginx", text: "events {}\nhttp {\n  types { text/html html; text/css css; image/jpeg jpg; text/plain txt; }\n  gzip on;\n  gzip_min_length 0;\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n  }\n}\n",
		wish: facts.Wish{Directives: map[string]string{"gzip_vary": "on"}}, at: "/about/", becomes: "  gzip_vary on;"},
	{name: "a type is compressed", kind: "nginx", text: "events {}\nhttp {\n  types { text/html html; text/css css; image/jpeg jpg; text/plain txt; }\n  gzip on;\n  gzip_vary on;\n  gzip_min_length 0;\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n  }\n}\n",
		wish: facts.Wish{Directives: map[string]string{"gzip": "on"}}, at: "/README.txt", becomes: "  gzip_types text/plain;"},
	{name: "a list is switched off", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n    location /posters/ {\n        autoindex on;\n    }\n  }\n}\n",
		wish: facts.Wish{Unlist: true}, at: "/posters/", becomes: "        autoindex off;", also: []string{"http://site.example/posters/winter/"}},
	{name: "a file is refused", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n  }\n}\n",
		wish: facts.Wish{Deny: true}, at: "/README.txt", becomes: "    location = /README.txt { deny all; }"},
	{name: "the version is left out", kind: "nginx", text: "events {}\nhttp {\n  server_tokens build;\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n  }\n}\n",
		wish: facts.Wish{Directives: map[string]string{"server_tokens": "off"}}, at: "/", becomes: "  server_tokens off;"},
	{name: "a configuration that cannot be read", kind: "nginx", text: "events {}\nhttp {\n  include nowhere.conf;\n  server { listen 80; server_name site.example; root DIR/www; }\n}\n",
		wish: facts.Wish{Headers: map[string]string{"A": "b"}}, at: "/", refused: "not all of the configuration could be read"},
	{name: "what decides is not known", kind: "nginx", text: "events {}\nhttp {\n  server { listen 80; server_name site.example; root DIR/www; auth_request /x; }\n}\n",
		wish: facts.Wish{Deny: true}, at: "/README.txt", refused: ""},
	{name: "in the host", kind: "apache", text: "Listen 80\n" + apacheModules + "<Directory DIR/www>\nRequire all granted\n</Directory>\n<VirtualHost *:80>\n    ServerName site.example\n    DocumentRoot DIR/www\n</VirtualHost>\n",
		wish: facts.Wish{Headers: map[string]string{"X-Frame-Options": "SAMEORIGIN"}}, at: "/", becomes: "    Header always set X-Frame-Options SAMEORIGIN"},
	{name: "its own line at Apache", kind: "apache", text: "Listen 80\n" + apacheModules + "ServerName site.example\nDocumentRoot DIR/www\n<Directory DIR/www>\nRequire all granted\n</Directory>\n<IfModule mod_headers.c>\n    Header set X-Frame-Options ALLOWALL\n</IfModule>\n",
		wish: facts.Wish{Headers: map[string]string{"X-Frame-Options": "DENY"}}, at: "/about/", becomes: "    Header always set X-Frame-Options DENY"},
	{name: "no list at Apache", kind: "apache", text: "Listen 80\n" + apacheModules + "ServerName site.example\nDocumentRoot DIR/www\n<Directory DIR/www>\nOptions Indexes FollowSymLinks\nRequire all granted\n</Directory>\n",
		wish: facts.Wish{Unlist: true}, at: "/posters/", becomes: "Options FollowSymLinks", also: []string{"http://site.example/posters/winter/"}},
	{name: "without the module nothing is proposed", kind: "apache", text: "Listen 80\nLoadModule authz_core_module m.so\nLoadModule dir_module m.so\nServerName site.example\nDocumentRoot DIR/www\n<Directory DIR/www>\nRequire all granted\n</Directory>\n",
		wish: facts.Wish{Headers: map[string]string{"A": "b"}}, at: "/", refused: "is not known"},
	{name: "http leads to https, for a trial", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    listen 443 ssl;\n    server_name site.example;\n    root DIR/www;\n  }\n}\n",
		wish: facts.Wish{Encrypt: true, To: "https://site.example/"}, at: "/", becomes: "    if ($scheme = http) { return 302 https://site.example$request_uri; }"},
	{name: "a host leads to the other, for a trial", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example www.site.example;\n    root DIR/www;\n  }\n}\n",
		wish: facts.Wish{Unify: true, To: "http://www.site.example/"}, at: "/", becomes: "    if ($host = site.example) { return 302 http://www.site.example$request_uri; }"},
	{name: "the trial is over", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    return 302 https://site.example$request_uri;\n  }\n  server {\n    listen 443 ssl;\n    server_name site.example;\n    root DIR/www;\n  }\n}\n",
		wish: facts.Wish{Unify: true, To: "https://site.example/"}, at: "/", becomes: "    return 301 https://site.example$request_uri;"},
	{name: "what was lost leads on", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n  }\n}\n",
		wish: facts.Wish{Lead: true, To: "/about/"}, at: "/about-us/", becomes: "    location = /about-us/ { return 302 /about/; }", also: nil},
	{name: "what was lost leads on for good, after a trial", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n    location = /about-us/ { return 302 /about/; }\n  }\n}\n",
		wish: facts.Wish{Lead: true, To: "/about/"}, at: "/about-us/", becomes: "    location = /about-us/ { return 301 /about/; }", also: nil},
	{name: "what a form posts to goes on as it is", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n  }\n}\n",
		wish: facts.Wish{Lead: true, To: "/about/", Posts: true}, at: "/about-us/", becomes: "    location = /about-us/ { return 307 /about/; }", also: nil},
	{name: "and for good", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example www.site.example;\n    root DIR/www;\n    if ($host = site.example) { return 307 http://www.site.example$request_uri; }\n  }\n}\n",
		wish: facts.Wish{Unify: true, To: "http://www.site.example/", Posts: true}, at: "/", becomes: "    if ($host = site.example) { return 308 http://www.site.example$request_uri; }"},
	{name: "and at Apache", kind: "apache", text: "Listen 80\nListen 443\nLoadModule alias_module m.so\n" + apacheModules + "<Directory DIR/www>\nRequire all granted\n</Directory>\n<VirtualHost *:80>\n    ServerName site.example\n    DocumentRoot DIR/www\n    RedirectMatch 307 \"^/about-us/$\" \"/about/\"\n</VirtualHost>\n",
		wish: facts.Wish{Lead: true, To: "/about/", Posts: true}, at: "/about-us/", becomes: "    RedirectMatch 308 \"^/about-us/$\" \"/about/\""},
	{name: "what was lost leads on at Apache", kind: "apache", text: "Listen 80\nLoadModule alias_module m.so\n" + apacheModules + "<Directory DIR/www>\nRequire all granted\n</Directory>\n<VirtualHost *:80>\n    ServerName site.example\n    DocumentRoot DIR/www\n</VirtualHost>\n",
		wish: facts.Wish{Lead: true, To: "/about/"}, at: "/about-us/", becomes: "    RedirectMatch 302 \"^/about-us/$\" \"/about/\""},
	{name: "a trial by rewrite is over", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n    rewrite ^/about-us/$ /about/ redirect;\n  }\n}\n",
		wish: facts.Wish{Lead: true, To: "/about/"}, at: "/about-us/", becomes: "    rewrite ^/about-us/$ /about/ permanent;"},
	{name: "a trial without a status is over", kind: "apache", text: "Listen 80\nLoadModule alias_module m.so\nLoadModule rewrite_module m.so\n" + apacheModules + "<Directory DIR/www>\nRequire all granted\n</Directory>\n<VirtualHost *:80>\n    ServerName site.example\n    DocumentRoot DIR/www\n    Redirect /about-us/ /about/\n</VirtualHost>\n",
		wish: facts.Wish{Lead: true, To: "/about/"}, at: "/about-us/", becomes: "    Redirect 301 /about-us/ /about/"},
	{name: "a trial by a word is over", kind: "apache", text: "Listen 80\nLoadModule alias_module m.so\nLoadModule rewrite_module m.so\n" + apacheModules + "<Directory DIR/www>\nRequire all granted\n</Directory>\n<VirtualHost *:80>\n    ServerName site.example\n    DocumentRoot DIR/www\n    RedirectTemp /about-us/ /about/\n</VirtualHost>\n",
		wish: facts.Wish{Lead: true, To: "/about/"}, at: "/about-us/", becomes: "    Redirect 301 /about-us/ /about/"},
	{name: "a trial by an expression is over", kind: "apache", text: "Listen 80\nLoadModule alias_module m.so\nLoadModule rewrite_module m.so\n" + apacheModules + "<Directory DIR/www>\nRequire all granted\n</Directory>\n<VirtualHost *:80>\n    ServerName site.example\n    DocumentRoot DIR/www\n    RedirectMatch temp ^/about-us/$ /about/\n</VirtualHost>\n",
		wish: facts.Wish{Lead: true, To: "/about/"}, at: "/about-us/", becomes: "    RedirectMatch 301 ^/about-us/$ /about/"},
	{name: "a trial by a rule is over", kind: "apache", text: "Listen 80\nLoadModule alias_module m.so\nLoadModule rewrite_module m.so\n" + apacheModules + "<Directory DIR/www>\nRequire all granted\n</Directory>\n<VirtualHost *:80>\n    ServerName site.example\n    DocumentRoot DIR/www\n    RewriteEngine On\n    RewriteRule ^/about-us/$ /about/ [R,L]\n</VirtualHost>\n",
		wish: facts.Wish{Lead: true, To: "/about/"}, at: "/about-us/", becomes: "    RewriteRule ^/about-us/$ /about/ [R=301,L]"},
	{name: "what leads to another host of that path is no trial", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n    location = /about-us/ {\n        return 302 http://other.example/about/;\n    }\n  }\n}\n",
		wish: facts.Wish{Lead: true, To: "/about/"}, at: "/about-us/", becomes: "        return 302 /about/;"},
	{name: "nor what leads further down", kind: "nginx", text: "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/www;\n    location = /about-us/ {\n        return 302 /old/about/;\n    }\n  }\n}\n",
		wish: facts.Wish{Lead: true, To: "/about/"}, at: "/about-us/", becomes: "        return 302 /about/;"},
	{name: "http leads to https at Apache", kind: "apache", text: "Listen 80\nListen 443\nLoadModule alias_module m.so\n" + apacheModules + "<Directory DIR/www>\nRequire all granted\n</Directory>\n<VirtualHost *:80>\n    ServerName site.example\n    DocumentRoot DIR/www\n</VirtualHost>\n",
		wish: facts.Wish{Encrypt: true, To: "https://site.example/"}, at: "/", becomes: "    Redirect 302 / https://site.example/"},
	{name: "a file is refused at Apache", kind: "apache", text: "Listen 80\n" + apacheModules + "<Directory DIR/www>\nRequire all granted\n</Directory>\n<VirtualHost *:80>\n    ServerName site.example\n    DocumentRoot DIR/www\n</VirtualHost>\n",
		wish: facts.Wish{Deny: true}, at: "/README.txt", becomes: "    <Directory \"DIR/www\">\n        <Files \"README.txt\">\n            Require all denied\n        </Files>\n    </Directory>"},
}

func TestAmendments(t *testing.T) {
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			w, dir := worldOf(t, c.kind, c.text)
			am, err := For(t.Context(), w, c.wish, at(c.at))
			if c.becomes == "" {
				require.Error(t, err)
				assert.ErrorContains(t, err, c.refused)
				return
			}
			require.NoError(t, err)
			require.Len(t, am.Files, 1)
			before, after := strings.Split(string(am.Files[0].Before), "\n"), strings.Split(string(am.Files[0].After), "\n")
			var added []string
			for _, line := range after {
				if i := indexOf(before, line); i >= 0 {
					before = append(before[:i:i], before[i+1:]...)
				} else {
					added = append(added, line)
				}
			}
			want := strings.ReplaceAll(c.becomes, "DIR", dir)
			assert.Equal(t, strings.TrimSpace(want), strings.TrimSpace(strings.Join(trimmedIf(added, !strings.HasPrefix(want, " ")), "\n")), string(am.Files[0].After))
			if c.also != nil {
				assert.Equal(t, c.also, am.Also)
			}
			on, err := os.ReadFile(filepath.Join(dir, "server.conf"))
			require.NoError(t, err)
			assert.Equal(t, string(am.Files[0].Before), string(on), "nothing is written")
		})
	}
}

func trimmedIf(lines []string, trim bool) []string {
	for i := range lines {
		if trim {
			lines[i] = strings.TrimSpace(lines[i])
		}
	}
	return lines
}

func indexOf(lines []string, line string) int {
	for i, l := range lines {
		if l == line {
			return i
		}
	}
	return -1
}

// runtimeCases are files for the runtime, what it is to be told, and the lines that are new.
var runtimeCases = []struct {
	name, file, text string // of which file; it is php.ini when that is empty
	folder           string
	told             map[string]string
	becomes, refused string
	also             []string
}{
	{name: "its own line, with its comment", text: "[PHP]\ndisplay_errors = On ; for today\n", folder: "/", told: map[string]string{"display_errors": "Off"}, becomes: "display_errors = Off ; for today"},
	{name: "no line yet", text: "; settings\n[PHP]\nlog_errors = On\n[PATH=/elsewhere]\nmemory_limit = 1M\n", folder: "/", told: map[string]string{"session.cookie_httponly": "1"}, becomes: "session.cookie_httponly = 1"},
	{name: "before a section for a folder", text: "[PATH=/elsewhere]\nmemory_limit = 1M\n", folder: "/", told: map[string]string{"expose_php": "Off"}, becomes: "expose_php = Off"},
	{name: "the folder's own file", file: "www/about/.user.ini", text: "display_errors=stderr\n", folder: "/about/", told: map[string]string{"display_errors": "Off"}, becomes: "display_errors=Off"},
	{name: "the pool's line", file: "php/php-fpm.conf", text: "[site]\nlisten = 9000\nphp_admin_value[memory_limit] = 1M\n", folder: "/", told: map[string]string{"memory_limit": "256M"}, becomes: "php_admin_value[memory_limit] = 256M"},
	{name: "several at once", text: "[Session]\nsession.cookie_httponly =\nsession.use_strict_mode = 0\n", folder: "/", told: map[string]string{"session.cookie_httponly": "1", "session.use_strict_mode": "1"}, becomes: "session.cookie_httponly = 1\nsession.use_strict_mode = 1"},
	{name: "a value over two lines", text: "error_log = \"a\nb\"\n", folder: "/", told: map[string]string{"error_log": "/x"}, refused: "is not changed from here"},
	{name: "a folder that nobody knows", text: "", folder: "/nowhere/", told: map[string]string{"display_errors": "Off"}, refused: "is not known"},
}

func TestRuntimeAmendments(t *testing.T) {
	for _, c := range runtimeCases {
		t.Run(c.name, func(t *testing.T) {
			w, dir := worldOf(t, "nginx", "events {}\nhttp { server { listen 80; server_name site.example; root DIR/www; location ~ \\.php$ { fastcgi_pass 127.0.0.1:9000; fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name; } } }\n")
			file := c.file
			if file == "" {
				file = "php/php.ini"
			}
			for name, text := range map[string]string{"php/php.ini": "", "php/php-fpm.conf": "[site]\nlisten = 9000\n", file: c.text} {
				if name == file {
					text = c.text
				}
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
			}
			w.Runtime = func(files server.Overlay) (*runtime.Source, []facts.Gap) {
				s := &runtime.Source{Config: runtime.Read(files, filepath.Join(dir, "php"), false)}
				for _, folder := range []string{"/", "/about/"} {
					s.Places = append(s.Places, runtime.Place{Address: folder, Script: filepath.Join(dir, "www", folder, "index.php"), Root: filepath.Join(dir, "www"), Listen: []string{"127.0.0.1:9000"}})
				}
				return s, nil
			}
			am, err := ForRuntime(t.Context(), w, facts.Wish{Directives: c.told}, c.folder)
			if c.refused != "" {
				require.ErrorContains(t, err, c.refused)
				return
			}
			require.NoError(t, err)
			require.Len(t, am.Files, 1)
			assert.Equal(t, filepath.Join(dir, file), am.Files[0].Path)
			before, after := strings.Split(string(am.Files[0].Before), "\n"), strings.Split(string(am.Files[0].After), "\n")
			var added []string
			for _, line := range after {
				if indexOf(before, line) < 0 {
					added = append(added, line)
				}
			}
			assert.Equal(t, c.becomes, strings.Join(added, "\n"))
		})
	}
}

// What is refused in a folder for uploads is whatever some server may run, by whichever of its endings.
func TestEveryProgramIsKeptFromRunning(t *testing.T) {
	refused := regexp.MustCompile("(?i)" + programs + `(\.|/|$)`)
	for _, ending := range strings.Fields(facts.ProgramEndings) {
		assert.Regexp(t, refused, "a."+ending)
		assert.Regexp(t, refused, "a."+ending+".jpg")
	}
	assert.NotRegexp(t, refused, "a.jpg")
	assert.NotRegexp(t, refused, "phps.jpg")
}
