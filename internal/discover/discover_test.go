package discover

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

func TestKeysAreTakenApart(t *testing.T) {
	for key, want := range map[string]string{
		"siteTitle": "site title", "site_title": "site title", "SITE-TITLE": "site title", "seitentitel": "seite titel", "metaDescription": "meta description",
		"XMLSitemapURL": "xml sitemap url", "rss2_items": "rss2 items", "zeitzone": "zeitzone", "mots_cles": "motscles", "page404": "page 404", "tz": "tz",
	} {
		var got []string
		for _, w := range wordsOf(key) {
			got = append(got, w.text)
		}
		text := strings.Join(got, " ")
		if key == "seitentitel" {
			assert.Len(t, got, 2, text)
			continue
		}
		assert.Equal(t, want, text, key)
	}
	for word, concept := range map[string]string{"titel": "title", "desc": "describe", "trennzeichen": "separator", "gzip": "compress", "2fa": "second"} {
		assert.Contains(t, wordsOf(word)[0].concepts, concept, word)
	}
}

func TestShapes(t *testing.T) {
	c := func(value any) candidate {
		text, _ := dialect.Text(value)
		return candidate{value: value, text: text}
	}
	for _, s := range []struct {
		shape string
		value any
		fits  bool
	}{
		{"bool", true, true}, {"bool", "off", true}, {"bool", "7", false}, {"bool", "Lantern", false},
		{"mail", "a@b.example", true}, {"mail", "a", false}, {"url", "https://a.example", true}, {"url", "/a", false},
		{"zone", "Europe/London", true}, {"zone", "UTC", true}, {"zone", "soon", false}, {"language", "en-GB", true}, {"language", "English", false},
		{"pattern", "%page% | %site%", true}, {"address pattern", "/{year}/{slug}/", true}, {"address pattern", "/about/", false}, {"separator", "|", true}, {"separator", "and", false},
		{"count", "20", true}, {"count", "a", false}, {"duration", "30m", true}, {"duration", "max-age=60", true}, {"size", "8M", true}, {"size", "big", false},
		{"list", []any{"a"}, true}, {"list", "jpg, png", true}, {"version", "2.4.1", true}, {"version", "two", false}, {"slug", "welcome", true}, {"path", "/stage-door", true},
		{"secret", "0123456789abcdef0", true}, {"text", "Words of more than one", true}, {"text", "https://a.example", false}, {"picture", "/a.png", true}, {"suffix", ".html", true},
		{"word", "page", true}, {"word", "a@b.example", false}, {"bool", []any{"a"}, false},
	} {
		assert.Equal(t, s.fits, fits(s.shape, c(s.value)) > 0.5, "%s %v", s.shape, s.value)
	}
}

func TestTablesThatHoldSettings(t *testing.T) {
	pairs := func(rows ...[]string) store.Table {
		return store.Table{Name: "t", Columns: []string{"id", "name", "value"}, Rows: rows}
	}
	key, value, where, ok := keyValueColumns(pairs([]string{"1", "title", "a"}, []string{"2", "zone", "b"}, []string{"3", "lang", "c"}, []string{"4", "mail", "d"}))
	assert.True(t, ok)
	assert.Equal(t, []int{1, 2}, []int{key, value})
	assert.Empty(t, where)
	_, _, _, ok = keyValueColumns(pairs([]string{"1", "title", "a"}, []string{"2", "title", "b"}, []string{"3", "lang", "c"}, []string{"4", "mail", "d"}))
	assert.False(t, ok, "a key that stands twice is none")
	_, _, _, ok = keyValueColumns(store.Table{Columns: []string{"id", "login", "role"}, Rows: [][]string{{"1", "a", "b"}, {"2", "c", "d"}, {"3", "e", "f"}, {"4", "g", "h"}}})
	assert.False(t, ok)
	shared := store.Table{Columns: []string{"site_id", "word", "content"}, Rows: [][]string{{"1", "title", "a"}, {"1", "zone", "b"}, {"1", "lang", "c"}, {"2", "title", "x"}}}
	_, _, where, ok = keyValueColumns(shared)
	assert.True(t, ok)
	assert.Equal(t, map[string]string{"site_id": "1"}, where)
}

// found drafts from files and gives the findings by setting.
func found(t *testing.T, files map[string]string, live *facts.Snapshot) (map[string]Finding, *Draft) {
	t.Helper()
	root := t.TempDir()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	d, err := Discover(t.Context(), Options{Name: "found", Root: root, Stores: store.Options{Root: root}, Live: live})
	require.NoError(t, err)
	by := map[string]Finding{}
	for _, f := range d.Findings {
		by[f.Setting] = f
	}
	return by, d
}

func TestTranslationsAreGuessedOnlyWhereTheyCanBe(t *testing.T) {
	by, _ := found(t, map[string]string{"conf/site.ini": "[seo]\nhide_site = no\n[session]\ntimeout_minutes = 30\n[registration]\nopen = off\ndefault_role = sprout\n[cache]\npage_cache = on\nttl = 20\n[upload]\nmax_size_kb = 2048\n" +
		"[titles]\npage_title = %page% - %site%\nhome_title = %wibble% %site%\n"}, nil)
	assert.True(t, by["meta.robots_index"].translation.Inverted, "hiding is not indexing")
	assert.Equal(t, "minutes", by["session.idle"].translation.Unit)
	assert.Equal(t, "KiB", by["upload.size"].translation.Unit)
	assert.Equal(t, map[string]string{"%page%": "{page}", "%site%": "{site}"}, by["title.inner"].translation.Placeholders)
	for setting, why := range map[string]string{"registration.role": "what \"sprout\" means", "title.home": "what %wibble% stands for", "cache.lifetime": "seconds or minutes"} {
		assert.False(t, by[setting].Certain, setting)
		assert.Contains(t, by[setting].unspelt, why)
	}
}

func TestTheLivePageIsTheStrongestWitness(t *testing.T) {
	files := map[string]string{"site.yaml": "labels:\n  first: Hollow Oak Nursery\n  second: Acorns and what becomes of them, sent by post.\n  third: Something else entirely\n"}
	by, _ := found(t, files, nil)
	assert.NotContains(t, by, "meta.description", "nothing but the page says so")
	live := &facts.Snapshot{Seen: facts.Seen{Pages: []facts.Page{{Title: "Hollow Oak Nursery"}, {Title: "Acorns | Hollow Oak Nursery"}, {Title: "Contact | Hollow Oak Nursery"}}}}
	live.Add(facts.Reading{Source: facts.Live, Name: "home.description", Value: facts.TextOf(facts.String, "Acorns and what becomes of them, sent by post.")})
	by, _ = found(t, files, live)
	require.Contains(t, by, "meta.description")
	assert.Equal(t, "site.yaml, line 3", by["meta.description"].Origin)
	assert.Contains(t, strings.Join(by["meta.description"].Because, "; "), "it is the home page's description")
}

func TestContentAndOtherPeoplesProgramsAreNoSettings(t *testing.T) {
	files := map[string]string{"vendor/lib/config.ini": "title = Not ours\n", "node_modules/x/config.json": `{"title": "Nor this"}`, "settings.ini": "[site]\ntitle = Ours\n"}
	for _, name := range []string{"a", "b", "c", "d"} {
		files["pages/"+name+".yaml"] = "title: A page called " + name + "\nbody: words\n"
	}
	by, d := found(t, files, nil)
	assert.Equal(t, "settings.ini, line 2", by["site.title"].Origin)
	assert.Equal(t, []string{"settings.ini"}, d.configs)
}

func TestDatabasesAreFoundInTheConfiguration(t *testing.T) {
	for name, c := range map[string]struct {
		file, text, driver string
		variables          []string
	}{
		"PHP":  {"config.php", "<?php $db = ['driver' => 'mysql', 'host' => '127.0.0.1:1', 'name' => 'site', 'user' => 'u', 'password' => 'MARKED', 'prefix' => 'x_'];", dialect.MySQL, []string{"db_driver", "db_host", "db_name", "db_password", "db_user", "prefix"}},
		"env":  {".env", "DB_CONNECTION=pgsql\nDB_HOST=127.0.0.1\nDB_PORT=1\nDB_DATABASE=site\nDB_USERNAME=u\nDB_PASSWORD=MARKED\nTITLE=A title of some kind\n", "", []string{"db_driver", "db_host", "db_name", "db_password", "db_port", "db_user"}},
		"file": {"app.toml", "[database]\nfile = \"data/x.db\"\nprefix = \"\"\n", dialect.SQLite, []string{"db_sqlite", "prefix"}},
	} {
		_, d := found(t, map[string]string{c.file: c.text}, nil)
		var names []string
		for variable := range d.variables {
			names = append(names, variable)
		}
		slices.Sort(names)
		assert.Equal(t, c.variables, names, name)
		assert.NotContains(t, string(d.YAML()), "MARKED", name)
		require.NotEmpty(t, d.Notes, name)
		assert.NotContains(t, d.Notes[0], "MARKED")
	}
}

// TestAHostileInstallationMakesAHarmlessDraft: what comes from a site stays on its line of comment, and in quotes.
func TestAHostileInstallationMakesAHarmlessDraft(t *testing.T) {
	_, d := found(t, map[string]string{"settings.json": `{"site": {"title": "A\nsettings:\n  debug.on: {from: evil/x}", "tagline": "x\u001b[31m\u0085y z"}, "ti\ntle\"}: [": "Words of a title"}`}, nil)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "found.yaml"), d.YAML(), 0o600))
	spoken, err := dialect.Load("./found.yaml", dir)
	require.NoError(t, err, string(d.YAML()))
	assert.NotContains(t, spoken.Names(), "debug.on")
	assert.NotContains(t, string(d.YAML()), "\x1b")
}

func TestAnswersChangeTheDraft(t *testing.T) {
	_, d := found(t, map[string]string{"settings.ini": "[site]\ntitle = A name of our own\n[registration]\ndefault_role = sprout\n"}, nil)
	before := d.Certain()
	i := slices.IndexFunc(d.Findings, func(f Finding) bool { return !f.Certain })
	require.GreaterOrEqual(t, i, 0)
	setting := d.Findings[i].Setting
	d.Accept(setting)
	assert.Equal(t, before+1, d.Certain())
	d.Reject(setting)
	assert.Equal(t, before, d.Certain())
	assert.NotContains(t, string(d.YAML()), setting+":")
}

func TestRolesAreProposedFromWhatLiesWhere(t *testing.T) {
	_, d := found(t, map[string]string{"settings.ini": "[site]\ntitle = A name of our own\n", "public/index.php": "<?php", "public/cache/x.html": "x", "public/img/a.png": "x", "public/img/b.jpg": "x",
		"engine/a.php": "<?php", "engine/b.php": "<?php", "logs/x.log": "x"}, nil)
	assert.Equal(t, "public", d.Public())
	assert.Equal(t, []string{"public/img/"}, d.Roles[dialect.Uploads])
	assert.Equal(t, []string{"public/cache/"}, d.Roles[dialect.Cache])
	assert.Equal(t, []string{"engine/"}, d.Roles[dialect.Code])
	assert.Equal(t, []string{"logs/"}, d.Roles[dialect.Private])
}

func TestEveryConceptOfTheThesaurusIsInTheLexicon(t *testing.T) {
	for setting, w := range thesaurus {
		_, known := facts.Lookup(facts.Settings.Name(setting))
		assert.True(t, known, setting)
		for concept := range strings.FieldsFuncSeq(w.need+" "+w.like+" "+w.not, func(r rune) bool { return r == ' ' || r == '|' }) {
			assert.Contains(t, lexicon, concept, setting)
		}
	}
}

func FuzzDraft(f *testing.F) {
	f.Add("settings.ini", "[site]\ntitle = x\n")
	f.Add("a.json", `{"x": {"y": ["z"]}}`)
	f.Add(".env", "A=1\n")
	f.Fuzz(func(t *testing.T, name, text string) {
		root := t.TempDir()
		if !filepath.IsLocal(name) || strings.ContainsAny(name, "/\\\x00") || os.WriteFile(filepath.Join(root, name), []byte(text), 0o600) != nil {
			return
		}
		d, err := Discover(t.Context(), Options{Name: "found", Root: root, Stores: store.Options{Root: root}})
		if err != nil {
			return
		}
		file := filepath.Join(t.TempDir(), "found.yaml")
		if err := os.WriteFile(file, d.YAML(), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := dialect.Load(file, ""); err != nil {
			t.Fatalf("%v\n%s", err, d.YAML())
		}
	})
}
