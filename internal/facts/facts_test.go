package facts

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseAndShow(t *testing.T) {
	for _, c := range []struct {
		typ         Type
		text, shown string
		fails       bool
	}{
		{Bool, "on", "yes", false}, {Bool, " 0 ", "no", false}, {Bool, "", "no", false}, {Bool, "perhaps", "", true},
		{Int, "-12", "-12", false}, {Int, "60.7", "", true},
		{Duration, "30m", "30m", false}, {Duration, "8h", "8h", false}, {Duration, "90s", "1m30s", false}, {Duration, "0s", "0s", false}, {Duration, "1ms", "", true}, {Duration, "10", "", true},
		{Size, "8M", "8 MiB", false}, {Size, "1536", "1.5 KiB", false}, {Size, "512 KiB", "512 KiB", false}, {Size, "9999999999999G", "", true}, {Size, "x", "", true},
		{Mode, "0644", "0644", false}, {Mode, "2755", "2755", false}, {Mode, "0888", "", true}, {Mode, "77777", "", true},
		{Date, "2027-03-31", "2027-03-31", false}, {Date, "2027-03-31T10:00:00Z", "2027-03-31T10:00:00Z", false}, {Date, "2027-02-30", "", true},
		{List, "a, b,,c ", "a, b, c", false}, {List, "", "", false},
		{String, " as it is ", " as it is ", false}, {Secret, "hush", "set, 4 characters", false}, {Secret, "", "not set", false},
	} {
		v, err := c.typ.Parse(c.text)
		if c.fails {
			assert.Error(t, err, "%s %q", c.typ, c.text)
			continue
		}
		require.NoError(t, err, "%s %q", c.typ, c.text)
		assert.Equal(t, c.typ, v.Type())
		assert.Equal(t, c.shown, v.String(), "%s %q", c.typ, c.text)
	}
}

func TestSecretsAreNeverKept(t *testing.T) {
	v := SecretOf("marked-secret-äö")
	raw, err := json.Marshal(v)
	require.NoError(t, err)
	assert.JSONEq(t, `{"set": true, "length": 16}`, string(raw))
	assert.NotContains(t, v.String()+v.Text(), "marked")
	_, err = Int.Parse("12x")
	assert.ErrorContains(t, err, "12x", "what is no secret may be quoted")
}

// A value stays what it is through JSON and back; that is what the catalogue is for.
func TestReadingsSurviveJSON(t *testing.T) {
	for name, v := range map[string]Value{
		"site.title": TextOf(String, "Ä \u2028 <b>"), "meta.robots_index": BoolOf(true), "feed.items": NumberOf(Int, 1<<53+1),
		"session.idle": NumberOf(Duration, 1800), "upload.size": NumberOf(Size, 8<<20), "upload.types": ListOf("jpg", "a,b"),
		"meta.keywords": ListOf(), "security.secret": SecretOf("0123456789"), "front.shows": TextOf(Words, "page"),
		"system.version": TextOf(Version, "1.10"), "permalink.pattern": TextOf(Pattern, "/{name}/"),
	} {
		before := Reading{Source: Settings, Name: name, Value: v, Origin: Origin{File: "config.php", Line: 3}, Factory: true}
		raw, err := json.Marshal(before)
		require.NoError(t, err)
		var after Reading
		require.NoError(t, json.Unmarshal(raw, &after), string(raw))
		assert.Equal(t, before, after)
		assert.True(t, before.Value.Equal(after.Value))
	}
	var r Reading
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"source":"settings","name":"site.titel","value":1}`), &r), "site.titel")
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"source":"settings","name":"feed.items","value":"20"}`), &r), "no int")
}

func TestSnapshotSurvivesJSON(t *testing.T) {
	before := &Snapshot{Format: SnapshotFormat, written: SnapshotFormat, Site: "s", Taken: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), Sources: []Asked{{Files, "."}},
		Limits: map[string]Value{"file_mode": NumberOf(Mode, 0o600), "session_idle": NumberOf(Duration, 60)},
		Accept: []Acceptance{{Rule: "a.b", Subject: "*", Because: "c", Until: NumberOf(Date, 86400)}},
		Hints:  Hints{LoginPathHint: {"/hatch"}},
		Seen: Seen{Gaps: []Gap{},
			Readings: []Reading{IntentStage.Reading("live", Origin{}), {Source: Live, Name: "home.title", Absent: true, Origin: Origin{File: "x", Line: 3}}},
			Classes:  []Class{{Role: "config", Kind: "file", Mode: "0440", Count: 1, Paths: []string{"config.php"}, Single: true}},
			Pages:    []Page{{Address: "https://a.example/", Path: "/", Kind: "home"}}}}
	raw, err := json.Marshal(before)
	require.NoError(t, err)
	after := &Snapshot{}
	require.NoError(t, json.Unmarshal(raw, after))
	assert.Equal(t, before, after)
	_, seen := after.Items(ListAccounts)
	assert.False(t, seen, "a list that nobody looked at is not an empty one")
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"format": 99}`), &Snapshot{}), "format 99")
}

func TestZones(t *testing.T) {
	for zone, is := range map[string]bool{"Europe/London": true, "America/Argentina/Ushuaia": true, "UTC": false, "Etc/UTC": false,
		"EST": false, "GMT": false, "Europe/Nowhere": false, "": false, "../etc/passwd": false, "Local": false} {
		assert.Equal(t, is, IsZone(zone), zone)
	}
	for _, c := range []struct {
		a, b string
		same bool
	}{{"Asia/Kolkata", "Asia/Calcutta", true}, {"Europe/Kyiv", "Europe/Kiev", true}, {"Europe/London", "Europe/Jersey", true},
		{"Europe/London", "Europe/Lisbon", false}, {"Europe/London", "UTC", false}, {"Europe/London", "", false}, {"", "UTC", false}} {
		assert.Equal(t, c.same, SameZone(c.a, c.b), "%s %s", c.a, c.b)
	}
}

func TestAddresses(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{"https://www.a.example", "https://www.a.example/", true}, {"HTTPS://WWW.A.example:443", "https://www.a.example", true},
		{"http://a.example:80/x/", "http://a.example/x", true}, {"http://a.example", "https://a.example", false},
		{"https://a.example", "https://www.a.example", false}, {"https://a.example/x", "https://a.example/X", false},
		{"https://a.example:8443", "https://a.example", false}, {"a.example", "a.example", false}, {"", "", false},
	} {
		assert.Equal(t, c.same, SameAddress(c.a, c.b), "%s %s", c.a, c.b)
	}
	assert.Equal(t, "a.example", URLHost("https://A.Example:8443/x"))
	assert.Empty(t, URLHost("ftp://a.example"))
	for text, is := range map[string]bool{"a@b.example": true, "A Name <a@b.example>": false, "a@b": false, "a": false, "": false, "a@b.example ": false} {
		assert.Equal(t, is, IsMail(text), text)
	}
}

func TestCatalogueIsWhole(t *testing.T) {
	seen := map[string]bool{}
	for _, e := range Catalogue() {
		assert.False(t, seen[e.Name], "%s stands twice", e.Name)
		seen[e.Name] = true
		assert.NotEmpty(t, e.Meaning, e.Name)
		assert.Equal(t, e.Type == Words, len(e.Words) > 0, e.Name)
		found, ok := Lookup(e.Name)
		assert.True(t, ok)
		assert.Equal(t, *e, found)
	}
	assert.GreaterOrEqual(t, len(Of(Settings)), 70)
	field, ok := Lookup(ListClasses + ".mode")
	assert.True(t, ok)
	assert.Equal(t, Mode, field.Type)
	_, ok = Lookup(ListClasses + ".moed")
	assert.False(t, ok)
}

func TestItemsAnswerForEveryFieldOfTheirList(t *testing.T) {
	for list, item := range map[string]Item{
		ListClasses:  &Class{Role: "config", Kind: "file", Content: "program", Mode: "0644", Owner: "a", Group: "b", Asked: true, Marked: true, Web: "r--", Answer: "served", Reached: true, Paths: []string{"x"}},
		ListShadowed: &Shadowed{Directive: "a"},
		ListAnswers:  wholeAnswer(),
		ListAccounts: &Record{List: ListAccounts, Values: map[string]Value{"name": TextOf(String, "a"), "role": TextOf(Words, "lowest"), "created": NumberOf(Date, 1), "second_factor": BoolOf(true), "last_seen": NumberOf(Date, 2)}},
	} {
		for _, field := range Lists[list] {
			v, known := item.Field(field.Name)
			assert.True(t, known, "%s.%s", list, field.Name)
			assert.Equal(t, field.Type, v.Type(), "%s.%s", list, field.Name)
		}
		_, known := item.Field("none")
		assert.False(t, known)
	}
	_, known := (&Class{}).Field("world_write")
	assert.False(t, known, "a mode that is not known is not a closed one")
}

// wholeAnswer is an answer of which every field is told.
func wholeAnswer() *Answer {
	a := &Answer{Kind: "home", Address: "https://x.example/a?b", Cells: map[string]Cell{}}
	for _, f := range answerFields {
		v := map[Type]Value{String: TextOf(String, "s"), Words: TextOf(Words, "static"), Int: NumberOf(Int, 7), Bool: BoolOf(true), Size: NumberOf(Size, 9), Date: NumberOf(Date, 9), List: ListOf("s")}[f.Type]
		a.Cells[f.Name] = Cell{Value: v, Origin: Origin{File: "n.conf", Line: 3}}
	}
	return a
}

func TestAnswersSayWhereAndWhy(t *testing.T) {
	a := wholeAnswer()
	a.Cells["hsts"] = Cell{Unknown: "a variable is not known", Origin: Origin{File: "n.conf", Line: 9}}
	a.Cells["framing"] = Cell{Value: TextOf(String, ""), Origin: Origin{File: "n.conf", Line: 5, Because: "the list is replaced"}}
	raw, err := json.Marshal(a)
	require.NoError(t, err)
	again := &Answer{}
	require.NoError(t, json.Unmarshal(raw, again))
	assert.Equal(t, a, again, "through JSON and back")
	_, known := again.Field("hsts")
	assert.False(t, known)
	assert.Equal(t, Reason{"a variable is not known", Origin{File: "n.conf", Line: 9}}, again.Why("hsts"))
	assert.Equal(t, "n.conf, line 5: the list is replaced", again.OriginOf("framing").String())
	reading, known := again.Reading("framing")
	assert.True(t, known && reading.Absent, "absent, with the line that took it away")
	assert.Equal(t, "/a?b", again.Path())
	s := Seen{Answers: []Answer{*again}}
	assert.Equal(t, again.Address, s.Configured("home", "").Address)
	assert.Equal(t, again.Address, s.Configured("", again.Address).Address)
	assert.Nil(t, s.Configured("login", ""))
}

func TestOriginsReadAsPlaces(t *testing.T) {
	for want, o := range map[string]Origin{
		"config.php, line 4":                {File: "config.php", Line: 4},
		"site.db, table options, row title": {File: "site.db", Table: "options", Row: "title"},
		"not set; the default of Brindle":   {Default: "Brindle", Table: "options"},
		"media/a.php and 2 more":            {Path: "media/a.php", Count: 3},
		"site.db, counted by a query":       {File: "site.db", Key: "SELECT 1"},
		"weltaxis.yaml":                     {File: "weltaxis.yaml"},
	} {
		assert.Equal(t, want, o.String())
	}
}

func TestVersionsInOrder(t *testing.T) {
	ordered := []string{"1.9", "1.10", "2.0-alpha", "2.0-beta", "2.0", "2.0.1", "2.1", "10"}
	for i := range ordered {
		for j := range ordered {
			got := CompareVersions(ordered[i], ordered[j])
			assert.Equal(t, i < j, got < 0, "%s %s", ordered[i], ordered[j])
			assert.Equal(t, i == j, got == 0, "%s %s", ordered[i], ordered[j])
		}
	}
	assert.Zero(t, CompareVersions("v2.0", "2.0.0"))
	assert.Zero(t, CompareVersions("2.0+build7", "2.0"))
}

func TestRecordsSurviveJSON(t *testing.T) {
	before := Record{List: ListExtensions, Values: map[string]Value{"name": TextOf(String, "a"), "active": BoolOf(true), "version": TextOf(Version, "1.10")}, From: Origin{Table: "t", Row: "1"}}
	raw, err := json.Marshal(before)
	require.NoError(t, err)
	var after Record
	require.NoError(t, json.Unmarshal(raw, &after))
	assert.Equal(t, before, after)
	assert.Equal(t, "a", after.Subject())
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"list": "settings.extensions", "values": {"nmae": "x"}}`), &after), "settings.extensions.nmae")
}

func TestWhatIsASitesOwn(t *testing.T) {
	for name, is := range map[string]bool{"site.title": true, "mail.admin": true, "meta.description": true, "login.path": true, "security.secret": true, "cache.page": false, "title.inner": false, "meta.robots_index": false} {
		term, known := Setting(name)
		assert.True(t, known, name)
		assert.Equal(t, is, term.Own, name)
	}
}

func TestWhatHidesAPageOfAnEarlierFormat(t *testing.T) {
	for tag, want := range map[string]string{
		"noindex, follow": "tag", "NONE": "tag", "": "header",
		"max-image-preview:none": "header", // it hides pictures' previews alone
	} {
		s := &Snapshot{Seen: Seen{Pages: []Page{{Address: "https://www.name.example/", NoIndex: true, RobotsTag: tag}}}}
		s.renewed(2)
		assert.Equal(t, want, s.Pages[0].HiddenBy, tag)
	}
}
