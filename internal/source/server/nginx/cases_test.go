package nginx

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

// TestCases holds examples of every directive that is carried out against the real server.
func TestCases(t *testing.T) {
	needNginx(t)
	g := ground.New(t)
	require.NoError(t, os.WriteFile(g.Dir+"/mime_of_mine", []byte("types { text/html html htm; text/css css; application/javascript js; image/png png; image/jpeg jpg jpeg; application/json json; text/xml xml; text/plain txt; application/zip zip; }\n"), 0o644))
	port := freePort(t)
	g.Cases(t, "testdata/cases.txtar", port, func(cases []*ground.Case) (string, func(answer.Ask) *answer.Answer, func()) {
		var b strings.Builder
		fmt.Fprintf(&b, "include %s/mime_of_mine;\nserver_names_hash_bucket_size 128;\nfastcgi_cache_path %[1]s/kept keys_zone=kept:1m;\nproxy_cache_path %[1]s/lent keys_zone=lent:1m;\nlimit_req_zone $binary_remote_addr zone=calm:1m rate=1000r/s;\n", g.Dir)
		for _, c := range cases {
			b.WriteString(c.Text(c.Around))
			fmt.Fprintf(&b, "server {\nlisten 127.0.0.1:%s;\nserver_name %s;\nroot %s;\n%s}\n", port, c.Host, c.Root(), c.Text(c.Lines))
		}
		conf := frame(g, port, b.String())
		stop := start(t, g, conf, port)
		config := read(t, g, port)
		used := map[string]bool{"listen": true}
		directives.Walk(config.Tree.Root, func(n *directives.Node) bool {
			used[n.Name] = true
			return true
		})
		for name, kind := range classes {
			if kind == evaluated && name != "ssl" { // which nginx does not know any more since 1.25.1
				assert.True(t, used[name], "no example of %s", name)
			}
		}
		return conf, config.Answer, stop
	})
}
