package dialect

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/internal/strict"
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

func loadText(t *testing.T, text string) (*Dialect, error) {
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
	_, err := loadText(t, small)
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
		{"key: k, value: v", "key: k", "needs value, the column of values, beside key"},
		{"key: k, value: v", "key: k, value: v, file: x", "is one of file and format"},
		{"version: 1", "version: 1\nbuilds_on: ./own.yaml", "builds on itself"},
		{"{sqlite: site.db}", "{sqlite: \"{file}\"}", "there is no variable {file}"},
		{"{sqlite: site.db}", "{driver: oracel, name: x}", `there is no driver "oracel"`},
		{"{from: options/title, default: \"\"}", "{parts: {a: options/a}, template: \"{b}\"}", "{b} is none of its parts"},
		{"{from: options/title, default: \"\"}", "{query: SELECT v INTO OUTFILE 'x' FROM options}", "INTO has no place behind it"},
		{"{from: options/title, default: \"\"}", "{query: SELECT pg_sleep(9)}", "does not call pg_sleep()"},
		{"settings:", "lists: {accounts: {database: main, table: t, key: id, columns: {nmae: n}}}\nsettings:", `there is no field "nmae" (did you mean "name"?)`},
		{"{from: options/title, default: \"\"}", "{default: x}", "either from, parts or query"},
		{"{from: options/title, default: \"\"}", "{query: DELETE FROM options}", "one SELECT"},
		{"{from: options/title, default: \"\"}", "{query: \"SELECT 1; DROP TABLE options\"}", `";" has no place`},
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
		_, err := loadText(t, strings.Replace(small, c.old, c.new, 1))
		assert.ErrorContains(t, err, c.want, c.new)
	}
	_, err = Load("brindel", "")
	assert.ErrorContains(t, err, `there is no dialect "brindel" (did you mean "brindle"?)`)
	_, err = Load("./none.yaml", t.TempDir())
	assert.ErrorContains(t, err, "no such file")
}

// TestNothingElseIsCalledACache: what is emptied is the role's alone, and neither in nor around what the site keeps.
func TestNothingElseIsCalledACache(t *testing.T) {
	const rest = `dialect: x
version: 1
public: public
roles: {cache: [public/kept/, var/cache/, data/, pages/, public/, system/, deep/], uploads: [public/pictures/, deep/pictures/], private: [secret/]}
stores: {ini: {file: data/site.ini, format: ini}, pages: {folder: pages/all, format: yaml}}
databases: {main: {sqlite: system/db/main.db}}
settings: {site.title: {from: ini/title}}
caches: [%s]
`
	for cache, says := range map[string]string{
		"{folder: public/kept/}": "", "{folder: var/cache}": "", "{folder: var/cache/pages}": "", "{purge: /empty}": "",
		"{folder: data}": "the store ini lies in it", "{folder: pages}": "the store pages", "{folder: pages/all}": "the store pages", "{folder: pages/all/kept}": "the store pages",
		"{folder: system}": "the database main", "{folder: system/db/}": "the database main", "{folder: public}": "the folder that is served", "{folder: ./public/}": "the folder that is served",
		"{folder: deep}": "deep/pictures/, which is uploads", "{folder: public/pictures}": "by its role it is uploads", "{folder: secret}": "by its role it is private", "{folder: elsewhere}": "by its role it is other",
		"{folder: .}": "no folder of its own", "{folder: ../x}": "no folder of its own", "{folder: /var/cache}": "no folder of its own", "{purge: empty}": "purge is a path", "{folder: a, purge: /b}": "a folder, or a path",
	} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "x.yaml"), fmt.Appendf(nil, rest, cache), 0o600))
		_, err := Load("./x.yaml", dir)
		if says == "" {
			assert.NoError(t, err, cache)
			continue
		}
		assert.ErrorContains(t, err, says, cache)
	}
}

func TestTranslations(t *testing.T) {
	setting := func(name string, s Setting) Setting {
		entry, known := facts.Lookup(facts.Settings.Name(name))
		require.True(t, known, name)
		s.Name, s.Type, s.Entry = name, entry.Type, entry
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
		{setting("meta.robots_index", Setting{Translation: Translation{Inverted: true}}), "1", "no"},
		{setting("meta.robots_index", Setting{Translation: Translation{Inverted: true}}), false, "yes"},
		{setting("meta.robots_index", Setting{}), "maybe", "is not a yes or no"},
		{setting("comments.open", Setting{Translation: Translation{Words: map[string]string{"open": "yes"}}}), "open", "yes"},
		{setting("session.idle", Setting{Translation: Translation{Unit: "minutes"}}), int64(90), "1h30m"},
		{setting("session.idle", Setting{Translation: Translation{Unit: "minutes"}}), "9223372036854775807", "out of range"},
		{setting("session.idle", Setting{}), "45m", "45m"},
		{setting("upload.size", Setting{Translation: Translation{Unit: "KiB"}}), "8192", "8 MiB"},
		{setting("registration.role", Setting{Translation: Translation{Words: words}}), "reader", "lowest"},
		{setting("registration.role", Setting{Translation: Translation{Words: words}}), "janitor", "does not translate"},
		{setting("front.shows", Setting{}), "page", "page"},
		{setting("front.shows", Setting{}), "pages", "none of posts, page"},
		{setting("permalink.pattern", Setting{Translation: Translation{Placeholders: map[string]string{"<n>": "{name}", "<n>x": "{id}"}}}), "/<n>/<n>x", "/{name}/{id}"},
		{setting("upload.types", Setting{Translation: Translation{Split: " "}}), " jpg  png ", "jpg, png"},
		{setting("upload.types", Setting{}), []any{"jpg", int64(7)}, "jpg, 7"},
		{setting("cache.page", Setting{Translation: Translation{Contains: "page_cache"}}), "gzip, Page_Cache, minify", "yes"},
		{setting("cache.page", Setting{Translation: Translation{Contains: "page_cache"}}), "gzip minify", "no"},
		{setting("cache.page", Setting{Translation: Translation{Contains: "page_cache"}}), []any{"gzip", "page_cache"}, "yes"},
		{setting("cache.page", Setting{Translation: Translation{Contains: "page_cache", Inverted: true}}), "page_cache", "no"},
		{setting("code.editing", Setting{Translation: Translation{IsSet: true}}), "", "no"},
		{setting("security.secret", Setting{}), "hush", "set, 4 characters"},
		{setting("feed.items", Setting{}), 20.0, "20"},
	} {
		v, err := c.setting.Value(c.stored)
		if err != nil {
			assert.ErrorContains(t, err, c.want, c.setting.Name)
			continue
		}
		assert.Equal(t, c.want, v.String(), "%s %v", c.setting.Name, c.stored)
		back, err := c.setting.Stored(v, Like{Old: c.stored})
		if errors.Is(err, ErrSecret) {
			continue
		}
		require.NoError(t, err, "%s %v", c.setting.Name, c.stored)
		again, err := c.setting.Value(back)
		require.NoError(t, err)
		assert.Equal(t, v, again, "%s there and back: %v, %v", c.setting.Name, c.stored, back)
	}
	s := setting("site.title", Setting{Factory: []string{"My Pebble"}})
	assert.True(t, s.IsFactory(" my pebble "))
	assert.False(t, s.IsFactory("mine"))
	assert.False(t, s.IsFactory([]any{"My Pebble"}))
}

// TestWhatIsStored: a value to be stored looks like the one that is there.
func TestWhatIsStored(t *testing.T) {
	entry := func(name string) facts.Term { e, _ := facts.Lookup(facts.Settings.Name(name)); return e }
	for _, c := range []struct {
		name, value string
		t           Translation
		like        Like
		want        any
	}{
		{"cache.page", "yes", Translation{}, Like{Old: "off"}, "on"},
		{"site.language", "en-GB", Translation{}, Like{Old: "en_US.UTF-8"}, "en_GB.UTF-8"},
		{"site.language", "de", Translation{}, Like{Old: "en_US.UTF-8"}, "de.UTF-8"},
		{"site.language", "de-AT", Translation{}, Like{Old: "C.UTF-8"}, "de-AT"},
		{"site.language", "en-GB", Translation{}, Like{Old: "de_DE@euro"}, "en_GB"},
		{"site.language", "en-GB", Translation{}, Like{Old: "en_us"}, "en_gb"},
		{"site.language", "en-GB", Translation{}, Like{Old: "en-us"}, "en-gb"},
		{"site.language", "en-GB", Translation{}, Like{Old: "en-US"}, "en-GB"},
		{"site.language", "en-GB", Translation{}, Like{Old: "fr"}, "en-GB"},
		{"site.language", "en-GB", Translation{}, Like{}, "en-GB"},
		{"site.language", "zh-Hant-TW", Translation{}, Like{Old: "en_US.UTF-8"}, "zh-Hant-TW"},
		{"site.language", "de-AT", Translation{Words: map[string]string{"german": "de-AT"}}, Like{Old: "english"}, "german"},
		{"site.title", "en-GB", Translation{}, Like{Old: "en_US.UTF-8"}, "en-GB"},
		{"cache.page", "yes", Translation{}, Like{Old: false}, true},
		{"cache.page", "no", Translation{}, Like{Old: int64(1)}, int64(0)},
		{"cache.page", "no", Translation{}, Like{Old: "TRUE"}, "FALSE"},
		{"cache.page", "yes", Translation{}, Like{}, "1"},
		{"cache.page", "yes", Translation{}, Like{Typed: true}, true},
		{"cache.page", "yes", Translation{}, Like{YesNo: []string{"ja", "nein"}}, "error: cannot be spelt"},
		{"cache.page", "yes", Translation{Words: map[string]string{"ja": "yes", "nein": "no"}}, Like{}, "ja"},
		{"meta.robots_index", "yes", Translation{Inverted: true}, Like{Old: "yes"}, "no"},
		{"session.idle", "30m", Translation{Unit: "minutes"}, Like{Old: "480"}, "30"},
		{"session.idle", "30m", Translation{Unit: "minutes"}, Like{Old: int64(480)}, int64(30)},
		{"session.idle", "30m", Translation{}, Like{Old: "8h"}, "30m"},
		{"session.idle", "30s", Translation{Unit: "minutes"}, Like{}, "error: no whole number of minutes"},
		{"cache.lifetime", "1h", Translation{Wrapped: "max-age={value}"}, Like{Old: "max-age=60"}, "max-age=3600"},
		{"upload.size", "8M", Translation{}, Like{Old: "2M"}, "8M"},
		{"upload.types", "jpg, png", Translation{Split: " "}, Like{Old: "gif"}, "jpg png"},
		{"upload.types", "jpg, png", Translation{}, Like{Old: "gif,bmp"}, "jpg,png"},
		{"upload.types", "jpg", Translation{}, Like{Old: []any{"gif"}}, []any{"jpg"}},
		{"permalink.pattern", "/{name}/", Translation{Placeholders: map[string]string{"<n>": "{name}"}}, Like{}, "/<n>/"},
		{"feed.items", "20", Translation{}, Like{Typed: true}, int64(20)},
		{"login.second_factor", "required", Translation{Words: map[string]string{"2": "required"}}, Like{Old: int64(0)}, int64(2)},
	} {
		v, err := entry(c.name).Type.Parse(c.value)
		require.NoError(t, err)
		got, err := c.t.Stored(entry(c.name), v, c.like)
		if want, wrong := strings.CutPrefix(fmt.Sprint(c.want), "error: "); wrong {
			assert.ErrorContains(t, err, want, c.name)
			continue
		}
		require.NoError(t, err, "%s %s", c.name, c.value)
		assert.Equal(t, c.want, got, "%s %s", c.name, c.value)
	}
}

func TestPartsMakeAValueAndComeApart(t *testing.T) {
	s := Setting{Template: "{scheme}://{host}/", Parts: map[string]Part{"scheme": {Words: map[string]string{"1": "https", "0": "http"}}, "host": {}}}
	assert.Equal(t, "https://a.example/", s.Compose(map[string]string{"scheme": "1", "host": "a.example"}))
	parts, ok := s.TakeApart("http://b.example/")
	assert.True(t, ok)
	assert.Equal(t, map[string]string{"scheme": "0", "host": "b.example"}, parts)
	_, ok = s.TakeApart("gopher://b.example/")
	assert.False(t, ok)
}

func TestVersionsAndWhatTheyHave(t *testing.T) {
	for _, c := range []struct {
		version, since, until string
		has                   bool
	}{{"2.10", "2.9", "", true}, {"2.9", "2.10", "", false}, {"3.0", "", "3.0", false}, {"3.0-beta", "", "3.0", true}, {"v2.4.1", "2.4", "3", true}, {"", "2", "", false}, {"", "", "", true}} {
		assert.Equal(t, c.has, In(c.version, c.since, c.until), "%+v", c)
	}
}

func TestQueriesThatMayBePut(t *testing.T) {
	d := &Dialect{Databases: map[string]Database{"main": {SQLite: "x"}}, Variables: map[string]Variable{"prefix": {}}}
	for _, query := range []string{"SELECT 1", "select count(*) from {prefix}pages where a in ('x', 'y;z')", "SELECT coalesce(max(v), 'into') FROM t WHERE (a = 1 AND (b = 2 OR c IS NULL))",
		"SELECT v FROM t WHERE id = (SELECT min(id) FROM t) AND EXISTS (SELECT 1 FROM u)", "SELECT CAST(v AS TEXT) FROM \"update\""} {
		assert.NoError(t, d.checkQuery(strict.Pos{}, query, "main"), query)
	}
	for query, want := range map[string]string{
		"UPDATE t SET v = 1": "one SELECT", "SELECT 1; DELETE FROM t": `";" has no place`, "SELECT v FROM {other}t": "there is no variable {other}", "": "one SELECT",
	} {
		assert.ErrorContains(t, d.checkQuery(strict.Pos{}, query, "main"), want, query)
	}
	assert.ErrorContains(t, d.checkQuery(strict.Pos{}, "SELECT 1", "other"), "there is no database")
}

func TestADialectBuildsOnAnother(t *testing.T) {
	_, err := loadText(t, "dialect: brindle-plus\nversion: 2\nbuilds_on: brindle\nwithout: [splash]\n")
	assert.ErrorContains(t, err, `brindle has no setting or list "splash"`)
	d, err := loadText(t, "dialect: brindle-plus\nversion: 2\nbuilds_on: brindle\nwithout: [front.splash]\nsettings:\n  site.title: {from: prompt/name}\n")
	require.NoError(t, err)
	assert.Equal(t, "prompt/name", d.Settings["site.title"].From[0].At)
	assert.Equal(t, "prompt/playbill.motto", d.Settings["site.tagline"].From[0].At)
	assert.NotContains(t, d.Names(), "front.splash")
	sure, by := d.Recognised(Traces{Holds: func(file, _ string) bool { return file == "works/brindle.php" }})
	assert.Greater(t, sure, 0.5)
	assert.Equal(t, []string{"there is works/brindle.php"}, by)
}

func TestAWordInAListIsAddedAndRemovedAlone(t *testing.T) {
	s := Setting{Name: "cache.page", Type: facts.Bool, Translation: Translation{Contains: "page_cache"}}
	for _, c := range []struct {
		old  any
		to   bool
		want any
	}{
		{"gzip, minify", true, "gzip, minify, page_cache"}, {"gzip,page_cache,minify", false, "gzip,minify"}, {"gzip page_cache", false, "gzip"},
		{[]any{"gzip"}, true, []any{"gzip", "page_cache"}}, {[]any{"Page_Cache"}, false, []any{}}, {"", true, "page_cache"},
	} {
		got, err := s.Stored(facts.BoolOf(c.to), Like{Old: c.old})
		require.NoError(t, err)
		assert.Equal(t, c.want, got, "%v", c.old)
	}
	set := Setting{Name: "code.editing", Type: facts.Bool, Translation: Translation{IsSet: true}}
	on, err := set.Value("anything")
	require.NoError(t, err)
	assert.True(t, on.Bool())
	_, err = set.Stored(facts.BoolOf(true), Like{})
	assert.ErrorContains(t, err, "only a person can say")
	off, err := set.Stored(facts.BoolOf(false), Like{Old: "anything"})
	require.NoError(t, err)
	assert.Equal(t, "", off)

	for text, wrong := range map[string]string{
		"settings: {site.title: {from: prompt/a, contains: x}}":                                     "make a yes or a no",
		"settings: {cache.page: {from: prompt/a, contains: x, words: {a: \"yes\"}}}":                "write one of",
		"settings: {cache.page: {from: prompt/a, depends: {on: prompt/b, is: [a], else: maybe}}}":   "depends has on",
		"settings: {cache.page: {from: prompt/a, depends: {on: nowhere/b, is: [a], else: \"no\"}}}": "nowhere",
	} {
		_, err := loadText(t, "dialect: plus\nversion: 2\nbuilds_on: brindle\n"+text+"\n")
		assert.ErrorContains(t, err, wrong, text)
	}
}

func TestRoles(t *testing.T) {
	d := &Dialect{Roles: Roles{Config: {"config.php"}, Uploads: {"public/media/"}, Private: {"data/", "*.key", ".git/"}, Code: {"public/media/sets/"}}}
	m := NewMatcher(d)
	for path, want := range map[string]string{
		"config.php": Config, "old/config.php": Config, "a/b/config.php": Other, "public/media/sets/config.php": Code, "public/media/a.jpg": Uploads, "public/media/x/y/z.jpg": Uploads,
		"public/media/sets/a.js": Code, "public/mediaeval/a.jpg": Other, "public/media/secret.key": Private,
		"a/.git/HEAD": Private, ".git/objects/ab/cd": Private, "data/x.db": Private, "public/.htaccess": Override,
		"public/media/.htaccess": Override, "dump.sql": Backup, "dump.sql.gz": Backup, "page.html~": Backup, "index.html": Other,
	} {
		dir := filepath.ToSlash(filepath.Dir(path))
		assert.Equal(t, want, m.Role(path, m.Folder(dir)), path)
	}
	assert.Equal(t, []string{"config.php"}, m.Exact(Config))
	plain := NewMatcher(nil)
	assert.Equal(t, Other, plain.Role("deep/down/config.php", Other), "any library has one of that name")
	assert.Empty(t, plain.Exact(Config))
}

// TestWhatIsPrivateIsToldByItsName: in any case, with the endings that copying, rotating and compressing add, as editors and
// tools leave it. What only looks like it is not.
func TestWhatIsPrivateIsToldByItsName(t *testing.T) {
	m := NewMatcher(&Dialect{Roles: Roles{Config: {"playhouse.php"}, Uploads: {"up/"}, Private: {"*.secret"}}})
	for want, paths := range map[string]string{
		Private: "a/.env a/.ENV .env.local .env.production a/site.ENV .htpasswd w/.HTPASSWD id_rsa a/ID_ED25519 server.key a/Server.PEM keys.p12 store.jks vault.kdbx error_log a/Access_Log site.log site.log.1 site.log.2.gz " +
			"a/site.LOG.gz a/debug.log-20260102 shop.db-wal a/shop.sqlite3-journal app.sqlite a/APP.SQLITE3 data.db shop.mdb a/.git/HEAD a/.SVN/entries b/CVS/Root .hg/store .aws/credentials a/.idea/workspace.xml .vscode/sftp.json .bash_history .pgpass up/key.pem a/b.secret credentials.json secrets.yaml",
		Backup: "dump.sql a/DUMP.SQL dump.sql.gz dump.sql.bz2 dump.sql.20260102 all.dump index.php.bak index.php.OLD index.php~ index.php.orig .index.php.swp a/.index.php.swo #index.php# .#index.php index.php_bak index.php-2026-01-02 " +
			"index.php.1 config.ini.save playhouse.php.txt playhouse-old.php playhouse.bak.php playhouse_backup_2026-01-02.php a/playhouse2.php site.zip a/site-backup.tar.gz x/y/backup-2026.zip x/y/db.7z htdocs.tgz up/backup.zip up/database-2026.tar.gz old.tar.xz settings.yaml.2026 settings.yaml.20260102 index.php.gz site.example.sql lanternlane.example-2026-01-02.sql.gz a/site-default.sql shop.example.tar.gz",
		Other: "a/b/jquery.min.js a/style.css.gz a/app.js.br logo.png .env.example a/.env.sample b/config.php.dist Thumbs.db a/package.json.lock sitemap.xml a/sitemap.xml.gz a/b/fonts.zip a/.well-known/security.txt a/.gitignore a/keyboard.js a/logo.svg " +
			"a/dumpling.html a/backups.html a/b/c/theme.zip a/monkey.txt a/catalog.pdf blog/index.html robots.txt a/photo.jpg.bak.css a/playhouse.js a/1.2.3.txt a/manifest.json.gz a/data.json.br a/readme.pl.txt a/messages.pl.xlf config.ini.dist a/settings.yaml.example a/deploy.key.example",
		Uploads: "up/manual.zip up/song.tar up/photo.jpg up/2026/report.pdf",
	} {
		for path := range strings.FieldsSeq(paths) {
			dir := filepath.ToSlash(filepath.Dir(path))
			assert.Equal(t, want, m.Role(path, m.Folder(dir)), path)
		}
	}
}

func FuzzDialect(f *testing.F) {
	f.Add([]byte(small))
	source, _ := Source("brindle")
	f.Add(source)
	f.Fuzz(func(t *testing.T, data []byte) {
		if d, err := parse("f.yaml", data); err == nil {
			_ = d.check()
		}
	})
}
