package facts

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAReadingThatIsNotWhatItsRowSaysIsAFault(t *testing.T) {
	for _, r := range []Reading{
		{Source: Live, Name: "home.shwos", Value: TextOf(Words, "posts")},
		{Source: Live, Name: "home.shows", Value: TextOf(Words, "psots")},
		{Source: Live, Name: "home.status", Value: TextOf(String, "200")},
		{Source: Settings, Name: "feed.items", Value: BoolOf(true)},
	} {
		var seen Seen
		seen.Add(r)
		assert.Len(t, seen.Faults(), 1, r.Name)
		assert.Len(t, seen.Gaps, 1, "for a user it is a gap: %s", r.Name)
		assert.Empty(t, seen.Readings, r.Name)
	}
	var seen Seen
	seen.Add(HomeStatus.Reading(200, Origin{URL: "https://a.example/"}), Reading{Source: Settings, Name: "feed.items", Absent: true, Origin: Origin{File: "a.ini", Line: 3}})
	assert.Empty(t, seen.Faults())
	status, known := seen.Is(HomeStatus.Term)
	assert.True(t, known)
	assert.Equal(t, int64(200), status.Number())
	_, known = seen.Is(FeedItems.Term)
	assert.False(t, known, "what is absent has no value")
	assert.Equal(t, "nothing is set there: a.ini, line 3", (&Snapshot{Seen: seen}).Why(FeedItems.Name))
}

func TestPagesAreFoundByTheirPaths(t *testing.T) {
	var none Seen
	assert.Nil(t, none.HomePage())
	assert.Nil(t, none.PageAt("/"))
	s := Seen{Pages: []Page{{Path: "/a", Address: "1"}, {Path: "/de/", Kind: "home"}, {Path: "/a", Address: "2"}}}
	assert.Equal(t, "/de/", s.HomePage().Path)
	assert.Equal(t, "/de/", s.PageAt("/").Path, "where the site's own address leads")
	assert.Equal(t, "1", s.PageAt("/a").Address, "the first of those that share it")
	assert.Nil(t, s.PageAt("/b"))
	s.Pages = append(s.Pages, Page{Path: "/", Kind: "content"})
	assert.Equal(t, "content", s.PageAt("/").Kind)
	assert.Equal(t, "/", (&Seen{Pages: []Page{{Path: "/"}}}).HomePage().Path, "in a snapshot that does not tell kinds")
}

func TestWhatStepsSawIsPutTogether(t *testing.T) {
	a := Seen{Pages: []Page{{Path: "/a"}}, Records: map[string][]Record{ListForms: {}}}
	b := Seen{Pages: []Page{{Path: "/b"}}, Links: []Link{}, Dialect: "brindle 2"}
	a.Merge(b)
	assert.Len(t, a.Pages, 2)
	assert.Equal(t, "/a", Hints{LoginPathHint: {"/a", "/b"}}.First(LoginPathHint))
	for list, want := range map[string]bool{ListLinks: true, ListForms: true, ListSpellings: false, ListAliases: false} {
		_, seen := a.Items(list)
		assert.Equal(t, want, seen, "%s: what was looked for and not found was seen", list)
	}
	a.Complete(Seen{Pages: []Page{{Path: "/c"}}, Gaps: []Gap{{What: "x"}}, Records: map[string][]Record{ListForms: {{ID: "1"}}}})
	assert.Equal(t, []Page{{Path: "/c"}}, a.Pages, "in place of what was seen before")
	assert.Len(t, a.Records[ListForms], 1)
	assert.Len(t, a.Gaps, 1)
	assert.NotNil(t, a.Links, "and what it does not give stays")
}

func TestGapsOfErrors(t *testing.T) {
	for _, c := range []struct {
		err  error
		kind GapKind
		says string
	}{
		{&fs.PathError{Op: "open", Path: "/x", Err: fs.ErrNotExist}, Failed, "it does not exist"},
		{fmt.Errorf("reading: %w", fs.ErrPermission), Refused, "reading it was refused"},
		{Refusal("--offline lets nothing connect"), Refused, "--offline lets nothing connect"},
		{errors.New("it ends too early"), Failed, "it ends too early"},
	} {
		gap := GapOf(Live, "x", c.err, "live.home.")
		assert.Equal(t, c.kind, gap.Kind, c.says)
		assert.Equal(t, c.says, gap.Because)
		assert.True(t, gap.Leaves("live.home.title"))
	}
}

func TestAnItemSaysWhatItDoesNotKnow(t *testing.T) {
	page := &Page{Path: "/a", Address: "https://a.example/a", Canonical: "https://a.example/b", CanonicalWorks: "not looked at"}
	_, known := page.Field("canonical_works")
	assert.False(t, known)
	assert.Equal(t, Reason{"its canonical address, https://a.example/b, was not looked at", Origin{URL: "https://a.example/a"}}, page.Why("canonical_works"))

	require.NoError(t, json.Unmarshal([]byte(`{"address": "https://a.example/a", "path": "/a", "title": "A"}`), page))
	title, known := page.Field("title")
	assert.True(t, known)
	assert.Equal(t, "A", title.Text())
	_, known = page.Field("titles")
	assert.False(t, known, "what the snapshot does not hold is not zero")
	assert.Equal(t, "the snapshot does not hold it", page.Why("titles").Because)
	assert.Contains(t, page.Why("own").Because, "since format 2")

	class := &Class{Role: "config", Kind: "file", Content: "data", Paths: []string{"a.ini"}, Count: 1}
	_, known = class.Field("mode")
	assert.False(t, known)
	assert.Equal(t, "this system has no permission bits", class.Why("mode").Because)
	record := &Record{List: ListAccounts, Values: map[string]Value{"name": TextOf(String, "a")}, From: Origin{Table: "players", Row: "3"}}
	assert.Contains(t, record.Why("role").Because, "does not say")
	assert.Equal(t, "players 3", record.Identity())
}

func TestTheSameThingChangedIsTheSameThing(t *testing.T) {
	class := Class{Role: "uploads", Kind: "folder", Content: "none", Public: true, Mode: "0777", Owner: "a", Group: "b", Count: 2, Paths: []string{"media"}}
	changed := class
	changed.Mode, changed.Owner = "0755", "c"
	assert.NotEqual(t, class.Subject(), changed.Subject())
	assert.Equal(t, class.Identity(), changed.Identity())
	class.Single = true
	assert.Equal(t, "media", class.Identity())
	moved := Page{Path: "/new/", Own: "7"}
	assert.Equal(t, (&Page{Path: "/old/", Own: "7"}).Identity(), moved.Identity())
}

func TestWordsOfEnumerations(t *testing.T) {
	var severity Severity
	require.NoError(t, severity.UnmarshalText([]byte("high")))
	assert.Equal(t, High, severity)
	err := severity.UnmarshalText([]byte("hihg"))
	assert.ErrorContains(t, err, `"hihg" is no severity; there are critical, high`)
	raw, err := json.Marshal(map[Severity]Risk{Critical: Visible})
	require.NoError(t, err)
	assert.Equal(t, `{"critical":"visible"}`, string(raw))
	source, name := SourceOf("settings.site.title")
	assert.Equal(t, Settings, source)
	assert.Equal(t, "site.title", name)
	source, _ = SourceOf("class.mode")
	assert.Equal(t, Source(0), source)
}

// TestOneDeclarationServesThePageTheHomePageAndTheCatalogue.
func TestOneDeclarationServesThePageTheHomePageAndTheCatalogue(t *testing.T) {
	home := 0
	raw, err := json.Marshal(Page{})
	require.NoError(t, err)
	var keys map[string]any
	require.NoError(t, json.Unmarshal(raw, &keys))
	for _, c := range pageTable.columns {
		assert.Contains(t, keys, c.key, "the column %s is worked out from the JSON", c.Name)
		term, known := Lookup(ListPages + "." + c.Name)
		assert.True(t, known, c.Name)
		assert.Equal(t, c.Type, term.Type)
		if c.home {
			term, known = Lookup("live.home." + c.Name)
			assert.True(t, known, c.Name)
			assert.Equal(t, c.Type, term.Type)
			home++
		}
	}
	assert.Len(t, (&Page{CanonicalWorks: "answers"}).HomeReadings(), home)
}
