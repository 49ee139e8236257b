package live

import (
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

// A hostile server counts what it is asked for and what it gets rid of.
type hostile struct {
	*httptest.Server
	requests, bytes atomic.Int64
}

func (h *hostile) write(w io.Writer, data []byte) error {
	n, err := w.Write(data)
	h.bytes.Add(int64(n))
	return err
}

// serve answers the home page with markup, robots.txt and a sitemap with 404, and all else with the handler.
func serve(t *testing.T, home string, handler func(*hostile, http.ResponseWriter, *http.Request)) *hostile {
	t.Helper()
	h := &hostile{}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.requests.Add(1)
		switch {
		case r.URL.Path == "/" && home != "":
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, home)
		default:
			handler(h, w, r)
		}
	}))
	t.Cleanup(h.Close)
	return h
}

func options(address string) Options {
	return Options{Address: address, MaxPages: 50, MaxDepth: 5, MaxTime: time.Minute, Concurrency: 4}
}

func look(t *testing.T, o Options) *facts.Snapshot {
	t.Helper()
	_, seen, err := Gather(t.Context(), o)
	require.NoError(t, err)
	return &facts.Snapshot{Seen: seen}
}

func gapsOf(s *facts.Snapshot) string {
	var all []string
	for _, g := range s.Gaps {
		all = append(all, g.What+": "+g.Because)
	}
	return strings.Join(all, "\n")
}

const linksTo = `<html lang=en><title>A</title><body><a href="/bad">b</a> <a href="/good">g</a>`

func goodOr(bad func(*hostile, http.ResponseWriter, *http.Request)) func(*hostile, http.ResponseWriter, *http.Request) {
	return func(h *hostile, w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/bad":
			bad(h, w, r)
		case "/good":
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, "<title>Good</title>")
		default:
			http.NotFound(w, r)
		}
	}
}

// One bad page must end within its bounds, be told, and keep nothing else from being seen.
func TestHostilePages(t *testing.T) {
	for name, c := range map[string]struct {
		bad   func(*hostile, http.ResponseWriter, *http.Request)
		want  string
		bytes int64 // most that the server may get rid of for this page
		tries int64 // most that it may be asked for it; 1 when zero
		// impatient waits a moment only for an answer, which otherwise is twenty seconds.
		impatient bool
	}{
		"slow drip": {func(h *hostile, w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			for range 1000 {
				if h.write(w, []byte("x")) != nil || r.Context().Err() != nil {
					return
				}
				w.(http.Flusher).Flush()
				time.Sleep(20 * time.Millisecond)
			}
		}, "it took too long", 100, 1, true},
		"body without end": {func(h *hostile, w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			chunk := []byte(strings.Repeat("<p>x</p>", 8<<10))
			for r.Context().Err() == nil && h.write(w, chunk) == nil {
			}
		}, "longer than 4 MiB", 64 << 20, 1, false},
		"compressed bomb": {func(h *hostile, w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			w.Header().Set("Content-Encoding", "gzip")
			zip := gzip.NewWriter(countingWriter{h, w})
			zeros := make([]byte, 1<<20)
			for range 200 {
				if _, err := zip.Write(zeros); err != nil {
					return
				}
			}
			_ = zip.Close()
		}, "longer than 4 MiB", 1 << 20, 1, false},
		"compressed in name only": {func(_ *hostile, w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Encoding", "gzip")
			fmt.Fprint(w, "plain")
		}, "Content-Encoding: gzip, and the body is not compressed that way", 100, 1, false},
		"200 MB of headers": {func(h *hostile, w http.ResponseWriter, _ *http.Request) {
			connection, buffer, err := w.(http.Hijacker).Hijack()
			if err != nil {
				return
			}
			defer connection.Close()
			fmt.Fprint(buffer, "HTTP/1.1 200 OK\r\n")
			_ = buffer.Flush()
			line := []byte("X-Filler: " + strings.Repeat("x", 4000) + "\r\n")
			for h.bytes.Load() < 200<<20 && h.write(connection, line) == nil {
			}
		}, "header", 8 << 20, 1, false},
		"shorter than it says": {func(h *hostile, w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			w.Header().Set("Content-Length", "5000")
			_ = h.write(w, []byte("<title>x</title>"))
		}, "Content-Length: 5000, and the body ended before", 100, 1, false},
		"closed without a word": {func(_ *hostile, w http.ResponseWriter, _ *http.Request) {
			if connection, _, err := w.(http.Hijacker).Hijack(); err == nil {
				connection.Close()
			}
		}, "closed before the answer was whole", 0, 9, false}, // once for every connection that was kept open, and once afresh
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var tries atomic.Int64
			h := serve(t, linksTo, goodOr(func(h *hostile, w http.ResponseWriter, r *http.Request) { tries.Add(1); c.bad(h, w, r) }))
			o := options(h.URL)
			if c.impatient {
				o.patience = 300 * time.Millisecond
			}
			s := look(t, o)
			assert.Contains(t, gapsOf(s), "/bad")
			assert.Contains(t, gapsOf(s), c.want)
			assert.LessOrEqual(t, h.bytes.Load(), c.bytes, "bytes the server got rid of")
			assert.LessOrEqual(t, tries.Load(), max(c.tries, 1))
			found := false
			for _, page := range s.Pages {
				found = found || page.Title == "Good"
			}
			assert.True(t, found, "the good page is seen all the same")
		})
	}
}

type countingWriter struct {
	h *hostile
	w io.Writer
}

func (c countingWriter) Write(data []byte) (int, error) {
	n, err := c.w.Write(data)
	c.h.bytes.Add(int64(n))
	return n, err
}

func TestRedirectsEnd(t *testing.T) {
	h := serve(t, linksTo+`<a href="/chain/0">c</a>`, goodOr(func(_ *hostile, w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/bad", http.StatusFound)
	}))
	chained := h.Config.Handler
	h.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var n int
		if _, err := fmt.Sscanf(r.URL.Path, "/chain/%d", &n); err == nil {
			h.requests.Add(1)
			http.Redirect(w, r, fmt.Sprintf("/chain/%d", n+1), http.StatusMovedPermanently)
			return
		}
		chained.ServeHTTP(w, r)
	})
	s := look(t, options(h.URL))
	loops := 0
	for _, link := range s.Links {
		assert.True(t, link.Loop, link.Address)
		assert.LessOrEqual(t, link.Steps, maxSteps+1)
		loops++
	}
	assert.Equal(t, 2, loops)
	assert.LessOrEqual(t, h.requests.Load(), int64(30))
}

func TestLinksWithoutEndAreBounded(t *testing.T) {
	h := serve(t, `<title>A</title><body><a href="/g/1">x</a>`, func(_ *hostile, w http.ResponseWriter, r *http.Request) {
		if !strings.HasPrefix(r.URL.Path, "/g/") {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		for i := range 3000 {
			fmt.Fprint(w, `<a href="`, r.URL.Path, i, `/">x</a>`)
		}
	})
	s := look(t, options(h.URL))
	assert.LessOrEqual(t, len(s.Pages), 50)
	assert.LessOrEqual(t, h.requests.Load(), int64(66), "an address that cannot exist, a search result's visitor and a mailing's among them")
	assert.Contains(t, gapsOf(s), "more addresses were not looked at, since the bound is 50 pages")
	assert.False(t, s.Partial(), "a bound that was stated is no failure")
}

func TestSitemapBombIsAGapAndTheRestIsSeen(t *testing.T) {
	bomb := zipped(t, `<urlset>`+strings.Repeat(" ", maxSitemapBytes+10))
	h := serve(t, linksTo, goodOr(nil))
	plain := h.Config.Handler
	h.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/sitemap.xml" {
			_, _ = w.Write(bomb)
			return
		}
		if r.URL.Path == "/bad" {
			http.NotFound(w, r)
			return
		}
		plain.ServeHTTP(w, r)
	})
	s := look(t, options(h.URL))
	problem, _ := s.Effective("live.sitemap.problem")
	assert.Contains(t, problem.Value.Text(), "larger than 50 MiB")
	valid, _ := s.Effective("live.sitemap.valid")
	assert.False(t, valid.Value.Bool())
	assert.Len(t, s.Pages, 2)
}

func TestACertificateNobodyTrustsIsAReadingAndAGap(t *testing.T) {
	h := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Empty(t, r.Header.Get("Authorization"), "nothing secret goes to whoever that may be")
		if r.URL.Path != "/" {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, "<title>A</title>")
	}))
	h.Config.ErrorLog = log.New(io.Discard, "", 0)
	h.StartTLS()
	t.Cleanup(h.Close)
	o := options(h.URL)
	o.User = "staff:open-sesame"
	s := look(t, o)
	trusted, known := s.Effective("live.certificate.trusted")
	require.True(t, known)
	assert.False(t, trusted.Value.Bool())
	assert.Contains(t, gapsOf(s), "not to be trusted")
	title, _ := s.Effective("live.home.title")
	assert.Equal(t, "A", title.Value.Text())
}

func TestAPublicSiteLeadsToNoPrivateAddress(t *testing.T) {
	inner := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("the private address was asked") }))
	t.Cleanup(inner.Close)
	// www. of the site's name leads to a private address; the site itself does not.
	c, err := newClient(Options{}, &url.URL{Scheme: "http", Host: "public.example"})
	require.NoError(t, err)
	_, port, _ := net.SplitHostPort(inner.Listener.Addr().String())
	_, err = c.get(t.Context(), &url.URL{Scheme: "http", Host: "localhost:" + port, Path: "/"})
	assert.ErrorIs(t, err, errPrivate)

	mapped, err := newClient(Options{Connect: map[string]string{"public.example:80": "127.0.0.1:1"}}, &url.URL{Scheme: "http", Host: "public.example"})
	require.NoError(t, err)
	_, err = mapped.get(t.Context(), &url.URL{Scheme: "http", Host: "other.example", Path: "/"})
	assert.ErrorIs(t, err, errUnmapped, "where names are mapped, no other is looked up")
}

func TestALinkToAnotherHostIsNotFollowed(t *testing.T) {
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("another host was asked") }))
	t.Cleanup(other.Close)
	h := serve(t, `<title>A</title><body><a href="`+other.URL+`/x">x</a><a href="/bad">y</a>`, goodOr(func(_ *hostile, w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, strings.Replace(other.URL, "127.0.0.1", "localhost", 1)+"/y", http.StatusFound)
	}))
	s := look(t, options(h.URL))
	assert.Len(t, s.Pages, 1)
}

func TestAHomePageThatIsLockedOrDownLeavesPagesNotJudged(t *testing.T) {
	for _, status := range []int{401, 503} {
		h := serve(t, "", func(_ *hostile, w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) })
		s := look(t, options(h.URL))
		got, _ := s.Effective("live.home.status")
		assert.Equal(t, int64(status), got.Value.Number())
		assert.Nil(t, s.Pages)
		assert.Contains(t, s.Why("live.home.title"), fmt.Sprintf("answers %d", status))
	}
}

func TestPoliteness(t *testing.T) {
	var asked atomic.Int64
	h := serve(t, linksTo, func(_ *hostile, w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/robots.txt":
			w.Header().Set("Content-Type", "text/plain")
			fmt.Fprint(w, "User-agent: weltaxis\nDisallow: /bad\n")
		case "/bad":
			asked.Add(1)
			fallthrough
		default:
			assert.Equal(t, UserAgent, r.UserAgent())
			http.NotFound(w, r)
		}
	})
	look(t, options(h.URL))
	assert.Zero(t, asked.Load(), "robots.txt is obeyed")
	o := options(h.URL)
	o.IgnoreRobots = true
	look(t, o)
	assert.EqualValues(t, 1, asked.Load())

	o = options(h.URL)
	o.Rate = 1000
	c, err := newClient(o, address(t, h.URL))
	require.NoError(t, err)
	assert.EqualValues(t, 1000, c.limiter.Limit())
}

func TestTheTimeForAllIsBounded(t *testing.T) {
	h := serve(t, `<title>A</title><body><a href="/1">x</a>`, func(_ *hostile, w http.ResponseWriter, r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-time.After(5 * time.Second):
		}
	})
	o := options(h.URL)
	o.patience, o.MaxTime = time.Minute, 200*time.Millisecond
	_, seen, err := Gather(t.Context(), o)
	require.NoError(t, err, "its own bound is no error")
	assert.True(t, seen.Partial())

	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = Gather(ended, o)
	assert.ErrorIs(t, err, context.Canceled)
}

// TestTheTimeIsForAllStepsTogether: once it is over none of them asks for anything.
func TestTheTimeIsForAllStepsTogether(t *testing.T) {
	var asked atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { asked.Add(1) }))
	defer server.Close()
	o := options(server.URL)
	o.Own, o.Until = true, time.Now().Add(-time.Second)
	for name, step := range map[string]func() error{
		"pages": func() error { _, _, err := Gather(t.Context(), o); return err },
		"leaks": func() error { _, err := Leaks(t.Context(), o, nil, nil); return err },
	} {
		require.NoError(t, step(), name)
	}
	_, _, err := doorsOf(t.Context(), o)
	require.Error(t, err)
	assert.Zero(t, asked.Load())
	bounded, cancel := o.bounded(t.Context(), 1)
	defer cancel()
	require.Error(t, bounded.Err())
}

// doorsOf asks for every kind of address of a site, and looks at nothing else. The error is that nothing could be asked.
func doorsOf(ctx context.Context, o Options) ([]facts.Door, []facts.Gap, error) {
	o.Closed = true
	v, err := newVisit(o)
	if err != nil {
		return nil, nil, err
	}
	defer v.client.close()
	bounded, cancel := v.bounded(ctx, 1)
	defer cancel()
	first, err := v.reach(bounded)
	if err != nil && first.last == nil {
		return nil, v.seen.Gaps, err
	}
	v.readRobots(bounded)
	v.doors(bounded, facts.ShowsFailure)
	return v.seen.Doors, v.seen.Gaps, ctx.Err()
}
