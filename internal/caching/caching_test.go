package caching

import (
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// noon is when answers of the tests are made.
var noon = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

// headerOf reads lines of header fields, one after a bar.
func headerOf(lines string) http.Header {
	header := http.Header{}
	for line := range strings.SplitSeq(lines, "|") {
		if name, value, ok := strings.Cut(line, ":"); ok {
			header.Add(strings.TrimSpace(name), strings.TrimSpace(value))
		}
	}
	return header
}

// responseOf is an answer made at noon: a status, other than 200 before a space, and lines of header fields.
func responseOf(lines, asked string) Response {
	r := Response{Status: http.StatusOK, Asked: noon, Answered: noon, To: requestOf(asked)}
	if first, rest, _ := strings.Cut(lines, " "); len(first) == 3 {
		if status, err := strconv.Atoi(first); err == nil {
			r.Status, lines = status, rest
		}
	}
	r.Header = headerOf(lines)
	if r.Header.Get("Date") == "" {
		r.Header.Set("Date", noon.Format(http.TimeFormat))
	}
	return r
}

// requestOf is a request: a method, other than GET before a space, and lines of header fields.
func requestOf(lines string) Request {
	if method, rest, ok := strings.Cut(lines+" ", " "); ok && method != "" && method == strings.ToUpper(method) && !strings.Contains(method, ":") {
		return Request{method, headerOf(rest)}
	}
	return Request{"", headerOf(lines)}
}

// TestWhatIsStored: RFC 9111 §3 and the directives that it rests on.
func TestWhatIsStored(t *testing.T) {
	for _, c := range []struct {
		kind           Kind
		response, asks string
		may            bool
		section        string
		without        string
	}{
		{Shared, "", "", true, "3", ""},
		{Shared, "", "HEAD", true, "3", ""},
		{Shared, "Cache-Control: max-age=60", "POST", false, "3", ""},
		{Shared, "", "PUT", false, "3", ""},
		{Shared, "103 Cache-Control: max-age=60", "", false, "3", ""},
		{Shared, "206 Cache-Control: max-age=60", "", false, "3", ""},
		{Shared, "404 ", "", true, "3", ""},
		{Shared, "410 ", "", true, "3", ""},
		{Shared, "301 ", "", true, "3", ""},
		{Shared, "302 ", "", false, "3", ""},
		{Shared, "302 Cache-Control: max-age=5", "", true, "3", ""},
		{Shared, "302 Expires: Thu, 26 Nov 2026 13:00:00 GMT", "", true, "3", ""},
		{Shared, "500 ", "", false, "3", ""},
		{Shared, "503 Cache-Control: public", "", true, "3", ""},
		{Shared, "302 Cache-Control: s-maxage=5", "", true, "3", ""},
		{Private, "302 Cache-Control: s-maxage=5", "", false, "3", ""},
		{Private, "302 Cache-Control: private", "", true, "3", ""},
		{Shared, "Cache-Control: no-store", "", false, "5.2.2.5", ""},
		{Private, "Cache-Control: max-age=60, No-Store", "", false, "5.2.2.5", ""},
		{Shared, "", "Cache-Control: no-store", false, "5.2.1.5", ""},
		{Shared, "Cache-Control: private", "", false, "5.2.2.7", ""},
		{Private, "Cache-Control: private", "", true, "3", ""},
		{Shared, `Cache-Control: private="Set-Cookie, X-Name"`, "", true, "3", "Set-Cookie X-Name"},
		{Shared, `Cache-Control: no-cache="set-cookie"`, "", true, "3", "Set-Cookie"},
		{Shared, "Cache-Control: no-cache", "", true, "3", ""},
		{Shared, "Cache-Control: max-age=60", "Authorization: Basic eDp5", false, "3.5", ""},
		{Shared, "Cache-Control: public", "Authorization: Basic eDp5", true, "3", ""},
		{Shared, "Cache-Control: s-maxage=60", "Authorization: Basic eDp5", true, "3", ""},
		{Shared, "Cache-Control: must-revalidate", "Authorization: Basic eDp5", true, "3", ""},
		{Private, "", "Authorization: Basic eDp5", true, "3", ""},
		{Shared, "299 Cache-Control: must-understand, max-age=60", "", false, "5.2.2.3", ""},
		{Shared, "Cache-Control: must-understand, no-store", "", true, "3", ""},
		{Shared, "Set-Cookie: a=b", "", true, "3", ""}, // a cookie alone forbids nothing (§7.3)
	} {
		t.Run(c.section+" "+c.response+" "+c.asks, func(t *testing.T) {
			may, without, why := c.kind.Stores(responseOf(c.response, c.asks))
			require.Equal(t, c.may, may, why)
			require.Equal(t, c.section, why.Section, why)
			require.Equal(t, c.without, strings.Join(without, " "))
		})
	}
}

// TestHowLongItIsFresh: RFC 9111 §4.2.1 and §4.2.2.
func TestHowLongItIsFresh(t *testing.T) {
	for _, c := range []struct {
		kind     Kind
		response string
		lifetime time.Duration
		stated   bool
		section  string
	}{
		{Shared, "Cache-Control: max-age=60", time.Minute, true, "5.2.2.1"},
		{Private, `Cache-Control: max-age="60"`, time.Minute, true, "5.2.2.1"},
		{Shared, "Cache-Control: s-maxage=10, max-age=60", 10 * time.Second, true, "5.2.2.10"},
		{Private, "Cache-Control: s-maxage=10, max-age=60", time.Minute, true, "5.2.2.1"},
		{Private, "Cache-Control: s-maxage=10", 0, false, "4.2.2"},
		{Shared, "Cache-Control: max-age=60, max-age=5", time.Minute, true, "5.2.2.1"},
		{Shared, "Cache-Control: max-age=60|Cache-Control: max-age=5", time.Minute, true, "5.2.2.1"},
		{Shared, "Cache-Control: max-age=soon", 0, true, "4.2.1"},
		{Shared, "Cache-Control: max-age=-1", 0, true, "4.2.1"},
		{Shared, "Cache-Control: max-age=1.5", 0, true, "4.2.1"},
		{Shared, "Cache-Control: max-age=99999999999999999999", 1 << 31 * time.Second, true, "5.2.2.1"},
		{Shared, "Cache-Control: x=\"max-age=5, y\", max-age=7", 7 * time.Second, true, "5.2.2.1"},
		{Shared, "Expires: Thu, 26 Nov 2026 13:00:00 GMT", time.Hour, true, "5.3"},
		{Shared, "Cache-Control: max-age=5|Expires: Thu, 26 Nov 2026 13:00:00 GMT", 5 * time.Second, true, "5.2.2.1"},
		{Shared, "Expires: Thu, 26 Nov 2026 11:00:00 GMT", 0, true, "5.3"},
		{Shared, "Expires: 0", 0, true, "5.3"},
		{Shared, "Expires: ", 0, true, "5.3"},
		{Shared, "Expires: 26 November 2026", 0, true, "5.3"},
		{Shared, "Last-Modified: Mon, 16 Nov 2026 12:00:00 GMT", 24 * time.Hour, false, "4.2.2"},
		{Shared, "302 Last-Modified: Mon, 16 Nov 2026 12:00:00 GMT", 0, false, "4.2.2"},
		{Shared, "302 Cache-Control: public|Last-Modified: Mon, 16 Nov 2026 12:00:00 GMT", 24 * time.Hour, false, "4.2.2"},
		{Shared, "Last-Modified: Fri, 27 Nov 2026 12:00:00 GMT", 0, false, "4.2.2"},
		{Shared, "", 0, false, "4.2.2"},
	} {
		t.Run(c.section+" "+c.response, func(t *testing.T) {
			fresh := c.kind.Fresh(responseOf(c.response, ""))
			require.Equal(t, c.lifetime, fresh.Lifetime, fresh.Because)
			require.Equal(t, c.stated, fresh.Stated)
			require.Equal(t, c.section, fresh.Section)
		})
	}
}

// TestWhatIsDoneWithIt: RFC 9111 §4, §4.1, §4.2.4, §5.2.1, RFC 5861.
func TestAskingAgain(t *testing.T) {
	require.Equal(t, headerOf(`If-None-Match: W/"x"|If-Modified-Since: Mon, 16 Nov 2026 12:00:00 GMT`), Asks(headerOf(`ETag: W/"x"|Last-Modified: Mon, 16 Nov 2026 12:00:00 GMT`)))
	require.Empty(t, Asks(headerOf("Cache-Control: max-age=5")))
}

// TestSigns: how caches tell that they answered, or did not.
func TestSigns(t *testing.T) {
	for lines, outcome := range map[string]Outcome{
		"Cache-Status: Brindle; hit":                             Answered, // RFC 9211 §2.1
		"Cache-Status: Brindle; fwd=uri-miss; stored":            Missed,   // §2.2
		"Cache-Status: Brindle; fwd=bypass":                      Passed,
		"Cache-Status: Brindle; hit; ttl=-20":                    Old, // §2.4: what is left is less than nothing
		"Cache-Status: Brindle; fwd=stale; fwd-status=304":       Missed,
		`Cache-Status: inner; fwd=miss, "the outer one"; hit`:    Answered,
		"Cache-Status: inner; hit|Cache-Status: outer; fwd=miss": Answered,
		"Cache-Status: Brindle; hit=?0; fwd=miss":                Missed,
		"Cache-Status: ;;;":                                      Untold,
		"Age: 17":                                                Answered,
		"Age: 0":                                                 Untold,
		"X-Cache: HIT":                                           Answered,
		"X-Cache: MISS from lantern.example":                     Missed,
		"X-Cache: Hit from the network":                          Answered,
		"X-Cache: TCP_MEM_HIT":                                   Answered,
		"X-Cache: TCP_MISS":                                      Missed,
		"X-Cache: HIT, MISS":                                     Answered,
		"X-Cache: MISS|Age: 40":                                  Answered,
		"X-Cache-Status: STALE":                                  Old,
		"X-Cache-Status: UPDATING":                               Old,
		"X-Cache-Status: REVALIDATED":                            Answered,
		"X-Cache-Status: EXPIRED":                                Missed,
		"X-FastCGI-Cache: BYPASS":                                Passed,
		"X-Proxy-Cache: hit":                                     Answered,
		"X-Page-Cache: not cached":                               Missed,
		"X-Stage-Cache: cached":                                  Answered,
		"X-Cache-Control: hit":                                   Untold,
		"X-Cache-Hits: 3":                                        Untold,
		"X-Cache-Key: /hit/":                                     Untold,
		"X-Cache: CONFIG_NOCACHE":                                Untold,
		"Server-Timing: db;dur=3, cdn-cache; desc=HIT":           Answered,
		"Server-Timing: hit;dur=3":                               Untold,
		`Warning: 110 - "Response is Stale"`:                     Old,
		"Cache-Control: max-age=60|Content-Type: text/html; charset=hit-1": Untold,
	} {
		require.Equal(t, outcome, Told(headerOf(lines)).Outcome, lines)
	}
	require.Equal(t, Sign{Outcome: Answered, By: "the outer one", Header: `Cache-Status: inner; fwd=miss, "the outer one"; hit`}, Told(headerOf(`Cache-Status: inner; fwd=miss, "the outer one"; hit`)))
	require.True(t, Signs(headerOf("Cache-Status: Brindle; fwd=uri-miss; stored"))[0].Stored)
}

// FuzzControl: whatever a field holds, reading it ends, and what is read is bounded.
func FuzzControl(f *testing.F) {
	f.Add(`private="a,b", max-age="6\"0"`)
	f.Add(`no-cache="`)
	f.Fuzz(func(t *testing.T, text string) {
		header := http.Header{"Cache-Control": {text}, "Cache-Status": {text}, "X-Cache": {text}}
		require.LessOrEqual(t, len(ParseControl(header)), maxDirectives)
		Signs(header)
		for _, kind := range []Kind{Shared, Private} {
			fresh := kind.Fresh(Response{Status: 200, Header: header, Answered: noon})
			require.GreaterOrEqual(t, fresh.Lifetime, time.Duration(0))
		}
	})
}
