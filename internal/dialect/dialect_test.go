package dialect

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

const small = `dialect: pebble
version: 1
stores:
  config: {file: config.php, format: php}
  options: {database: main, table: options, key: k, value: v}
databases:
  main: {sqlite: site.db}
settings:
  site.title: {from: options/title, default: ""}
`

func load(t *testing.T, text string) (*Dialect, error) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "own.yaml"), []byte(text), 0o600))
	return Load("./own.yaml", dir)
}

func TestShippedDialectsAreInOrder(t *testing.T) {
	for _, name := range Shipped() {
		d, err := Load(name, "")
		require.NoError(t, err)
		assert.Equal(t, name, d.Name)
		assert.NotEmpty(t, d.Names())
	}
}

func TestAMistakeInADialectIsAnErrorWithItsPlace(t *testing.T) {
	_, err := load(t, small)
	require.NoError(t, err)
	for _, c := range []struct{ old, new, want string }{
		{"dialect: pebble\n", "", "dialect is missing"},
		{"version: 1\n", "version: 0\n", "version is missing"},
		{"site.title:", "site.titel:", `line 9, column 16: there is no setting "site.titel" (did you mean "site.title"?)`},
		{"options/title", "optoins/title", `there is no store "optoins" (did you mean "options"?)`},
		{"options/title", "options", "names no key"},
		{"config.php", "../config.php", "leaves the root"},
		{"config.php", "/etc/config.php", "leaves the root"},
		{"format: php", "format: phq", `there is no format "phq" (did you mean "php"?)`},
		{"database: main, table", "database: mian, table", `there is no database "mian"`},
		{"key: k, ", "", "needs file and format, or table, key and value"},
		{"{from: options/title, default: \"\"}", "{default: x}", "either from or query"},
		{"{from: options/title, default: \"\"}", "{query: DELETE FROM options}", "one SELECT"},
		{"{from: options/title, default: \"\"}", "{query: \"SELECT 1; DROP TABLE options\"}", "without a semicolon"},
		{"site.title: {from: options/title, default: \"\"}", "session.idle: {from: options/idle, unit: minuets}", `there is no unit "minuets"`},
		{"site.title: {from: options/title, default: \"\"}", "session.idle: {from: options/idle, default: soon}", `default "soon" is no duration`},
		{"site.title: {from: options/title, default: \"\"}", "registration.role: {from: options/r, words: {a: lowset}}", `"a" is translated to "lowset", which is none of lowest, author, editor, highest (did you mean "lowest"?)`},
		{"settings:", "roles: {confg: [a]}\nsettings:", `there is no role "confg" (did you mean "config"?)`},
		{"settings:", "roles: {config: [../a]}\nsettings:", "no path below the root"},
		{"settings:", "roles: {config: [a/*.php]}\nsettings:", "wildcards stand in a name without slashes"},
		{"settings:", "lists: {acounts: {database: main, query: SELECT 1}}\nsettings:", `there is no list "acounts"`},
		{"settings:", "variables: {x: {from: none/x}}\nsettings:", `there is no store "none"`},
		{"settings:", "public: ..\nsettings:", "leaves the root"},
	} {
		_, err := load(t, strings.Replace(small, c.old, c.new, 1))
		assert.ErrorContains(t, err, c.want, c.new)
	}
	_, err = Load("brindel", "")
	assert.ErrorContains(t, err, `there is no dialect "brindel" (did you mean "brindle"?)`)
	_, err = Load("./none.yaml", t.TempDir())
	assert.ErrorContains(t, err, "no such file")
}

func TestTranslations(t *testing.T) {
	setting := func(name string, s Setting) Setting {
		entry, known := facts.Lookup(facts.Settings + "." + name)
		require.True(t, known, name)
		s.Name, s.Type = name, entry.Type
		return s
	}
	words := map[string]string{"reader": "lowest", "keeper": "highest"}
	for _, c := range []struct {
		setting Setting
		stored  any
		want    string // as shown, or the error
	}{
		{setting("site.title", Setting{}), "A", "A"},
		{setting("site.title", Setting{}), nil, ""},
		{setting("site.title", Setting{}), []any{"a"}, "no single value"},
		{setting("meta.robots_index", Setting{Inverted: true}), "1", "no"},
		{setting("meta.robots_index", Setting{Inverted: true}), false, "yes"},
		{setting("meta.robots_index", Setting{}), "maybe", "is not a yes or no"},
		{setting("comments.open", Setting{Words: map[string]string{"open": "yes"}}), "open", "yes"},
		{setting("session.idle", Setting{Unit: "minutes"}), int64(90), "1h30m"},
		{setting("session.idle", Setting{Unit: "minutes"}), "9223372036854775807", "out of range"},
		{setting("session.idle", Setting{}), "45m", "45m"},
		{setting("upload.size", Setting{Unit: "KiB"}), "8192", "8 MiB"},
		{setting("registration.role", Setting{Words: words}), "reader", "lowest"},
		{setting("registration.role", Setting{Words: words}), "janitor", "does not translate"},
		{setting("front.shows", Setting{}), "page", "page"},
		{setting("front.shows", Setting{}), "pages", "none of posts, page"},
		{setting("permalink.pattern", Setting{Placeholders: map[string]string{"<n>": "{name}", "<n>x": "{id}"}}), "/<n>/<n>x", "/{name}/{id}"},
		{setting("upload.types", Setting{Split: " "}), " jpg  png ", "jpg, png"},
		{setting("upload.types", Setting{}), []any{"jpg", int64(7)}, "jpg, 7"},
		{setting("security.secret", Setting{}), "hush", "set, 4 characters"},
		{setting("feed.items", Setting{}), 20.0, "20"},
	} {
		v, err := c.setting.Value(c.stored)
		if err != nil {
			assert.ErrorContains(t, err, c.want, c.setting.Name)
			continue
		}
		assert.Equal(t, c.want, v.String(), "%s %v", c.setting.Name, c.stored)
	}
	s := setting("site.title", Setting{Factory: []string{"My Pebble"}})
	assert.True(t, s.IsFactory(" my pebble "))
	assert.False(t, s.IsFactory("mine"))
	assert.False(t, s.IsFactory([]any{"My Pebble"}))
}

func TestRoles(t *testing.T) {
	d := &Dialect{Roles: Roles{Config: {"config.php"}, Uploads: {"public/media/"}, Private: {"data/", "*.key", ".git/"}, Code: {"public/media/sets/"}}}
	m := NewMatcher(d)
	for path, want := range map[string]string{
		"config.php": Config, "old/config.php": Other, "public/media/a.jpg": Uploads, "public/media/x/y/z.jpg": Uploads,
		"public/media/sets/a.js": Code, "public/mediaeval/a.jpg": Other, "public/media/secret.key": Private,
		"a/.git/HEAD": Private, ".git/objects/ab/cd": Private, "data/x.db": Private, "public/.htaccess": Override,
		"public/media/.htaccess": Override, "dump.sql": Backup, "dump.sql.gz": Backup, "page.html~": Backup, "index.html": Other,
	} {
		dir := filepath.ToSlash(filepath.Dir(path))
		assert.Equal(t, want, m.Role(path, m.Folder(dir)), path)
	}
	assert.Equal(t, []string{"config.php"}, m.Exact(Config))
	plain := NewMatcher(nil)
	assert.Equal(t, Config, plain.Role("deep/down/config.php", Other), "without a dialect a name counts anywhere")
	assert.Empty(t, plain.Exact(Config))
}

func FuzzDialect(f *testing.F) {
	f.Add([]byte(small))
	source, _ := Source("brindle")
	f.Add(source)
	f.Fuzz(func(t *testing.T, data []byte) { _, _ = parse("f.yaml", data) })
}
