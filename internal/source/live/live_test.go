package live

import (
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

// A small site is a map of paths to answers; a path that is not there answers 404.
type small map[string]string

// serveSmall serves it. An answer that starts with "->" is a permanent redirect, one with "~>" a temporary one, one
// that starts with a number has that status; .xml and .txt have their types, all else is a page.
func serveSmall(t *testing.T, pages small) string {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		answer, there := pages[r.URL.RequestURI()]
		answer = strings.ReplaceAll(answer, "HOME", "http://"+r.Host)
		switch {
		case !there:
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.WriteHeader(404)
			fmt.Fprint(w, `<title>Not here</title><a href="/">home</a>`)
		case strings.HasPrefix(answer, "->"):
			http.Redirect(w, r, answer[2:], http.StatusMovedPermanently)
		case strings.HasPrefix(answer, "~>"):
			http.Redirect(w, r, answer[2:], http.StatusFound)
		case answer == "503":
			w.WriteHeader(503)
		case strings.HasSuffix(r.URL.Path, ".txt"):
			w.Header().Set("Content-Type", "text/plain")
			fmt.Fprint(w, answer)
		case strings.HasSuffix(r.URL.Path, ".xml"):
			w.Header().Set("Content-Type", "application/xml")
			fmt.Fprint(w, answer)
		default:
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, answer)
		}
	}))
	t.Cleanup(server.Close)
	return server.URL
}

func fact(t *testing.T, s *facts.Snapshot, name string) facts.Value {
	t.Helper()
	r, known := s.Effective("live." + name)
	require.True(t, known, "%s: %s", name, s.Why("live."+name))
	return r.Value
}

func pageAt(t *testing.T, s *facts.Snapshot, path string) facts.Page {
	t.Helper()
	i := slices.IndexFunc(s.Pages, func(p facts.Page) bool { return p.Path == path })
	require.GreaterOrEqual(t, i, 0, "%s was not seen", path)
	return s.Pages[i]
}

const words = "one two three four five six seven eight nine ten eleven twelve thirteen fourteen fifteen sixteen seventeen eighteen nineteen twenty more"

// Many sites have their home page in a language's folder, or under another name: all that is said of it is said of where it leads.
func TestASiteWhoseHomeLeadsOnIsLookedAt(t *testing.T) {
	for _, way := range []string{"->", "~>"} {
		s := look(t, options(serveSmall(t, small{
			"/":            way + "/start",
			"/start":       way + "/de/",
			"/de/":         `<title>Haus</title><body><a href="/de/kontakt/">K</a><a href="/">again</a>`,
			"/de/kontakt/": `<title>Kontakt</title><body><a href="/de/">H</a>`,
		})))
		require.Len(t, s.Pages, 2, way)
		assert.Equal(t, []string{"home", "content"}, []string{pageAt(t, s, "/de/").Kind, pageAt(t, s, "/de/kontakt/").Kind})
		assert.Equal(t, []int{0, 1}, []int{pageAt(t, s, "/de/").Depth, pageAt(t, s, "/de/kontakt/").Depth})
		assert.Equal(t, "Haus", fact(t, s, "home.title").Text())
		assert.Equal(t, "/de/", s.HomePage().Path)
		require.Len(t, s.Links, 1, "the link that leads on is told of, and not the home page")
		assert.Equal(t, 2, s.Links[0].Steps)
	}
}

func TestASiteIsFoundByItsLinksAndItsSitemap(t *testing.T) {
	at := serveSmall(t, small{
		"/":           `<title>Home</title><body><a href="/a">a</a><a href="/old">old</a><a href="/gone">gone</a><a href="http://elsewhere.example/">x</a>`,
		"/a":          `<title>A</title><body><a href="/b?x=1#y">b</a>`,
		"/b?x=1":      `<title>B</title><body>`,
		"/old":        "->/a",
		"/orphan":     `<title>Orphan</title><a href="/behind">x</a>`,
		"/behind":     `<title>Behind the orphan</title>`,
		"/listed":     `<title>Listed</title><meta name=robots content=noindex>`,
		"/hidden":     `<title>Hidden</title><meta name=robots content=noindex>`,
		"/robots.txt": "User-agent: *\nDisallow: /barred\nSitemap: HOME/map.xml\n",
		"/map.xml":    `<sitemapindex xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><sitemap><loc>HOME/one.xml</loc></sitemap></sitemapindex>`,
		"/one.xml":    `<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc>HOME/</loc></url><url><loc>HOME/orphan</loc></url><url><loc>HOME/hidden</loc></url><url><loc>HOME/old</loc></url><url><loc>HOME/nothing</loc></url><url><loc>https://other.example/</loc></url></urlset>`,
		"/barred":     `<title>Barred</title>`,
	})
	o := options(at)
	o.List = []string{"/listed", "https://other.example/"}
	s := look(t, o)
	assert.Equal(t, "Listed", pageAt(t, s, "/listed").Title)
	assert.Equal(t, 0, pageAt(t, s, "/").Depth)
	assert.Equal(t, 2, pageAt(t, s, "/b?x=1").Depth)
	assert.Equal(t, -1, pageAt(t, s, "/orphan").Depth)
	assert.False(t, pageAt(t, s, "/orphan").Linked)
	assert.True(t, pageAt(t, s, "/orphan").InSitemap)
	assert.Equal(t, -1, pageAt(t, s, "/behind").Depth, "a page that only an orphan leads to")
	assert.Len(t, s.Pages, 7, "what is redirected, gone or on another host is no page")

	links := map[string]facts.Link{}
	for _, link := range s.Links {
		links[strings.TrimPrefix(link.Address, at)] = link
	}
	assert.Equal(t, 404, links["/gone"].Status)
	assert.Equal(t, at+"/", links["/gone"].From)
	assert.Equal(t, 1, links["/old"].Steps)
	assert.Len(t, links, 2)

	assert.True(t, fact(t, s, "sitemap.valid").Bool())
	assert.EqualValues(t, 6, fact(t, s, "sitemap.addresses").Number())
	assert.Equal(t, []string{at + "/hidden (noindex)", at + "/old (redirects)", at + "/nothing (answers 404)", "https://other.example/ (another host or scheme)"}, fact(t, s, "sitemap.wrong").List())
	assert.Equal(t, []string{"/a", "/b?x=1", "/behind"}, fact(t, s, "sitemap.missing").List())
	assert.Equal(t, []string{"/orphan", "/hidden"}, fact(t, s, "sitemap.orphans").List())
	assert.Equal(t, []string{at + "/map.xml"}, fact(t, s, "robots.sitemaps").List())
	assert.Equal(t, []string{"A", "gone", "old"}, fact(t, s, "home.linked_titles").List())
	assert.Contains(t, fact(t, s, "hosts").List(), "elsewhere.example")
	assert.Contains(t, fact(t, s, "home.headers").List(), "Content-Type: text/html; charset=utf-8")
	assert.Equal(t, []string{"A: b", "Set-Cookie: session"}, headerLines(http.Header{"Set-Cookie": {"session=marked; Secure"}, "A": {"b"}}))
	v := &visit{}
	for range 3 {
		v.tellCookies("https://x.example/", http.Header{"Set-Cookie": {"lamp=marked; Secure", "", "stage=marked", "no cookie"}})
	}
	assert.Equal(t, []string{"lamp", "stage"}, v.found.Cookies, "names only, each once")
}

func TestPagesAreComparedWithEachOther(t *testing.T) {
	same := "<title>Same</title><meta name=description content=shared><body>" + words
	at := serveSmall(t, small{
		"/":  `<title>Home</title><body><a href=/a>a</a><a href=/b>b</a><a href=/c>c</a><a href=/d>d</a>`,
		"/a": same, "/b": same,
		"/c": `<title>Same</title><link rel=canonical href="HOME/a"><body>` + words,
		"/d": `<title>D</title><link rel=canonical href="HOME/missing"><body>d`,
	})
	s := look(t, options(at))
	assert.Equal(t, 1, pageAt(t, s, "/a").TitleShared, "what leads to another canonical address does not count")
	assert.Equal(t, 1, pageAt(t, s, "/b").DescShared)
	assert.Equal(t, at+"/a", pageAt(t, s, "/b").Twin)
	assert.Empty(t, pageAt(t, s, "/a").Twin, "the one that was met first is the page")
	assert.Equal(t, "answers", pageAt(t, s, "/c").CanonicalWorks)
	assert.False(t, pageAt(t, s, "/c").Indexable)
	assert.Equal(t, "answers 404", pageAt(t, s, "/d").CanonicalWorks)
	assert.EqualValues(t, 0, fact(t, s, "count.described").Number())
}

func TestWhatIsOnlyAskedOfOnesOwnSite(t *testing.T) {
	pages := small{
		"/":            `<title>Home</title><body><a href="/a/">a</a>`,
		"/a/":          `<title>A</title><body>a`,
		"/a":           "->/a/",
		"/door":        "->/door/",
		"/door/":       `<form><input type=password></form>`,
		"/robots.txt":  "User-agent: *\nDisallow: /backup.sql\nDisallow: /quiet\n\nUser-agent: weltaxis\nAllow: /\n",
		"/backup.sql":  "everything",
		"/moved":       "->/a/",
		"/for-a-while": "~>/a/",
	}
	at := serveSmall(t, pages)
	stranger := look(t, options(at))
	assert.EqualValues(t, 404, fact(t, stranger, "not_found.status").Number(), "one address that cannot exist is asked for of any site")
	for _, name := range []string{"login.password", "robots.private"} {
		_, known := stranger.Effective("live." + name)
		assert.False(t, known, name)
		assert.NotEmpty(t, stranger.Why("live."+name))
	}
	assert.False(t, stranger.Partial(), "what a guest does not do is no failure")

	o := options(at)
	o.Own, o.LoginPath = true, "/door"
	o.Previous = []string{at + "/a/", at + "/moved", at + "/for-a-while", at + "/lost", "https://other.example/"}
	s := look(t, o)
	assert.EqualValues(t, 404, fact(t, s, "not_found.status").Number())
	assert.True(t, fact(t, s, "not_found.own").Bool())
	assert.True(t, fact(t, s, "login.password").Bool())
	assert.Equal(t, []string{"/backup.sql"}, fact(t, s, "robots.private").List())
	assert.Equal(t, []string{"/lost"}, fact(t, s, "lost").List())
	assert.Equal(t, []string{"/for-a-while"}, fact(t, s, "lent").List(), "a redirect that is not permanent does not lead on for ever")
	kinds := map[string]facts.Spelling{}
	for _, spelling := range s.Spellings {
		kinds[spelling.Kind] = spelling
	}
	assert.Equal(t, facts.Spelling{Address: at + "/a", Status: 301, Final: at + "/a/", Steps: 1, Permanent: true, Preferred: true, Kind: "slash"}, kinds["slash"])
}

func TestRobotsThatFailForbidAll(t *testing.T) {
	at := serveSmall(t, small{"/": `<title>Home</title>`, "/robots.txt": "503"})
	s := look(t, options(at))
	assert.EqualValues(t, 503, fact(t, s, "robots.status").Number())
	assert.False(t, fact(t, s, "home.indexable").Bool())
	assert.Contains(t, fact(t, s, "home.robots").Text(), "robots.txt, which fails, keeps engines out")
}

func TestAPassingTroubleIsNone(t *testing.T) {
	var asked atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		switch r.URL.Path {
		case "/":
			fmt.Fprint(w, `<title>Home</title><body><a href=/once>x</a><a href=/always>y</a>`)
		case "/once":
			if asked.Add(1) == 1 {
				w.WriteHeader(502)
			}
			fmt.Fprint(w, "<title>Once</title>")
		case "/always":
			w.WriteHeader(500)
		default:
			w.WriteHeader(404)
		}
	}))
	t.Cleanup(server.Close)
	s := look(t, options(server.URL))
	assert.Equal(t, "Once", pageAt(t, s, "/once").Title)
	require.Len(t, s.Links, 1)
	assert.Equal(t, 500, s.Links[0].Status)
}

func TestALockedSiteIsOpenedWithItsName(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if name, password, ok := r.BasicAuth(); !ok || name != "staff" || password != "open:sesame" {
			w.WriteHeader(401)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, "<title>Inside</title>")
	}))
	t.Cleanup(server.Close)
	o := options(server.URL)
	o.User = "staff:open:sesame"
	s := look(t, o)
	assert.Equal(t, "Inside", fact(t, s, "home.title").Text())
	assert.NotContains(t, fmt.Sprint(s.Readings, s.Gaps), "sesame")
}

// TestThePasswordGoesToOneOrigin: not to the same host without encryption, nor to another port.
func TestThePasswordGoesToOneOrigin(t *testing.T) {
	var told []string
	var mu sync.Mutex
	note := func(where string) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			defer mu.Unlock()
			if r.Header.Get("Authorization") != "" {
				told = append(told, where)
			}
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, `<title>Inside</title><a href="https://locked.example:9443/">other port</a>`)
		})
	}
	secure, open, other := httptest.NewTLSServer(note("https")), httptest.NewServer(note("http")), httptest.NewTLSServer(note("port"))
	t.Cleanup(func() { secure.Close(); open.Close(); other.Close() })
	o := options("https://locked.example")
	o.User, o.Own, o.Preferred = "staff:open-sesame", true, "https://locked.example"
	o.Trust = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: secure.Certificate().Raw})
	o.Connect = map[string]string{"locked.example:443": secure.Listener.Addr().String(), "locked.example:80": open.Listener.Addr().String(), "locked.example:9443": other.Listener.Addr().String(),
		"www.locked.example:443": secure.Listener.Addr().String(), "www.locked.example:80": open.Listener.Addr().String()}
	client, err := newClient(o, &url.URL{Scheme: "https", Host: "locked.example"})
	require.NoError(t, err)
	client.http.Transport.(*http.Transport).TLSClientConfig.InsecureSkipVerify = true
	for _, at := range []string{"https://locked.example/", "https://locked.example:443/x", "http://locked.example/", "https://locked.example:9443/", "https://www.locked.example/"} {
		u, _ := url.Parse(at)
		_, err := client.get(t.Context(), u)
		require.NoError(t, err)
	}
	assert.Equal(t, []string{"https", "https"}, told, "its own address, in either spelling, and nothing else")
	v := &visit{home: &url.URL{Scheme: "https", Host: "a.example"}}
	for at, same := range map[string]bool{"http://a.example/": true, "https://www.a.example/": true, "https://a.example:443/": true, "https://a.example:8443/": false, "ftp://a.example/": false, "https://b.example/": false} {
		u, _ := url.Parse(at)
		assert.Equal(t, same, v.sameSite(u), at)
	}
}

func TestASiteThatLeadsElsewhereIsNotFollowed(t *testing.T) {
	at := serveSmall(t, small{"/": "~>https://other.example/"})
	s := look(t, options(at))
	assert.Nil(t, s.Pages)
	assert.Contains(t, gapsOf(s), "it redirects to https://other.example/, another site")
	s = look(t, options("http://127.0.0.1:1/"))
	assert.Contains(t, gapsOf(s), "connection refused")
	s = look(t, options("nonsense"))
	assert.Contains(t, gapsOf(s), "it is no address")
}

func TestAddressesAreWrittenAlike(t *testing.T) {
	for in, want := range map[string]string{
		"HTTP://A.Example:80#x": "http://a.example/", "https://a.example:443/x/?y#z": "https://a.example/x/?y", "https://a.example:8443/X": "https://a.example:8443/X",
	} {
		assert.Equal(t, want, normal(address(t, in)).String())
	}
}
