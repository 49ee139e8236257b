package demo

import (
	"bytes"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

// zip compresses a page as often as is said, and says so.
func zip(says string, times int) disturbance {
	return func(a *answer) {
		for range times {
			a.body = zipped(a.body)
		}
		a.header.Set("Content-Encoding", says)
	}
}

// drop takes headers away.
func drop(names ...string) disturbance {
	return func(a *answer) {
		for _, name := range names {
			a.header.Del(name)
		}
	}
}

// onFiles changes what the paths with a prefix answer.
func onFiles(prefix string, change ...disturbance) func(*installation) {
	return func(b *installation) {
		b.before = before(func(path string) bool { return strings.HasPrefix(path, prefix) }, change...)
	}
}

// aPage adds a page that the page about the theatre links to, and changes what it answers.
func aPage(slug, text string, change ...disturbance) func(*installation) {
	return func(b *installation) {
		b.pages = append(b.pages, page{slug, "One more page of the theatre: " + slug, "page", "public", "2026-06-01 10:00", "What there is to say of " + slug + ", and it is a sentence that is long enough for one.", text})
		onPage("about", func(p *page) { p.Body += ` <a href="/` + slug + `/">more</a>` }).do(b)
		if len(change) > 0 {
			b.before = onAddress("/"+slug+"/", change...)
		}
	}
}

// lookingAnew has a page say another number each time it is made, and be called a hit where it is asked for plainly.
func lookingAnew(path string) func(*installation) {
	return func(b *installation) {
		looks := new(atomic.Int64)
		b.before = func(standIn http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				number := looks.Add(1)
				changed := onAddress(path, func(a *answer) {
					a.body = bytes.Replace(a.body, []byte("</main>"), fmt.Appendf(nil, "<p>Look number %d of the puppets</p></main>", number), 1)
				})
				changed(standIn).ServeHTTP(w, r)
			})
		}
	}
}

const aSession = "house_session=invented; Path=/; Secure; HttpOnly; SameSite=Lax"

// cachingKinds are faults of caching and delivery, spelt otherwise than those of the table of rules.
var cachingKinds = []change{
	{"caching.private", "a token", servedOn("/join/", header("Set-Cookie", "auth_token=invented; Path=/; Secure; HttpOnly; SameSite=Lax"))},
	{"caching.private", "said to be public", servedOn("/join/", header("Set-Cookie", aSession), header("Cache-Control", "public, max-age=60"))},
	{"caching.private", "a basket in another language", aPage("warenkorb", "Es liegt noch nichts darin.")},
	{"caching.private", "somebody's page", aPage("welcome-back", `Seats of yours: <a href="/news/">Sign out</a>`)},
	{"caching.private", "a button to sign out with", aPage("back-again", `Seats of yours. <button> Log  out </button>`)},
	{"caching.private", "an account with a form", aPage("account", `<form method="post"><input name="address"></form>`)},
	{"caching.works", "in a server's spelling", servedOn("/", drop("Cache-Status"), header("X-Stage-Cache", "MISS"))},
	{"caching.works", "out of date each time", servedOn("/", drop("Cache-Status"), header("X-Cache", "EXPIRED from lamp"))},
	{"caching.fresh", "told by its age", func(b *installation) {
		b.before = onPlain("/about/", func() {}, drop("Cache-Status"), header("Age", "312"), inPlaceOf("Nine volunteers", "Eight volunteers"))
	}},
	{"caching.fresh", "with its title", func(b *installation) {
		b.before = onPlain("/about/", func() {}, header("Cache-Status", "lamp; hit"), inPlaceOf("one leaking roof", "no roof"))
	}},
	{"caching.fresh", "called stale", func(b *installation) {
		b.before = onPlain("/about/", func() {}, drop("Cache-Status"), header("X-Cache", "STALE"), inPlaceOf("one leaking roof", "no roof"))
	}},
	{"caching.assets", "an hour, though its name changes", onFiles("/ironed/", header("Cache-Control", "max-age=3600"))},
	{"caching.assets", "nothing to ask by", onFiles("/posters/logo.png", drop("Last-Modified", "Etag"))},
	{"caching.validators", "a tag that is another each time", func(b *installation) {
		looks := new(atomic.Int64)
		b.before = func(standIn http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				r.Header.Del("If-Modified-Since")
				before(func(path string) bool { return path == "/posters/logo.png" }, drop("Last-Modified"), header("Etag", fmt.Sprintf("%q", fmt.Sprint("look-", looks.Add(1)))))(standIn).ServeHTTP(w, r)
			})
		}
	}},
	{"caching.vary", "compressed without a word", servedOn("/about/", zip("gzip", 1))},
	{"caching.vary", "on everything, among others", servedOn("/about/", header("Vary", "Accept-Encoding, *"))},
	{"caching.vary-assets", "compressed without a word", onFiles("/ironed/", zip("gzip", 1), drop("Vary"))},
	{"caching.one", "three", func(b *installation) {
		withExtension("nightlight", "page-cache")(b)
		withExtension("gaslight", "page-cache")(b)
	}},
	{"caching.no-leavings", "a folder", inPublic("gaslit/front.html", "<title>A house</title>")},
	{"caching.no-leavings", "lines of the server alone", amended("    charset utf-8;", "    charset utf-8;\n    # Gaslight: begin")},
	{"caching.no-leavings", "one that is switched off", func(b *installation) {
		b.extensions = append(b.extensions, extension{Name: "nightlight", Kind: "page-cache", Version: "1.0.0", Newest: "1.0.0"})
		b.files["works/overture/nightlight.php"] = file{"<?php\n", 0o644}
	}},
	{"caching.errors-served", "until a day that is far", func(b *installation) {
		b.before = onMissing(header("Expires", "Thu, 01 Jan 2099 00:00:00 GMT"))
	}},
	{"caching.errors-served", "for shared caches", func(b *installation) { b.before = onMissing(header("Cache-Control", "s-maxage=3600, max-age=0")) }},
	{"caching.key", "the host alone", keptByServer("^~ /about/", "fastcgi_cache_key $scheme$host;")},
	{"caching.key", "the address after it was rewritten", amended("            fastcgi_pass system;", "            fastcgi_cache kept;\n            fastcgi_cache_valid 200 10m;\n            fastcgi_cache_key $scheme$host$uri;\n            fastcgi_pass system;")},
	{"caching.private-configured", "cookies alone", keptByServer("^~ /stage-door", "fastcgi_cache_key $request_uri; fastcgi_ignore_headers Set-Cookie;")},
	{"caching.errors-brief", "with everything", keptByServer("~ ^/[^/]+/missing$", "fastcgi_cache_key $request_uri; fastcgi_cache_valid any 1d;")},
	{"caching.byte-code", "no module for it", amended("zend_extension = opcache\n", "")},
	{"delivery.compression", "twice", servedOn("/about/", zip("gzip, gzip", 2), header("Vary", "Accept-Encoding"))},
	{"delivery.compression", "one page alone", func(b *installation) { b.before = asItIs("/about/") }},
	{"delivery.minified", "a script with remarks", inPublic("props/seating/seats.js", strings.Repeat("// Row by row, the cushions are at the front.\nrow();\n", 30))},
	{"delivery.image-format", "of the old kind", heavy("wagon.gif", "GIF89a\x40\x00\x40\x00\x00\x00\x00"+strings.Repeat("\x00", 90<<10), 1)},
	{"delivery.image-weight", "in a set of sources", func(b *installation) {
		b.files["foyer/posters/wide.webp"] = file{webP(500 << 10), 0o644}
		onPage("about", func(p *page) {
			p.Body += `<img alt="Wide." src="/posters/icon.png" srcset="/posters/wide.webp 2x" width="6" height="6">`
		}).do(b)
	}},
	{"delivery.image-weight", "in a style", func(b *installation) {
		b.files["foyer/posters/wide.webp"] = file{webP(500 << 10), 0o644}
		b.set("head_code", `<style>main{background:url(/posters/wide.webp)}</style>`)
	}},
	{"delivery.image-size", "in a style, and by half", onPageBody(`<img alt="" src="/posters/card.png" style="max-width: 10em; height: 5em">`)},
	{"delivery.asset-owner", "a style", func(b *installation) {
		b.files["foyer/props/seating/seats.css"] = file{"b{top:0}", 0o644}
		b.set("head_code", `<link rel="stylesheet" href="/props/seating/seats.css">`)
	}},
	{"delivery.network", "a host without a scheme", told("delivery_host", "wagons.example")},
}

func onPageBody(markup string) func(*installation) {
	return onPage("about", func(p *page) { p.Body += markup }).do
}

// cachingHarmless is what looks like a fault of caching or delivery, and is none.
var cachingHarmless = []change{
	{"", "a members' area that is rightly not kept", servedOn("/join/", header("Set-Cookie", aSession), header("Cache-Control", "private, no-cache, max-age=0"))},
	{"", "a nonce that must not be kept", servedOn("/about/", header("Cache-Control", "no-store"), drop("Cache-Status"))},
	{"", "a page that is another each time", lookingAnew("/about/")},
	{"", "a basket as they weave it", aPage("basket-weaving", "Willow, soaked overnight.")},
	{"", "a profile of a town", aPage("profile", "The town has a bakery and a theatre.")},
	{"", "how one signs out", aPage("help", "To end your visit, sign out at the top of the page.")},
	{"", "a cookie of no session", servedOn("/about/", header("Set-Cookie", "consent=1; Path=/; Max-Age=31536000; Secure"))},
	{"", "a cookie that is taken away", servedOn("/about/", header("Set-Cookie", "house_session=; Path=/; Max-Age=0"))},
	{"", "it varies on two things", servedOn("/about/", header("Vary", "Cookie"))},
	{"", "a file that is asked for each time", onFiles("/posters/logo.png", header("Cache-Control", "no-cache"))},
	{"", "a day that is stated otherwise", onFiles("/posters/logo.png", drop("Cache-Control"), header("Expires", "Thu, 01 Jan 2099 00:00:00 GMT"))},
	{"", "a minute for what is not there", func(b *installation) { b.before = onMissing(header("Cache-Control", "max-age=60")) }},
	{"", "one page cache, and one that is switched off", func(b *installation) {
		b.extensions = append(b.extensions, extension{Name: "nightlight", Kind: "page-cache", Version: "1.0.0", Newest: "1.0.0"})
	}},
	{"", "the delivery host is the site's own", told("delivery_host", "https://www.lanternlane.example")},
	{"", "a proportion in the place of a size", onPageBody(`<img alt="" src="/posters/card.png" style="width:10em;aspect-ratio:2/1">`)},
	{"", "a size in a style", onPageBody(`<img alt="" src="/posters/card.png" style="width:10em;height:5em">`)},
	{"", "a large picture in a modern format", heavy("wagon.webp", webP(200<<10), 1)},
	{"", "an extension where it is used", onPageBody(`<i data-prop="seating"></i><script src="/props/seating/seats.js"></script>`)},
	{"", "an hour in the server's cache for pages, and a minute for what is not there", keptByServer("^~ /news/", "fastcgi_cache_key $request_uri; fastcgi_cache_valid 404 1m; fastcgi_cache_bypass $cookie_stagedoor; fastcgi_ignore_headers Cache-Control;")},
	{"", "a script that is small and friendly", inPublic("props/seating/seats.js", "// Row by row.\n\nrow();\n")},
}

// TestCachingSpeltOtherwise: each fault is noticed by its rule alone, and what is harmless by none.
func TestCachingSpeltOtherwise(t *testing.T) {
	for _, c := range slices.Concat(cachingKinds, cachingHarmless) {
		t.Run(strings.TrimPrefix(c.rule+": "+c.name, ": "), func(t *testing.T) {
			t.Parallel()
			b := lanternLaneAligned()
			c.do(b)
			var says, rules []string
			r := auditOf(t, b)
			for _, d := range r.Deviations {
				if d.Rule != "upkeep.extensions-used" { // one that is switched off is one all the same
					says, rules = append(says, d.Rule+": "+d.Says), append(rules, d.Rule)
				}
			}
			if c.rule == "" {
				assert.Empty(t, says)
			} else {
				assert.Equal(t, []string{c.rule}, slices.Compact(rules), "%v", says)
			}
		})
	}
}
