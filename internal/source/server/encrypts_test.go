package server

import (
	"crypto/tls"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/internal/servertest"
)

const encryptingNginx = `daemon off; pid DIR/pid; worker_processes 1; error_log DIR/log; events {}
http { access_log off; client_body_temp_path DIR/a; proxy_temp_path DIR/b; fastcgi_temp_path DIR/c; uwsgi_temp_path DIR/d; scgi_temp_path DIR/e;
ssl_certificate CERTIFICATE; ssl_certificate_key KEY; ssl_protocols TLSv1.2;
%s
}
`

const encryptingApache = `ServerRoot DIR
PidFile DIR/pid
ErrorLog DIR/log
Mutex file:DIR default
StartServers 1
LoadModule mpm_prefork_module MODULES/mod_mpm_prefork.so
LoadModule authz_core_module MODULES/mod_authz_core.so
LoadModule ssl_module MODULES/mod_ssl.so
SSLCertificateFile CERTIFICATE
SSLCertificateKeyFile KEY
ServerName site.example
%s
`

// TestWhereItEncrypts holds the ports on which a host is said to encrypt against the real servers: those of two, ONE and TWO, on which they take a
// handshake.
func TestWhereItEncrypts(t *testing.T) {
	hosts := func(lines ...string) (text string) { // of Apache, at both ports
		for i, line := range lines {
			text += fmt.Sprintf("<VirtualHost *:%s>\nServerName site.example\n%s\n</VirtualHost>\n", []string{"ONE", "TWO"}[i], line)
		}
		return text
	}
	for _, c := range []struct{ kind, name, lines, want string }{
		{Nginx, "one of them", "server { listen 127.0.0.1:ONE; server_name site.example; } server { listen 127.0.0.1:TWO ssl; server_name site.example; }", "TWO"},
		{Nginx, "the listen of another host", "server { listen 127.0.0.1:ONE; server_name site.example; } server { listen 127.0.0.1:ONE ssl; server_name other.example; } server { listen 127.0.0.1:TWO; server_name site.example; }", "ONE"},
		{Nginx, "ssl on of the first host", "server { listen 127.0.0.1:ONE; server_name other.example; ssl on; } server { listen 127.0.0.1:ONE; listen 127.0.0.1:TWO; server_name site.example; }", "ONE"},
		{Nginx, "ssl on of another than the first", "server { listen 127.0.0.1:ONE; server_name other.example; } server { listen 127.0.0.1:ONE; listen 127.0.0.1:TWO; server_name site.example; ssl on; }", "TWO"},
		{Nginx, "ssl off within ssl on", "ssl on; server { listen 127.0.0.1:ONE; server_name site.example; ssl off; } server { listen 127.0.0.1:TWO; server_name site.example; }", "TWO"},
		{Apache, "one of them", "Listen ONE\nListen TWO\n" + hosts("", "SSLEngine on"), "TWO"},
		{Apache, "said for all, and not for one", "Listen ONE\nListen TWO\nSSLEngine on\n" + hosts("", "SSLEngine off"), "ONE"},
		{Apache, "the main server", "Listen ONE\nListen TWO\nSSLEngine on\n" + hosts("SSLEngine off"), "TWO"},
		{Apache, "where https is listened for", "Listen ONE http\nListen 0.0.0.0:TWO https\n" + hosts("", ""), "TWO"},
		{Apache, "listened for, and told not to", "Listen ONE https\nListen TWO https\n" + hosts("SSLEngine off", ""), "TWO"},
		{Apache, "listened for, and told not to for all", "Listen ONE https\nListen TWO https\nSSLEngine off\n" + hosts("", "SSLEngine on"), "TWO"},
		{Nginx, "versions of its own", "server { listen 127.0.0.1:ONE; server_name site.example; } server { listen 127.0.0.1:TWO ssl; server_name site.example; ssl_protocols TLSv1.3; }", "TWO"},
		{Nginx, "versions of the first host", "server { listen 127.0.0.1:ONE; server_name site.example; } server { listen 127.0.0.1:TWO ssl; server_name first.example; ssl_protocols TLSv1.2; } server { listen 127.0.0.1:TWO ssl; server_name site.example; ssl_protocols TLSv1.2 TLSv1.3; }", "TWO"},
		{Nginx, "more versions of the first host", "server { listen 127.0.0.1:ONE; server_name site.example; } server { listen 127.0.0.1:TWO ssl; server_name first.example; ssl_protocols TLSv1.2 TLSv1.3; } server { listen 127.0.0.1:TWO ssl; server_name site.example; ssl_protocols TLSv1.3; }", "TWO"},
		{Apache, "two versions, the last of which counts", "Listen ONE\nListen TWO\n" + hosts("", "SSLEngine on\nSSLProtocol TLSv1.2 TLSv1.3"), "TWO"},
		{Apache, "all but one", "Listen ONE\nListen TWO\nSSLProtocol TLSv1.2\n" + hosts("", "SSLEngine on\nSSLProtocol all -TLSv1.3"), "TWO"},
		{Apache, "none but one", "Listen ONE\nListen TWO\nSSLProtocol -all +TLSv1.3\n" + hosts("", "SSLEngine on"), "TWO"},
		{Apache, "versions of the first host", "Listen ONE\nListen TWO\n<VirtualHost *:TWO>\nServerName first.example\nSSLEngine on\nSSLProtocol TLSv1.2\n</VirtualHost>\n" + hosts("", "SSLEngine on\nSSLProtocol TLSv1.3"), "TWO"},
		{Apache, "listened for at another address", "Listen 127.0.0.1:ONE https\nListen TWO https\n" + hosts("", ""), "TWO"},
	} {
		t.Run(c.kind+" "+c.name, func(t *testing.T) {
			program := servertest.Program(t, map[string]string{Nginx: "nginx", Apache: "apache2"}[c.kind])
			dir, one, two := servertest.Public(t), servertest.FreeAddress(t), servertest.FreeAddress(t)
			port := func(address string) string { return address[strings.LastIndexByte(address, ':')+1:] }
			certificate, key := servertest.Certificate(t, dir, "certificate", "site.example")
			conf, text := filepath.Join(dir, "server.conf"), encryptingNginx
			command := exec.Command(program, "-p", dir, "-c", conf, "-e", filepath.Join(dir, "log"))
			if c.kind == Apache {
				text, command = encryptingApache, exec.Command(program, "-DFOREGROUND", "-f", conf)
			}
			text = strings.NewReplacer("DIR", dir, "ONE", port(one), "TWO", port(two), "CERTIFICATE", certificate, "KEY", key, "MODULES", "/usr/lib/apache2/modules").Replace(fmt.Sprintf(text, c.lines))
			require.NoError(t, os.WriteFile(conf, []byte(text), 0o644))
			if said, _ := exec.Command(program, "-t", "-c", conf).CombinedOutput(); strings.Contains(string(said), `unknown directive "ssl"`) {
				t.Skip("this nginx does not know it any more")
			}
			servertest.Begin(t, one, command)
			var really []int
			for name, address := range map[string]string{"ONE": one, "TWO": two} {
				connection, err := tls.Dial("tcp", address, &tls.Config{ServerName: "site.example", InsecureSkipVerify: true})
				if err != nil {
					assert.NotEqual(t, c.want, name, err)
					continue
				}
				connection.Close()
				assert.Equal(t, c.want, name)
				var number int
				_, err = fmt.Sscan(port(address), &number)
				require.NoError(t, err)
				really = append(really, number)
			}
			home, err := url.Parse("https://site.example/")
			require.NoError(t, err)
			s, gaps := Open(nil, []Config{{c.kind, conf}}, home, nil)
			require.Empty(t, gaps)
			assert.Equal(t, really, s.Servers[0].Encrypts("site.example"))
			protocols, _ := s.Servers[0].Protocols("site.example")
			for version, name := range map[uint16]string{tls.VersionTLS12: "TLSv1.2", tls.VersionTLS13: "TLSv1.3"} {
				connection, err := tls.Dial("tcp", map[string]string{"ONE": one, "TWO": two}[c.want], &tls.Config{ServerName: "site.example", InsecureSkipVerify: true, MinVersion: version, MaxVersion: version})
				assert.Equal(t, err == nil, slices.Contains(protocols, name), "%s %v %v", name, protocols, err)
				if err == nil {
					connection.Close()
				}
			}
		})
	}
}

// TestTheHostThatAnswersReadsOverrideFiles: what is told of override files is told of the host that serves the site, not of one that only leads to it.
func TestTheHostThatAnswersReadsOverrideFiles(t *testing.T) {
	dir := site(t, map[string]string{"public/index.html": "x"})
	leads := "<VirtualHost *:80>\nServerName site.example\nRedirect permanent / https://site.example/\n</VirtualHost>\n"
	serves := "<VirtualHost *:443>\nServerName site.example\nSSLEngine on\nDocumentRoot " + dir + "/public\n<Directory " + dir + "/public>\nRequire all granted\nAllowOverride FileInfo\n</Directory>\n</VirtualHost>\n"
	inner := "Listen 8080\nServerName site.example\nDocumentRoot " + dir + "/public\n<Directory " + dir + "/public>\nRequire all granted\nAllowOverride Limit\n</Directory>\n"
	apache, nginx := filepath.Join(dir, "apache.conf"), filepath.Join(dir, "nginx.conf")
	require.NoError(t, os.WriteFile(nginx, []byte("http { server { listen 443 ssl; server_name site.example; location / { proxy_pass http://127.0.0.1:8080; proxy_set_header Host $host; } } }"), 0o600))
	home, err := url.Parse("https://site.example/")
	require.NoError(t, err)
	for _, c := range []struct {
		name, lines, want string
		before            []Config
	}{
		{"after the one that leads to it", leads + serves, "FileInfo", nil},
		{"before it", serves + leads, "FileInfo", nil},
		{"on another port", strings.ReplaceAll(leads+serves, "*:443", "*:8443"), "FileInfo", nil},
		{"behind nginx", inner + leads, "Limit", []Config{{Nginx, nginx}}},
	} {
		text := "LoadModule dir_module x/mod_dir.so\nLoadModule alias_module x/mod_alias.so\nLoadModule ssl_module x/mod_ssl.so\nLoadModule authz_core_module x/mod_authz_core.so\n" + c.lines
		require.NoError(t, os.WriteFile(apache, []byte(text), 0o600))
		s, gaps := Open(nil, append(c.before, Config{Apache, apache}), home, nil)
		require.Empty(t, gaps, c.name)
		seen, err := s.Layout(t.Context(), nil)
		require.NoError(t, err)
		snapshot := &facts.Snapshot{Seen: seen}
		allowed, known := snapshot.Is(facts.ServerOverrideAllowed.Term)
		require.True(t, known, c.name)
		assert.Equal(t, c.want, allowed.Text(), c.name)
	}
}
