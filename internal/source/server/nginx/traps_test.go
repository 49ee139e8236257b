package nginx

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"weltaxis/internal/directives"
	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/source/server/ground"
)

// TestTraps: what practitioners are caught by, each told as the real server does it, and in the words that say why.
func TestTraps(t *testing.T) {
	needNginx(t)
	g := ground.New(t)
	for name, trap := range map[string]struct {
		server, path string
		field        answer.Field
		value        string // told, and what the real server does
		because      string // part of why, where it is not obvious
	}{
		"a nested shield does not shield from expressions further out": {`location /uploads/ { location ^~ /uploads/deep/ { add_header Link nested; } } location ~ \.php$ { fastcgi_pass FAST; fastcgi_param SCRIPT_FILENAME $document_root$uri; }`,
			"/uploads/deep/run.php", answer.Handler, "program", ""},
		"a shielded place without a runtime serves the source": {`location ^~ /uploads/ { } location ~ \.php$ { fastcgi_pass FAST; fastcgi_param SCRIPT_FILENAME $document_root$uri; }`,
			"/uploads/run.php", answer.Handler, "static", ""},
		"an if with one header drops the headers of its place": {`add_header X-Frame-Options DENY; location / { if ($arg_x) { add_header Link seen; } }`,
			"/index.html?x=1", answer.Header("x-frame-options"), "", "replace the list of the level above"},
		"a location with one header drops those of the server": {`add_header X-Frame-Options DENY; location /css/ { add_header Link seen; }`,
			"/css/site.css", answer.Header("x-frame-options"), "", "replace the list of the level above"},
		"try_files with a folder leads to the slash": {`location / { try_files $uri $uri/ =404; }`,
			"/about", answer.Status, "301", ""},
		"expires takes the place of what the program says": {`location / { expires 1h; fastcgi_pass FAST; fastcgi_param SCRIPT_FILENAME x; }`,
			"/", answer.Header("cache-control"), "max-age=3600", ""},
		"add_header stands beside what the program says": {`location / { add_header Cache-Control public; fastcgi_pass FAST; fastcgi_param SCRIPT_FILENAME x; }`,
			"/", answer.Header("cache-control"), "no-store, public", ""},
		"a look-ahead in an expression": {`location ~ ^/(?!img)[a-z]+/ { return 204; }`,
			"/css/site.css", answer.Status, "204", ""},
		"an internal redirect goes through the server's rewriting again": {`rewrite ^/about/team.html$ /css/site.css; error_page 404 /about/team.html;`,
			"/nothing", answer.File, "DIR/site/css/site.css", ""},
		"access is asked again after a redirect within": {`error_page 404 /admin/login.html; location /admin/ { deny all; }`,
			"/nothing", answer.Status, "403", ""},
		"a named place is not rewritten by the server": {`rewrite ^/x$ /y; location / { try_files $uri @named; } location @named { return 200 "$uri"; }`,
			"/x", answer.Status, "200", ""},
	} {
		t.Run(name, func(t *testing.T) {
			port := freePort(t)
			conf := frame(g, port, fmt.Sprintf("server { listen 127.0.0.1:%s; root %s/site; %s }\n", port, g.Dir, strings.ReplaceAll(trap.server, "FAST", g.Fast)))
			stop := start(t, g, conf, port)
			defer stop()
			number, _ := strconv.Atoi(port)
			a := answer.Ask{Scheme: "http", Host: "lantern-lane.example", HostPort: number, Port: number, Local: ground.Loopback, Client: ground.Loopback, Target: trap.path, Header: map[string]string{}, Program: ground.Program}
			told := read(t, g, port).Answer(a)
			real, err := ground.Fetch(t, port, a)
			require.NoError(t, err)
			var tally ground.Tally
			require.Empty(t, tally.Hold(told, real))
			require.Equal(t, strings.ReplaceAll(trap.value, "DIR", g.Dir), told.Text(trap.field))
			require.Contains(t, told.Get(trap.field).Because, trap.because)
			require.NotZero(t, told.Get(trap.field).Origin.Line, "it says where")
		})
	}
}

// TestIncludesOfTheMainFolder: included files are relative to the main file, and patterns pass dot files over.
func TestIncludesOfTheMainFolder(t *testing.T) {
	needNginx(t)
	g := ground.New(t)
	port := freePort(t)
	require.NoError(t, os.MkdirAll(filepath.Join(g.Dir, "more"), 0o755))
	for name, text := range map[string]string{"more/.hidden.conf": "return 418;", "more/one.conf": "include more/two;", "more/two": "return 204;"} {
		require.NoError(t, os.WriteFile(filepath.Join(g.Dir, name), []byte(text), 0o644))
	}
	stop := start(t, g, frame(g, port, fmt.Sprintf("server { listen 127.0.0.1:%s; include more/*.conf; }\n", port)), port)
	defer stop()
	number, _ := strconv.Atoi(port)
	a := answer.Ask{Scheme: "http", Host: "lantern-lane.example", HostPort: number, Port: number, Local: ground.Loopback, Target: "/", Header: map[string]string{}}
	real, err := ground.Fetch(t, port, a)
	require.NoError(t, err)
	require.Equal(t, 204, real.Status)
	require.Equal(t, "204", read(t, g, port).Answer(a).Text(answer.Status))
}

// TestWhatIsNotEvaluated: a directive that is not evaluated leaves unknown what it touches, and nothing else.
func TestWhatIsNotEvaluated(t *testing.T) {
	for name, c := range map[string]struct {
		server         string
		unknown, known []answer.Field
	}{
		"sub_filter":         {`sub_filter a b;`, []answer.Field{answer.Header("etag")}, []answer.Field{answer.Status, answer.Header("x-frame-options"), answer.Handler}},
		"auth_request":       {`auth_request /ask;`, []answer.Field{answer.Status, answer.Handler}, []answer.Field{answer.Server}},
		"a variable":         {`add_header Link $geo_place;`, []answer.Field{answer.Header("link")}, []answer.Field{answer.Status, answer.Handler, answer.Header("etag")}},
		"a condition":        {`if ($geo_place) { return 403; }`, []answer.Field{answer.Status}, []answer.Field{answer.Server}},
		"more_set_headers":   {`more_set_headers "A: b";`, []answer.Field{answer.Header("x-frame-options")}, []answer.Field{answer.Status, answer.Handler}},
		"one never heard of": {`lantern_light on;`, []answer.Field{answer.Status, answer.Handler}, []answer.Field{answer.Server}},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(dir+"/index.html", []byte("x"), 0o600))
			require.NoError(t, os.WriteFile(dir+"/n.conf", []byte(fmt.Sprintf("http { server { listen 80; root %s; add_header X-Frame-Options DENY; location / { add_header X-Frame-Options DENY;\n%s\n} } }", dir, c.server)), 0o600))
			told := New(directives.Nginx(dir+"/n.conf", directives.OS{}), Options{}).Answer(answer.Ask{Scheme: "http", Host: "x.example", Target: "/index.html", Header: map[string]string{}})
			for _, f := range c.unknown {
				require.False(t, told.Get(f).Known(), "%s", f)
				require.Equal(t, 2, told.Get(f).Unknown.Origin.Line, "%s: %s", f, told.Get(f).Unknown.Because)
			}
			for _, f := range c.known {
				require.True(t, told.Get(f).Known(), "%s", f)
			}
		})
	}
}

// TestDebian: every directive of the configuration that Debian's package brings is in the table.
func TestDebian(t *testing.T) {
	needNginx(t)
	tree := directives.Nginx("/etc/nginx/nginx.conf", directives.OS{})
	require.Empty(t, tree.Gaps)
	heard(t, tree.Root)
	for _, snippet := range []string{"/etc/nginx/fastcgi.conf", "/etc/nginx/proxy_params", "/etc/nginx/snippets/fastcgi-php.conf", "/etc/nginx/snippets/snakeoil.conf"} {
		if _, err := os.Stat(snippet); err == nil {
			heard(t, directives.Nginx(snippet, directives.OS{}).Root)
		}
	}
}

func heard(t *testing.T, nodes []*directives.Node) {
	directives.Walk(nodes, func(n *directives.Node) bool {
		if n.Is("types", "map", "upstream") || n.Hole != "" {
			return false
		}
		require.NotEqual(t, unheard, classOf(n.Name), "%s: %s", n.Place(), n.Name)
		return true
	})
}
