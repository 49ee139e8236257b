package announce

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

// Each answer of the protocol, and what is none of it, is told by what it means and what to do.
func TestEveryAnswerIsUnderstood(t *testing.T) {
	for name, c := range map[string]struct {
		answer     func(w http.ResponseWriter)
		took, stop bool
		says       []string
	}{
		"taken":             {func(w http.ResponseWriter) { w.WriteHeader(200) }, true, false, []string{"taken"}},
		"key not looked at": {func(w http.ResponseWriter) { w.WriteHeader(202) }, true, false, []string{"has yet to look at the key"}},
		"not understood":    {func(w http.ResponseWriter) { http.Error(w, "no host", 400) }, false, true, []string{"(400)", "it says: no host"}},
		"key refused":       {func(w http.ResponseWriter) { w.WriteHeader(403) }, false, true, []string{"(403)", "whether the key's file can be had"}},
		"another host":      {func(w http.ResponseWriter) { w.WriteHeader(422) }, false, true, []string{"(422)", "the site file's address"}},
		"enough":            {func(w http.ResponseWriter) { w.Header().Set("Retry-After", "120"); w.WriteHeader(429) }, false, true, []string{"(429)", "try again in 2m0s"}},
		"enough until": {func(w http.ResponseWriter) {
			w.Header().Set("Retry-After", "Fri, 27 Nov 2026 10:00:00 GMT")
			w.WriteHeader(429)
		}, false, true, []string{"try again after 27 November 2026, 10:00 UTC"}},
		"enough, and no more": {func(w http.ResponseWriter) { w.WriteHeader(429) }, false, true, []string{"try again tomorrow"}},
		"trouble":             {func(w http.ResponseWriter) { w.WriteHeader(503) }, false, true, []string{"trouble of its own (503)"}},
		"elsewhere":           {func(w http.ResponseWriter) { w.Header().Set("Location", "https://other.example/x"); w.WriteHeader(307) }, false, true, []string{"leads elsewhere (307), to https://other.example/x"}},
		"something else":      {func(w http.ResponseWriter) { w.WriteHeader(418) }, false, true, []string{"answers 418, which the protocol does not know"}},
		"nothing":             {func(http.ResponseWriter) { panic(http.ErrAbortHandler) }, false, true, []string{"could not be asked"}},
		"without end":         {func(w http.ResponseWriter) { w.WriteHeader(400); _, _ = w.Write([]byte(strings.Repeat("x", 1<<20))) }, false, true, []string{"(400)"}},
	} {
		t.Run(name, func(t *testing.T) {
			messages := make(chan Message, 1)
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				assert.Equal(t, http.MethodPost, r.Method)
				assert.Equal(t, "application/json; charset=utf-8", r.Header.Get("Content-Type"))
				var got Message
				assert.NoError(t, json.NewDecoder(r.Body).Decode(&got))
				messages <- got
				c.answer(w)
			}))
			defer server.Close()
			sent := Message{"site.example", "abcdefgh", "https://site.example/abcdefgh.txt", []string{"https://site.example/", "https://site.example/a"}}
			a := Send(t.Context(), Client(), server.URL, "test", sent)
			assert.Equal(t, sent, <-messages)
			assert.Equal(t, c.took, a.Took)
			assert.Equal(t, c.stop, a.Stop)
			assert.Equal(t, 2, a.Count)
			assert.Less(t, len(a.Says), 600)
			for _, part := range c.says {
				assert.Contains(t, a.Says, part)
			}
		})
	}
	gone := httptest.NewServer(http.NotFoundHandler())
	gone.Close()
	a := Send(t.Context(), Client(), gone.URL, "test", Message{})
	assert.True(t, a.Stop)
	assert.Contains(t, a.Says, "refused")
}

func TestKeysAndEndpoints(t *testing.T) {
	for key, right := range map[string]bool{NewKey(): true, "abcdefgh": true, "a-B-3-4-5": true, "abcdefg": false, "abcdefg/": false, "abc defgh": false, strings.Repeat("a", 128): true, strings.Repeat("a", 129): false, "": false, "../../etc": false} {
		assert.Equal(t, right, CheckKey(key) == nil, key)
	}
	assert.NotEqual(t, NewKey(), NewKey())
	for endpoint, right := range map[string]bool{"https://engine.example/indexnow": true, "http://engine.example/indexnow": false, "http://127.0.0.1:81/indexnow": true, "http://[::1]:81/x": true, "http://localhost/x": true,
		"http://127.0.0.1.engine.example/": false, "engine.example": false, "": false, "ftp://engine.example/": false, "https://a:b@engine.example/": false, "https://": false} {
		assert.Equal(t, right, CheckEndpoint(endpoint) == nil, endpoint)
	}
}

// Batches are of the site's own host, and none is larger than the protocol allows.
func TestBatches(t *testing.T) {
	home, err := url.Parse("https://www.site.example/")
	require.NoError(t, err)
	addresses := []string{"https://other.example/", "https://site.example/"}
	for i := range 2*MostAtOnce + 1 {
		addresses = append(addresses, fmt.Sprintf("https://www.site.example/%d/", i))
	}
	batches := Messages(home, "abcdefgh", addresses)
	require.Len(t, batches, 3)
	assert.Equal(t, []int{MostAtOnce, MostAtOnce, 1}, []int{len(batches[0].URLList), len(batches[1].URLList), len(batches[2].URLList)})
	assert.Equal(t, "https://www.site.example/abcdefgh.txt", batches[0].KeyLocation)
	assert.Equal(t, "www.site.example", batches[0].Host)
	assert.Empty(t, Messages(home, "abcdefgh", addresses[:2]))
}

func page(address string, change func(*facts.Page)) facts.Page {
	p := facts.Page{Address: address, Status: 200, Indexable: true, Title: "A", Words: 100}
	if change != nil {
		change(&p)
	}
	return p
}

// An address is told of when it is new, changed or gone, and not twice; what engines may not list never.
// Which of the addresses that were not met are gone.
func everyOne(missing []string) []string { return missing }
func noOne([]string) []string            { return nil }
func onlyC(missing []string) []string {
	return slices.DeleteFunc(slices.Clone(missing), func(address string) bool { return address != "c" })
}

func TestWhatIsNew(t *testing.T) {
	r := (&Record{}).For("https://engine.example/")
	before := Looks([]facts.Page{page("a", nil), page("b", nil), page("c", nil), page("d", nil)})
	all := r.Since(before, everyOne)
	assert.Equal(t, News{New: []string{"a", "b", "c", "d"}, Changed: []string{}, Gone: []string{}}, all)
	r.Note(all.All(), before, time.Now())
	assert.Empty(t, r.Since(before, everyOne).All())
	now := Looks([]facts.Page{page("a", nil), page("b", func(p *facts.Page) { p.Words++ }), page("e", nil), page("f", func(p *facts.Page) { p.Indexable = false }),
		page("g", func(p *facts.Page) { p.Elsewhere = true }), page("h", func(p *facts.Page) { p.Status = 404 }), page("i", func(p *facts.Page) { p.Unread = "x" })})
	news := r.Since(now, onlyC)
	assert.Equal(t, News{New: []string{"e"}, Changed: []string{"b"}, Gone: []string{"c"}}, news, "d was only not met")
	r.Note(news.All(), now, time.Now())
	assert.Empty(t, r.Since(now, onlyC).All(), "what is gone is told once")
	back := Looks([]facts.Page{page("a", nil), page("c", nil)})
	assert.Equal(t, []string{"c"}, r.Since(back, noOne).New, "what came back is new")
	assert.Empty(t, r.For("https://other.example/").Told, "another engine has been told nothing")
	assert.Same(t, r, r.For("https://engine.example/"))
	for name, change := range map[string]func(*facts.Page){"title": func(p *facts.Page) { p.Title = "B" }, "description": func(p *facts.Page) { p.Description = "B" }, "pictures": func(p *facts.Page) { p.Images = 2 },
		"structured data": func(p *facts.Page) { p.Structured = []string{"Event"} }, "language": func(p *facts.Page) { p.Language = "de" }, "headings": func(p *facts.Page) { p.Headings = 2 }} {
		assert.NotEqual(t, before["a"], Looks([]facts.Page{page("a", change)})["a"], name)
	}
	assert.Equal(t, before["a"], Looks([]facts.Page{page("a", func(p *facts.Page) { p.Hit, p.Size, p.Depth = true, 7, 3 })})["a"], "how it came is no change")
}

// What all pages have in common is no news of any of them.
func TestAMenuThatChangesIsNoNews(t *testing.T) {
	r := (&Record{}).For("https://engine.example/")
	var pages []facts.Page
	for i := range 6 {
		pages = append(pages, page(string(rune('a'+i)), func(p *facts.Page) { p.Words = 100 * (i + 1) }))
	}
	looks := Looks(pages)
	r.Note([]string{"a", "b", "c", "d", "e", "f"}, looks, time.Now())
	for i := range pages {
		pages[i].Words += 3
	}
	assert.Empty(t, r.Since(Looks(pages), nil).All())
	pages[2].Words, pages[4].Title = 999, "Z"
	assert.Equal(t, []string{"c", "e"}, r.Since(Looks(pages), nil).Changed)
}

func TestTheRecordIsKept(t *testing.T) {
	file := filepath.Join(t.TempDir(), FileName)
	r, err := Load(file)
	require.NoError(t, err)
	assert.Empty(t, r.Told)
	r = r.For("https://engine.example/")
	r.Key = NewKey()
	r.Note([]string{"a"}, map[string]Look{"a": {"m", 7}}, time.Date(2026, 11, 26, 10, 0, 0, 0, time.UTC))
	data, err := r.Encode()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, data, 0o600))
	again, err := Load(file)
	require.NoError(t, err)
	assert.Equal(t, r, again)
	for text, says := range map[string]string{"{": "no record of what has been told", `{"format": 2}`: "it has format 2", `[]`: "no record"} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := Load(file)
		assert.ErrorContains(t, err, says)
	}
	require.NoError(t, os.WriteFile(file, []byte(`{"format": 1}`), 0o600))
	again, err = Load(file)
	require.NoError(t, err)
	assert.NotNil(t, again.Told)
}
