package live

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/internal/pace"
)

// A keeper is a site with a page cache of its own, as a test wants it.
type keeper struct {
	mu       sync.Mutex
	kept     map[string]string
	asked    []string // what came, with the cookie
	key      func(*http.Request) string
	page     func(*http.Request) string
	says     func(w http.ResponseWriter, hit bool)
	noKeep   func(*http.Request) bool
	requests int
}

func (k *keeper) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.requests++
	k.asked = append(k.asked, r.URL.RequestURI()+" "+r.Header.Get("Cookie"))
	if r.URL.Path != "/" && r.URL.Path != "/about/" {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	key := k.key(r)
	body, hit := k.kept[key]
	if k.noKeep(r) {
		hit = false
	}
	if !hit {
		body = k.page(r)
		if !k.noKeep(r) {
			k.kept[key] = body
		}
	}
	k.says(w, hit)
	fmt.Fprint(w, body)
}

func newKeeper() *keeper {
	return &keeper{kept: map[string]string{}, key: func(r *http.Request) string { return r.URL.RequestURI() },
		page: func(r *http.Request) string {
			return `<title>A</title><body><a href="/about/">about</a><p>The page of everybody at ` + r.URL.Path + `</p>`
		},
		says: func(w http.ResponseWriter, hit bool) {
			w.Header().Set("X-Cache", map[bool]string{true: "HIT", false: "MISS"}[hit])
		},
		noKeep: func(*http.Request) bool { return false }}
}

func cookieOf(r *http.Request) string { return r.Header.Get("Cookie") }

// TestRepeats: what is seen of caches by asking again.
func TestRepeats(t *testing.T) {
	mine := func(r *http.Request) string {
		if cookieOf(r) != "" {
			return `<title>A</title><body><p>The page of Mara, with her seats</p>`
		}
		return `<title>A</title><body><p>The page of everybody</p>`
	}
	for name, c := range map[string]struct {
		change  func(*keeper)
		session string
		is      func(t *testing.T, home facts.Repeat)
	}{
		"a cache that works": {func(*keeper) {}, "", func(t *testing.T, home facts.Repeat) {
			assert.Equal(t, []any{homeAsks, homeAsks, "miss", "hit", "a query of its own", "", ""}, []any{home.Asks, home.Hits, home.First, home.Then, home.Around, home.Old, home.Session})
			assert.True(t, home.Same)
			assert.Len(t, home.AroundBytes, homeAsks)
		}},
		"a query does not lead around it": {func(k *keeper) {
			k.key = func(r *http.Request) string { return r.URL.Path }
			k.noKeep = func(r *http.Request) bool { return r.Header.Get("Cache-Control") == "no-cache" }
		}, "", func(t *testing.T, home facts.Repeat) { assert.Equal(t, "Cache-Control: no-cache", home.Around) }},
		"only a session leads around it": {func(k *keeper) {
			k.key = func(r *http.Request) string { return r.URL.Path }
			k.noKeep = func(r *http.Request) bool { return cookieOf(r) != "" }
		}, "house_session=abc", func(t *testing.T, home facts.Repeat) {
			assert.Equal(t, "the cookie of a session", home.Around)
			assert.Equal(t, "miss", home.Session)
		}},
		"nothing leads around it": {func(k *keeper) { k.key = func(r *http.Request) string { return r.URL.Path } }, "", func(t *testing.T, home facts.Repeat) {
			assert.Empty(t, home.Around)
			assert.Empty(t, home.Gain)
			assert.Equal(t, "no way around the cache was found", home.GainWhy)
		}},
		"nothing tells of it": {func(k *keeper) { k.says = func(http.ResponseWriter, bool) {} }, "", func(t *testing.T, home facts.Repeat) {
			assert.Equal(t, []any{0, "untold"}, []any{home.Hits, home.Then})
			assert.Equal(t, "no cache said that it answered, so there is nothing to compare", home.GainWhy)
		}},
		"whoever is signed in gets what everybody does": {func(k *keeper) { k.page = mine }, "house_session=abc", func(t *testing.T, home facts.Repeat) {
			assert.Equal(t, "hit", home.Session)
			assert.Contains(t, home.Leaks, "given the page of somebody with one", "and the other way round is worse")
		}},
		"the page of somebody with a session is passed over": {func(k *keeper) {
			k.page = mine
			k.noKeep = func(r *http.Request) bool { return cookieOf(r) != "" }
		}, "house_session=abc", func(t *testing.T, home facts.Repeat) {
			assert.Equal(t, []any{"miss", false, ""}, []any{home.Session, home.SessionSame, home.Leaks})
		}},
		"an old page": {func(k *keeper) { k.kept["/"] = `<title>Old</title><body><p>The old page of everybody</p>` }, "", func(t *testing.T, home facts.Repeat) {
			assert.Equal(t, "its title is “Old”, and around the cache “A”", home.Old)
		}},
		"a page that tells the hour": {func(k *keeper) {
			n := 0
			k.page = func(*http.Request) string {
				n++
				return fmt.Sprintf(`<title>A</title><body><p>The page of everybody</p><p>%d minutes ago</p><p>%s</p>`, n, []string{"an hour ago", "yesterday"}[min(n-1, 1)])
			}
		}, "", func(t *testing.T, home facts.Repeat) {
			assert.Equal(t, homeAsks, home.Hits)
			assert.Empty(t, home.Old)
		}},
		"an old price": {func(k *keeper) {
			k.kept["/"] = `<title>A</title><body><p>The rope is 4.50 a metre</p>`
			k.page = func(*http.Request) string { return `<title>A</title><body><p>The rope is 5.20 a metre</p>` }
		}, "", func(t *testing.T, home facts.Repeat) { assert.Contains(t, home.Old, "words of text") }},
		"a page that tells the clock": {func(k *keeper) {
			n := 0
			k.page = func(*http.Request) string {
				n++
				return fmt.Sprintf(`<title>A</title><body><p>Everybody</p><p>made at 10:%02d</p>`, min(n, 2))
			}
		}, "", func(t *testing.T, home facts.Repeat) { assert.Empty(t, home.Old) }},
		"a page that is another each time": {func(k *keeper) {
			n := 0
			k.page = func(*http.Request) string {
				n++
				return fmt.Sprintf(`<title>A</title><body><p>The page of everybody, number %d of them</p>`, n)
			}
		}, "", func(t *testing.T, home facts.Repeat) { assert.Empty(t, home.Old) }},
	} {
		t.Run(name, func(t *testing.T) {
			k := newKeeper()
			c.change(k)
			server := httptest.NewServer(k)
			defer server.Close()
			o := options(server.URL)
			o.Own, o.Session = true, c.session
			s := look(t, o)
			require.NotEmpty(t, s.Repeats)
			require.Equal(t, "home", s.Repeats[0].Kind)
			c.is(t, s.Repeats[0])
			for _, asked := range k.asked {
				assert.True(t, c.session != "" || strings.HasSuffix(asked, " "), asked)
			}
		})
	}
}

// TestEnoughIsEnough: who answers that it is too much is not asked any more.
func TestEnoughIsEnough(t *testing.T) {
	k := newKeeper()
	served := http.Handler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if k.mu.Lock(); k.requests > 4 {
			k.requests++
			k.mu.Unlock()
			w.WriteHeader(http.StatusTooManyRequests)
			return
		}
		k.mu.Unlock()
		k.ServeHTTP(w, r)
	}))
	server := httptest.NewServer(served)
	defer server.Close()
	run := pace.New("A", 20, time.Now())
	require.NoError(t, Pace(t.Context(), options(server.URL), []string{"/", "/about/"}, &run))
	assert.Equal(t, errRefuses.Error(), run.Pages[0].Failed)
	assert.NotEmpty(t, run.Pages[1].Failed)
	assert.LessOrEqual(t, k.requests, 9)
}

// TestTheSessionGoesToOneOrigin: it is sent to the site alone, and not to another port of it.
func TestTheSessionGoesToOneOrigin(t *testing.T) {
	k := newKeeper()
	other := httptest.NewServer(k)
	defer other.Close()
	first := httptest.NewServer(http.RedirectHandler(other.URL+"/", http.StatusFound))
	defer first.Close()
	o := options(first.URL)
	o.Own, o.Session = true, "house_session=abc"
	look(t, o)
	for _, asked := range k.asked {
		assert.NotContains(t, asked, "house_session")
	}
}

// TestPaceMakesNoMoreThanItSays: the requests are counted, and stay within what was said beforehand.
func TestPaceMakesNoMoreThanItSays(t *testing.T) {
	for name, change := range map[string]func(*keeper){
		"a cache that works":      func(*keeper) {},
		"nothing leads around it": func(k *keeper) { k.key = func(r *http.Request) string { return r.URL.Path } },
	} {
		t.Run(name, func(t *testing.T) {
			k := newKeeper()
			change(k)
			server := httptest.NewServer(k)
			defer server.Close()
			run := pace.New("A", 6, time.Now())
			require.NoError(t, Pace(t.Context(), options(server.URL), []string{"/", "/about/", "/none/"}, &run))
			require.Len(t, run.Pages, 3)
			assert.Equal(t, "it answers 404", run.Pages[2].Failed)
			assert.LessOrEqual(t, k.requests, pace.Most(3, 6))
			assert.Equal(t, k.requests, run.Requests)
			plain, around, outcomes := run.Pages[1].Ways()
			assert.Len(t, plain, 6)
			assert.Equal(t, map[string]int{"hit": 6}, outcomes, "after the warm-up")
			assert.Equal(t, name == "a cache that works", len(around) == 6)
		})
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	run := pace.New("A", 6, time.Now())
	require.Error(t, Pace(ended, options("http://127.0.0.1:1"), []string{"/"}, &run))
}

// TestWhoseAssetsAre: by the paths that a dialect names.
func TestWhoseAssetsAre(t *testing.T) {
	owners := []Owned{{Path: "/themes/{name}/", Of: "theme"}, {Path: "/parts/{name}/js/", Of: "extension", Used: `data-part="{name}"`}, {Path: "/up/", Of: "uploads"}}
	for path, owner := range map[string]string{"/themes/lamp/a.css": "theme lamp", "/themes/a.css": "site", "/parts/seats/js/a.js": "extension seats", "/parts/seats/a.js": "site", "/up/2026/a.png": "uploads", "/a.js": "site", "/themes/": "site"} {
		assert.Equal(t, owner, ownerOf(path, owners), path)
	}
	pulls := []pull{{kind: scriptKind, address: "https://a.example/parts/seats/js/a.js"}, {kind: scriptKind, address: "https://a.example/parts/map/js/a.js"}, {kind: pictureKind, address: "https://a.example/parts/tea/js/a.png"}}
	assert.Equal(t, []string{"/parts/map/js/a.js"}, unusedIn(pulls, []byte(`<b data-part="seats">`), owners))
}

// TestNamedByContent: a digest or a version in the name, or a query that is one.
func TestNamedByContent(t *testing.T) {
	for address, named := range map[string]bool{"/a-3f9a2c1b.css": true, "/a.3f9a2c1bde.min.js": true, "/app.d41d8cd98f00b204.css": true, "/main.Bq3x9Zk2.js": true, "/main-menubars.js": false, "/photo_20261126.jpg": false, "/a-1.2.3.css": true, "/a.css?v=1.2": true, "/a.css?ver=3": true, "/a.css?20261126": true, "/a.css?3f9a2c": true,
		"/a.css": false, "/background.css": false, "/facade.css": false, "/a-2.css": false, "/photo-2026.jpg": false, "/a.png?w=300": false, "/a.css?theme=dark": false, "/style-min.css": false, "/deadbeef.css": false} {
		path, query, _ := strings.Cut(address, "?")
		assert.Equal(t, named, namedByContent(path, query), address)
	}
}

// TestWhatMinifyingSaves: white space and remarks, and no names; what cannot be read is not told.
func TestWhatMinifyingSaves(t *testing.T) {
	assert.Zero(t, saves(styleKind, []byte("a{color:red}")))
	assert.Equal(t, 16, saves(styleKind, []byte("/* red */\na {\n\tcolor: red;\n}")))
	assert.Zero(t, saves(scriptKind, []byte("let lantern=1,row=lantern+1;row()")))
	assert.Positive(t, saves(scriptKind, []byte("// a lantern\nlet lantern = 1;\n")))
	assert.Equal(t, -1, saves(scriptKind, []byte("let let ((")))
	assert.Equal(t, -1, saves(pictureKind, []byte("x")))
	assert.Equal(t, -1, saves(styleKind, make([]byte, maxMinified+1)))
}

// TestWhatIsSomebodysOwn: by its address, or by what it asks for.
func TestWhatIsSomebodysOwn(t *testing.T) {
	for path, is := range map[string]bool{"/cart/": true, "/shop/Basket": true, "/en/checkout/": true, "/my-account/orders/": true, "/warenkorb.html": true, "/mi-cuenta/": true, "/order-received/17/": true, "/?preview=1": true,
		"/cartoons/": false, "/basket-weaving/": false, "/profile/": false, "/library/profile.html": false, "/account/": false, "/downloads/": false, "/orders-of-magnitude/": false, "/": false} {
		assert.Equal(t, is, personal(address(t, "https://a.example"+path), &document{}) != "", path)
	}
	assert.NotEmpty(t, personal(address(t, "https://a.example/account/"), &document{forms: 1}))
	assert.Empty(t, personal(address(t, "https://a.example/basket/"), &document{articles: 7}), "a listing of baskets")
}

// TestOfSeveralFormatsOneIsLoaded: of the candidates of a picture, and of the formats of a font, a browser loads one.
func TestOfSeveralFormatsOneIsLoaded(t *testing.T) {
	heavy := strings.Repeat("x", 50<<10)
	at := serveSmall(t, small{"/": `<title>Home</title><link rel=stylesheet href="/a.css"><img alt="" src="/a.png" srcset="/b.png 2x, /c.png 3x">`,
		"/a.css": `@font-face{src:url(/f.woff2),url(/f.woff),url(/f.ttf)}`, "/f.woff2": heavy, "/f.woff": heavy, "/f.ttf": heavy, "/a.png": heavy, "/b.png": heavy, "/c.png": heavy})
	s := look(t, options(at))
	assert.Len(t, s.Assets, 7, "all of them are looked at")
	assert.InDelta(t, 100, pageAt(t, s, "/").Weight, 5)
}
