package runtime

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

// A told case is a set of files, and what follows from it for programs of a folder of the site.
type toldCase struct {
	name      string
	files     map[string]string // below a folder that holds php and www; DIR stands for it
	at        string            // the folder, www when empty
	module    bool
	handed    []Told
	elsewhere []Told
	is        map[string]string // "directive": "value FILE:LINE", or "? reason"
	trouble   string            // "kind FILE:LINE" of the only one; "" for none
}

const onePool = "[site]\nlisten = 9000\n"

var toldCases = []toldCase{
	{name: "nothing is said", is: map[string]string{"display_errors": "1 default", "memory_limit": "128M default", "session.save_path": "? nothing says it"}},
	{name: "the scan folder comes after php.ini, by name, dots too", files: map[string]string{"php/php.ini": "memory_limit = 1M\n", "php/conf.d/20-b.ini": "memory_limit = 2M\n", "php/conf.d/.z.ini": "memory_limit = 3M\ndisplay_errors = 0\n"},
		is: map[string]string{"memory_limit": "2M 20-b.ini:1", "display_errors": "0 .z.ini:2"}},
	{name: "a mistake ends the reading of its file alone", files: map[string]string{"php/php.ini": "memory_limit = 1M\nbroken = (\ndisplay_errors = Off\n", "php/conf.d/a.ini": "log_errors = On\n"},
		is: map[string]string{"memory_limit": "1M php.ini:1", "display_errors": "1 default", "log_errors": "1 a.ini:1"}, trouble: "lost php.ini:2"},
	{name: "the first of two lines of a pool counts", files: map[string]string{"php/php-fpm.conf": onePool + "php_value[memory_limit] = 1M\nphp_value[memory_limit] = 2M\n"}, is: map[string]string{"memory_limit": "1M php-fpm.conf:3"}},
	{name: "a folder's own file beats the pool's value", files: map[string]string{"php/php-fpm.conf": onePool + "php_value[memory_limit] = 1M\n", "www/.user.ini": "memory_limit = 2M\n"}, is: map[string]string{"memory_limit": "2M .user.ini:1"}},
	{name: "and not the pool's administrator's", files: map[string]string{"php/php-fpm.conf": onePool + "php_admin_value[memory_limit] = 1M\n", "www/.user.ini": "memory_limit = 2M\n"},
		is: map[string]string{"memory_limit": "1M php-fpm.conf:3"}, trouble: "no effect .user.ini:1"},
	{name: "a section for a folder beats both", files: map[string]string{"php/php.ini": "[PATH=DIR/www]\nmemory_limit = 9M\n", "php/php-fpm.conf": onePool + "php_admin_value[memory_limit] = 1M\n", "www/.user.ini": "memory_limit = 2M\n"},
		is: map[string]string{"memory_limit": "9M php.ini:2"}, trouble: "no effect .user.ini:1"},
	{name: "a heading of another kind does not end it", files: map[string]string{"php/php.ini": "[HOST=other.example]\n[PHP]\nmemory_limit = 9M\n"}, is: map[string]string{"memory_limit": "128M default"}},
	{name: "the host of a section is in lower case", files: map[string]string{"php/php.ini": "[HOST=Site.Example]\nmemory_limit = 9M\n"}, is: map[string]string{"memory_limit": "9M php.ini:2"}},
	{name: "the deeper folder's own file counts", at: "www/shop", files: map[string]string{"www/.user.ini": "memory_limit = 1M\ndisplay_errors = 0\n", "www/shop/.user.ini": "memory_limit = 2M\n"},
		is: map[string]string{"memory_limit": "2M .user.ini:1", "display_errors": "0 .user.ini:2"}},
	{name: "what may not be set for a folder", files: map[string]string{"www/.user.ini": "allow_url_include = On\n"}, is: map[string]string{"allow_url_include": "0 default"}, trouble: "no effect .user.ini:1"},
	{name: "of two values of a kind the last is sent", handed: []Told{{Kind: "PHP_VALUE", Value: "memory_limit=1M"}, {Kind: "PHP_VALUE", Value: "display_errors=0\nlog_errors=1"}},
		is: map[string]string{"memory_limit": "128M default", "display_errors": "0 server.conf:1", "log_errors": "1 server.conf:1"}},
	{name: "what is sent for another place stays in the worker", elsewhere: []Told{{Kind: "PHP_VALUE", Value: "memory_limit=1M"}}, files: map[string]string{"php/php.ini": "display_errors = 0\n"},
		is: map[string]string{"memory_limit": "? it depends on the worker", "display_errors": "0 php.ini:1"}},
	{name: "and beats a folder's own file only as an administrator's", elsewhere: []Told{{Kind: "PHP_VALUE", Value: "memory_limit=1M"}, {Kind: "PHP_ADMIN_VALUE", Value: "display_errors=1"}}, files: map[string]string{"www/.user.ini": "memory_limit = 2M\ndisplay_errors = 0\n"},
		is: map[string]string{"memory_limit": "2M .user.ini:1", "display_errors": "? it depends on the worker"}},
	{name: "what the server says of it cannot be told", handed: []Told{{Kind: "PHP_VALUE", Value: "memory_limit=1M", Unknown: "it is made of variables"}}, is: map[string]string{"memory_limit": "? it is made of variables"}},
	{name: "a size that is none", files: map[string]string{"php/php.ini": "upload_max_filesize = lots\n"}, is: map[string]string{"upload_max_filesize": "lots php.ini:1"}, trouble: "no size php.ini:1"},
	{name: "a name in the wrong case", files: map[string]string{"php/php.ini": "Display_Errors = Off\n"}, is: map[string]string{"display_errors": "1 default"}, trouble: "no effect php.ini:1"},
	{name: "a name of a session that is none", files: map[string]string{"php/php.ini": "session.name = STAGE\nsession.name = 42\n"}, is: map[string]string{"session.name": "PHPSESSID default"}, trouble: "no effect php.ini:2"},
	{name: "what the environment says", files: map[string]string{"php/php.ini": "memory_limit = 5M\nupload_max_filesize = ${memory_limit}\npost_max_size = ${LIMIT}\n"}, is: map[string]string{"upload_max_filesize": "5M php.ini:2", "post_max_size": "? it is made of ${LIMIT}"}},
	{name: "files of folders may be called otherwise", files: map[string]string{"php/php.ini": "user_ini.filename = .here.ini\n", "www/.user.ini": "memory_limit = 1M\n", "www/.here.ini": "memory_limit = 2M\n"}, is: map[string]string{"memory_limit": "2M .here.ini:1"}},
	{name: "in Apache the nearer section counts", module: true, handed: []Told{{Kind: "php_value", Name: "memory_limit", Value: "1M"}, {Kind: "php_flag", Name: "memory_limit", Value: "on"}, {Kind: "php_value", Name: "memory_limit", Value: "2M"}}, is: map[string]string{"memory_limit": "2M server.conf:1"}},
	{name: "and an administrator's before it", module: true, handed: []Told{{Kind: "php_admin_flag", Name: "display_errors", Value: "off"}, {Kind: "php_value", Name: "display_errors", Value: "1", Override: true}}, files: map[string]string{"www/.user.ini": "display_errors = 1\n"},
		is: map[string]string{"display_errors": "0 server.conf:1"}, trouble: "no effect server.conf:1"},
	{name: "the byte-code cache is not switched on after the start", files: map[string]string{"php/php.ini": "opcache.enable = 0\n", "www/.user.ini": "opcache.enable = 1\n"}, is: map[string]string{"opcache.enable": "0 php.ini:1"}, trouble: "no effect .user.ini:1"},
	{name: "after a warning settings of sessions are not taken", files: map[string]string{"www/.user.ini": "memory_limit = 8MB\nsession.cookie_secure = 1\n"}, is: map[string]string{"session.cookie_secure": "? the runtime may have warned"}, trouble: "no size .user.ini:1"},
}

func TestWhatIsTold(t *testing.T) {
	for _, c := range toldCases {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			files := map[string]string{"php/php.ini": "", "php/php-fpm.conf": onePool, "www/shop/x": ""}
			for name, text := range c.files {
				files[name] = text
			}
			for name, text := range files {
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(strings.ReplaceAll(text, "DIR", dir)), 0o644))
			}
			at := func(list []Told) []Told {
				for i := range list {
					list[i].Origin = facts.Origin{File: "server.conf", Line: 1}
				}
				return list
			}
			folder := "www"
			if c.at != "" {
				folder = c.at
			}
			s := &Source{Config: Read(nil, filepath.Join(dir, "php"), c.module), Dir: dir, Elsewhere: at(c.elsewhere),
				Places: []Place{{Address: "/", Script: filepath.Join(dir, folder, "index.php"), Module: c.module, Listen: []string{"127.0.0.1:9000"}, Root: filepath.Join(dir, "www"), Host: "site.example", Told: at(c.handed)}}}
			values := s.Config.Values(s.Places[0], s.Elsewhere)
			for name, want := range c.is {
				v := values[name]
				got := strings.TrimSpace(v.Value + " " + filepath.Base(v.Origin.File) + ":" + lineOf(v.Origin))
				switch {
				case v.Unknown != "":
					got = "? " + v.Unknown
				case v.Origin.Default != "":
					got = strings.TrimSpace(v.Value + " default")
				}
				if strings.HasPrefix(want, "? ") {
					assert.True(t, strings.HasPrefix(got, want), "%s: %s", name, got)
				} else {
					assert.Equal(t, want, got, name)
				}
			}
			seen, err := s.Gather(t.Context())
			require.NoError(t, err)
			var troubles []string
			for _, trouble := range seen.Troubles {
				if trouble.Kind == facts.WorkerDepends || trouble.Line == ".user.ini" {
					continue // of these each case with such a line has one
				}
				troubles = append(troubles, trouble.Kind+" "+filepath.Base(trouble.At.File)+":"+lineOf(trouble.At))
			}
			assert.Equal(t, c.trouble, strings.Join(troubles, ", "), "%v", seen.Troubles)
		})
	}
}

func lineOf(o facts.Origin) string {
	return strings.TrimPrefix(facts.Origin{File: "x", Line: o.Line}.String(), "x, line ")
}

// What could not be read leaves unknown what it may say, and what comes after it is told all the same.
func TestWhatCannotBeReadIsUnknown(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"php/php-fpm.conf": onePool + "php_admin_value[memory_limit] = 1M\n", "www/x": ""} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "php", "php.ini"), 0o755)) // no file
	s := &Source{Config: Read(nil, filepath.Join(dir, "php"), false), Dir: dir, Places: []Place{{Address: "/", Script: filepath.Join(dir, "www/index.php"), Listen: []string{"127.0.0.1:9000"}, Root: filepath.Join(dir, "www")}}}
	seen, err := s.Gather(t.Context())
	require.NoError(t, err)
	assert.True(t, seen.Partial())
	_, known := seen.Effective("runtime.errors_shown")
	assert.False(t, known)
	assert.Contains(t, seen.Folders[0].Why("errors_shown").Because, "php.ini could not be read")
	limit, known := seen.Effective("runtime.memory_limit")
	assert.True(t, known, "the pool's administrator's line holds whatever php.ini says")
	assert.EqualValues(t, 1<<20, limit.Value.Number())
	for _, g := range seen.Gaps {
		assert.NotContains(t, g.Because, dir, "files are named from the site's folder")
	}
}

// A pool is found by where it listens, in the spellings that both sides have for it.
func TestPools(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "php/pool.d"), 0o755))
	require.NoError(t, os.Symlink(dir, filepath.Join(dir, "run")))
	for name, text := range map[string]string{"php.ini": "", "php-fpm.conf": "[global]\npid = x\ninclude=pool.d/*.conf\n", "pool.d/a.conf": "[a]\nlisten = " + dir + "/$pool.sock\nphp_value[memory_limit] = 1M\n[b]\nlisten = 127.0.0.1:9001\n",
		"pool.d/b.conf": "[a]\nphp_admin_flag[display_errors] = off\n", "pool.d/.hidden.conf": "[c]\nlisten = 9002\n", "pool.d/c.conf": "[d]\nlisten = [::1]:9003\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "php", name), []byte(text), 0o644))
	}
	c := Read(nil, filepath.Join(dir, "php"), false)
	assert.Empty(t, c.gaps)
	for asked, name := range map[string]string{"unix:" + dir + "/a.sock": "a", "unix:" + dir + "/run/a.sock": "a", "127.0.0.1:9001": "b", "localhost:9001": "b", "[::1]:9003": "d", "127.0.0.1:9002": "", "10.0.0.1:9001": "", "unix:/nowhere": ""} {
		p := c.poolOf([]string{asked})
		if name == "" {
			assert.Nil(t, p, asked)
			continue
		}
		require.NotNil(t, p, asked)
		assert.Equal(t, name, p.name, asked)
	}
	assert.Len(t, c.poolOf([]string{"unix:" + dir + "/a.sock"}).lines, 2, "sections of one name are one pool")
	assert.Nil(t, c.poolOf([]string{"127.0.0.1:9001", "[::1]:9003"}), "which of two answers cannot be told")
}

// Whose a version is, and until when it is mended.
func TestVersions(t *testing.T) {
	for full, want := range map[string]string{"8.2.36-1~deb12u1": "Debian 12 2028-06-30", "8.2.29-1+0~20250703.101+debian12~1.gbp0a1b2c": " 2026-12-31", "7.4.33-1+deb11u9": "Debian 11 2026-08-31", "8.4.1-1~deb13u1": "Debian 13 2030-06-30",
		"8.3.6-0ubuntu0.24.04.5": "Ubuntu 24.04 2029-04-30", "8.1.2-1ubuntu2.22": "Ubuntu 22.04 2027-04-30", "8.3.14-1": " 2027-12-31", "9.9.1-1": " "} {
		by := whose(full)
		until := mendedTo(full[:3], by)
		day := ""
		if until != 0 {
			day = facts.NumberOf(facts.Date, until).String()
		}
		assert.Equal(t, want, by+" "+day, full)
	}
	status := filepath.Join(t.TempDir(), "status")
	require.NoError(t, os.WriteFile(status, []byte("Package: php8.2-fpm\nStatus: deinstall ok config-files\nVersion: 8.2.1\n\nPackage: php8.3-fpm\nStatus: install ok installed\nVersion: 2:8.3.6-0ubuntu1\n\n"), 0o644))
	assert.Equal(t, "8.3.6-0ubuntu1", packaged("php8.3-fpm", status))
	assert.Empty(t, packaged("php8.2-fpm", status), "it was removed")
}
