package live

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An edition is a page at one time: its head, its headers, its body.
type edition struct {
	head    string
	headers map[string]string
	body    string
}

const calm = `<a href="/about/">about</a><p>The page of everybody</p>`

func (p edition) html() string {
	lang := ` lang="en"`
	if strings.Contains(p.head, "LANG=") {
		lang = ""
	}
	body := p.body
	if body == "" {
		body = calm
	}
	return `<!doctype html><html` + lang + `><head><title>A</title>` + p.head + `</head><body>` + body + `</body></html>`
}

// shelf is a page cache that holds a former edition of the home page. What is behind it may be another each time.
type shelf struct {
	kept  edition
	now   func(n int, r *http.Request) edition
	key   func(*http.Request) string // what it tells answers apart by
	times int
}

func (s *shelf) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path != "/" && r.URL.Path != "/about/" {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	p, outcome := s.kept, "HIT"
	if r.URL.Path != "/" || s.key(r) != "/" {
		s.times++
		p, outcome = s.now(s.times, r), "MISS"
		w.Header().Set("ETag", fmt.Sprint(`"`, s.times, `"`))
	}
	w.Header().Set("X-Cache", outcome)
	for name, value := range p.headers {
		w.Header().Set(name, value)
	}
	fmt.Fprint(w, p.html())
}

func byQuery(r *http.Request) string { return r.URL.RequestURI() }

func byAsking(r *http.Request) string { return r.URL.Path + r.Header.Get("Cache-Control") }

var many = calm + func() (links string) {
	for i := range 40 {
		links += fmt.Sprintf(`<a href="/a-page-%02d/">page</a>`, i)
	}
	return links
}()

func bySession(r *http.Request) string { return r.URL.Path + r.Header.Get("Cookie") }

func always(p edition) func(int, *http.Request) edition {
	return func(int, *http.Request) edition { return p }
}

func head(text string) edition { return edition{head: text} }

func header(name, value string) edition { return edition{headers: map[string]string{name: value}} }

// oldPages: a former page that differs in one thing, and what differs without being older.
var oldPages = []struct {
	name    string
	kept    edition
	now     func(int, *http.Request) edition
	key     func(*http.Request) string // nil for the whole address
	differs string                     // a word of what is said; "" where nothing is
}{
	{"description", head(`<meta name="description" content="Shows in spring">`), always(head(`<meta name="description" content="Shows in autumn">`)), nil, "description"},
	{"description added", edition{}, always(head(`<meta name="description" content="Shows in autumn">`)), nil, "description"},
	{"description gone", head(`<meta name="description" content="Shows in spring">`), always(edition{}), nil, "description"},
	{"robots tag gone", head(`<meta name="robots" content="noindex">`), always(edition{}), nil, "robots"},
	{"robots tag gone, in other words", head(`<META CONTENT='none' NAME=ROBOTS>`), always(head(`<meta name="robots" content="index, follow">`)), nil, "robots"},
	{"robots tag of one robot", head(`<meta name="googlebot" content="noindex">`), always(edition{}), nil, "robots"},
	{"robots tag added", edition{}, always(head(`<meta name="robots" content="noindex">`)), byAsking, "robots"},
	{"canonical", head(`<link rel="canonical" href="https://old.example/">`), always(head(`<link rel="canonical" href="https://new.example/">`)), nil, "canonical"},
	{"canonical as a header", header("Link", `<https://old.example/>; rel="canonical"`), always(header("Link", `<https://new.example/>; rel="canonical"`)), nil, "canonical"},
	{"card picture", head(`<meta property="og:image" content="https://a.example/old.jpg">`), always(head(`<meta property="og:image" content="https://a.example/new.jpg">`)), nil, "picture"},
	{"card picture by its other name", head(`<meta property="og:image:secure_url" content="https://a.example/old.jpg">`), always(head(`<meta property="og:image:secure_url" content="https://a.example/new.jpg">`)), nil, "picture"},
	{"card title", head(`<meta property="og:title" content="Old">`), always(head(`<meta property="og:title" content="New">`)), nil, "shared"},
	{"card text", head(`<meta property="og:description" content="Old">`), always(head(`<meta property="og:description" content="New">`)), nil, "shared"},
	{"structured data", head(`<script type="application/ld+json">{"@type":"Offer","price":"4.50"}</script>`), always(head(`<script type="application/ld+json">{"@type":"Offer","price":"5.20"}</script>`)), nil, "structured"},
	{"structured data added", edition{}, always(head(`<script type="application/ld+json">{"@type":"Offer","price":"5.20"}</script>`)), nil, "structured"},
	{"token", head(`<meta name="site-proof" content="a1b2c3d4e5f6a7b8">`), always(head(`<meta name="site-proof" content="b8a7f6e5d4c3b2a1">`)), nil, "proves"},
	{"token added", edition{}, always(head(`<meta name="site-proof" content="b8a7f6e5d4c3b2a1">`)), nil, "proves"},
	{"language", edition{}, always(head(`<!-- LANG= -->`)), nil, "language"},
	{"other languages", head(`<link rel="alternate" hreflang="de" href="https://a.example/de/">`), always(head(`<link rel="alternate" hreflang="de" href="https://a.example/de/neu/">`)), nil, "languages"},
	{"feed", head(`<link rel="alternate" type="application/rss+xml" href="/feed.xml">`), always(head(`<link rel="alternate" type="application/rss+xml" href="/news.xml">`)), nil, "feed"},
	{"icon", head(`<link rel="icon" href="/old.png">`), always(head(`<link rel="icon" href="/new.png">`)), nil, "icon"},
	{"viewport", edition{}, always(head(`<meta name="viewport" content="width=device-width">`)), nil, "viewport"},
	{"a link to elsewhere", edition{body: `<a href="/about/">about</a> <a href="/old/">tickets</a>`}, always(edition{body: `<a href="/about/">about</a> <a href="/new/">tickets</a>`}), nil, "link"},
	{"one link of many", edition{body: many + `<a href="/old/">x</a>`}, always(edition{body: many + `<a href="/other/">x</a>`}), nil, "/old/”, and around the cache “…"},
	{"a link gone", edition{body: `<a href="/about/">about</a> <a href="/old/"><img src="/x.png" alt=""></a>`}, always(edition{body: `<a href="/about/">about</a> <img src="/x.png" alt="">`}), nil, "link"},
	{"robots header gone", header("X-Robots-Tag", "noindex"), always(edition{}), nil, "robots"},
	{"policy", header("Content-Security-Policy", "default-src 'self'; script-src https://old.example"), always(header("Content-Security-Policy", "default-src 'self'; script-src https://new.example")), nil, "Content-Security-Policy"},
	{"policy in the head", head(`<meta http-equiv="Content-Security-Policy" content="script-src https://old.example">`), always(head(`<meta http-equiv="Content-Security-Policy" content="script-src https://new.example">`)), nil, "policy"},
	{"language as a header", header("Content-Language", "de"), always(header("Content-Language", "en")), nil, "Content-Language"},
	{"description, where a session alone leads around", head(`<meta name="description" content="Shows in spring">`), always(head(`<meta name="description" content="Shows in autumn">`)), bySession, "description"},
	{"when something is on, in structured data", head(`<script type="application/ld+json">{"@type":"Event","startDate":"2026-12-01T19:00:00+01:00"}</script>`), always(head(`<script type="application/ld+json">{"@type":"Event","startDate":"2026-12-02T19:00:00+01:00"}</script>`)), nil, "structured"},
	{"opening hours in the description", head(`<meta name="description" content="Open 10:00 to 18:00">`), always(head(`<meta name="description" content="Open 10:00 to 20:00">`)), nil, "description"},
	{"text", edition{body: `<a href="/about/">about</a><p>Open till six</p>`}, always(edition{body: `<a href="/about/">about</a><p>Open till eight</p>`}), nil, "words of text"},
	{"text that varies, with an old description", edition{head: `<meta name="description" content="Shows in spring">`, body: calm + `<p>quote seven</p>`}, func(n int, _ *http.Request) edition {
		return edition{head: `<meta name="description" content="Shows in autumn">`, body: calm + fmt.Sprintf("<p>quote %s</p>", strings.Repeat("x", n))}
	}, nil, "description"},

	{"the same", head(`<meta name="description" content="Shows">`), always(head(`<meta name="description" content="Shows">`)), nil, ""},
	{"the same in other words", head(`<meta name="description" content="Shows &amp; songs"><link rel=canonical href="/">`), always(head("<link href='/' rel='canonical'/>\n<meta content='Shows & songs'   name='description' />")), nil, ""},
	{"structured data in another order", head(`<script type="application/ld+json">{"@type":"Offer","price":"5.20","url":"https:\/\/a.example\/"}</script>`), always(head(`<script type="application/ld+json">{ "url": "https://a.example/", "price": "5.20", "@type": "Offer" }</script>`)), nil, ""},
	{"white space", head(`<meta name="description" content="Shows  in   spring ">`), always(head("<meta name=\"description\" content=\"Shows in\nspring\">")), nil, ""},
	{"a nonce", header("Content-Security-Policy", "script-src 'nonce-YWJjZGVmZ2hpamtsbW5vcA=='"), func(n int, _ *http.Request) edition {
		return header("Content-Security-Policy", fmt.Sprintf("script-src 'nonce-%024d'", n))
	}, nil, ""},
	{"a form's token", edition{body: calm + `<form method="post" action="/send/"><input type="hidden" name="once" value="1a2b3c"></form>`}, func(n int, _ *http.Request) edition {
		return edition{body: calm + fmt.Sprintf(`<form method="post" action="/send/"><input type="hidden" name="once" value="%06x"></form>`, n)}
	}, nil, ""},
	{"a canonical that names the query", head(`<link rel="canonical" href="https://a.example/">`), func(_ int, r *http.Request) edition {
		return head(`<link rel="canonical" href="https://a.example/?` + r.URL.RawQuery + `">`)
	}, nil, ""},
	{"links that carry the query on", edition{body: `<a href="/about/">about</a> <a href="/?page=2">more</a>`}, func(_ int, r *http.Request) edition {
		return edition{body: `<a href="/about/">about</a> <a href="/?page=2&amp;` + r.URL.RawQuery + `">more</a>`}
	}, nil, ""},
	{"links that put the query first", edition{body: `<a href="/about/">about</a> <a href="/?page=2">more</a>`}, func(_ int, r *http.Request) edition {
		return edition{body: `<a href="/about/">about</a> <a href="/?` + r.URL.RawQuery + `&page=2">more</a>`}
	}, nil, ""},
	{"hidden since it has a query", edition{}, always(head(`<meta name="robots" content="noindex, follow">`)), nil, ""},
	{"hidden since it has a query, by a header", edition{}, always(header("X-Robots-Tag", "noindex")), nil, ""},
	{"structured data that tells the hour", head(`<script type="application/ld+json">{"@type":"WebPage","dateModified":"2026-11-23T10:00:00+00:00"}</script>`), always(head(`<script type="application/ld+json">{"@type":"WebPage","dateModified":"2026-11-23T10:17:31+00:00"}</script>`)), nil, ""},
	{"an address with the second in it", head(`<link rel="icon" href="/icon.png?v=1795449600">`), always(head(`<link rel="icon" href="/icon.png?v=1795450651">`)), nil, ""},
	{"links in another order each time", edition{body: `<a href="/about/">about</a> <a href="/x/">x</a> <a href="/y/">y</a>`}, func(n int, _ *http.Request) edition {
		return edition{body: []string{`<a href="/about/">about</a> <a href="/y/">y</a> <a href="/x/">x</a>`, `<a href="/about/">about</a> <a href="/x/">x</a> <a href="/z/">z</a>`, `<a href="/about/">about</a> <a href="/z/">z</a> <a href="/q/">q</a>`}[n%3]}
	}, nil, ""},
	{"headers of the way", header("Age", "77"), always(header("Server-Timing", "app;dur=12")), nil, ""},
	{"a header that the copy does not keep", edition{}, always(header("Content-Security-Policy", "default-src 'self'")), nil, ""},
	{"a remark of the cache", edition{body: calm + `<!-- kept at 10:12:13 by the page cache -->`}, always(edition{}), nil, ""},
	{"scripts and styles that the cache puts together", head(`<link rel="stylesheet" href="/kept/all.css"><script src="/kept/all.js"></script>`), always(head(`<link rel="stylesheet" href="/a.css"><link rel="stylesheet" href="/b.css"><script src="/c.js"></script>`)), nil, ""},
	{"pictures that the cache has come late", edition{body: calm + `<img data-src="/a.png" alt="a">`}, always(edition{body: calm + `<img src="/a.png" alt="a">`}), nil, ""},
	{"somebody with a session, who is greeted", edition{}, always(edition{body: `<a href="/about/">about</a> <a href="/account/">Mara</a><p>Hello Mara</p>`}), bySession, ""},
	{"a description that is another each time", head(`<meta name="description" content="one">`), func(n int, _ *http.Request) edition {
		return head(fmt.Sprintf(`<meta name="description" content="number %c">`, 'a'+n))
	}, nil, ""},
}

// TestAnOldHeadIsAnOldPage: whatever is read of a page and is another around the cache, each time, makes the copy an old one; what differs by itself does not.
func TestAnOldHeadIsAnOldPage(t *testing.T) {
	for _, c := range oldPages {
		t.Run(c.name, func(t *testing.T) {
			s := &shelf{kept: c.kept, now: c.now, key: c.key}
			if s.key == nil {
				s.key = byQuery
			}
			server := httptest.NewServer(s)
			defer server.Close()
			o := options(server.URL)
			if o.Own = true; strings.Contains(c.name, "session") {
				o.Session = "house_session=abc"
			}
			seen := look(t, o)
			require.NotEmpty(t, seen.Repeats)
			said := []string{seen.Repeats[0].Old, Look(t.Context(), o).Behind}
			for _, old := range said {
				if c.differs == "" {
					assert.Empty(t, old)
				} else {
					assert.Contains(t, old, c.differs)
				}
			}
		})
	}
}
