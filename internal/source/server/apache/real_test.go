package apache

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"weltaxis/internal/directives"
	"weltaxis/internal/servertest"
	"weltaxis/internal/source/server/ground"
)

const modules = "/usr/lib/apache2/modules"

func needApache(t testing.TB) {
	if _, err := exec.LookPath("apache2"); err != nil {
		t.Skip("apache2 is not installed; scripts/test installs it")
	}
	if _, err := os.Stat(modules); err != nil {
		t.Skip("the modules of Apache are not where Debian has them")
	}
}

// frame is a whole configuration around what a test wants.
func frame(g *ground.Ground, port, inside string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "ServerRoot %s\nPidFile %s/pid-%s\nMutex file:%s\nDefaultRuntimeDir %s\nListen 127.0.0.1:%s\nErrorLog %s/error-%s.log\n", g.Dir, g.Dir, port, g.Dir, g.Dir, port, g.Dir, port)
	for _, name := range []string{"mpm_prefork", "authz_core", "authz_host", "authz_user", "authn_core", "authn_file", "auth_basic", "access_compat", "alias", "dir", "autoindex", "mime", "headers", "expires", "filter", "deflate", "rewrite", "setenvif", "env", "proxy", "proxy_fcgi", "socache_shmcb", "ssl"} {
		fmt.Fprintf(&b, "LoadModule %s_module %s/mod_%s.so\n", name, modules, name)
	}
	fmt.Fprintf(&b, "User www-data\nGroup www-data\nStartServers 1\nMinSpareServers 1\nMaxSpareServers 1\nTypesConfig %s/mime.types\nServerName localhost\n", g.Dir)
	return b.String() + inside
}

func start(t testing.TB, g *ground.Ground, conf, port string) (stop func()) {
	t.Helper()
	file := filepath.Join(g.Dir, "apache-"+port+".conf")
	require.NoError(t, os.WriteFile(file, []byte(conf), 0o644))
	return ground.Start(t, conf, port, exec.Command("apache2", "-X", "-d", g.Dir, "-f", file))
}

func freePort(t *testing.T) string {
	_, port, err := net.SplitHostPort(servertest.FreeAddress(t))
	require.NoError(t, err)
	return port
}

var versionShape = regexp.MustCompile(`Apache/([0-9.]+) \((\w+)\)`)

// version is that of the Apache which is installed, and how it names the system.
func version(t testing.TB) (number, system string) {
	out, err := exec.Command("apache2", "-v").CombinedOutput()
	require.NoError(t, err)
	found := versionShape.FindStringSubmatch(string(out))
	require.NotNil(t, found)
	return found[1], found[2]
}

func read(t testing.TB, g *ground.Ground, port string) *Config {
	number, system := version(t)
	tree := directives.Apache(filepath.Join(g.Dir, "apache-"+port+".conf"), directives.OS{}, directives.ApacheOptions{Version: number})
	require.Empty(t, tree.Gaps)
	return New(tree, Options{Version: number, System: system})
}

const mimeTypes = "text/html html htm\ntext/css css\ntext/javascript js\nimage/png png\nimage/jpeg jpg jpeg\napplication/json json\napplication/xml xml\ntext/plain txt\napplication/zip zip\n"
