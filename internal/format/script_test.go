package format

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// values are those that can be told, and why the others cannot.
func values(t *testing.T, text string) (told map[string]any, not map[string]string) {
	t.Helper()
	d, err := Read("script", []byte(text), Options{})
	require.NoError(t, err, text)
	told, not = map[string]any{}, map[string]string{}
	for _, e := range d.Entries() {
		if e.Unresolved == "" {
			told[e.Path] = e.Value
		} else {
			not[e.Path] = e.Unresolved
		}
	}
	return told, not
}

func TestScriptsAreReadAsFarAsLanguagesAgree(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		told map[string]any
		not  []string
	}{
		"one that indents": {"# settings\nSITE_NAME = 'A Mill'\nDEBUG = False\nITEMS = 12\nTYPES = ['jpg', 'png']\nSEO = {\n    'description': \"Flour # and bread\",\n    'index': True,\n    'deep': {'a': None},\n}\nBASE = os.path.dirname(__file__)\nif DEBUG:\n    CACHE = 'none'\nPAIR = ('a', 'b')\nSECRET = env('KEY')\nTITLE = f'{SITE_NAME}!'\nTEXT = \"\"\"two\nlines\"\"\"\nclass Live:\n    PORT = 80\n",
			map[string]any{"SITE_NAME": "A Mill", "DEBUG": false, "ITEMS": int64(12), "TYPES": []any{"jpg", "png"}, "SEO.description": "Flour # and bread", "SEO.index": true, "SEO.deep.a": nil, "PAIR": []any{"a", "b"}, "TEXT": "two\nlines", "PORT": int64(80)},
			[]string{"BASE", "CACHE", "SECRET", "TITLE"}},
		"one with braces": {"// settings\nconst config = {\n  title: 'A Mill', /* no */\n  \"seo\": { index: true, items: 10 },\n  types: ['jpg', \"png\"],\n  now: Date.now(),\n  last: 'x'\n};\nexport const debug = false;\nconfig.mail.from = \"post@mill.example\";\nmodule.exports.port = 8080;\nfunction f() {\n  config.title = 'other';\n}\nlet url = `https://${host}/`;\n",
			map[string]any{"config.seo.index": true, "config.seo.items": int64(10), "config.types": []any{"jpg", "png"}, "config.last": "x", "debug": false, "config.mail.from": "post@mill.example", "port": int64(8080)},
			[]string{"config.now", "config.title", "url"}},
		"one that exports": {"export default {\n  title: 'A Mill',\n  cache: { on: true }\n}\n", map[string]any{"title": "A Mill", "cache.on": true}, nil},
		"one with ends":    {"Site.configure do |config|\n  config.title = \"A Mill\"\n  config.types = %w[jpg]\n  config.debug = false\nend\nOPTIONS = { :seo => { \"index\" => true }, cache: 'on' }\nif ENV\n  config.debug = true\nend\nNAME = 'x'.freeze\n", map[string]any{"config.title": "A Mill", "OPTIONS.seo.index": true, "OPTIONS.cache": "on", "NAME": "x"}, []string{"config.types", "config.debug"}},
		"one with dashes":  {"-- settings\nlocal site = {\n  title = \"A Mill\", -- the name\n  [\"tag-line\"] = 'flour',\n  types = { \"jpg\", \"png\" },\n  debug = false,\n}\nsite.port = 80\n--[[ title = 'no' ]]\nreturn site\n", map[string]any{"site.title": "A Mill", "site.tag-line": "flour", "site.types": []any{"jpg", "png"}, "site.debug": false, "site.port": int64(80)}, nil},
		"one with signs":   {"our %conf = (\n  title => 'A Mill',\n  debug => 0,\n);\n$conf{seo}{index} = 1;\n$conf->{mail}->{from} = 'a@b.example';\nmy $x = \"$conf{title}\";\n1;\n", map[string]any{"conf.title": "A Mill", "conf.debug": int64(0), "conf.seo.index": int64(1), "conf.mail.from": "a@b.example"}, []string{"x"}},
		"backslashes":      {"A = 'C:\\new'\nB = 'it\\'s'\nC = \"a\\nb\"\n", map[string]any{"B": "it's", "C": "a\nb"}, []string{"A"}},
		"expressions":      {"A = 1 + 2\nB = 'x' + y\nC = 'x' 'y'\nD += 'x'\nE = not True\nF = 3\n", map[string]any{"F": int64(3)}, []string{"A", "B", "C", "D"}},
		"comparisons":      {"A = 1\nif A == 2:\n    pass\nB == 3\nC => 4\n", map[string]any{"A": int64(1)}, nil},
	} {
		told, not := values(t, c.text)
		assert.Equal(t, c.told, told, name)
		for _, path := range c.not {
			assert.Contains(t, not, path, name)
		}
	}
	_, err := Read("script", []byte("nothing of the kind\n"), Options{})
	assert.Error(t, err)
	_, err = Read("script", []byte("a = "+strings.Repeat("[", 100_000)), Options{})
	assert.NoError(t, err)
}

func TestScriptsAreChangedInOnePlace(t *testing.T) {
	text := "NAME = 'A Mill'  # here\nDEBUG = True\nN = 12\nconf = {'a': \"x\"}\n"
	d, err := Read("script", []byte(text), Options{})
	require.NoError(t, err)
	for path, c := range map[string]struct {
		to   any
		want string
	}{"NAME": {"The Mill", "NAME = 'The Mill'  # here"}, "DEBUG": {false, "DEBUG = False"}, "N": {int64(3), "N = 3\n"}, "conf.a": {"y", `conf = {'a': "y"}`}} {
		changed, err := d.Replace(path, c.to)
		require.NoError(t, err, path)
		assert.Contains(t, string(changed), c.want)
	}
	for _, text := range []string{"it's", "a\\b", "a\nb"} {
		_, err := d.Replace("NAME", text)
		assert.Error(t, err, text)
	}
}
