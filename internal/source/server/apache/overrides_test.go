package apache

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/directives"
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

// permitNames are the groups that AllowOverride knows.
var permitNames = []string{"AuthConfig", "FileInfo", "Indexes", "Limit", "Options"}

// TestPermits: what the table says of where a directive may stand is what the real server says, of all whose modules are installed.
func TestPermits(t *testing.T) {
	needApache(t)
	g := ground.New(t)
	require.NoError(t, os.WriteFile(g.Dir+"/mime.types", []byte(mimeTypes), 0o644))
	port := freePort(t)
	loaded, lines := directives.Apache("/c", emptyDisk{}, directives.ApacheOptions{}), ""
	base := frame(g, port, "")
	for _, file := range installed(t) {
		name := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(file), "mod_"), ".so")
		if !slices.Contains([]string{"dav_lock", "proxy_html", "xml2enc", "heartmonitor", "heartbeat", "suexec", "lua", "md", "cgi", "cgid", "systemd", "unique_id"}, name) && !strings.HasPrefix(name, "mpm_") && !strings.Contains(base, file) {
			lines += fmt.Sprintf("LoadModule %s_module %s\n", name, file)
		}
	}
	var cases []permitCase
	for _, r := range rows {
		if threaded[r.name] {
			continue // what only another way of working has
		}
		if loads := base + lines; r.module != "core.c" && !strings.Contains(loads, "/"+strings.TrimSuffix(r.module, ".c")+".so") && loaded.Modules[r.module] == "" {
			continue
		}
		text := r.name + " x\n"
		if inBlocks[r.name] {
			text = "<" + r.name + " x>\n</" + r.name + ">\n"
		}
		add := func(allow string, may bool) { cases = append(cases, permitCase{r.name, text, allow, may}) }
		switch r.permit {
		case "":
			add("All", false)
		case "All":
			for _, name := range permitNames {
				add(name, true)
			}
		default:
			groups := strings.Split(r.permit, "|")
			for _, group := range groups {
				add(group, true)
			}
			add(strings.Join(slices.DeleteFunc(slices.Clone(permitNames), func(name string) bool { return slices.Contains(groups, name) }), " "), false)
		}
	}
	conf := base + lines + fmt.Sprintf("DocumentRoot %[1]s/site\n<Directory %[1]s>\nRequire all granted\n</Directory>\n", g.Dir)
	for i, c := range cases {
		dir := fmt.Sprintf("%s/site/p%d", g.Dir, i)
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, os.WriteFile(dir+"/.htaccess", []byte(c.text), 0o644))
		require.NoError(t, os.WriteFile(dir+"/x.txt", []byte("x"), 0o644))
		conf += fmt.Sprintf("<Directory %s>\nAllowOverride %s\n</Directory>\n", dir, c.allow)
	}
	stop := start(t, g, conf, port)
	defer stop()
	number, _ := strconv.Atoi(port)
	for i := range cases {
		_, err := ground.Fetch(t, port, answer.Ask{Scheme: "http", Host: "localhost", HostPort: number, Port: number, Target: fmt.Sprintf("/p%d/x.txt", i), Header: map[string]string{}})
		require.NoError(t, err)
	}
	log, err := os.ReadFile(fmt.Sprintf("%s/error-%s.log", g.Dir, port))
	require.NoError(t, err)
	for i, c := range cases {
		refused := strings.Contains(string(log), fmt.Sprintf("/p%d/.htaccess: ", i)) && regexp.MustCompile(fmt.Sprintf(`(?i)/p%d/\.htaccess: <?%s>? not allowed here`, i, c.name)).Match(log)
		unknown := regexp.MustCompile(fmt.Sprintf(`(?i)/p%d/\.htaccess: Invalid command '<?%s`, i, c.name)).Match(log)
		assert.False(t, unknown, "%s is no directive of a module that is loaded", c.name)
		assert.Equal(t, !c.may, refused, "%s with AllowOverride %s", c.name, c.allow)
	}
	t.Logf("%d cases", len(cases))
}

// threaded are directives of the core's that this build, or this way of working, does not have.
var threaded = map[string]bool{"MinSpareThreads": true, "MaxSpareThreads": true, "ThreadsPerChild": true, "ThreadLimit": true, "AsyncRequestWorkerFactor": true, "EnableExceptionHook": true}

type permitCase struct {
	name, text, allow string
	may               bool
}

// inBlocks are the directives that have a block.
var inBlocks = map[string]bool{"VirtualHost": true, "Directory": true, "DirectoryMatch": true, "Location": true, "LocationMatch": true, "Files": true, "FilesMatch": true, "If": true, "ElseIf": true, "Else": true, "Limit": true, "LimitExcept": true,
	"IfModule": true, "IfDefine": true, "IfVersion": true, "IfFile": true, "RequireAny": true, "RequireAll": true, "RequireNone": true, "AuthzProviderAlias": true, "Proxy": true, "ProxyMatch": true}

// installed are the modules that Debian's package brings.
func installed(t *testing.T) []string {
	files, err := filepath.Glob(modules + "/mod_*.so")
	require.NoError(t, err)
	return files
}

type emptyDisk struct{}

func (emptyDisk) ReadBy(string, directives.By) ([]byte, error)    { return nil, nil }
func (emptyDisk) NamesBy(string, directives.By) ([]string, error) { return nil, nil }
