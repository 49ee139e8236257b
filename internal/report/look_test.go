package report

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/site"
	"weltaxis/internal/source/live"
)

const lamps = "www.lamps.example"

// A call is what somebody calls about, made up: what the name leads to, what connects, and what answers.
type call struct {
	lookup  func() ([]netip.Addr, error)
	dial    func(ctx context.Context, network, address string) error // before it connects
	serve   func(w http.ResponseWriter, r *http.Request) bool        // false for what a site in order answers
	ended   time.Duration                                            // how long its certificate has been over
	intent  string
	changed bool // a program file changed yesterday
	before  *audit.Glance
	ours    Ours
	what    string // of the first line
	says    string
	worst   facts.Severity
}

// well is the site in order.
func well(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	switch r.URL.Path {
	case "/robots.txt":
		w.Header().Set("Content-Type", "text/plain")
		fmt.Fprint(w, "User-agent: *\nDisallow:\n")
	case "/":
		page(w, "Lamps by hand", "We make lamps by hand, of paper and wire, in a shed by the river.")
	case "/about/", "/contact/":
		page(w, r.URL.Path, "Somebody is there on Tuesdays.")
	default:
		http.NotFound(w, r)
	}
}

func page(w http.ResponseWriter, title, text string) {
	fmt.Fprintf(w, `<!doctype html><html lang="en"><head><title>%s</title></head><body><h1>%[1]s</h1><p>%[2]s</p><a href="/about/">About</a> <a href="/contact/">Contact</a> <a href="/lamp.png">Lamp</a></body></html>`, title, text)
}

// certified is a certificate for the site, in PEM as well, that ended so long ago.
func certified(t *testing.T, ended time.Duration) (tls.Certificate, []byte) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	until := time.Now().Add(60 * 24 * time.Hour)
	if ended > 0 {
		until = time.Now().Add(-ended)
	}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: lamps, Organization: []string{"A test"}}, DNSNames: []string{lamps}, NotBefore: time.Now().Add(-90 * 24 * time.Hour), NotAfter: until, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, leaf, leaf, &key.PublicKey, key)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

// look takes the look that a call asks for.
func (c call) look(t *testing.T) *Look {
	t.Helper()
	certificate, authority := certified(t, c.ended)
	answers := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if c.serve == nil || !c.serve(w, r) {
			well(w, r)
		}
	})
	unencrypted := httptest.NewServer(answers)
	t.Cleanup(unencrypted.Close)
	server := httptest.NewUnstartedServer(answers)
	server.TLS = &tls.Config{Certificates: []tls.Certificate{certificate}}
	server.Config.ErrorLog = nil
	server.StartTLS()
	t.Cleanup(server.Close)
	dir := t.TempDir()
	program := filepath.Join(dir, "site", "index.php")
	require.NoError(t, os.Mkdir(filepath.Dir(program), 0o755))
	require.NoError(t, os.WriteFile(program, []byte("<?php\n"), 0o644))
	when := time.Now().Add(-40 * 24 * time.Hour)
	if c.changed {
		when = time.Now().Add(-24 * time.Hour)
	}
	require.NoError(t, os.Chtimes(program, when, when))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ca.pem"), authority, 0o600))
	text := "site: Lamps\nintent:\n  stage: live\n  address: https://" + lamps + "\n" + c.intent + "sources:\n  live: {trust: ca.pem, rate: 0}\n  files: {root: ./site}\n"
	s, err := site.Parse(filepath.Join(dir, site.FileName), []byte(text))
	require.NoError(t, err)
	g, err := audit.Glimpse(t.Context(), s, time.Now(), audit.Options{
		Lookup: func(_ context.Context, _, host string) ([]netip.Addr, error) {
			require.Equal(t, lamps, host)
			if c.lookup != nil {
				return c.lookup()
			}
			return []netip.Addr{netip.MustParseAddr("192.0.2.10")}, nil
		},
		Dial: func(ctx context.Context, network, address string) (net.Conn, error) {
			if c.dial != nil {
				if err := c.dial(ctx, network, address); err != nil {
					return nil, &net.OpError{Op: "dial", Net: network, Err: err}
				}
			}
			to := server
			if strings.HasSuffix(address, ":80") {
				to = unencrypted
			}
			return (&net.Dialer{}).DialContext(ctx, network, to.Listener.Addr().String())
		},
	})
	require.NoError(t, err)
	return LookOf(s.Name, "lamps", g, c.before, c.ours)
}

// at answers some paths in a way of its own.
func at(paths string, do func(w http.ResponseWriter, r *http.Request)) func(http.ResponseWriter, *http.Request) bool {
	return func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.Contains(" "+paths+" ", " "+r.URL.Path+" ") {
			return false
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		do(w, r)
		return true
	}
}

func status(code int) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(code)
		page(w, http.StatusText(code), "No.")
	}
}

// firstSlow makes the page for the first who asks, and keeps it for the others.
func firstSlow() func(http.ResponseWriter, *http.Request) bool {
	var made atomic.Bool
	return at("/", func(w http.ResponseWriter, r *http.Request) {
		if !made.Swap(true) {
			time.Sleep(time.Second)
		}
		well(w, r)
	})
}

func calls() map[string]call {
	kept := func(w http.ResponseWriter, r *http.Request) { // a cache keeps the page of last week
		w.Header().Set("Cache-Control", "max-age=600")
		if r.URL.RawQuery == "" {
			w.Header().Set("Age", "345600")
			w.Header().Set("X-Cache", "HIT")
			page(w, "Lamps by hand", "The shed is closed for the summer.")
			return
		}
		w.Header().Set("X-Cache", "MISS")
		page(w, "Lamps by hand", "The shed is open again, and there are new lamps.")
	}
	led := &audit.Glance{Taken: time.Date(2026, 11, 1, 9, 0, 0, 0, time.UTC), Live: &live.Glance{Addresses: []string{"192.0.2.99"}, Title: "Lamps by hand"}}
	same := &audit.Glance{Taken: led.Taken, Live: &live.Glance{Addresses: []string{"192.0.2.10"}}}
	return map[string]call{
		"the name is gone": {lookup: func() ([]netip.Addr, error) {
			return nil, &net.DNSError{Err: "no such host", Name: lamps, IsNotFound: true}
		}, what: "name", says: "leads nowhere: no resolver knows it", worst: facts.Critical},
		"the name leads elsewhere": {before: led, what: "name", says: "leads to 192.0.2.10, and led to 192.0.2.99 on 1 November 2026", worst: facts.High},
		"the certificate is over":  {ended: 36 * time.Hour, what: "certificate", says: "Its certificate is over since", worst: facts.Critical},
		"a circle": {serve: at("/ /b", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, map[string]string{"/": "/b", "/b": "/"}[r.URL.Path], http.StatusFound)
		}), what: "answer", says: "It redirects in a circle", worst: facts.Critical},
		"a circle with ever new steps": {serve: func(w http.ResponseWriter, r *http.Request) bool {
			http.Redirect(w, r, r.URL.Path+"x", http.StatusFound)
			return true
		}, what: "answer", says: "It redirects in a circle", worst: facts.Critical},
		"a forgotten notice": {serve: at("/", func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(503)
			fmt.Fprint(w, "<title>Back soon</title><h1>Back soon</h1>")
		}), what: "notice", says: "It shows its notice (“Back soon”), and nobody has said that it should", worst: facts.Critical},
		"a forgotten notice, as a page": {serve: at("/", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, "<title>Under construction</title><h1>Soon</h1>")
		}), what: "notice", says: "with 200 as if it were the page", worst: facts.Critical},
		"a stale copy": {serve: at("/", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Age", "345600")
			w.Header().Set("Cache-Control", "max-age=600")
			page(w, "Lamps by hand", "The shed is closed for the summer.")
		}), what: "copy", says: "a copy that is 4 days old, and was to be kept for 10m", worst: facts.Medium},
		"the page changed behind the cache": {serve: at("/", kept), what: "copy", says: "The page behind the cache is another", worst: facts.High},
		"sent elsewhere from a search": {serve: at("/", func(w http.ResponseWriter, r *http.Request) {
			if strings.Contains(r.Referer(), "search") {
				http.Redirect(w, r, "https://cheap-lamps.example/", http.StatusFound)
				return
			}
			well(w, r)
		}), what: "search", says: "Somebody who comes from a search result gets something else: it leads to https://cheap-lamps.example/", worst: facts.Critical},
		"a slow first byte": {serve: at("/", func(w http.ResponseWriter, r *http.Request) { time.Sleep(900 * time.Millisecond); well(w, r) }), what: "speed", says: "to the first byte, each time; 800 ms would be well", worst: facts.Medium},
		"a slow way": {dial: func(ctx context.Context, _, _ string) error {
			select {
			case <-time.After(1100 * time.Millisecond):
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}, what: "speed", says: "until there is a connection", worst: facts.Medium},
		"all but the home page fails": {serve: at("/about/ /contact/", status(500)), what: "pages", says: "Only the home page is there: /about/ (500), /contact/ (500)", worst: facts.Critical},
		"the home page fails":         {serve: at("/", status(500)), what: "answer", says: "It answers 500: the program behind it fails", worst: facts.Critical},
		"a firewall":                  {serve: func(w http.ResponseWriter, r *http.Request) bool { status(403)(w, r); return true }, what: "answer", says: "Something turns us away: it answers 403 Forbidden", worst: facts.High},
		"another site": {serve: at("/", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "https://cheap-lamps.example/", http.StatusMovedPermanently)
		}), what: "answer", says: "It leads to another site: https://cheap-lamps.example/", worst: facts.High},
		"the first visitor waits":  {serve: firstSlow(), what: "speed", says: "The first visitor waits 1.0 s for the first byte; the next gets it in", worst: facts.Low},
		"a page that is not there": {serve: at("/about/", status(404)), what: "pages", says: "The home page links to what is not there: /about/ (404)", worst: facts.Medium},
		"an empty page":            {serve: at("/", func(http.ResponseWriter, *http.Request) {}), what: "answer", says: "and the page is empty", worst: facts.Critical},
		"an empty page with markup": {serve: at("/", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, "<!doctype html><html><head><title>Lamps</title></head><body></body></html>")
		}), what: "answer", says: "and the page is empty", worst: facts.Critical},
		"a failure with 200": {serve: at("/", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, "<br />\n<b>Fatal error</b>:  Uncaught Error: Call to undefined function lamp() in /srv/lamps/index.php:3\nStack trace:\n#0 {main}\n  thrown in <b>/srv/lamps/index.php</b> on line <b>3</b><br />\n")
		}), what: "answer", says: "The page shows the failure of a program", worst: facts.Critical},
		"the text of a program": {serve: at("/", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/plain")
			fmt.Fprint(w, "<?php\nrequire 'lamps.php';\n")
		}), what: "answer", says: "the text of a program, which the server does not run", worst: facts.Critical},
		"the server's own page": {serve: at("/", func(w http.ResponseWriter, _ *http.Request) {
			page(w, "Welcome to nginx!", "If you see this page, the web server is installed.")
		}), what: "answer", says: "What answers is not the site, but “Welcome to nginx!”", worst: facts.Critical},
		"a list of files":  {serve: at("/", func(w http.ResponseWriter, _ *http.Request) { page(w, "Index of /", "lamp.png") }), what: "answer", says: "What answers is not the site", worst: facts.Critical},
		"shut by the host": {serve: at("/", func(w http.ResponseWriter, _ *http.Request) { page(w, "Account suspended", "Ask whoever pays.") }), what: "answer", says: "has shut it", worst: facts.Critical},
		"another title":    {before: &audit.Glance{Taken: led.Taken, Live: &live.Glance{Addresses: []string{"192.0.2.10"}, Title: "Lamps of paper"}}, what: "answer", says: "The page is called “Lamps by hand”, and was called “Lamps of paper”", worst: facts.Low},
		"a page about servers": {serve: at("/", func(w http.ResponseWriter, _ *http.Request) {
			page(w, "How we welcome you: lamps", "Our account of a suspended lamp, and an index of all.")
		}), what: "name", says: "leads to"},
		"pages that turn us away": {serve: at("/about/", status(429)), what: "pages", says: "it answers 429"},
		"nothing with encryption": {dial: func(_ context.Context, _, address string) error {
			if strings.HasSuffix(address, ":443") {
				return syscall.ECONNREFUSED
			}
			return nil
		}, what: "certificate", says: "Nothing answers where browsers come first, with encryption; without it something does.", worst: facts.Critical},
		"a lock":                          {serve: func(w http.ResponseWriter, r *http.Request) bool { status(401)(w, r); return true }, what: "answer", says: "It asks for name and password: it is locked, and not from here", worst: facts.High},
		"a title beside a change of ours": {before: &audit.Glance{Taken: led.Taken, Live: &live.Glance{Addresses: []string{"192.0.2.10"}, Title: "Lamps of paper"}}, ours: Ours{Changed: []string{"session.idle"}}, what: "answer", says: "The page is called “Lamps by hand”", worst: facts.Low},
		"robots are kept out":             {serve: at("/robots.txt", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "User-agent: *\nDisallow: /\n") }), what: "search engines", says: "Search engines are kept out of the home page: robots.txt, line 2, keeps engines out", worst: facts.Critical},
		"robots are kept out by a header": {serve: at("/", func(w http.ResponseWriter, r *http.Request) { w.Header().Set("X-Robots-Tag", "none"); well(w, r) }), what: "search engines", says: "by a header", worst: facts.Critical},
		"changed programs":                {changed: true, what: "programs", says: "1 program file changed within seven days, the last on", worst: facts.Medium},
		"nothing listens":                 {dial: func(context.Context, string, string) error { return syscall.ECONNREFUSED }, what: "answer", says: "It does not answer: connection refused", worst: facts.Critical},
		"offline": {lookup: func() ([]netip.Addr, error) {
			return nil, &net.DNSError{Err: "server misbehaving", Name: lamps, IsTemporary: true}
		}, what: "this machine", says: "Nothing leads out of this machine just now (server misbehaving)", worst: facts.Critical},
		"offline, with the name kept": {dial: func(context.Context, string, string) error { return syscall.ENETUNREACH }, what: "this machine", says: "network is unreachable", worst: facts.Critical},
		"all is well":                 {before: same, what: "name", says: "leads to 192.0.2.10, as on 1 November 2026"},
		"a notice that is meant":      {intent: "  maintenance_until: 2099-01-01\n", serve: at("/", status(503)), what: "name", says: "leads to 192.0.2.10"},
		"hidden on purpose":           {intent: "  audience: members\n", serve: at("/", func(w http.ResponseWriter, r *http.Request) { w.Header().Set("X-Robots-Tag", "noindex"); well(w, r) }), what: "name", says: "leads to"},
		"another page each time": {serve: at("/", func(w http.ResponseWriter, _ *http.Request) {
			page(w, "Lamps by hand", fmt.Sprint("Lamp number ", time.Now().UnixNano()))
		}), what: "name", says: "leads to"},
	}
}

// TestWhatWasDoneFromHereIsKnown, and is nothing that others did.
func TestWhatWasDoneFromHereIsKnown(t *testing.T) {
	then := &audit.Glance{Taken: time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC), Live: &live.Glance{Addresses: []string{"192.0.2.10"}, Title: "Lamps of paper"}}
	for says, c := range map[string]call{
		"It asks for name and password, as it was locked from here on 1 November 2026. weltaxis lock off lamps": {serve: func(w http.ResponseWriter, r *http.Request) bool { status(401)(w, r); return true }, ours: Ours{Locked: then.Taken}},
		"which was called “Lamps of paper” before site.title was changed from here":                             {before: then, ours: Ours{Changed: []string{"session.idle", "site.title"}}},
	} {
		l := c.look(t)
		assert.Zero(t, l.Worst(), "%+v", l.Lines)
		assert.True(t, slices.ContainsFunc(l.Lines, func(line LookLine) bool { return strings.Contains(line.Says, says) }), "%s: %+v", says, l.Lines)
	}
}

// The first line names the cause, within the bounds.
func TestTheFirstLineNamesTheCause(t *testing.T) {
	for name, c := range calls() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			l := c.look(t)
			require.NotEmpty(t, l.Lines)
			assert.Equal(t, c.what, l.Lines[0].What, "%+v", l.Lines)
			assert.Contains(t, l.Lines[0].Says, c.says)
			assert.Equal(t, c.worst, l.Worst(), "%+v", l.Lines)
			assert.LessOrEqual(t, l.Requests, live.GlanceRequests)
			assert.LessOrEqual(t, l.Took, 1000+float64(live.GlanceTime.Milliseconds()), "the look ends by itself")
			if c.worst == 0 && c.what == "name" {
				assert.Equal(t, "Nothing is wrong that a short look can see.", l.Says)
				assert.False(t, l.Unknown(), "%+v", l.Lines)
			}
			raw, err := json.Marshal(l)
			require.NoError(t, err)
			assert.NoError(t, json.Unmarshal(raw, &Look{}))
		})
	}
}
