package apache

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/source/server/ground"
)

// A generator writes configurations that Apache takes, and override files, with as many kinds of directives meeting as it can.
type generator struct {
	*rand.Rand
	g         *ground.Ground
	port      string
	tls       string // the port for encrypted connections
	b         strings.Builder
	overrides map[string]string
	encrypted bool // some host is
}

func (g *generator) one(of ...string) string { return of[g.IntN(len(of))] }
func (g *generator) chance(percent int) bool { return g.IntN(100) < percent }
func (g *generator) line(depth int, format string, args ...any) {
	fmt.Fprintf(&g.b, "%s%s\n", strings.Repeat("    ", depth), fmt.Sprintf(format, args...))
}

var headerLines = []string{`set X-Frame-Options SAMEORIGIN`, `always set X-Frame-Options DENY`, `set X-Content-Type-Options nosniff`, `always set X-Content-Type-Options nosniff`,
	`always set Strict-Transport-Security "max-age=15552000"`, `set Strict-Transport-Security max-age=300`, `append Vary Cookie`, `merge Vary Cookie`, `set Cache-Control "public"`, `append Cache-Control must-revalidate`,
	`unset X-Powered-By`, `always unset X-Powered-By`, `setifempty Referrer-Policy origin`, `always setifempty Referrer-Policy no-referrer`, `add Link "<https://lantern-lane.example/>; rel=canonical"`, `unset X-Frame-Options`, `always unset Strict-Transport-Security`, `merge Cache-Control public`, `onsuccess set Referrer-Policy same-origin`, `unset ETag`, `set Cache-Control "no-cache" "expr=%{QUERY_STRING} == 'x=1'"`}

// common writes directives that may stand in any section, and those of override files that their groups allow.
func (g *generator) common(depth int, groups string) {
	has := func(group string) bool { return strings.Contains(groups, group) }
	if has("FileInfo") {
		if g.chance(40) {
			for range 1 + g.IntN(3) {
				g.line(depth, "Header %s", g.one(headerLines...))
			}
		}
		if g.chance(12) {
			g.line(depth, "AddOutputFilterByType DEFLATE %s", g.one("text/html text/css", "text/plain application/json", "text/html", "image/png"))
		}
		if g.chance(12) {
			g.line(depth, "AddDefaultCharset %s", g.one("utf-8", "Off", "On"))
		}
		if g.chance(2) {
			g.line(depth, "Header set X-Frame-Options %s", g.one("%{LANTERN}e", "%t"))
		}
		if g.chance(10) {
			g.line(depth, "FileETag %s", g.one("None", "MTime Size", "All"))
		}
		if g.chance(20) {
			for range 1 + g.IntN(2) {
				g.line(depth, "ErrorDocument %s", g.one("404 /errors/404.html", "403 /errors/404.html", "403 \"closed\"", "404 /missing.html", "404 https://lantern-lane.example/gone", "401 /errors/50x.html", "500 /errors/50x.html", "404 /index.php", "410 /errors/404.html", "403 default", "404 /about/"))
			}
		}
		if g.chance(9) {
			g.line(depth, "%s", g.one("SetHandler \"proxy:fcgi://"+g.g.Fast+"\"", "SetHandler none", "SetHandler default-handler"))
		}
		if g.chance(8) {
			g.line(depth, "AddType %s", g.one("text/html .txt", "application/x-data .json", "text/plain .php"))
		}
		if g.chance(5) {
			g.line(depth, "AddCharset utf-8 .html")
		}
		if g.chance(6) {
			g.line(depth, "ForceType %s", g.one("text/plain", "None", "text/html"))
		}
		if g.chance(14) {
			g.line(depth, "%s", g.one("Redirect 301 /old https://lantern-lane.example/about", "Redirect /news/one.html /about/", "Redirect gone /backup.zip", "RedirectMatch 302 ^/p/(.*)$ /about/$1", "RedirectMatch 404 /\\.env", "Redirect permanent /feed.xml https://lantern-lane.example/feed", "Redirect 403 /notes.txt"))
		}
		if depth > 0 && g.chance(25) {
			g.rules(depth, true)
		}
	}
	if has("Indexes") {
		if g.chance(18) {
			g.line(depth, "ExpiresActive %s", g.one("On", "On", "Off"))
			if g.chance(60) {
				g.line(depth, "ExpiresDefault %s", g.one(`"access plus 1 week"`, "A3600", `"access plus 1 month 2 days"`))
			}
			if g.chance(50) {
				g.line(depth, "ExpiresByType %s", g.one(`text/css "access plus 1 year"`, `image/png A86400`, `text/html "access plus 0 seconds"`))
			}
		}
		if g.chance(16) {
			g.line(depth, "DirectoryIndex %s", g.one("index.html", "index.php index.html", "index.htm", "disabled", "index.html /index.php", "start.html"))
		}
		if g.chance(8) {
			g.line(depth, "FallbackResource %s", g.one("/index.php", "/index.html", "disabled", "/nothing"))
		}
		if g.chance(5) {
			g.line(depth, "DirectorySlash %s", g.one("On", "Off"))
		}
	}
	if has("Options") && g.chance(16) {
		g.line(depth, "Options %s", g.one("+Indexes", "-Indexes", "Indexes FollowSymLinks", "None", "FollowSymLinks", "All"))
	}
	if has("AuthConfig") && depth > 0 {
		if g.chance(10) {
			g.line(depth, "AuthMerging %s", g.one("And", "Or", "Off"))
		}
		if g.chance(16) {
			g.line(depth, "Require %s", g.one("all granted", "all denied", "ip 127.0.0.1", "ip 192.0.2.0/24", "local", "method GET"))
		} else if g.chance(8) {
			kind := g.one("Any", "All")
			g.line(depth, "<Require%s>\n    Require all granted\n    Require %s\n</Require%s>", kind, g.one("ip 127.0.0.1", "all denied", "ip 10.0.0.0/8"), kind)
		}
		if g.chance(9) {
			g.line(depth, "AuthType Basic\nAuthName \"Staff only\"\nAuthUserFile %s/passwords\nRequire %s", g.g.Dir, g.one("valid-user", "user mara"))
		}
	}
	if has("Limit") && g.chance(5) && depth > 0 {
		g.line(depth, "Order %s\n%s", g.one("deny,allow", "allow,deny"), g.one("Deny from all", "Allow from all", "Allow from 127.0.0.1", "Deny from 127.0"))
	}
}

// rules writes directives of rewriting.
func (g *generator) rules(depth int, folder bool) {
	slash := "/"
	if folder {
		slash = ""
	}
	if g.chance(75) {
		g.line(depth, "RewriteEngine %s", g.one("On", "On", "On", "Off"))
	}
	if folder && g.chance(25) {
		g.line(depth, "RewriteBase %s", g.one("/", "/about/"))
	}
	for range g.IntN(3) {
		for range g.IntN(3) {
			g.line(depth, "RewriteCond %s", g.one("%{REQUEST_FILENAME} !-f", "%{REQUEST_FILENAME} !-d", "%{HTTP_HOST} !^lantern-lane\\.example [NC]", "%{QUERY_STRING} x=(\\d+)", "%{REQUEST_URI} ^/old [OR]", "%{REQUEST_METHOD} =POST", "%{HTTP_COOKIE} session", "%{HTTPS} off", "%{REQUEST_URI} !\\.(png|css)$", "%{DOCUMENT_ROOT}/index.html -f", "%{TIME_HOUR} >25", "%{ENV:REDIRECT_STATUS} ^$"))
		}
		g.line(depth, "RewriteRule %s", strings.ReplaceAll(g.one("^~old/(.*)$ /about/$1 [L]", "^~p/(.*)$ /app.php?p=$1 [L,QSA]", "^~(.*)\\.jpeg$ ~uploads/$1.jpg", "^~go$ https://lantern-lane.example/gone [R=301,L]", "^ - [F]", "^~about/(.*) ~news/$1 [R]", "^~nothing$ - [G]", "^~(?!css).*\\.css$ /css/site.css [L]", "^~HOME$ ~index.html [NC,PT]", "^~(.+)$ /index.php [L]", "^~q/(.*)$ /about/?q=$1 [R=302,NE,L]", "^~data/ - [S=1]", "^~notes\\.txt$ ~about/team.html [END]", "^ /index.php [L]"), "~", slash))
	}
}

func (g *generator) sectionOf(depth int, root string) {
	switch g.IntN(8) {
	case 0, 1, 2:
		path := root + g.one("", "/about", "/uploads", "/admin", "/css", "/img", "/news", "/shop", "/data", "/uploads/deep", "/*", "/empty")
		g.line(depth, "<Directory \"%s\">", path)
		if g.chance(30) {
			g.line(depth+1, "AllowOverride %s", g.one("None", "All", "FileInfo", "AuthConfig Indexes", "Options Limit", "All"))
		}
		g.common(depth+1, "FileInfo Indexes Options AuthConfig Limit")
		if g.chance(15) {
			g.line(depth+1, "<Files \"%s\">", g.one("*.php", "index.html", "run.php"))
			g.common(depth+2, "FileInfo Indexes AuthConfig")
			g.line(depth+1, "</Files>")
		}
		if g.chance(8) {
			g.line(depth+1, "<If \"%s\">", g.one("%{REQUEST_URI} =~ m#\\.html$#", "%{HTTP_HOST} == 'lantern-lane.example'", "-n %{QUERY_STRING}", "%{REQUEST_METHOD} == 'GET' && %{HTTP_COOKIE} =~ /session/"))
			g.line(depth+2, "Header %s", g.one(headerLines...))
			g.line(depth+1, "</If>")
		}
		g.line(depth, "</Directory>")
	case 3:
		g.line(depth, "<DirectoryMatch \"%s\">", g.one("/uploads/", "/(about|news)/", "/admin"))
		g.common(depth+1, "FileInfo Indexes Options AuthConfig")
		g.line(depth, "</DirectoryMatch>")
	case 4:
		g.line(depth, "<FilesMatch \"%s\">", g.one("\\.php$", "\\.(png|css)$", "^\\.", "\\.php(\\.|$)"))
		if g.chance(60) {
			g.line(depth+1, "SetHandler \"proxy:fcgi://%s\"", g.g.Fast)
		}
		g.common(depth+1, "FileInfo Indexes AuthConfig")
		g.line(depth, "</FilesMatch>")
	case 5:
		g.line(depth, "<Files \"%s\">", g.one("*.php", "index.html", ".env", "*.zip", "site.*"))
		g.common(depth+1, "FileInfo Indexes AuthConfig")
		g.line(depth, "</Files>")
	case 6:
		g.line(depth, "<Location \"%s\">", g.one("/", "/about", "/admin/", "/uploads", "/css/*", "/old", "/index.php"))
		text := g.b.Len()
		g.common(depth+1, "FileInfo Indexes Options AuthConfig")
		g.withoutRules(text)
		g.line(depth, "</Location>")
	case 7:
		g.line(depth, "<LocationMatch \"%s\">", g.one("\\.php$", "^/(about|news)", "\\.(png|jpg)$"))
		text := g.b.Len()
		g.common(depth+1, "FileInfo Indexes AuthConfig")
		g.withoutRules(text)
		g.line(depth, "</LocationMatch>")
	}
}

// withoutRules takes rules of rewriting out of what was written since; in sections of addresses they mean nothing good.
func (g *generator) withoutRules(from int) {
	text := g.b.String()
	kept := text[:from]
	for _, line := range strings.SplitAfter(text[from:], "\n") {
		if !strings.Contains(line, "Rewrite") {
			kept += line
		}
	}
	g.b.Reset()
	g.b.WriteString(kept)
}

func (g *generator) override(groups string) string {
	kept := g.b.String()
	g.b.Reset()
	g.common(1, groups)
	if g.chance(6) {
		g.line(0, "%s", g.one("Options +Indexes", "Require all denied", "<Directory />\n</Directory>", "Header set X-Frame-Options DENY", "DirectoryIndex index.php", "php_value memory_limit 64M"))
	}
	text := g.b.String()
	g.b.Reset()
	g.b.WriteString(kept)
	return text
}

func (g *generator) hostOf(name, aliases, root string) {
	g.line(0, "<VirtualHost %s:%s>", g.one("*", "127.0.0.1"), g.port)
	g.line(1, "ServerName %s", name)
	if aliases != "" {
		g.line(1, "ServerAlias %s", aliases)
	}
	g.line(1, "DocumentRoot %s", root)
	text := g.b.Len()
	g.common(1, "FileInfo Indexes")
	g.withoutRules(text)
	if g.chance(30) {
		g.rules(1, false)
	}
	if g.chance(20) {
		g.line(1, "Alias %s", g.one("/shop/ "+g.g.Dir+"/other/about/", "/pictures "+g.g.Dir+"/site/img", "/old "+g.g.Dir+"/other"))
	}
	for range 2 + g.IntN(5) {
		g.sectionOf(1, root)
	}
	g.line(0, "</VirtualHost>")
	if g.chance(40) { // the same once more, encrypted
		text := g.b.String()
		text = text[strings.LastIndex(text, "<VirtualHost "):]
		text = strings.Replace(text, ":"+g.port+">", ":"+g.tls+">", 1)
		at := strings.IndexByte(text, '\n') + 1
		g.b.WriteString(text[:at] + fmt.Sprintf("    SSLEngine on\n    SSLCertificateFile %s/certificate.pem\n    SSLCertificateKeyFile %s/key.pem\n", g.g.Dir, g.g.Dir) + text[at:])
		g.encrypted = true
	}
}

func (g *generator) whole() string {
	g.b.Reset()
	g.overrides, g.encrypted = map[string]string{}, false
	g.line(0, "Listen 127.0.0.1:%s", g.tls)
	g.line(0, "ServerTokens %s", g.one("Prod", "OS", "Min", "Minor", "Major"))
	if g.chance(30) {
		g.line(0, "TraceEnable off")
	}
	g.line(0, "<Directory />\n    AllowOverride %s\n    Require all %s\n</Directory>", g.one("None", "None", "All"), g.one("granted", "denied"))
	g.line(0, "<Directory %s>\n    AllowOverride %s\n    Require all granted\n</Directory>", g.g.Dir, g.one("None", "All", "All", "FileInfo Indexes", "All"))
	if g.chance(60) {
		g.line(0, "<FilesMatch \"\\.php$\">\n    SetHandler \"proxy:fcgi://%s\"\n</FilesMatch>", g.g.Fast)
	}
	g.common(0, "FileInfo Indexes")
	hosts := [][2]string{{"lantern-lane.example", "www.lantern-lane.example"}, {"saltmarsh.example", "*.saltmarsh.example"}, {"hollin.example", "a?.hollin.example"}}
	for _, h := range hosts[:1+g.IntN(3)] {
		g.hostOf(h[0], h[1], g.g.Dir+"/"+g.one("site", "site", "other"))
	}
	for _, folder := range []string{"site", "site/about", "site/uploads", "site/admin", "other", "other/about", "site/css"} {
		if g.chance(35) {
			g.overrides[folder] = g.override(g.one("FileInfo Indexes AuthConfig Options", "FileInfo", "FileInfo Indexes", "AuthConfig"))
		}
	}
	return frame(g.g, g.port, g.b.String())
}

var targets = []string{"/", "/index.html", "/about/", "/about", "/about/team.html", "/news/one.html", "/news/", "/img/sign.png", "/css/site.css", "/css/small.css", "/uploads/pic.jpg", "/uploads/run.php", "/uploads/deep/run.php", "/uploads/", "/index.php", "/admin/", "/admin", "/admin/login.html", "/data/list.json", "/feed.xml", "/.env", "/backup.zip", "/empty/", "/empty", "/nothing", "/nothing.php", "/old/team.html", "/shop/", "/shop/team.html", "/notes.txt?x=1", "/?x=1", "/app.php/info", "/HOME", "/p/rope?x=1", "/q/rope?x=1", "/go", "/uploads/x.jpeg", "/about//team.html", "/about/../index.html", "/%61bout/", "/errors/404.html", "/pictures/sign.png", "/uploads/run.php.jpg", "/index.html/more"}

func (g *generator) asks() (asks []answer.Ask) {
	port, _ := strconv.Atoi(g.port)
	for range 10 {
		a := answer.Ask{Scheme: "http", Host: g.one("lantern-lane.example", "lantern-lane.example", "www.lantern-lane.example", "x.saltmarsh.example", "saltmarsh.example", "ab.hollin.example", "unknown.example"), HostPort: port, Port: port, Local: ground.Loopback, Client: ground.Loopback, Target: g.one(targets...), Header: map[string]string{}, Program: ground.Program}
		if tls, _ := strconv.Atoi(g.tls); g.encrypted && g.chance(30) {
			a.Scheme, a.Port, a.HostPort = "https", tls, tls
		}
		a.Method = g.one("GET", "GET", "GET", "GET", "GET", "HEAD", "POST", "TRACE")
		if a.Method == "TRACE" && g.chance(80) {
			a.Method = "GET"
		}
		if g.chance(60) {
			a.Header["accept-encoding"] = "gzip"
		}
		if g.chance(20) {
			a.Header["cookie"] = "session=abc"
		}
		asks = append(asks, a)
	}
	return asks
}

// TestGenerated holds what is told of generated configurations against the real server, on seeds that are always the same.
func TestGenerated(t *testing.T) {
	first, count := ground.Seeds()
	sum := generated(t, first, count)
	t.Log(sum.String())
	require.Zero(t, sum.Wrong)
	require.Less(t, sum.Share(sum.Untold), 5.0)
}

func generated(t *testing.T, first uint64, count int) (sum ground.Tally) {
	needApache(t)
	g := ground.New(t)
	require.NoError(t, os.WriteFile(g.Dir+"/mime.types", []byte(mimeTypes), 0o644))
	for seed := first; seed < first+uint64(count); seed++ {
		made := &generator{Rand: rand.New(rand.NewPCG(seed, 7)), g: g, port: freePort(t), tls: freePort(t)}
		conf := made.whole()
		for folder, text := range made.overrides {
			require.NoError(t, os.WriteFile(filepath.Join(g.Dir, folder, ".htaccess"), []byte(text), 0o644))
		}
		stop := start(t, g, conf, made.port)
		config := read(t, g, made.port)
		show := conf[strings.Index(conf, "ServerTokens"):]
		for folder, text := range made.overrides {
			show += fmt.Sprintf("%s/.htaccess:\n%s", folder, text)
		}
		sum.Ask(t, seed, made.port, made.asks(), config.Answer, show)
		stop()
		for folder := range made.overrides {
			require.NoError(t, os.Remove(filepath.Join(g.Dir, folder, ".htaccess")))
		}
	}
	return sum
}
