package demo

import (
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"context"

	"golang.org/x/sync/errgroup"

	"weltaxis/internal/audit"
	"weltaxis/internal/pace"
	"weltaxis/internal/site"
)

// served is the demo as somebody serves it, with one of its sites, and what the site was asked for.
type watched struct {
	dir   string
	site  *installation
	mu    sync.Mutex
	asked []string // scheme, host and path with its query
}

func watch(b *testing.B, in *installation) *watched {
	w := &watched{dir: b.TempDir(), site: in}
	in.before = func(standIn http.Handler) http.Handler {
		return http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
			scheme := map[bool]string{true: "https", false: "http"}[r.TLS != nil]
			w.mu.Lock()
			w.asked = append(w.asked, scheme+"://"+r.Host+r.URL.RequestURI())
			w.mu.Unlock()
			standIn.ServeHTTP(out, r)
		})
	}
	if _, err := in.write(w.dir); err != nil {
		b.Fatal(err)
	}
	return w
}

// BenchmarkWholeAudit: the built program audits a served site of the demo, from starting to ending, beside a bare fetch of the very
// same addresses, as often, four at a time. The ratio is of what is left after one second.
func BenchmarkWholeAudit(b *testing.B) {
	w := watch(b, lanternLaneAligned())
	s, err := serve(w.dir, []*installation{w.site}, 0)
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	s.standIns[w.site.folder].takes = uncachedDemo
	if err := s.Announce(); err != nil {
		b.Fatal(err)
	}
	program := filepath.Join(b.TempDir(), "weltaxis")
	build := exec.Command("go", "build", "-o", program, "weltaxis/cmd/weltaxis")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if text, err := build.CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, text)
	}
	var audits, fetches time.Duration
	count := 0
	for b.Loop() {
		w.asked = nil
		start := time.Now()
		if text, err := exec.Command(program, "audit", filepath.Join(w.dir, w.site.folder)).CombinedOutput(); err != nil {
			b.Fatalf("%v\n%s", err, text)
		}
		audits += time.Since(start)
		list := w.asked
		count += len(list)
		start = time.Now()
		fetchAll(b, list, s.Connect(w.site.folder))
		fetches += time.Since(start)
	}
	b.ReportMetric(audits.Seconds()/float64(b.N), "s/audit")
	b.ReportMetric(fetches.Seconds()/float64(b.N), "s/fetch")
	b.ReportMetric(float64(count)/float64(b.N), "requests")
	b.ReportMetric((audits.Seconds()-float64(b.N))/fetches.Seconds(), "of-fetch-after-1s")
}

// fetchAll fetches addresses and throws away what comes, four at a time.
func fetchAll(b *testing.B, addresses []string, connect map[string]string) {
	b.Helper()
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{ForceAttemptHTTP2: true, MaxIdleConnsPerHost: 8, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, // it is ours, on loopback
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, network, connect[address])
			}}}
	defer client.CloseIdleConnections()
	var group errgroup.Group
	group.SetLimit(4)
	for _, address := range addresses {
		group.Go(func() error {
			answer, err := client.Get(address)
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			_, err = io.Copy(io.Discard, answer.Body)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		b.Fatal(err)
	}
}

// BenchmarkPaceBehindNginx: how often pace tells that nginx's own cache is faster than the content system behind it, asking for
// six, and how often it tells a difference where there is no cache, and so none.
func BenchmarkPaceBehindNginx(b *testing.B) {
	if _, err := program(frontNginx); err != nil {
		b.Skip(err)
	}
	for name, lines := range map[string]string{
		"kept":     "fastcgi_cache kept; fastcgi_cache_key $request_uri; fastcgi_cache_valid 200 10m; add_header X-Stage-Cache $upstream_cache_status;",
		"not-kept": "",
	} {
		b.Run(name, func(b *testing.B) {
			dir := b.TempDir()
			for parent := dir; parent != "/" && parent != os.TempDir(); parent = filepath.Dir(parent) {
				_ = os.Chmod(parent, 0o755)
			}
			in := lanternLaneAligned()
			in.set("cache", "no")
			in.front.amend = func(text string) string {
				text = strings.Replace(text, "    charset utf-8;", "    charset utf-8;\n    fastcgi_cache_path "+dir+"/kept keys_zone=kept:1m;", 1)
				return strings.Replace(text, "            fastcgi_pass system;", "            "+lines+"\n            fastcgi_pass system;", 1)
			}
			if _, err := in.write(dir); err != nil {
				b.Fatal(err)
			}
			s, err := serve(dir, []*installation{in}, 0)
			if err != nil {
				b.Fatal(err)
			}
			defer s.Close()
			if err := s.With(frontNginx); err != nil {
				b.Fatal(err)
			}
			if err := s.Announce(); err != nil {
				b.Fatal(err)
			}
			loaded, err := site.Load(filepath.Join(dir, in.folder))
			if err != nil {
				b.Fatal(err)
			}
			told := 0
			for b.Loop() {
				run := pace.New("Theatre", pace.DefaultTimes, time.Now())
				if err := audit.Pace(b.Context(), loaded, []string{"/about/"}, &run, audit.Options{}); err != nil {
					b.Fatal(err)
				}
				plain, around, _ := run.Pages[0].Ways()
				if pace.Judge(plain, around).Verdict != pace.Untold {
					told++
				}
			}
			b.ReportMetric(100*float64(told)/float64(b.N), "%-told")
		})
	}
}
