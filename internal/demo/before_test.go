package demo

import (
	"bytes"
	"net/http"
	"net/http/httptest"
	"strings"
	"time"
)

// What stands before a stand-in changes what it answers, as a server, a cache or an extension does of which its settings
// say nothing.

// An answer is what the stand-in answered, before it is sent.
type answer struct {
	status int
	header http.Header
	body   []byte
}

// compress compresses a page as the stand-in would have, unless something else was made of it.
func (a *answer) compress(wanted bool) {
	if !wanted || len(a.body) <= 1024 || a.header.Get("Content-Encoding") != "" || !strings.HasPrefix(a.header.Get("Content-Type"), "text/") {
		return
	}
	a.body = zipped(a.body)
	a.header.Set("Content-Encoding", "gzip")
	a.header.Add("Vary", "Accept-Encoding")
}

// A disturbance changes an answer.
type disturbance func(*answer)

// before has answers changed for the paths that are wanted.
func before(wanted func(path string) bool, change ...disturbance) func(http.Handler) http.Handler {
	return func(standIn http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if !wanted(r.URL.Path) {
				standIn.ServeHTTP(w, r)
				return
			}
			wants := strings.Contains(r.Header.Get("Accept-Encoding"), "gzip")
			r.Header.Del("Accept-Encoding") // as it is, to be changed
			kept := httptest.NewRecorder()
			standIn.ServeHTTP(kept, r)
			a := &answer{kept.Code, kept.Header(), kept.Body.Bytes()}
			for _, c := range change {
				c(a)
			}
			a.header.Del("Content-Length")
			a.compress(wants)
			for name, values := range a.header {
				w.Header()[name] = values
			}
			w.WriteHeader(a.status)
			_, _ = w.Write(a.body)
		})
	}
}

// onAddress changes what one path answers.
func onAddress(path string, change ...disturbance) func(http.Handler) http.Handler {
	return before(func(asked string) bool { return asked == path }, change...)
}

// onPages changes what all pages answer.
func onPages(change ...disturbance) func(http.Handler) http.Handler {
	return before(func(path string) bool { return strings.HasSuffix(path, "/") }, change...)
}

func onAddressFault(path string, change ...disturbance) fault {
	return fault{do: func(b *installation) { b.before = onAddress(path, change...) }}
}

// listing has folders that are no pages answer with a page of that title, FOLDER in it filled in.
func listing(title string) func(*installation) {
	return func(b *installation) {
		b.before = func(standIn http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				kept := httptest.NewRecorder()
				if standIn.ServeHTTP(kept, r); kept.Code < 400 || !strings.HasSuffix(r.URL.Path, "/") || strings.Contains(r.URL.Path, "weltaxis-") {
					standIn.ServeHTTP(w, r)
					return
				}
				title := strings.ReplaceAll(title, "FOLDER", r.URL.Path)
				w.Header().Set("Content-Type", "text/html")
				_, _ = w.Write([]byte("<html><head><title>" + title + "</title></head><body><h1>" + title + `</h1><a href="../">..</a></body></html>`))
			})
		}
	}
}

func answering(status int) disturbance { return func(a *answer) { a.status = status } }

func header(name, value string) disturbance { return func(a *answer) { a.header.Set(name, value) } }

// inPlaceOf puts one text in the place of another.
func inPlaceOf(old, now string) disturbance {
	return func(a *answer) { a.body = bytes.ReplaceAll(a.body, []byte(old), []byte(now)) }
}

// instead answers with another body.
func instead(body string) disturbance { return func(a *answer) { a.body = []byte(body) } }

// inHead and inBody add markup to a page.
func inHead(markup string) disturbance { return inPlaceOf("</head>", markup+"</head>") }
func inBody(markup string) disturbance { return inPlaceOf("</body>", markup+"</body>") }

const notice = `<!doctype html><html lang="en-GB"><head><meta charset="utf-8"><title>Down for maintenance</title></head><body><h1>Back soon</h1><p>We are changing the scenery.</p></body></html>`

// fromSearch sends on whoever comes from a search result, as a site does that was broken into.
func fromSearch(to string) func(http.Handler) http.Handler {
	return func(standIn http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if strings.Contains(r.Referer(), "search") {
				http.Redirect(w, r, to, http.StatusFound)
				return
			}
			standIn.ServeHTTP(w, r)
		})
	}
}

// withoutRedirect answers at a name, with or without encryption, instead of leading to the one true address.
func withoutRedirect(host string, encrypted bool) func(http.Handler) http.Handler {
	return withoutRedirectAt(host, encrypted, func(string) bool { return true })
}

// withoutRedirectAt is that at some paths.
func withoutRedirectAt(host string, encrypted bool, at func(path string) bool) func(http.Handler) http.Handler {
	return func(standIn http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if (r.TLS != nil) == encrypted && r.Host == host && at(r.URL.Path) {
				w.Header().Set("Content-Type", "text/html; charset=utf-8")
				_, _ = w.Write([]byte("<!doctype html><html lang=en-GB><title>Lantern Lane</title><h1>Lantern Lane</h1></html>"))
				return
			}
			standIn.ServeHTTP(w, r)
		})
	}
}

// onPlain has something done before an address is answered without a query, and the answer changed.
func onPlain(path string, do func(), change ...disturbance) func(http.Handler) http.Handler {
	return func(standIn http.Handler) http.Handler {
		changed := onAddress(path, change...)(standIn)
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != path || r.URL.RawQuery != "" {
				standIn.ServeHTTP(w, r)
				return
			}
			do()
			changed.ServeHTTP(w, r)
		})
	}
}

// keptOld has a cache answer for a page with what it was once.
func keptOld(path string) func(http.Handler) http.Handler {
	return onPlain(path, func() {}, header("Cache-Status", "Brindle; hit"), inPlaceOf("Nine volunteers", "Eight volunteers"))
}

// slowHits has the cache take longer than making the page anew.
func slowHits() func(http.Handler) http.Handler {
	return onPlain("/", func() { time.Sleep(300 * time.Millisecond) })
}

// slowly has an address take its time.
func slowly(path string, wait time.Duration) func(http.Handler) http.Handler {
	return withRequest(func(r *http.Request) {
		if r.URL.Path == path {
			time.Sleep(wait)
		}
	})
}

// neverUnchanged has the answer to every condition be the whole again.
func neverUnchanged() func(http.Handler) http.Handler {
	return withRequest(func(r *http.Request) {
		r.Header.Del("If-None-Match")
		r.Header.Del("If-Modified-Since")
	})
}

// asItIs has an address answered uncompressed.
func asItIs(path string) func(http.Handler) http.Handler {
	return withRequest(func(r *http.Request) {
		if r.URL.Path == path {
			r.Header.Del("Accept-Encoding")
		}
	})
}

// withRequest has something done to requests before they are answered.
func withRequest(do func(*http.Request)) func(http.Handler) http.Handler {
	return func(standIn http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			do(r)
			standIn.ServeHTTP(w, r)
		})
	}
}

// onMissing changes what an address answers that cannot exist.
func onMissing(change ...disturbance) func(http.Handler) http.Handler {
	return before(func(path string) bool { return strings.HasPrefix(path, "/weltaxis-") }, change...)
}
