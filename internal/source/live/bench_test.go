package live

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/html"
	"golang.org/x/sync/errgroup"
)

// manyPages serves a home page that links to n pages of about 30 KB each, through listings of a hundred.
func manyPages(b *testing.B, n int) (server *httptest.Server, addresses []string) {
	b.Helper()
	words := strings.Repeat("<p>The lamps are lit, the <a href=\"/p/1\">strings</a> are waxed, and the wolf has had his <b>breakfast</b>.</p>\n", 270)
	page := func(path string) string {
		return "<!doctype html><html lang=en><head><meta charset=utf-8><title>Page " + path + " of many | Lantern Lane</title>" +
			`<meta name="description" content="What is to be read on page ` + path + ` of the many pages of Lantern Lane."></head><body><h1>` + path + "</h1>" + words + "</body></html>"
	}
	server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		var k int
		switch {
		case r.URL.Path == "/":
			for k := range n / 100 {
				fmt.Fprintf(w, `<a href="/l/%d">x</a>`, k)
			}
		case strings.HasPrefix(r.URL.Path, "/l/"):
			_, _ = fmt.Sscanf(r.URL.Path, "/l/%d", &k)
			for i := range 100 {
				fmt.Fprintf(w, `<a href="/p/%d">x</a>`, k*100+i)
			}
		case strings.HasPrefix(r.URL.Path, "/p/"):
			_, _ = io.WriteString(w, page(r.URL.Path))
		default:
			http.NotFound(w, r)
		}
	}))
	b.Cleanup(server.Close)
	for i := range n {
		addresses = append(addresses, fmt.Sprintf("%s/p/%d", server.URL, i))
	}
	return server, addresses
}

// BenchmarkPages sets a whole look at 10 000 pages of 30 KB beside a bare loop that fetches and tokenizes the same
// pages with the same concurrency, in the same run.
func BenchmarkPages(b *testing.B) {
	const n = 10_000
	server, addresses := manyPages(b, n)
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8, DisableCompression: true}}
	bare := func() time.Duration {
		start := time.Now()
		var group errgroup.Group
		group.SetLimit(DefaultConcurrency)
		for _, address := range addresses {
			group.Go(func() error {
				answer, err := client.Get(address)
				if err != nil {
					return err
				}
				defer answer.Body.Close()
				for z := html.NewTokenizer(answer.Body); z.Next() != html.ErrorToken; {
				}
				return nil
			})
		}
		if err := group.Wait(); err != nil {
			b.Fatal(err)
		}
		return time.Since(start)
	}
	pages := 0
	whole := func() time.Duration {
		start := time.Now()
		_, into, err := Gather(b.Context(), Options{Address: server.URL, MaxPages: n + 200, MaxDepth: 10, MaxTime: time.Hour, Concurrency: DefaultConcurrency})
		if err != nil {
			b.Fatal(err)
		}
		pages = len(into.Pages)
		return time.Since(start)
	}
	bare()
	var floor, taken time.Duration
	for b.Loop() {
		floor += bare()
		taken += whole()
	}
	if pages < n {
		b.Fatalf("only %d pages were seen", pages)
	}
	b.ReportMetric(float64(taken)/float64(floor), "x-bare-loop")
	b.ReportMetric(float64(pages), "pages")
}

// BenchmarkAnalyse is the one pass over a page of 30 KB, beside the bare tokenizer.
func BenchmarkAnalyse(b *testing.B) {
	body := []byte("<title>A</title><body>" + strings.Repeat("<p>The lamps are lit, the <a href=\"/p/1\">strings</a> are waxed, and the wolf has had his <b>breakfast</b>.</p>\n", 270))
	at, _ := url.Parse("https://a.example/")
	var floor, taken time.Duration
	for b.Loop() {
		start := time.Now()
		for z := html.NewTokenizer(strings.NewReader(string(body))); z.Next() != html.ErrorToken; {
		}
		middle := time.Now()
		analyse(at, body, "text/html; charset=utf-8", sought{})
		floor, taken = floor+middle.Sub(start), taken+time.Since(middle)
	}
	b.ReportMetric(float64(taken)/float64(floor), "x-tokenizer")
}
