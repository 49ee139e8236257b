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

// both does one thing after the other.
func both(steps ...func(*installation)) func(*installation) {
	return func(b *installation) {
		for _, step := range steps {
			step(b)
		}
	}
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
	{"one of the web server's that works", both(until, with(isPage, gives(503, retryAfter, "3600", "Cache-Control", noStore))), nil, ""},
	{"only the home page", both(until, with(isHome, gives(503, retryAfter, "3600", "Cache-Control", noStore))), []string{"maintenance.status"}, "the inner page /about/ is there as ever"},
	{"with 200", both(until, with(isPage, gives(200, "Cache-Control", noStore))), []string{"maintenance.status"}, "the notice answers 200, as a page does"},
	{"with 404", both(announced, through(onPages(answering(http.StatusNotFound)))), []string{"maintenance.status", "maintenance.staff", "visibility.answers"}, "answers 404"},
	{"with 302 to a page", both(until, with(func(r *http.Request) bool { return isPage(r) && r.URL.Path != "/dark/" }, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/dark/", http.StatusFound)
	}), onDark), []string{"maintenance.status"}, "Instead of the inner page /about/ one is sent on to the notice with 302"},
	{"that a cache keeps", both(until, with(isPage, gives(503, retryAfter, "3600", "Cache-Control", "max-age=86400"))), []string{"maintenance.notice-brief"}, "may be kept by caches for longer"},
	{"out of a cache", both(until, with(isPage, gives(503, retryAfter, "3600", "Age", "40", "Cache-Status", "Brindle; hit"))), []string{"maintenance.notice-brief"}, "comes out of a cache"},
	{"staff shut out too", both(announced, with(isSignIn, gives(503, retryAfter, "3600", "Cache-Control", noStore))), []string{"maintenance.staff"}, "The notice stands before the sign-in page too"},
	{"staff turned away", both(announced, with(isSignIn, func(w http.ResponseWriter, r *http.Request) { http.Error(w, "no", http.StatusForbidden) })), []string{"maintenance.staff"}, "sign-in page"},
	{"robots.txt closed too", both(announced, with(isRobots, gives(503, retryAfter, "3600", "Cache-Control", noStore))), []string{"maintenance.robots"}, "Robots.txt is closed with the site: it answers 503"},
	{"robots.txt is the notice", both(announced, with(isRobots, gives(200, "Cache-Control", noStore))), []string{"maintenance.robots"}, "Robots.txt is closed with the site: it answers 200"},
	{"without Retry-After", both(announced, through(onPages(func(a *answer) { a.header.Del(retryAfter) }))), []string{"maintenance.status"}, "the notice does not say when to come again"},
	{"feed open", both(announced, with(isFeed, func(w http.ResponseWriter, r *http.Request) {
		_, _ = w.Write([]byte("<rss version='2.0'><channel/></rss>"))
	})), []string{"maintenance.status"}, "the feed /feed.xml is there as ever"},
	{"only without encryption", both(until, with(isPlain, gives(503, retryAfter, "3600", "Cache-Control", noStore))), []string{"maintenance.lifted-throughout", "visibility.one-host", "hardening.https"}, "http://www.lanternlane.example there is still a notice"},
	{"forgotten", func(b *installation) { b.set("closed", "yes") }, []string{"visibility.answers"}, "503"},
	{"forgotten, with 200", with(isPage, gives(200, "Cache-Control", noStore)), []string{"maintenance.lifted", "maintenance.status"}, "nobody has said until when"},
	{"forgotten at a page", with(func(r *http.Request) bool { return r.URL.Path == "/tickets/" }, gives(503, retryAfter, "60", "Cache-Control", noStore)), []string{"maintenance.lifted-throughout", "visibility.sitemap-urls"}, "there is still a notice (503)"},
	{"kept at a page after it was lifted", through(onPlain("/tickets/", func() {}, answering(503), header("Cache-Status", "Brindle; hit"), instead(ownNotice))), []string{"maintenance.not-cached", "visibility.sitemap-urls"}, "At the inner page /tickets/ a cache goes on giving the notice"},
	{"declared, and not served", func(b *installation) { b.set("closed", "yes", "stale_closed", "no") }, []string{"maintenance.served"}, "visitors get the site"},
	{"a notice without the site's name", both(until, with(isPage, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(retryAfter, "3600")
		w.Header().Set("Cache-Control", noStore)
		w.WriteHeader(503)
		_, _ = w.Write([]byte("<title>Closed</title><p>Back at six."))
	})), []string{"maintenance.message-served"}, "does not name the site"},
	{"a server's own words", both(until, with(isPage, func(w http.ResponseWriter, r *http.Request) {
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
	{"one of the web server's that works", both(unlocked, with(func(r *http.Request) bool { return isEncrypted(r) && !spared(r) }, asks)), nil, ""},
	{"one that lets in by address", both(unlocked, with(func(r *http.Request) bool { return isEncrypted(r) && !spared(r) }, func(w http.ResponseWriter, r *http.Request) {
		http.Error(w, "not you", http.StatusForbidden)
	})), nil, ""},
	{"only the home page", both(unlocked, with(isHome, asks)), []string{"maintenance.lock-whole", "maintenance.lock-encrypted"}, "the inner page /about/ can be had"},
	{"assets open", both(unlocked, with(func(r *http.Request) bool { return isEncrypted(r) && !spared(r) && !isAsset(r) }, asks)), []string{"maintenance.lock-whole"}, "can be had without name and password"},
	{"feed open", both(unlocked, with(func(r *http.Request) bool { return isEncrypted(r) && !spared(r) && !isFeed(r) }, asks)), []string{"maintenance.lock-whole"}, "the feed /feed.xml can be had"},
	{"all but what is not found", both(unlocked, with(func(r *http.Request) bool {
		return isEncrypted(r) && !spared(r) && !strings.HasPrefix(r.URL.Path, "/weltaxis-")
	}, asks)), []string{"maintenance.lock-whole"}, "answers 404 instead of asking for them"},
	{"only without encryption", both(unlocked, with(isPlain, asks)), []string{"maintenance.lock-whole", "maintenance.lock-encrypted", "maintenance.lock-spares", "maintenance.lock"}, "the home page can be had"},
	{"asked without encryption", both(unlocked, with(not(spared), asks)), []string{"maintenance.lock-encrypted"}, "without encryption"},
	{"open without encryption", both(unlocked, func(b *installation) { b.set("one_address", "no") }, with(func(r *http.Request) bool { return isEncrypted(r) && !spared(r) }, asks)), []string{"maintenance.lock-whole"}, "http://www.lanternlane.example can be had"},
	{"certificates cannot be renewed", both(unlocked, with(func(r *http.Request) bool { return isEncrypted(r) && !isRobots(r) }, asks)), []string{"maintenance.lock-spares"}, "what a certificate is renewed by"},
	{"robots.txt locked too", both(unlocked, with(func(r *http.Request) bool { return isEncrypted(r) && (isRobots(r) || !spared(r)) }, asks)), []string{"maintenance.lock-spares"}, "robots.txt"},
	{"declared, and open", both(unlocked, func(b *installation) { b.set("locked", "yes", "stale_locked", "no") }), []string{"maintenance.lock-served"}, "nobody is asked for name and password"},
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
		"signed in, shut out": {both(until, with(isPage, gives(503, retryAfter, "3600", "Cache-Control", noStore))), facts.ShowsNotice, []string{"maintenance.staff"}},
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
