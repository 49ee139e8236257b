package nginx

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/source/server/ground"
)

// A generator writes configurations that nginx takes, with as many kinds of directives meeting as it can.
type generator struct {
	*rand.Rand
	g    *ground.Ground
	port string
	tls  string // the port for encrypted connections
	b    strings.Builder
	used map[string]bool
}

func (g *generator) one(of ...string) string { return of[g.IntN(len(of))] }
func (g *generator) chance(percent int) bool { return g.IntN(100) < percent }

func (g *generator) line(depth int, format string, args ...any) {
	fmt.Fprintf(&g.b, "%s%s\n", strings.Repeat("    ", depth+1), fmt.Sprintf(format, args...))
}

var headerLines = []string{`X-Frame-Options SAMEORIGIN`, `X-Frame-Options DENY always`, `X-Content-Type-Options nosniff`, `X-Content-Type-Options nosniff always`,
	`Strict-Transport-Security "max-age=15552000" always`, `Strict-Transport-Security max-age=300`, `Referrer-Policy no-referrer`, `Referrer-Policy "$kind_of"`, `Cache-Control "public"`, `Link "<https://lantern-lane.example$uri>; rel=canonical"`, `Vary Cookie`}

// common writes directives that may stand at any level.
func (g *generator) common(depth int) {
	if g.chance(35) {
		seen := map[string]bool{}
		for range 1 + g.IntN(3) {
			if h := g.one(headerLines...); !seen[h] {
				seen[h] = true
				g.line(depth, "add_header %s;", h)
			}
		}
	}
	if g.chance(20) {
		g.line(depth, "expires %s;", g.one("7d", "-1", "epoch", "max", "1h", "off", "$expires_by", "30m"))
	}
	if g.chance(12) {
		g.line(depth, "etag %s;", g.one("on", "off"))
	}
	if g.chance(15) {
		g.line(depth, "charset %s;", g.one("utf-8", "off", "iso-8859-1"))
	}
	if g.chance(20) {
		g.line(depth, "gzip %s;", g.one("on", "on", "off"))
	}
	if g.chance(15) {
		g.line(depth, "gzip_types %s;", g.one("text/css application/javascript", "*", "text/plain application/json image/png", "text/xml"))
	}
	if g.chance(10) {
		g.line(depth, "gzip_min_length %s;", g.one("0", "1000", "4k"))
	}
	if g.chance(12) {
		g.line(depth, "gzip_vary %s;", g.one("on", "off"))
	}
	if g.chance(8) {
		g.line(depth, "server_tokens %s;", g.one("on", "off"))
	}
	if g.chance(8) {
		g.line(depth, "client_max_body_size %s;", g.one("2m", "64k", "0", "1g"))
	}
	if g.chance(10) {
		g.line(depth, "absolute_redirect %s;", g.one("on", "off"))
	}
	if g.chance(6) {
		g.line(depth, "port_in_redirect %s;", g.one("on", "off"))
	}
	if g.chance(15) {
		g.line(depth, "index %s;", g.one("index.html", "index.php index.html", "index.htm", "index.html /index.php", "start.html index.php"))
	}
	if g.chance(12) {
		g.line(depth, "autoindex %s;", g.one("on", "off"))
	}
	if g.chance(22) {
		for range 1 + g.IntN(2) {
			g.line(depth, "error_page %s;", g.one("404 /errors/404.html", "404 =200 /index.html", "404 = /index.php", "403 =404 /errors/404.html", "403 404 /missing.html", "500 502 503 /errors/50x.html", "404 @fallback", "403 https://lantern-lane.example/closed", "404 =301 https://lantern-lane.example/moved", "401 /errors/50x.html", "410 /errors/404.html", "301 /about/", "404 =410 @fallback"))
		}
	}
	if g.chance(5) {
		g.line(depth, "recursive_error_pages on;")
	}
	if g.chance(9) {
		g.line(depth, "deny %s;", g.one("all", "127.0.0.1", "10.0.0.0/8"))
		if g.chance(50) {
			g.line(depth, "allow all;")
		}
	}
	if g.chance(7) {
		g.line(depth, "allow %s;", g.one("127.0.0.0/8", "192.0.2.0/24"))
		g.line(depth, "deny all;")
	}
	if g.chance(9) {
		g.line(depth, "auth_basic %s;", g.one(`"The workshop"`, "off", `"Staff only"`))
		g.line(depth, "auth_basic_user_file %s/passwords;", g.g.Dir)
	}
	if g.chance(5) {
		g.line(depth, "disable_symlinks %s;", g.one("on from=$document_root", "off"))
	}
	if g.chance(8) {
		g.line(depth, "satisfy %s;", g.one("any", "all"))
	}
	if g.chance(8) {
		g.line(depth, "default_type %s;", g.one("application/octet-stream", "text/plain", "text/html"))
	}
	if g.chance(5) {
		g.line(depth, "types { text/html html htm; text/css css; image/png png; }")
	}
	if g.chance(4) {
		g.line(depth, "limit_req zone=slow burst=50 nodelay;")
	}
	if g.chance(15) {
		g.line(depth, "fastcgi_param %s;", g.one("SCRIPT_FILENAME $document_root$fastcgi_script_name", "SCRIPT_FILENAME $request_filename", "HTTPS off", "SCRIPT_NAME $fastcgi_script_name"))
	}
	if g.chance(8) {
		g.line(depth, "fastcgi_index index.php;")
	}
	if g.chance(5) {
		g.line(depth, "fastcgi_hide_header %s;", g.one("X-Powered-By", "Cache-Control"))
	}
	if g.chance(5) {
		g.line(depth, "proxy_hide_header %s;", g.one("X-Powered-By", "Cache-Control"))
	}
	if g.chance(8) {
		g.line(depth, "proxy_set_header %s;", g.one("Host $host", "X-Forwarded-Proto $scheme", "Host lantern-lane.example", "Host $http_host"))
	}
	if g.chance(2) {
		g.line(depth, "add_header X-Frame-Options $%s;", g.one("request_id", "msec", "connection"))
	}
	if g.chance(1) {
		g.line(depth, "sub_filter lantern lamp;")
	}
	if g.chance(1) {
		g.line(depth, "auth_request /about/;")
	}
}

// codes writes directives of the rewriting module.
func (g *generator) codes(depth int, server bool) {
	for range g.IntN(3) {
		switch g.IntN(9) {
		case 0:
			g.line(depth, "rewrite %s %s;", g.one("^/old/(.*)$ /about/$1", "^/(.*)/index$ /$1/", "(?i)^/HOME$ /index.html", "^/news/(?<n>.*)$ /about/$n", "^/go$ https://lantern-lane.example/gone", "^/p/(.*)$ /app.php?p=$1", "^/q/(.*)$ /app.php?q=$1?", "^/(?!css)(.*)\\.jpeg$ /uploads/$1.jpg"), g.one("", "last", "break", "redirect", "permanent"))
		case 1:
			g.line(depth, "set $kind_of %s;", g.one("no-referrer", "origin", "$arg_x", "$host"))
		case 2:
			g.line(depth, "if (%s) {", g.one("$arg_x", "$arg_x = 1", "$request_method = POST", "$request_uri ~ ^/old", "$uri ~* \\.PNG$", "!-e $request_filename", "-f $request_filename", "-d $request_filename", "$http_cookie ~ session", "$host != lantern-lane.example", "$scheme = http", "$https = on", "$scheme = http", "$far_away"))
			switch g.IntN(5) {
			case 0:
				g.line(depth+1, "return %s;", g.one("403", "404", "301 /about/", "302 https://lantern-lane.example$request_uri", "200 hello", "410", "401"))
			case 1:
				g.line(depth+1, "rewrite ^(.*)$ %s %s;", g.one("/app.php", "/index.html", "/about$1"), g.one("last", "break", "redirect"))
			case 2:
				g.line(depth+1, "set $kind_of unsafe-url;")
			case 3:
				if !server {
					g.line(depth+1, "add_header %s;", g.one(headerLines...))
				} else {
					g.line(depth+1, "set $kind_of origin;")
				}
			case 4:
				if !server {
					g.line(depth+1, "%s;", g.one("expires 1h", "gzip off", "error_page 404 /errors/404.html", "root "+g.g.Dir+"/other"))
				} else {
					g.line(depth+1, "break;")
				}
			}
			g.line(depth, "}")
		case 3:
			if !server && g.chance(40) {
				g.line(depth, "return %s;", g.one("403", "404", "204", "301 /about/", "301 https://$host$request_uri", "302 /x?y=1", "200 \"made of $uri\"", "410", "404 \"not here\"", "401", "https://lantern-lane.example/", "503", "308 /about/team.html"))
			}
		case 4:
			if g.chance(30) {
				g.line(depth, "break;")
			}
		}
	}
}

// handler writes what a location does at the end.
func (g *generator) handler(depth int, regex, named bool) {
	switch n := g.IntN(100); {
	case n < 22:
		g.line(depth, "fastcgi_pass %s;", g.g.Fast)
	case n < 32:
		uri := ""
		if !regex && !named && g.chance(40) {
			uri = g.one("/", "/inner/")
		}
		g.line(depth, "proxy_pass http://%s%s;", g.g.Proxy, uri)
	case n < 55 && !named:
		g.line(depth, "try_files %s;", g.one("$uri $uri/ =404", "$uri $uri/ /index.php?$args", "$uri @fallback", "$uri $uri/index.html /about/index.html", "$uri /missing.html", "/css/small.css =403", "$uri.html $uri =404"))
	}
}

var prefixes = []string{"/", "/about/", "/news", "/img/", "/css/", "/uploads/", "/admin/", "/admin", "/old/", "/shop/", "/errors/", "/data/", "/uploads/deep/"}
var expressions = []string{`\.php$`, `\.(png|jpg|css)$`, `^/uploads/.*\.php$`, `^/(about|news)/`, `/\.`, `\.html$`, `^/admin/(?<page>.+)$`, `^/(?!img)[a-z]+/`, `\.php(/|$)`}

func (g *generator) location(depth int, outer string, nested int) {
	sign, name := g.one("", "", "", "=", "^~", "~", "~*"), ""
	regex := strings.HasPrefix(sign, "~")
	switch {
	case regex:
		name = g.one(expressions...)
	case sign == "=":
		name = g.one("/", "/about/", "/index.html", "/index.php", "/css/site.css", "/nothing", "/uploads/run.php")
	default:
		name = g.one(prefixes...)
	}
	if outer != "" && !regex && !strings.HasPrefix(name, outer) {
		return
	}
	key := strings.TrimPrefix(sign, "^~") + " " + name
	if g.used[outer+key] || (sign == "=" && outer != "" && nested > 1) {
		return
	}
	g.used[outer+key] = true
	g.line(depth, "location %s %s {", sign, name)
	if g.chance(12) {
		g.line(depth+1, "root %s/%s;", g.g.Dir, g.one("site", "other"))
	} else if g.chance(8) && !regex && sign != "=" && strings.HasSuffix(name, "/") && name != "/" {
		g.line(depth+1, "alias %s/%s;", g.g.Dir, g.one("other/about/", "site/uploads/", "other/"))
	}
	if g.chance(5) {
		g.line(depth+1, "internal;")
	}
	g.common(depth + 1)
	g.codes(depth+1, false)
	g.handler(depth+1, regex, false)
	if nested < 2 && sign != "=" && g.chance(25) {
		inner := name
		if regex {
			inner = "~"
		}
		for range 1 + g.IntN(2) {
			if regex {
				g.nestedRegex(depth+1, nested+1)
			} else {
				g.location(depth+1, inner, nested+1)
			}
		}
	}
	g.line(depth, "}")
}

func (g *generator) nestedRegex(depth, nested int) {
	g.line(depth, "location ~ %s {", g.one(expressions...))
	g.common(depth + 1)
	g.handler(depth+1, true, false)
	g.line(depth, "}")
}

func (g *generator) server(names string, main bool) {
	g.used = map[string]bool{}
	g.line(0, "server {")
	if main {
		g.line(1, "listen 127.0.0.1:%s default_server;", g.port)
	} else {
		g.line(1, "listen 127.0.0.1:%s;", g.port)
	}
	if g.chance(60) {
		g.line(1, "listen 127.0.0.1:%s ssl;\n        ssl_certificate %s/certificate.pem;\n        ssl_certificate_key %s/key.pem;", g.tls, g.g.Dir, g.g.Dir)
		if g.chance(30) {
			g.line(1, "ssl_protocols TLSv1.2 TLSv1.3;")
		}
	}
	g.line(1, "server_name %s;", names)
	g.line(1, "root %s/%s;", g.g.Dir, g.one("site", "site", "other"))
	g.line(1, `set $kind_of "";`)
	if g.chance(50) {
		g.line(1, "include fastcgi_of_mine;")
	}
	g.common(1)
	g.codes(1, true)
	for range 3 + g.IntN(5) {
		g.location(1, "", 0)
	}
	g.line(1, "location @fallback {")
	g.common(2)
	if g.chance(40) {
		g.line(2, "return %s;", g.one("404", "200 fallen", "302 /about/", "503"))
	} else {
		g.codes(2, false)
		g.handler(2, false, true)
	}
	g.line(1, "}")
	g.line(0, "}")
}

// whole is a configuration.
func (g *generator) whole() string {
	g.b.Reset()
	g.line(0, "include mime_of_mine;")
	g.line(0, "limit_req_zone $binary_remote_addr zone=slow:1m rate=1000r/s;")
	g.line(0, "map $uri $expires_by { default off; ~^/css/ 7d; ~\\.png$ max; /index.html -1; ~*/UPLOADS/ 2h; }")
	g.line(0, "geo $far_away { default 0; 127.0.0.0/8 1; }")
	g.common(0)
	names := []string{"lantern-lane.example www.lantern-lane.example", "*.lantern-lane.example", ".saltmarsh.example", "~^(?<sub>.+)\\.hollin\\.example$", "copperbeck.*"}
	g.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
	count := 1 + g.IntN(3)
	if !strings.Contains(strings.Join(names[:count], " "), "www.") {
		names[0] = "lantern-lane.example"
	}
	main := g.IntN(count)
	for i := range count {
		g.server(names[i], i == main)
	}
	return frame(g.g, g.port, g.b.String())
}

var targets = []string{"/", "/index.html", "/about/", "/about", "/about/team.html", "/news/one.html", "/news/", "/img/sign.png", "/css/site.css", "/css/small.css", "/uploads/pic.jpg", "/uploads/run.php", "/uploads/deep/run.php", "/uploads/", "/index.php", "/admin/", "/admin", "/admin/login.html", "/data/list.json", "/feed.xml", "/.env", "/backup.zip", "/empty/", "/empty", "/nothing", "/nothing.php", "/old/team.html", "/shop/", "/notes.txt?x=1", "/?x=1", "/app.php/info", "/HOME", "/p/rope?x=1", "/q/rope?x=1", "/go", "/uploads/x.jpeg", "/about//team.html", "/about/../index.html", "/%61bout/", "/errors/404.html", "/news/one.html?x="}

func (g *generator) asks() (asks []answer.Ask) {
	port, _ := strconv.Atoi(g.port)
	for range 10 {
		a := answer.Ask{Scheme: "http", Host: g.one("lantern-lane.example", "lantern-lane.example", "www.lantern-lane.example", "x.lantern-lane.example", "saltmarsh.example", "a.hollin.example", "copperbeck.example", "unknown.example"), HostPort: port, Port: port, Local: ground.Loopback, Client: ground.Loopback, Target: g.one(targets...), Header: map[string]string{}, Program: ground.Program}
		if tls, _ := strconv.Atoi(g.tls); g.chance(25) {
			a.Scheme, a.Port, a.HostPort = "https", tls, tls
		}
		a.Method = g.one("GET", "GET", "GET", "GET", "HEAD", "POST")
		if a.Method == "POST" && g.chance(60) {
			a.Length = 70_000
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
	needNginx(t)
	g := ground.New(t)
	require.NoError(t, os.WriteFile(g.Dir+"/mime_of_mine", []byte("types { text/html html htm; text/css css; application/javascript js; image/png png; image/jpeg jpg jpeg; application/json json; text/xml xml; text/plain txt; application/zip zip; }\n"), 0o644))
	require.NoError(t, os.WriteFile(g.Dir+"/fastcgi_of_mine", []byte("fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;\nfastcgi_param REQUEST_METHOD $request_method;\nfastcgi_param QUERY_STRING $query_string;\n"), 0o644))
	for seed := first; seed < first+uint64(count); seed++ {
		made := &generator{Rand: rand.New(rand.NewPCG(seed, 7)), g: g, port: freePort(t), tls: freePort(t)}
		conf := made.whole()
		stop := start(t, g, conf, made.port)
		config := read(t, g, made.port)
		sum.Ask(t, seed, made.port, made.asks(), config.Answer, conf)
		stop()
	}
	return sum
}
