package live

import (
	"net/http"
	"net/url"
	"regexp"
	"strings"

	"weltaxis/internal/caching"
	"weltaxis/internal/facts"
)

// personalPath is how pages are called that show everybody something of his own, in the languages this was tried in: a part of the
// path. What mayBePersonal names is called so as well, and so are other things: it counts where something is to be filled in.
var (
	personalPath  = regexp.MustCompile(`(?i)(?:^|/)(?:(?:shopping-?)?(?:cart|basket)|shopping-?bag|check-?out|my-?(?:account|orders?|profile|downloads)|wishlist|order-?(?:received|confirmation)|warenkorb|kasse|mein-?konto|merkzettel|panier|mon-?compte|carrito|mi-?cuenta|carrello|mio-?account|winkel(?:wagen|mandje)|afrekenen|mijn-?account)(?:\.[a-z]+)?(?:/|$)`)
	mayBePersonal = regexp.MustCompile(`(?i)(?:^|/)(?:account|profile?|orders?|downloads|order-?(?:history|status)|konto|bestellungen?|commandes?|pedidos?|cassa|preview|vorschau)(?:\.[a-z]+)?/?$`)
)

// personalQuery is how addresses end that show what only staff are to see: a page that is not published yet.
var personalQuery = regexp.MustCompile(`(?i)(?:^|&)(?:preview|draft|nonce)=`)

// personal is why a page is somebody's own, "" when it is everybody's.
func personal(u *url.URL, d *document) string {
	switch {
	case personalPath.MatchString(u.Path) && (d == nil || d.articles <= 1):
		return "its address says so"
	case mayBePersonal.MatchString(u.Path) && d != nil && (d.forms > 0 || d.password):
		return "its address says so, and it asks for something"
	case personalQuery.MatchString(u.RawQuery):
		return "its address says that it is a preview"
	case d != nil && d.signsOut:
		return "it offers to sign out, to somebody who has not signed in"
	}
	return ""
}

// setsSession tells whether an answer sets a cookie that carries a session, and keeps what it holds, to be sent once more.
func (v *visit) setsSession(header http.Header) (sets bool) {
	for _, line := range header["Set-Cookie"] {
		cookie, err := http.ParseSetCookie(line)
		if err == nil && cookie.MaxAge >= 0 && cookie.Value != "" && carriesSession(cookie) {
			v.session = cookie.Name + "=" + cookie.Value
			sets = true
		}
	}
	return sets
}

// cached fills in what the headers of a page say to caches and of them.
func (v *visit) cached(page *facts.Page, answer *response) {
	page.CacheControl, page.Vary = joined(answer.header, "Cache-Control"), joined(answer.header, "Vary")
	page.Fresh = freshFor(caching.Shared, answer)
	page.Validator = hasValidator(answer.header)
	told := caching.Told(answer.header)
	page.Outcome, page.Hit, page.CacheSays = string(told.Outcome), told.Outcome.FromCache(), ""
	if page.Hit {
		page.CacheSays = facts.Shorten(told.Header, maxSaysHeader)
	}
	page.Private = keptPrivate(answer.header)
	page.SetsSession = v.setsSession(answer.header)
	page.Compressed, page.Size, page.Sent = coding(answer), max(answer.size, 0), max(answer.sent, 0)
}

// freshFor is for how many seconds a cache may keep an answer, as that says itself; -1 when it does not say.
func freshFor(kind caching.Kind, answer *response) int64 {
	if may, _, _ := kind.Stores(caching.Response{Status: answer.status, Header: answer.header}); !may {
		return 0
	}
	if says := caching.ParseControl(answer.header); says.Has("no-cache") && len(says.Fields("no-cache")) == 0 {
		return 0
	}
	fresh := kind.Fresh(caching.Response{Status: answer.status, Header: answer.header, Answered: answer.at})
	if !fresh.Stated {
		return -1
	}
	return int64(fresh.Lifetime.Seconds())
}

// maxSaysHeader is how much of a header is kept to be shown.
const maxSaysHeader = 300

// joined are the lines of a header as one (RFC 9110 §5.3).
func joined(header http.Header, name string) string {
	return facts.Shorten(strings.Join(header[name], ", "), maxSaysHeader)
}

// coding is how an answer is compressed, "" for not at all (RFC 9110 §8.4).
func coding(answer *response) string {
	var codings []string
	for one := range strings.SplitSeq(strings.Join(answer.header["Content-Encoding"], ","), ",") {
		if one = strings.ToLower(strings.TrimSpace(one)); one != "" && one != "identity" && one != "none" {
			codings = append(codings, one)
		}
	}
	return facts.Shorten(strings.Join(codings, ", "), 60)
}

func hasValidator(header http.Header) bool {
	return header.Get("Etag") != "" || header.Get("Last-Modified") != ""
}

// keptPrivate tells whether an answer says that shared caches are not to keep it, or not to answer with it unasked.
func keptPrivate(header http.Header) bool {
	says := caching.ParseControl(header)
	return says.Has("private") && len(says.Fields("private")) == 0 || says.Has("no-store") || says.Has("no-cache") && len(says.Fields("no-cache")) == 0
}
