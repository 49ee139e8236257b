package trial

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/servertest"
	"weltaxis/internal/source/server"
)

// A bench is a configuration in a folder of its own, with the files that it is made of.
type bench struct {
	*testing.T
	dir  string
	main server.Config
}

func newBench(t *testing.T, kind string, files map[string]string) bench {
	t.Helper()
	b := bench{t, t.TempDir(), server.Config{}}
	require.NoError(t, os.Chmod(b.dir, 0o755))
	for name, text := range files {
		b.write(name, text)
	}
	b.main = server.Config{Kind: kind, File: b.at("server.conf")}
	return b
}

func (b bench) at(name string) string { return filepath.Join(b.dir, name) }

func (b bench) write(name, text string) {
	b.Helper()
	require.NoError(b, os.MkdirAll(filepath.Dir(b.at(name)), 0o755))
	require.NoError(b, os.WriteFile(b.at(name), []byte(strings.ReplaceAll(text, "DIR", b.dir)), 0o644))
}

func (b bench) court() Court {
	return Court{Open: func(files server.Overlay) (*server.Source, []facts.Gap) {
		return server.Open(files, []server.Config{b.main}, nil, nil)
	}}
}

// try tries a file with another text.
func (b bench) try(name, text string) Verdict {
	b.Helper()
	return b.court().Try(b.Context(), map[string][]byte{b.at(name): []byte(strings.ReplaceAll(text, "DIR", b.dir))})
}

const manyThings = `user nobody;
error_log /nowhere/at/all/log;
pid /nowhere/pid;
lock_file /nowhere/lock;
events {}
http {
  include types.conf;
  map $uri $kind { default a; ~^/x\.y b; "with space" c; }
  access_log /nowhere/access.log;
  access_log syslog:server=log.lanternlane.example;
  fastcgi_cache_path /nowhere/cache levels=1:2 keys_zone=z:1m;
  client_body_temp_path /nowhere/body;
  resolver dns.lanternlane.example 127.0.0.1 valid=30s;
  upstream behind { server app.lanternlane.example:9000; server unix:/nowhere/app.sock; }
  include sites/*.conf;
}
`

const manySites = `server {
  listen 80; listen [::]:80; listen 443 ssl; listen 192.0.2.7:8080; listen localhost:8081; listen unix:/nowhere/door;
  server_name www.lanternlane.example;
  ssl_certificate own/cert.pem; ssl_certificate_key own/key.pem;
  ssl_trusted_certificate own/cert.pem;
  ssl_dhparam own/cert.pem;
  set_real_ip_from proxy.lanternlane.example;
  add_header X "a \"b\" c;d" always;
  location ~* ^/(a|b)\.(php|phtml)$ { if ($request_method = POST) { return 405; } if (-f $document_root/x) { set $y "z"; } return 204; }
  location = / { access_log off; return 200 "it's"; }
  location /one { proxy_pass http://app.lanternlane.example:8000/x; }
  location /two { proxy_pass http://behind; }
  location /three { fastcgi_pass app.lanternlane.example:9000; fastcgi_param DB_PASSWORD "not shown"; }
  location /four { proxy_pass http://$host; resolver 127.0.0.1; }
}
`

// A whole configuration of nginx becomes one that the server itself takes, though it listens where it wants, writes where nobody may and
// names hosts that nobody knows; a line of it is known by where it stands; what was replaced, and what was not tested, is said.
func TestNginxTriesACopy(t *testing.T) {
	servertest.Program(t, "nginx")
	certificate, key, err := makePair()
	require.NoError(t, err)
	b := newBench(t, server.Nginx, map[string]string{"server.conf": manyThings, "types.conf": "types { text/html html; }\n", "sites/a.conf": manySites, "own/cert.pem": string(certificate), "own/key.pem": string(key)})
	require.NoError(t, os.Chmod(b.at("own"), 0o700), "only its owner reads keys")
	v := b.try("sites/a.conf", manySites)
	require.True(t, v.passed(), "%s%s", v.Says, v.Untested)
	assert.ElementsMatch(t, []string{ownFiles, ownHost, ownPair, ownDoors}, v.Replaced)
	assert.Contains(t, strings.Join(v.Left, "; "), "ssl_dhparam ("+b.at("sites/a.conf")+":6) but for its being there")
	for _, c := range []struct{ name, from, to, says string }{
		{"a code that is none", "return 204;", "return perhaps;", `invalid return code "perhaps" in ` + b.at("sites/a.conf") + ":9"},
		{"a misspelt directive", "add_header X", "ad_header X", `unknown directive "ad_header" in ` + b.at("sites/a.conf") + ":8"},
		{"too many words", "http://behind;", "http://behind x;", `invalid number of arguments in "proxy_pass" directive in ` + b.at("sites/a.conf") + ":12"},
		{"twice at one door", "listen 80;", "listen 80; listen 80;", "a duplicate listen"},
		{"a key that is not there", "own/key.pem", "own/nothing.pem", b.at("own/nothing.pem") + " is not there"},
		{"a key for a certificate", "ssl_certificate own/cert.pem", "ssl_certificate own/key.pem", "key.pem holds no certificate"},
		{"a file of numbers that is not there", "ssl_dhparam own/cert.pem", "ssl_dhparam own/no.pem", b.at("own/no.pem") + " is not there"},
		{"a variable that nobody sets", `set $y "z";`, `set $y "$nobody";`, `unknown "nobody" variable`},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Contains(t, manySites, c.from)
			assert.Contains(t, b.try("sites/a.conf", strings.Replace(manySites, c.from, c.to, 1)).Says, c.says)
		})
	}
	t.Run("a key of another certificate", func(t *testing.T) {
		_, other, err := makePair()
		require.NoError(t, err)
		b.write("own/key.pem", string(other))
		assert.Contains(t, b.try("sites/a.conf", manySites).Says, "is not that of the certificate in ")
	})
}

const manyOfApache = `ServerRoot DIR
LoadModule mpm_prefork_module /usr/lib/apache2/modules/mod_mpm_prefork.so
LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so
LoadModule headers_module /usr/lib/apache2/modules/mod_headers.so
LoadModule rewrite_module /usr/lib/apache2/modules/mod_rewrite.so
LoadModule socache_shmcb_module /usr/lib/apache2/modules/mod_socache_shmcb.so
LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so
PidFile /nowhere/pid
ErrorLog "|/nowhere/log it"
CustomLog /nowhere/access.log "%h \"%r\""
Mutex file:/nowhere
Listen 80
Listen 443
ServerName www.lanternlane.example
DocumentRoot DIR/shut/site
SSLSessionCache shmcb:/nowhere/cache
SSLPassPhraseDialog exec:DIR/shut/run
Define greeting "good evening"
RewriteEngine On
RewriteMap lost txt:DIR/shut/lost.txt
RewriteRule "^/old\.(html|php) (.*)$" "/new$1" [L,R=301]
IncludeOptional sites/*.conf
`

const oneOfApache = `<VirtualHost www.lanternlane.example:443 [::1]:443>
    SSLEngine On
    SSLCertificateFile own/cert.pem
    SSLCertificateKeyFile own/key.pem
    <Directory DIR/shut/site>
        Require all granted
        Header set X-Greeting "${greeting} \\ to \"all\""
        <IfModule mod_nothing.c>
            NothingAtAll
        </IfModule>
    </Directory>
</VirtualHost>
`

// The same of Apache, whose own test would ask for names, miss folders, and take any key.
func TestApacheTriesACopy(t *testing.T) {
	servertest.Program(t, "apache2")
	certificate, key, err := makePair()
	require.NoError(t, err)
	b := newBench(t, server.Apache, map[string]string{"server.conf": manyOfApache, "sites/a.conf": oneOfApache, "own/cert.pem": string(certificate), "own/key.pem": string(key), "shut/site/x": "", "shut/lost.txt": "a b\n", "shut/run": "#!/bin/sh\ntouch DIR/ran\n"})
	for _, name := range []string{"own", "shut"} {
		require.NoError(t, os.Chmod(b.at(name), 0o700))
	}
	v := b.try("sites/a.conf", oneOfApache)
	require.True(t, v.passed(), "%s%s", v.Says, v.Untested)
	assert.Contains(t, strings.Join(v.Left, "; "), "SSLPassPhraseDialog ("+b.at("server.conf")+":17), which would be run")
	assert.Contains(t, strings.Join(v.Left, "; "), "the table of RewriteMap lost txt:")
	for _, c := range []struct{ name, from, to, says string }{
		{"a misspelt directive", "Header set", "Haeder set", "Invalid command 'Haeder'"},
		{"a misspelt word", "SSLEngine On", "SSLEngine Perhaps", "Argument must be On or Off"},
		{"a key of another certificate", "own/key.pem", "own/cert.pem", "cert.pem holds no key"},
		{"a certificate that is not there", "own/cert.pem", "own/none.pem", b.at("own/none.pem") + " is not there"},
	} {
		t.Run(c.name, func(t *testing.T) {
			says := b.try("sites/a.conf", strings.Replace(oneOfApache, c.from, c.to, 1)).Says
			assert.Contains(t, says, c.says)
		})
	}
	assert.NoFileExists(t, b.at("ran"))
}

// So does Debian's own, of both servers, where it is installed: as the user who runs this, and without a network of its own.
func TestDebiansAreTried(t *testing.T) {
	for kind, c := range map[string][]string{server.Nginx: {"/etc/nginx/nginx.conf", "nginx"}, server.Apache: {"/etc/apache2/apache2.conf", "apache2"}} {
		servertest.Program(t, c[1])
		main := server.Config{Kind: kind, File: c[0]}
		court := Court{Open: func(files server.Overlay) (*server.Source, []facts.Gap) {
			return server.Open(files, []server.Config{main}, nil, nil)
		}}
		text, err := os.ReadFile(c[0])
		require.NoError(t, err)
		v := court.Try(t.Context(), map[string][]byte{c[0]: text})
		assert.True(t, v.passed(), "%s: %s%s", kind, v.Says, v.Untested)
		v = court.Try(t.Context(), map[string][]byte{c[0]: append(text, "\nNoSuchThing on;\n"...)})
		assert.Contains(t, v.Says, "NoSuchThing", kind)
	}
}

// A test that cannot be made is said, and passes for none.
func TestWhatCannotBeTested(t *testing.T) {
	servertest.Program(t, "nginx")
	for _, c := range []struct{ name, main, file, text, says string }{
		{"a server that nobody knows", "events {}\n", "server.conf", "events {}\n", "no program of a server of the kind lighthouse is on this machine"},
		{"a pool", "events {}\n", "pool.conf", "[www]\n", "PHP-FPM tests what its pools say only when it reads it"},
		{"what could not be read whole", "events {}\ninclude nothing.conf;\n", "server.conf", "events {}\ninclude nothing.conf;\n", "not all of the configuration could be read"},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := newBench(t, server.Nginx, map[string]string{"server.conf": c.main})
			court := b.court()
			if strings.Contains(c.says, "lighthouse") {
				court.Open = func(server.Overlay) (*server.Source, []facts.Gap) {
					return &server.Source{Servers: []*server.Server{{Config: server.Config{Kind: "lighthouse", File: b.at("server.conf")}, Tree: &directives.Tree{Files: []string{b.at("server.conf")}}}}}, nil
				}
			}
			v := court.Try(t.Context(), map[string][]byte{b.at(c.file): []byte(c.text)})
			assert.Contains(t, v.Untested, c.says)
			assert.False(t, v.passed())
		})
	}
	assert.Contains(t, tryINI(t.Context(), "php.ini", []byte("a = (\n")).Says, "syntax error")
	assert.True(t, tryINI(t.Context(), "php.ini", []byte("a = 1\n")).passed())
}
