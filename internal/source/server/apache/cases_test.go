package apache

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/directives"
	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/source/server/ground"
)

// elsewhere are directives that are carried out and have their examples in other tests: they need a whole server of their own.
var elsewhere = []string{"serverroot", "servertokens", "traceenable", "typesconfig", "php_value", "php_flag", "php_admin_value", "php_admin_flag", "sslengine", "sslprotocol", "accessfilename", "virtualhost", "servername", "documentroot", "undefine"}

// TestCases holds examples of every directive that is carried out against the real server.
func TestCases(t *testing.T) {
	needApache(t)
	g := ground.New(t)
	require.NoError(t, os.WriteFile(g.Dir+"/mime.types", []byte(mimeTypes), 0o644))
	require.NoError(t, os.WriteFile(g.Dir+"/more.conf", []byte("Header set Link included\n"), 0o644))
	port := freePort(t)
	g.Cases(t, "testdata/cases.txtar", port, func(cases []*ground.Case) (string, func(answer.Ask) *answer.Answer, func()) {
		var b strings.Builder
		fmt.Fprintf(&b, "<Directory %s>\nOptions Indexes FollowSymLinks\nAllowOverride None\nRequire all granted\n</Directory>\n", g.Dir)
		for _, c := range cases {
			b.WriteString(c.Text(c.Around))
			fmt.Fprintf(&b, "<VirtualHost *:%s>\nServerName %s\nDocumentRoot %s\n%s</VirtualHost>\n", port, c.Host, c.Root(), c.Text(c.Lines))
		}
		conf := frame(g, port, b.String())
		stop := start(t, g, conf, port)
		config := read(t, g, port)
		used := map[string]bool{}
		for _, name := range elsewhere {
			used[name] = true
		}
		use := func(n *directives.Node) bool {
			used[strings.ToLower(n.Name)] = true
			return true
		}
		directives.Walk(config.Tree.Root, use)
		for _, c := range cases {
			for _, line := range append(append([]string{}, c.Overrides...), c.Lines...) {
				name, _, _ := strings.Cut(strings.Trim(strings.TrimSpace(line), "<>"), " ")
				used[strings.ToLower(name)] = true
			}
		}
		for name, r := range rows {
			if r.kind == evaluated {
				assert.True(t, used[name], "no example of %s", r.name)
			}
		}
		return conf, config.Answer, stop
	})
}
