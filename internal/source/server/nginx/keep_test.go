package nginx

import (
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/fcgi"
	"net/http/httptest"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"weltaxis/internal/caching"
	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/source/server/ground"
)

// A shelved is one generated place with a cache: its lines, and what the program behind it answers.
type shelved struct {
	lines   []string
	program answer.Program
	asked   atomic.Int64 // how often the program was
}

// outcomes are what nginx says of a request at its cache, and how that is told here.
var outcomes = map[string]caching.Outcome{"HIT": caching.Answered, "MISS": caching.Missed, "EXPIRED": caching.Missed, "BYPASS": caching.Passed, "": caching.Untold}

// shelves writes places with caches of both kinds, of every rule that is evaluated.
func shelves(g *generator, count int) []*shelved {
	var list []*shelved
	for range count {
		kind, zone := g.one("fastcgi", "proxy"), "kept"
		s := &shelved{program: answer.Program{Status: []int{200, 200, 200, 200, 301, 302, 404, 410, 500}[g.IntN(9)], Header: map[string]string{}, Length: -1}}
		add := func(percent int, format string, choices ...string) {
			if g.chance(percent) {
				s.lines = append(s.lines, fmt.Sprintf(format, kind, g.one(choices...)))
			}
		}
		if kind == "proxy" {
			zone = "lent"
		}
		s.lines = append(s.lines, fmt.Sprintf("%s_cache %s;", kind, zone))
		if kind == "fastcgi" {
			add(100, "%s_cache_key %s;", "$scheme$host$request_uri", "$host$uri", "$uri$is_args$args", "$request_method$request_uri", "$request_uri$cookie_session", "$uri$http_accept_language", `"$uri $kind_of"`)
		} else {
			add(60, "%s_cache_key %s;", "$scheme$host$request_uri", "$host$uri", "$uri$cookie_session")
		}
		add(70, "%s_cache_valid %s;", "10m", "200 301 1h", "any 5m", "200 0", "404 1m", "200 2s")
		add(30, "%s_cache_valid %s;", "404 410 2m", "any 2s", "301 1d", "500 0s")
		add(25, "%s_cache_bypass %s;", "$cookie_session", "$arg_fresh", "$cookie_session $arg_fresh", `"0"`, "$http_authorization")
		add(25, "%s_no_cache %s;", "$cookie_session", "$arg_fresh", "$kind_of", "$http_authorization")
		add(25, "%s_ignore_headers %s;", "Set-Cookie", "Cache-Control Expires", "Cache-Control Set-Cookie Vary", "X-Accel-Expires", "Vary")
		add(12, "%s_cache_min_uses %s;", "2", "3")
		add(10, "%s_cache_methods %s;", "GET", "GET HEAD POST")
		says := func(percent int, name string, values ...string) {
			if g.chance(percent) {
				s.program.Header[name] = g.one(values...)
			}
		}
		says(45, "cache-control", "max-age=300", "public, max-age=2", "private", "no-store", "no-cache", "max-age=0", "s-maxage=60, max-age=0", "private, max-age=60", "public", "max-age=60, must-revalidate", `no-cache="set-cookie", max-age=60`, "max-age=5m", "immutable")
		if s.program.Header["cache-control"] == "" {
			says(15, "expires", time.Now().Add(time.Hour).UTC().Format(http.TimeFormat), "Thu, 01 Jan 1970 00:00:00 GMT", "0", "-1")
		}
		says(18, "set-cookie", "stage=1; Path=/", "lang=en")
		says(25, "vary", "Accept-Encoding", "Cookie", "*", "Accept-Encoding, Cookie", "Accept-Language")
		says(8, "x-accel-expires", "60", "0", "2", "@2000000000")
		list = append(list, s)
	}
	return list
}

// asks are requests that come one after the other: the same twice, others, and the same again.
func (g *generator) visits() (asks []answer.Ask) {
	first := answer.Ask{Scheme: "http", Header: map[string]string{}}
	for range 6 {
		a := first
		a.Header = map[string]string{}
		switch g.IntN(9) {
		case 0:
			a.Header["cookie"] = "session=abc"
		case 1:
			a.Target = "?fresh=1"
		case 2:
			a.Header["accept-encoding"] = g.one("gzip", "gzip, br")
		case 3:
			a.Method = g.one("HEAD", "POST")
		case 4:
			a.Header["authorization"] = "Basic eDp5"
		case 5:
			a.Header["accept-language"] = "cy"
		}
		asks = append(asks, a)
	}
	return asks
}

// TestWhatIsKept: what is expected of the cache of a configuration is what the real server then does: whether each of a number
// of requests hits, misses or goes around, and how often the program behind is asked.
func TestWhatIsKept(t *testing.T) {
	needNginx(t)
	first, count := ground.Seeds()
	const places = 100
	right := 0
	for seed := first; seed < first+uint64(max(count/200, 1)); seed++ {
		right += keptRight(t, seed, places)
	}
	t.Logf("requests at generated caches told as the real server has them: %d, and none otherwise", right)
	require.Greater(t, right, 5*places)
}

func keptRight(t *testing.T, seed uint64, places int) (right int) {
	g := ground.New(t)
	made := &generator{Rand: rand.New(rand.NewPCG(seed, 11)), g: g, port: freePort(t)}
	list := shelves(made, places)
	program := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := strconv.Atoi(strings.Trim(r.URL.Path, "/"))
		for name, value := range list[n].program.Header {
			w.Header().Set(name, value)
		}
		w.Header().Set("Content-Type", "text/html")
		w.WriteHeader(list[n].program.Status)
		fmt.Fprintf(w, "answer %d of %d\n", list[n].asked.Add(1), n)
	})
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() { _ = fcgi.Serve(listener, program) }()
	upstream := httptest.NewServer(program)
	t.Cleanup(upstream.Close)
	conf := fmt.Sprintf("fastcgi_cache_path %s/kept keys_zone=kept:1m;\nproxy_cache_path %[1]s/lent keys_zone=lent:1m;\nserver { listen 127.0.0.1:%s; set $kind_of \"\";\nadd_header X-Kept $upstream_cache_status always;\n", g.Dir, made.port)
	for n, s := range list {
		pass := "proxy_pass http://" + upstream.Listener.Addr().String() + ";"
		if strings.HasPrefix(s.lines[0], "fastcgi") {
			pass = fmt.Sprintf("fastcgi_pass %s; fastcgi_param REQUEST_METHOD $request_method; fastcgi_param REQUEST_URI $request_uri; fastcgi_param SERVER_PROTOCOL HTTP/1.1;", listener.Addr())
		}
		conf += fmt.Sprintf("location /%d/ { %s %s }\n", n, strings.Join(s.lines, " "), pass)
	}
	conf = frame(g, made.port, conf+"}\n")
	stop := start(t, g, conf, made.port)
	defer stop()
	config := read(t, g, made.port)
	port, _ := strconv.Atoi(made.port)
	shelf := &ground.Shelf{}
	rounds := make([][]answer.Ask, places)
	for n := range list {
		rounds[n] = made.visits()
	}
	for round := range 2 { // between them is what was to be kept for two seconds is too old
		for n, s := range list {
			for _, a := range rounds[n] {
				query := a.Target
				a.Host, a.HostPort, a.Port, a.Local, a.Client, a.Target = "lantern-lane.example", port, port, ground.Loopback, ground.Loopback, fmt.Sprintf("/%d/%s", n, query)
				a.Program = &s.program
				told := config.Answer(a)
				require.NotNil(t, told.Keeping, "%v", told.Way)
				require.Nil(t, told.Keeping.Unsure, "%v", told.Keeping.Unsure)
				before := s.asked.Load()
				expected, why := shelf.Ask(told.Keeping, a, &s.program, time.Now())
				real, err := ground.Fetch(t, made.port, a)
				require.NoError(t, err)
				if expected.FromCache() && outcomes[real.Header.Get("X-Kept")] == caching.Missed { // it was still being kept
					time.Sleep(50 * time.Millisecond)
					before = s.asked.Load()
					real, err = ground.Fetch(t, made.port, a)
					require.NoError(t, err)
				}
				if why.Lifetime > 0 && !expected.FromCache() {
					time.Sleep(2 * time.Millisecond) // the answer is there a moment before the cache has it
				}
				is, known := outcomes[real.Header.Get("X-Kept")]
				require.True(t, known, real.Header.Get("X-Kept"))
				if !assertSame(t, expected == is && (s.asked.Load() == before) == is.FromCache(), "seed %d, round %d: %s %s %v\n  %s\n  %d %v\n  told %s (%s), is %s", seed, round, a.Method, a.Target, a.Header, strings.Join(s.lines, " "), s.program.Status, s.program.Header, expected, why.Because, real.Header.Get("X-Kept")) {
					continue
				}
				right++
			}
		}
		if round == 0 {
			time.Sleep(3100 * time.Millisecond)
		}
	}
	_ = os.RemoveAll(g.Dir + "/kept")
	return right
}

func assertSame(t *testing.T, same bool, format string, args ...any) bool {
	t.Helper()
	if !same {
		t.Errorf(format, args...)
	}
	return same
}
