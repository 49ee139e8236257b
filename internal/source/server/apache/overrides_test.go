package apache

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/source/server/ground"
)

// What is read of an override file as allowed is what the real server takes as allowed, or it is said that it cannot be told.
func TestHostileOverrides(t *testing.T) {
	needApache(t)
	assert.GreaterOrEqual(t, len(ground.Overrides), 60)
	g := ground.New(t)
	require.NoError(t, os.WriteFile(g.Dir+"/mime.types", []byte(mimeTypes), 0o644))
	folders, n := map[string]string{}, 0
	for name, text := range ground.Overrides {
		n++
		folders[name] = fmt.Sprintf("/h%d", n)
		dir := filepath.Join(g.Dir, "site", folders[name])
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, os.WriteFile(dir+"/.htaccess", []byte(text), 0o644))
		require.NoError(t, os.WriteFile(dir+"/x.txt", []byte("x"), 0o644))
	}
	t.Setenv("APACHE_LAMP", "lit")
	for allowed, directive := range map[string]string{"all": "AllowOverride All", "headers": "AllowOverride FileInfo", "a list": "AllowOverride None\nAllowOverrideList Header IfModule", "what does no harm": "AllowOverride FileInfo Nonfatal=All", "not headers, and no harm": "AllowOverride Indexes Nonfatal=Override"} {
		t.Run(allowed, func(t *testing.T) {
			port := freePort(t)
			conf := frame(g, port, fmt.Sprintf("ServerTokens Prod\nDefine LAMP\nDefine SHELF mod_headers.c\nDefine LOAD LoadModule\nDefine END </IfModule>\nDefine ENDFILES </Files>\nDefine FILES \"<Files x.txt>\"\nDefine WHOLE \"Header set X-Mark there\"\nDefine PAIR \"X-Mark there\"\n"+
				"Define THERE there\nDefine DARK\nUnDefine DARK\nDocumentRoot %[1]s/site\n<Directory %[1]s>\n%[2]s\nRequire all granted\n</Directory>\n", g.Dir, directive))
			stop := start(t, g, conf, port)
			defer stop()
			number, _ := strconv.Atoi(port)
			config := read(t, g, port)
			untold := 0
			for name, folder := range folders {
				a := answer.Ask{Scheme: "http", Host: "lantern-lane.example", HostPort: number, Port: number, Local: ground.Loopback, Client: ground.Loopback, Target: folder + "/x.txt", Header: map[string]string{}}
				real, err := ground.Fetch(t, port, a)
				require.NoError(t, err)
				told := config.Answer(a)
				status, mark := told.Get(answer.Status), told.Get(answer.Header("x-mark"))
				if !status.Known() {
					untold++
					continue
				}
				assert.Equal(t, strconv.Itoa(real.Status), status.Text(), "%s: %q", name, ground.Overrides[name])
				if mark.Known() {
					assert.Equal(t, real.Header.Get("X-Mark"), mark.Text(), "%s: %q", name, ground.Overrides[name])
				}
			}
			t.Logf("%d of %d are not told", untold, len(folders))
			assert.Less(t, untold, len(folders)/4)
		})
	}
}
