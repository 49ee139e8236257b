package nginx

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"net"

	"github.com/stretchr/testify/require"

	"weltaxis/internal/directives"
	"weltaxis/internal/servertest"
	"weltaxis/internal/source/server/ground"
)

// start runs a configuration.
func start(t testing.TB, g *ground.Ground, conf, port string) (stop func()) {
	file := filepath.Join(g.Dir, "nginx-"+port+".conf")
	require.NoError(t, os.WriteFile(file, []byte(conf), 0o644))
	return ground.Start(t, conf, port, exec.Command("nginx", "-p", g.Dir, "-c", file, "-e", filepath.Join(g.Dir, "error-"+port+".log")))
}

// frame is a whole configuration around what stands in http.
func frame(g *ground.Ground, port, inside string) string {
	user := ""
	if os.Getuid() == 0 {
		user = "user root;\n"
	}
	return fmt.Sprintf(`%[1]sdaemon off;
master_process off;
pid %[2]s/pid-%[4]s;
worker_processes 1;
events { worker_connections 64; }
http {
    access_log off;
    client_body_temp_path %[2]s/t1; proxy_temp_path %[2]s/t2; fastcgi_temp_path %[2]s/t3; uwsgi_temp_path %[2]s/t4; scgi_temp_path %[2]s/t5;
%[3]s}
`, user, g.Dir, inside, port)
}

func needNginx(t testing.TB) {
	if _, err := exec.LookPath("nginx"); err != nil {
		t.Skip("nginx is not installed; scripts/test installs it")
	}
}

func freePort(t *testing.T) string {
	_, port, err := net.SplitHostPort(servertest.FreeAddress(t))
	require.NoError(t, err)
	return port
}

// version is that of the nginx which is installed.
func version(t testing.TB) string {
	out, err := exec.Command("nginx", "-v").CombinedOutput()
	require.NoError(t, err)
	_, v, _ := strings.Cut(strings.TrimSpace(string(out)), "nginx/")
	v, _, _ = strings.Cut(v, " ")
	return v
}

func read(t testing.TB, g *ground.Ground, port string) *Config {
	tree := directives.Nginx(filepath.Join(g.Dir, "nginx-"+port+".conf"), directives.OS{})
	require.Empty(t, tree.Gaps)
	return New(tree, Options{Version: version(t), Prefix: g.Dir})
}
