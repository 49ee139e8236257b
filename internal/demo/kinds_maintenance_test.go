package demo

import (
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

// A closing is a way in which a site is closed or locked, with the rules that ought to tell what is wrong with it, and what they say of which
// address, in words. The switch that works has none.
type closing struct {
	name  string
	do    func(*installation)
	rules []string
	says  string
}

// announced is a site that is closed until the day after tomorrow, by its own switch.
func announced(b *installation) { closedWith(nil).do(b) }

// through puts something before the stand-in.
func through(before func(http.Handler) http.Handler) func(*installation) {
	return func(b *installation) { b.before = before }
}

// with has a handler answer for the requests that are wanted.
func with(wanted func(*http.Request) bool, answer func(w http.ResponseWriter, r *http.Request)) func(*installation) {
	return through(func(standIn http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if wanted(r) {
				answer(w, r)
				return
			}
			standIn.ServeHTTP(w, r)
		})
	})
}

const ownNotice = `<!doctype html><html lang="en-GB"><head><meta charset="utf-8"><title>Closed</title></head><body><p>Lantern Lane is changing the scenery and will be back at six.</p></body></html>`

// gives is a notice with a status and fields, taken by turns.
func gives(status int, fields ...string) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		for i := 0; i+1 < len(fields); i += 2 {
			w.Header().Set(fields[i], fields[i+1])
		}
		w.WriteHeader(status)
		_, _ = w.Write([]byte(ownNotice))
	}
}

// lockedByServer has the web server ask for name and password at the whole host, but for what is to stay open, with more lines.
func lockedByServer(lines string) func(*installation) {
	const before = "        location ~* \\.(sql|bak|log)$ {"
	return amended(before, "        auth_basic \"Stage door\";\n        auth_basic_user_file /etc/nginx/none;\n        location = /robots.txt { auth_basic off; try_files $uri =404; }\n        location ~ ^/\\.well-known/acme-challenge/[A-Za-z0-9_-]+$ { auth_basic off; try_files $uri =404; }\n        "+lines+"\n"+before)
}

// asks is a lock that asks for name and password.
func asks(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("WWW-Authenticate", `Basic realm="Locked"`)
	http.Error(w, "Locked.", http.StatusUnauthorized)
}

func isPage(r *http.Request) bool {
	return (strings.HasSuffix(r.URL.Path, "/") || isFeed(r)) && r.URL.Path != "/stage-door/"
}
func isHome(r *http.Request) bool      { return r.URL.Path == "/" }
func isRobots(r *http.Request) bool    { return r.URL.Path == "/robots.txt" }
func isFeed(r *http.Request) bool      { return r.URL.Path == "/feed.xml" }
func isSignIn(r *http.Request) bool    { return strings.HasPrefix(r.URL.Path, "/stage-door") }
func isPlain(r *http.Request) bool     { return r.TLS == nil }
func isEncrypted(r *http.Request) bool { return r.TLS != nil }
func isAsset(r *http.Request) bool {
	return strings.HasPrefix(r.URL.Path, "/costumes/") || strings.HasPrefix(r.URL.Path, "/posters/")
}
func not(wanted func(*http.Request) bool) func(*http.Request) bool {
	return func(r *http.Request) bool { return !wanted(r) }
}

const (
	retryAfter = "Retry-After"
	noStore    = "no-store"
)

// closings are switches of notices. Those with the site's own switch are on from the settings' side as well.
var closings = []closing{
	{"one that works", announced, nil, ""},
	{"one of the web server's that works", after(until, with(isPage, gives(503, retryAfter, "3600", "Cache-Control", noStore))), nil, ""},
	{"only the home page", after(until, with(isHome, gives(503, retryAfter, "3600", "Cache-Control", noStore))), []string{"maintenance.status"}, "the inner page /about/ is there as ever"},
	{"with 200", after(until, with(isPage, gives(200, "Cache-Control", noStore))), []string{"maintenance.status"}, "the notice answers 200, as a page does"},
	{"with 404", after(announced, through(onPages(answering(http.StatusNotFound)))), []string{"maintenance.status", "maintenance.staff", "visibility.answers"}, "answers 404"},
	{"with 302 to a page", after(until, with(func(r *http.Request) bool { return isPage(r) && r.URL.Path != "/dark/" }, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/dark/", http.StatusFound)
	}), onDark), []string{"maintenance.status"}, "Instead of the inner page /about/ one is sent on to the notice with 302"},
	{"that a cache keeps", after(until, with(isPage, gives(503, retryAfter, "3600", "Cache-Control", "max-age=86400"))), []string{"maintenance.notice-brief"}, "may be kept by caches for longer"},
	{"out of a cache", after(until, with(isPage, gives(503, retryAfter, "3600", "Age", "40", "Cache-Status", "Brindle; hit"))), []string{"maintenance.notice-brief"}, "comes out of a cache"},
	{"staff shut out too", after(announced, with(isSignIn, gives(503, retryAfter, "3600", "Cache-Control", noStore))), []string{"maintenance.staff"}, "The notice stands before the sign-in page too"},
	{"staff turned away", after(announced, with(isSignIn, func(w http.ResponseWriter, r *http.Request) { http.Error(w, "no", http.StatusForbidden) })), []string{"maintenance.staff"}, "sign-in page"},
	{"robots.txt closed too", after(announced, with(isRobots, gives(503, retryAfter, "3600", "Cache-Control", noStore))), []string{"maintenance.robots"}, "Robots.txt is closed with the site: it answers 503"},
	{"robots.txt is the notice", after(announced, with(isRobots, gives(200, "Cache-Control", noStore))), []string{"maintenance.robots"}, "Robots.txt is closed with the site: it answers 200"},
	{"without Retry-After", after(announced, through(onPages(func(a *answer) { a.header.Del(retryAfter) }))), []string{"maintenance.status"}, "the notice does not say when to come again"},
	{"feed open", after(announced, with(isFeed, func(w http.ResponseWriter, r *http.Request) {
		_, _ = w.Write([]byte("<rss version='2.0'><channel/></rss>"))
	})), []string{"maintenance.status"}, "the feed /feed.xml is there as ever"},
	{"only without encryption", after(until, with(isPlain, gives(503, retryAfter, "3600", "Cache-Control", noStore))), []string{"maintenance.lifted-throughout", "visibility.one-host", "hardening.https"}, "http://www.lanternlane.example there is still a notice"},
	{"forgotten", func(b *installation) { b.set("closed", "yes") }, []string{"visibility.answers"}, "503"},
	{"forgotten, with 200", with(isPage, gives(200, "Cache-Control", noStore)), []string{"maintenance.lifted", "maintenance.status"}, "nobody has said until when"},
	{"forgotten at a page", with(func(r *http.Request) bool { return r.URL.Path == "/tickets/" }, gives(503, retryAfter, "60", "Cache-Control", noStore)), []string{"maintenance.lifted-throughout", "visibility.sitemap-urls"}, "there is still a notice (503)"},
	{"kept at a page after it was lifted", through(onPlain("/tickets/", func() {}, answering(503), header("Cache-Status", "Brindle; hit"), instead(ownNotice))), []string{"maintenance.not-cached", "visibility.sitemap-urls"}, "At the inner page /tickets/ a cache goes on giving the notice"},
	{"declared, and not served", func(b *installation) { b.set("closed", "yes", "stale_closed", "no") }, []string{"maintenance.served"}, "visitors get the site"},
	{"a notice without the site's name", after(until, with(isPage, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(retryAfter, "3600")
		w.Header().Set("Cache-Control", noStore)
		w.WriteHeader(503)
		_, _ = w.Write([]byte("<title>Closed</title><p>Back at six."))
	})), []string{"maintenance.message-served"}, "does not name the site"},
	{"a server's own words", after(until, with(isPage, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(retryAfter, "3600")
		w.Header().Set("Cache-Control", noStore)
		w.Header().Set("Content-Type", "text/html")
		w.WriteHeader(503)
		_, _ = w.Write([]byte("<html><head><title>503 Service Temporarily Unavailable</title></head><body><center><h1>503 Service Temporarily Unavailable</h1></center></body></html>"))
	})), []string{"maintenance.message-served"}, "does not name the site"},
}

// until says in the site file that the site is closed until the day after tomorrow, and has the settings say nothing of it.
func until(b *installation) {
	announced(b)
	b.set("closed", "no")
}

// onDark is the notice at an address of its own.
func onDark(b *installation) {
	inner := b.before
	b.before = func(standIn http.Handler) http.Handler {
		rest := inner(standIn)
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/dark/" {
				gives(503, retryAfter, "3600", "Cache-Control", noStore)(w, r)
				return
			}
			rest.ServeHTTP(w, r)
		})
	}
}

// locked is a site that is being built, and locked by its own lock.
func locked(b *installation) { lockedWith(nil).do(b) }

// unlocked is one that is being built, without a lock of its own.
func unlocked(b *installation) { building("", "hidden", "yes").do(b) }

func spared(r *http.Request) bool {
	return isRobots(r) || strings.HasPrefix(r.URL.Path, "/.well-known/acme-challenge/")
}

// locks are locks.
var locks = []closing{
	{"one that works", locked, nil, ""},
	{"one of the web server's that works", after(unlocked, with(func(r *http.Request) bool { return isEncrypted(r) && !spared(r) }, asks)), nil, ""},
	{"one that lets in by address", after(unlocked, with(func(r *http.Request) bool { return isEncrypted(r) && !spared(r) }, func(w http.ResponseWriter, r *http.Request) {
		http.Error(w, "not you", http.StatusForbidden)
	})), nil, ""},
	{"only the home page", after(unlocked, with(isHome, asks)), []string{"maintenance.lock-whole", "maintenance.lock-encrypted"}, "the inner page /about/ can be had"},
	{"assets open", after(unlocked, with(func(r *http.Request) bool { return isEncrypted(r) && !spared(r) && !isAsset(r) }, asks)), []string{"maintenance.lock-whole"}, "can be had without name and password"},
	{"feed open", after(unlocked, with(func(r *http.Request) bool { return isEncrypted(r) && !spared(r) && !isFeed(r) }, asks)), []string{"maintenance.lock-whole"}, "the feed /feed.xml can be had"},
	{"all but what is not found", after(unlocked, with(func(r *http.Request) bool {
		return isEncrypted(r) && !spared(r) && !strings.HasPrefix(r.URL.Path, "/weltaxis-")
	}, asks)), []string{"maintenance.lock-whole"}, "answers 404 instead of asking for them"},
	{"only without encryption", after(unlocked, with(isPlain, asks)), []string{"maintenance.lock-whole", "maintenance.lock-encrypted", "maintenance.lock-spares", "maintenance.lock"}, "the home page can be had"},
	{"asked without encryption", after(unlocked, with(not(spared), asks)), []string{"maintenance.lock-encrypted"}, "without encryption"},
	{"open without encryption", after(unlocked, func(b *installation) { b.set("one_address", "no") }, with(func(r *http.Request) bool { return isEncrypted(r) && !spared(r) }, asks)), []string{"maintenance.lock-whole"}, "http://www.lanternlane.example can be had"},
	{"certificates cannot be renewed", after(unlocked, with(func(r *http.Request) bool { return isEncrypted(r) && !isRobots(r) }, asks)), []string{"maintenance.lock-spares"}, "what a certificate is renewed by"},
	{"robots.txt locked too", after(unlocked, with(func(r *http.Request) bool { return isEncrypted(r) && (isRobots(r) || !spared(r)) }, asks)), []string{"maintenance.lock-spares"}, "robots.txt"},
	{"declared, and open", after(unlocked, func(b *installation) { b.set("locked", "yes", "stale_locked", "no") }), []string{"maintenance.lock-served"}, "nobody is asked for name and password"},
	{"none", unlocked, []string{"maintenance.lock"}, "whoever finds the address can look at it"},
}

// TestHalfASwitchIsTold: each by its rule and no other, and one that works by none.
func TestHalfASwitchIsTold(t *testing.T) {
	for kind, list := range map[string][]closing{"notice": closings, "lock": locks} {
		for _, c := range list {
			t.Run(kind+": "+c.name, func(t *testing.T) {
				t.Parallel()
				b := lanternLaneAligned()
				b.earlier = earlierLook(t)
				c.do(b)
				r := auditOf(t, b)
				var rules, says []string
				for _, d := range r.Deviations {
					if d.Severity < facts.Note && !slices.Contains(rules, d.Rule) {
						rules = append(rules, d.Rule)
					}
					says = append(says, d.Rule+": "+d.Says)
				}
				assert.ElementsMatch(t, c.rules, rules, "%s", strings.Join(says, "\n"))
				assert.Contains(t, strings.Join(says, "\n"), c.says)
			})
		}
	}
}

// earlierLook is a look at the site in order, by which its addresses are known: one for all.
func earlierLook(t *testing.T) *facts.Snapshot {
	t.Helper()
	looked.Do(func() {
		r := auditOf(t, lanternLaneAligned(), facts.Live)
		earlier = &facts.Snapshot{Seen: facts.Seen{Pages: r.Snapshot.Pages, Assets: r.Snapshot.Assets}}
	})
	require.NotEmpty(t, earlier.Pages)
	return earlier
}

var (
	looked  sync.Once
	earlier *facts.Snapshot
)

// Who carries a session, or the password, is somebody else than a stranger; and both are told.
func TestStaffGetInAndStrangersDoNot(t *testing.T) {
	for name, c := range map[string]struct {
		do    func(*installation)
		staff string
		rules []string
	}{
		"signed in":           {announced, facts.ShowsSite, nil},
		"signed in, shut out": {after(until, with(isPage, gives(503, retryAfter, "3600", "Cache-Control", noStore))), facts.ShowsNotice, []string{"maintenance.staff"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Setenv("WELTAXIS_TEST_SESSION", "brindle=staff")
			b := lanternLaneAligned()
			c.do(b)
			r := auditAs(t, b, "session: \"${WELTAXIS_TEST_SESSION}\"")
			home := r.Snapshot.Doors[0]
			assert.Equal(t, facts.ShowsNotice, home.Shows)
			assert.Equal(t, c.staff, home.Staff)
			assert.Equal(t, c.rules, deviating(r))
			kinds := []string{}
			for _, d := range r.Snapshot.Doors {
				kinds = append(kinds, d.Kind)
			}
			if c.staff == facts.ShowsSite {
				assert.Subset(t, kinds, facts.DoorKinds[:11], "what somebody who may come in finds is asked for as a stranger")
			}
		})
	}
}

// auditAs is auditOf with another line of the live source.
func auditAs(t *testing.T, b *installation, line string) *audit.Result {
	t.Helper()
	b.visitor = line
	return auditOf(t, b)
}

// maintenanceKinds are faults of notices, locks, sites on their way out, the site's own search and its names, spelt otherwise.
var maintenanceKinds = []change{
	{"maintenance.message", "no words", told("closed_text", "")},
	{"maintenance.message", "a year alone", told("closed_text", "Lantern Lane, 2026.")},
	{"maintenance.message", "of somebody else", told("closed_text", "Copperbeck Canal Trust is back at six.")},
	{"maintenance.contact", "at another domain", told("closed_mail", "post@quickpost.example")},
	{"maintenance.contact", "a first and a last name", told("closed_mail", "ada.lovett@lanternlane.example")},
	{"maintenance.contact", "a name with a mark", told("closed_mail", "juniper+closed@lanternlane.example")},
	{"maintenance.contact-named", "a second one in the words", told("closed_text", "Lantern Lane is back at six. Ask post@lanternlane.example or Juniper.Fold@lanternlane.example.")},
	{"maintenance.lifted", "by its words alone", through(onAddress("/", instead(`<!doctype html><html lang=en-GB><title>Lantern Lane</title><p>Lantern Lane will be back within the hour. Questions: post@lanternlane.example`), header("Retry-After", "60")))},
	{"maintenance.lifted", "in another language", through(onAddress("/", instead(`<!doctype html><html lang=en-GB><title>Lantern Lane</title><h1>Wartungsarbeiten</h1><p>Lantern Lane ist ab 18:30 Uhr zurück. post@lanternlane.example`), header("Retry-After", "60")))},
	{"maintenance.shut-told", "a place that answers by itself", lockedByServer("location = /r { return 200 \"the curtain\"; }")},
	{"maintenance.shut-told", "pictures without a question", lockedByServer("location ^~ /costumes/ { satisfy any; allow all; }")},
	{"maintenance.shut-told", "in one section alone", amended("        location / {\n", "        location / {\n            auth_basic \"Stage door\";\n            auth_basic_user_file /etc/nginx/none;\n")},
	{"maintenance.lifted-configured", "at a page", amended("location ~ /\\.(?!well-known/) {", "location /about/ {\n            return 503;\n        }\n\n        location ~ /\\.(?!well-known/) {")},
	{"maintenance.retired", "for the time being elsewhere", after(stage("retiring"), with(everything, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "https://foundry.example/", http.StatusFound)
	}))},
	{"maintenance.retired", "a notice without an end", after(stage("retiring"), archive, told("closed", "yes"))},
	{"maintenance.retired-closed", "a letter can be written", after(stage("retiring"), archive, onAbout(`<form method="post"><textarea name="words"></textarea><input name="website" tabindex="-1" autocomplete="off"></form>`))},
	{"maintenance.retired-closed", "one can order", after(stage("retiring"), archive, told("orders", "yes"))},
	{"search.shortest", "five letters", told("search_shortest", "5")},
	{"search.longest", "twelve letters", told("search_longest", "12")},
	{"search.rebuild", "no hour", told("search_rebuild", "")},
	{"search.rebuild", "in words", told("search_rebuild", "noon")},
	{"search.rebuild", "in the evening", told("search_rebuild", "18:30")},
	{"search.rebuild", "in the afternoon, without a colon", told("search_rebuild", "1430")},
	{"search.rebuild", "in the afternoon, by halves of the day", told("search_rebuild", "03:40 PM")},
	{"search.rebuild", "at two, as cron has it", told("search_rebuild", "5 14 * * *")},
	{"search.ignored", "of another language", told("search_ignored", "der die das und")},
	{"search.ignored", "what the site is to be found under", told("search_ignored", "the and of in to puppet shows")},
	{"search.synonyms", "the name as it is", told("search_synonyms", "lantern lane = Lantern Lane")},
	{"aliases.known", "a name that ends like it", told("alias", "old-lanternlane.example")},
	{"aliases.known", "a name below it", told("alias", "shop.lanternlane.example")},
	{"aliases.limits", "two sites, of which one limit is set", told("sites_count", "2", "limit_mb", "2048")},
}

// maintenanceHarmless is what is harmless, and looks like a fault of these.
var maintenanceHarmless = []change{
	{"", "announced, and not closed yet", until},
	{"", "challenges that hand on to a program that is locked", lockedByServer("location ^~ /.well-known/acme-challenge/x/ { auth_basic off; try_files $uri /index.php; }")},
	{"", "a lock of the web server's with what stays open", lockedByServer("")},
	{"", "opening hours", addWords("about", "We are closed on Mondays, and back on Tuesday.")},
	{"", "an article on maintenance", addWords("about", "Planned maintenance of the puppets: every joint once a year. The theatre was temporarily closed for it in 1987.")},
	{"", "a telephone in the place of an hour", told("closed_text", "Lantern Lane is closed. Call 020 7946 0018.")},
	{"", "an hour in words", told("closed_text", "Lantern Lane is closed until half past six.")},
	{"", "an hour in another language", told("closed_text", "Lantern Lane öffnet um 18:30 Uhr.")},
	{"", "nobody is named to ask", told("closed_mail", "")},
	{"", "an office of two words", told("closed_mail", "box.office@lanternlane.example")},
	{"", "an office that is called like the theatre", told("closed_mail", "lantern-lane@lanternlane.example")},
	{"", "gone", after(stage("retiring"), with(everything, func(w http.ResponseWriter, r *http.Request) { http.Error(w, "gone", http.StatusGone) }))},
	{"", "moved for good", after(stage("retiring"), with(everything, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "https://foundry.example/", http.StatusMovedPermanently)
	}))},
	{"", "an archive", after(stage("retiring"), archive)},
	{"", "a site that is built behind a notice", after(unlocked, told("closed", "yes"))},
	{"", "any length of words", told("search_longest", "0")},
	{"", "four letters", told("search_shortest", "4")},
	{"", "spelt with a hyphen among the synonyms", told("search_synonyms", "puppet, marionette\nLantern-Lane, lantern lane")},
	{"", "half past ten in the evening", told("search_rebuild", "22:30")},
	{"", "half past ten in the evening, by halves of the day", told("search_rebuild", "10:30 pm")},
	{"", "twenty to four, as cron has it", told("search_rebuild", "40 3 * * *")},
	{"", "the address, with the port and the dot of the root", told("alias", "LanternLane.example.:443")},
	{"", "no page for what is found", after(told("page_search", "", "search_partial", "no"))},
	{"", "a further name that is known", after(told("alias", "Lanterns.example"), lanterns)},
	{"", "two addresses of the same", leading(0, func(at string) string { return at + "," + at })},
	{"", "the name with www", told("alias", "www.lanternlane.example")},
	{"", "limits of each", told("sites_count", "3", "limit_mb", "2048", "limit_pages", "500", "limit_users", "20")},
	{"", "a file that proves", after(inPublic("proof-7Q2M.txt", "proof"), func(b *installation) {
		b.siteFile = strings.Replace(b.siteFile, "aliases: []", "aliases: []\n  token_files: [proof-7Q2M.txt]", 1)
	})},
}

func everything(*http.Request) bool { return true }

// archive is a site that takes nothing any more.
func archive(b *installation) {
	b.set("register", "shut", "messages", "no", "comments", "closed", "orders", "no")
}

// addWords adds words to a page.
func addWords(slug, words string) func(*installation) {
	return onPage(slug, func(p *page) { p.Body += " " + words }).do
}

// TestMaintenanceSpeltOtherwise: each fault is noticed by its rule alone, notes apart, and what is harmless by none.
func TestMaintenanceSpeltOtherwise(t *testing.T) {
	for _, c := range slices.Concat(maintenanceKinds, maintenanceHarmless) {
		t.Run(strings.TrimPrefix(c.rule+": "+c.name, ": "), func(t *testing.T) {
			t.Parallel()
			b := lanternLaneAligned()
			b.earlier = earlierLook(t)
			c.do(b)
			r := auditOf(t, b)
			var rules, says []string
			for _, d := range r.Deviations {
				if !slices.Contains(rules, d.Rule) && !(d.Rule == "maintenance.status" && c.rule == "maintenance.lifted") && !(c.name == "no page for what is found" && d.Rule == "identity.search-page") {
					rules = append(rules, d.Rule)
				}
				says = append(says, d.Rule+": "+d.Says)
			}
			var want []string
			if c.rule != "" {
				want = []string{c.rule}
			}
			assert.Equal(t, want, rules, "%s", strings.Join(says, "\n"))
		})
	}
}
