package strict

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type document struct {
	Text  string            `yaml:"text"`
	Count int               `yaml:"count"`
	Yes   bool              `yaml:"yes"`
	Rule  Expr              `yaml:"rule"`
	Day   Date              `yaml:"day"`
	Words []string          `yaml:"words"`
	Map   map[string]string `yaml:"map"`
	Inner *struct {
		Name string `yaml:"name"`
		Pos  Pos
	} `yaml:"inner"`
}

func TestDecodeTakesWhatIsMeant(t *testing.T) {
	var d document
	require.NoError(t, Decode("f.yaml", []byte(`# a comment
text: "1.10" # another
count: 12
yes: true
rule: |
  a < b # not a comment
day: 2027-03-31
words: [a, "b # c"]
map: {k: v}
inner:
  name: n
`), &d))
	assert.Equal(t, "1.10", d.Text)
	assert.Equal(t, 12, d.Count)
	assert.True(t, d.Yes)
	assert.Equal(t, "a < b # not a comment", d.Rule.Source)
	assert.Equal(t, 6, d.Rule.Pos.Line)
	assert.Equal(t, "2027-03-31", d.Day.Format("2006-01-02"))
	assert.Equal(t, []string{"a", "b # c"}, d.Words)
	assert.Equal(t, map[string]string{"k": "v"}, d.Map)
	assert.Equal(t, Pos{11, 3}, d.Inner.Pos)
}

func TestDecodeRefuses(t *testing.T) {
	for source, want := range map[string]string{
		"text: 1\n":               "f.yaml, line 1, column 7: text: a text is expected here, not a whole number; put it in quotes",
		"text: 1.10\n":            "put it in quotes",
		"text: true\n":            "put it in quotes",
		"text:\n":                 "not nothing",
		"text: {a: b}\n":          "not a mapping",
		"text: x\ncount: 60.7\n":  "line 2, column 8: count: a whole number is expected here, not a fraction",
		"count: '1'\n":            "not a text",
		"yes: on\n":               "true or false is expected here",
		"rule: !x\n":              "tags (a word after !) are not used here",
		"rule: a < b\n":           "an expression stands in quotes or in a | block",
		"day: 2027-02-30\n":       `"2027-02-30" is not a date that exists`,
		"text: a\ntext: b\n":      `"text" already defined`,
		"txet: a\n":               `"txet" is not known here (did you mean "text"?)`,
		"inner: {nmae: a}\n":      `"nmae" is not known here (did you mean "name"?)`,
		"words: a\n":              "words: a list is expected here, not a text",
		"words: [a, 2]\n":         "column 12",
		"text: &a x\n":            "anchors and aliases are not used here",
		"text: \"never ends\n":    "line 1, column 7: is not valid YAML",
		"- a\n":                   "a mapping is expected here, not a list",
		"text: a\n---\ntext: b\n": "several documents",
		"":                        "f.yaml: is empty",
		"# only a comment\n":      "is empty",
	} {
		var d document
		err := Decode("f.yaml", []byte(source), &d)
		var e *Error
		require.ErrorAs(t, err, &e, source)
		assert.Contains(t, err.Error(), want, source)
	}
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte("text: a\nwords: [b]\nmap: {c: d}\n"))
	f.Add([]byte("inner: {name: x}\nday: 2027-03-31\nrule: 'a'\n"))
	f.Add([]byte("? a\n: b\n<<: c\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		var d document
		_ = Decode("f.yaml", data, &d)
	})
}
