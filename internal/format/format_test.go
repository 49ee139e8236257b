package format

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"github.com/elliotchance/phpserialize"
	"github.com/goccy/go-yaml"
	"github.com/joho/godotenv"
	"github.com/magiconair/properties"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gopkg.in/ini.v1"
)

// formatCases is the table all formats are held to: what a file means, where a value stands, what it looks like
// with one value replaced and with one added, and what is refused and where.
var formatCases = []struct {
	format, source string
	want           map[string]any
	at             [2]int // line and column of the value that is replaced
	replace        string
	with           any
	replaced       string // what stands there afterwards
	add            string // a path to add as "new", "" when only a person can
	added          string // what the file then holds
	wrong          map[string]string
}{
	{format: "php", source: "<?php\n// kept\ndefine('A', 'old');  # kept\n$c = [\n    'k' => \"x\", 'l' => [1, 2],\n];\n",
		want: map[string]any{"A": "old", "$c.k": "x", "$c.l": []any{int64(1), int64(2)}},
		at:   [2]int{3, 13}, replace: "A", with: `it's \new`, replaced: `define('A', 'it\'s \\new');  # kept`,
		add: "$c.m", added: "'l' => [1, 2],\n    'm' => 'new',\n];", wrong: map[string]string{"<?php $a = 'x": "line 1, column 12"}},
	{format: "ini", source: "; kept\r\ntop = 1\r\n[site]\r\nTitle = \"old\" ; kept\r\nlist[] = a\r\nlist[] = b\r\n",
		want: map[string]any{"top": "1", "site.Title": "old", "site.list": []any{"a", "b"}, "site.list.1": "b"},
		at:   [2]int{4, 9}, replace: "site.Title", with: "new; one", replaced: "Title = \"new; one\" ; kept\r\n",
		add: "site.more", added: "; kept\r\nmore = new\r\nlist", wrong: map[string]string{"a = 1\n[b\n": "line 2, column 1", "\n a = \"x\n": "line 2, column 6", "=x": "line 1, column 1"}},
	{format: "env", source: "# kept\nexport A='old' # kept\nB=two words # c\nC=\"x\\ny\"\nD=${A}/z\n",
		want: map[string]any{"A": "old", "B": "two words", "C": "x\ny", "D": unresolvedBecause("other variables")},
		at:   [2]int{2, 10}, replace: "A", with: "new $1", replaced: "export A='new $1' # kept\n",
		add: "E", added: "D=${A}/z\nE=new\n", wrong: map[string]string{"A=1\nnonsense\n": "line 2, column 1", "A=\"x\n": "line 1, column 3"}},
	{format: "yaml", source: "# kept\nsite:\n  title: 'old'   # kept\n  on: yes\n  n: 12\n  words: [a, b]\n  more:\n  - x\n  - y\n  text: |\n    one\n    two\nlast: true\n",
		want: map[string]any{"site.title": "old", "site.on": "yes", "site.n": int64(12), "site.words": []any{"a", "b"}, "site.more": []any{"x", "y"}, "site.text": "one\ntwo\n", "last": true},
		at:   [2]int{3, 10}, replace: "site.title", with: "it's new", replaced: "  title: 'it''s new'   # kept\n",
		add: "site.tagline", added: "    two\n  tagline: new\nlast", wrong: map[string]string{"a: [1\nb: 2\n": "line 2", "a: 1\n---\nb: 2\n": "several documents"}},
	{format: "json", source: "{\n  \"site\": {\n    \"title\": \"old\",\n    \"n\": 1.5,\n    \"l\": [1, \"b\"]\n  },\n  \"on\": null\n}\n",
		want: map[string]any{"site.title": "old", "site.n": 1.5, "site.l": []any{int64(1), "b"}, "site.l.1": "b", "on": nil},
		at:   [2]int{3, 14}, replace: "site.title", with: "new <\"1\">", replaced: "\"title\": \"new <\\\"1\\\">\",\n",
		add: "site.more", added: "\"l\": [1, \"b\"],\n    \"more\": \"new\"\n", wrong: map[string]string{"{\"a\": }": "line 1, column 7", "[1] 2": "line 1, column 5", "{\"a\":1": "ends too early"}},
	{format: "toml", source: "# kept\ntop = 1\n[site]\ntitle = 'old' # kept\nn = 1.5\nwords = [ \"a\", # one\n  \"b]\" ]\n[[user]]\nname = \"x\"\n[[user]]\nname = \"y\"\n",
		want: map[string]any{"top": int64(1), "site.title": "old", "site.n": 1.5, "site.words": []any{"a", "b]"}, "user.1.name": "y"},
		at:   [2]int{4, 9}, replace: "site.title", with: "it's new", replaced: "title = \"it's new\" # kept\n",
		add: "site.more", added: "\"b]\" ]\nmore = \"new\"\n", wrong: map[string]string{"a = \n": "line 1", "a = 1\na = 2\n": "line 2"}},
	{format: "xml", source: "<?xml version=\"1.0\"?>\n<!-- kept -->\n<config mode=\"x\">\n  <site>\n    <title> old </title>\n    <n>1</n>\n  </site>\n  <set name=\"a\">1</set>\n  <set name=\"b\"><![CDATA[<2>]]></set>\n</config>\n",
		want: map[string]any{"@mode": "x", "site.title": "old", "site.n": "1", "set[a]": "1", "set[b]": "<2>", "set[b].@name": "b"},
		at:   [2]int{5, 13}, replace: "site.title", with: "new & <1>", replaced: "<title> new &amp; &lt;1&gt; </title>\n",
		add: "site.more", added: "<n>1</n>\n    <more>new</more>\n", wrong: map[string]string{"<a><b></a>": "line 1", "": "no element", "<a>&x;</a>": "line 1"}},
	{format: "properties", source: "# kept\ntitle = old\nlong = one \\\n   two\nuni : caf\\u00e9\nwith\\ space=1\nempty\n",
		want: map[string]any{"title": "old", "long": "one two", "uni": "café", "with space": "1", "empty": ""},
		at:   [2]int{2, 9}, replace: "title", with: " new\n", replaced: "title = \\ new\\n\nlong",
		add: "a b", added: "empty\na\\ b=new\n", wrong: map[string]string{"a=1\nb=\\u00g0\n": "line 2, column 3"}},
	{format: "plain", source: "# kept\ntitle =  old \nother: x = y\n",
		want: map[string]any{"title": "old", "other": "x = y"},
		at:   [2]int{2, 10}, replace: "title", with: "new", replaced: "title =  new \nother",
		add: "more", added: "x = y\nmore = new\n", wrong: map[string]string{"a=1\n nonsense": "line 2, column 2"}},
	{format: "serialised", source: `a:3:{s:5:"title";s:3:"old";s:2:"on";b:1;s:1:"l";a:2:{i:0;i:7;i:1;N;}}`,
		want: map[string]any{"title": "old", "on": true, "l": []any{int64(7), nil}},
		at:   [2]int{1, 18}, replace: "title", with: `é";`, replaced: `s:4:"é";";s:2:"on"`,
		add: "more", added: `a:4:{s:5:"title"`, wrong: map[string]string{`a:1:{s:9:"x";}`: "column 11", `i:x;`: "line 1", `s:1:"xx";`: "column 7", "b:1;z": "the end is expected"}},
	{format: "script", source: "# kept\nTITLE = 'old'  # kept\nconf = {\n  'a': \"x\", 'l': [1, 2],\n}\n",
		want: map[string]any{"TITLE": "old", "conf.a": "x", "conf.l": []any{int64(1), int64(2)}},
		at:   [2]int{2, 9}, replace: "TITLE", with: "it is \"new\"", replaced: "TITLE = 'it is \"new\"'  # kept", wrong: map[string]string{"nothing": "line 1, column 1"}},
	{format: "text", source: "old words\n", want: map[string]any{"": "old words"},
		at: [2]int{1, 1}, replace: "", with: "new", replaced: "new\n"},
}

func TestFormats(t *testing.T) {
	var held []string
	for _, c := range formatCases {
		held = append(held, c.format)
		t.Run(c.format, func(t *testing.T) {
			doc, err := Read(c.format, []byte(c.source), Options{})
			require.NoError(t, err)
			for path, want := range c.want {
				entry, there := doc.Lookup(path)
				require.True(t, there, "%s: there are %v", path, doc.order)
				if because, is := want.(unresolvedBecause); is {
					assert.Contains(t, entry.Unresolved, string(because))
					continue
				}
				assert.Empty(t, entry.Unresolved, path)
				assert.Equal(t, want, entry.Value, path)
				assert.Positive(t, entry.Column, path)
			}
			assert.GreaterOrEqual(t, len(doc.Entries()), len(c.want), "all are listed")

			entry, _ := doc.Lookup(c.replace)
			assert.Equal(t, c.at, [2]int{entry.Line, entry.Column})
			once, err := doc.Replace(c.replace, c.with)
			require.NoError(t, err)
			assert.Contains(t, string(once), c.replaced)
			again, err := Read(c.format, once, Options{})
			require.NoError(t, err)
			entry, _ = again.Lookup(c.replace)
			assert.Equal(t, c.with, entry.Value, "what was written is read")
			back, err := again.Replace(c.replace, c.want[c.replace])
			require.NoError(t, err)
			if c.format != "toml" { // where the quotes had to change they stay changed
				assert.Equal(t, c.source, string(back), "untouched bytes stay, and so do the quotes")
			}
			_, err = doc.Replace("no.such", "x")
			assert.ErrorIs(t, err, ErrNotThere)

			if c.add != "" {
				more, err := doc.Set(c.add, "new")
				require.NoError(t, err)
				assert.Contains(t, string(more), c.added)
			}
			for source, want := range c.wrong {
				_, err := Read(c.format, []byte(source), Options{})
				require.Error(t, err, "%q", source)
				assert.Contains(t, err.Error(), want)
				var syntax *SyntaxError
				assert.ErrorAs(t, err, &syntax)
			}
		})
	}
	assert.Equal(t, Names(), held, "every format is held to the table")
}

func TestReplaceInOtherPlaces(t *testing.T) {
	for _, c := range []struct {
		format, source, path string
		with                 any
		want                 string
	}{
		{"php", "<?php return ['on' => true, 'n' => -5];", "return.on", false, "<?php return ['on' => false, 'n' => -5];"},
		{"php", "<?php return ['on' => true, 'n' => -5];", "return.n", int64(30), "<?php return ['on' => true, 'n' => 30];"},
		{"php", "<?php $l = array('a');", "$l", []any{"b", "c"}, "<?php $l = array('b', 'c');"},
		{"php", "<?php $h = <<<E\nold\nE;\n$z = 1;", "$h", "new", "<?php $h = 'new';\n$z = 1;"},
		{"ini", "a =\nb = x\n", "a", "1", "a =1\nb = x\n"},
		{"ini", "a = 'it'\n", "a", "it's", "a = \"it's\"\n"},
		{"env", "A=\nB=x", "A", "two words", "A=\"two words\"\nB=x"},
		{"yaml", "a: 12 # c\nb: x", "a", int64(7), "a: 7 # c\nb: x"},
		{"yaml", "é: \"ü\"\nb: 'x'\n", "b", "y", "é: \"ü\"\nb: 'y'\n"},
		{"yaml", "a:\n  - x\n  - y\nb: 1\n", "a", []any{"z"}, "a:\n  - z\nb: 1\n"},
		{"yaml", "a: [x, y] # c\n", "a", []any{"z", "yes"}, "a: [z, \"yes\"] # c\n"},
		{"yaml", "a: |\n  one\n  two\nb: 1\n", "a", "three", "a: three\nb: 1\n"},
		{"yaml", "a: plain\n", "a", "no", "a: \"no\"\n"},
		{"yaml", "- k: v\n- k: w\n", "1.k", "x", "- k: v\n- k: x\n"},
		{"json", "[\n  \"a\",\n  \"b\"\n]", "", []any{"c"}, "[\n  \"c\"\n]"},
		{"toml", "a = [1,\n 2] # c\n", "a", []any{int64(3)}, "a = [3] # c\n"},
		{"toml", "a = \"\"\"\nx\"\"\"\nb = 1\n", "a", "y", "a = \"y\"\nb = 1\n"},
		{"toml", "t = { a = 1, b = 'x' }\n", "t.b", "y", "t = { a = 1, b = 'y' }\n"},
		{"xml", "<c><s k='a'/></c>", "s.@k", `b'"`, `<c><s k='b&apos;"'/></c>`},
		{"properties", "a caf\\u00e9\n", "a", "thé\\", "a th\\u00e9\\\\\n"},
		{"serialised", `a:1:{s:1:"x";a:1:{i:0;s:1:"a";}}`, "x", []any{"b", int64(2)}, `a:1:{s:1:"x";a:2:{i:0;s:1:"b";i:1;i:2;}}`},
	} {
		doc, err := Read(c.format, []byte(c.source), Options{})
		require.NoError(t, err, c.source)
		got, err := doc.Replace(c.path, c.with)
		if assert.NoError(t, err, c.source) {
			assert.Equal(t, c.want, string(got))
		}
	}
}

func TestAddInOtherPlaces(t *testing.T) {
	for _, c := range []struct{ format, source, path, want string }{
		{"php", "<?php\nreturn 1;\n", "A", "<?php\ndefine('A', 'new');\nreturn 1;\n"},
		{"php", "<?php\ndefine('A', 1);\nreturn 1;\n", "B", "<?php\ndefine('A', 1);\ndefine('B', 'new');\nreturn 1;\n"},
		{"php", "<?php return [\n  'a' => 1\n];\n", "return.b", "<?php return [\n  'a' => 1,\n  'b' => 'new'\n];\n"},
		{"ini", "a = 1", "s.b", "a = 1\n\n[s]\nb = new\n"},
		{"yaml", "", "a.b", "a:\n  b: new\n"},
		{"yaml", "x: {a: 1}\n", "x.b", "x: {a: 1, b: new}\n"},
		{"yaml", "- k: v\n- k: w\n", "0.l", "- k: v\n  l: new\n- k: w\n"},
		{"yaml", "x:\n  a: 1\n", "b", "x:\n  a: 1\nb: new\n"},
		{"yaml", "# said\nx:\n  a:\n    - 1\n", "y.b", "# said\nx:\n  a:\n    - 1\ny:\n  b: new\n"},
		{"json", "{}", "a", `{"a": "new"}`},
		{"json", `{"a": {"b": 1}}`, "a.c", `{"a": {"b": 1, "c": "new"}}`},
		{"json", "{\n  \"a\": {}\n}", "b.c", "{\n  \"a\": {},\n  \"b\": {\"c\": \"new\"}\n}"},
		{"toml", "a = 1\n", "s.b", "a = 1\n\n[s]\nb = \"new\"\n"},
		{"serialised", "a:0:{}", "k", `a:1:{s:1:"k";s:3:"new";}`},
	} {
		doc, err := Read(c.format, []byte(c.source), Options{})
		require.NoError(t, err, c.source)
		got, err := doc.Set(c.path, "new")
		if assert.NoError(t, err, c.source) {
			assert.Equal(t, c.want, string(got))
		}
	}
}

// TestWhatOnlyAPersonCanChange: where a value is worked out, repeated or shared, nothing is written.
func TestWhatOnlyAPersonCanChange(t *testing.T) {
	for _, c := range []struct{ format, source, path string }{
		{"php", "<?php define('A', 'x' . 'y');", "A"},
		{"php", "<?php $a = 'x'; $b = $a;", "$b"},
		{"php", "<?php $a = 'x'; $b = $a;", "$a"}, // $b would change with it
		{"php", "<?php define('A', getenv('X'));", "A"},
		{"env", "A=1\nB=$A", "B"},
		{"yaml", "a: &x 1\nb: *x\n", "b"},
		{"yaml", "a: !t 1\n", "a"},
		{"xml", "<c><a>x<!-- c -->y</a></c>", "a"},
		{"serialised", `a:2:{i:0;i:1;i:1;R:2;}`, "1"},
	} {
		doc, err := Read(c.format, []byte(c.source), Options{})
		require.NoError(t, err, c.source)
		_, err = doc.Replace(c.path, "z")
		assert.ErrorIs(t, err, ErrNoPlace, "%s in %s", c.path, c.source)
	}
}

// oracles are well-kept libraries for the same formats: what they read is what this package reads.
var oracles = map[string]func([]byte) (map[string]any, error){
	"ini": func(data []byte) (map[string]any, error) {
		file, err := ini.LoadSources(ini.LoadOptions{IgnoreContinuation: true, SpaceBeforeInlineComment: true}, data)
		if err != nil {
			return nil, err
		}
		out := map[string]any{}
		for _, s := range file.Sections() {
			for _, k := range s.Keys() {
				out[strings.TrimPrefix(s.Name()+"."+k.Name(), "DEFAULT.")] = k.Value()
			}
		}
		return out, nil
	},
	"env": func(data []byte) (map[string]any, error) {
		return widened(godotenv.Unmarshal(string(data)))
	},
	"properties": func(data []byte) (map[string]any, error) {
		p, err := (&properties.Loader{Encoding: properties.UTF8, DisableExpansion: true}).LoadBytes(data)
		if err != nil {
			return nil, err
		}
		return widened(p.Map(), nil)
	},
	"yaml": func(data []byte) (out map[string]any, err error) { return out, yaml.Unmarshal(data, &out) },
	"json": func(data []byte) (out map[string]any, err error) { return out, json.Unmarshal(data, &out) },
	"serialised": func(data []byte) (map[string]any, error) {
		m, err := phpserialize.UnmarshalAssociativeArray(data)
		out := map[string]any{}
		for k, v := range m {
			out[fmt.Sprint(k)] = v
		}
		return out, err
	},
}

func widened(m map[string]string, err error) (map[string]any, error) {
	out := map[string]any{}
	for k, v := range m {
		out[k] = v
	}
	return out, err
}

// TestFormatsAgreeWithLibraries writes a few hundred chosen texts into a file and has the library read them.
func TestFormatsAgreeWithLibraries(t *testing.T) {
	sources := map[string]string{
		"ini": "top = 1\n[s]\nv = old\n", "env": "V=old\nW=x\n", "properties": "v = old\nw=x\n",
		"yaml": "v: old\nw: x\n", "json": `{"v": "old", "w": "x"}`, "serialised": `a:1:{s:1:"v";s:3:"old";}`,
	}
	letters := []rune(`ab Zé0-_./:#;="'\$&<>[]{}|,*!?@%漢` + "`~^+()")
	random := rand.New(rand.NewPCG(1, 2))
	for name, source := range sources {
		path := map[string]string{"ini": "s.v", "env": "V"}[name]
		if path == "" {
			path = "v"
		}
		compared := 0
		for range 400 {
			var text strings.Builder
			for range random.IntN(12) {
				text.WriteRune(letters[random.IntN(len(letters))])
			}
			doc, err := Read(name, []byte(source), Options{})
			require.NoError(t, err)
			changed, err := doc.Replace(path, text.String())
			if err != nil {
				continue // the format cannot hold it, and says so
			}
			if strings.HasSuffix(text.String(), `\`) && name == "env" || strings.HasSuffix(text.String(), `"`) && name == "env" || strings.Contains(text.String(), `\`) && name == "serialised" ||
				strings.ContainsAny(text.String(), ";#") && name == "ini" {
				continue // the libraries are known to be wrong about a backslash, and about a comment sign in quotes, there
			}
			theirs, err := oracles[name](changed)
			if !assert.NoError(t, err, "%s: %s", name, changed) {
				continue
			}
			assert.Equal(t, text.String(), theirs[path], "%s: %s", name, changed)
			compared++
		}
		assert.Greater(t, compared, 200, name)
	}
}

func TestXMLAgreesWithTheStandardLibrary(t *testing.T) {
	doc, err := Read("xml", []byte("<c><v>old</v></c>"), Options{})
	require.NoError(t, err)
	for _, text := range []string{"a & b", "<x>", `"'`, "]]>", "é漢"} {
		changed, err := doc.Replace("v", text)
		require.NoError(t, err)
		var into struct {
			V string `xml:"v"`
		}
		require.NoError(t, xml.Unmarshal(changed, &into))
		assert.Equal(t, text, into.V)
	}
}

// FuzzFormats: no file makes a reader fall over, every entry has a position, and what can be replaced can be
// replaced by itself without changing what the file means.
func FuzzFormats(f *testing.F) {
	for i, c := range formatCases {
		f.Add(byte(i), []byte(c.source))
		for source := range c.wrong {
			f.Add(byte(i), []byte(source))
		}
	}
	f.Fuzz(func(t *testing.T, which byte, data []byte) {
		name := formats[int(which)%len(formats)].name
		doc, err := Read(name, data, Options{})
		if err != nil {
			return
		}
		for i, entry := range doc.Entries() {
			if entry.Line < 1 || entry.Column < 1 {
				t.Fatalf("%s: %q has no position", name, entry.Path)
			}
			if entry.placed && (entry.start > entry.end || entry.end > len(data)) {
				t.Fatalf("%s: %q is placed at %d to %d of %d", name, entry.Path, entry.start, entry.end, len(data))
			}
			if i > 20 || entry.Unresolved != "" {
				continue
			}
			changed, err := doc.Replace(entry.Path, "weltaxis")
			if err != nil {
				continue
			}
			if !bytes.HasPrefix(changed, data[:entry.start]) || !bytes.HasSuffix(changed, data[entry.end:]) {
				t.Fatalf("%s: replacing %q changed something around it", name, entry.Path)
			}
			again, err := Read(name, changed, Options{})
			if err != nil {
				t.Fatalf("%s: replacing %q broke the file: %v", name, entry.Path, err)
			}
			if got, _ := again.Lookup(entry.Path); !reflect.DeepEqual(got.Value, any("weltaxis")) {
				t.Fatalf("%s: %q is %v after replacing", name, entry.Path, got.Value)
			}
		}
	})
}
