package audit_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"maps"
	"net"
	"net/http"
	"net/http/httputil"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/servertest"
	"weltaxis/internal/site"
)

// wellTold are configurations in which nothing deviates of what a visitor gets. The ports are changed where the real server listens.
var wellTold = map[string]string{
	"nginx": `daemon off; user root; pid DIR/pid; worker_processes 1; error_log DIR/log; events {}
http {
access_log off; client_body_temp_path DIR/a; proxy_temp_path DIR/b; fastcgi_temp_path DIR/c; uwsgi_temp_path DIR/d; scgi_temp_path DIR/e;
types { text/html html; text/css css; image/jpeg jpg; text/plain txt; }
gzip on; gzip_min_length 20; gzip_types text/css; gzip_vary on;
server_tokens off;
ssl_certificate DIR/cert.pem; ssl_certificate_key DIR/cert.key;
ssl_protocols TLSv1.2 TLSv1.3;
server {
    listen 80; server_name site.example www.site.example;
    location / { return 301 https://site.example$request_uri; }
}
server {
    listen 443 ssl; server_name www.site.example;
    return 301 https://site.example$request_uri;
}
server {
    listen 443 ssl; server_name site.example; root DIR/www; index index.html;
    add_header Strict-Transport-Security "max-age=31536000" always;
    add_header X-Frame-Options DENY always;
    add_header X-Content-Type-Options nosniff always;
    add_header Referrer-Policy same-origin always;
    add_header Permissions-Policy "camera=()" always;
    add_header Content-Security-Policy "default-src 'self'; object-src 'none'; base-uri 'self'" always;
    location /shop/ { expires 1h; }
    location ~ /\. { deny all; }
    location ~ \.(sql|bak)$ { return 404; }
}
}
`,
	"apache": `ServerRoot DIR
PidFile DIR/pid
ErrorLog DIR/log
Mutex file:DIR default
StartServers 1
USER
LoadModule mpm_prefork_module MODULES/mod_mpm_prefork.so
LoadModule authz_core_module MODULES/mod_authz_core.so
LoadModule authn_core_module MODULES/mod_authn_core.so
LoadModule authn_file_module MODULES/mod_authn_file.so
LoadModule authz_user_module MODULES/mod_authz_user.so
LoadModule auth_basic_module MODULES/mod_auth_basic.so
LoadModule alias_module MODULES/mod_alias.so
LoadModule dir_module MODULES/mod_dir.so
LoadModule mime_module MODULES/mod_mime.so
LoadModule autoindex_module MODULES/mod_autoindex.so
LoadModule headers_module MODULES/mod_headers.so
LoadModule rewrite_module MODULES/mod_rewrite.so
LoadModule filter_module MODULES/mod_filter.so
LoadModule deflate_module MODULES/mod_deflate.so
LoadModule ssl_module MODULES/mod_ssl.so
TypesConfig DIR/mime.types
ServerName site.example
ServerTokens Prod
DirectoryIndex index.html
AddOutputFilterByType DEFLATE text/html text/css
Listen 80
Listen 443
SSLCertificateFile DIR/cert.pem
SSLCertificateKeyFile DIR/cert.key
SSLProtocol -all +TLSv1.2 +TLSv1.3
<Directory DIR/www>
Require all granted
</Directory>
<VirtualHost *:80>
ServerName site.example
ServerAlias www.site.example
Redirect permanent / https://site.example/
</VirtualHost>
<VirtualHost *:443>
ServerName www.site.example
SSLEngine on
Redirect permanent / https://site.example/
</VirtualHost>
<VirtualHost *:443>
ServerName site.example
SSLEngine on
DocumentRoot DIR/www
Header always set Strict-Transport-Security "max-age=31536000"
Header always set X-Frame-Options DENY
Header always set X-Content-Type-Options nosniff
Header always set Referrer-Policy same-origin
Header always set Permissions-Policy "camera=()"
Header always set Content-Security-Policy "default-src 'self'; object-src 'none'; base-uri 'self'"
<FilesMatch "^\.|\.(sql|bak)$">
Require all denied
</FilesMatch>
<DirectoryMatch "/\.">
Require all denied
</DirectoryMatch>
</VirtualHost>
`}

const (
	dotsNginx  = `    location ~ /\. { deny all; }`
	dotsApache = "<DirectoryMatch \"/\\.\">\nRequire all denied\n</DirectoryMatch>\n"
	home       = "https://site.example/"
)

// configured are one edit each: what deviates by it, and what the real server answers then at an address, whose status, headers and text fit an expression.
// A rule may have others beside it that follow from the same edit. "" is harmless.
var configured = []struct {
	name, kind, old, new string
	files                map[string]string
	rules, says          string
	ask, want            string
}{
	{name: "well told", kind: "nginx", ask: home, want: "(?s)200 OK.*Strict-Transport-Security: max-age=31536000"},
	{name: "no HSTS", kind: "nginx", old: `    add_header Strict-Transport-Security "max-age=31536000" always;` + "\n", rules: "hardening.hsts", says: "As configured, nothing tells browsers", ask: home, want: "!Strict-Transport"},
	{name: "HSTS for a minute", kind: "nginx", old: "max-age=31536000", new: "max-age=60", rules: "hardening.hsts", says: "for 60 seconds only", ask: home, want: "max-age=60\r"},
	{name: "HSTS that counts for nothing", kind: "nginx", old: "max-age=31536000", new: "maxage=31536000", rules: "hardening.hsts", says: "counts for nothing: maxage=31536000", ask: home, want: "maxage=31536000"},
	{name: "HSTS of none", kind: "nginx", old: "max-age=31536000", new: "max-age=0", rules: "hardening.hsts", says: "for 0 seconds only", ask: home, want: "max-age=0\r"},
	{name: "HSTS with more words", kind: "nginx", old: "max-age=31536000", new: "max-age=63072000; includeSubDomains; preload", ask: home, want: "preload"},
	{name: "all headers lost at one place", kind: "nginx", old: "expires 1h;", new: "add_header X-Shop yes;", rules: "hardening.hsts hardening.nosniff", says: "/shop/", ask: home + "shop/", want: "!Strict-Transport"},
	{name: "all headers said again at a place", kind: "nginx", old: "expires 1h;", new: `expires 1h; add_header X-Shop yes; add_header Strict-Transport-Security "max-age=31536000" always; add_header X-Frame-Options DENY; add_header X-Content-Type-Options nosniff; add_header Referrer-Policy same-origin;`, ask: home + "shop/", want: "Strict-Transport"},
	{name: "frames by whom everybody may be", kind: "nginx", old: "X-Frame-Options DENY", new: `X-Frame-Options "ALLOW-FROM https://other.example"`, rules: "hardening.framing", says: "limits nobody", ask: home, want: "ALLOW-FROM"},
	{name: "frames by the policy alone", kind: "nginx", old: "X-Frame-Options DENY always;\n", new: "X-A b;\n add_header Content-Security-Policy \"frame-ancestors 'none'\" always;\n", ask: home, want: "frame-ancestors 'none'"},
	{name: "frames that the policy opens", kind: "nginx", old: "object-src 'none';", new: "object-src 'none'; frame-ancestors *;", rules: "hardening.framing", says: "limits nobody", ask: home, want: `frame-ancestors \*`},
	{name: "types that are guessed", kind: "nginx", old: "nosniff", new: "sniff", rules: "hardening.nosniff", says: "X-Content-Type-Options: sniff", ask: home, want: "Options: sniff"},
	{name: "referrers in full", kind: "nginx", old: "same-origin always", new: "unsafe-url always", rules: "hardening.referrer", says: "unsafe-url", ask: home, want: "unsafe-url"},
	{name: "no features limited", kind: "nginx", old: `"camera=()"`, new: `"camera=*"`, rules: "hardening.permissions-policy", says: "limits nobody", ask: home, want: `camera=\*`},
	{name: "a policy that lets everything run", kind: "nginx", old: "default-src 'self'", new: "default-src *", rules: "hardening.content-policy", says: "lets run", ask: home, want: `default-src \*`},
	{name: "the plain host serves", kind: "nginx", old: "location / { return 301 https://site.example$request_uri; }", new: "root DIR/www; index index.html;", rules: "hardening.https visibility.one-host", says: "http://site.example", ask: "http://site.example/", want: "200 OK"},
	{name: "the plain host is gone", kind: "nginx", old: "    listen 80; server_name site.example www.site.example;\n", new: "    listen 8080; server_name other.example;\n"},
	{name: "one folder stays plain", kind: "nginx", old: "location / { return", new: "location /shop/ { root DIR/www; }\n location / { return", rules: "hardening.https", says: "http://site.example/shop/", ask: "http://site.example/shop/index.html", want: "(?s)200 OK.*the shop"},
	{name: "pictures stay plain", kind: "nginx", old: "location / { return", new: `location ~* \.jpe?g$ { root DIR/www; }` + "\n location / { return", rules: "hardening.https", says: "http://site.example/made-up.jp", ask: "http://site.example/a.jpg", want: "200 OK"},
	{name: "challenges of certificates stay plain", kind: "nginx", old: "location / { return", new: "location /.well-known/acme-challenge/ { root DIR/www; }\n location / { return", ask: "http://site.example/x", want: "301"},
	{name: "a plain place for the machine itself", kind: "nginx", old: "location / { return", new: "location /status { allow 127.0.0.2; deny all; root DIR/www; }\n location / { return", ask: "http://site.example/status", want: "403"},
	{name: "a plain answer for whoever watches", kind: "nginx", old: "location / { return", new: "location = /healthy { return 200 ok; }\n location / { return", ask: "http://site.example/healthy", want: "200 OK"},
	{name: "leading for a trial", kind: "nginx", old: "location / { return 301", new: "location / { return 302", rules: "visibility.one-host", says: "not for good", ask: "http://site.example/", want: "302"},
	{name: "leading by 308", kind: "nginx", old: "location / { return 301", new: "location / { return 308", ask: "http://site.example/", want: "308"},
	{name: "www by itself", kind: "nginx", old: "server_name www.site.example;\n    return 301 https://site.example$request_uri;", new: "server_name www.site.example; root DIR/www; index index.html;", rules: "visibility.one-host", says: "https://www.site.example/ answers by itself", ask: "https://www.site.example/", want: "200 OK"},
	{name: "www leads home from everywhere", kind: "nginx", old: "server_name www.site.example;\n    return 301 https://site.example$request_uri;", new: "server_name www.site.example;\n    return 301 https://site.example/;", rules: "visibility.one-host", says: "leads to https://site.example/ in 1 step, and not to the same page", ask: "https://www.site.example/shop/", want: "Location: https://site.example/\r"},
	{name: "www by its own encryption first", kind: "nginx", old: "return 301 https://site.example$request_uri; }", new: "return 301 https://$host$request_uri; }", ask: "http://www.site.example/x", want: "Location: https://www.site.example/x\r"},
	{name: "www shows another's certificate", kind: "nginx", old: "www.site.example;\n    return 301 https://site.example$request_uri;", new: "www.site.example; ssl_certificate DIR/other.pem; ssl_certificate_key DIR/other.key;\n    return 301 https://site.example$request_uri;", rules: "aliases.certified", says: "that www.site.example shows is for other names", ask: "https://www.site.example/x", want: "301"},
	{name: "the site shows another's certificate", kind: "nginx", old: "server_name site.example; root", new: "server_name site.example; ssl_certificate DIR/other.pem; ssl_certificate_key DIR/other.key; root", rules: "hardening.certificate", says: "the certificate that the site shows is for other names", ask: home, want: "200 OK"},
	{name: "another host rejects who comes encrypted", kind: "nginx", old: "server {\n    listen 80;", new: "server { listen 443 ssl default_server; server_name _; ssl_reject_handshake on; }\nserver {\n    listen 80;", ask: home, want: "200 OK"},
	{name: "several sites of one program", kind: "nginx", old: "location /shop/ { expires 1h; }", new: "location / { fastcgi_pass unix:/run/made-up.sock; fastcgi_param SCRIPT_FILENAME DIR/www/index.php; }\n}\nserver { listen 443 ssl; server_name other-site.example; root DIR/www; index index.html;\nlocation / { fastcgi_pass unix:/run/made-up.sock; fastcgi_param SCRIPT_FILENAME DIR/www/index.php; }"},
	{name: "a short name for one page", kind: "nginx", old: "    return 301 https://site.example$request_uri;\n}\n", new: "    return 301 https://site.example$request_uri;\n}\nserver { listen 80; server_name spring-sale.example; return 301 https://site.example/shop/; }\n", ask: "http://spring-sale.example/x", want: "Location: https://site.example/shop/\r"},
	{name: "one certificate for many names", kind: "nginx", old: "cert.pem; ssl_certificate_key DIR/cert.key", new: "many.pem; ssl_certificate_key DIR/many.key", ask: "https://www.site.example/x", want: "301"},
	{name: "a third name by the wrong certificate", kind: "nginx", old: "listen 443 ssl; server_name www.site.example;", new: "listen 443 ssl; server_name www.site.example old-site.example;", rules: "aliases.certified", says: "old-site.example shows is for other names", ask: "https://old-site.example/x", want: "Location: https://site.example/x\r"},
	{name: "a third name that leads home", kind: "nginx", old: "    return 301 https://site.example$request_uri;\n}\n", new: "    return 301 https://site.example$request_uri;\n}\nserver { listen 80; server_name old-site.example; return 301 https://site.example/; }\n", rules: "visibility.one-host", says: "http://old-site.example/made-up-page/ leads to https://site.example/ in 1 step, and not to the same page", ask: "http://old-site.example/x", want: "Location: https://site.example/\r"},
	{name: "another site's host", kind: "nginx", old: "    return 301 https://site.example$request_uri;\n}\n", new: "    return 301 https://site.example$request_uri;\n}\nserver { listen 443 ssl; server_name shop.example; root DIR/shop; }\nserver { listen 80; server_name lost.example; return 301 https://elsewhere.example/; }\n", ask: "http://lost.example/x", want: "Location: https://elsewhere.example/"},
	{name: "TLS of old", kind: "nginx", old: "TLSv1.2 TLSv1.3", new: "TLSv1 TLSv1.1 TLSv1.2", rules: "hardening.tls", says: "TLSv1 and TLSv1.1"},
	{name: "versions told", kind: "nginx", old: "Referrer-Policy same-origin always;\n", new: "Referrer-Policy same-origin always; add_header X-Powered-By Brindle/3.4.2;\n", rules: "hardening.versions-hidden", says: "X-Powered-By: Brindle/3.4.2", ask: home, want: "Brindle/3.4.2"},
	{name: "hidden by a header", kind: "nginx", old: "Referrer-Policy same-origin always;\n", new: "Referrer-Policy same-origin always; add_header X-Robots-Tag \"noindex, nofollow\";\n", rules: "visibility.index-live", says: "by a header: noindex, nofollow", ask: home, want: "noindex"},
	{name: "pictures kept small by a header", kind: "nginx", old: "Referrer-Policy same-origin always;\n", new: "Referrer-Policy same-origin always; add_header X-Robots-Tag \"max-image-preview:none\";\n", ask: home, want: "max-image-preview"},
	{name: "nothing compressed", kind: "nginx", old: "gzip on;", new: "gzip off;", rules: "delivery.compression", says: "/ comes as it is", ask: home, want: "!Content-Encoding"},
	{name: "compressed and not said", kind: "nginx", old: "gzip_vary on;", rules: "caching.vary caching.vary-assets", says: "does not say so", ask: home, want: "!Vary"},
	{name: "what tools keep", kind: "nginx", old: dotsNginx, files: map[string]string{"www/.git/config": "[core]\n"}, rules: "hardening.nothing-leaks", says: "/.git/config", ask: home + ".git/config", want: "core"},
	{name: "what tools keep, refused", kind: "nginx", files: map[string]string{"www/.git/config": "[core]\n"}, ask: home + ".git/config", want: "403"},
	{name: "a dump", kind: "nginx", old: `(sql|bak)`, new: `(bak)`, files: map[string]string{"www/files/members.sql": "INSERT INTO members"}, rules: "hardening.nothing-leaks", says: "/files/members.sql", ask: home + "files/members.sql", want: "INSERT"},
	{name: "a dump, refused", kind: "nginx", files: map[string]string{"www/files/members.sql": "INSERT INTO members"}, ask: home + "files/members.sql", want: "404"},
	{name: "everybody is turned away", kind: "nginx", old: "root DIR/www; index index.html;\n    add", new: "root DIR/www; index index.html; deny all;\n    add", rules: "visibility.answers", says: "answers 403", ask: home, want: "403"},
	{name: "a folder is listed", kind: "nginx", old: "expires 1h;", new: "expires 1h; autoindex on;", files: map[string]string{"www/shop/old/a.txt": "a"}, rules: "hardening.listing-off", says: "/shop/old/", ask: home + "shop/old/", want: "a.txt"},

	{name: "well told", kind: "apache", ask: home, want: "(?s)200 OK.*Strict-Transport-Security: max-age=31536000"},
	{name: "no HSTS", kind: "apache", old: "Header always set Strict-Transport-Security \"max-age=31536000\"\n", rules: "hardening.hsts", says: "nothing tells browsers", ask: home, want: "!Strict-Transport"},
	{name: "HSTS taken away at one place", kind: "apache", old: "<DirectoryMatch", new: "<Location /shop/>\nHeader always unset Strict-Transport-Security\n</Location>\n<DirectoryMatch", rules: "hardening.hsts", says: "/shop/", ask: home + "shop/", want: "!Strict-Transport"},
	{name: "HSTS for a day", kind: "apache", old: "max-age=31536000", new: "max-age=86400", rules: "hardening.hsts", says: "86400 seconds only", ask: home, want: "86400"},
	{name: "frames for everybody", kind: "apache", old: "Header always set X-Frame-Options DENY\n", new: "Header always set X-Frame-Options ALLOWALL\n", rules: "hardening.framing", says: "limits nobody", ask: home, want: "ALLOWALL"},
	{name: "types that are guessed", kind: "apache", old: "Header always set X-Content-Type-Options nosniff\n", rules: "hardening.nosniff", says: "something else", ask: home, want: "!nosniff"},
	{name: "the plain host serves", kind: "apache", old: "ServerAlias www.site.example\nRedirect permanent / https://site.example/", new: "ServerAlias www.site.example\nDocumentRoot DIR/www", rules: "hardening.https visibility.one-host", says: "http://site.example", ask: "http://site.example/", want: "200 OK"},
	{name: "one folder stays plain", kind: "apache", old: "ServerAlias www.site.example\nRedirect permanent / https://site.example/", new: "ServerAlias www.site.example\nDocumentRoot DIR/www\nRedirectMatch permanent ^/(?!shop/)(.*) https://site.example/$1\n<Location /shop/>\n</Location>", rules: "hardening.https", says: "/shop/", ask: "http://site.example/shop/index.html", want: "the shop"},
	{name: "leading by a rewrite", kind: "apache", old: "ServerAlias www.site.example\nRedirect permanent / https://site.example/", new: "ServerAlias www.site.example\nDocumentRoot DIR/www\nRewriteEngine On\nRewriteRule ^/(.*)$ https://site.example/$1 [R=301,L]", ask: "http://site.example/shop/", want: "Location: https://site.example/shop/\r"},
	{name: "leading by a rewrite for a trial", kind: "apache", old: "ServerAlias www.site.example\nRedirect permanent / https://site.example/", new: "ServerAlias www.site.example\nDocumentRoot DIR/www\nRewriteEngine On\nRewriteRule ^/(.*)$ https://site.example/$1 [R,L]", rules: "visibility.one-host", says: "not for good", ask: "http://site.example/shop/", want: "302"},
	{name: "www by itself", kind: "apache", old: "SSLEngine on\nRedirect permanent / https://site.example/", new: "SSLEngine on\nDocumentRoot DIR/www", rules: "visibility.one-host", says: "https://www.site.example/", ask: "https://www.site.example/", want: "200 OK"},
	{name: "www shows another's certificate", kind: "apache", old: "SSLEngine on\nRedirect", new: "SSLEngine on\nSSLCertificateFile DIR/other.pem\nSSLCertificateKeyFile DIR/other.key\nRedirect", rules: "aliases.certified", says: "that www.site.example shows is for other names", ask: "https://www.site.example/x", want: "301"},
	{name: "the site shows another's certificate", kind: "apache", old: "ServerName site.example\nSSLEngine on", new: "ServerName site.example\nSSLEngine on\nSSLCertificateFile DIR/other.pem\nSSLCertificateKeyFile DIR/other.key", rules: "hardening.certificate", says: "for other names", ask: home, want: "200 OK"},
	{name: "one certificate for many names", kind: "apache", old: "DIR/cert.pem\nSSLCertificateKeyFile DIR/cert.key", new: "DIR/many.pem\nSSLCertificateKeyFile DIR/many.key", ask: "https://www.site.example/x", want: "301"},
	{name: "a third name that serves", kind: "apache", old: "ServerName site.example\nSSLEngine on", new: "ServerName site.example\nServerAlias *.old.example shop.old.example\nSSLEngine on", rules: "visibility.one-host aliases.certified", says: "https://shop.old.example/ answers by itself", ask: "https://shop.old.example/", want: "200 OK"},
	{name: "TLS of old", kind: "apache", old: "-all +TLSv1.2 +TLSv1.3", new: "-all +TLSv1.1 +TLSv1.2", rules: "hardening.tls", says: "TLSv1.1"},
	{name: "hidden by a header", kind: "apache", old: "Header always set Referrer", new: "Header set X-Robots-Tag none\nHeader always set Referrer", rules: "visibility.index-live", says: "none", ask: home, want: "X-Robots-Tag: none"},
	{name: "what tools keep", kind: "apache", old: dotsApache, files: map[string]string{"www/.git/config": "[core]\n"}, rules: "hardening.nothing-leaks", says: "/.git/config", ask: home + ".git/config", want: "core"},
	{name: "what tools keep, refused", kind: "apache", files: map[string]string{"www/.git/config": "[core]\n"}, ask: home + ".git/config", want: "403"},
	{name: "nothing compressed", kind: "apache", old: "AddOutputFilterByType DEFLATE text/html text/css\n", rules: "delivery.compression", says: "comes as it is", ask: home, want: "!Content-Encoding"},
	{name: "everybody is turned away", kind: "apache", old: "<Directory DIR/www>\nRequire all granted", new: "<Directory DIR/www>\nRequire all denied", rules: "visibility.answers", says: "answers 403", ask: home, want: "403"},
}

// TestWhatAVisitorGetsIsJudgedByTheConfiguration where nobody asks the site, and the real servers answer so.
func TestWhatAVisitorGetsIsJudgedByTheConfiguration(t *testing.T) {
	t.Parallel()
	before := map[string][]string{}
	for _, c := range configured {
		if c.name == "well told" {
			before[c.kind], _ = judgedByConfiguration(t, c.kind, wellTold[c.kind], nil)
			for _, line := range before[c.kind] {
				assert.NotContains(t, line, "As configured", "nothing is wrong yet")
			}
		}
	}
	for _, c := range configured {
		t.Run(c.kind+" "+c.name, func(t *testing.T) {
			t.Parallel()
			require.Contains(t, wellTold[c.kind], c.old)
			text := strings.Replace(wellTold[c.kind], c.old, c.new, 1)
			found, dir := judgedByConfiguration(t, c.kind, text, c.files)
			fresh := slices.DeleteFunc(found, func(line string) bool { return slices.Contains(before[c.kind], line) })
			var rules []string
			for _, line := range fresh {
				if rule, _, _ := strings.Cut(line, ": "); !slices.Contains(rules, rule) {
					rules = append(rules, rule)
				}
			}
			assert.ElementsMatch(t, strings.Fields(c.rules), rules, "%v", fresh)
			assert.Contains(t, strings.Join(fresh, "\n"), c.says)
			if c.ask != "" {
				proven(t, c.kind, dir, text, c.ask, c.want)
			}
		})
	}
}

// planted is a folder with a site that is well told, further files, and certificates.
func planted(t *testing.T, files map[string]string) (dir string) {
	t.Helper()
	dir = servertest.Public(t)
	page := "<!doctype html><html lang=en><title>Site</title><p>" + strings.Repeat("the shop of the site ", 100)
	all := map[string]string{"www/index.html": page, "www/shop/index.html": page, "www/a.jpg": "\xff\xd8\xff", "www/robots.txt": "User-agent: *\nDisallow:\n", "mime.types": "text/html html\ntext/css css\nimage/jpeg jpg\ntext/plain txt\n"}
	maps.Copy(all, files)
	for name, text := range all {
		file := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	servertest.Certificate(t, dir, "cert", "site.example", "www.site.example")
	servertest.Certificate(t, dir, "other", "other.example", "*.site.example.other.example")
	servertest.Certificate(t, dir, "many", "site.example", "*.site.example")
	return dir
}

// placed is a configuration with its folder, and whom the server does its work as, filled in.
func placed(text, dir string) string {
	user := ""
	if os.Getuid() == 0 {
		user = "User www-data\nGroup www-data"
	}
	return strings.NewReplacer("DIR", dir, "USER", user, "MODULES", "/usr/lib/apache2/modules").Replace(text)
}

// judgedByConfiguration are the deviations of a site that nobody asks, and its folder.
func judgedByConfiguration(t *testing.T, kind, text string, files map[string]string) (found []string, dir string) {
	t.Helper()
	dir = planted(t, files)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "server.conf"), []byte(placed(text, dir)), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "weltaxis.yaml"), []byte("site: Site\nintent: {address: \"https://site.example\", stage: live, audience: public, purpose: brochure, brand: Site}\nsources:\n  server: {"+kind+": server.conf}\n"), 0o600))
	loaded, err := site.Load(filepath.Join(dir, "weltaxis.yaml"))
	require.NoError(t, err)
	r, err := audit.Run(t.Context(), loaded, time.Now(), audit.Options{Tool: "test"})
	require.NoError(t, err)
	assert.False(t, r.Partial(), "all that was asked for was seen: %v", r.Gaps)
	for _, d := range r.Deviations {
		if d.AsConfigured {
			assert.NotContains(t, strings.Join(append(d.Fix.Steps, d.Says, d.Expected), " "), "unknown", d.Rule)
			assert.NotEmpty(t, append(d.Fix.Steps, "")[0], d.Rule)
		}
		found = append(found, d.Rule+": "+d.Says)
	}
	return found, dir
}

// proven asks the real server.
func proven(t *testing.T, kind, dir, text, ask, want string) {
	t.Helper()
	plain, encrypted := servertest.FreeAddress(t), servertest.FreeAddress(t)
	port := func(address string) string { return address[strings.LastIndexByte(address, ':')+1:] }
	text = strings.NewReplacer("listen 80;", "listen "+plain+";", "listen 443 ssl", "listen "+encrypted+" ssl", "Listen 80", "Listen "+plain, "Listen 443", "Listen "+encrypted, "*:80>", "*:"+port(plain)+">", "*:443>", "*:"+port(encrypted)+">").Replace(placed(text, dir))
	file := filepath.Join(dir, "real.conf")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	command := exec.Command(servertest.Program(t, map[string]string{"nginx": "nginx", "apache": "apache2"}[kind]), "-p", dir, "-c", file, "-e", filepath.Join(dir, "log"))
	if kind == "apache" {
		command = exec.Command(command.Path, "-DFOREGROUND", "-f", file)
	}
	servertest.Begin(t, encrypted, command)
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, Transport: &http.Transport{DisableKeepAlives: true, DisableCompression: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			to := plain
			if strings.HasSuffix(address, ":443") {
				to = encrypted
			}
			return (&net.Dialer{}).DialContext(ctx, network, to)
		}}}
	request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, ask, nil)
	require.NoError(t, err)
	if strings.Contains(want, "Encoding") || strings.Contains(want, "Vary") {
		request.Header.Set("Accept-Encoding", "gzip")
	}
	response, err := client.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	dump, err := httputil.DumpResponse(response, response.Header.Get("Content-Encoding") == "")
	require.NoError(t, err)
	dump = bytes.ToValidUTF8(dump, nil)
	if not, is := strings.CutPrefix(want, "!"); is {
		assert.NotRegexp(t, regexp.MustCompile(not), string(dump))
		return
	}
	assert.Regexp(t, regexp.MustCompile(want), string(dump))
}
