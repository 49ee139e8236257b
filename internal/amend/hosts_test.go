package amend

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

// TestOtherSitesAreToldItToo: where a file is included by another site's host, or a line stands where it is for all, the change names that host; of one in the
// site's own host it names none.
func TestOtherSitesAreToldItToo(t *testing.T) {
	other := "  server {\n    listen 80;\n    server_name www.other.example;\n    root DIR/www;\nOTHERS\n  }\n}\n"
	host := "    listen 80;\n    server_name site.example;\n    root DIR/www;\n"
	apache := "Listen 80\n" + apacheModules + "HEAD\n<VirtualHost *:80>\nServerName site.example\nDocumentRoot DIR/www\nOWN\n</VirtualHost>\n<VirtualHost *:80>\nServerName www.other.example\nDocumentRoot DIR/www\nOTHERS\n</VirtualHost>\n"
	shared := "location /posters/ { autoindex on; }\n"
	folder := "<Directory DIR/www/posters>\nRequire all granted\nOptions +Indexes\n</Directory>\n"
	for name, c := range map[string]struct {
		kind, text, include string
		others              string // part of what is named; "" for nothing
	}{
		"shared":                         {"nginx", "events {}\nhttp {\n  server {\n" + host + "    include part.conf;\n  }\n" + strings.Replace(other, "OTHERS", "    include part.conf;", 1), shared, "www.other.example ("},
		"its own":                        {"nginx", "events {}\nhttp {\n  server {\n" + host + "    include part.conf;\n  }\n" + strings.Replace(other, "OTHERS", "", 1), shared, ""},
		"for all":                        {"nginx", "events {}\nhttp {\n  include part.conf;\n  server {\n" + host + "  }\n" + strings.Replace(other, "OTHERS", "", 1), "autoindex on;\n", "www.other.example ("},
		"shared, at Apache":              {"apache", strings.NewReplacer("HEAD", "", "OWN", "Include part.conf", "OTHERS", "Include part.conf").Replace(apache), folder, "www.other.example ("},
		"for all, at Apache":             {"apache", strings.NewReplacer("HEAD", "Include part.conf", "OWN", "", "OTHERS", "").Replace(apache), folder, "www.other.example ("},
		"a folder of its own, at Apache": {"apache", strings.Replace(strings.NewReplacer("HEAD", "Include part.conf", "OWN", "", "OTHERS", "").Replace(apache), "ServerName www.other.example\nDocumentRoot DIR/www\n", "ServerName www.other.example\nDocumentRoot DIR/other\n", 1), folder, ""},
		"a folder above both, at Apache": {"apache", strings.Replace(strings.NewReplacer("HEAD", "Include part.conf", "OWN", "", "OTHERS", "").Replace(apache), "ServerName www.other.example\nDocumentRoot DIR/www\n", "ServerName www.other.example\nDocumentRoot DIR/other\n", 1), "<Directory DIR>\nRequire all granted\nOptions +Indexes\n</Directory>\n", "www.other.example ("},
	} {
		t.Run(name, func(t *testing.T) {
			w, dir := worldOf(t, c.kind, c.text)
			if c.kind == "apache" {
				text, err := os.ReadFile(filepath.Join(dir, "server.conf"))
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(filepath.Join(dir, "server.conf"), []byte("ServerRoot "+dir+"\n"+string(text)), 0o644))
			}
			require.NoError(t, os.WriteFile(filepath.Join(dir, "part.conf"), []byte(strings.ReplaceAll(c.include, "DIR", dir)), 0o644))
			w.Own = func(name string) bool { return name == "site.example" }
			am, err := For(t.Context(), w, facts.Wish{Unlist: true}, at("/posters/"))
			require.NoError(t, err)
			require.NotEmpty(t, am.Files)
			if c.others == "" {
				assert.Empty(t, am.Hosts)
				return
			}
			require.Len(t, am.Hosts, 1)
			assert.Contains(t, am.Hosts[0], c.others)
		})
	}
}
