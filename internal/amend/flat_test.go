package amend

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/servertest"
	"weltaxis/internal/source/server"
)

// A whole configuration becomes one file that the server itself takes, includes and quotes and all; what it writes lies apart, and a line
// of it is known by where it stands.
func TestFlatten(t *testing.T) {
	nginx := servertest.Program(t, "nginx")
	dir, private := t.TempDir(), t.TempDir()
	for name, text := range map[string]string{
		"nginx.conf":   "user nobody;\nerror_log /nowhere/at/all/log;\npid /nowhere/pid;\nevents {}\nhttp {\n  include types.conf;\n  map $uri $kind { default a; ~^/x\\.y b; \"with space\" c; }\n  access_log /nowhere/access.log;\n  fastcgi_cache_path /nowhere/cache levels=1:2 keys_zone=z:1m;\n  include sites/*.conf;\n}\n",
		"types.conf":   "types { text/html html; }\n",
		"sites/a.conf": "server {\n  listen 127.0.0.1:1;\n  add_header X \"a \\\"b\\\" c;d\" always;\n  location ~* ^/(a|b)\\.(php|phtml)$ { if ($request_method = POST) { return 405; } if (-f $document_root/x) { set $y \"z\"; } return 204; }\n  location = / { access_log off; return 200 \"it's\"; }\n}\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	s, gaps := server.Open([]server.Config{{Kind: server.Nginx, File: filepath.Join(dir, "nginx.conf")}}, nil, nil)
	require.Empty(t, gaps)
	flat, err := Flatten(s.Servers[0], private, nil)
	require.NoError(t, err)
	file := filepath.Join(private, "test.conf")
	require.NoError(t, os.WriteFile(file, flat.Text, 0o600))
	out, err := exec.Command(nginx, "-t", "-q", "-c", file, "-p", dir, "-e", filepath.Join(private, "e")).CombinedOutput()
	require.NoError(t, err, "%s\n%s", out, flat.Text)
	for i, line := range strings.Split(string(flat.Text), "\n") {
		if strings.Contains(line, "add_header") {
			name, at := flat.At(i + 1)
			assert.Equal(t, filepath.Join(dir, "sites/a.conf"), name)
			assert.Equal(t, 3, at)
		}
	}
	assert.NotContains(t, string(flat.Text), "/nowhere/")
}

// So does Debian's own, of both servers, where it is installed.
func TestDebiansAreFlattened(t *testing.T) {
	for kind, c := range map[string][]string{server.Nginx: {"/etc/nginx/nginx.conf", "nginx"}, server.Apache: {"/etc/apache2/apache2.conf", "apache2"}} {
		program, private := servertest.Program(t, c[1]), t.TempDir()
		s, _ := server.Open([]server.Config{{Kind: kind, File: c[0]}}, nil, nil)
		flat, err := Flatten(s.Servers[0], private, nil)
		require.NoError(t, err)
		file := filepath.Join(private, "test.conf")
		require.NoError(t, os.WriteFile(file, flat.Text, 0o600))
		args := []string{"-t", "-q", "-c", file, "-e", filepath.Join(private, "e")}
		if kind == server.Apache {
			args = []string{"-t", "-f", file}
		}
		command := exec.Command(program, args...)
		command.Env = append(os.Environ(), "APACHE_RUN_DIR="+private, "APACHE_RUN_USER=www-data", "APACHE_RUN_GROUP=www-data", "APACHE_LOG_DIR="+private, "APACHE_LOCK_DIR="+private, "APACHE_PID_FILE="+private+"/p")
		out, err := command.CombinedOutput()
		assert.NoError(t, err, "%s\n%s", out, flat.Text)
	}
}
