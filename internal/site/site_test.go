package site

import (
	"encoding/json"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/schemas"
)

const whole = `site: A
intent:
  stage: live
  address: https://www.a.example
  words: [one, two]
  time_zone: Europe/London
  sub_folder: true
  maintenance_until: 2027-01-31
sources:
  settings: {dialect: brindle, root: ., environment: {STAGE: live}}
  files: {root: .}
baseline: [own.yaml]
limits: {title_chars: 60, stock_titles: [a]}
accept:
  - {rule: a.b, subject: "*", because: "we know", until: 2027-03-31}
`

// cases are site files with what is wrong with them. The loader says it in words; the schema, which editors use,
// must agree on whether there is anything wrong, except where it cannot know.
var cases = []struct {
	name, text, wrong string
	schemaCannotTell  bool
}{
	{"whole", whole, "", false},
	{"least", "site: A\nsources: {files: {root: .}}\n", "", false},
	{"no name", "sources: {files: {root: .}}\n", "site is missing", false},
	{"no sources", "site: A\n", "sources is missing", false},
	{"empty sources", "site: A\nsources: {}\n", "sources", false},
	{"unknown key", "site: A\nsuorces: {}\n", `"suorces" is not known here (did you mean "sources"?)`, false},
	{"unknown intent", "site: A\nintent: {stgae: live}\nsources: {files: {root: .}}\n", `"stgae" is not known under intent (did you mean "stage"?)`, false},
	{"wrong word", "site: A\nintent: {stage: lief}\nsources: {files: {root: .}}\n", `line 2, column 17: stage: "lief" is not one of building, live, retiring (did you mean "live"?)`, false},
	{"wrong type", "site: A\nintent: {brand: 12}\nsources: {files: {root: .}}\n", "brand: a text is expected here; put it in quotes", false},
	{"wrong bool", "site: A\nintent: {sub_folder: 'yes'}\nsources: {files: {root: .}}\n", "true or false is expected here", false},
	{"wrong list", "site: A\nintent: {words: one}\nsources: {files: {root: .}}\n", "a list is expected here", false},
	{"wrong date", "site: A\nintent: {maintenance_until: 2027-02-30}\nsources: {files: {root: .}}\n", "is not a date that exists", false},
	{"no address", "site: A\nintent: {address: nowhere}\nsources: {files: {root: .}}\n", "is no address", false},
	{"address without a scheme", "site: A\nintent: {address: www.a.example}\nsources: {files: {root: .}}\n", "", false},
	{"a language's name", "site: A\nintent: {language: English}\nsources: {files: {root: .}}\n", `"English" is no language tag (RFC 5646); write it as en-GB`, true},
	{"a locale", "site: A\nintent: {languages: [en, en_GB]}\nsources: {files: {root: .}}\n", `"en_GB" is no language tag`, true},
	{"a sign of YAML", "site: A\nintent:\n  separator: |\nsources: {files: {root: .}}\n", `line 3, column 14: separator: | begins a block in YAML; if the sign is meant, put it in quotes: separator: "|"`, false},
	{"nothing", "site: A\nintent:\n  brand:\nsources: {files: {root: .}}\n", "line 3, column 9: brand: nothing stands here", false},
	{"an empty text", "site: A\nintent: {brand: ''}\nsources: {files: {root: .}}\n", "brand: nothing stands here", false},
	{"a number for a word", "site: A\nintent: {authors: 3}\nsources: {files: {root: .}}\n", "authors: 3 is not one of one, several", false},
	{"a mailbox for a host", "site: A\nintent: {mail_domains: [post@a.example]}\nsources: {files: {root: .}}\n", `"post@a.example" is no host; write it as a.example`, false},
	{"an address for a host", "site: A\nintent: {building_hosts: ['https://old.example/']}\nsources: {files: {root: .}}\n", `write it as old.example`, false},
	{"no zone", "site: A\nintent: {time_zone: Europe/Nowhere}\nsources: {files: {root: .}}\n", "no time zone of the IANA database", true},
	{"universal time", "site: A\nintent: {time_zone: UTC}\nsources: {files: {root: .}}\n", "no time zone", false},
	{"no dialect", "site: A\nsources: {settings: {root: .}}\n", "dialect is missing", false},
	{"no root", "site: A\nsources: {files: {root: ''}}\n", "root is missing", false},
	{"root that is not there", "site: A\nsources: {files: {root: ./nowhere}}\n", "does not exist", true},
	{"root that is a file", "site: A\nsources: {files: {root: weltaxis.yaml}}\n", "is no folder", true},
	{"accepted without a reason", "site: A\nsources: {files: {root: .}}\naccept: [{rule: a.b, subject: s, until: 2027-01-01}]\n", "because is missing", false},
	{"accepted for ever", "site: A\nsources: {files: {root: .}}\naccept: [{rule: a.b, subject: s, because: c}]\n", "until is missing", false},
}

func TestLoadAndSchemaAgree(t *testing.T) {
	schema := compiled(t)
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, FileName), []byte(c.text), 0o644))
			_, err := Load(dir)
			if c.wrong == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, c.wrong)
			}
			if !c.schemaCannotTell {
				assert.Equal(t, c.wrong == "", schema.Validate(asJSON(t, c.text)) == nil, "the schema and the loader")
			}
		})
	}
}

// TestAUserThatIsNotThereIsPointedOut, since the files may be judged for a machine that knows the name.
func TestAUserThatIsNotThereIsPointedOut(t *testing.T) {
	var said strings.Builder
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&said, nil)))
	defer slog.SetDefault(before)
	_, err := Parse(filepath.Join(t.TempDir(), FileName), []byte("site: A\nintent: {web_user: nobody-of-that-name}\nsources: {live: {url: https://a.example}}\n"))
	require.NoError(t, err)
	assert.Contains(t, said.String(), "there is no user")
}

func compiled(t *testing.T) *jsonschema.Schema {
	t.Helper()
	text, err := schemas.Text("site")
	require.NoError(t, err)
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	compiler.AssertFormat()
	require.NoError(t, compiler.AddResource("site.json", document))
	schema, err := compiler.Compile("site.json")
	require.NoError(t, err)
	return schema
}

func asJSON(t *testing.T, text string) any {
	t.Helper()
	raw, err := yaml.YAMLToJSON([]byte(text))
	require.NoError(t, err)
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(raw)))
	require.NoError(t, err)
	return value
}

// The schema lists the intent by hand, so that it can be read; it must list what the catalogue does.
func TestSchemaKnowsTheWholeIntent(t *testing.T) {
	text, err := schemas.Text("site")
	require.NoError(t, err)
	var schema struct {
		Properties struct {
			Intent struct {
				Properties map[string]struct {
					Enum        []string `json:"enum"`
					Description string   `json:"description"`
				} `json:"properties"`
			} `json:"intent"`
		} `json:"properties"`
	}
	require.NoError(t, json.Unmarshal(text, &schema))
	for _, entry := range facts.Of(facts.Intent) {
		name := strings.TrimPrefix(entry.Name, "intent.")
		property, there := schema.Properties.Intent.Properties[name]
		require.True(t, there, name)
		assert.Equal(t, entry.Words, property.Enum, name)
		assert.NotEmpty(t, property.Description, name)
	}
	assert.Len(t, schema.Properties.Intent.Properties, len(facts.Of(facts.Intent)))
}

func TestIntentBecomesReadings(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, FileName), []byte(whole), 0o644))
	s, err := Load(filepath.Join(dir, FileName))
	require.NoError(t, err)
	find := func(name string) facts.Reading {
		i := slices.IndexFunc(s.Intent, func(r facts.Reading) bool { return r.Name == name })
		require.GreaterOrEqual(t, i, 0, name)
		return s.Intent[i]
	}
	assert.Equal(t, facts.Origin{File: FileName, Line: 4}, find("address").Origin)
	assert.Equal(t, facts.ListOf("one", "two"), find("words").Value)
	assert.Equal(t, "2027-01-31", find("maintenance_until").Value.String())
	assert.Equal(t, "the site file", find("links_allowed").Origin.Default, "what is not said of links means no")
	assert.Equal(t, "2027-03-31", s.Accepted()[0].Until.String())
	assert.Equal(t, filepath.Join(dir, "x"), s.Resolve("./x"))
	assert.Equal(t, "/x", s.Resolve("/x"))
}

func TestNoSiteFile(t *testing.T) {
	_, err := Load(t.TempDir())
	var missing *NotFoundError
	require.ErrorAs(t, err, &missing)
	assert.Contains(t, err.Error(), "weltaxis.yaml")
}
