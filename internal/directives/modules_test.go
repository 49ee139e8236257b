package directives

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The name of a module's source stands in the module itself: each that Debian packages is called as the table says, and each of them is in it.
func TestSourcesOfModules(t *testing.T) {
	loads, _ := filepath.Glob("/etc/apache2/mods-available/*.load")
	if len(loads) == 0 {
		t.Skip("apache2 is not installed; scripts/test installs it")
	}
	seen := 0
	for _, load := range loads {
		text, err := os.ReadFile(load)
		require.NoError(t, err)
		for _, line := range strings.Split(string(text), "\n") {
			words := strings.Fields(line)
			if len(words) != 3 || words[0] != "LoadModule" {
				continue
			}
			module, err := os.ReadFile(words[2])
			require.NoError(t, err)
			source := sourceOf(words[1])
			assert.NotEmpty(t, source, words[1])
			within := bytes.Contains(module, []byte("\x00"+source+"\x00")) || bytes.Contains(module, []byte("/"+source+"\x00")) // the server takes the path off
			assert.True(t, within, "%s is not called %s", words[1], source)
			assert.True(t, isSource(source), source)
			seen++
		}
	}
	assert.Greater(t, seen, 80)
}

// Of a module that nobody here knows the name of its source is not known either, and so it is not of what asks for one by such a name.
func TestAForeignModule(t *testing.T) {
	read := func(text string) *Tree {
		return ApacheOverride("/x/.htaccess", []byte(text), Apache("/c/a.conf", memory{"/c/a.conf": "LoadModule lantern_module /m/lantern.so\nLoadModule headers_module /m/mod_headers.so\n"}, ApacheOptions{}))
	}
	for text, known := range map[string]bool{"lantern_module": true, "!lantern_module": true, "mod_headers.c": true, "!mod_headers.c": true, "mod_ssl.c": true, "prefork.c": true, "other_module": true, "mod_lantern.c": false, "!mod_lantern.c": false, "lantern.c": false} {
		assert.Equal(t, known, len(read("<IfModule "+text+">\nOptions None\n</IfModule>\n").Gaps) == 0, text)
	}
}
