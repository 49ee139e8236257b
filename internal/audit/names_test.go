package audit_test

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
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
	"weltaxis/internal/servertest"
	"weltaxis/internal/site"
)

// A world is what names lead to, and what is at those addresses.
type world struct {
	names map[string][]string // the addresses of a name; those that are not here are no names
	fails map[string]error    // what becomes of looking a name up, or of connecting to an address with its port
	ends  map[string]*end     // by address; "" is what is at all others

	configuration string // of nginx, DIR in it filled in; "" where it is not read
}

// An end is what answers at an address: by which certificates, and how.
type end struct {
	certificates map[string]tls.Certificate // by name; "" is that of all others
	answers      http.Handler
	unencrypted  bool // nobody is at its port for encryption
	plainTLS     bool // what is at its port for encryption does not encrypt
	refuses      bool // names that have no certificate
}

const page = `<!doctype html><html lang="en"><head><meta charset="utf-8"><title>%s</title></head><body><h1>Shop</h1><p>The shop of the site. <a href="/about/">About</a> <a href="/">Home</a></p></body></html>`

// shop is the site, at the one address that it prefers; leads is where other addresses lead, FROM and PATH in it filled in.
func shop(preferred, leads string, code int) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		from := map[bool]string{true: "https://", false: "http://"}[r.TLS != nil] + r.Host
		switch {
		case from != preferred && leads != "":
			http.Redirect(w, r, strings.NewReplacer("PATH", r.URL.Path, "FROM", from).Replace(leads), code)
		case r.URL.Path == "/" || r.URL.Path == "/about/":
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprintf(w, page, map[string]string{"/": "Site", "/about/": "About · Site"}[r.URL.Path])
		default:
			http.NotFound(w, r)
		}
	})
}

// except is a handler but for one host.
func except(host string, there, otherwise http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Host == host {
			there.ServeHTTP(w, r)
			return
		}
		otherwise.ServeHTTP(w, r)
	})
}

// titled is a home page of a title.
func titled(title func() string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprintf(w, page, title())
	})
}

// started has an end listen, and gives how it is connected to.
func (e *end) started(t *testing.T) (encrypted, plain string) {
	t.Helper()
	listen := func() net.Listener {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		return l
	}
	serve := func(l net.Listener) string {
		s := &http.Server{Handler: e.answers}
		go func() { _ = s.Serve(l) }()
		t.Cleanup(func() { s.Close() })
		return l.Addr().String()
	}
	plain = serve(listen())
	l := listen()
	encrypted = l.Addr().String()
	if e.plainTLS {
		serve(l)
		return encrypted, plain
	}
	serve(tls.NewListener(l, &tls.Config{GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		c, its := e.certificates[hello.ServerName]
		if !its && e.refuses {
			return nil, nil
		}
		if !its {
			c = e.certificates[""]
		}
		return &c, nil
	}}))
	return encrypted, plain
}

const (
	four, six   = "203.0.113.7", "2001:db8::7"
	four2, six2 = "203.0.113.8", "2001:db8::8"
)

// someNames are the cases: what is changed of a world in which nothing deviates, and which rules then say what. "" is harmless; a rule after a question
// mark is not judged, or not of all.
var someNames = []struct {
	name        string
	intent      string // more of it
	change      func(t *testing.T, w *world, a *servertest.Authority)
	rules, says string
}{
	{name: "as it ought to be"},
	{name: "www by the site's certificate", change: certified("www.site.example", good("site.example")), rules: "aliases.certified", says: "not trust the certificate of www.site.example: certificate is valid for site.example, not www.site.example"},
	{name: "www by a certificate that is over", change: certified("www.site.example", ending(-48, "www.site.example")), rules: "aliases.certified", says: "www.site.example: certificate has expired"},
	{name: "www by a certificate that nobody knows", change: certified("www.site.example", foreign("www.site.example")), rules: "aliases.certified", says: "unknown authority"},
	{name: "an alias by a certificate that ends in four days", change: certified("old-site.example", ending(96, "old-site.example")), rules: "aliases.certified", says: "The certificate of old-site.example ends on"},
	{name: "an alias by the default certificate", change: certified("old-site.example", good("site.example", "www.site.example")), rules: "aliases.certified", says: "old-site.example"},
	{name: "nobody encrypts at the alias, which is elsewhere", change: elsewhere("old-site.example", &end{answers: shop("", "https://site.examplePATH", 301), unencrypted: true}), rules: "aliases.certified", says: "Nobody encrypts at old-site.example"},
	{name: "plain words where www encrypts", change: elsewhere("www.site.example", &end{answers: shop("", "https://site.examplePATH", 301), plainTLS: true}), rules: "aliases.certified", says: "Nobody encrypts at www.site.example"},
	{name: "www is refused by its name", change: func(_ *testing.T, w *world, _ *servertest.Authority) {
		delete(w.ends[""].certificates, "www.site.example")
		w.ends[""].refuses = true
	}, rules: "aliases.certified", says: "Nobody encrypts at www.site.example"},
	{name: "a wildcard", change: certified("www.site.example", good("*.site.example"))},
	{name: "a certificate of its own that ends in three weeks", change: certified("old-site.example", ending(21*24, "old-site.example"))},
	{name: "no www", change: gone("www.site.example")},
	{name: "a site below, which has no www", intent: "address: \"https://shop.site.example\"", change: func(t *testing.T, w *world, a *servertest.Authority) {
		w.names["shop.site.example"] = w.names["site.example"]
		w.ends[""].certificates["shop.site.example"] = good("shop.site.example")(t, a)
		w.ends[""].answers = shop("https://shop.site.example", "https://shop.site.examplePATH", 301)
	}},

	{name: "the alias does not exist any longer", change: gone("old-site.example"), rules: "aliases.there", says: "There is no such name as old-site.example"},
	{name: "nobody is at the alias", change: lead("old-site.example", "203.0.113.99"), rules: "aliases.there", says: "Nobody answers at old-site.example"},
	{name: "nobody is at www", change: lead("www.site.example", "203.0.113.99"), rules: "aliases.there", says: "Nobody answers at www.site.example"},

	{name: "the alias leads home from everywhere", change: answering("old-site.example", shop("", "https://site.example/", 301)), rules: "visibility.one-host", says: "https://old-site.example/about/ leads to https://site.example/ in 1 step, and not to the same page"},
	{name: "www leads home from everywhere", change: answering("www.site.example", shop("", "https://site.example/", 308)), rules: "visibility.one-host", says: "and not to the same page"},
	{name: "the alias leads for a trial", change: answering("old-site.example", shop("", "https://site.examplePATH", 302)), rules: "visibility.one-host", says: "not all permanent"},
	{name: "the alias answers by itself", change: answering("old-site.example", shop("", "", 0)), rules: "visibility.one-host", says: "https://old-site.example/ answers 200 by itself"},
	{name: "the alias shows somebody else's page", change: answering("old-site.example", titled(func() string { return "Parked" })), rules: "visibility.one-host", says: "by itself"},
	{name: "the alias leads by its www, by path", change: answering("old-site.example", shop("https://old-site.example", "https://www.site.examplePATH", 301)), rules: "visibility.one-host", says: "by itself"},
	{name: "the alias leads by way of www, in two steps", change: answering("old-site.example", shop("", "https://www.site.examplePATH", 301))},
	{name: "by 308", change: answering("old-site.example", shop("", "https://site.examplePATH", 308))},

	{name: "AAAA leads to a server's own page", change: address("site.example", six, titled(func() string { return "It works" })), rules: "aliases.alike", says: "203.0.113.7 shows “Site”, and 2001:db8::7 shows “It works”"},
	{name: "nobody is at AAAA", change: lead("site.example", four, "2001:db8::99"), rules: "aliases.alike", says: "2001:db8::99 does not encrypt"},
	{name: "AAAA leads elsewhere", change: address("site.example", six, shop("", "https://elsewhere.example/", 302)), rules: "aliases.alike", says: "2001:db8::7 leads to https://elsewhere.example/"},
	{name: "AAAA answers 404", change: address("site.example", six, http.NotFoundHandler()), rules: "aliases.alike", says: "2001:db8::7 answers 404"},
	{name: "AAAA by the wrong certificate", change: func(t *testing.T, w *world, a *servertest.Authority) {
		lead("site.example", four, six2)(t, w, a)
		w.ends[six2] = &end{answers: w.ends[""].answers, certificates: map[string]tls.Certificate{"": good("other.example")(t, a)}}
	}, rules: "aliases.alike", says: "2001:db8::8 encrypts with a certificate that is not trusted"},
	{name: "a second A to the old server", change: address("site.example", four2, titled(func() string { return "Moved" })), rules: "aliases.alike", says: "203.0.113.8 shows “Moved”"},
	{name: "AAAA of www leads elsewhere", change: address("www.site.example", six2, titled(func() string { return "It works" })), rules: "aliases.alike", says: "The addresses of www.site.example do not lead to the same"},
	{name: "AAAA to the same on another machine", change: address("site.example", six, shop("https://site.example", "https://site.examplePATH", 301))},
	{name: "a title that varies by itself", change: address("site.example", six2, titled(counting("Visitor %d")))},
	{name: "one answer in three is an overload", change: address("site.example", six, sometimes(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusServiceUnavailable) }), shop("https://site.example", "https://site.examplePATH", 301))), rules: "?aliases.alike"},
	{name: "this machine has no way by IPv6", change: func(t *testing.T, w *world, a *servertest.Authority) {
		lead("site.example", four, six2)(t, w, a)
		w.fails["["+six2+"]:443"] = syscall.ENETUNREACH
	}, rules: "?aliases.alike"},
	{name: "nobody can look the alias up", change: func(_ *testing.T, w *world, _ *servertest.Authority) {
		w.fails["old-site.example"] = &net.DNSError{Err: "server misbehaving", Name: "old-site.example", IsTemporary: true}
	}, rules: "?aliases.certified ?aliases.there ?aliases.alike ?visibility.one-host"},
	{name: "a site by http, at two addresses that differ", intent: `address: "http://site.example"`, change: func(t *testing.T, w *world, a *servertest.Authority) {
		gone("www.site.example")(t, w, a)
		gone("old-site.example")(t, w, a)
		w.ends[""].answers = shop("http://site.example", "http://site.examplePATH", 301)
		address("site.example", six, titled(func() string { return "It works" }))(t, w, a)
	}, rules: "aliases.alike aliases.there", says: "2001:db8::7 shows “It works”"},
}

const asProgram = "fastcgi_pass unix:/run/made-up.sock; fastcgi_param SCRIPT_FILENAME /srv/made-up/index.php;"

// configuredNames are further hosts of the web server's configuration beside that of the site, which a program shows, and what is there.
var configuredNames = []struct {
	name, host  string // of the configuration
	shows       http.Handler
	by          certificate
	rules, says string
}{
	{name: "another site of the same installation", host: "server { listen 443 ssl; server_name third.example; root DIR; location / { " + asProgram + " } }", shows: titled(func() string { return "Another shop" })},
	{name: "the same site by a third name", host: "server { listen 443 ssl; server_name third.example; root DIR; location / { " + asProgram + " } }", shows: shop("", "", 0), rules: "visibility.one-host", says: "https://third.example/ answers 200 by itself"},
	{name: "a third name that leads here, by the wrong certificate", host: "server { listen 443 ssl; server_name third.example; return 301 https://site.example$request_uri; }", shows: shop("", "https://site.examplePATH", 301), by: good("other.example"), rules: "aliases.certified", says: "the certificate of third.example"},
	{name: "a third name that leads home from everywhere", host: "server { listen 443 ssl; server_name third.example; return 301 https://site.example/; }", shows: shop("", "https://site.example/", 301), rules: "visibility.one-host", says: "https://third.example/about/ leads to https://site.example/ in 1 step, and not to the same page"},
	{name: "a short name for one page", host: "server { listen 443 ssl; server_name third.example; return 301 https://site.example/about/; }", shows: shop("", "https://site.example/about/", 302)},
	{name: "a host of another folder", host: "server { listen 443 ssl; server_name third.example; root DIR/elsewhere; }", shows: titled(func() string { return "Site" })},
	{name: "a name that nobody holds any longer", host: "server { listen 443 ssl; server_name third.example; return 301 https://site.example$request_uri; }"},
}

// TestNamesOfTheConfiguration: what the web server has for the site is one of its names, and what shows another site, or stands for one page, is none.
func TestNamesOfTheConfiguration(t *testing.T) {
	t.Parallel()
	for _, c := range configuredNames {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			a, w := wellNamed(t)
			if c.shows != nil {
				w.names["third.example"] = []string{four}
				answering("third.example", c.shows)(t, w, a)
			}
			if c.by == nil {
				c.by = good("third.example")
			}
			certified("third.example", c.by)(t, w, a)
			w.configuration = "events {}\nhttp { server { listen 80; listen 443 ssl; server_name site.example; root DIR; location / { " + asProgram + " } }\n" + c.host + "\n}\n"
			deviate, unjudged := w.judged(t, a, "")
			w.holds(t, deviate, unjudged, c.rules, c.says)
		})
	}
}

type change func(t *testing.T, w *world, a *servertest.Authority)

type certificate func(t *testing.T, a *servertest.Authority) tls.Certificate

func good(hosts ...string) certificate { return ending(60*24, hosts...) }

func ending(hours int, hosts ...string) certificate {
	return func(t *testing.T, a *servertest.Authority) tls.Certificate {
		return a.Certify(t, time.Now().Add(time.Duration(hours)*time.Hour), hosts...)
	}
}

func foreign(hosts ...string) certificate {
	return func(t *testing.T, _ *servertest.Authority) tls.Certificate {
		return good(hosts...)(t, servertest.NewAuthority(t))
	}
}

func certified(host string, c certificate) change {
	return func(t *testing.T, w *world, a *servertest.Authority) { w.ends[""].certificates[host] = c(t, a) }
}

func gone(host string) change {
	return func(_ *testing.T, w *world, _ *servertest.Authority) { delete(w.names, host) }
}

func lead(host string, to ...string) change {
	return func(_ *testing.T, w *world, _ *servertest.Authority) { w.names[host] = to }
}

func answering(host string, there http.Handler) change {
	return func(_ *testing.T, w *world, _ *servertest.Authority) {
		w.ends[""].answers = except(host, there, w.ends[""].answers)
	}
}

// elsewhere has a name lead to a server of its own.
func elsewhere(host string, e *end) change {
	return func(_ *testing.T, w *world, _ *servertest.Authority) {
		w.names[host], w.ends[four2] = []string{four2}, e
	}
}

// address gives a name one more address, with something of its own there, by the right certificate.
func address(host, to string, there http.Handler) change {
	return func(t *testing.T, w *world, a *servertest.Authority) {
		w.names[host] = []string{four, to}
		w.ends[to] = &end{answers: there, certificates: w.ends[""].certificates}
	}
}

func counting(title string) func() string {
	var n atomic.Int64
	return func() string { return fmt.Sprintf(title, n.Add(1)) }
}

func sometimes(there, otherwise http.Handler) http.Handler {
	var n atomic.Int64
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if n.Add(1)%3 == 1 {
			there.ServeHTTP(w, r)
			return
		}
		otherwise.ServeHTTP(w, r)
	})
}

// TestNamesAndCertificates: every host name of a site has its own certificate, leads by path, and to the same at all its addresses; what could not be
// asked is not held.
func TestNamesAndCertificates(t *testing.T) {
	t.Parallel()
	for _, c := range someNames {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			a, w := wellNamed(t)
			if c.change != nil {
				c.change(t, w, a)
			}
			deviate, unjudged := w.judged(t, a, c.intent)
			w.holds(t, deviate, unjudged, c.rules, c.says)
		})
	}
}

// wellNamed is a world in which nothing deviates, and whoever certifies in it.
func wellNamed(t *testing.T) (*servertest.Authority, *world) {
	t.Helper()
	a := servertest.NewAuthority(t)
	w := &world{names: map[string][]string{}, fails: map[string]error{}, ends: map[string]*end{"": {answers: shop("https://site.example", "https://site.examplePATH", 301), certificates: map[string]tls.Certificate{}}}}
	for _, host := range []string{"site.example", "www.site.example", "old-site.example"} {
		w.names[host], w.ends[""].certificates[host] = []string{four, six}, good(host)(t, a)
	}
	w.ends[""].certificates[""] = good("default.example")(t, a)
	return a, w
}

// holds compares what deviates, and what is not judged, with the rules of a case, and looks for what it says.
func (w *world) holds(t *testing.T, deviate, unjudged []string, want, says string) {
	t.Helper()
	var rules []string
	for _, line := range deviate {
		if rule, _, _ := strings.Cut(line, ": "); !slices.Contains(rules, rule) {
			rules = append(rules, rule)
		}
	}
	for _, rule := range unjudged {
		rules = append(rules, "?"+rule)
	}
	assert.ElementsMatch(t, strings.Fields(want), rules, "%v", deviate)
	assert.Contains(t, strings.Join(deviate, "\n"), says)
}

// judged is what deviates of the names of a site in this world, and which of the rules about them could not be judged.
func (w *world) judged(t *testing.T, a *servertest.Authority, intent string) (deviate, unjudged []string) {
	t.Helper()
	at := map[string]string{}
	for address, e := range w.ends {
		encrypted, plain := e.started(t)
		if at[address+":443"], at[address+":80"] = encrypted, plain; e.unencrypted {
			at[address+":443"] = ""
		}
	}
	dir := t.TempDir()
	if intent == "" {
		intent = `address: "https://site.example"`
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "trusted.pem"), a.PEM(), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "weltaxis.yaml"), []byte("site: Site\nintent:\n  "+intent+"\n  aliases: [old-site.example]\n  stage: live\n  audience: public\n  purpose: brochure\n  brand: Site\nsources:\n  live: {own: true, rate: 0, trust: trusted.pem}\n"), 0o600))
	if w.configuration != "" {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "nginx.conf"), []byte(strings.ReplaceAll(w.configuration, "DIR", dir)), 0o600))
		file, err := os.OpenFile(filepath.Join(dir, "weltaxis.yaml"), os.O_APPEND|os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = file.WriteString("  server: {nginx: nginx.conf}\n")
		require.NoError(t, errors.Join(err, file.Close()))
	}
	loaded, err := site.Load(dir)
	require.NoError(t, err)
	r, err := audit.Run(t.Context(), loaded, time.Now(), audit.Options{Tool: "test", Only: []string{"aliases", "visibility.one-host"},
		Lookup: func(_ context.Context, _, host string) (found []netip.Addr, err error) {
			if w.fails[host] != nil {
				return nil, w.fails[host]
			}
			for _, one := range w.names[host] {
				found = append(found, netip.MustParseAddr(one))
			}
			if found == nil {
				return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
			}
			return found, nil
		},
		Dial: func(ctx context.Context, network, address string) (net.Conn, error) {
			host, port, err := net.SplitHostPort(address)
			require.NoError(t, err)
			to, its := at[host+":"+port]
			if !its && !strings.HasSuffix(host, "99") {
				to = at[":"+port]
			}
			failed := w.fails[address]
			if to == "" && failed == nil {
				failed = syscall.ECONNREFUSED
			}
			if failed != nil {
				return nil, &net.OpError{Op: "dial", Net: network, Err: os.NewSyscallError("connect", failed)}
			}
			return (&net.Dialer{}).DialContext(ctx, network, to)
		}})
	require.NoError(t, err)
	for _, d := range r.Deviations {
		deviate = append(deviate, d.Rule+": "+d.Says)
	}
	for _, n := range r.NotJudged {
		if slices.Contains([]string{"aliases.certified", "aliases.there", "aliases.alike", "visibility.one-host"}, n.Rule) {
			unjudged = append(unjudged, n.Rule)
		}
	}
	return deviate, unjudged
}
