package apache

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/directives"
	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/source/server/ground"
)

// TestTraps: what practitioners are caught by, each told as the real server does it, and in the words that say why.
func TestTraps(t *testing.T) {
	needApache(t)
	g := ground.New(t)
	require.NoError(t, os.WriteFile(g.Dir+"/mime.types", []byte(mimeTypes), 0o644))
	php := "<FilesMatch \"\\.php$\">\nSetHandler \"proxy:fcgi://" + g.Fast + "\"\n</FilesMatch>\n"
	for name, trap := range map[string]struct {
		conf, override, path string
		field                answer.Field
		value                string
		because              string
	}{
		"SetHandler none in a folder does not stop what FilesMatch hands on": {php + "<Directory DIR/site/uploads>\nSetHandler none\n</Directory>\n", "", "/uploads/run.php", answer.Handler, "program", ""},
		"a deeper list of types that are compressed replaces the one above":  {"AddOutputFilterByType DEFLATE text/css\n<Directory DIR/site/css>\nAddOutputFilterByType DEFLATE text/html\n</Directory>\n", "", "/css/site.css", answer.Header("content-encoding"), "", "no filter compresses"},
		"RewriteEngine alone further down drops all rules above": {"<Directory DIR/site>\nRewriteEngine On\nRewriteRule ^about/nothing$ /index.html [L]\n</Directory>\n<Directory DIR/site/about>\nRewriteEngine On\n</Directory>\n",
			"", "/about/nothing", answer.Status, "404", ""},
		"rewriting with Options None is refused":                    {"<Directory DIR/site>\nOptions None\nRewriteEngine On\n</Directory>\n", "", "/index.html", answer.Status, "403", ""},
		"a redirect of a folder without RewriteBase shows the path": {"", "RewriteEngine On\nRewriteRule ^old$ new [R]\n", "/old", answer.Location, "http://lantern-lane.example:PORT" + "DIR/site/new", ""},
		"sections of addresses see the address before it is rewritten": {"RewriteEngine On\nRewriteRule ^/old$ /index.html\n<Location /old>\nHeader set Link \"the old one\"\n</Location>\n",
			"", "/old", answer.Header("link"), "the old one", ""},
		"a rule without PT lets no Alias see the address":              {"RewriteEngine On\nRewriteRule ^/x/(.*)$ /pictures/$1\nAlias /pictures DIR/site/img\n", "", "/x/sign.png", answer.Status, "404", ""},
		"a rule with PT does":                                          {"RewriteEngine On\nRewriteRule ^/x/(.*)$ /pictures/$1 [PT]\nAlias /pictures DIR/site/img\n", "", "/x/sign.png", answer.Status, "200", ""},
		"errors get the headers of always only":                        {"Header set X-Frame-Options DENY\n", "", "/nothing", answer.Header("x-frame-options"), "", "without \"always\""},
		"what a program of FastCGI says stands with always":            {php + "Header unset X-Powered-By\n", "", "/index.php", answer.Header("x-powered-by"), "Puppets/3", ""},
		"always unset takes it away":                                   {php + "Header always unset X-Powered-By\n", "", "/index.php", answer.Header("x-powered-by"), "", "taken away"},
		"set beside what a program says makes two":                     {php + "Header set Cache-Control public\n", "", "/index.php", answer.Header("cache-control"), "no-store, public", ""},
		"a folder pattern takes files as well":                         {"<Directory DIR/site/*>\nHeader set Link taken\n</Directory>\n", "", "/notes.txt", answer.Header("link"), "taken", ""},
		"what may not stand in an override file takes the folder down": {"<Directory DIR/site>\nAllowOverride Indexes\n</Directory>\n", "Options +Indexes\n", "/index.html", answer.Status, "500", ""},
		"an override file that is not read":                            {"<Directory DIR/site>\nAllowOverride None\n</Directory>\n", "Require all denied\n", "/index.html", answer.Status, "200", ""},
		"a module that is asked for by another name":                   {"<IfModule mod_php8.c>\nRequire all denied\n</IfModule>\n<IfModule mod_rewrite.c>\nHeader set Link there\n</IfModule>\n", "", "/index.html", answer.Header("link"), "there", ""},
		"programs by an ending in the middle of a name":                {"AddHandler \"proxy:fcgi://" + g.Fast + "\" .php\n", "", "/uploads/run.php.jpg", answer.Handler, "program", ""},
		"an index that may not be looked at":                           {"DirectoryIndex index.html\n<Files index.html>\nAuthType Basic\nAuthName Staff\nAuthUserFile DIR/passwords\nRequire valid-user\n</Files>\n", "", "/about/", answer.Status, "401", ""},
	} {
		t.Run(name, func(t *testing.T) {
			port := freePort(t)
			fill := func(text string) string {
				return strings.NewReplacer("DIR", g.Dir, "PORT", port).Replace(text)
			}
			override := filepath.Join(g.Dir, "site", ".htaccess")
			if trap.override != "" {
				require.NoError(t, os.WriteFile(override, []byte(trap.override), 0o644))
				defer os.Remove(override)
			}
			conf := frame(g, port, fmt.Sprintf("ServerTokens Prod\nDocumentRoot %s/site\n<Directory %s>\nAllowOverride All\nRequire all granted\n</Directory>\n%s", g.Dir, g.Dir, fill(trap.conf)))
			stop := start(t, g, conf, port)
			defer stop()
			number, _ := strconv.Atoi(port)
			a := answer.Ask{Scheme: "http", Host: "lantern-lane.example", HostPort: number, Port: number, Local: ground.Loopback, Client: ground.Loopback, Target: trap.path, Header: map[string]string{"accept-encoding": "gzip"}, Program: ground.Program}
			told := read(t, g, port).Answer(a)
			real, err := ground.Fetch(t, port, a)
			require.NoError(t, err)
			var tally ground.Tally
			require.Empty(t, tally.Hold(told, real))
			require.Equal(t, fill(trap.value), told.Text(trap.field))
			require.Contains(t, told.Get(trap.field).Because, trap.because)
		})
	}
}

// TestPorts: an address with a port is better than one for all ports.
func TestPorts(t *testing.T) {
	needApache(t)
	g := ground.New(t)
	require.NoError(t, os.WriteFile(g.Dir+"/mime.types", []byte(mimeTypes), 0o644))
	port := freePort(t)
	conf := frame(g, port, fmt.Sprintf("ServerTokens Prod\n<Directory %[1]s>\nRequire all granted\n</Directory>\n<VirtualHost *:*>\nDocumentRoot %[1]s/other\n</VirtualHost>\n<VirtualHost *:%[2]s>\nDocumentRoot %[1]s/site\n</VirtualHost>\n", g.Dir, port))
	stop := start(t, g, conf, port)
	defer stop()
	number, _ := strconv.Atoi(port)
	a := answer.Ask{Scheme: "http", Host: "lantern-lane.example", HostPort: number, Port: number, Local: ground.Loopback, Client: ground.Loopback, Target: "/index.html", Header: map[string]string{}}
	real, err := ground.Fetch(t, port, a)
	require.NoError(t, err)
	var tally ground.Tally
	require.Empty(t, tally.Hold(read(t, g, port).Answer(a), real))
	require.Contains(t, real.Body, g.Dir+"/site/index.html")
}

// TestDebian: every directive of the configuration that Debian's package brings, with all its modules, is in the table.
func TestDebian(t *testing.T) {
	needApache(t)
	available, _ := filepath.Glob("/etc/apache2/*-available/*.conf")
	for _, main := range append([]string{"/etc/apache2/apache2.conf"}, available...) {
		if strings.Contains(main, "/proxy_balancer.conf") || strings.Contains(main, "/userdir.conf") {
			continue
		}
		tree := directives.Apache(main, directives.OS{}, directives.ApacheOptions{Root: "/etc/apache2"})
		directives.Walk(tree.Root, func(n *directives.Node) bool {
			if n.Hole == "" {
				assert.NotEqual(t, unheard, classOf(n.Name), "%s: %s", n.Place(), n.Name)
			}
			return true
		})
	}
}
