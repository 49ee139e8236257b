package trial

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/directives"
	"weltaxis/internal/servertest"
	"weltaxis/internal/source/server"
	"weltaxis/internal/source/server/apache"
	"weltaxis/internal/source/server/ground"
)

// Of what lies in a site's tree nothing reaches a server's test but directives that may stand in an override file, one a line, by their usual names.
func TestNothingOfATreeIsHandedOverAsText(t *testing.T) {
	servertest.Program(t, "apache2")
	b := newBench(t, server.Apache, map[string]string{"server.conf": "Define LAMP\nDefine SHELF mod_headers.c\nDefine LOAD LoadModule\nDefine END </IfModule>\nDefine FILES \"<Files x.txt>\"\nDefine ENDFILES </Files>\nDefine WHOLE \"LoadModule evil_module /no/such.so\"\n" + manyOfApache, "sites/a.conf": ""})
	servers, gaps := b.court().Open(nil)
	require.Empty(t, gaps)
	s := servers.Servers[0]
	handed := 0
	for name, text := range ground.Overrides {
		t.Run(name, func(t *testing.T) {
			tree := directives.ApacheOverride(b.at("site/.htaccess"), []byte(text), s.Tree)
			copied, err := copyOf(s, setting{dir: "/nowhere"}, map[string]*directives.Tree{b.at("site/.htaccess"): tree})
			if err != nil {
				return // nothing is handed over
			}
			handed++
			_, section, there := strings.Cut(string(copied.text), "<Directory \""+b.at("site")+"\">\n")
			require.True(t, there)
			section, after, _ := strings.Cut(section, "</Directory>\n")
			assert.Empty(t, after, "what is handed over ends where it ought to")
			for line := range strings.Lines(section) {
				word, _, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
				name := strings.Trim(word, "</>")
				known, may := apache.InOverride(&directives.Node{Name: name}, s.Tree)
				assert.True(t, may && known == name, "%q", line)
			}
			assert.NotContains(t, section, "evil_module")
		})
	}
	assert.Greater(t, handed, len(ground.Overrides)/3, "most that does no harm is tested")
}

// What others may write to in any way is not tested: it would be obeyed.
func TestWhatOthersMayWriteToIsNotTested(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make what belongs to others")
	}
	for _, kind := range []string{server.Nginx, server.Apache} {
		servertest.Program(t, programs[kind][0])
		main, part := "events {}\nhttp { include part/*.conf; }\n", "server { listen 127.0.0.1:1; }\n"
		if kind == server.Apache {
			main, part = manyOfApache+"IncludeOptional part/*.conf\n", "<Directory />\nRequire all granted\n</Directory>\n"
		}
		for name, c := range map[string]struct {
			make func(t *testing.T, b bench) error
			says string
		}{
			"an owner":  {func(_ *testing.T, b bench) error { return os.Chown(b.at("part/a.conf"), 61001, 0) }, "a.conf belongs to 61001"},
			"everybody": {func(_ *testing.T, b bench) error { return os.Chmod(b.at("part/a.conf"), 0o666) }, "may be written to by everybody"},
			"a group with somebody": {func(_ *testing.T, b bench) error {
				_ = os.Chown(b.at("part/a.conf"), 0, 33)
				return os.Chmod(b.at("part/a.conf"), 0o664)
			}, "by the group www-data"},
			"a folder of another": {func(_ *testing.T, b bench) error {
				return errors.Join(os.Chmod(filepath.Dir(b.dir), 0o755), os.Chown(b.at("part"), 61001, 0), os.Chown(b.at("part/a.conf"), 61001, 0))
			}, "part belongs to 61001"},
			"a folder for a group": {func(_ *testing.T, b bench) error {
				_ = os.Chown(b.at("part"), 0, 33)
				return os.Chmod(b.at("part"), 0o775)
			}, "part may be written to by the group www-data"},
			"a list of access": {func(_ *testing.T, b bench) error {
				return exec.Command("setfacl", "-m", "u:www-data:rw", b.at("part/a.conf")).Run()
			}, "as its list of access says"},
			"a link into such a place": {func(t *testing.T, b bench) error {
				other := t.TempDir()
				_ = os.Chmod(other, 0o777)
				require.NoError(t, os.Rename(b.at("part/a.conf"), filepath.Join(other, "a.conf")))
				return os.Symlink(filepath.Join(other, "a.conf"), b.at("part/a.conf"))
			}, "may be written to by everybody"},
		} {
			t.Run(kind+" "+name, func(t *testing.T) {
				b := newBench(t, kind, map[string]string{"server.conf": main, "part/a.conf": part})
				require.NoError(t, c.make(t, b))
				v := b.try("server.conf", main)
				assert.Contains(t, v.Untested, c.says)
				assert.Contains(t, v.Untested, "would be obeyed by the test")
			})
		}
	}
}

// evil is a library that leaves a trace where it is loaded.
const evil = `#include <stdio.h>
__attribute__((constructor)) static void trace(void) { FILE *f = fopen("TRACE", "w"); if (f) fclose(f); }
`

// A module that others may have put where it lies is not loaded, and what is asked of a server while it tests is asked of nobody.
func TestModulesOfOthersAreNotLoaded(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make what belongs to others")
	}
	if _, err := exec.LookPath("cc"); err != nil {
		t.Skip("there is no C compiler")
	}
	others := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(others, "evil.c"), []byte(strings.ReplaceAll(evil, "TRACE", filepath.Join(others, "trace"))), 0o644))
	out, err := exec.Command("cc", "-shared", "-fPIC", "-o", filepath.Join(others, "evil.so"), filepath.Join(others, "evil.c")).CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.Chmod(others, 0o777))
	for kind, text := range map[string]string{server.Nginx: "load_module " + others + "/evil.so;\nevents {}\n", server.Apache: "LoadFile " + others + "/evil.so\n" + manyOfApache} {
		servertest.Program(t, programs[kind][0])
		b := newBench(t, kind, map[string]string{"server.conf": text})
		v := b.try("server.conf", text)
		assert.Contains(t, v.Untested, "evil.so, which is not loaded for a test")
		assert.NoFileExists(t, filepath.Join(others, "trace"))
	}
}

// Who tests has no right that anybody would miss: not to read what is root's, and not to leave anything behind.
func TestWhoTestsMayDoNothing(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root has rights to give up")
	}
	servertest.Program(t, "nginx")
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("hush hush;"), 0o600))
	b := newBench(t, server.Nginx, map[string]string{"server.conf": "events {}\n"})
	v := b.try("server.conf", "events {}\nhttp { ssl_password_file "+secret+"; server { listen 127.0.0.1:1; root "+secret+"; auth_basic x; auth_basic_user_file "+secret+"; } }\n")
	assert.True(t, v.passed(), "%s%s", v.Says, v.Untested)
	assert.Contains(t, strings.Join(v.Left, ""), "ssl_password_file")
	assert.Equal(t, "nginx itself, as a user that is nobody's", v.By)
}
