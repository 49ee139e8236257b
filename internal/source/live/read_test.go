package live

import (
	"bytes"
	"compress/gzip"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

func address(t testing.TB, text string) *url.URL {
	t.Helper()
	u, err := url.Parse(text)
	require.NoError(t, err)
	return u
}

func TestAnalyse(t *testing.T) {
	at := address(t, "https://www.a.example/x/y/")
	read := func(markup string) *document {
		return analyse(at, []byte(markup), "text/html; charset=utf-8", sought{analytics: "COUNT-1"})
	}
	for name, c := range map[string]struct {
		markup string
		got    func(*document) any
		want   any
	}{
		"title":                 {"<title> A\n  B </title>", func(d *document) any { return d.titles }, []string{"A B"}},
		"titles in pictures":    {"<title>A</title><svg><title>B</title></svg>", func(d *document) any { return d.titles }, []string{"A"}},
		"two titles, one empty": {"<title></title><title>A</title>", func(d *document) any { return d.titles }, []string{"A"}},
		"entities":              {"<title>A &amp; B &eacute;</title>", func(d *document) any { return d.titles }, []string{"A & B é"}},
		"markup in comments":    {"<!-- <title>A</title> --><title>B</title>", func(d *document) any { return d.titles }, []string{"B"}},
		"title in a script":     {"<script>'<title>A</title>'</script><title>B</title>", func(d *document) any { return d.titles }, []string{"B"}},
		"first attribute wins":  {`<meta name=description content=a content=b>`, func(d *document) any { return d.descriptions }, []string{"a"}},
		"capitals":              {`<META NAME="Description" CONTENT="A">`, func(d *document) any { return d.descriptions }, []string{"A"}},
		"robots":                {`<meta name=robots content="NoIndex, follow">`, func(d *document) any { return d.robots }, []string{"noindex, follow"}},
		"canonical":             {`<link rel="Canonical" href="/z">`, func(d *document) any { return d.canonicals }, []string{"/z"}},
		"several rels":          {`<link rel="shortcut icon" href="i.png">`, func(d *document) any { return d.icons }, []string{"https://www.a.example/x/y/i.png"}},
		"base":                  {`<base href="/b/"><a href="c">`, func(d *document) any { return d.links }, []string{"https://www.a.example/b/c"}},
		"links":                 {`<a href="../c?d=e#f"><a href="#g"><a href="mailto:h@a.example"><a href="">`, func(d *document) any { return d.links }, []string{"https://www.a.example/x/c?d=e"}},
		"feeds":                 {`<link rel=alternate type="application/atom+xml" href="/feed">`, func(d *document) any { return d.feeds }, []string{"https://www.a.example/feed"}},
		"alternates":            {`<link rel=alternate hreflang="DE" href="/de/">`, func(d *document) any { return d.alternates }, []string{"de https://www.a.example/de/"}},
		"images":                {`<body><img src=a><img src=b alt><img src=c alt=x><img src=d role=presentation>`, func(d *document) any { return d.imagesBare }, []string{"a"}},
		"headings":              {"<h1>a</h1><h1>b</h1><h2>c</h2>", func(d *document) any { return d.headings }, 2},
		"words":                 {"<head><title>no</title></head><body>one <b>two</b><script>no</script><style>no</style> three", func(d *document) any { return d.words }, 3},
		"copyright":             {"<body>founded 1890 <p>© 2019–2026 A</p>", func(d *document) any { return d.years }, []string{"2019", "2026"}},
		"no copyright":          {"<body>since 2019", func(d *document) any { return d.copyright }, false},
		"password":              {"<input type=PASSWORD>", func(d *document) any { return d.password }, true},
		"passkey":               {`<input autocomplete="username webauthn">`, func(d *document) any { return d.password }, true},
		"language":              {`<html lang=" en-GB ">`, func(d *document) any { return d.lang }, "en-GB"},
		"card":                  {`<meta property=og:title content=a><meta name=og:image content=b>`, func(d *document) any { return d.card }, map[string]string{"title": "a", "image": "b"}},
		"tokens":                {`<meta name=proof content=t><meta name=theme-color content=red>`, func(d *document) any { return d.otherMetas }, []string{"t"}},
		"structured data":       {`<script type="application/ld+json">{"a":"<b>"}</script>`, func(d *document) any { return d.structured }, []string{`{"a":"<b>"}`}},
		"analytics":             {"<script>COUNT-1</script> COUNT-1", func(d *document) any { return d.analytics }, 2},
		"forms":                 {`<form method=POST><input name=a></form><form><input name=q></form>`, func(d *document) any { return d.forms }, 1},
		"robot check":           {`<form><input name="my-captcha-field"></form>`, func(d *document) any { return d.robotCheck }, true},
		"no such check":         {`<form><input name="cap"></form>`, func(d *document) any { return d.robotCheck }, false},
		"never closed":          {"<title>A", func(d *document) any { return d.titles }, []string{"A"}},
		"frames":                {`<body><iframe src="http://b.example/"></iframe>`, func(d *document) any { return d.pulls }, []pull{{kind: frameKind, address: "http://b.example/"}}},
	} {
		assert.Equal(t, c.want, c.got(read(c.markup)), name)
	}
}

func TestEncodingIsDecidedAsBrowsersDo(t *testing.T) {
	at := address(t, "https://a.example/")
	for _, c := range []struct {
		body, contentType, title, charset string
		early                             bool
	}{
		{"<title>é</title>", "text/html; charset=utf-8", "é", "utf-8", true},
		{"<meta charset=iso-8859-1><title>\xe9</title>", "text/html", "é", "windows-1252", true},
		{"\xef\xbb\xbf<title>é</title>", "text/html", "é", "utf-8", true},
		{"<title>\xe9</title>", "text/html", "é", "windows-1252", false},
		{strings.Repeat(" ", 2000) + "<meta charset=utf-8><title>x</title>", "text/html", "x", "windows-1252", false},
	} {
		d := analyse(at, []byte(c.body), c.contentType, sought{})
		assert.Equal(t, []string{c.title}, d.titles, c.body)
		assert.Equal(t, c.charset, d.charset, c.body)
		assert.Equal(t, c.early, d.charsetEarly, c.body)
	}
}

// The cases of RFC 9309, and those readers commonly get wrong.
func TestRobots(t *testing.T) {
	for _, c := range []struct {
		file, agent, path string
		may               bool
		line              int
	}{
		{"User-agent: *\nDisallow: /a\n", "x", "/ab", false, 2},
		{"User-agent: *\nDisallow:\n", "x", "/a", true, 0},
		{"User-agent: *\nDisallow: /\nAllow: /p$\n", "x", "/p", true, 3},
		{"User-agent: *\nDisallow: /\nAllow: /p$\n", "x", "/pq", false, 2},
		{"User-agent: *\nAllow: /a\nDisallow: /a\n", "x", "/a", true, 2}, // as long: allow
		{"User-agent: *\nDisallow: /a\nAllow: /a\n", "x", "/a", true, 3},
		{"User-agent: *\nDisallow: /a/b\nAllow: /a\n", "x", "/a/b/c", false, 2}, // longest
		{"User-agent: *\nDisallow: /*.gif$\n", "x", "/a/b.gif", false, 2},
		{"User-agent: *\nDisallow: /*.gif$\n", "x", "/a/b.gif?c", true, 0},
		{"User-agent: *\nDisallow: /a*b*c\n", "x", "/axxbyyczz", false, 2},
		{"User-agent: *\nDisallow: *\n", "x", "/a", false, 2},
		{"User-agent: a\nUser-agent: b\nDisallow: /x\n", "B", "/x", false, 3},
		{"User-agent: a\nDisallow: /x\n\nUser-agent: *\nDisallow: /y\n", "a", "/y", true, 0},
		{"User-agent: a\nDisallow: /x\n\nUser-agent: a\nDisallow: /y\n", "a", "/y", false, 5}, // groups are merged
		{"user-AGENT: *\ndisALLOW : /a # why\n", "x", "/a", false, 2},
		{"\xef\xbb\xbfUser-agent: *\r\nDisallow: /a\r\n", "x", "/a", false, 2},
		{"User-agent: *\nDisallow: /%7Ea\n", "x", "/~a", false, 2}, // escapes of plain letters are those letters
		{"User-agent: *\nDisallow: /ツ\n", "x", "/%E3%83%84", false, 2},
		{"User-agent: *\nDisallow: /a%2Fb\n", "x", "/a/b", true, 0}, // an escaped slash is none
		{"User-agent: *\nDisallow: /\n", "x", "/robots.txt", true, 0},
		{"Disallow: /a\n", "x", "/a", true, 0}, // a rule for nobody
		{"User-agent: *\nCrawl-delay: 5\nDisallow: /a\n", "x", "/a", false, 3},
		{"User-agent: a\nCrawl-delay: 5\nUser-agent: b\nDisallow: /a\n", "a", "/a", false, 4}, // what is not known ends no group
	} {
		may, line := parseRobots([]byte(c.file)).allowed(c.agent, c.path)
		assert.Equal(t, c.may, may, "%q %s", c.file, c.path)
		assert.Equal(t, c.line, line, "%q %s", c.file, c.path)
	}
	f := parseRobots([]byte("Sitemap: https://a.example/s.xml\n<html>\n"))
	assert.Equal(t, []string{"https://a.example/s.xml"}, f.sitemaps)
	assert.False(t, f.readable)
	assert.True(t, parseRobots(nil).readable)
	assert.False(t, parseRobots(bytes.Repeat([]byte("#"), maxRobots+1)).readable)
	var none *robotsFile
	may, _ := none.allowed("*", "/")
	assert.True(t, may)
}

func zipped(t testing.TB, data string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write([]byte(data))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestSitemaps(t *testing.T) {
	const head = `<?xml version="1.0"?><urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">`
	for name, c := range map[string]struct {
		data      []byte
		addresses []string
		wrong     string
	}{
		"xml":        {[]byte(head + "<url><loc> https://a.example/?b&amp;c </loc><lastmod>2026</lastmod></url></urlset>"), []string{"https://a.example/?b&c"}, ""},
		"pictures":   {[]byte(head + `<url><loc>https://a.example/</loc><image xmlns="x"><loc>https://a.example/i.png</loc></image></url></urlset>`), []string{"https://a.example/"}, ""},
		"compressed": {zipped(t, head+"<url><loc>https://a.example/</loc></url></urlset>"), []string{"https://a.example/"}, ""},
		"index":      {[]byte(`<sitemapindex xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><sitemap><loc>https://a.example/1.xml</loc></sitemap></sitemapindex>`), []string{"https://a.example/1.xml"}, ""},
		"strange":    {[]byte(`<urlset xmlns="http://sitemaps.org/schemas/sitemap/0.9"><url><loc>https://a.example/</loc></url></urlset>`), []string{"https://a.example/"}, "its namespace is"},
		"no space":   {[]byte(`<urlset><url><loc>https://a.example/</loc></url></urlset>`), []string{"https://a.example/"}, "its namespace is"},
		"blank":      {[]byte("\n" + `<?xml version="1.0"?>` + head + "</urlset>"), nil, "white space stands before its XML declaration"},
		"notice":     {[]byte("Warning: a thing\n" + `<?xml version="1.0"?>` + head + "</urlset>"), nil, "something stands before it"},
		"marked":     {[]byte("\xef\xbb\xbf" + `<?xml version="1.0"?>` + head + "<url><loc>https://a.example/</loc></url></urlset>"), []string{"https://a.example/"}, ""},
		"text":       {[]byte("https://a.example/\n\nhttps://a.example/b\n"), []string{"https://a.example/", "https://a.example/b"}, ""},
		"rss":        {[]byte(`<rss><channel><link>https://a.example/</link><item><link>https://a.example/b</link></item></channel></rss>`), []string{"https://a.example/", "https://a.example/b"}, ""},
		"atom":       {[]byte(`<feed><entry><link href="https://a.example/b"/></entry></feed>`), []string{"https://a.example/b"}, ""},
		"cut short":  {[]byte(head + "<url><loc>https://a.example/</loc></url>"), []string{"https://a.example/"}, "not well-formed"},
		"a page":     {[]byte("<html><body>404</body></html>"), nil, "no sitemap and no feed"},
		"nothing":    {nil, nil, "nothing in it"},
		"words":      {[]byte("hello"), nil, "is no address"},
		"entities":   {[]byte(`<!DOCTYPE urlset [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><urlset><url><loc>&b;</loc></url></urlset>`), nil, "not well-formed"},
		"too deep":   {[]byte(strings.Repeat("<urlset>", 60)), nil, "nested too deep"},
		"too many":   {[]byte(strings.Repeat("https://a.example/\n", maxSitemapAddresses+1)), nil, "more than 50000 addresses"},
		"a bomb":     {zipped(t, head+strings.Repeat(" ", maxSitemapBytes+10)), nil, "larger than 50 MiB"},
	} {
		s, err := parseSitemap(c.data)
		if c.wrong != "" {
			assert.ErrorContains(t, err, c.wrong, name)
		} else {
			assert.NoError(t, err, name)
		}
		if c.addresses != nil {
			assert.Equal(t, c.addresses, s.addresses, name)
		}
	}
}

func TestFeeds(t *testing.T) {
	f, err := parseFeed([]byte(`<rss><channel><managingEditor>a@b.example (A)</managingEditor><item/><item/></channel></rss>`))
	require.NoError(t, err)
	assert.Equal(t, &feed{items: 2, reply: "a@b.example"}, f)
	f, err = parseFeed([]byte(`<feed><author><email>c@b.example</email></author><entry/></feed>`))
	require.NoError(t, err)
	assert.Equal(t, &feed{items: 1, reply: "c@b.example"}, f)
	_, err = parseFeed([]byte("<html></html>"))
	assert.ErrorContains(t, err, "no feed")
	_, err = parseFeed([]byte("<rss><channel>"))
	assert.ErrorContains(t, err, "not well-formed")
}

func TestStructuredData(t *testing.T) {
	kinds, lacks, logo, bad := structuredData([]string{
		`{"@graph": [{"@type": ["TheaterGroup", "https://schema.org/LocalBusiness"], "name": "A", "url": "u", "logo": {"@id": "#l"}}, {"@id": "#l", "@type": "ImageObject", "url": "l.png"}]}`,
		`[{"@type": "BlogPosting", "headline": "h", "author": ""}]`, `{"@type": "Product", "name": "p", "image": "i", "review": {}}`, `{`,
	})
	assert.Equal(t, []string{"Article", "BlogPosting", "ImageObject", "LocalBusiness", "Organization", "Product", "TheaterGroup"}, kinds)
	assert.Equal(t, []string{"Article.author", "Article.datePublished", "LocalBusiness.address"}, lacks)
	assert.Equal(t, "l.png", logo)
	assert.Equal(t, 1, bad)
}

func TestRobotsDecisionsArePutInPlainWords(t *testing.T) {
	v := &visit{Options: Options{Now: time.Now()}, home: address(t, "https://a.example/"), robots: parseRobots([]byte("User-agent: *\nDisallow: /no\n"))}
	for _, c := range []struct {
		path, tag, header, canonical string
		indexable                    bool
		says                         string
	}{
		{"/", "", "", "", true, "listed"},
		{"/", "index, nofollow", "", "", true, "listed; its links are not followed"},
		{"/", "noindex", "", "", false, "not listed: the tag says so"},
		{"/", "", "none", "", false, "not listed: the header says so; its links are not followed"},
		{"/", "noindex", "noindex", "", false, "not listed: tag and header say so"},
		{"/", "", "otherbot: noindex", "", true, "listed"},
		{"/", "noindex nofollow", "", "", false, "not listed: the tag says so; its links are not followed"},
		{"/", "", "unavailable_after: Wed, 25 Jun 2025 15:00:00 GMT", "", false, "not listed: the header, whose unavailable_after, 2025-06-25, is past"},
		{"/", "max-snippet:20, unavailable_after: 2025-06-25, nofollow", "", "", false, "not listed: the tag, whose unavailable_after, 2025-06-25, is past; its links are not followed"},
		{"/", "unavailable_after: 25 Jun 2199 15:00:00 GMT", "", "", true, "listed"},
		{"/no", "", "", "", false, "robots.txt, line 2, keeps engines out: it may still be listed by its address alone"},
		{"/no", "noindex", "", "", false, "robots.txt, line 2, keeps engines out, so they never read the noindex: it may be listed by its address alone"},
		{"/a", "", "", "https://a.example/b", false, "listed under https://a.example/b, which its canonical link names"},
		{"/a/", "", "", "https://A.example/a/", true, "listed"},
	} {
		page := &facts.Page{Canonical: c.canonical}
		v.decide(page, address(t, "https://a.example"+c.path), []string{c.tag}, nil, []string{c.header})
		assert.Equal(t, c.indexable, page.Indexable, "%+v", c)
		assert.Equal(t, c.says, page.Robots, "%+v", c)
	}
}

func TestZoomAndKinds(t *testing.T) {
	for viewport, may := range map[string]bool{"width=device-width, initial-scale=1": true, "width=device-width, user-scalable=no": false,
		"width=device-width,maximum-scale=1.5": false, "width=device-width, maximum-scale=5": true, "initial-scale=1": false} {
		assert.Equal(t, may, zoomable(viewport), viewport)
	}
	v := &visit{home: address(t, "https://a.example/")}
	for path, kind := range map[string]string{"/": "home", "/a/": "content", "/?q=x": "search", "/writer/x/": "author listing", "/2026/11/": "date listing",
		"/picture/x/": "file", "/photos/a-jar/": "content", "/files/plan.pdf": "content", "/pictures/": "content", "/topic/x/": "listing", "/2026-in-review/": "content"} {
		assert.Equal(t, kind, v.kindOf(address(t, "https://a.example"+path), &document{}), path)
	}
}

func FuzzAnalyse(f *testing.F) {
	f.Add([]byte(`<html lang=en><title>A</title><meta name=robots content=none><a href=x><script type="application/ld+json">{}</script><body>© 2026`))
	f.Add([]byte("<svg><title>\xff</title><meta charset=utf-16>"))
	at := address(f, "https://a.example/")
	f.Fuzz(func(t *testing.T, data []byte) {
		d := analyse(at, data, "text/html", sought{analytics: "x", strangers: []string{"old.example"}})
		structuredData(d.structured)
		for _, link := range d.links {
			if !strings.HasPrefix(link, "http") {
				t.Fatalf("%q is no web address", link)
			}
		}
	})
}

func FuzzSitemapFeedAndRobots(f *testing.F) {
	f.Add([]byte("<urlset><url><loc>https://a.example/</loc></url></urlset>"), "/a*b$")
	f.Add([]byte("User-agent: *\nDisallow: /a*b$\nSitemap: x\n"), "/%zz")
	f.Add([]byte("<rss><channel><item/></channel></rss>"), "/")
	f.Fuzz(func(t *testing.T, data []byte, path string) {
		if s, _ := parseSitemap(data); len(s.addresses) > maxSitemapAddresses+1 {
			t.Fatal("more addresses than the bound")
		}
		_, _ = parseFeed(data)
		parseRobots(data).allowed("*", path)
	})
}
